import contextlib
import csv
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from pivrex import __version__
from pivrex.cli import run
from pivrex.cli.app import _library, commands
from pivrex.cli.opening import IN_USE, WORDS, copy_demo, copy_to_practise, kept_in, sweep_copies
from pivrex.errors import PivrexError
from pivrex.rig.secret import make_key
from pivrex.rig.transports import SerialTransport, UdpTransport, read_transport
from pivrex.runs.facts import UNMARKED, Facts
from pivrex.runs.through import keep_rows
from tests.kept import BEGAN, FIRST, kept_drives
from tests.support import DEMO, PLOVER, ROOT, TempCase, often


class Ran:
    def __init__(self, *words: str) -> None:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            self.code = run(words)
        self.out, self.err = out.getvalue(), err.getvalue()


class CommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        before = Path.cwd()
        self.addCleanup(os.chdir, before)
        os.chdir(self.demo())

    def test_describe(self) -> None:
        ran = Ran("describe", "plover", "--json")
        self.assertEqual(ran.code, 0)
        found = json.loads(ran.out)
        self.assertEqual(set(found), {"name", "law", "wheels"})
        self.assertEqual((found["name"], found["law"]), ("Plover", "arcade"))
        left = found["wheels"][0]
        self.assertEqual(
            set(left), {"name", "x_m", "y_m", "drive_deg", "roller_deg", "steered", "radius_m", "top_speed_m_s"}
        )
        self.assertEqual((left["y_m"], left["roller_deg"], left["steered"]), (0.08, None, False))
        self.assertIn("top 1.01 m/s", Ran("describe", "plover").out)

    def test_numbers_are_read_in_one_way(self) -> None:
        """Every number of every command: not finite, too large, none at all, each is refused with its option and what it may be."""
        seen = 0
        for name, command in commands():
            needed = ["x" for p in command.params if p.param_type_name == "argument" and p.required]
            for option in command.params:
                if option.metavar not in ("NUMBER", "WHOLE"):
                    continue
                seen += 1
                texts = ("nan", "-1e400", "9" * 30, "")
                for text in (2 * texts)[seen % 4 :][: often(4, 1)]:
                    with contextlib.suppress(SystemExit):
                        ran = Ran(*name.split(), *needed, f"{option.opts[0]}={text}")
                    said = f"{name} {option.opts[0]}={text}: {ran.err}"
                    self.assertEqual(ran.code, 2, said)
                    self.assertIn(option.opts[0], ran.err, said)
                    self.assertRegex(" ".join(ran.err.replace("│", " ").split()), r"should be a (whole )?number", said)
        self.assertGreater(seen, 25)
        # and no command reads a number by itself
        for file in (ROOT / "src" / "pivrex" / "cli").glob("*.py"):
            self.assertNotRegex(file.read_text(), r"(int|float)( \| None)?,\s*typer\.Option", file.name)

    def test_what_attacked_commands_say(self) -> None:
        for words, code, why in (
            (("play", "greenhouse-plover", "--limit", "0.001"), 0, "out of time after 0.02 s"),
            (("check", "paths/round.toml"), 0, "paths/round.toml: no mistakes"),
            (("learn", "plover", "last", "--turned", ""), 2, '--turned is "", but should be an angle'),
            (("runs", "--of", "x"), 2, "say --season RIG too"),
            (("new", ""), 2, "DIR is empty"),
            (("new", "--name", ""), 2, "--name is"),
        ):
            ran = Ran(*words)
            self.assertEqual(ran.code, code, words)
            self.assertIn(why, " ".join((ran.out + ran.err).replace("│", " ").split()), words)
        broken = Path("paths/round.toml").read_text().replace('x = "', 'x = "x', 1)
        Path("paths/broken.toml").write_text(broken)
        ran = Ran("check", "paths/broken.toml", "paths/round.toml")
        self.assertEqual(ran.code, 1)
        self.assertRegex(ran.out, r"paths/broken.toml:\d+: \S*x: is ")
        self.assertIn("paths/round.toml: no mistakes", ran.out)

    def test_patches_and_wire(self) -> None:
        self.assertEqual(Ran("export", "patches", "coot", "-o", "p.csv", "-o", "p.svg").code, 0)
        rows = list(csv.reader(Path("p.csv").read_text().splitlines()))
        self.assertIn(["the one that drives", "left_y", "left stick, forward-back", "left (law tank)", ""], rows)
        self.assertIn(
            ["the one that drives", "button_0", "right cluster, bottom", "spout to 0 deg", "press, with button_2"], rows
        )
        self.assertIn(["letter box", "letter w", "", "pump on", "for 800 ms"], rows)
        said = Ran("wire", "coot").out
        self.assertRegex(said, r"hash [0-9A-F]{8}\n  out 1: front left forward_duty\n")
        self.assertIn("out 10: spout pulse in us", said)

    def test_a_remote_that_cannot_be_says_why(self) -> None:
        for words, why in (
            (("coot", "no such"), 'Coot has no source "no such"; it has "green radio", "letter box"'),
            (("coot", "green radio", "--script", "nothing.txt"), "nothing.txt: cannot be read"),
        ):
            ran = Ran("remote", *words)
            self.assertEqual(ran.code, 1)
            self.assertIn(why, ran.err)
        self.assertEqual(Ran("remote").code, 2)
        with self.assertRaisesRegex(ValueError, "is no wire; write serial:PORT"):
            read_transport("x:1")
        self.assertEqual(
            read_transport("serial:/dev/ttyUSB0:9600"), SerialTransport(kind="serial", port="/dev/ttyUSB0", baud=9600)
        )
        self.assertEqual(read_transport("udp:10.0.0.2:5810"), UdpTransport(kind="udp", host="10.0.0.2", port=5810))

    def test_wheels(self) -> None:
        ran = Ran("wheels", "plover", "--forward", "0.5", "--turn", "90", "--json")
        found = json.loads(ran.out)
        self.assertEqual([w["name"] for w in found["wheels"]], ["left", "right"])
        self.assertEqual(set(found["wheels"][0]), {"name", "speed_m_s", "speed_rad_s", "steer_deg", "output"})
        self.assertEqual(set(found["twist"]), {"forward_m_s", "left_m_s", "turn_deg_s"})
        # 0.5 - 0.08·π/2 m/s of 1.0053 m/s is 0.3724, and 0.3724·255 = 94.97
        self.assertAlmostEqual(found["wheels"][0]["speed_m_s"], 0.37434, places=4)
        self.assertEqual(found["wheels"][0]["output"], {"kind": "magnitude", "duty": 95.0, "direction": 1.0})
        self.assertEqual(found["wheels"][1]["output"]["direction"], 0.0)  # it is mounted the other way round
        self.assertFalse(found["limited"])
        self.assertIn("achieves forward", Ran("wheels", "plover", "--forward", "9").out)

    def test_motions_that_cannot_be(self) -> None:
        ran = Ran("wheels", "plover", "--left", "0.2")
        self.assertEqual((ran.code, ran.out), (1, ""))
        self.assertIn("Plover cannot follow this motion", ran.err)
        self.assertEqual(Ran("wheels", "plover", "--steer", "1,2").code, 1)
        self.assertEqual(Ran("wheels", "plover", "--forward", "nan").code, 2)
        self.assertEqual(Ran("wheels", "plover", "--fit", "squeeze").code, 2)
        self.assertEqual(Ran("wheels", "plover", "--forward", "fast").code, 2)

    def test_check(self) -> None:
        self.assertEqual(Ran("check", "rigs/plover.toml", "workspace.toml", "inputs/watering.csv").code, 0)
        bad = Path("rigs/bad.toml")
        bad.write_text(PLOVER.read_text().replace("gear = 30 ", "geer = 30 ").replace('"arcade"', '"arkade"'))
        ran = Ran("check", "rigs/plover.toml", str(bad))
        self.assertEqual(ran.code, 1)
        self.assertEqual(ran.err, "")
        first, traction, *wrong = ran.out.strip().splitlines()
        self.assertEqual((first, len(wrong)), ("rigs/plover.toml: no mistakes", 2))
        self.assertIn("of the weight is on driven wheels", traction)
        for line in wrong:
            self.assertRegex(line, r"^rigs/bad.toml:\d+: \S+: ")
        Path("bad.csv").write_text("t,left_y\n0,x\n")
        self.assertIn("bad.csv:2: left_y is 'x'", Ran("check", "bad.csv").out)

    def test_map(self) -> None:
        Path("in.csv").write_text("t,left_y,left_x\n0,0,0\n0.5,-1,0\n1.5,-1,0\n")
        ran = Ran("map", "plover", "in.csv")
        rows = list(csv.DictReader(io.StringIO(ran.out)))
        self.assertEqual((ran.code, len(rows)), (0, 3))
        self.assertEqual(rows[2]["axes.forward"], "1")
        self.assertGreater(float(rows[2]["truth.y_m"]), 0.7)  # it started at y 0.5 m, heading 90 deg
        ran = Ran("map", "plover", "in.csv", "-o", "out.csv", "--every-tick")
        self.assertEqual(ran.code, 0)
        self.assertEqual(len(Path("out.csv").read_text().splitlines()), 92)
        Path("in.csv").write_text("t,left_y\n0,0\n")
        ran = Ran("map", "plover", "in.csv")
        self.assertEqual((ran.code, ran.out), (1, ""))
        self.assertIn("in.csv:1: has no column left_x", ran.err)

    def test_export(self) -> None:
        for words in (
            ("curve", "plover", "-o", "c.svg", "-o", "c.pdf"),
            ("curve", "plover", "-f", "turn", "-o", "t.svg"),
            ("path", "plover", "inputs/watering.csv", "-o", "p.pdf"),
            ("ticks", "plover", "inputs/watering.csv", "-o", "ticks.csv"),
            ("wiring", "plover", "-o", "w.csv", "-o", "w.svg"),
        ):
            with self.subTest(words):
                ran = Ran("export", *words)
                self.assertEqual((ran.code, ran.out), (0, ""), ran.err)
                for i, word in enumerate(words):
                    if word == "-o":
                        self.assertGreater(Path(words[i + 1]).stat().st_size, 200)
        ran = Ran("export", "curve", "plover", "-o", "c.png")
        self.assertEqual(ran.code, 1)
        self.assertIn("written as .svg, .pdf, not as .png", ran.err)

    def test_codes(self) -> None:
        self.assertEqual(Ran("describe").code, 2)
        self.assertEqual(Ran("describe", "heron").code, 1)
        self.assertEqual(Ran("--nonsense").code, 2)
        self.assertEqual(Ran("--help").code, 0)
        self.assertEqual(Ran("demo", "--help").code, 0)
        self.assertEqual(Ran("remote").code, 2)
        ran = Ran("remote", "--pad", "--port", "1")
        self.assertEqual(ran.code, 1)
        self.assertIn("no Pivrex of yours has said where it listens", ran.err)

    def test_one_command_is_described_by_itself_as_among_all(self) -> None:
        known = dict(commands())
        for name in ("describe", "check", "path", "export"):
            self.assertEqual(set(_library(name).commands), {name, "reference"})
        says = {name: next(p.help for p in known[name].params if p.name == "folder") for name in ("open", "demo")}
        self.assertEqual(says, {"open": WORDS["folder"], "demo": WORDS["demo folder"]})

    def test_the_screen_needs_a_terminal(self) -> None:
        with contextlib.suppress(SystemExit):
            ran = Ran("demo")
            self.assertEqual(ran.code, 2)
            self.assertIn("needs a terminal", ran.err)

    def test_interrupted(self) -> None:
        with mock.patch("pivrex.rig.find_rig", side_effect=KeyboardInterrupt):
            self.assertEqual(Ran("describe", "plover").code, 130)


class DemoTest(TempCase):
    def test_a_copy_keeps_what_is_there(self) -> None:
        target = self.folder / "mine"
        (target / "rigs").mkdir(parents=True)
        (target / "rigs" / "plover.toml").write_text("mine")
        copy_demo(target)
        self.assertEqual((target / "rigs" / "plover.toml").read_text(), "mine")
        self.assertEqual((target / "workspace.toml").read_bytes(), (DEMO / "workspace.toml").read_bytes())
        blocked = self.write("file", "")
        with self.assertRaisesRegex(PivrexError, "cannot be copied"):
            copy_demo(blocked / "below")

    def test_temporary_ones_are_swept_unless_something_is_kept_there(self) -> None:
        code = "from pivrex.cli.opening import copy_demo; print(copy_demo(None))"
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "TMPDIR": str(self.folder)}
        old, changed, added, marked = (
            Path(
                subprocess.run(
                    [sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True
                ).stdout.strip()
            )
            for _ in range(4)
        )
        self.addCleanup(setattr, tempfile, "tempdir", tempfile.tempdir)
        tempfile.tempdir = str(self.folder)
        mine = copy_demo(None)  # this process has it open
        link = self.folder / "pivrex-demo-link"
        link.symlink_to(self.demo())
        line, text, rows = kept_drives()[FIRST]
        for folder, kept in ((old, UNMARKED), (marked, "live")):
            (folder / "runs").mkdir()
            keep_rows(folder / "runs" / "a", Facts("Plover", "plover", BEGAN, 60.0, kept), line, text, None, rows[:60])
        practised, typed, driven = (copy_to_practise(self.folder / "workspace") for _ in range(3))
        for folder in (practised, typed, driven):  # another program had them open
            (folder / IN_USE).unlink()
            (folder / IN_USE).write_text("")
            (folder / "rigs" / "plover.toml").write_text("# corrected")
        (typed / "routines" / "plover.txt").write_text("wait 1 s")
        for folder, kept in ((practised, UNMARKED), (driven, "live")):
            keep_rows(folder / "runs" / "a", Facts("Plover", "plover", BEGAN, 60.0, kept), line, text, None, rows[:60])
        (changed / "rigs" / "plover.toml").write_text("# mine")
        (added / "routines" / "new.txt").write_text("wait 1 s")
        sweep_copies()
        self.assertEqual(
            [f.exists() for f in (old, changed, added, marked, mine, link)], [False, True, True, True, True, True]
        )
        self.assertTrue((self.folder / "workspace" / "rigs").is_dir())
        self.assertEqual([kept_in(f) for f in (mine, changed, added, marked)], [False, True, True, True])
        self.assertEqual([f.exists() for f in (practised, typed, driven)], [False, True, True])

    def test_faults_are_for_the_simulated_robot(self) -> None:
        ran = Ran("open", str(self.demo()), "--fault", "gyro", "--link", "udp:127.0.0.1:5810")
        self.assertEqual((ran.code, "--fault is for the simulated robot" in ran.err), (2, True))

    def test_a_copy_to_practise_on_has_all_that_a_rig_needs(self) -> None:
        place = self.demo()
        key = place / "rigs" / "plover.key"
        make_key(key)
        (place / "runs" / "a").mkdir(parents=True)
        copy = copy_to_practise(place)
        self.addCleanup(shutil.rmtree, copy)
        self.assertEqual((copy / "rigs" / "plover.key").read_bytes(), key.read_bytes())
        self.assertEqual((copy / "rigs" / "plover.key").stat().st_mode & 0o77, 0)
        self.assertFalse((copy / "runs").exists())
        there, here = ({p.relative_to(f) for p in f.rglob("*") if p.is_file()} for f in (copy, place))
        self.assertEqual({str(p) for p in here - there} | {str(p) for p in there - here}, {".in-use", ".copy-of"})


class ProgramTest(TempCase):
    def program(self, *words: str, **options: object) -> subprocess.CompletedProcess[str]:
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        return subprocess.run(
            [sys.executable, "-m", "pivrex", *words], capture_output=True, text=True, env=env, check=False, cwd=self.folder, **options,  # type: ignore[call-overload]
        )  # fmt: skip

    def test_version(self) -> None:
        self.assertEqual(self.program("--version").stdout, f"pivrex {__version__}\n")

    def test_version_loads_next_to_nothing(self) -> None:
        program = (
            "import sys; sys.argv = ['pivrex', '--version']; from pivrex.__main__ import main; main()\n"
            "large = ('numpy', 'textual', 'typer', 'pydantic')\n"
            "print(len([m for m in sys.modules if m.split('.')[0] in large]))"
        )
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        found = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, text=True, env=env, check=True
        ).stdout
        self.assertEqual(found.split()[-1], "0")

    def test_a_reader_that_has_enough(self) -> None:
        self.demo()
        done = subprocess.run(
            f"{sys.executable} -m pivrex map workspace/rigs/plover.toml workspace/inputs/watering.csv | head -1",
            shell=True, capture_output=True, text=True, cwd=self.folder, env={**os.environ, "PYTHONPATH": str(ROOT / "src")}, check=True,
        )  # fmt: skip
        self.assertTrue(done.stdout.startswith("clock.tick,"))
        self.assertEqual(done.stderr, "")

    def test_nothing_below_the_screen_loads_the_screen(self) -> None:
        program = (
            "import sys, pkgutil, importlib, pivrex.session, pivrex.runs, pivrex.devices, pivrex.export\n"
            "for package in (pivrex.session, pivrex.runs, pivrex.devices, pivrex.export):\n"
            "    for m in pkgutil.iter_modules(package.__path__, package.__name__ + '.'): importlib.import_module(m.name)\n"
            "print([m for m in ('textual', 'matplotlib', 'typer') if m in sys.modules])"
        )
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, env=env, check=True)
        self.assertEqual(done.stdout.strip(), "[]")

    def test_public_faces_are_sorted_and_true(self) -> None:
        import importlib
        import pkgutil

        import pivrex

        for module in pkgutil.walk_packages(pivrex.__path__, "pivrex."):
            if module.name.endswith("__main__"):
                continue
            loaded = importlib.import_module(module.name)
            face = getattr(loaded, "__all__", [])
            for name in face:
                self.assertTrue(hasattr(loaded, name), f"{module.name}.{name}")


if __name__ == "__main__":
    unittest.main()
