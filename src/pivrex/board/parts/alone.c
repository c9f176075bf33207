/* The robot drives itself: a stick or a radio, the line, the motors, at the rig's rate. A laptop may watch: docs/wire.md says how. */
#include "robot.h"

enum { DRIVES = 0, LOST = 1, NOT_AT_REST = 2, STOPPED = 3, RAMPS = 4, BY_BUTTON = 5, BY_ROUTINE = 6, BY_LAPTOP = 7, LAPTOP_NOT_AT_REST = 8 };
enum { GREET_MS = 1000, FRESH_MS = 250 };

static uint8_t why = LOST;                     /* why it rests; DRIVES if it does not */
static uint32_t ticks;                         /* made until now */
static real given[OUT];

static real laptop_said[CHANNELS];             /* while its sticks stand in for the robot's own */
static uint32_t laptop_heard;                  /* when, in ms */

static uint8_t goes(void) { return why == DRIVES || why == BY_ROUTINE || why == BY_LAPTOP; }
uint8_t robot_state(void) { return goes() ? 1 : 2; }

/* --- what is said --- */

/* Two ticks may wait until the line is free. */
static struct told { uint8_t data[TOLD]; uint32_t tick; uint16_t check; uint8_t why; } waiting[2], *telling = waiting;
static uint8_t tells, greets = 1;              /* how many wait */
static uint8_t state[STATE];                   /* what stages remembered after a tick */
static uint32_t state_tick;
static int state_at = -1;                      /* so much of it has been said; -1: nothing is to be said */
static uint32_t state_said;                    /* in which tick a part of it was said last */
static uint32_t state_due;                     /* from which tick on it is said again */
static int at;                                 /* in what is told of a tick */

void tell_byte(uint8_t b) { telling->data[at++] = b; }
void tell_real(real v) { memcpy(telling->data + at, &v, 4), at += 4; }
void tell_count(int32_t v) { memcpy(telling->data + at, &v, 4), at += 4; }

/* CRC-16 of the polynomial 0x1021, from 0xFFFF, highest bit first. */
static uint16_t crc;

static void check_bytes(const void *data, int size) {
    for (const uint8_t *b = data; size--; b++) {
        uint8_t x = (uint8_t)(crc >> 8) ^ *b;
        x ^= x >> 4;
        crc = (uint16_t)((uint16_t)(crc << 8) ^ (uint16_t)x << 12 ^ (uint16_t)x << 5 ^ x);
    }
}

static int copied;

static void copy_bytes(const void *data, int size) {
    memcpy(state + copied, data, (size_t)size);
    copied += size;
}

/* Bytes as Base64 (RFC 4648), without what fills up its end. */
static void put_bytes(const uint8_t *data, int size) {
    static CONSTANT char LETTERS[65] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    uint32_t bits = 0;
    int many = 0;
    for (int k = 0; k < size; k++) {
        bits = bits << 8 | data[k];
        for (many += 8; many >= 6; many -= 6) put(LETTERS[bits >> (many - 6) & 63]);
    }
    if (many) put(LETTERS[bits << (6 - many) & 63]);
}

static void tell_tick(void) {
    open_sentence("PIVTIC,");
    put_unsigned(waiting->tick);
    put(','), put((char)('0' + waiting->why));
    if (STATE_EACH) {
        put(',');
        for (int k = 12; k >= 0; k -= 4) put(hex_digit(waiting->check >> k));
        put(',');
        put_bytes(waiting->data, TOLD);
    }
    say_sentence(0);
    waiting[0] = waiting[1];
    tells--;
}

static void tell_state(void) {
    int many = STATE - state_at < STATE_EACH ? STATE - state_at : STATE_EACH;
    open_sentence("PIVALL,");
    put_unsigned(state_tick);
    put(','), put_whole(state_at), put(',');
    put_bytes(state + state_at, many);
    say_sentence(0);
    state_at += many;
    if (state_at >= STATE) state_at = -1;
}

/* Other things are said between ticks, as long as no tick is left out for it. */
static void speak(void) {
    if (!board_room()) return;
    if (tells == 2) tell_tick();
    else if (greets) {
        greets = 0;
        open_sentence("PIVHEY," RIG_NAME "," LINE_HASH ",alone");
        say_sentence(HEARS_LAPTOP);
    } else if (STATE_EACH && state_at >= 0 && ticks - state_said >= STATE_EVERY) state_said = ticks, tell_state();
    else if (tells) tell_tick();
}

/* --- its routine --- */

#ifdef ROUTINE
static uint32_t left;                          /* ticks until it is cut off */
static uint8_t told;                           /* whether it must begin */

/* The line knows nothing then, and the robot stands where the routine begins: in a tick that asks, as the desktop's play does. */
static void begin_routine(void) {
    static uint8_t pressed = 1;                /* a button that is pressed from the start counts once it was let go of */
    if (start_pressed() && !pressed) told = 1;
    pressed = start_pressed();
    if (told && ticks % ASKS_EVERY == 0) {
        if (why < STOPPED && routine_may()) {
            line_begin_again();
            why = BY_ROUTINE, left = ROUTINE;
        }
        told = 0;
    }
    kept.thoughts.on = why == BY_ROUTINE;
}

static void end_routine(void) {
    if (why == BY_ROUTINE && (kept.thoughts.ended || !--left)) why = NOT_AT_REST;
}
#else
static void begin_routine(void) {}
static void end_routine(void) {}
#endif

/* --- a tick --- */

static void make_tick(uint32_t now) {
    static uint32_t lost;                      /* when it was lost, in ms */
    static uint8_t ramps;
#if RAMP_MS > 0
    real share = 0;
    static real last[INPUTS];
#endif
    static int source = 1;
    uint8_t laptop;                            /* whether its sticks stand in */
    if (ticks % ASKS_EVERY == 0) source = source_take(now);
    if (why >= BY_LAPTOP && (int32_t)(now - laptop_heard) > FRESH_MS) why = LOST; /* it may be heard after `now` */
    if (source == 1 && why < STOPPED && why != LOST) ramps = RAMP_MS && why == DRIVES, lost = now, why = LOST;
    if (source != 1 && why == LOST) why = NOT_AT_REST;
    laptop = why >= BY_LAPTOP;
    begin_routine();
    if (why != LOST || (int32_t)(now - lost) >= (int32_t)RAMP_MS) ramps = 0;
#if RAMP_MS > 0
    if (ramps) share = 1 - (real)(now - lost) / (real)RAMP_MS;
#endif
    if (tells == 2) waiting[0] = waiting[1], tells = 1;  /* the line is too slow: one is left out */
    telling = waiting + tells;
    telling->why = ramps ? RAMPS : why;
    if (ticks % ASKS_EVERY == 0) memset(&row, 0, sizeof row); /* else what was asked for goes on */
    line_inputs(ticks, !goes() && !ramps, laptop);
    for (int k = 0; k < INPUTS; k++) {
        int c = READS[k];
        real v = REST_READINGS[k];
        if (c == SAYS_READY) v = goes();
        else if (c == SAYS_LINKED) v = source != 1 || laptop;
        else if (c >= 0 && laptop && !(IS_BUTTON[k] && source == 0 && said[c] > laptop_said[c])) v = laptop_said[c];
        else if (c >= 0 && source == 0 && (why != BY_ROUTINE || IS_BUTTON[k])) v = said[c];
#if RAMP_MS > 0
        else if (c >= 0 && ramps && !IS_BUTTON[k]) v = last[k] * share;
        if (why == DRIVES) last[k] = v;
#endif
        row.raw.reading[k] = v;
    }
    at = 0;
    if (STATE_EACH) tell_inputs();
    line_tick();
    take_outputs(given);
    give(given);
    if (why == NOT_AT_REST && at_rest()) why = DRIVES;
    if (why == LAPTOP_NOT_AT_REST && at_rest()) why = BY_LAPTOP;
    end_routine();
    if (buttons_ask() && why != STOPPED) why = BY_BUTTON;
    telling->tick = ticks++;
    if (!STATE_EACH) {                         /* a laptop hears now and then how it goes, and no more */
        tells = ticks % (TICKS_A_SECOND / 20) == 0;
        return;
    }
    tells++;
    crc = 0xFFFF;
    row_bytes(check_bytes);
    telling->check = crc;
    if (state_at < 0 && ticks % ASKS_EVERY == 0 && (int32_t)(ticks - state_due) >= 0) { /* the next tick asks */
        copied = 0;
        kept_bytes(copy_bytes);
        state_tick = telling->tick, state_at = 0, state_due = ticks + TICKS_A_SECOND;
    }
}

/* --- a laptop that watches --- */

#if HEARS_LAPTOP
static char in[LONGEST_BID + 1];
static int got;                                /* -1: a line that is too long, until it ends */

/* Sticks of a laptop, in thousandths, which stand in for the robot's own until it is silent. */
static void take_sticks(char *from) {
    real axes[CHANNELS];
    uint32_t many;
    for (int k = 0; k < CHANNELS; k++) {
        int minus = *from == ',' && from[1] == '-';
        if (*from++ != ',') return;
        from += minus;
        if (read_whole(&from, &many, ",") != 1 || many > 1000) return;
        axes[k] = (real)(minus ? -(int)many : (int)many) / R(1000.0);
    }
    if (*from) return;
    memcpy(laptop_said, axes, sizeof axes);
    laptop_heard = board_ms();
    if (why < STOPPED) why = LAPTOP_NOT_AT_REST;
}

static void on_line(int size) {
    static uint32_t newest;
    static uint8_t any;
    uint32_t seq, seen;
    char *body = sentence(in, size), *at;
    if (body == NULL) return;
    at = body + 7;
#ifdef RIG_KEY
    uint32_t of;
    if (!unseal(body, &of) || of != seal_session()) return;
#endif
    if (strncmp(body, "PIVBID,", 7) || read_whole(&at, &seq, ",") != 1) return;
    at++;
    if (read_whole(&at, &seen, ",") != 1 || strncmp(++at, LINE_HASH ",", 9)) return;
    at += 9;
    if (!strcmp(at, "stop")) why = STOPPED;    /* whatever its number is: only what lets it move must be new */
    if (any && (int32_t)(seq - newest) <= 0) return;
    any = 1, newest = seq;
#ifdef ROUTINE
    if (!strcmp(at, "run") && (ticks - seen) * (PERIOD_US / 1000) <= FRESH_MS) told = 1;
#endif
    if (!strncmp(at, "stick", 5) && (ticks - seen) * (PERIOD_US / 1000) <= FRESH_MS) take_sticks(at + 5);
    if (!strcmp(at, "go") && (why == STOPPED || why == BY_BUTTON) && (ticks - seen) * (PERIOD_US / 1000) <= FRESH_MS) why = LOST;
    if (!strcmp(at, "all")) state_due = ticks;
}

static void hear_laptop(void) {
    int c;
    while ((c = board_read()) >= 0) {
        if (c == '\n' || c == '\r') {
            if (got > 0) in[got] = 0, on_line(got);
            got = 0;
        } else if (got >= 0) {
            if (got < LONGEST_BID) in[got++] = (char)c;
            else got = -1;
        }
    }
}
#else
static void hear_laptop(void) {}
#endif

static uint32_t due;                           /* when the next tick is, in us */

void link_begin(void) {
#ifdef RIG_KEY
    seal_begin();
#endif
    line_begin();
    source_begin();
    due = board_ms() * 1000u;
    for (int n = 0; n < OUT; n++) given[n] = REST_VALUES[n];
    give(given);
}

void link_loop(void) {
    static uint32_t greeted;                   /* ms */
    uint32_t now = board_ms();
    source_hear();
    hear_laptop();
    if ((int32_t)(now * 1000u - due) >= 0) {
        due += PERIOD_US;
        if ((int32_t)(now * 1000u - due) >= 0) due = now * 1000u + PERIOD_US;  /* it is too late for the next one */
        make_tick(now);
    }
    if (now - greeted > GREET_MS) greeted = now, greets = 1;
    speak();
}
