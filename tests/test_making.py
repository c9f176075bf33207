"""A robot of one's own: the rigs that come of every wish, the screen on which they are chosen, and `pivrex new`."""

import itertools
import tomllib
import unittest
from pathlib import Path

import numpy as np

from pivrex.devices.worries import warnings_in
from pivrex.errors import RigError, UnitError
from pivrex.line import Line
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.making import begin, check_name, copied
from pivrex.rig.new_robot import EXTRAS, OUTPUTS, SOURCES, WHEELS, NewRobot, laws_of
from pivrex.rig.new_robot_text import written
from pivrex.sim import Rollout
from pivrex.sim.body import RealisticBody
from pivrex.tui.maker.maker_overlay import Maker
from pivrex.tui.maker.maker_picture import draw_making
from pivrex.tui.maker.robot_in_making import Making
from tests.support import DEMO, TempCase
from tests.test_app import AppCase, in_loop
from tests.test_cli import Ran


class WrittenTest(TempCase):
    def read(self, **robot: object) -> Rig:
        return read_text(written(NewRobot(**robot)), Path("mine.toml"), Rig)  # type: ignore[arg-type]

    def test_every_wish_is_a_rig_without_mistakes_or_warnings(self) -> None:
        everything = tuple(e for e in EXTRAS if e != "robot by radio")
        for wheels in WHEELS:
            for law, output in zip(itertools.cycle(laws_of(wheels)), OUTPUTS, strict=False):
                for sources in ((), ("stick on a serial line", "letters"), ("letters on a serial line",)):
                    with self.subTest(wheels=wheels, law=law, output=output):
                        robot = NewRobot("Mine", wheels, law, output, sources, everything)
                        text = written(robot)
                        path = self.write("rigs/mine.toml", text)
                        rig = read_rig(path)
                        self.assertEqual((rig.law.kind, rig.name), (law, "Mine"))
                        self.assertEqual({m.output.kind for m in rig.motors.values()}, {output})
                        self.assertEqual(warnings_in(rig, path), [])
                        Line(rig)  # its line can be made
                        self.assertGreater(text.count("#"), 10)  # it explains itself

    def test_each_law_that_is_offered_can_be_followed(self) -> None:
        for wheels in WHEELS:
            for law in laws_of(wheels):
                self.assertEqual(self.read(wheels=wheels, law=law).law.kind, law)
        with self.assertRaises(RigError):
            self.read(wheels="two and a caster", law="planar")

    def test_each_extra_and_source_is_what_its_name_says(self) -> None:
        rig = self.read(extras=tuple(e for e in EXTRAS if e != "robot by radio"))
        kinds = {n: a.kind for n, a in rig.attachments.items()}
        self.assertEqual(
            kinds,
            {"arm": "motor", "boom": "position", "lift": "lift", "tip": "servo", "pump": "switch", "lamp": "switch"},
        )
        self.assertEqual(list(rig.sensors), ["front"])
        self.assertIsNotNone(rig.gyro)
        self.assertTrue(all(m.counts_per_turn for m in rig.motors.values()))
        self.assertEqual(rig.link.wire.kind if rig.link else "", "serial")
        bare = self.read(extras=())
        self.assertEqual((bare.gyro, bare.attachments, bare.link), (None, {}, None))
        self.assertFalse(any(m.counts_per_turn for m in bare.motors.values()))
        said = {s.kind for s in self.read(sources=("stick on a serial line", "letters", "radio")).sources.values()}
        self.assertEqual(said, {"numbers", "letters", "packets"})
        stick = self.read(sources=("stick on a serial line",), law="tank", port="/dev/ttyS9").sources["my stick"]
        self.assertEqual((stick.columns, stick.high, stick.wire.port), (("left_y", "right_y"), 1023.0, "/dev/ttyS9"))  # type: ignore[union-attr]

    def test_what_is_offered_is_calm(self) -> None:
        """A stick that jumps to half way: no motor gets more than 1.2 times what it gets in the end."""
        for wheels in WHEELS:
            rig = self.read(wheels=wheels, law=next(iter(laws_of(wheels))))
            self.assertEqual(rig.control.wheels if rig.control else "", "pid")
            for channel in ("left_y", "right_x"):
                rollout = Rollout(line := Line(rig), RealisticBody(rig))
                raw = line.rest()
                for _ in range(10):
                    rollout.tick(raw)
                raw[line.inputs.names.index(channel if channel in line.inputs.names else "right_y")] = -0.5
                drive = line.layout.stage("drive").start + np.arange(len(rig.motors))
                given = np.abs([rollout.tick(raw)[drive] for _ in range(120)])
                steady = given[-30:].mean(axis=0)
                used = steady > 0.05  # what is dragged along by the other side hardly gets anything
                self.assertTrue(used.any())
                self.assertLessEqual((given.max(axis=0) / steady)[used].max(), 1.2, f"{wheels} {channel}")

    def test_names(self) -> None:
        self.assertEqual(check_name("  Green   Heron 2 "), "Green Heron 2")
        for name in ("", "2 fast", "Ünder", "x" * 25, "a/b"):
            with self.assertRaises(UnitError):
                check_name(name)

    def test_a_workspace_is_begun_whole_and_nothing_is_overwritten(self) -> None:
        home = self.folder / "team"
        path = begin(home, NewRobot("Green Heron"))
        self.assertEqual(path, home / "rigs" / "green-heron.toml")
        self.assertEqual(tomllib.loads((home / "workspace.toml").read_text())["rig"], "green-heron")
        self.assertEqual(Ran("check", str(path), str(home / "workspace.toml")).code, 0)
        before = path.read_bytes()
        with self.assertRaisesRegex(RigError, "is there already"):
            begin(home, NewRobot("Green Heron"))
        self.assertEqual(path.read_bytes(), before)
        mine = (home / "workspace.toml").read_text() + "# mine\n"
        (home / "workspace.toml").write_text(mine)
        begin(home, NewRobot("Second"))
        self.assertEqual((home / "workspace.toml").read_text(), mine)

    def test_a_copy_keeps_all_but_its_name_and_its_key(self) -> None:
        path = self.write("rigs/coot.toml", 'key = "coot.key"\n' + (DEMO / "rigs" / "coot.toml").read_text())
        self.write("rigs/coot.key", "00112233445566778899aabbccddeeff\n")
        rig = read_text(copied(path, "Moorhen"), Path("moorhen.toml"), Rig)
        self.assertEqual((rig.name, rig.key), ("Moorhen", ""))
        coot = read_rig(DEMO / "rigs" / "coot.toml")
        self.assertEqual((rig.bindings, rig.sources, rig.chassis), (coot.bindings, coot.sources, coot.chassis))
        self.assertIn("# the released stick rests anywhere in here", copied(path, "Moorhen"))


class CommandTest(TempCase):
    def test_new_says_what_may_be_wished(self) -> None:
        home = self.folder / "team"
        words = (
            "new",
            str(home),
            "--name",
            "Crane",
            "--wheels",
            "four mecanum",
            "--output",
            "servo",
            "--extra",
            "pump",
        )
        ran = Ran(*words)
        self.assertEqual((ran.code, ran.err), (0, ""))
        rig = read_rig(home / "rigs" / "crane.toml")
        self.assertEqual((rig.law.kind, list(rig.attachments), rig.gyro), ("planar", ["pump"], None))
        for more, said in (
            (("--law", "planer"), "tank, arcade"),
            (("--wheels", "six"), "two and a caster"),
            (("--output", "pwm"), "two pins"),
            (("--source", "mind"), "stick on a serial line"),
            (("--extra", "wings"), "gyro, encoders"),
            (("--name", "7"), "begins with a letter"),
        ):
            wrong = Ran("new", str(home), *more)
            self.assertEqual(wrong.code, 2, more)
            self.assertIn(said, " ".join(wrong.err.replace("│", " ").split()))
        self.assertEqual(Ran(*words).code, 1)  # it is there already
        self.assertEqual(Ran("new", str(home), "--name", "Other", "--copy", "coot").code, 0)
        self.assertEqual(read_rig(home / "rigs" / "other.toml").name, "Other")

    def test_sizes_and_names_are_said(self) -> None:
        home = self.folder / "team"
        ran = Ran(
            "new", str(home), "--name", "Digger", "--wheels", "four on two sides", "--sizes", "30 cm, 250 mm, 80 mm, 210 mm",
            "--extra", "arm", "--extra", "servo", "--names", "arm, claw",
        )  # fmt: skip
        self.assertEqual((ran.code, ran.err), (0, ""))
        path = home / "rigs" / "digger.toml"
        self.assertIn(f"{path}: made", ran.out)
        rig = read_rig(path)
        self.assertEqual((rig.chassis.length_m, rig.chassis.width_m), (0.3, 0.25))
        self.assertEqual({(abs(w.y_m), w.radius_m) for w in rig.chassis.wheels}, {(0.105, 0.04)})
        self.assertEqual({name: one.kind for name, one in rig.attachments.items()}, {"arm": "motor", "claw": "servo"})
        self.assertIn("claw to 60 deg", [b.does for b in rig.bindings])
        for more, said in (
            (("--sizes", "300, 250"), "with commas between"), (("--sizes", "300 mm, 250 mm, 80 mm, 9 m"), "the track should be between"),
            (("--names", "arm, claw"), "write 0 names"),
        ):  # fmt: skip
            wrong = Ran("new", str(home), "--name", "Other", *more)
            self.assertEqual(wrong.code, 2, more)
            self.assertIn(said, " ".join(wrong.err.replace("│", " ").split()))

    def test_a_folder_with_other_things_is_asked_about(self) -> None:
        home = self.folder / "papers"
        self.write("papers/letter.txt", "dear")
        ran = Ran("new", str(home), "--name", "Mine")
        self.assertEqual(ran.code, 1)
        self.assertIn("is not empty and holds no workspace (it has letter.txt); --yes writes into it", ran.err)
        self.assertFalse((home / "rigs").exists())
        self.assertEqual(Ran("new", str(home), "--name", "Mine", "--yes").code, 0)
        self.assertEqual(Ran("new", str(home), "--name", "Second").code, 0)  # it is a workspace now

    def test_a_folder_that_cannot_be_made_is_a_sentence(self) -> None:
        file = self.write("file", "")
        ran = Ran("new", str(file / "below"), "--name", "Mine")
        self.assertEqual(ran.code, 1)
        self.assertIn("below", ran.err)
        self.assertNotIn("Traceback", ran.err)


class MakingTest(TempCase):
    def test_steps_follow_what_was_chosen(self) -> None:
        making = Making(self.demo())
        self.assertNotIn("port", making.steps())
        for _ in range(2):
            making.go(1)
        self.assertEqual(making.step, "wheels")
        making.look_at(3)
        self.assertEqual((making.robot.wheels, making.robot.law), ("four mecanum", "planar"))
        making.go_to("sources")
        making.mark()
        self.assertIn("port", making.steps())
        making.at = list(SOURCES).index("letters on a serial line")
        making.mark()  # two on one port cannot be
        self.assertEqual(making.robot.sources, ("letters on a serial line",))
        making.go_to("begin")
        making.look_at(1 + sorted(p.stem for p in (DEMO / "rigs").glob("*.toml")).index("dunlin"))
        self.assertEqual((making.copy, making.steps()), ("dunlin", ["name", "begin", "write"]))
        rig = making.rig()
        self.assertEqual(len(rig.chassis.wheels) if rig else 0, 3)

    def test_sizes_and_names_are_typed(self) -> None:
        making = Making(self.folder)
        self.write("letter.txt", "dear")
        making.go_to("wheels")
        making.look_at(1)
        making.go(1)
        self.assertEqual((making.step, making.typed), ("sizes", "260 mm, 240 mm, 70 mm, 200 mm"))
        for char in "9 m":
            making.type(char)
        self.assertFalse(making.go(1))
        self.assertIn("with commas between", making.problem)
        making.typed = "300 mm, 250 mm, 80 mm, 210 mm"
        self.assertTrue(making.go(1))
        making.go_to("extras")
        making.at = list(EXTRAS).index("servo")
        making.mark()
        making.go(1)
        self.assertEqual((making.step, making.typed), ("names", "tip"))
        making.typed = "claw"
        self.assertTrue(making.go(1))
        rig = making.rig()
        assert rig is not None
        self.assertEqual((rig.chassis.length_m, list(rig.attachments)), (0.3, ["claw"]))
        making.go_to("write")
        self.assertIsNone(making.write())
        self.assertIn("Enter again writes into it", making.problem)
        made = making.write()
        assert made is not None
        self.assertEqual(str(made.resolve()), making.path_shown())

    def test_a_robot_that_cannot_be_copied_says_why(self) -> None:
        home = self.demo()
        (home / "rigs" / "broken.toml").write_text("x = [[[")
        (home / "rigs" / "plover.yours-20261127-101010.toml").write_text("set aside")
        making = Making(home)
        making.go(1)
        names = [o.name for o in making.options()]
        self.assertFalse([n for n in names if "yours" in n])  # what was set aside is no robot
        making.look_at(names.index("broken"))
        making.go(1)
        self.assertEqual((making.step, making.rig()), ("write", None))
        shown = "\n".join(draw_making(making, 160, 45).rows())
        for said in ("broken.toml:1:", "is not TOML"):  # how long the folder's name is says where the line breaks
            self.assertIn(said, " ".join(shown.split()))
        self.assertIsNone(making.write())
        self.assertIn("is not TOML", making.problem)
        self.assertFalse((home / "rigs" / "mine.toml").exists())

    def test_a_name_that_is_taken_or_wrong_goes_no_further(self) -> None:
        making = Making(self.demo())
        for char in "Plover":
            making.type(char)
        self.assertFalse(making.go(1))
        self.assertIn("is there already", making.problem)
        making.type("!")
        self.assertFalse(making.go(1))
        self.assertIn("begins with a letter", making.problem)
        making.rub_out()
        making.type("2")
        self.assertTrue(making.go(1))
        self.assertEqual(making.robot.name, "Plover2")


class ScreenTest(AppCase):
    @in_loop
    async def test_it_is_made_under_the_list_of_robots_and_opened(self) -> None:
        async with self.running():
            await self.press("b", "plus")
            self.assertIsInstance(self.app.screen, Maker)
            await self.press(*"Heron", "enter", "enter")
            await self.press("down", "enter")  # four wheels on two sides
            await self.press(*"300mm", "comma", *"250mm", "comma", *"80mm", "comma", *"210mm", "enter")
            maker = self.app.screen
            assert isinstance(maker, Maker)
            shown = "\n".join(maker.canvas.picture.rows())
            for part in (
                "a robot of your own",
                "What do the sticks mean?",
                "a stick for each side",
                "full forward",
                "rigs/heron.toml",
            ):
                self.assertIn(part, shown)
            await self.press("left", "enter", "enter", "enter", "enter", "enter", "enter")
            await self.frames(3)
            self.assertEqual(self.model.rig.name, "Heron")
            self.assertEqual(self.model.rig.law.kind, "tank")
            self.assertIn("rigs/heron.toml", str(self.model.file.path))
            self.assertEqual([w.y_m for w in self.model.rig.chassis.wheels], [0.105, -0.105, 0.105, -0.105])

    @in_loop
    async def test_it_can_be_clicked_and_left(self) -> None:
        async with self.running():
            await self.press("b", "plus", "enter", "enter")
            maker = self.app.screen
            assert isinstance(maker, Maker)
            spot = next(s for s in maker.canvas.picture.spots if s.what == "option" and s.value == "2")
            await self.pilot.click(maker.canvas, offset=(spot.x + 22, spot.y + 2))
            self.assertEqual(maker.making.robot.wheels, "three omni")
            await self.press("escape")
            self.assertNotIsInstance(self.app.screen, Maker)
            self.assertEqual(self.model.rig.name, "Plover")

    @in_loop
    async def test_at_every_size_nothing_is_cut_that_is_needed(self) -> None:
        for size in ((160, 47), (100, 30), (80, 24)):
            async with self.running(size=size):
                await self.press("b", "plus", "enter", "enter")
                maker = self.app.screen
                assert isinstance(maker, Maker)
                for _ in range(6):
                    shown = "\n".join(maker.canvas.picture.rows())
                    self.assertIn("Enter goes on" if maker.making.step != "write" else "Enter writes it", shown)
                    await self.press("enter" if maker.making.step != "write" else "up")


if __name__ == "__main__":
    unittest.main()
