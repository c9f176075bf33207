/* board.h for this computer: sentences over UDP, pins as lines of text.

   ROBOT_PORT=5810 ./robot listens there. It writes what pins are given to standard output, as "pwm 0 128", and reads what
   encoders and sensors say from standard input, as "count 0 1234" and "sensor 1 512". */
#define _POSIX_C_SOURCE 200809L
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>
#include "robot.h"

static int wire = -1;
#ifdef ALONE
static int radio = -1;
#endif
static struct sockaddr_in partner;
static char data[2048];
static long at, size;
static int32_t counts[COUNT_MANY + 1], sensors[SENSOR_MANY + BUTTON_MANY + 1];
static long given[3][OUT + 1];

static int listen_at(const char *port) {
    struct sockaddr_in me;
    int made;
    memset(&me, 0, sizeof me);
    me.sin_family = AF_INET;
    me.sin_port = htons((uint16_t)atoi(port));
    me.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    made = socket(AF_INET, SOCK_DGRAM, 0);
    if (made < 0 || bind(made, (struct sockaddr *)&me, sizeof me)) perror(port), exit(1);
    fcntl(made, F_SETFL, O_NONBLOCK);
    return made;
}

void board_begin(void) {
    const char *port = getenv("ROBOT_PORT");
    wire = listen_at(port ? port : "5810");
#ifdef ALONE
    if (getenv("ROBOT_RADIO")) radio = listen_at(getenv("ROBOT_RADIO"));
#endif
    fcntl(0, F_SETFL, O_NONBLOCK);
    setvbuf(stdout, NULL, _IOLBF, 0);
    memset(given, 0xFF, sizeof given);
    printf("ready\n");
}

uint32_t board_ms(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint32_t)((uint64_t)t.tv_sec * 1000u + (uint64_t)t.tv_nsec / 1000000u);
}

static void hear_pins(void) {
    static char line[80];
    static int used;
    char c, what[8];
    int n;
    long value;
    while (read(0, &c, 1) == 1) {
        if (c != '\n') {
            if (used < 79) line[used++] = c;
            continue;
        }
        line[used] = 0, used = 0;
        if (sscanf(line, "%7s %d %ld", what, &n, &value) != 3 || n < 0) continue;
        if (!strcmp(what, "count") && n < COUNT_MANY) counts[n] = (int32_t)value;
        if (!strcmp(what, "sensor") && n < SENSOR_MANY + BUTTON_MANY) sensors[n] = (int32_t)value;
    }
}

/* One sender is heard while the robot is not left alone; the end of a datagram ends its last line. */
int board_read(void) {
    struct sockaddr_in from;
    socklen_t length = sizeof from;
    if (at < size) return (unsigned char)data[at++];
    hear_pins();
    at = size = 0;
    long came = recvfrom(wire, data, sizeof data - 1, 0, (struct sockaddr *)&from, &length);
    if (came <= 0) {
        struct timespec little = {0, 500000};
        nanosleep(&little, NULL);
        return -1;
    }
    if (robot_state() == 2 || !partner.sin_port) partner = from;
    if (from.sin_port != partner.sin_port || from.sin_addr.s_addr != partner.sin_addr.s_addr) return -1;
    size = came;
    data[size++] = '\n';
    return (unsigned char)data[at++];
}

int board_room(void) { return 1; }

void board_write(const char *text, int many) {
    if (partner.sin_port) sendto(wire, text, (size_t)many, 0, (struct sockaddr *)&partner, sizeof partner);
}

static void show(int kind, const char *what, int pin, long value) {
    if (given[kind][pin] == value) return;
    given[kind][pin] = value;
    printf("%s %d %ld\n", what, pin, value);
}

void board_pwm(int pin, long duty) { show(0, "pwm", pin, duty); }
void board_level(int pin, int high) { show(1, "level", pin, high); }
void board_pulse(int pin, long us) { show(2, "pulse", pin, us); }
int32_t board_count(int encoder) { return counts[encoder]; }
int32_t board_sensor(int sensor) { return sensor < SENSOR_MANY + BUTTON_MANY ? sensors[sensor] : (int32_t)(board_ms() * 2654435761u >> 7 & 1023); }

#ifdef ALONE
/* What a radio sends to the port that ROBOT_RADIO names; a datagram holds whole lines. */
int board_radio(void) {
    static char sent[2048];
    static long next, left;
    if (radio < 0) return -1;
    if (next >= left) next = 0, left = recv(radio, sent, sizeof sent, 0);
    return next < left ? (unsigned char)sent[next++] : -1;
}

uint32_t board_saved(int place) { (void)place; return 0xFFFFFFFF; }
void board_save(int place, uint32_t value) { (void)place, (void)value; }
#endif
