/* A chip for a robot's program: simavr runs it, its pins and serial line go over standard input and output.

   emulator PROGRAM.elf CHIP HZ PIN... with, for each PIN: p:TCCRA:BIT:OCR:WIDE (PWM), l:PORT:BIT (a level), s:LETTER:BIT (a
   servo), c:LETTER:BIT:LETTER:BIT (an encoder), a:CHANNEL (a voltage), r:LETTER:BIT:LETTER:BIT (a ranger), i:LETTER:BIT (a button to ground), u:1 (a second serial line, that only hears),
   x:END (where the program's own memory ends), z:0. Addresses are those of the chip's memory. For each step it reads how many
   cycles to run, the bytes that come in, and a number for each c (counts to make), a (mV), r (us, 0 for no echo), i (1: pressed)
   and u (bytes, which follow it); it answers with a number for each p, l and s, for x how much memory the stack has never
   reached, for z the cycles that the chip has slept, and the bytes that go out.

   emulator PROGRAM.elf CHIP HZ memory FLAG END [in:ADDRESS:SIZE ...] [out:ADDRESS:SIZE ...] runs a program that waits until the
   byte at FLAG is 1 and sets it to 0 when it is done: for each record that it reads into memory it answers with the cycles that
   took, how much memory from END up is still untouched, and the memory itself. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#include <simavr/avr_adc.h>
#include <simavr/avr_ioport.h>
#include <simavr/avr_uart.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>

enum { MOST = 64, BYTES = 4096 };
typedef struct {
    char kind, port, port2;
    int a, b, c, d;
    int32_t number;          /* what came for it, or what it gives */
    avr_cycle_count_t since, due, until;
    int32_t made, left;
    int phase, high;
} Line;

static avr_t *avr;
static FILE *answers;        /* what simavr itself says must not come between */
static Line lines[MOST];
static int many;
static uint8_t out[BYTES], in[BYTES];
static int out_used, in_used, in_at, may_send = 1;
static uint8_t radio_in[BYTES];
static int radio_used, radio_at, radio_may = 1;
static avr_cycle_count_t asleep;

static avr_irq_t *pin(char port, int bit) { return avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(port), bit); }

/* Pins that are driven from outside. simavr raises a pulled-up pin again at each write to its port; then they are corrected. */
static struct { avr_irq_t *irq; uint32_t high; } driven[2 * MOST];
static int all_driven, wrong;

static void watched(struct avr_irq_t *irq, uint32_t value, void *param) {
    (void)irq;
    if (value != driven[(intptr_t)param].high) wrong = 1;
}

static void put_right(void) {
    wrong = 0;
    for (int k = 0; k < all_driven; k++) avr_raise_irq(driven[k].irq, driven[k].high);
}

static void put(char port, int bit, int high) {
    avr_irq_t *irq = pin(port, bit);
    int k = 0;
    while (k < all_driven && driven[k].irq != irq) k++;
    if (k == all_driven) {
        all_driven++;
        driven[k].irq = irq;
        avr_irq_register_notify(irq, watched, (void *)(intptr_t)k);
    }
    driven[k].high = (uint32_t)high;
    avr_raise_irq(irq, (uint32_t)high);
}

static void heard(struct avr_irq_t *irq, uint32_t value, void *param) {
    (void)irq, (void)param;
    if (out_used < BYTES) out[out_used++] = (uint8_t)value;
}

static void room(struct avr_irq_t *irq, uint32_t value, void *param) {
    (void)irq, (void)value;
    *(int *)param = 1;
}

static void full(struct avr_irq_t *irq, uint32_t value, void *param) {
    (void)irq, (void)value;
    *(int *)param = 0;
}

static void pulsed(struct avr_irq_t *irq, uint32_t value, void *param) {
    Line *line = param;
    (void)irq;
    if (value && !line->high) line->since = avr->cycle;
    if (!value && line->high) line->number = (int32_t)(((avr->cycle - line->since) * 1000000 + avr->frequency / 2) / avr->frequency);
    line->high = value != 0;
}

/* A trigger that ends starts an echo, 0.2 ms later. */
static void triggered(struct avr_irq_t *irq, uint32_t value, void *param) {
    Line *line = param;
    (void)irq;
    if (!value && line->high && line->number > 0) {
        line->due = avr->cycle + avr->frequency / 5000;
        line->until = line->due + (avr_cycle_count_t)line->number * avr->frequency / 1000000;
    }
    line->high = value != 0;
}

/* Memory from the end of the program's own up is painted; what is left of the paint the stack has never reached. */
static uint32_t untouched(uint32_t end) {
    uint32_t at = end;
    while (at <= avr->ramend && avr->data[at] == 0xC5) at++;
    return at - end;
}

static void add(const char *word) {
    Line *line = &lines[many];
    char rest[80];
    if (many == MOST) exit(2);
    memset(line, 0, sizeof *line);
    line->kind = word[0];
    strncpy(rest, word + 2, sizeof rest - 1), rest[sizeof rest - 1] = 0;
    switch (line->kind) {
    case 'p': if (sscanf(rest, "%d:%d:%d:%d", &line->a, &line->b, &line->c, &line->d) != 4) exit(2); break;
    case 'l': if (sscanf(rest, "%d:%d", &line->a, &line->b) != 2) exit(2); break;
    case 's':
        if (sscanf(rest, "%c:%d", &line->port, &line->b) != 2) exit(2);
        avr_irq_register_notify(pin(line->port, line->b), pulsed, line);
        break;
    case 'x':
        if (sscanf(rest, "%d", &line->a) != 1) exit(2);
        memset(avr->data + line->a, 0xC5, avr->ramend + 1 - (uint32_t)line->a);
        break;
    case 'a': case 'z': if (sscanf(rest, "%d", &line->a) != 1) exit(2); break;
    case 'u':
        avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('1'), UART_IRQ_OUT_XON), room, &radio_may);
        avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('1'), UART_IRQ_OUT_XOFF), full, &radio_may);
        break;
    case 'i':
        if (sscanf(rest, "%c:%d", &line->port, &line->b) != 2) exit(2);
        put(line->port, line->b, 1);
        break;
    case 'c':
        if (sscanf(rest, "%c:%d:%c:%d", &line->port, &line->b, &line->port2, &line->d) != 4) exit(2);
        put(line->port, line->b, 0);
        put(line->port2, line->d, 0);
        break;
    case 'r':
        if (sscanf(rest, "%c:%d:%c:%d", &line->port, &line->b, &line->port2, &line->d) != 4) exit(2);
        avr_irq_register_notify(pin(line->port, line->b), triggered, line);
        put(line->port2, line->d, 0);
        break;
    default: exit(2);
    }
    many++;
}

/* One count: A leads while it counts up. */
static void edge(Line *line, int up) {
    static const int A[4] = {0, 1, 1, 0}, B[4] = {0, 0, 1, 1};
    line->phase = (line->phase + (up ? 1 : 3)) & 3;
    put(line->port, line->b, A[line->phase]);
    put(line->port2, line->d, B[line->phase]);
}

static avr_cycle_count_t step_begins, step_cycles;

/* What moves outside, looked at every 20 us; a chip that sleeps wakes for it. */
static avr_cycle_count_t move(struct avr_t *chip, avr_cycle_count_t when, void *param) {
    (void)chip, (void)param;
    for (int k = 0; k < many; k++) {
        Line *line = &lines[k];
        if (line->kind == 'c' && line->number) {
            int32_t all = abs(line->number), due = (int32_t)((avr->cycle - step_begins + 400) * (uint64_t)all / step_cycles);
            if (due > all) due = all;
            if (line->made < due) line->made++, edge(line, line->number > 0);
        }
        if (line->kind == 'r' && line->due) {
            int high = avr->cycle >= line->due && avr->cycle < line->until;
            if (high != line->phase) put(line->port2, line->d, high), line->phase = high;
            if (avr->cycle >= line->until) line->due = 0;
        }
    }
    return when + 320;
}

static void no_sleep(avr_t *chip, avr_cycle_count_t cycles) { (void)chip, asleep += cycles + 1; }

static void take(void *to, size_t size) {
    if (size && fread(to, size, 1, stdin) != 1) exit(0);
}

static int32_t now(Line *line) {
    uint8_t *m = avr->data;
    switch (line->kind) {
    case 'p': return m[line->a] >> line->b & 1 ? m[line->c] | (line->d ? m[line->c + 1] << 8 : 0) : 0;
    case 'l': return m[line->a] >> line->b & 1 & m[line->a - 1] >> line->b;
    case 'x': return (int32_t)untouched((uint32_t)line->a);
    case 'z': line->number = (int32_t)asleep, asleep = 0; return line->number;
    default: return line->number;
    }
}

static int remember(int count, char **words) {
    uint32_t flag = (uint32_t)atol(words[5]), end = (uint32_t)atol(words[6]), at, size;
    while (avr->cycle < avr->frequency / 10) avr_run(avr);   /* it has begun, and waits */
    memset(avr->data + end, 0xC5, ((uint32_t)avr->data[0x5E] << 8 | avr->data[0x5D]) - 8 - end);
    for (;;) {
        for (int k = 7; k < count; k++) {
            if (sscanf(words[k], "in:%u:%u", &at, &size) != 2) continue;
            take(avr->data + at, size);
        }
        avr_cycle_count_t begin = avr->cycle;
        avr->data[flag] = 1;
        while (avr->data[flag] && avr->cycle < begin + 10 * (avr_cycle_count_t)avr->frequency) {
            int state = avr_run(avr);
            if (state == cpu_Done || state == cpu_Crashed) return 4;
        }
        uint32_t head[2] = {(uint32_t)(avr->cycle - begin), untouched(end)};
        fwrite(head, sizeof head, 1, answers);
        for (int k = 7; k < count; k++)
            if (sscanf(words[k], "out:%u:%u", &at, &size) == 2) fwrite(avr->data + at, size, 1, answers);
        fflush(answers);
    }
}

int main(int count, char **words) {
    elf_firmware_t program;
    memset(&program, 0, sizeof program);
    answers = fdopen(dup(1), "wb");
    dup2(2, 1);
    if (count < 4 || elf_read_firmware(words[1], &program)) return 2;
    avr = avr_make_mcu_by_name(words[2]);
    if (!avr) return 3;
    avr->log = LOG_ERROR;
    avr_init(avr);
    program.frequency = (uint32_t)atol(words[3]);
    avr_load_firmware(avr, &program);
    avr->frequency = (uint32_t)atol(words[3]);
    avr->sleep = no_sleep;
    avr->vcc = avr->avcc = avr->aref = 5000;
    if (count > 6 && !strcmp(words[4], "memory")) return remember(count, words);
    for (int k = 4; k < count; k++) add(words[k]);
    uint32_t flags = 0;
    avr_ioctl(avr, AVR_IOCTL_UART_GET_FLAGS('0'), &flags);
    flags &= ~(uint32_t)(AVR_UART_FLAG_STDIO | AVR_UART_FLAG_POLL_SLEEP);
    avr_ioctl(avr, AVR_IOCTL_UART_SET_FLAGS('0'), &flags);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUTPUT), heard, NULL);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUT_XON), room, &may_send);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUT_XOFF), full, &may_send);
    avr_cycle_timer_register(avr, 320, move, NULL);
    for (;;) {
        uint32_t head[2];
        take(head, sizeof head);
        if (head[1] > sizeof in) return 2;
        take(in, head[1]);
        in_used = (int)head[1], in_at = 0;
        for (int k = 0; k < many; k++) {
            Line *line = &lines[k];
            if (!strchr("cariu", line->kind)) continue;
            take(&line->number, sizeof line->number);
            if (line->kind == 'i') put(line->port, line->b, !line->number);
            if (line->kind == 'u') {
                if (radio_at == radio_used) radio_at = radio_used = 0;
                if (line->number < 0 || line->number > BYTES - radio_used) return 2;
                take(radio_in + radio_used, (size_t)line->number);
                radio_used += line->number;
            }
            if (line->kind == 'c') line->number += line->left;  /* an edge that the last step had no time for */
            line->made = 0;
            if (line->kind == 'a') avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_ADC_GETIRQ, ADC_IRQ_ADC0 + line->a), (uint32_t)line->number);
        }
        avr_cycle_count_t end = avr->cycle + head[0];
        step_begins = avr->cycle, step_cycles = head[0];
        while (avr->cycle < end) {
            int state = avr_run(avr);
            if (state == cpu_Done || state == cpu_Crashed) return 4;
            if (wrong) put_right();
            if (in_at < in_used && may_send) avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_INPUT), in[in_at++]);
            if (radio_at < radio_used && radio_may) avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('1'), UART_IRQ_INPUT), radio_in[radio_at++]);
        }
        for (int k = 0; k < many; k++)
            if (lines[k].kind == 'c') lines[k].left = lines[k].number - (lines[k].number < 0 ? -lines[k].made : lines[k].made);
        for (int k = 0; k < many; k++)
            if (strchr("plsxz", lines[k].kind)) {
                int32_t value = now(&lines[k]);
                fwrite(&value, sizeof value, 1, answers);
            }
        head[0] = (uint32_t)(in_used - in_at), head[1] = (uint32_t)out_used;
        fwrite(head, sizeof head, 1, answers);
        fwrite(out, 1, (size_t)out_used, answers);
        out_used = 0;
        fflush(answers);
    }
}
