/* Asks an address server, and counts what comes back. Frames come from a file, each with its length
 * in two octets before it; they are sent in turn, round after round.
 *
 * asker ADAPTER FILE flood WINDOW SECONDS        keeps WINDOW unanswered; prints answers a second
 * asker ADAPTER FILE count WINDOW ANSWERS        the same up to a number of answers, and every fifth
 *                                                request is from a MAC that nobody has seen before
 * asker ADAPTER FILE steady RATE SECONDS         asks RATE times a second; prints the share that was
 *                                                answered, and the median and 99th percentile of the
 *                                                time until then, in milliseconds */
#include <arpa/inet.h>
#include <linux/if_packet.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <poll.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>

enum { MOST = 4096, XID = 46, MAC_IN_FRAME = 6, MAC_IN_MESSAGE = 70, KEPT = 1 << 20 };

static double now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec * 1e-9;
}

static int sock, count, at;
static unsigned char *frames[MOST];
static int lengths[MOST];

static int take(unsigned char *heard) {
    /* Answers only: UDP over IPv4, from the server's port. */
    int size = recv(sock, heard, 2048, MSG_DONTWAIT);
    if (size < 0) return -1;
    return size > XID + 4 && heard[12] == 8 && heard[13] == 0 && heard[23] == 17;
}

static void ask(void) {
    if (send(sock, frames[at], lengths[at], 0) < 0) return;
    at = (at + 1) % count;
}

static void ask_as_stranger(void) {
    static unsigned number;
    unsigned char frame[2048];
    int length = lengths[at];
    memcpy(frame, frames[at], length);
    unsigned char mac[6] = {2, 0x99, ++number >> 24, number >> 16, number >> 8, number};
    memcpy(frame + MAC_IN_FRAME, mac, 6);
    memcpy(frame + MAC_IN_MESSAGE, mac, 6);
    if (send(sock, frame, length, 0) < 0) return;
}

static double flood(int window, double seconds, long answers) {
    unsigned char heard[2048];
    long got = 0, sent = 0;
    int open = 0;
    double began = now(), counted = began;
    while ((seconds <= 0 || now() - began < seconds) && (answers <= 0 || got < answers)) {
        while (open < window) {
            ask();
            open++;
            if (answers > 0 && ++sent % 4 == 0) ask_as_stranger();
        }
        int is;
        while ((is = take(heard)) >= 0)
            if (is) got++, open--;
        /* What is lost is not waited for: every second the window is open again. */
        if (now() - counted > 1) open = 0, counted = now();
        struct pollfd ready = {.fd = sock, .events = POLLIN};
        if (open >= window) poll(&ready, 1, 10);
    }
    return got / (now() - began);
}

static int by_size(const void *a, const void *b) {
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

static void steady(double rate, double seconds) {
    static double sent_at[KEPT], took[KEPT];
    unsigned char heard[2048];
    long total = rate * seconds, sent = 0, got = 0;
    if (total > KEPT) total = KEPT;
    double began = now();
    while (now() - began < seconds + 0.5) {
        while (sent < total && began + sent / rate <= now()) {
            uint32_t number = htonl(sent + 1);
            memcpy(frames[at] + XID, &number, 4);
            sent_at[sent++] = now();
            ask();
        }
        int is;
        while ((is = take(heard)) >= 0) {
            uint32_t number;
            memcpy(&number, heard + XID, 4);
            number = ntohl(number);
            if (is && number && number <= sent && sent_at[number - 1] > 0) {
                took[got++] = now() - sent_at[number - 1];
                sent_at[number - 1] = 0;
            }
        }
        struct timespec rest = {0, 50000};
        nanosleep(&rest, NULL);
    }
    qsort(took, got, sizeof *took, by_size);
    printf("%.4f %.3f %.3f\n", (double)got / total, got ? took[got / 2] * 1e3 : -1,
           got ? took[got * 99 / 100] * 1e3 : -1);
}

int main(int argc, char **argv) {
    if (argc != 6) return 2;
    sock = socket(AF_PACKET, SOCK_RAW, htons(ETH_P_ALL));
    struct sockaddr_ll place = {.sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ALL),
                                .sll_ifindex = if_nametoindex(argv[1])};
    int room = 16 << 20, yes = 1;
    setsockopt(sock, SOL_SOCKET, SO_RCVBUFFORCE, &room, sizeof room);
    setsockopt(sock, SOL_PACKET, PACKET_IGNORE_OUTGOING, &yes, sizeof yes);
    FILE *file = fopen(argv[2], "rb");
    if (sock < 0 || bind(sock, (struct sockaddr *)&place, sizeof place) < 0 || !file) return 3;
    for (int high; count < MOST && (high = getc(file)) != EOF; count++) {
        lengths[count] = high << 8 | getc(file);
        frames[count] = malloc(lengths[count]);
        if (!fread(frames[count], lengths[count], 1, file)) return 4;
    }
    if (strcmp(argv[3], "steady") == 0)
        steady(atof(argv[4]), atof(argv[5]));
    else if (strcmp(argv[3], "flood") == 0)
        printf("%.1f\n", flood(atoi(argv[4]), atof(argv[5]), 0));
    else
        printf("%.1f\n", flood(atoi(argv[4]), 0, atol(argv[5])));
    return 0;
}
