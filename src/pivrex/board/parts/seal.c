/* The seal of sentences: HMAC-SHA256 (RFC 2104, FIPS 180-4), its first 8 bytes. */
#include "robot.h"
#ifdef RIG_KEY

static CONSTANT uint8_t KEY[16] = RIG_KEY;
static uint32_t session;                       /* random, new at each start */

static CONSTANT uint32_t ROUNDS[64] = {           /* FIPS 180-4, 4.2.2 */
    0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
    0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
    0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
    0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
    0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
    0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
    0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
    0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2};

typedef struct { uint32_t h[8]; union { uint8_t bytes[64]; uint32_t words[16]; } block; uint32_t bytes; } Sha;

/* Rotations, from steps that are short on an 8-bit processor. */
static inline uint32_t r1(uint32_t x) { return x >> 1 | x << 31; }
static inline uint32_t l1(uint32_t x) { return x << 1 | x >> 31; }
static inline uint32_t r8(uint32_t x) { return x >> 8 | x << 24; }
static inline uint32_t r16(uint32_t x) { return x >> 16 | x << 16; }

static void sha_block(Sha *s) {
    uint32_t *w = s->block.words, v[8];
    memcpy(v, s->h, sizeof v);
    for (int i = 0; i < 64; i++) {
        if (i < 16) {
            uint8_t *b = s->block.bytes + 4 * i;
            w[i] = (uint32_t)b[0] << 24 | (uint32_t)b[1] << 16 | (uint32_t)b[2] << 8 | b[3];
        } else {
            uint32_t a = w[(i + 1) & 15], e = w[(i + 14) & 15];
            a = l1(r8(a)) ^ r1(r1(r16(a))) ^ a >> 3;                        /* by 7, by 18 */
            e = r1(r16(e)) ^ r1(r1(r1(r16(e)))) ^ e >> 8 >> 2;              /* by 17, by 19 */
            w[i & 15] += a + w[(i + 9) & 15] + e;
        }
        uint32_t a = v[0], e = v[4], e8 = r8(e);
        uint32_t one = l1(l1(e8)) ^ r1(r1(r1(e8))) ^ r1(r16(e8));           /* by 6, by 11, by 25 */
        uint32_t two = r1(r1(a)) ^ l1(l1(l1(r16(a)))) ^ l1(l1(r8(r16(a)))); /* by 2, by 13, by 22 */
        one += v[7] + ((e & v[5]) ^ (~e & v[6])) + ROUNDS[i] + w[i & 15];
        two += (a & v[1]) ^ (a & v[2]) ^ (v[1] & v[2]);
        memmove(v + 1, v, 7 * sizeof *v);
        v[4] += one;
        v[0] = one + two;
    }
    for (int i = 0; i < 8; i++) s->h[i] += v[i];
}

static void sha_begin(Sha *s) {
    static const uint32_t FIRST[8] = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a, 0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};
    memcpy(s->h, FIRST, sizeof FIRST);
    s->bytes = 0;
}

static void sha_add(Sha *s, const void *data, size_t count) {
    for (const uint8_t *d = data; count--; d++) {
        s->block.bytes[s->bytes++ & 63] = *d;
        if ((s->bytes & 63) == 0) sha_block(s);
    }
}

static void sha_end(Sha *s, uint8_t *out) {
    uint32_t bits = s->bytes * 8;
    uint8_t size[8] = {0, 0, 0, 0, bits >> 24, bits >> 16 & 255, bits >> 8 & 255, bits & 255};
    sha_add(s, "\x80", 1);
    while ((s->bytes & 63) != 56) sha_add(s, "", 1);
    sha_add(s, size, 8);
    for (int i = 0; i < 32; i++) out[i] = s->h[i / 4] >> (24 - 8 * (i % 4)) & 255;
}

static uint32_t inner[8], outer[8];            /* what the key makes of the hash, computed once */

/* RFC 2104, for keys of at most 64 bytes */
static void pad_key(uint32_t *h, uint8_t with) {
    Sha s;
    sha_begin(&s);
    for (size_t i = 0; i < 64; i++) s.block.bytes[i] = (i < sizeof KEY ? KEY[i] : 0) ^ with;
    sha_block(&s);
    memcpy(h, s.h, sizeof s.h);
}

static void hmac(const char *text, uint8_t *out) {
    Sha s;
    memcpy(s.h, inner, sizeof inner);
    s.bytes = 64;
    sha_add(&s, text, strlen(text));
    sha_end(&s, out);
    memcpy(s.h, outer, sizeof outer);
    s.bytes = 64;
    sha_add(&s, out, 32);
    sha_end(&s, out);
}

static int write_session(char *to) {
    char digits[10];
    int n = 0, size = 0;
    uint32_t left = session;
    do digits[n++] = (char)('0' + left % 10);
    while (left /= 10);
    while (n) to[size++] = digits[--n];
    return size;
}

void seal_begin(void) {
    uint32_t noise = board_ms();
    for (int k = 0; k < 64; k++) noise = noise * 1664525u + 1013904223u + (uint32_t)board_sensor(NOISE_SENSOR);
    session = noise | 1;
    pad_key(inner, 0x36);
    pad_key(outer, 0x5c);
}

/* Seal a body; gives by how much longer it is now. */
int seal(char *body, int size) {
    uint8_t tag[32];
    int before = size;
    body[size++] = ',';
    size += write_session(body + size);
    body[size] = 0;
    hmac(body, tag);
    body[size++] = ',';
    for (int i = 0; i < 16; i++) body[size++] = hex_digit(i & 1 ? tag[i / 2] : tag[i / 2] >> 4);
    return size - before;
}

/* Cut the seal off, and say for which session it is; 0 if it is not right. */
int unseal(char *body, uint32_t *of) {
    uint8_t tag[32];
    unsigned wrong = 0;
    char *last = strrchr(body, ',');
    if (last == NULL || strlen(last) != 17) return 0;
    *last = 0;
    hmac(body, tag);
    for (int i = 0; i < 16; i++) wrong |= (unsigned)(of_hex(last[1 + i]) ^ (i & 1 ? tag[i / 2] & 15 : tag[i / 2] >> 4));
    last = strrchr(body, ',');
    if (wrong || last == NULL) return 0;
    *last++ = 0;
    return read_whole(&last, of, "") == 1;
}

uint32_t seal_session(void) { return session; }
void seal_session_is(uint32_t of) { session = of; }
#endif
