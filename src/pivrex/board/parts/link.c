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

static void greet(void) {
    open_sentence("PIVHEY," RIG_NAME "," RIG_HASH);
    say_sentence(1);
}

static int part = -1;                          /* of an answer, the part that is said next; -1: none */
static uint32_t stamp;

static void answer(void) {
    open_sentence("PIVSEN,");
    if (part == 0) stamp = board_ms() & 0xFFFF;
    put_unsigned(stamp);
    if (BACK_PARTS > 1) put('/'), put_whole(part + 1), put('/'), put_whole(BACK_PARTS);
    put(',');
    if (any) put_unsigned(newest);
    put(','), put_whole(state);
    for (int n = part * BACK_EACH; n < BACK && n < (part + 1) * BACK_EACH; n++) put(','), tell(n);
    say_sentence(1);
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
    if (strncmp(body, "PIVOUT,", 7) || read_whole(&at, &seq, ",/") != 1) return;
#ifndef RIG_KEY
    if (seq > 0xFFFF) return;
#endif
    if (*at == '/') {
        at++;
        if (read_whole(&at, &part, "/") != 1 || *at++ != '/' || read_whole(&at, &parts, ",") != 1) return;
        if (part < 1 || part > parts || parts > 99) return;
    }
    at++;
    if ((echoed = read_whole(&at, &echo, ",")) < 0 || echo > 0xFFFF) return;
    at++;
    if (read_whole(&at, &drive, ",") != 1 || drive > 1 || strncmp(++at, RIG_HASH, 8)) return;
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
        if (filled == OUT || !read_decimal(&at, &values[filled++])) {
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

static void on_line(char *line, int size) {    /* a line without its end */
    char *body;
#ifdef RIG_KEY
    uint32_t of;
#endif
    watch();                                   /* first: what comes late must not be obeyed as if nothing had been */
    body = sentence(line, size);
    if (body == NULL) return;
#ifdef RIG_KEY
    if (!strncmp(body, "PIVOUT,", 7) && state == ALONE) greets = 1;  /* tell it who this is, whatever it said */
    if (!unseal(body, &of) || of != seal_session()) return;
#endif
    on_body(body);
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
