/* The bare loop that a sweep is measured against: for every address of a /16 one ARP probe, sent on
 * one packet socket, and after each the answers that are there. Prints requests a second and the
 * number of answers. Usage: sweep ADAPTER FIRST-TWO-OCTETS-AS-HEX. */
#include <arpa/inet.h>
#include <linux/if_packet.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static double now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec * 1e-9;
}

int main(int argc, char **argv) {
    if (argc != 3) return 2;
    int sock = socket(AF_PACKET, SOCK_RAW, htons(ETH_P_ARP));
    struct ifreq adapter;
    memset(&adapter, 0, sizeof adapter);
    strncpy(adapter.ifr_name, argv[1], IFNAMSIZ - 1);
    if (sock < 0 || ioctl(sock, SIOCGIFINDEX, &adapter) < 0) return 3;
    struct sockaddr_ll place = {.sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ARP),
                                .sll_ifindex = adapter.ifr_ifindex};
    int room = 4 << 20;
    setsockopt(sock, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
    if (bind(sock, (struct sockaddr *)&place, sizeof place) < 0) return 3;
    if (ioctl(sock, SIOCGIFHWADDR, &adapter) < 0) return 3;
    unsigned char frame[42] = {0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0, 0, 0, 8, 6,
                               0, 1, 8, 0, 6, 4, 0, 1};
    memcpy(frame + 6, adapter.ifr_hwaddr.sa_data, 6);
    memcpy(frame + 22, adapter.ifr_hwaddr.sa_data, 6);
    unsigned prefix = strtoul(argv[2], NULL, 16);
    unsigned char heard[2048];
    long answers = 0;
    double began = now();
    for (unsigned host = 1; host < 0xffff; host++) {
        unsigned target = htonl(prefix << 16 | host);
        memcpy(frame + 38, &target, 4);
        if (send(sock, frame, sizeof frame, 0) < 0) return 4;
        while (recv(sock, heard, sizeof heard, MSG_DONTWAIT) > 0)
            if (heard[21] == 2) answers++;
    }
    double took = now() - began;
    usleep(100000);
    while (recv(sock, heard, sizeof heard, MSG_DONTWAIT) > 0)
        if (heard[21] == 2) answers++;
    printf("%.0f %ld\n", 0xfffe / took, answers);
    return 0;
}
