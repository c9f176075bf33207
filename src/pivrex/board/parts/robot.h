/* What the parts of the program know of each other. */
#ifndef ROBOT_H
#define ROBOT_H
#include <stdint.h>
#include <string.h>
#include "rig.h"
#include "board.h"

/* sentence.c */
void open_sentence(const char *kind);
void put(char c);
void put_text(const char *s);
void put_unsigned(uint32_t v);
void put_whole(int32_t v);
void put_real(real v);
void say_sentence(int sealed);
void open_line(void);
void say_line(void);
char hex_digit(unsigned digit);
int of_hex(char c);
char *sentence(char *line, int size);
int read_whole(char **at, uint32_t *value, const char *ends);
int read_decimal(char **at, real *value);

/* link.c, or alone.c where the robot drives itself */
void link_begin(void);
void link_loop(void);
uint8_t robot_state(void);                     /* 0 rests, 1 is driven, 2 was left alone */

/* rig.c: what this rig has on which pin */
#ifdef OUT
extern CONSTANT real REST_VALUES[OUT];
#endif
void give(const real *value);                  /* what leaves for motors and attachments */
void tell(int n);                              /* writes what comes back: field n, from 0 */
void sense_loop(void);
real sense(int n);                              /* a column of what is sensed, from 0 */

#ifdef ALONE
/* rig.c: what goes into the line, and comes out of it */
enum { NOT_READ = -1, SAYS_READY = -2, SAYS_LINKED = -3 };
extern CONSTANT int8_t READS[INPUTS];          /* which of what is said each reading is */
extern CONSTANT real REST_READINGS[INPUTS];
extern CONSTANT uint8_t IS_BUTTON[INPUTS];
extern real said[CHANNELS];
void line_inputs(uint32_t tick, uint8_t stopped, uint8_t laptop);
void tell_inputs(void);
void take_outputs(real *value);
uint8_t at_rest(void);
uint8_t start_pressed(void);                   /* whether the button of the routine is pressed */
uint8_t routine_may(void);                     /* whether it may begin */
uint8_t buttons_ask(void);                     /* whether a button says stop; does what others ask for */
real scaled(int channel, real v);
void row_bytes(void (*take)(const void *, int));  /* all numbers of the row, without gaps between them */
void kept_bytes(void (*take)(const void *, int));

/* radio.c, or rig.c for a stick on pins */
void source_begin(void);
void source_hear(void);
int source_take(uint32_t now);

/* alone.c */
void tell_byte(uint8_t b);
void tell_real(real v);
void tell_count(int32_t v);
#endif

#ifdef SENDS
/* rig.c, for transmitter.c */
void put_controls(void);
#endif

/* mine.c: yours */
void mine_begin(void);
void mine_loop(void);
void mine_give(int n, real value);
real mine_sense(int n);

/* seal.c, for a rig with a key */
void seal_begin(void);
int seal(char *body, int size);
int unseal(char *body, uint32_t *of);
uint32_t seal_session(void);
void seal_session_is(uint32_t of);

#endif
