/* board.h for the chip: clock, serial line, converter and rangers. Pins and timers stand in pins.c, as the rig has them. */
#include <avr/eeprom.h>
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include "pins.h"
#include "robot.h"

/* --- the clock: timer 0 overflows every 16384 cycles --- */

#define OVERFLOW_US (16384UL * 1000 / (F_CPU / 1000))
static volatile uint32_t ms, overflows;
static uint16_t part_us;

ISR(TIMER0_OVF_vect) {
    overflows++;
    ms += OVERFLOW_US / 1000;
    part_us += OVERFLOW_US % 1000;
    if (part_us >= 1000) part_us -= 1000, ms++;
}

uint32_t board_ms(void) {
    uint8_t before = SREG;
    uint32_t now;
    cli();
    now = ms;
    SREG = before;
    return now;
}

uint32_t pins_us(void) {                       /* only where interrupts are off */
    uint8_t count = TCNT0;
    uint32_t full = overflows;
    if ((TIFR0 & (1 << TOV0)) && count < 255) full++;
    return full * OVERFLOW_US + (uint32_t)count * (OVERFLOW_US / 256);
}

/* --- the serial line --- */

#ifdef RIG_KEY
enum { HEARS = 128 };                          /* bytes that may come while it computes a seal */
#else
enum { HEARS = 64 };
#endif
static volatile uint8_t heard[HEARS], head, tail;
static const char *volatile sends;
static volatile int left_over;

ISR(SERIAL_RX_vect) {
    uint8_t c = UDR0, next = (head + 1) & (HEARS - 1);
    if (next != tail) heard[head] = c, head = next;
}

ISR(SERIAL_UDRE_vect) {
    if (left_over) UDR0 = (uint8_t)*sends++, left_over--;
    if (!left_over) UCSR0B &= (uint8_t)~(1 << UDRIE0);
}

int board_read(void) {
    int c = -1;
    if (tail != head) c = heard[tail], tail = (tail + 1) & (HEARS - 1);
    else sleep_cpu();                          /* until something happens: the clock, at least, each millisecond */
    return c;
}

int board_room(void) { return !(UCSR0B & (1 << UDRIE0)); }

void board_write(const char *text, int size) {
    sends = text, left_over = size;
    UCSR0B |= 1 << UDRIE0;
}

#if defined ALONE || defined SENDS
#ifdef RADIO_DIVISOR                           /* the radio has a serial line of its own */
static volatile uint8_t radio[64], radio_head, radio_tail;

ISR(USART1_RX_vect) {
    uint8_t c = UDR1, next = (radio_head + 1) & 63;
    if (next != radio_tail) radio[radio_head] = c, radio_head = next;
}

int board_radio(void) {
    int c = -1;
    if (radio_tail != radio_head) c = radio[radio_tail], radio_tail = (radio_tail + 1) & 63;
    return c;
}
#else
int board_radio(void) { return board_read(); }
#endif

uint32_t board_saved(int place) { return eeprom_read_dword((const uint32_t *)(uintptr_t)(4 * place)); }
void board_save(int place, uint32_t value) { eeprom_update_dword((uint32_t *)(uintptr_t)(4 * place), value); }
#endif

/* --- the converter, rangers and buttons --- */

int32_t board_sensor(int sensor) {
    if (sensor >= SENSOR_MANY && sensor < SENSOR_MANY + BUTTON_MANY) return pins_button(sensor - SENSOR_MANY);
    if (sensor >= ANALOGUE_MANY && sensor < SENSOR_MANY) return pins_echo(sensor - ANALOGUE_MANY);
    pins_channel(sensor);
    ADCSRA |= 1 << ADSC;
    while (ADCSRA & (1 << ADSC)) {
    }
    return ADC;
}

int32_t board_count(int encoder) {
    uint8_t before = SREG;
    int32_t now;
    cli();
    now = pins_counts[encoder];
    SREG = before;
    return now;
}

void board_begin(void) {
    pins_begin();
    TCCR0A |= 1 << WGM01 | 1 << WGM00;
    TCCR0B = 1 << CS01 | 1 << CS00;            /* clock / 64 */
    TIMSK0 = 1 << TOIE0;
    UCSR0A = 1 << U2X0;
    UBRR0 = SERIAL_DIVISOR;
    UCSR0C = 1 << UCSZ01 | 1 << UCSZ00;        /* 8 bits, no parity */
    UCSR0B = 1 << RXEN0 | 1 << TXEN0 | 1 << RXCIE0;
#ifdef RADIO_DIVISOR
    UCSR1A = 1 << U2X1;
    UBRR1 = RADIO_DIVISOR;
    UCSR1C = 1 << UCSZ11 | 1 << UCSZ10;
    UCSR1B = 1 << RXEN1 | 1 << RXCIE1;
#endif
    set_sleep_mode(SLEEP_MODE_IDLE);
    sleep_enable();
    ADCSRA = 1 << ADEN | 1 << ADPS2 | 1 << ADPS1;  /* clock / 64: a conversion takes 52 us at 16 MHz */
    sei();
}
