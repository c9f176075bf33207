"""Floors of a workspace next to its field, and the practice floors of the demo: each can be done, by a routine that is shown here."""

import json
import os
from pathlib import Path

import numpy as np

from pivrex.errors import RigError, RoutineError
from pivrex.rig import open_folder, read_rig
from pivrex.routine import check_text, play
from pivrex.routine.files import check_file, field_of, program_of
from pivrex.routine.rehearsal import reached, rehearse
from pivrex.session.messages import LayOut
from tests.chassis import demo_path
from tests.support import DEMO, TempCase, often, slow
from tests.test_app import in_loop
from tests.test_cli import Ran
from tests.test_rehearsal import seeds
from tests.test_routine_view import RoutineCase

DONE = {
    "straight": ("goal", "drive ahead 3 m at 60 %"),
    "bend": ("goal", "drive ahead 1.65 m at 60 %\nbend left 90 deg with radius 40 cm\ndrive ahead 1.6 m at 60 %"),
    "slalom": (
        "goal",
        "own move out with angle 45 deg, wide 50 cm\n    bend left angle with radius wide\n    bend right angle with radius wide\n"
        "own move in with angle 45 deg, wide 50 cm\n    bend right angle with radius wide\n    bend left angle with radius wide\n"
        "do out with angle 45.6 deg, wide 70 cm\ndo in with angle 75 deg, wide 57 cm\ndo out with angle 75 deg, wide 57 cm\n"
        "do in with angle 50 deg, wide 58 cm",
    ),
    "out-and-back": (
        "home",
        "from now on drive at 1 m/s\nfrom now on turn at 200 deg/s\ndrive ahead 1.7 m\nturn right 45 deg\ndrive ahead 60 cm\n"
        "bend left 270 deg with radius 55 cm\nturn to 180 deg\ndrive to 0.5 m, 1.5 m",
    ),
}
"""For each practice floor its zone, and a routine that reaches it."""

HARDEST = "slalom"


class PracticeTest(TempCase):
    def test_each_has_a_routine_to_begin_with_that_does_not_reach_it_yet(self) -> None:
        folder = open_folder(DEMO)
        self.assertEqual(set(folder.floors()), set(DONE))
        rig = read_rig(demo_path("plover"))
        found = {}
        for path in sorted((DEMO / "routines").glob("practice-*.txt")):
            checked = check_file(path, rig, 25.0)
            self.assertEqual(checked.mistakes, (), path)
            assert checked.program is not None
            field = field_of(checked.program, folder)
            assert field is not None
            made = play(checked.program, rig, field)
            self.assertEqual((made.ended, [s.marks for s in made.steps if "bumped" in s.marks]), ("finished", []), path)
            zone = next(z for z in field.zones if z.name == DONE[checked.program.floor][0])
            found[checked.program.floor] = (
                float(np.hypot(made.pose[0] - zone.x_m, made.pose[1] - zone.y_m)) <= zone.radius_m
            )
        self.assertEqual(found, dict.fromkeys(DONE, False))

    @slow
    def test_each_can_be_done(self) -> None:
        folder, rig = open_folder(DEMO), read_rig(demo_path("plover"))
        for name, (zone, text) in DONE.items():
            checked = check_text(
                f"for plover\non floor {name!r}\n".replace("'", '"') + text, rig, floors=folder.floors()
            )
            assert checked.program is not None, checked.wrong
            field = field_of(checked.program, folder)
            assert field is not None
            made = play(checked.program, rig, field)
            self.assertEqual([s.text for s in made.steps if "bumped" in s.marks], [], name)
            x, y, _ = made.pose
            (wanted,) = (z for z in field.zones if z.name == zone)
            self.assertLess(np.hypot(x - wanted.x_m, y - wanted.y_m), wanted.radius_m, name)
            if name == HARDEST and often(1, 0):
                found = rehearse(checked.program, rig, field, seeds(1, 20), 25.0)
                assert found is not None
                self.assertGreaterEqual(reached(found, field)[zone], 0.8, name)


class FloorTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())

    def test_headless_commands_drive_on_the_floor_that_the_routine_says(self) -> None:
        told = json.loads(Ran("play", "practice-1-straight", "--json").out)
        self.assertAlmostEqual(told["pose"]["x_m"], 2.9, delta=0.05)
        told = json.loads(Ran("rehearse", "practice-1-straight", "--times", "2", "--workers", "1", "--json").out)
        self.assertEqual(told["reached"], {"goal": 0.0})
        ran = Ran("export", "routine", "practice-2-bend", "-o", "bend.svg")
        self.assertEqual(ran.code, 0, ran.err)
        self.assertIn("shed", Path("bend.svg").read_text())

    def test_what_is_wrong_with_a_floor(self) -> None:
        rig = read_rig(demo_path("plover"))
        path = Path("routines/x.txt")
        path.write_text('on floor slalm\nwait 1 s\non floor "bend"')
        with self.assertRaises(RoutineError) as caught:
            program_of(path, rig)
        said = str(caught.exception)
        self.assertIn('x.txt:1: column 10: no floor is called "slalm", nearest is "slalom"', said)
        self.assertIn("x.txt:3: ", said)
        floor = Path("floors/bend.toml")
        floor.write_text(floor.read_text().replace('radius = "0.12 m"', 'radius = "12"'))
        with self.assertRaisesRegex(RigError, "bend.toml:22: "):
            open_folder(Path()).floor("bend")
        with self.assertRaisesRegex(RigError, "there are: "):
            open_folder(Path()).floor("nowhere")
        self.assertIn("bend.toml:22: ", Ran("check", "floors/bend.toml").out)
        self.assertEqual(Ran("check", "floors/straight.toml").code, 0)


class FloorViewTest(RoutineCase):
    @in_loop
    async def test_the_floor_follows_the_routine(self) -> None:
        async with self.open() as view:
            self.assertIn("greenhouse 5 × 4 m", self.screen())
            view.open(self.home / "routines" / "practice-3-slalom.txt")
            await self.settle()
            await self.frames(3)
            self.assertIn("slalom 5 × 2.4 m", self.screen())
            self.assertIn("tub 2", self.screen())
            self.assertIsInstance(next(r for r in self.asked if isinstance(r, LayOut)), LayOut)
            await self.press("M")
            await self.frames(2)
            # at the start of that floor
            self.assertEqual(self.model.status.match.start, (0.4, 1.2, 0.0))
            self.assertIn("starts at 0.40 m, 1.20 m, 0 deg", " ".join(self.screen().split()))
            await self.press("L", "5")
            await self.frames(2)
            self.assertIn("slalom", self.text("field"))
            view.open(self.file)
            await self.press("6")
            await self.settle()
            await self.frames(3)
            self.assertIn("greenhouse 5 × 4 m", self.screen())
            self.assertEqual(
                [r.field.name for r in self.asked if isinstance(r, LayOut) and r.field], ["slalom", "greenhouse"]
            )
