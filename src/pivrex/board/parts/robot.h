/* What the parts of the program know of each other. */
#ifndef ROBOT_H
#define ROBOT_H
#include <stdint.h>
#include <string.h>
#include "rig.h"
#include "board.h"

/* link.c: sentences */
void link_begin(void);
void link_loop(void);
void put_whole(int32_t v);                     /* for tell: writes a field */
void put_real(real v);
void put_text(const char *s);
uint8_t robot_state(void);                     /* 0 rests, 1 is driven, 2 was left alone */

/* rig.c: what this rig has on which pin */
extern const real REST_VALUES[OUT];
void give(const real *value);                  /* what leaves for motors and attachments */
void tell(int n);                              /* writes what comes back: field n, from 0 */
void sense_loop(void);

/* mine.c: yours */
void mine_begin(void);
void mine_loop(void);
void mine_give(int n, real value);
void mine_tell(int n);

/* seal.c, for a rig with a key */
void seal_begin(void);
int seal(char *body, int size);
int unseal(char *body);

#endif
