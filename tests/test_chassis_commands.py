"""The headless commands for every chassis, and the Chassis view in a real terminal."""

import json
import math
import os
import shutil
import signal
import unittest
from pathlib import Path
from tempfile import gettempdir
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.cli.opening import sweep_copies
from pivrex.devices.robot import SimulatedRobot
from pivrex.errors import MotionError, PivrexError
from pivrex.formats.recording import Recording
from pivrex.line.line import Line
from pivrex.line.questions.ask import ask_wheels, can_do
from pivrex.line.why import ladder, sentence
from pivrex.rig import open_folder, read_rig
from pivrex.rig.field import Field
from pivrex.sim import Rollout, simulator_of
from pivrex.sim.ideal import IdealBody
from tests.chassis import ALL, SOME, STEERED, demo_path, hub_by_moving, rig_of, rolled
from tests.support import DEMO, TempCase, slow, wait_for
from tests.test_cli import Ran
from tests.test_terminal import TerminalCase, all_gone

PLANAR_RIGS = ("bittern", "dunlin", "avocet")
RECORDINGS = {
    "plover": "watering",
    "coot": "hauling",
    "bittern": "strafing",
    "dunlin": "spinning",
    "avocet": "swinging",
}


@slow
class ChassisCommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        before = Path.cwd()
        self.addCleanup(os.chdir, before)
        os.chdir(self.demo())

    def json(self, *words: str) -> Any:
        ran = Ran(*words, "--json")
        self.assertEqual(ran.code, 0, ran.err)
        return json.loads(ran.out)

    def test_describe_says_what_each_wheel_is(self) -> None:
        wanted = {"coot": [None] * 4, "bittern": [-45.0, 45.0, 45.0, -45.0], "dunlin": [0.0] * 3, "avocet": [None] * 4}
        for name, rollers in wanted.items():
            wheels = self.json("describe", name)["wheels"]
            self.assertEqual([None if r is None else round(r, 9) for r in (w["roller_deg"] for w in wheels)], rollers)
            self.assertEqual({w["steered"] for w in wheels}, {name == "avocet"})
            for wheel in wheels:
                self.assertTrue(-180 < wheel["drive_deg"] <= 180)
        drives = [w["drive_deg"] for w in self.json("describe", "dunlin")["wheels"]]
        np.testing.assert_allclose(drives, [150, -90, 30], atol=1e-9)
        self.assertEqual(
            self.json("describe", "Avocet"), self.json("describe", "avocet")
        )  # a name is found in any case
        text = Ran("describe", "bittern").out
        for said in (
            "mecanum chassis: it moves in any direction and turns",
            "2228 counts/m",
            "on the spot",
            "about its left side",
        ):
            self.assertIn(said, text)

    def test_wheels_of_steered_robots_go_the_short_way(self) -> None:
        wheels = self.json("wheels", "avocet", "--left", "0.5", "--steer", "80,-80,0,-170")["wheels"]
        found = [(round(w["steer_deg"], 6), round(w["speed_m_s"], 6)) for w in wheels]
        # from -80 the short way to 90 is -90 with the wheel reversed; from -170 too; from 0 a quarter turn is not reversed
        self.assertEqual(found, [(90, 0.5), (-90, -0.5), (90, 0.5), (-90, -0.5)])
        ahead = self.json("wheels", "avocet", "--forward", "0.5", "--turn", "45")
        self.assertAlmostEqual(ahead["twist"]["forward_m_s"], 0.5)
        self.assertAlmostEqual(ahead["twist"]["turn_deg_s"], 45.0)
        still = self.json("wheels", "avocet", "--steer", "10,20,30,40")["wheels"]
        self.assertEqual([round(w["steer_deg"]) for w in still], [10, 20, 30, 40])
        self.assertIn("points +90.0 deg", Ran("wheels", "avocet", "--left", "0.2").out)

    def test_what_wheels_refuses(self) -> None:
        for words, said in (
            (("wheels", "avocet", "--steer", "1,2"), "4 steered wheels"),
            (("wheels", "bittern", "--steer", "1,2,3,4"), "has no steered wheels"),
            (("wheels", "coot", "--left", "0.2"), "its wheels only roll straight ahead"),
        ):
            ran = Ran(*words)
            self.assertEqual(ran.code, 1, words)
            self.assertIn(said, ran.err)
        for words in (("wheels", "avocet", "--steer", "a,b"), ("wheels", "avocet", "--steer", "nan,1,1,1")):
            self.assertEqual(Ran(*words).code, 2, words)

    def test_field_relative(self) -> None:
        # looking left along the field, moving along the field's forward is moving right for the robot
        found = self.json("wheels", "bittern", "--forward", "0.4", "--field", "--heading", "90")["twist"]
        self.assertAlmostEqual(found["left_m_s"], -0.4)
        self.assertAlmostEqual(found["forward_m_s"], 0.0)

    def test_shakedown(self) -> None:
        for name in ALL:
            found = self.json("shakedown", name, "--fault", "random", "--seed", "3")
            self.assertTrue(found["correct"])
            self.assertLessEqual(found["human_answers"], 1)
            self.assertEqual(found["explanations_left"], 1)
            self.assertEqual(len(found["fault"]), {"plover": 2, "dunlin": 3, "avocet": 8}.get(name, 4))
        ran = Ran("shakedown", "coot", "--fault", "swap front left/rear left", "--by", "person", "--on", "up")
        self.assertEqual(ran.code, 0)
        self.assertIn("motors.front left.output.port: M1 → M3", ran.out)
        self.assertIn("corrected", ran.out)
        self.assertEqual(self.json("shakedown", "plover", "--fault", "none")["correction"], [])
        self.assertEqual(Ran("shakedown", "coot", "--fault", "swap a/b").code, 1)
        self.assertEqual(Ran("shakedown", "coot", "--by", "guess").code, 2)
        self.assertEqual(Ran("shakedown", "coot", "--on", "ceiling").code, 2)

    def test_drawings_on_paper(self) -> None:
        for name in ALL:
            for what in ("chassis", "envelope"):
                pdf = ("-o", f"{what}.pdf") * (name == "avocet")
                ran = Ran("export", what, name, "-o", f"{name}-{what}.svg", *pdf)
                self.assertEqual(ran.code, 0, ran.err)
                self.assertIn(name.capitalize(), Path(f"{name}-{what}.svg").read_text())
                if pdf:
                    self.assertTrue(Path(f"{what}.pdf").read_bytes().startswith(b"%PDF"))
        self.assertIn("front left = forward − left − 0.21·turn", Path("bittern-chassis.svg").read_text())
        self.assertIn("mass centre", Path("avocet-chassis.svg").read_text())
        self.assertIn("turning 0 deg/s", Path("avocet-envelope.svg").read_text())

    def test_recorded_drivers_play_whole_and_bump_into_nothing(self) -> None:
        field = open_folder(DEMO).settings.field
        for name in SOME:
            recording, rig = RECORDINGS[name], read_rig(demo_path(name))
            line = Line(rig)
            layout = line.layout
            rows = np.array(_played(line, Recording(DEMO / "inputs" / f"{recording}.csv"), field))
            self.assertFalse(rows[:, layout.at("truth", "blocked")].any(), name)
            # of attachments NaN says that they should go nowhere new
            known = [i for i, t in enumerate(layout.titles) if not t.startswith("bindings.")]
            self.assertTrue(
                np.isfinite(rows[:, [k for k in known if layout.titles[k] != "correction.target_rad"]]).all()
            )
            x, y = rows[:, layout.at("truth", "x")], rows[:, layout.at("truth", "y")]
            self.assertGreater(np.hypot(np.diff(x), np.diff(y)).sum(), 8.0)
        # what the chassis is good at: Bittern faces its bench while it strafes, Dunlin turns seven times on the way
        self.assertIn("drivers", (DEMO / "workspace.toml").read_text())


def _played(line: Line, recording: Recording, field: Field) -> list[NDArray[np.float64]]:
    """Play a recording tick by tick with the body that the rig has, as the session does."""
    rollout, rows, tick = Rollout(line, simulator_of(line.rig, field)), [], 0
    columns = recording.columns_for(line)
    for reading in recording.readings():
        raw = np.array([reading.raw[c] if c else 0.0 for c in columns])
        while tick * line.dt_s <= reading.t_s + 1e-9:
            rows.append(rollout.tick(raw))
            tick += 1
    return rows


class AskTest(unittest.TestCase):
    @settings(max_examples=80)
    @given(
        st.sampled_from(ALL), st.floats(-0.4, 0.4), st.floats(-0.4, 0.4), st.floats(-100, 100),
        st.lists(st.floats(-180, 180), min_size=4, max_size=4),
    )  # fmt: skip
    def test_wheels_do_what_a_rigid_body_needs(
        self, name: str, forward: float, left: float, turn: float, steer: list[float]
    ) -> None:
        rig = read_rig(demo_path(name))
        aside = left if name in PLANAR_RIGS else None
        found = ask_wheels(rig, forward, aside, turn, steer_deg=steer if name == "avocet" else None)
        if found["limited"]:
            return
        twist = (forward, aside or 0.0, math.radians(turn))
        for wheel, said in zip(rig.chassis.wheels, found["wheels"], strict=True):
            hub = hub_by_moving(wheel.x_m, wheel.y_m, twist)
            if wheel.steered:
                if math.hypot(*hub) > 0.021:  # above the rig's threshold
                    angle = math.radians(said["steer_deg"])
                    way = said["speed_m_s"] * math.cos(angle), said["speed_m_s"] * math.sin(angle)
                    np.testing.assert_allclose(way, hub, atol=1e-6)
            else:
                slant = wheel.rollers_rad
                wanted = rolled((wheel.x_m, wheel.y_m, wheel.drive_rad, slant, False), hub)
                self.assertAlmostEqual(said["speed_m_s"], wanted, places=5)
            self.assertAlmostEqual(said["speed_rad_s"], said["speed_m_s"] / wheel.radius_m)

    def test_an_axle_off_the_centre_turns_about_itself(self) -> None:
        rig = rig_of([(-0.1, 0.25, 0.0, None, False), (-0.1, -0.25, 0.0, None, False)])
        found = ask_wheels(rig, 0.0, None, 90.0)
        self.assertAlmostEqual(found["twist"]["left_m_s"], 0.1 * math.pi / 2)
        with self.assertRaisesRegex(MotionError, "about the middle of its axle, -100 mm from the centre"):
            ask_wheels(rig, 0.0, 0.0, 90.0)

    def test_angles_are_as_many_as_steered_wheels(self) -> None:
        rig = rig_of([*STEERED[:2], (-0.2, 0.0, 0.0, 0.0, False)])
        self.assertEqual(len(rig.steered), 2)
        with self.assertRaisesRegex(PivrexError, "2 steered wheels: w0, w1"):
            ask_wheels(rig, 0.1, None, 0.0, steer_deg=[0.0])
        found = ask_wheels(rig, 0.0, None, 45.0)
        self.assertIsNone(found["wheels"][2]["steer_deg"])
        self.assertIn("in any direction", can_do(read_rig(demo_path("dunlin"))))


class WhyTest(unittest.TestCase):
    def test_the_why_of_every_robot_names_its_stages(self) -> None:
        for name in ALL:
            rig = read_rig(demo_path(name))
            line, robot = Line(rig), SimulatedRobot(IdealBody(rig, None))
            state, raw = line.start(), line.rest()
            raw[0], raw[1] = -0.7, -0.7
            for _ in range(40):
                state, row = line.step(state, raw, robot.sense())
                robot.command(line.commands(row), line.dt_s)
            for wheel in line.wheels:
                said = sentence(line, row, wheel)
                self.assertTrue(said.startswith(f"why {wheel}: "), said)
                rungs = ladder(line, row, wheel)
                stages = [r.stage for r in rungs]
                self.assertEqual("frame" in stages, name in PLANAR_RIGS)
                self.assertEqual("steer" in stages, name == "avocet")
                place = rungs[stages.index("wheel")].setting
                self.assertEqual(place, f"chassis.wheels.{line.wheels.index(wheel)}.x")
            if name == "avocet":
                self.assertIn("deg, points", said)

    def test_a_field_relative_motion_is_told_with_its_heading(self) -> None:
        rig = read_rig(demo_path("bittern"))
        line, robot = Line(rig), SimulatedRobot(IdealBody(rig, None))
        state, raw = line.start(), line.rest()
        turning = raw.copy()
        turning[line.channels.index("right_x")] = -1.0
        driving = raw.copy()
        driving[line.channels.index("left_y")] = -1.0
        for readings in [turning] * 60 + [driving] * 40:
            state, row = line.step(state, readings, robot.sense())
            robot.command(line.commands(row), line.dt_s)
        said = sentence(line, row, "front left")
        self.assertIn("heading", said)
        self.assertIn("forward − left − 0.21·turn =", said)


@slow
class ChassisTerminalTest(TerminalCase):
    def test_chassis_nudge_undo_shakedown_and_another_robot(self) -> None:
        self.workspace = self.folder / "demo"
        terminal = self.open(
            "demo", str(self.workspace), "--rig", "bittern", "--view", "chassis", "--fault", "random", "--seed", "2"
        )
        terminal.wait("front left  = forward − left − 0.21·turn")
        self.assertIn("practice, on a copy", terminal.row(0))
        (copy,) = [f for f in Path(gettempdir()).glob("pivrex-practice-*") if self.is_of(f, self.workspace)]
        self.addCleanup(shutil.rmtree, copy, ignore_errors=True)
        terminal.keys("v", "0", "Right", "Right", "Right", "Right", "Right")
        wait_for(lambda: "+0.10 m/s" in terminal.row(5), 20, terminal.screen)
        terminal.keys("Down", "Down", "Down", "Down", "Right")
        rig = copy / "rigs" / "bittern.toml"
        wait_for(lambda: read_rig(rig).chassis.wheels[0].x_m == 0.1, 20, terminal.screen)
        terminal.keys("u")
        wait_for(lambda: read_rig(rig).chassis.wheels[0].x_m == 0.095, 20, terminal.screen)
        terminal.keys("c", "Enter")
        terminal.wait("Practice: the faults are made up.")
        terminal.wait("12,288 explanations left")
        terminal.keys("Enter")
        terminal.wait("2 explanations left", 60)
        terminal.keys("Enter")
        terminal.wait("What moved?")
        terminal.keys("Down", "Enter")
        terminal.wait("1 explanation left")
        terminal.keys("Enter")
        terminal.wait("written to the copy of")
        self.assertNotEqual(rig.read_bytes(), demo_path("bittern").read_bytes())
        self.assertEqual((self.workspace / "rigs" / "bittern.toml").read_bytes(), demo_path("bittern").read_bytes())
        terminal.keys("c", "b")
        terminal.wait("which robot?")
        terminal.keys("Up", "Enter")
        terminal.wait("Avocet")
        terminal.wait("(forward − 0.105·turn, left + 0.105·turn)")
        terminal.keys("x")
        wait_for(lambda: len(list((copy / "exports").glob("avocet-*.pdf"))) == 2, 60, terminal.screen)
        terminal.resize(80, 24)
        terminal.wait("front left")
        terminal.keys("C-q")
        terminal.wait("what you changed while you practised is kept in")
        terminal.wait("ENDED with 0")

    @staticmethod
    def is_of(copy: Path, workspace: Path) -> bool:
        return (copy / ".copy-of").read_text("utf-8") == str(workspace.resolve())

    def test_a_fault_that_means_nothing_is_said_before_the_screen_opens(self) -> None:
        terminal = self.open("demo", str(self.folder / "demo"), "--fault", "nonsense")
        terminal.wait('the fault "nonsense" is not known')
        terminal.wait("ENDED with 1")

    def test_a_kill_in_the_middle_of_a_probe_leaves_the_rig_readable(self) -> None:
        self.workspace = self.folder / "demo"
        terminal = self.open("demo", str(self.workspace), "--rig", "avocet", "--view", "chassis", "--fault", "random")
        terminal.wait("front left  =")
        terminal.keys("c", "Enter", "Enter")
        terminal.wait("Enter sends it")
        terminal.keys("Enter")
        terminal.wait("Look.")
        screen, *children = terminal.pids()
        os.kill(screen, signal.SIGKILL)
        wait_for(lambda: all_gone(children), 20, str(children))
        (copy,) = [f for f in Path(gettempdir()).glob("pivrex-practice-*") if self.is_of(f, self.workspace)]
        sweep_copies()  # what was killed is no rig of the person's
        self.assertFalse(copy.exists())
        self.assertEqual((self.workspace / "rigs" / "avocet.toml").read_text(), demo_path("avocet").read_text())


if __name__ == "__main__":
    unittest.main()
