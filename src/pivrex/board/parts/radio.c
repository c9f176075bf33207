/* The radio or the stick on a serial line that drives a robot without a laptop: packets or lines of numbers, as docs/wire.md has them. */
#include "robot.h"
#ifdef RADIO

real said[CHANNELS];
static char in[LONGEST_RADIO + 1], newest[LONGEST_RADIO + 1];
static int got;                                /* -1: a line that is too long, until it ends */
static uint8_t waits, any;                     /* a line that no one has read yet; whether one has come good since it was lost */
static uint32_t heard;                         /* when, in ms */

/* Many lines may come in a tick: the newest counts. */
void source_hear(void) {
    int c;
    while ((c = board_radio()) >= 0) {
        if (c == '\n' || c == '\r') {
            if (got > 0) {
                in[got] = 0;
#ifdef RADIO_SENDER
                char *body = sentence(in, got);
                if (body && !strncmp(body, "PIVDRV," RADIO_SENDER ",", sizeof "PIVDRV," RADIO_SENDER)) strcpy(newest, body), waits = 1;
#else
                strcpy(newest, in), waits = 1;
#endif
            }
            got = 0;
        } else if (got >= 0) {
            if (got < LONGEST_RADIO) in[got++] = (char)c;
            else got = -1;
        }
    }
}

#ifdef RADIO_SENDER
#ifdef RIG_KEY
static uint32_t last_session, last_seq, saved_seq;
enum { SAVE_EVERY = 512 };                     /* numbers: an EEPROM bears 100,000 of them */

static int comes_next(uint32_t seq, uint32_t session, uint32_t now) {
    (void)now;
    if (session < last_session || (session == last_session && seq <= last_seq)) return 0;
    if (session != last_session || seq >= saved_seq) {  /* after a start nothing counts up to what is saved */
        if (session != last_session) board_save(0, ~session);
        saved_seq = seq + SAVE_EVERY;
        board_save(1, ~saved_seq);
    }
    last_session = session, last_seq = seq;
    return 1;
}
#else
static uint32_t last_seq;

static int comes_next(uint32_t seq, uint32_t session, uint32_t now) {
    uint32_t ahead = (seq - last_seq) & 0xFFFF;
    (void)session;
    if (seq > 0xFFFF || (any && (ahead == 0 || ahead > 32767 || ahead > 32 + (now - heard) * 5))) return 0;
    last_seq = seq;
    return 1;
}
#endif

/* Read a packet into what channels say; 0 if it is damaged, or not the next one. */
static int understood(uint32_t now) {
    real axes[AXES];
    uint32_t seq, buttons = 0, session = 0;
    char *at = newest + sizeof "PIVDRV," RADIO_SENDER;
#ifdef RIG_KEY
    if (!unseal(newest, &session)) return 0;
#endif
    if (read_whole(&at, &seq, ",") != 1) return 0;
    for (int k = 0; k < AXES; k++) {
        real v;
        if (*at++ != ',' || !read_decimal(&at, &v)) return 0;
        v = (v - RADIO_ZERO) / RADIO_FULL;
        if (!(v >= R(-1.5) && v <= R(1.5))) return 0;
        axes[k] = v > 1 ? 1 : v < AXIS_LOW[k] ? AXIS_LOW[k] : v;
    }
    if (*at++ != ',' || !*at) return 0;
    for (int digits = 0; *at; at++) {
        if (++digits > 5 || of_hex(*at) < 0) return 0;
        buttons = buttons * 16 + (uint32_t)of_hex(*at);
    }
    if (!comes_next(seq, session, now)) return 0;
    memcpy(said, axes, sizeof axes);
    for (int k = AXES; k < CHANNELS; k++) said[k] = buttons >> BUTTON_BIT[k - AXES] & 1 ? 1 : 0;
    return 1;
}
#else
/* Read a number of each column into what channels say; 0 if the line is damaged. */
static int understood(uint32_t now) {
    real found[CHANNELS];
    char *at = newest;
    (void)now;
    for (int k = 0; k < CHANNELS; k++) {
        real v;
        while (*at && !strchr("+-.0123456789", *at)) {
            if (of_hex(*at) >= 0 || *at == '_' || ((*at | 32) >= 'a' && (*at | 32) <= 'z')) return 0;
            at++;
        }
        if (!read_decimal(&at, &v)) return 0;
        found[k] = scaled(k, v);
        if (found[k] != found[k]) return 0;
    }
    for (; *at; at++) if (of_hex(*at) >= 0 || strchr("+-._", *at) || ((*at | 32) >= 'a' && (*at | 32) <= 'z')) return 0;
    memcpy(said, found, sizeof found);
    return 1;
}
#endif

void source_begin(void) {
#if defined RIG_KEY && defined RADIO_SENDER
    last_session = ~board_saved(0), last_seq = saved_seq = ~board_saved(1);
#endif
}

/* Once a tick: 0 while it is heard, 1 once it is lost, 2 if it is silent where silence means rest. */
int source_take(uint32_t now) {
    if (waits && understood(now)) heard = now, any = 1;
    waits = 0;
    if (!any) return 1;
    if (now - heard <= SILENT_MS) return 0;
    if (IDLE == IDLE_LOST) any = 0;
    return IDLE == IDLE_LOST ? 1 : IDLE == IDLE_REST ? 2 : 0;
}
#endif
