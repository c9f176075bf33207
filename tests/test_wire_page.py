"""The programs on the page docs/wire.md, compiled as they stand and talked to."""

import json
import re
import subprocess
from pathlib import Path

import numpy as np

from pivrex.devices.robot_sentences import Back, Out, out_sentences, read_sensed
from pivrex.devices.sentence import frame, unframe
from tests.support import PLAIN, ROOT, TempCase
from tests.test_cli import Ran
from tests.test_remotes import PACKETS, feed, reader

PAGE = (ROOT / "docs" / "wire.md").read_text("utf-8")
HEAD = "#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\n#include <math.h>\n#include <stdint.h>\nstatic void send(const char *s) { fputs(s, stdout); }\n"


class WirePageTest(TempCase):
    def build(self, code: str, main: str) -> Path:
        source, program = self.write("page.c", HEAD + code + main), self.folder / "page"
        subprocess.run(
            ["gcc", "-std=c99", "-Wall", "-Werror", "-Wno-format-truncation", "-o", str(program), str(source), "-lm"],
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

    def robot(self, code: str, motor: str = 'printf("motor %d %g\\n", i, v);') -> Path:
        """Compile a robot's end; it reads lines, and `T` with a time in ms sets its clock."""
        board = "static unsigned long now; static unsigned long millis(void) { return now; }\n"
        board += f"static void motor(int i, float v) {{ {motor} }}\n"
        main = 'int main(void) { char l[300]; while (fgets(l, 300, stdin)) { l[strcspn(l, "\\r\\n")] = 0;\n'
        main += "if (l[0] == 'T') now = atol(l + 1); else on_line(l); on_every_loop(); } return 0; }\n"
        return self.build(board + code, main)

    def said(self, program: Path, lines: list[str]) -> list[str]:
        done = subprocess.run([program], input="".join(lines), capture_output=True, text=True, check=True)
        return done.stdout.splitlines()

    def test_a_robots_end(self) -> None:
        rig = self.write("plain.toml", PLAIN)
        wire = json.loads(Ran("wire", str(rig), "--json").out)
        self.assertEqual((len(wire["out"]), len(wire["sensed"])), (2, 8))
        program = self.robot(self.block("static const char *HASH").replace("XXXXXXXX", wire["hash"]))

        def out(seq: int, drive: bool, value: float, echo: int | None = 2000) -> str:
            return b"".join(out_sentences(Out(seq, echo, drive), wire["hash"], np.array([value, value]))).decode()

        lines = [
            "T2000\n",
            out(1, True, 0.5),
            out(2, False, 0.0, None),
            out(3, True, 0.25),
            out(3, True, 1.0),
            "T2100\n",
        ]
        lines += [out(4, True, 0.75), "T2249\n", "T2251\n", out(5, True, 1.0, 2200), out(6, False, 0, 2200)]
        lines += [out(7, True, 0.5, 2240), out(8, True, 1.0, 2240).replace("0.5", "0.6").replace("1,1*", "1,2*")]
        said = self.said(program, lines)
        moved = [float(r.split()[2]) for r in said if r.startswith("motor 0")]
        # drive before rest, rest, drive, (repeated), drive, the watchdog, drive before rest, rest, drive, (damaged)
        self.assertEqual(moved, [0, 0, 0.25, 0.75, 0, 0, 0, 0.5])
        sensed = [read_sensed(unframe(r.encode()).split(","), 8)[0] for r in said if r.startswith("$PIVSEN")]
        self.assertEqual(sensed[0], Back(2000, None, 2))  # with the greeting
        self.assertEqual([b.state for b in sensed[1:]], [2, 0, 1, 1, 2, 0, 1])
        self.assertEqual([b.ack for b in sensed[1:]], [1, 2, 3, 4, 5, 6, 7])
        self.assertEqual(sensed[-1].stamp, 2251)
        greeting = next(r for r in said if r.startswith("$PIVHEY"))
        self.assertEqual(unframe(greeting.encode()), f"PIVHEY,mine,{wire['hash']}")

    def test_a_robots_end_under_attack(self) -> None:
        """A robot that drives: what comes next must change nothing, or rest it."""
        program = self.robot(self.block("static const char *HASH").replace("XXXXXXXX", "ABCD1234"))
        begin = ["T9000\n", framed("PIVOUT,1,,0,ABCD1234"), framed("PIVOUT,2,9000,1,ABCD1234,0.5,0.5")]

        def after(*lines: str) -> list[float]:
            said = self.said(program, [*begin, *lines])
            return [float(r.split()[2]) for r in said if r.startswith("motor 0")][2:]

        for body in (
            "PIVOUT,3,9000,1,ABCD1234,nan,1", "PIVOUT,3,9000,1,ABCD1234,inf,1", "PIVOUT,3,9000,1,ABCD1234,,1",
            "PIVOUT,3,9000,1,ABCD1234,1", "PIVOUT,3,9000,1,ABCD1234,1,1,1", "PIVOUT,3,9000,1,ABCD1234,1,1x",
            "PIVOUT,3,9000,2,ABCD1234,1,1", "PIVOUT,3,9000,-1,ABCD1234,1,1", "PIVOUT,3,9000,,ABCD1234,1,1",
            "PIVOUT,3,9000,1,ABCD1235,1,1", "PIVOUT,3,9000,1,ABCD12345,1,1", "PIVOUT,,9000,1,ABCD1234,1,1",
            "PIVOUT,x,9000,1,ABCD1234,1,1", "PIVOUT,3,-1,1,ABCD1234,1,1", "PIVOUT,3,,1,ABCD1234,1,1",
            "PIVOUT,3,8700,1,ABCD1234,1,1",  # stamped 300 ms ago
            "PIVOUT,3,9100,1,ABCD1234,1,1",  # stamped in the future, which is 65 s ago
            "PIVOUT,2,9000,1,ABCD1234,1,1", "PIVOUT,1,9000,1,ABCD1234,1,1", "PIVOUT,40000,9000,1,ABCD1234,1,1",
            "PIVOUTX,3,9000,1,ABCD1234,1,1", "PIVOUT", "", "PIVSEN,3,9000,1,ABCD1234,1,1",
        ):  # fmt: skip
            self.assertEqual(after(framed(body)), [], body)
        for line in (
            "$PIVOUT,3,9000,1,ABCD1234,1,1*00\n",
            "$PIVOUT,3,9000,1,ABCD1234,1,1\n",
            "*\n",
            "$*\n",
            "$" * 250 + "\n",
        ):
            self.assertEqual(after(line), [], line)
        # a stale drive, after two seconds in which nothing was looked at: first of all it rests
        self.assertEqual(after("T11000\n", framed("PIVOUT,3,9000,1,ABCD1234,1,1")), [0.0])
        self.assertEqual(after("T11000\n", framed("PIVOUT,3,11000,1,ABCD1234,1,1")), [0.0, 0.0])
        # its answers do not come through any more: sentences go on, their echo does not
        going = [s for t in range(9020, 9400, 20) for s in (f"T{t}\n", framed(f"PIVOUT,{t},9000,1,ABCD1234,0.25,0.25"))]
        moved = after(*going)
        self.assertEqual((moved.count(0.25), moved[-1]), (12, 0.0))  # up to 9240

    def test_a_robots_end_that_joins_parts(self) -> None:
        """Both programs of the page together: sixteen values in two parts, one part lost, a rest by its first part."""
        code = (
            self.block("static const char *HASH").replace("XXXXXXXX", "ABCD1234").replace("int OUT = 2", "int OUT = 60")
        )
        code = code.replace("float value[2]", "float value[60]").replace(
            "    if (strncmp(body, ", "    body = join(body); if (body == NULL) return;\n    if (strncmp(body, "
        )
        before = "static void obey"
        code = code.replace(before, self.block("/* Give a whole") + before)
        program = self.robot(code, 'if (i == 59) printf("motor %g\\n", v);')

        def out(seq: int, drive: bool, value: float) -> list[str]:
            found = out_sentences(Out(seq, 7, drive), "ABCD1234", np.full(60, value))
            self.assertGreater(len(found), 1)
            return [s.decode() for s in found]

        lines = ["T7\n", *out(1, False, 0.125), *out(2, True, 0.125), *out(3, True, 0.1875)[1:], *out(4, True, 0.3125)]
        lines += [*out(5, True, 0.5)[:1], *out(6, True, 0.5)[1:], *out(7, False, 0.3125)[:1]]
        moved = [float(r.split()[1]) for r in self.said(program, lines) if r.startswith("motor")]
        # of a rest in parts each is one; the second says nothing new
        self.assertEqual(moved, [0, 0.125, 0.3125, 0])


def framed(body: str) -> str:
    return frame(body).decode("ascii")
