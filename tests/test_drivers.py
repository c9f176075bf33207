"""Motor drivers with three pins, and what brake and coast are on the pins of every kind."""

import csv
import io
import json
import os
import re
import unittest
from pathlib import Path

import numpy as np

from pivrex.diagnosis.practice import practise
from pivrex.errors import RigError
from pivrex.export.wiring import wiring_rows
from pivrex.line import Entry, Line
from pivrex.line.outputs import command_values, encode, settings_of
from pivrex.line.why import sentence
from pivrex.rig import Rig, read_text
from pivrex.rig.offered import offered
from pivrex.sim import IdealBody, Rollout
from pivrex.sim.body import RealisticBody
from pivrex.sim.fitted import is_released
from pivrex.sim.wiring import faulty
from tests.support import PLOVER, TempCase
from tests.test_bindings import Ticker, bound
from tests.test_cli import Ran

BUTTONS = bound("button_14", "brake") + bound("button_15", "coast")


def with_drivers(kind: str, *pins: str, more: str = "", body: str = "") -> str:
    """Plover's text with other drivers; ``pins`` are the names of their pins, numbered from 20."""
    text = PLOVER.read_text()
    for k, motor in enumerate(("left", "right")):
        numbers = "".join(f"{pin} = {20 + k * len(pins) + i}\n" for i, pin in enumerate(pins))
        bits = "" if kind in ("fraction", "percent", "speed", "servo") else "bits = 8\n"
        text, count = re.subn(
            rf"(\[motors\.{motor}\.output\]\n).*?\n\n", rf'\1kind = "{kind}"\n{bits}port = "M{k + 1}"\n{numbers}\n', text, flags=re.S
        )  # fmt: skip
        assert count == 1
    return text.replace("[body]", f"[body]\n{body}") + more


def rig_with(kind: str, *pins: str, more: str = "", body: str = "") -> Rig:
    return read_text(with_drivers(kind, *pins, more=more, body=body), Path("test.toml"), Rig)


THREE = ("enable_pin", "forward_pin", "backward_pin")


class HaltTest(unittest.TestCase):
    def values(self, ticker: Ticker) -> list[float]:
        return [
            float(ticker.get("outputs", f"left_{v.name}")) for v in command_values(ticker.line.rig) if v.motor == "left"
        ]

    def test_brake_and_coast_on_the_pins_of_each_kind(self) -> None:
        # what the data sheet of such a driver says: both inputs high joins the motor's ends, enable low lets go of them
        for kind, body, driven, braked, coasted in (
            ("three pins", "", [255, 1, 0], [255, 1, 1], [0, 0, 0]),
            ("two pins", 'at_zero = "coast"\n', [255, 0], [255, 255], [0, 0]),
            ("percent", "", [100], [0], [0]),
        ):
            with self.subTest(kind):
                t = Ticker().use(rig_with(kind, more=BUTTONS, body=body))
                t.tick(90, left_y=-1, button_5=1)
                self.assertEqual([round(v) for v in self.values(t)], driven)
                t.tick(left_y=-1, button_14=1)
                self.assertEqual(self.values(t), braked)
                self.assertEqual(t.get("outputs", "robot_coast"), 0)
                t.tick(left_y=-1, button_15=1)
                self.assertEqual(self.values(t), coasted)
                self.assertEqual(t.get("outputs", "robot_coast"), 1)
                # both at once: the one that stops it sooner
                t.tick(left_y=-1, button_14=1, button_15=1)
                self.assertEqual((self.values(t), t.get("outputs", "robot_coast")), (braked, 0))
                # let go, and stopped: as at rest
                t.tick(stop=True)
                self.assertEqual(self.values(t), t.line.resting()[: len(braked)].tolist())

    def test_a_motion_from_elsewhere_is_not_held_up(self) -> None:
        rig = rig_with("three pins", more=BUTTONS)
        line = Line(rig)
        raw = line.rest()
        raw[line.channels.index("button_14")] = 1.0
        row = Rollout(line, IdealBody(rig)).tick(raw, entry=Entry(twist=np.array([0.3, 0.0, 0.0])))
        self.assertEqual([row[line.layout.at("outputs", f"left_{n}")] for n in ("forward", "backward")], [1, 0])

    def test_attachments_and_steering_go_on(self) -> None:
        """A brake is the drive's: only motors that drive have braking values, whatever kind the others' drivers are."""
        arm = '[attachments.arm]\nkind = "motor"\noutput = { kind = "two pins" }\n' + bound("button_13", "arm 60 %")
        t = Ticker().use(rig_with("three pins", more=BUTTONS + arm))
        for brake in (0, 1):
            t.tick(button_13=1, button_14=brake)
            self.assertEqual([t.get("outputs", f"arm_{way}_duty") for way in ("forward", "backward")], [153, 0])
            self.assertEqual(t.get("outputs", "left_duty"), 255 * brake)

    def test_the_why_says_it(self) -> None:
        t = Ticker().use(rig_with("three pins", *THREE, more=BUTTONS))
        t.tick(60, left_y=-1)
        self.assertRegex(sentence(t.line, t.row, "left"), r"\d+/255 forward, pin 21 high$")
        self.assertRegex(
            sentence(t.line, t.row, "right"), r"\d+/255 forward, pin 25 high$"
        )  # mounted the other way round
        t.tick(button_14=1)
        self.assertIn("255/255 brake, pin 21 and pin 22 high", sentence(t.line, t.row, "left"))
        t.tick(button_15=1)
        self.assertIn("0/255 coast, both directions low", sentence(t.line, t.row, "left"))
        t.tick()
        self.assertIn("0/255 rest, both directions low", sentence(t.line, t.row, "left"))

    def test_what_a_driver_cannot_is_a_mistake_with_a_remedy(self) -> None:
        for kind, body, does, wanted in (
            ("magnitude", "", "coast", '"three pins" can coast, and at_zero = "coast" in [body] says that yours does'),
            ("two pins", "", "coast", "the driver of motor left (two pins) brakes while it gets nothing"),
            ("servo", 'at_zero = "coast"\n', "brake", '"two pins" and "three pins" can brake, and at_zero = "brake"'),
        ):
            with self.assertRaises(RigError) as caught:
                rig_with(kind, more=bound("button_14", does), body=body)
            (mistake,) = caught.exception.mistakes
            self.assertEqual(mistake.key, "bindings.4.does")
            self.assertIn(wanted, str(mistake))
            self.assertNotIn(does, [text for text, _ in offered(rig_with(kind, body=body))])
        # who hears `robot coast` at the other end of a link can switch the drivers off
        rig_with("magnitude", more=bound("button_14", "coast") + '[link]\nwire = { kind = "udp", port = 5810 }\n')
        can = [text for text, _ in offered(rig_with("three pins"))]
        self.assertTrue({"brake", "coast"} <= set(can))

    def test_a_pin_that_is_missing_or_there_twice(self) -> None:
        for pins, change, key, what in (
            (THREE[:2], ("", ""), "motors.left.output.backward_pin", "is missing; a driver with three pins needs"),
            (
                THREE,
                ("backward_pin = 22", "backward_pin = 21"),
                "motors.left.output.backward_pin",
                "is pin 21, which motors.left",
            ),
            (
                THREE,
                ("enable_pin = 23", "enable_pin = 20"),
                "motors.right.output.enable_pin",
                "is pin 20, which motors.left",
            ),
        ):
            text = (
                with_drivers("three pins", *pins).replace(*change) if change[0] else with_drivers("three pins", *pins)
            )
            with self.assertRaises(RigError) as caught:
                read_text(text, Path("test.toml"), Rig)
            first = caught.exception.mistakes[0]
            self.assertEqual(first.key, key)
            self.assertIn(what, str(first))
            self.assertIn("[motors.", "\n".join(text.splitlines()[first.line - 8 : first.line]))


class BodyTest(unittest.TestCase):
    def rolled(self, rig: Rig, values: list[float]) -> float:
        """How far the robot goes on, in m, from 0.5 m/s with its drivers commanded ``values`` each."""
        model = RealisticBody(rig)
        drive = np.zeros(model.drives)
        drive[:2] = 0.5, -0.5
        command, state = encode(settings_of(rig), drive), model.start()
        for _ in range(120):
            state = model.step(state, command, 1 / 60)
        begin = state.pose.copy()
        command[: 2 * len(values)] = values * 2
        for _ in range(240):
            state = model.step(state, command, 1 / 60)
        return float(np.hypot(*(state.pose - begin)[:2]))

    def test_a_braking_robot_stops_sooner_than_one_that_rests_or_coasts(self) -> None:
        rig = rig_with("three pins")
        rest, brake = self.rolled(rig, [0, 0, 0]), self.rolled(rig, [255, 1, 1])
        self.assertGreater(rest, 2 * brake)
        self.assertEqual(self.rolled(rig, [0, 1, 0]), rest)  # without enable directions do nothing
        self.assertEqual(self.rolled(rig, [255, 0, 0]), brake)  # both low with enable high join its ends as well
        # two pins with the same numbers: both low is what at_zero says, both high brakes
        self.assertEqual(self.rolled(rig_with("two pins", body='at_zero = "coast"\n'), [0, 0]), rest)
        self.assertEqual(self.rolled(rig_with("two pins", body='at_zero = "coast"\n'), [255, 255]), brake)
        self.assertEqual(self.rolled(rig_with("two pins"), [0, 0]), brake)

    def test_each_driver_lets_go_by_itself(self) -> None:
        fitted = RealisticBody(rig_with("three pins")).fitted.plain
        commanded = [127.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1500.0, 0.0]
        self.assertEqual([is_released(fitted, commanded, slot) for slot in (0, 1)], [False, True])

    def test_electronics_that_start_again_leave_the_pins_low(self) -> None:
        """Commanded full speed while they are off: with three pins it rolls, with two it brakes."""
        speeds = []
        for kind in ("three pins", "two pins"):
            rig = rig_with(kind)
            model, command = RealisticBody(rig), encode(settings_of(rig), np.array([1.0, -1.0, 0.0, 0.0]))
            state = model.start()._replace(lifted=np.array(1.0), restart=np.array(1.0), spin=np.array([10.0, 10.0]))
            for _ in range(3):
                state = model.step(state, command, 1 / 60)
            speeds.append(float(state.spin[0]))
        self.assertGreater(speeds[0], speeds[1] + 1.0)


class PersonTest(TempCase):
    """The commands that a practitioner uses."""

    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())
        Path("rigs/three.toml").write_text(with_drivers("three pins", *THREE))

    def test_the_values_and_the_wiring(self) -> None:
        found = json.loads(Ran("wheels", "three", "--forward", "0.5", "--json").out)
        # 0.5 of 1.0053 m/s of 255 is 126.8
        self.assertEqual(found["wheels"][0]["output"], {"kind": "three pins", "duty": 127, "forward": 1, "backward": 0})
        self.assertEqual(found["wheels"][1]["output"], {"kind": "three pins", "duty": 127, "forward": 0, "backward": 1})
        self.assertEqual(Ran("export", "wiring", "three", "-o", "w.csv", "-o", "w.svg").code, 0)
        rows = [row[:4] for row in csv.reader(io.StringIO(Path("w.csv").read_text()))]
        for pin, signal in ((20, "enable"), (21, "forward"), (22, "backward")):
            self.assertIn(["left", "M1", str(pin), signal], rows)
        self.assertIn("enable", Path("w.svg").read_text())
        self.assertIn("out 3: left backward", Ran("wire", "three").out)
        self.assertEqual(len(wiring_rows(rig_with("three pins", *THREE))), 6 + 2 + 4 + 2 + 5 + 1)

    def test_the_shakedown_finds_a_swapped_plug(self) -> None:
        path = Path("rigs/three.toml")
        rig = read_text(path.read_text(), path, Rig)
        report = practise(rig, path.read_text(), path, faulty(rig, "swap left/right, reverse left"))
        self.assertTrue(report.correct)
        changes = [str(c) for c in report.changes]
        self.assertIn("motors.left.output.port: M1 → M2", changes)
        self.assertIn("motors.left.output.enable_pin: 20 → 23", changes)

    def test_a_new_robot_with_them(self) -> None:
        ran = Ran("new", "pins", "--name", "Pins", "--output", "three pins")
        self.assertEqual(ran.code, 0, ran.err)
        text = next(Path().glob("**/pins.toml")).read_text()
        for line in ("enable_pin = 2", "forward_pin = 3", "backward_pin = 4", "enable_pin = 5"):
            self.assertIn(line, text)
