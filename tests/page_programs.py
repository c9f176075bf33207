"""The programs on the page docs/wire.md, put together and compiled as the page says."""

from __future__ import annotations

import re
import subprocess
import unittest
from pathlib import Path
from shutil import which

from pivrex.board.folder import board_files
from pivrex.rig import Rig
from tests.support import ROOT

PAGE = (ROOT / "docs" / "wire.md").read_text("utf-8")
HEAD = "".join(f"#include <{name}.h>\n" for name in ("stdio", "stdlib", "string", "math", "stdint"))
TO_STDOUT = "static void send(const char *s) { fputs(s, stdout); }\n"
SOCKETS = "".join(
    f"#include <{name}.h>\n" for name in ("arpa/inet", "sys/socket", "sys/time", "time", "unistd", "poll")
)
TO_SOCKET = """\
static int fd; static struct sockaddr_in to; static int known;
static void send_to(const char *s) { if (known) sendto(fd, s, strlen(s), 0, (struct sockaddr *)&to, sizeof to); }
#define send send_to
static unsigned long millis(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1000UL + t.tv_nsec / 1000000;
}
"""
RADIO_MAIN = """
int main(int count, char **words) {
    char line[40];
    float y = 0;
    (void)count;
    to.sin_family = AF_INET, to.sin_port = htons(atoi(words[1])), known = 1;
    inet_aton("127.0.0.1", &to.sin_addr);
    fd = socket(AF_INET, SOCK_DGRAM, 0);
    for (;;) {
        struct pollfd p = {0, POLLIN, 0};
        packet(0, y, 0);
        if (poll(&p, 1, 20) == 1) {
            if (!fgets(line, sizeof line, stdin)) return 0;
            y = atof(line);
        }
        (void)millis;
    }
}
"""


def block(begins: str) -> str:
    """Return the program on the page that begins so."""
    blocks: list[str] = re.findall(r"```c\n(.*?)```", PAGE, re.DOTALL)
    return next(b for b in blocks if b.startswith(begins))


def build(folder: Path, name: str, code: str, *more: str) -> Path:
    """Compile a program without any warning, with more words for the compiler."""
    if which("gcc") is None:
        raise unittest.SkipTest("needs gcc")
    source, program = folder / f"{name}.c", folder / name
    source.write_text(HEAD + code)
    words = [
        "gcc",
        "-std=gnu99",
        "-Wall",
        "-Wextra",
        "-Werror",
        "-Wno-format-truncation",
        "-Wno-unused-function",
        "-Wno-unused-variable",
    ]
    subprocess.run([*words, *more, "-o", str(program), str(source), "-lm"], check=True)
    return program


def replaced(code: str, *pairs: tuple[str, str]) -> str:
    """Make the changes that the page tells; each must be possible."""
    for old, new in pairs:
        assert old in code, old
        code = code.replace(old, new)
    return code


def seals(key: bytes, session: int) -> str:
    """Return the page's programs that seal, with a key and a session."""
    digits = ", ".join(f"0x{b:02x}" for b in key)
    ours = ("KEY[16] = {0}", f"KEY[16] = {{{digits}}}"), ("session = 1;", f"session = {session}UL;")
    return replaced(block("static const unsigned char KEY"), *ours)


SANITIZED = "-fsanitize=address,undefined", "-fno-sanitize-recover=all", "-g"

TEST_BOARD = """\
/* Lines from standard input: T with a time in ms sets the clock, all others come over the link; before one that begins with L
   and a time it becomes so late while its first byte is read. */
#include <stdio.h>
#include <stdlib.h>
#include "robot.h"
static uint32_t now, late;
static char line[2000];
static int at, size;
void board_begin(void) {}
uint32_t board_ms(void) { return now; }
int board_read(void) {
    if (late) now = late, late = 0;
    return at < size ? (unsigned char)line[at++] : -1;
}
int board_room(void) { return 1; }
void board_write(const char *text, int many) { fwrite(text, 1, (size_t)many, stdout); }
void board_pwm(int pin, long duty) { printf("pwm %d %ld\\n", pin, duty); }
void board_level(int pin, int high) { printf("level %d %d\\n", pin, high); }
void board_pulse(int pin, long us) { printf("pulse %d %ld\\n", pin, us); }
int32_t board_count(int encoder) { return 2147483647 - encoder; }
int32_t board_sensor(int sensor) { return 1023 - sensor; }
void mine_begin(void) {}
void mine_loop(void) {}
void mine_give(int n, real value) { printf("motor %d %g\\n", n, (double)value); }
real mine_sense(int n) { return R(-199999.9999) + (real)(n & 0); }
int main(void) {
    link_begin();
    while (fgets(line, sizeof line, stdin)) {
        if (line[0] == 'T') now = (uint32_t)strtoul(line + 1, NULL, 10);
        else at = 0, size = (int)strlen(line);
        if (line[0] == 'L') late = (uint32_t)strtoul(line + 1, NULL, 10), at = (int)(strchr(line, '$') - line);
        for (int k = 0; k < 9; k++) link_loop(), sense_loop();
    }
    return 0;
}
"""


def robot_program(folder: Path, rig: Rig, *more: str) -> Path:
    """Build the program that `pivrex board --for c` writes for a rig, on a board that reads lines; without any warning."""
    own = folder / f"robot-{len(list(folder.iterdir()))}"
    own.mkdir(parents=True)
    for name, text in board_files(rig, "c")[0].items():
        (own / name).write_text(text)
    (own / "test.c").write_text(TEST_BOARD)
    sources = ["link.c", "sentence.c", "seal.c", "rig.c", "line.c", "test.c"]
    words = ["gcc", "-std=c99", "-O1", "-Wall", "-Wextra", "-Werror", *more, "-o", "robot", *sources, "-lm"]
    subprocess.run(words, check=True, cwd=own)
    return own / "robot"


def radio_code(key: bytes = b"", session: int = 1) -> str:
    """Return the radio in ten lines, with a key as the page says how."""
    code = block("void packet")
    if not key:
        return code
    longer = ("body[80], line[90]", "body[120], line[130]")
    code = replaced(code, longer, ("    for (char *c = body", "    seal(body, session);\n    for (char *c = body"))
    return seals(key, session) + code
