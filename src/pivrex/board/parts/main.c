/* The robot's program: it hears what to do, and says what it senses. */
#include "robot.h"

int main(void) {
    board_begin();
    link_begin();
    mine_begin();
    for (;;) {
        link_loop();
        sense_loop();
        mine_loop();
    }
}
