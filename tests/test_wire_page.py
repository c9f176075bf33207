"""The programs on the page docs/wire.md, compiled as they stand and talked to."""

import json
import re
import subprocess
from pathlib import Path

import numpy as np

from pivrex.devices.robot_sentences import out_sentences, read_sensed
from pivrex.devices.sentence import unframe
from tests.support import PLAIN, ROOT, TempCase
from tests.test_cli import Ran
from tests.test_remotes import PACKETS, feed, reader

PAGE = (ROOT / "docs" / "wire.md").read_text("utf-8")
HEAD = "#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\nstatic void send(const char *s) { fputs(s, stdout); }\n"


class WirePageTest(TempCase):
    def build(self, code: str, main: str) -> Path:
        source, program = self.write("page.c", HEAD + code + main), self.folder / "page"
        subprocess.run(
            ["gcc", "-std=c99", "-Wall", "-Werror", "-Wno-format-truncation", "-o", str(program), str(source)],
            check=True,
        )
        return program

    def block(self, begins: str) -> str:
        blocks: list[str] = re.findall(r"```c\n(.*?)```", PAGE, re.DOTALL)
        return next(b for b in blocks if b.startswith(begins))

    def test_the_example_of_a_packet_is_right(self) -> None:
        (line,) = [r.strip() for r in PAGE.splitlines() if r.strip().startswith("$PIVDRV,green")]
        (message,) = feed(reader(PACKETS), line.encode() + b"\n")
        self.assertEqual(message.fault, "")

    def test_a_radio_in_ten_lines(self) -> None:
        code = self.block("void packet")
        self.assertLessEqual(len(code.strip().splitlines()), 12)
        main = "int main(void) { packet(0.25f, -1, 0); packet(-0.5f, 0, 0x21); return 0; }\n"
        said = subprocess.run([self.build(code, main)], capture_output=True, check=True).stdout
        first, second = feed(reader(PACKETS), said)
        self.assertEqual((first.fault, second.fault, second.missed), ("", "", 0))
        assert first.readings is not None and second.readings is not None
        self.assertEqual((first.readings["left_x"], first.readings["left_y"]), (0.25, -1.0))
        self.assertEqual([n for n in range(16) if second.readings.get(f"button_{n}")], [0, 5])

    def test_a_robots_end(self) -> None:
        rig = self.write("plain.toml", PLAIN)
        wire = json.loads(Ran("wire", str(rig), "--json").out)
        self.assertEqual((len(wire["out"]), len(wire["sensed"])), (2, 8))
        code = self.block("static const char *HASH").replace("XXXXXXXX", wire["hash"])
        board = "static unsigned long now; static unsigned long millis(void) { return now; }\n"
        board += 'static void motor(int i, float v) { printf("motor %d %g\\n", i, v); }\n'
        main = 'int main(void) { char l[300]; while (fgets(l, 300, stdin)) { l[strcspn(l, "\\r\\n")] = 0;\n'
        main += "if (l[0] == 'T') now = atol(l + 1); else on_line(l); on_every_loop(); } return 0; }\n"

        def out(seq: int, drive: bool, value: float) -> str:
            return b"".join(out_sentences(seq, drive, wire["hash"], np.array([value, value]))).decode()

        lines = ["T2000\n", out(1, True, 0.5), out(2, False, 0.0), out(3, True, 0.25), out(3, True, 1.0), "T2100\n"]
        lines += [out(4, True, 0.75), "T2249\n", "T2251\n", out(5, True, 1.0), out(6, False, 0), out(7, True, 0.5)]
        lines += [out(8, True, 1.0).replace("1,1*", "1,2*")]
        program = self.build(board + code, main)
        said = subprocess.run(
            [program], input="".join(lines), capture_output=True, text=True, check=True
        ).stdout.splitlines()
        moved = [row for row in said if row.startswith("motor 0")]
        # drive before rest, rest, drive, (repeated), drive, the watchdog, drive before rest, rest, drive, (damaged)
        self.assertEqual([float(r.split()[2]) for r in moved], [0, 0, 0.25, 0.75, 0, 0, 0, 0.5])
        states = [read_sensed(unframe(r.encode()).split(","), 8)[1] for r in said if r.startswith("$PIVSEN")]
        self.assertEqual(states, [2, 0, 1, 1, 2, 0, 1])
        greeting = next(r for r in said if r.startswith("$PIVHEY"))
        self.assertEqual(unframe(greeting.encode()), f"PIVHEY,mine,{wire['hash']}")

    def test_a_robots_end_that_joins_parts(self) -> None:
        """Both programs of the page together: sixteen values in two parts, one part lost, a rest by its first part."""
        code = (
            self.block("static const char *HASH").replace("XXXXXXXX", "ABCD1234").replace("int OUT = 2", "int OUT = 60")
        )
        code = code.replace("float value[2]", "float value[60]")
        code = code.replace(
            '    if (sscanf(line, "$PIVOUT',
            '    line = join(line); if (line == NULL) return;\n    if (sscanf(line, "$PIVOUT',
        )
        code = code.replace(
            "for (int i = 0; i < OUT; i++) {\n        if (*at",
            "for (int i = 0; drive && i < OUT; i++) {\n        if (*at",
        )
        board = "static unsigned long now; static unsigned long millis(void) { return now; }\n"
        board += 'static void motor(int i, float v) { if (i == 59) printf("motor %g\\n", v); }\n'
        main = 'int main(void) { char l[300]; while (fgets(l, 300, stdin)) { l[strcspn(l, "\\r\\n")] = 0; on_line(l); } return 0; }\n'
        program = self.build(board + self.block("/* Give a whole") + code, main)

        def out(seq: int, drive: bool, value: float) -> list[str]:
            found = out_sentences(seq, drive, "ABCD1234", np.full(60, value))
            self.assertGreater(len(found), 1)
            return [s.decode() for s in found]

        lines = [*out(1, False, 0.125), *out(2, True, 0.125), *out(3, True, 0.1875)[1:], *out(4, True, 0.3125)]
        lines += out(5, False, 0.3125)[:1]
        said = subprocess.run([program], input="".join(lines), capture_output=True, text=True, check=True).stdout
        moved = [float(r.split()[1]) for r in said.splitlines() if r.startswith("motor")]
        self.assertEqual(moved, [0, 0.125, 0.3125, 0])
