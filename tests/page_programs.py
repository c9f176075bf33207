"""The programs on the page docs/wire.md, put together and compiled as the page says."""

from __future__ import annotations

import re
import subprocess
import unittest
from pathlib import Path
from shutil import which

from tests.support import ROOT

PAGE = (ROOT / "docs" / "wire.md").read_text("utf-8")
HEAD = "".join(f"#include <{name}.h>\n" for name in ("stdio", "stdlib", "string", "math", "stdint"))
TO_STDOUT = "static void send(const char *s) { fputs(s, stdout); }\n"
CLOCK = "static unsigned long now; static unsigned long millis(void) { return now; }\n"

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
ROBOT_MAIN = """
int main(int count, char **words) {
    struct sockaddr_in me = {.sin_family = AF_INET, .sin_port = htons(atoi(words[1]))}, from;
    char data[2048];
    (void)count;
    inet_aton("127.0.0.1", &me.sin_addr);
    fd = socket(AF_INET, SOCK_DGRAM, 0);
    if (bind(fd, (struct sockaddr *)&me, sizeof me)) return 1;
    puts("ready");
    for (;;) {
        struct pollfd p = {fd, POLLIN, 0};
        on_every_loop();
        if (poll(&p, 1, 5) < 1) continue;
        socklen_t size = sizeof from;
        long got = recvfrom(fd, data, sizeof data - 1, 0, (struct sockaddr *)&from, &size);
        if (got < 1) continue;
        data[got] = 0;
        if (mode == 2) to = from, known = 1;   /* one partner, while it is heard */
        if (from.sin_port != to.sin_port) continue;
        for (char *line = strtok(data, "\\r\\n"); line; line = strtok(NULL, "\\r\\n")) on_line(line);
    }
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
    """Give the program on the page that begins so."""
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
    """Give the page's programs that seal, with a key and a session."""
    digits = ", ".join(f"0x{b:02x}" for b in key)
    ours = ("KEY[16] = {0}", f"KEY[16] = {{{digits}}}"), ("session = 1;", f"session = {session}UL;")
    return replaced(block("static const unsigned char KEY"), *ours)


def robot_code(rig_hash: str, key: bytes = b"", session: int = 1, values: int = 2, joins: bool = False) -> str:
    """Return the robot's end for so many values, with a key and joining parts as the page says how."""
    code = replaced(block("static const char *HASH"), ("XXXXXXXX", rig_hash), ("OUT = 2 }", f"OUT = {values} }}"))
    if joins:
        first = "    if (strncmp(body, "
        code = replaced(code, (first, "    body = join(body); if (body == NULL) return;\n" + first))
        code = replaced(code, ("static void obey", block("/* Give a whole") + "static void obey"))
    if not key:
        return code
    newer = "    unsigned long ahead = (seq - newest) & 0xFFFF;\n    return mode == 2 || (ahead > 0 && ahead < 32768);"
    code = replaced(
        code,
        ("    char line[300];\n", "    char line[300];\n    seal(body, session);\n"),
        ("    obey(line + 1);", "    if (!unseal(line + 1, session)) return;\n    obey(line + 1);"),
        (newer, "    return !any || seq > newest;"),
    )
    return seals(key, session) + code


def radio_code(key: bytes = b"", session: int = 1) -> str:
    """Give the radio in ten lines, with a key as the page says how."""
    code = block("void packet")
    if not key:
        return code
    longer = ("body[80], line[90]", "body[120], line[130]")
    code = replaced(code, longer, ("    for (char *c = body", "    seal(body, session);\n    for (char *c = body"))
    return seals(key, session) + code
