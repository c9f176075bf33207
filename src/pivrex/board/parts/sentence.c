/* Sentences as docs/wire.md has them: written, checked and read. */
#include "robot.h"

/* --- what is said --- */

static char out[LONGEST_BACK];
static int used;

void put(char c) { out[used++] = c; }
void put_text(const char *s) { while (*s) put(*s++); }

void put_unsigned(uint32_t v) {
    char digits[10];
    int n = 0;
    uint16_t small;
    for (; v > 0xFFFF; v /= 10) digits[n++] = (char)('0' + v % 10);
    small = (uint16_t)v;                       /* a small chip divides these much quicker */
    do digits[n++] = (char)('0' + small % 10);
    while (small /= 10);
    while (n) put(digits[--n]);
}

void put_whole(int32_t v) {
    if (v < 0) put('-');
    put_unsigned(v < 0 ? 0u - (uint32_t)v : (uint32_t)v);
}

/* Four digits behind the point; nothing for what is not known, or is too large to be true. */
void put_real(real v) {
    int32_t whole_part, rest;
    if (!(v > R(-200000.0) && v < R(200000.0))) return;
    if (v < 0) v = -v, put('-');
    whole_part = (int32_t)v;
    rest = (int32_t)((v - (real)whole_part) * R(10000.0) + R(0.5));
    if (rest > 9999) rest -= 10000, whole_part++;
    put_whole(whole_part);
    put('.');
    for (uint16_t left = (uint16_t)rest, tens = 1000; tens; left %= tens, tens /= 10) put((char)('0' + left / tens));
}

char hex_digit(unsigned digit) { return "0123456789ABCDEF"[digit & 15]; }

void open_sentence(const char *kind) {
    used = 0;
    put('$');
    put_text(kind);
}

void say_sentence(int sealed) {
    uint8_t check = 0;
#ifdef RIG_KEY
    if (sealed) used += seal(out + 1, used - 1);
#endif
    (void)sealed;
    for (int i = 1; i < used; i++) check ^= (uint8_t)out[i];
    put('*'), put(hex_digit(check >> 4)), put(hex_digit(check)), put('\r'), put('\n');
    board_write(out, used);
}

/* A line that is no sentence: numbers, as a bare stick says them. */
void open_line(void) { used = 0; }

void say_line(void) {
    put('\r'), put('\n');
    board_write(out, used);
}

/* --- what is heard --- */

int of_hex(char c) { return c >= '0' && c <= '9' ? c - '0' : (c | 32) >= 'a' && (c | 32) <= 'f' ? (c | 32) - 'a' + 10 : -1; }

/* Whether a line is a whole sentence: then its check is cut off, and it begins behind the $. */
char *sentence(char *line, int size) {
    uint8_t check = 0;
    if (size < 4 || line[0] != '$' || line[size - 3] != '*' || of_hex(line[size - 2]) < 0 || of_hex(line[size - 1]) < 0) return NULL;
    for (int i = 1; i < size - 3; i++) {
        if (line[i] == '$' || line[i] == '*') return NULL;
        check ^= (uint8_t)line[i];
    }
    if (check != of_hex(line[size - 2]) * 16 + of_hex(line[size - 1])) return NULL;
    line[size - 3] = 0;
    return line + 1;
}

/* A whole number: 1 if there is one, 0 if the field is empty, -1 if it is none. `ends` are the characters that may follow. */
int read_whole(char **at, uint32_t *value, const char *ends) {
    int digits = 0;
    *value = 0;
    for (; **at >= '0' && **at <= '9'; ++*at) {
        uint32_t digit = (uint32_t)(**at - '0');
        if (++digits > 10 || *value > 429496729u || (*value == 429496729u && digit > 5)) return -1;
        *value = *value * 10 + digit;
    }
    return !strchr(ends, **at) ? -1 : digits > 0;
}

/* A number with a point and a power, as 0.5, -12 or 3e-05; 0 if it is none. */
int read_decimal(char **at, real *value) {
    real v = 0;
    int digits = 0, power = 0, point = 0, minus = **at == '-';
    if (minus || **at == '+') ++*at;
    for (; (**at >= '0' && **at <= '9') || (**at == '.' && !point); ++*at) {
        if (**at == '.') point = 1;
        else if (++digits > 30) return 0;
        else v = v * R(10.0) + (real)(**at - '0'), power -= point;
    }
    if (!digits) return 0;
    if (**at == 'e' || **at == 'E') {
        int further = 0, less = (*at)[1] == '-';
        *at += (*at)[1] == '-' || (*at)[1] == '+' ? 2 : 1;
        if (**at < '0' || **at > '9') return 0;
        for (; **at >= '0' && **at <= '9'; ++*at) if (further < 100) further = further * 10 + (**at - '0');
        power += less ? -further : further;
    }
    for (; power > 0 && v < LARGE_REAL; power--) v *= R(10.0);
    for (; power < 0 && v > 0; power++) v /= R(10.0);
    if (!(v < LARGE_REAL)) return 0;
    *value = minus ? -v : v;
    return 1;
}
