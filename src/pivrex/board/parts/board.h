/* What the robot's program needs of a board: ten functions. Fill them in for yours; here.c has them for a computer. */
#ifndef BOARD_H
#define BOARD_H
#include <stdint.h>
#include "rig.h"

void board_begin(void);                        /* once, at the start: motors rest */
uint32_t board_ms(void);                       /* a clock in ms, from 0 up and round again */
int board_read(void);                          /* the next byte of the link, -1 if there is none; never waits */
int board_room(void);                          /* whether all that was written is sent */
void board_write(const char *text, int size);  /* begin to send; the text stays as it is until it is gone */
void board_pwm(int pin, long duty);            /* 0 to full, which is 255 for 8 bits; pins are named in rig.h */
void board_level(int pin, int high);
void board_pulse(int pin, long us);            /* a servo's pulse, fifty times a second */
int32_t board_count(int encoder);              /* what it has counted since the start, up while A leads */
int32_t board_sensor(int sensor);              /* an analogue pin: 0 to ANALOGUE_FULL; a ranger: its echo in us, 0 for none */
#if defined ALONE || defined SENDS             /* for a robot that drives itself, and for a transmitter */
int board_radio(void);                         /* the next byte of the radio, -1 if there is none */
uint32_t board_saved(int place);               /* what was saved there before the start; 0xFFFFFFFF if nothing was */
void board_save(int place, uint32_t value);
#endif

#endif
