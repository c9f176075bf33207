"""The programs on the page docs/wire.md, compiled as they stand and talked to."""

import json
import os
import subprocess
import time
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.board.folder import write_board
from pivrex.board.parts import part
from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.decode.packets import PacketsReader
from pivrex.devices.robot_sentences import Back, Out, Parts, back_columns, out_sentences, read_sensed, wire_hash
from pivrex.devices.seal import HIGHEST, Seal, sealed
from pivrex.devices.sentence import frame, unframe
from pivrex.line import Line
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.sources import PacketsSource
from pivrex.rig.transports import Link
from pivrex.session.client import SessionClient
from pivrex.session.messages import SetUp, Stop
from tests.chassis import ALL, demo_path
from tests.page_programs import (
    PAGE,
    RADIO_MAIN,
    SANITIZED,
    SOCKETS,
    TO_SOCKET,
    TO_STDOUT,
    block,
    build,
    radio_code,
    replaced,
    robot_program,
    seals,
)
from tests.support import PLAIN, TempCase, often, slow
from tests.test_cli import Ran
from tests.test_lost_sources import free_port, radio
from tests.test_remotes import PACKETS, feed, reader
from tests.test_robot_link import LinkCase


class WirePageTest(TempCase):
    def test_the_example_of_a_packet_is_right(self) -> None:
        (line,) = [r.strip() for r in PAGE.splitlines() if r.strip().startswith("$PIVDRV,green")]
        (message,) = feed(reader(PACKETS), line.encode() + b"\n")
        self.assertEqual(message.fault, "")

    def test_a_radio_in_ten_lines(self) -> None:
        code = block("void packet")
        self.assertLessEqual(len(code.strip().splitlines()), 12)
        main = "int main(void) { packet(0.25f, -1, 0); packet(-0.5f, 0, 0x21); return 0; }\n"
        said = subprocess.run(
            [build(self.folder, "radio", TO_STDOUT + code + main)], capture_output=True, check=True
        ).stdout
        first, second = feed(reader(PACKETS), said)
        self.assertEqual((first.fault, second.fault, second.missed), ("", "", 0))
        assert first.readings is not None and second.readings is not None
        self.assertEqual((first.readings["left_x"], first.readings["left_y"]), (0.25, -1.0))
        self.assertEqual([n for n in range(16) if second.readings.get(f"button_{n}")], [0, 5])

    def said(self, program: Path, lines: list[str]) -> list[str]:
        done = subprocess.run([program], input="".join(lines), capture_output=True, text=True, check=True)
        return done.stdout.splitlines()

    def plain(self, key: bytes = b"") -> Rig:
        return read_text(PLAIN, self.folder / "plain.toml", Rig).with_secret(key)

    def test_the_programs_on_the_page_are_those_that_are_written(self) -> None:
        self.assertEqual(block("/* The robot's end of the link"), part("link.c"))
        self.assertEqual(block("/* Sentences as docs/wire.md"), part("sentence.c"))
        both = block("static const unsigned char KEY"), part("seal.c")
        hashed = [t[t.index("typedef struct") : t.index("\n}\n", t.index("static void sha_end"))] for t in both]
        self.assertEqual(hashed[0], hashed[1])

    def test_a_robots_end(self) -> None:
        rig = self.write("plain.toml", PLAIN)
        wire = json.loads(Ran("wire", str(rig), "--json").out)
        self.assertEqual((len(wire["out"]), len(wire["sensed"])), (2, 8))
        program = robot_program(self.folder, self.plain())

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
        # at the start, drive before rest, rest, drive, (repeated), drive, the watchdog, drive before rest, rest, drive, (damaged)
        self.assertEqual(moved, [0, 0, 0, 0.25, 0.75, 0, 0, 0, 0.5])
        sensed = [read_sensed(unframe(r.encode()).split(","), 8)[0] for r in said if r.startswith("$PIVSEN")]
        self.assertEqual(sensed[0], Back(2000, None, 2))  # with the greeting
        self.assertEqual([b.state for b in sensed[1:]], [2, 0, 1, 1, 2, 0, 1])
        self.assertEqual([b.ack for b in sensed[1:]], [1, 2, 3, 4, 5, 6, 7])
        self.assertEqual(sensed[-1].stamp, 2251)
        greeting = next(r for r in said if r.startswith("$PIVHEY"))
        self.assertEqual(unframe(greeting.encode()), f"PIVHEY,Plain,{wire['hash']}")

    def test_a_robots_end_under_attack(self) -> None:
        """A robot that drives: what comes next must change nothing, or rest it."""
        rig = self.plain()
        mine = wire_hash(Line(rig))
        program = robot_program(self.folder, rig, *SANITIZED)
        begin = ["T9000\n", framed(f"PIVOUT,1,,0,{mine}"), framed(f"PIVOUT,2,9000,1,{mine},0.5,0.5")]

        def after(*lines: str) -> list[float]:
            said = self.said(program, [*begin, *lines])
            return [float(r.split()[2]) for r in said if r.startswith("motor 0")][3:]

        self.assertEqual(after(framed(f"PIVOUT,3,9000,1,{mine},1,1")), [1.0])
        for body in (
            "PIVOUT,3,9000,1,HASH,nan,1", "PIVOUT,3,9000,1,HASH,inf,1", "PIVOUT,3,9000,1,HASH,,1", "PIVOUT,3,9000,1,HASH,1e39,1",
            "PIVOUT,3,9000,1,HASH,1", "PIVOUT,3,9000,1,HASH,1,1,1", "PIVOUT,3,9000,1,HASH,1,1x", "PIVOUT,3,9000,1,HASH,1,-",
            "PIVOUT,3,9000,2,HASH,1,1", "PIVOUT,3,9000,-1,HASH,1,1", "PIVOUT,3,9000,,HASH,1,1",
            "PIVOUT,3,9000,1,ABCD1235,1,1", "PIVOUT,3,9000,1,HASH5,1,1", "PIVOUT,,9000,1,HASH,1,1",
            "PIVOUT,x,9000,1,HASH,1,1", "PIVOUT,3,-1,1,HASH,1,1", "PIVOUT,3,,1,HASH,1,1", "PIVOUT,65539,9000,1,HASH,1,1",
            "PIVOUT,3,8700,1,HASH,1,1",  # stamped 300 ms ago
            "PIVOUT,3,9100,1,HASH,1,1",  # stamped in the future, which is 65 s ago
            "PIVOUT,2,9000,1,HASH,1,1", "PIVOUT,1,9000,1,HASH,1,1", "PIVOUT,40000,9000,1,HASH,1,1",
            "PIVOUTX,3,9000,1,HASH,1,1", "PIVOUT", "", "PIVSEN,3,9000,1,HASH,1,1", "PIVOUT,3/2/2,9000,1,HASH,1,1",
            "PIVOUT,3/1/2,9000,1,HASH,1", "PIVOUT,3/0/2,9000,1,HASH,1,1", "PIVOUT,3/1/,9000,1,HASH,1,1", "PIVOUT,3/1/100,9000,1,HASH,1,1",
        ):  # fmt: skip
            self.assertEqual(after(framed(body.replace("HASH", mine))), [], body)
        for line in (
            f"$PIVOUT,3,9000,1,{mine},1,1*00\n",
            f"$PIVOUT,3,9000,1,{mine},1,1\n",
            "*\n",
            "$*\n",
            "$" * 250 + "\n",
            framed(f"PIVOUT,3,9000,1,{mine},1," + "1" * 300),
        ):
            self.assertEqual(after(line), [], line)
        # a stale drive, after two seconds in which nothing was looked at: first of all it rests
        self.assertEqual(after("T11000\n", framed(f"PIVOUT,3,9000,1,{mine},1,1")), [0.0])
        self.assertEqual(after("T11000\n", framed(f"PIVOUT,3,11000,1,{mine},1,1")), [0.0, 0.0])
        # the same, where that time passes between the look at the clock and the sentence
        self.assertEqual(after("L11000" + framed(f"PIVOUT,3,10999,1,{mine},1,1")), [0.0, 0.0])
        # its answers do not come through any more: sentences go on, their echo does not
        going = [s for t in range(9020, 9400, 20) for s in (f"T{t}\n", framed(f"PIVOUT,{t},9000,1,{mine},0.25,0.25"))]
        moved = after(*going)
        self.assertEqual((moved.count(0.25), moved[-1]), (12, 0.0))  # up to 9240

    def test_numbers_as_pivrex_writes_them(self) -> None:
        rig = self.plain()
        mine = wire_hash(Line(rig))
        program = robot_program(self.folder, rig)
        for value in (0.0, -1.0, 0.333333, -1.23457e-05, 123456.0, 7e-300, -0.0, 1e20, 65535.0):
            told = b"".join(out_sentences(Out(2, 7, True), mine, np.array([value, 0.5]))).decode()
            said = self.said(program, ["T7\n", framed(f"PIVOUT,1,,0,{mine}"), told])
            self.assertAlmostEqual(
                float([r for r in said if r.startswith("motor 0")][-1].split()[2]),
                value,
                delta=1e-6 * abs(value) + 1e-30,
            )

    def test_sentences_in_parts(self) -> None:
        """Values in two parts, one part lost, a rest by its first part."""
        motors = "".join(f'[attachments.m{k}]\nkind = "motor"\noutput = {{ kind = "fraction" }}\n' for k in range(58))
        rig = read_text(PLAIN + motors, self.folder / "long.toml", Rig)
        mine = wire_hash(Line(rig))
        program = robot_program(self.folder, rig, *SANITIZED)

        def out(seq: int, drive: bool, value: float) -> list[str]:
            found = out_sentences(Out(seq, 7, drive), mine, np.full(60, value))
            self.assertGreater(len(found), 1)
            return [s.decode() for s in found]

        lines = ["T7\n", *out(1, False, 0.125), *out(2, True, 0.125), *out(3, True, 0.1875)[1:], *out(4, True, 0.3125)]
        lines += [*out(5, True, 0.5)[:1], *out(6, True, 0.5)[1:], *out(7, False, 0.3125)[:1]]
        moved = [float(r.split()[2]) for r in self.said(program, lines) if r.startswith("motor 59")]
        self.assertEqual(moved[1:], [0, 0.125, 0.3125, 0])  # of a rest in parts the second says nothing new

    def test_every_shipped_rig_with_its_largest_sentences(self) -> None:
        """Whole, too long and too many values, in one piece and in parts, touch no memory that is not theirs."""
        keyed = [(n, key) for n in ALL for key in ((b"", bytes(range(16))) if n in ("plover", "coot") else (b"",))]
        for name, key in keyed if often(2, 1) > 1 else [("plover", bytes(range(16))), ("avocet", b"")]:
            with self.subTest(name):
                rig = read_rig(demo_path(name)).with_secret(key)
                line = Line(rig)
                program, mine = robot_program(self.folder, rig, *SANITIZED), wire_hash(line)
                values = len(line.outputs.values)
                begun = self.said(program, ["T2000\n"])
                session = Seal(key).open(unframe(begun[-1].encode()))[1] if key else 0
                sign = partial(sealed, key, session=session) if key else None

                def out(
                    seq: int, told: NDArray[np.float64], drive: bool = True, sign: Any = sign, mine: str = mine
                ) -> str:
                    return b"".join(out_sentences(Out(seq, 2000, drive), mine, told, sign)).decode()

                rest = line.resting()
                longest = np.full(values, -1.23456789e-30)
                lines = [
                    "T2000\n",
                    out(1, rest, False),
                    out(2, rest),
                    out(3, np.full(values + 30, 0.5)),
                    out(4, longest),
                ]
                lines += [out(5, np.full(values, 9e99))[:200] + "\n", out(6, rest + 1.0)]
                said = self.said(program, lines)
                back = [r for r in said if r.startswith("$PIVSEN")]
                self.assertLessEqual(max(map(len, back)), LONGEST_LINE, name)
                opened = [Seal(key).open(unframe(r.encode()))[0] if key else unframe(r.encode()) for r in back]
                joined = Parts()
                whole = [w for w in (joined.whole(o.split(",")) for o in opened) if w is not None]
                self.assertEqual({len(w) for w in whole}, {4 + len(back_columns(line))}, name)
                read, sensed = read_sensed(whole[-1], len(back_columns(line)), HIGHEST)
                self.assertEqual((read.state, read.ack), (1, 6), name)
                self.assertTrue(np.isnan(sensed[-4:]).all())

    def test_the_seal_against_known_answers(self) -> None:
        """SHA-256 by the examples of FIPS 180-4, HMAC by the cases 1 to 5 of RFC 4231 (those with keys of one block)."""
        main = """
static void print(const uint8_t *d, int n) { for (int i = 0; i < n; i++) printf("%02x", d[i]); puts(""); }
int main(void) {
    uint8_t out[32], key[131];
    char text[51] = "";
    Sha s;
    sha_begin(&s); sha_add(&s, "abc", 3); sha_end(&s, out); print(out, 32);
    sha_begin(&s); sha_add(&s, "abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq", 56); sha_end(&s, out); print(out, 32);
    sha_begin(&s); for (long i = 0; i < 1000000; i++) sha_add(&s, "a", 1); sha_end(&s, out); print(out, 32);
    memset(key, 0x0b, 20); use_key(key, 20); hmac("Hi There", out); print(out, 32);
    use_key((const uint8_t *)"Jefe", 4); hmac("what do ya want for nothing?", out); print(out, 32);
    memset(key, 0xaa, 20); memset(text, 0xdd, 50); use_key(key, 20); hmac(text, out); print(out, 32);
    for (int i = 0; i < 25; i++) key[i] = i + 1;
    memset(text, 0xcd, 50); use_key(key, 25); hmac(text, out); print(out, 32);
    memset(key, 0x0c, 20); use_key(key, 20); hmac("Test With Truncation", out); print(out, 16);
    return 0;
}
"""
        said = self.said(build(self.folder, "known", seals(bytes(16), 1) + main), [])
        self.assertEqual(said, KNOWN)

    def test_sealed_sentences_both_ways(self) -> None:
        """The robot that is written and the page's radio with a key talk with the program's own ends, and refuse every other."""
        key, other = bytes(range(16)), bytes(16)
        rig = self.plain(key)
        mine, program = wire_hash(Line(rig)), robot_program(self.folder, rig)
        session = Seal(key).open(unframe(self.said(program, ["T2000\n"])[-1].encode()))[
            1
        ]  # by chance, here always the same
        self.assertGreater(session, 0)

        def out(seq: int, drive: bool, of: bytes = key, session: int = session, echo: int = 2000) -> str:
            sign = partial(sealed, of, session=session)
            return b"".join(out_sentences(Out(seq, echo, drive), mine, np.array([0.5, 0.5]), sign)).decode()

        lines = ["T2000\n", out(4000000001, False), out(4000000002, True)]
        wrong = [
            out(4000000003, True, other),
            out(4000000003, True, session=1),
            framed(f"PIVOUT,4000000003,2000,1,{mine},1,1"),
        ]
        wrong += [out(4000000002, True), out(70, True), out(4000000003, True).replace(",0.5,", ",0.6,")]
        late = [
            "T3000\n",
            out(4000000001, False, echo=3000),
            out(4000000002, True, echo=3000),
        ]  # said again after a second
        said = self.said(program, [*lines, *wrong, *late, out(4000000004, False, echo=3000)])
        self.assertEqual([float(r.split()[2]) for r in said if r.startswith("motor 0")], [0.0, 0.0, 0.5, 0.0, 0.0])
        for row in said:
            if row.startswith("$PIV"):
                self.assertEqual(Seal(key).open(unframe(row.encode()))[1], session)
        main = "int main(void) { packet(0.25f, -1, 0); packet(-0.5f, 0, 0x21); return 0; }\n"
        data = subprocess.run(
            [build(self.folder, "radio", TO_STDOUT + radio_code(key, 7) + main)], capture_output=True, check=True
        ).stdout
        spec = PacketsSource.model_validate(PACKETS)
        self.assertEqual([m.fault for m in PacketsReader(spec, Seal(key)).feed(data, 0.0)], ["", ""])
        self.assertEqual([m.fault for m in PacketsReader(spec, Seal(other)).feed(data, 0.0)], ["foreign", "foreign"])


KNOWN = [
    "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
    "248d6a61d20638b8e5c026930c3e6039a33ce45964ff2167f6ecedd419db06c1",
    "cdc76e5c9914fb9281a1c7e284d73e67f1809a48a497200e046d39ccc7112cd0",
    "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7",
    "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843",
    "773ea91e36800e46854db8ebd09181a72959098b3ef8c122d9635514ced565fe",
    "82558a389a443c0ea4cc819899f2083a85f0faa3e578f8077a2e3ff46729665b",
    "a3b6167473100ee06e0c796c2955552b",
]


@slow
class LivePageTest(LinkCase):
    """A robot that pivrex board writes, and a radio from the page alone, drive and rest in a real session, over UDP."""

    def go_live(self, key: bytes) -> None:
        if key:
            self.write("rigs/plain.key", key.hex())
        radio_port, robot_port = free_port(), free_port()
        text = PLAIN.replace("[chassis]", 'key = "plain.key"\n[chassis]', 1) if key else PLAIN
        rig = read_text(
            text + radio(radio_port, 'columns = ["left_x", "left_y"]\n'), self.folder / "rigs" / "plain.toml", Rig
        )
        written = self.folder / "program"
        write_board(rig, written, "c")
        mine = written / "mine.c"
        show = (
            '#include <stdio.h>\n#include "robot.h"\n',
            '    if (n) printf("%g\\n", (double)value);\n    (void)n, (void)value;',
        )
        mine.write_text(
            replaced(mine.read_text(), ('#include "robot.h"\n', show[0]), ("    (void)n, (void)value;", show[1]))
        )
        subprocess.run(["make", "-s"], cwd=written, check=True)
        sender = build(self.folder, "radio", SOCKETS + TO_SOCKET + radio_code(key, 3) + RADIO_MAIN)
        log = (self.folder / "motor.txt").open("w+")
        self.addCleanup(log.close)
        env = {**os.environ, "ROBOT_PORT": str(robot_port)}
        far = subprocess.Popen([written / "robot"], stdin=subprocess.DEVNULL, stdout=log, env=env)
        stick = subprocess.Popen([sender, str(radio_port)], stdin=subprocess.PIPE, text=True)
        for one in (far, stick):
            self.addCleanup(one.wait, 5)
            self.addCleanup(one.kill)
        assert stick.stdin is not None
        self.addCleanup(stick.stdin.close)
        self.client = SessionClient()
        self.addCleanup(self.client.close)
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": robot_port}})
        self.client.set_up(SetUp(rig, None, source="radio", gamepads=False, link=link))
        self.talking = None

        def told() -> float:
            said = (self.folder / "motor.txt").read_text().split()
            return float(said[-1]) if said and said[-1] != "ready" else 0.0

        def push(y: float) -> None:
            assert stick.stdin is not None
            stick.stdin.write(f"{y}\n")
            stick.stdin.flush()

        self.until(lambda: self.client.status.linked == "heard" and not self.client.status.lost)
        for _ in range(10):
            push(0)
            self.until(self.live)
            push(-0.5)
            end = time.monotonic() + 3
            while self.step() and time.monotonic() < end and told() != 0.5:
                pass
            if told() == 0.5:
                break
        self.assertEqual(told(), 0.5)
        push(0)
        self.until(lambda: told() == 0.0)
        self.ask(Stop("enough"))
        push(-0.5)
        self.go(0.3)
        self.assertEqual(told(), 0.0)

    def test_without_a_key(self) -> None:
        self.go_live(b"")

    def test_with_a_key(self) -> None:
        self.go_live(bytes(range(100, 116)))


def framed(body: str) -> str:
    return frame(body).decode("ascii")
