/* Answers ARP for a whole /16, each address with a MAC of its own (02-FE and the address). Usage:
 * crowd ADAPTER FIRST-TWO-OCTETS-AS-HEX; runs until it is killed. */
#include <arpa/inet.h>
#include <linux/if_packet.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>

int main(int argc, char **argv) {
    if (argc != 3) return 2;
    int sock = socket(AF_PACKET, SOCK_RAW, htons(ETH_P_ARP));
    struct sockaddr_ll place = {.sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ARP),
                                .sll_ifindex = if_nametoindex(argv[1])};
    int room = 16 << 20;
    setsockopt(sock, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
    if (sock < 0 || bind(sock, (struct sockaddr *)&place, sizeof place) < 0) return 3;
    unsigned prefix = strtoul(argv[2], NULL, 16);
    unsigned char frame[2048];
    for (;;) {
        if (recv(sock, frame, sizeof frame, 0) < 42 || frame[21] != 1) continue;
        if ((unsigned)(frame[38] << 8 | frame[39]) != prefix) continue;
        unsigned char target[4], mac[6] = {0x02, 0xfe};
        memcpy(target, frame + 38, 4);
        memcpy(mac + 2, target, 4);
        memcpy(frame, frame + 6, 6);
        memcpy(frame + 6, mac, 6);
        frame[21] = 2;
        memcpy(frame + 32, frame + 22, 10);
        memcpy(frame + 22, mac, 6);
        memcpy(frame + 28, target, 4);
        if (send(sock, frame, 42, 0) < 0) continue;
    }
}
