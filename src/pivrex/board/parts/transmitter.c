/* A stick that sends what its controls read: lines of numbers or packets, as docs/wire.md has them. */
#include "robot.h"

enum { SEND_MS = 20 };                         /* fifty times a second */

uint8_t robot_state(void) { return 1; }

void link_begin(void) {
#ifdef RIG_KEY                                 /* each start has a higher number: what was sent before counts no more */
    uint32_t session = ~board_saved(0) + 1;
    board_save(0, ~session);
    seal_begin();
    seal_session_is(session);
#endif
}

void link_loop(void) {
    static uint32_t due;
    board_read();                              /* what comes is passed over; it waits for something to happen */
    if ((int32_t)(board_ms() - due) < 0 || !board_room()) return;
    due = board_ms() + SEND_MS;
#ifdef RADIO_SENDER
    static uint32_t seq;
    open_sentence("PIVDRV," RADIO_SENDER ",");
#ifdef RIG_KEY
    put_unsigned(seq++);
#else
    put_unsigned(seq++ & 0xFFFF);
#endif
    put_controls();
    say_sentence(1);
#else
    open_line();
    put_controls();
    say_line();
#endif
}
