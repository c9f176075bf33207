"""Motors on a bench: a rig without a chassis, in the line, on the screen, by commands, and with what does not go there."""

import json
import math
import os
import re
from pathlib import Path

import numpy as np

from pivrex.devices.robot_sentences import SensedWire
from pivrex.diagnosis.practice import practise
from pivrex.diagnosis.smallest import Sweep
from pivrex.errors import RigError, UnitError
from pivrex.line import Line
from pivrex.line.why import ladder, sentence
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.nudge import setting_at
from pivrex.sim import IdealBody, Rollout
from pivrex.sim.wiring import faulty
from tests.support import TempCase, slow, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_cli import Ran
from tests.test_files_attacked import MashCase
from tests.test_terminal import TerminalCase

WINCH = """
name = "Winch"
rate = "50 Hz"
lag = "50 ms"
[motors.drum]
top_speed = "9000 rpm"
gear = 30
counts_per_turn = 12
smallest = "5 %"
output = { kind = "three pins", bits = 8, port = "M1", enable_pin = 5, forward_pin = 7, backward_pin = 8 }
[motors.roller]
top_speed = "200 rpm"
counts_per_turn = 360
reversed = true
output = { kind = "three pins", bits = 8, port = "M2", enable_pin = 6, forward_pin = 3, backward_pin = 4 }
[shaping.motors.drum]
dead_band = 0.2
scale = 0.5
[shaping.motors.roller]
dead_band = 0
[attachments.claw]
kind = "servo"
minimum = "0 deg"
maximum = "90 deg"
[[bindings]]
channel = "button_0"
does = "claw to 60 deg"
[[bindings]]
channel = "button_1"
does = "brake"
[[bindings]]
channel = "button_2"
does = "coast"
[[bindings]]
channel = "button_3"
does = "slow 40 %"
[[speed_levels.levels]]
name = "slow"
moving = "40 %"
[[speed_levels.levels]]
name = "full"
"""


def bench(*changes: tuple[str, str]) -> Rig:
    text = WINCH
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return read_text(text, Path("winch.toml"), Rig)


class LineTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.line = Line(bench())
        self.rollout = Rollout(self.line, IdealBody(self.line.rig))
        self.row = np.zeros(0)

    def drive(self, ticks: int = 40, **held: float) -> None:
        raw = self.line.rest()
        for channel, value in held.items():
            raw[self.line.inputs.names.index(channel)] = value
        for _ in range(ticks):
            self.row = self.rollout.tick(raw)

    def get(self, stage: str, name: str) -> float:
        return float(self.row[self.line.layout.at(stage, name)])

    def test_each_channel_drives_its_motor_shaped_scaled_and_limited(self) -> None:
        self.drive(left_y=-0.6, right_y=0.25)
        # (0.6 - 0.2)/(1 - 0.2)·0.5 is a quarter of 300 rpm: 7.854 rad/s. Near is backward: a quarter of 200 rpm
        self.assertAlmostEqual(self.get("law", "drum_asked"), 0.25 * 10 * math.pi)
        self.assertAlmostEqual(self.get("wheels", "roller_requested"), -0.25 * 20 * math.pi / 3)
        self.assertEqual(self.get("outputs", "drum_duty"), 64)  # 63.75
        self.assertEqual([self.get("outputs", f"drum_{n}") for n in ("forward", "backward")], [1, 0])
        self.assertEqual(
            [self.get("outputs", f"roller_{n}") for n in ("forward", "backward")], [1, 0]
        )  # mounted the other way
        self.assertAlmostEqual(self.get("sensed", "drum_speed"), 64 / 255 * 10 * math.pi, places=3)  # in rad/s
        self.assertEqual([self.get("truth", n) for n in ("x", "y", "heading")], [0, 0, 0])
        titles = self.line.layout.titles
        self.assertTrue(
            {"sensed.drum_travel_rad", "wheels.drum_requested_rad_s", "limits.roller_lost_rad_s"} <= set(titles)
        )

    def test_levels_brake_and_attachments(self) -> None:
        self.rollout.state = self.line.choose_level(self.rollout.state, -1)
        self.drive(1)
        self.drive(left_y=-1.0, right_y=-1.0, button_0=1.0)
        self.assertAlmostEqual(self.get("wheels", "drum_requested"), 0.4 * 0.5 * 10 * math.pi)
        self.assertAlmostEqual(self.get("attachments", "claw_target"), math.radians(60))
        self.drive(1, left_y=-1.0, button_1=1.0)
        self.assertEqual(self.get("wheels", "drum_requested"), 0)
        self.assertEqual([self.get("outputs", f"drum_{n}") for n in ("duty", "forward", "backward")], [255, 1, 1])
        self.drive(20, left_y=-1.0, button_3=1.0)
        self.assertAlmostEqual(self.get("wheels", "drum_requested"), 0.4 * 0.4 * 0.5 * 10 * math.pi)
        self.drive(1, left_y=-1.0, button_2=1.0)
        self.assertEqual((self.get("wheels", "drum_requested"), self.get("outputs", "drum_duty")), (0, 0))

    def test_a_loop_holds_the_speed_against_a_weak_motor(self) -> None:
        rig = bench(("[shaping.motors.drum]", '[control]\nwheels = "pid"\np = 0.5\ni = 4\n[shaping.motors.drum]'))
        line = Line(rig)
        weak = rig.model_copy(
            update={"motors": {**rig.motors, "drum": rig.motors["drum"].model_copy(update={"top_speed_rad_s": 600.0})}}
        )
        rollout, raw = Rollout(line, IdealBody(weak)), line.rest()
        raw[line.inputs.names.index("left_y")] = -1.0
        for _ in range(300):
            row = rollout.tick(raw)
        # half of 300 rpm, 15.7 rad/s, though the motor has only 600 of the 942 rad/s that the rig says: alone it makes 10 of them
        self.assertAlmostEqual(row[line.layout.at("wheels", "drum_requested")], 5 * math.pi)
        self.assertAlmostEqual(row[line.layout.at("sensed", "drum_speed")], 5 * math.pi, delta=1.0)

    def test_the_why_is_told_in_turns_a_minute(self) -> None:
        self.drive(left_y=-0.6)
        said = sentence(self.line, self.row, "drum")
        self.assertEqual(
            said,
            "why drum: drum stick 0.60 → band 0.50 → curve 0.50 → scale 0.25 → 75 rpm → 64/255 forward, pin 7 high",
        )
        rungs = [(r.stage, r.text) for r in ladder(self.line, self.row, "drum")]
        self.assertIn(("law", "drum +0.250, level full (moving 100 %, turning 100 %) → 75 rpm"), rungs)
        self.assertNotIn("m/s", " ".join(text for _, text in rungs))


class FileTest(TempCase):
    def test_what_may_be_left_out(self) -> None:
        rig = bench()
        self.assertTrue(rig.is_bench)
        self.assertEqual(rig.law.axes(), {"drum": "left_y", "roller": "right_y"})
        own = bench(("[shaping.motors.drum]", '[law.motors]\ndrum = "right_y"\n[shaping.motors.drum]'))
        self.assertEqual(own.law.axes(), {"drum": "right_y", "roller": "left_y"})
        self.assertEqual(bench(("[shaping.motors.roller]\ndead_band = 0\n", "")).shaping.of("roller").dead_band, 0.05)

    def test_motors_with_names_of_functions_and_with_spaces(self) -> None:
        """left, turn and back mean something in other laws; here they are motors, with their own shaping and any channel."""
        for name in ("left", "turn", "back", "big drum"):
            key = f'"{name}"' if " " in name else name
            rig = bench(
                ("[motors.drum]", f"[motors.{key}]"), ("[shaping.motors.drum]", f"[shaping.motors.{key}]"),
            )  # fmt: skip
            line = Line(rig)
            raw = line.rest()
            raw[line.inputs.names.index("left_y")] = -1.0
            _, row = line.step(line.start(), raw, np.zeros(len(line.stages["sensed"].columns)))
            self.assertEqual(rig.shaping.key(name), f"shaping.motors.{name}")
            wheel = name.replace(" ", "_")
            self.assertAlmostEqual(row[line.layout.at("wheels", f"{wheel}_requested")], 0.5 * 10 * math.pi)
            self.assertIn("150 rpm", sentence(line, row, name))

    def test_yes_and_no_are_choices(self) -> None:
        rig, flag = bench(), setting_at("motors.drum.reversed")
        self.assertEqual((flag.choices, flag.choice(rig), flag.shown(rig, None)), (("no", "yes"), "no", "no"))
        self.assertEqual(setting_at("motors.roller.reversed").choice(rig), "yes")
        for found, wanted in (
            (flag.stepped(rig, None, 1), True),
            (flag.typed(None, "yes"), True),
            (flag.typed(None, "no"), False),
        ):
            self.assertIs(found, wanted)
        with self.assertRaisesRegex(UnitError, "one of no, yes"):
            flag.typed(None, "true")

    def test_what_is_wrong_there(self) -> None:
        for old, new, key, what in (
            ('[motors.drum]\n', '[motors.drum]\nwheels = ["left"]\n', "motors.drum.wheels", "the rig has no [chassis]"),
            ("[shaping.motors.drum]", '[law]\nkind = "tank"\n[shaping.motors.drum]', "law.kind", 'without [chassis] it is "each"'),
            ("[shaping.motors.drum]", '[law.motors]\nlift = "left_y"\n[shaping.motors.drum]', "law.motors.lift", "is no motor"),
            ("[shaping.motors.drum]", '[law.motors]\ndrum = "right_y"\nroller = "right_y"\n[shaping.motors.drum]',
             "law.motors.roller", "reads"),
            ("[shaping.motors.roller]", "[shaping.motors.wheel]", "shaping.motors.wheel", "is no motor"),
            ('does = "claw to 60 deg"', 'does = "forward 50 %"', "bindings.1.does", "there is no robot that moves"),
            ("[attachments.claw]", "[gyro]\n[attachments.claw]", "gyro", "needs wheels on the floor"),
            ("[attachments.claw]", '[body]\nkind = "realistic"\n[attachments.claw]', "body", "needs wheels on the floor"),
        ):  # fmt: skip
            with self.subTest(new), self.assertRaises(RigError) as caught:
                bench((old, new))
            self.assertIn((key, True), [(m.key, what in str(m)) for m in caught.exception.mistakes])
            self.assertTrue(all(m.line > 1 for m in caught.exception.mistakes if m.key == key))
        with self.assertRaisesRegex(RigError, "needs one at least"):
            read_text('name = "Empty"\n[motors]\n', Path("e.toml"), Rig)
        chassis = '[chassis]\nlength = "200 mm"\nwidth = "200 mm"\nwheels = [{ name = "a", x = "0 mm", y = "80 mm", radius = "30 mm" }, '
        chassis += '{ name = "b", x = "0 mm", y = "-80 mm", radius = "30 mm" }]\n'
        with self.assertRaises(RigError) as caught:
            bench(("[motors.drum]", f'[law]\nkind = "each"\n{chassis}[motors.drum]'))
        said = str(caught.exception)
        self.assertIn('law.kind: is "each", which drives motors on a bench', said)
        self.assertIn("motors.drum.wheels: is missing; the wheels it turns", said)
        self.assertIn("shaping.motors: is for motors on a bench, in a rig without [chassis]", said)


class CountsTest(TempCase):
    def test_a_board_on_the_bench_may_say_counts(self) -> None:
        link = '[link]\nwire = { kind = "udp", port = 5810 }\nencoders = "counts"\n'
        line = Line(bench(("[attachments.claw]", f"{link}[attachments.claw]")))
        wire = SensedWire(line)
        self.assertEqual([c.title for c in wire.columns], ["sensed.drum_travel_counts", "sensed.roller_travel_counts"])
        wire.read(np.zeros(2), 0)
        sensed = wire.read(np.array([360.0, 36.0]), 50)
        # a turn of the drum is 360 counts, so is one of the roller; both in 50 ms
        np.testing.assert_allclose(sensed, [math.tau, math.tau / 10, math.tau / 0.05, math.tau / 10 / 0.05])


class CommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())
        Path("rigs/winch.toml").write_text(WINCH)

    def test_commands(self) -> None:
        self.assertEqual(Ran("check", "rigs/winch.toml").out.strip(), "rigs/winch.toml: no mistakes")
        self.assertIn("motor drum: by left_y, top 300 rpm, output three pins", Ran("describe", "winch").out)
        self.assertEqual(json.loads(Ran("describe", "winch", "--json").out)["wheels"], [])
        self.assertIn("back 1: drum_travel in rad", Ran("wire", "winch").out)
        self.assertEqual(Ran("export", "curve", "winch", "-o", "c.svg").code, 0)
        self.assertIn("rpm", Path("c.svg").read_text())
        self.assertEqual(Ran("export", "wiring", "winch", "-o", "w.csv").code, 0)
        for words in (
            ("wheels", "winch", "--forward", "1"), ("heading", "winch", "--turn", "90"), ("tune", "winch", "--loop", "wheel"),
            *(("export", what, "winch", "-o", "x.svg") for what in ("chassis", "envelope", "response")),
        ):  # fmt: skip
            ran = Ran(*words)
            self.assertEqual((ran.code, ran.out), (1, ""))
            self.assertIn("Winch is a bench: motors without a robot", ran.err)

    def test_routines_move_attachments_and_nothing_else(self) -> None:
        Path("routines/a.txt").write_text("for winch\nwait 0.5 s\nmove claw to 30 deg\n")
        self.assertIn("finished after", Ran("play", "a").out)
        Path("routines/b.txt").write_text(
            "for winch\ndrive ahead 1 m\nturn left 90 deg\nfollow 1 m, 1 m then 2 m, 1 m\n"
        )
        err = Ran("check", "routines/b.txt").err + Ran("check", "routines/b.txt").out
        for line in (2, 3, 4):
            self.assertIn(f"routines/b.txt:{line}: column 1: drives, but Winch is a bench", err)

    def test_the_smallest_duties_are_looked_for_once(self) -> None:
        """There is no floor to put a bench on: what turns each motor in the air is what is written."""
        sweep = Sweep(bench())
        for name, duty in (("drum", 0.061), ("roller", 0.034)):
            ramp = sweep.next("up")
            assert ramp is not None
            self.assertEqual(ramp[0], name)
            sweep.take(name, "up", duty)
        self.assertEqual((sweep.next("up"), sweep.next("floor")), (None, None))
        self.assertEqual(
            [str(c) for c in sweep.changes()],
            ["motors.drum.smallest: 5 % → 6.5 %", "motors.roller.smallest: 0 % → 3.5 %"],
        )

    def test_the_shakedown_finds_port_and_signs(self) -> None:
        path = Path("rigs/winch.toml")
        rig = read_rig(path)
        for seed in range(4):
            report = practise(rig, path.read_text(), path, faulty(rig, "random", seed), "up")
            self.assertTrue(report.correct, seed)


class ScreenTest(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.rig_file = self.home / "rigs" / "winch.toml"
        self.rig_file.write_text(WINCH)
        text = (self.home / "workspace.toml").read_text()
        (self.home / "workspace.toml").write_text(text.replace('rig = "plover"', 'rig = "winch"'))

    @in_loop
    async def test_views(self) -> None:
        async with self.running(view="driver"):
            await self.press("w", "w", "w", "w")
            for _ in range(4):
                await self.frames(20)
            driver = self.text("driver")
            self.assertIn("drum (law each)", driver)
            self.assertRegex(driver, r"(?s)motors.*drum .*\+150 .*\+1[45]\d rpm")
            self.assertIn("attachments", driver)
            await self.press("2")
            self.assertRegex(self.text("shaping"), r"drum .*300 rpm.*roller .*200 rpm.*what drives")
            await self.press("3")
            chassis = self.text("chassis")
            self.assertRegex(chassis, r"drum .*\+150 .*rpm")
            self.assertRegex(chassis, r"(?s)motor drum.*top speed +9000 rpm.*smallest +5 %")
            self.assertNotIn("m/s", chassis)
            await self.press("n")
            self.assertIn("motor roller", self.text("chassis"))
            for digit, view in (("4", "heading"), ("5", "field"), ("6", "routine")):
                await self.press(digit, "plus", "down", "enter", "v", "escape")
                self.assertIn("Winch is a bench: motors and attachments without a robot", self.text(view))
                self.assertNotIn("nearer", self.text("foot"))
            self.assertNotIn("robot frame", self.text("head"))
            self.assertEqual(self.text("line").count("no robot"), 3)

    @in_loop
    async def test_a_motor_with_an_encoder_beside_them_says_its_rpm(self) -> None:
        reel = '[attachments.reel]\nkind = "motor"\noutput = { kind = "percent" }\ncounts_per_turn = 100\ntop_speed = "60 rpm"\n'
        self.rig_file.write_text(f'{WINCH}{reel}[[bindings]]\nchannel = "button_4"\ndoes = "reel 50 %"\n')
        async with self.running(view="driver"):
            await self.press("f5")
            await self.until(lambda: re.search(r"reel +\+50 % +\+30 rpm", self.text("driver")), 20)

    @in_loop
    async def test_another_robot_and_back(self) -> None:
        """The same views, with a chassis and without."""
        async with self.running(view="field"):
            pair = WINCH.replace("drum", "left").replace("roller", "turn").replace('"Winch"', '"Pair"')
            (self.home / "rigs" / "pair.toml").write_text(pair)
            for name in ("plover", "winch", "avocet", "pair"):
                self.model.open_rig(self.home / "rigs" / f"{name}.toml")
                for digit in "1234567":
                    await self.press(digit)
                self.assertEqual("is a bench" in self.text("field"), name in ("winch", "pair"))


@slow
class MashBenchTest(MashCase):
    @in_loop
    async def test_a_thousand_keys(self) -> None:
        (self.home / "rigs" / "winch.toml").write_text(WINCH)
        text = (self.home / "workspace.toml").read_text()
        (self.home / "workspace.toml").write_text(text.replace('rig = "plover"', 'rig = "winch"'))
        await self.mash(20261130, 1_400)


class TerminalTest(TerminalCase):
    def test_drive_tune_and_shake_down(self) -> None:
        folder = self.folder / "shop"
        (folder / "rigs").mkdir(parents=True)
        file = folder / "rigs" / "winch.toml"
        file.write_text(WINCH)
        terminal = self.open("open", str(file))
        terminal.wait("bench")
        terminal.keys("3", "w", "w", "w", "w")
        wait_for(lambda: "drum stick 1.00" in terminal.row(-2) and "150 rpm" in terminal.row(-2), 20, terminal.screen)
        terminal.keys("Escape")
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)
        terminal.keys("c")
        terminal.wait("the encoders say what moved")
        terminal.keys("Enter")
        terminal.wait("Enter sends it")
        terminal.keys("Enter")
        terminal.wait("you say what moved")
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")
