/* The robot's end of the link: docs/wire.md says its rules. All sizes come from the rig, in rig.h. */
#include "robot.h"

enum { REST = 0, DRIVE = 1, ALONE = 2 };       /* ALONE: it was left alone, and waits for a rest */
enum { WATCHDOG_MS = 150, STALE_MS = 250, GREET_MS = 1000 };

static uint8_t state = ALONE, any;             /* any: whether a sentence has ever come good */
static uint32_t newest;                        /* the newest number */
static uint32_t heard, fresh;                  /* when it came, and when its echo was stamped, in ms */
static uint8_t owes, greets = 1;               /* what it will say as soon as the line is free */

uint8_t robot_state(void) { return state; }

/* --- what is said --- */

static char out[LONGEST_BACK];
static int used;

static void put(char c) { out[used++] = c; }
void put_text(const char *s) { while (*s) put(*s++); }

static void put_unsigned(uint32_t v) {
    char digits[10];
    int n = 0;
    do digits[n++] = (char)('0' + v % 10);
    while (v /= 10);
    while (n) put(digits[--n]);
}

void put_whole(int32_t v) {
    if (v < 0) put('-');
    put_unsigned(v < 0 ? 0u - (uint32_t)v : (uint32_t)v);
}

/* Four digits behind the point; nothing for what is not known, or is too large to be true. */
void put_real(real v) {
    int32_t whole_part, rest;
    if (!(v > R(-200000.0) && v < R(200000.0))) return;
    if (v < 0) v = -v, put('-');
    whole_part = (int32_t)v;
    rest = (int32_t)((v - (real)whole_part) * R(10000.0) + R(0.5));
    if (rest > 9999) rest -= 10000, whole_part++;
    put_whole(whole_part);
    put('.');
    for (int32_t tens = 1000; tens; tens /= 10) put((char)('0' + rest / tens % 10));
}

static char hex(unsigned digit) { return "0123456789ABCDEF"[digit & 15]; }

static void begin(const char *kind) {
    used = 0;
    put('$');
    put_text(kind);
}

static void say(void) {
    uint8_t check = 0;
#ifdef RIG_KEY
    used += seal(out + 1, used - 1);
#endif
    for (int i = 1; i < used; i++) check ^= (uint8_t)out[i];
    put('*'), put(hex(check >> 4)), put(hex(check)), put('\r'), put('\n');
    board_write(out, used);
}

static void greet(void) {
    begin("PIVHEY," RIG_NAME "," RIG_HASH);
    say();
}

static int part = -1;                          /* of an answer, the part that is said next; -1: none */
static uint32_t stamp;

static void answer(void) {
    begin("PIVSEN,");
    if (part == 0) stamp = board_ms() & 0xFFFF;
    put_unsigned(stamp);
    if (BACK_PARTS > 1) put('/'), put_whole(part + 1), put('/'), put_whole(BACK_PARTS);
    put(',');
    if (any) put_unsigned(newest);
    put(','), put_whole(state);
    for (int n = part * BACK_EACH; n < BACK && n < (part + 1) * BACK_EACH; n++) put(','), tell(n);
    say();
    if (++part == BACK_PARTS) part = -1;
}

/* --- what is heard --- */

static char in[LONGEST_OUT + 1];
static int got;                                /* -1: a line that is too long, until it ends */
static real values[OUT], given[OUT];           /* what has come of a sentence, and what counts */
static int filled, part_next, parts_all;
static uint32_t parts_seq;

static void give_all(int drives) {
    for (int n = 0; n < OUT; n++) given[n] = drives ? values[n] : REST_VALUES[n];
    give(given);
}

static void watch(void) {                      /* the watchdog */
    uint32_t now = board_ms();
    if (state == ALONE || (now - heard <= WATCHDOG_MS && (state == REST || now - fresh <= STALE_MS))) return;
    state = ALONE;
    give_all(0);
}

/* A whole number: 1 if there is one, 0 if the field is empty, -1 if it is none. `ends` are the characters that may follow. */
static int number(char **at, uint32_t *value, const char *ends) {
    int digits = 0;
    *value = 0;
    for (; **at >= '0' && **at <= '9'; ++*at) {
        if (++digits > 10 || *value > 429496728u) return -1;
        *value = *value * 10 + (uint32_t)(**at - '0');
    }
    return !strchr(ends, **at) ? -1 : digits > 0;
}

/* A number with a point and a power, as 0.5, -12 or 3e-05; 0 if it is none. */
static int decimal(char **at, real *value) {
    real v = 0;
    int digits = 0, power = 0, point = 0, minus = **at == '-';
    if (minus || **at == '+') ++*at;
    for (; (**at >= '0' && **at <= '9') || (**at == '.' && !point); ++*at) {
        if (**at == '.') point = 1;
        else if (++digits > 30) return 0;
        else v = v * R(10.0) + (real)(**at - '0'), power -= point;
    }
    if (!digits) return 0;
    if (**at == 'e' || **at == 'E') {
        int further = 0, less = (*at)[1] == '-';
        *at += (*at)[1] == '-' || (*at)[1] == '+' ? 2 : 1;
        if (**at < '0' || **at > '9') return 0;
        for (; **at >= '0' && **at <= '9'; ++*at) if (further < 100) further = further * 10 + (**at - '0');
        power += less ? -further : further;
    }
    for (; power > 0 && v < LARGE_REAL; power--) v *= R(10.0);
    for (; power < 0 && v > 0; power++) v /= R(10.0);
    if (!(v < LARGE_REAL)) return 0;
    *value = minus ? -v : v;
    return **at == ',' || **at == 0;
}

static int is_newer(uint32_t seq) {
#ifdef RIG_KEY
    return !any || seq > newest;
#else
    uint32_t ahead = (seq - newest) & 0xFFFF;
    return !any || state == ALONE || (ahead > 0 && ahead < 32768);
#endif
}

static void obey(uint32_t seq, int echoed, uint32_t echo, int drive) {
    uint32_t now = board_ms(), age = (now - echo) & 0xFFFF;
    if (!is_newer(seq)) return;
    owes = 1;
    if (drive && (!echoed || age > STALE_MS)) return;  /* too old, or its sender does not hear this robot */
    newest = seq, any = 1, heard = now;
    if (drive) fresh = now - age;
    if (!drive) state = REST;
    else if (state != ALONE) state = DRIVE;
    give_all(state == DRIVE);
}

static void on_body(char *body) {
    uint32_t seq, echo = 0, drive, part = 1, parts = 1;
    int echoed;
    char *at = body + 7;
    if (strncmp(body, "PIVOUT,", 7) || number(&at, &seq, ",/") != 1) return;
#ifndef RIG_KEY
    if (seq > 0xFFFF) return;
#endif
    if (*at == '/') {
        at++;
        if (number(&at, &part, "/") != 1 || *at++ != '/' || number(&at, &parts, ",") != 1) return;
        if (part < 1 || part > parts || parts > 99) return;
    }
    at++;
    if ((echoed = number(&at, &echo, ",")) < 0 || echo > 0xFFFF) return;
    at++;
    if (number(&at, &drive, ",") != 1 || drive > 1 || strncmp(++at, RIG_HASH, 8)) return;
    at += 8;
    if (!drive) {                              /* whoever says rest in the first part need not say the others */
        if (*at == ',' || *at == 0) obey(seq, echoed, echo, 0);
        part_next = 0;
        return;
    }
    if (part == 1) filled = 0, part_next = 1, parts_all = (int)parts, parts_seq = seq;
    if ((int)part != part_next || (int)parts != parts_all || seq != parts_seq) {
        part_next = 0;
        return;
    }
    while (*at == ',') {
        at++;
        if (filled == OUT || !decimal(&at, &values[filled++])) {
            part_next = 0;
            return;
        }
    }
    if (*at) part_next = 0;
    else if (part_next++ == parts_all) {
        if (filled == OUT) obey(seq, echoed, echo, 1);
        part_next = 0;
    }
}

static int of_hex(char c) { return c >= '0' && c <= '9' ? c - '0' : (c | 32) >= 'a' && (c | 32) <= 'f' ? (c | 32) - 'a' + 10 : -1; }

static void on_line(char *line, int size) {    /* a line without its end */
    uint8_t check = 0;
    watch();                                   /* first: what comes late must not be obeyed as if nothing had been */
    if (size < 4 || line[0] != '$' || line[size - 3] != '*' || of_hex(line[size - 2]) < 0 || of_hex(line[size - 1]) < 0) return;
    for (int i = 1; i < size - 3; i++) {
        if (line[i] == '$' || line[i] == '*') return;
        check ^= (uint8_t)line[i];
    }
    if (check != of_hex(line[size - 2]) * 16 + of_hex(line[size - 1])) return;
    line[size - 3] = 0;
#ifdef RIG_KEY
    if (!strncmp(line + 1, "PIVOUT,", 7) && state == ALONE) greets = 1;  /* tell it who this is, whatever it said */
    if (!unseal(line + 1)) return;
#endif
    on_body(line + 1);
}

void link_begin(void) {
#ifdef RIG_KEY
    seal_begin();
#endif
    give_all(0);
}

void link_loop(void) {
    static uint32_t greeted;
    int c;
    watch();
    while ((c = board_read()) >= 0) {
        if (c == '\n' || c == '\r') {
            if (got > 0) in[got] = 0, on_line(in, got);
            got = 0;
        } else if (got >= 0) {
            if (got < LONGEST_OUT) in[got++] = (char)c;
            else got = -1;
        }
    }
    if (board_ms() - greeted > GREET_MS) greeted = board_ms(), greets = 1;
    if (!board_room()) return;                 /* what is on its way goes first; then it says what it senses by now */
    if (part < 0 && !greets && owes) owes = 0, part = 0;
    if (part >= 0) answer();
    else if (greets) greets = 0, owes = 1, greet();
}
