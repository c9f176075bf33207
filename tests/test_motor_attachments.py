"""Motors that turn no wheel: their smallest duty, their encoder, and the loop that holds their speed."""

import math
import unittest
from pathlib import Path

import numpy as np

from pivrex.devices.robot_sentences import SensedWire
from pivrex.errors import RigError
from pivrex.line import Line
from pivrex.rig import Rig, read_text
from pivrex.sim import IdealBody, Rollout
from tests.support import PLAIN
from tests.test_bindings import bound, rig_of

ROLLER = """[attachments.roller]
kind = "motor"
top_speed = "300 rpm"
output = {{ kind = "fraction" }}
{}
"""
TOP = 10 * math.pi
"""300 rpm in rad/s."""


def rig(more: str = "", does: str = "roller 40 %") -> Rig:
    return rig_of(bound("button_0", does), bound("right_y", "roller follows", dead_band="0 %"), ROLLER.format(more))


class MotorTest(unittest.TestCase):
    def drive(self, rig: Rig, ticks: int, real: Rig | None = None, **held: float) -> tuple[Line, np.ndarray]:
        """The Tick after some, in which channels are held; ``real`` is the robot as it is."""
        line = Line(rig)
        rollout, raw = Rollout(line, IdealBody(real or rig)), line.rest()
        row = rollout.tick(raw)
        for channel, value in held.items():
            raw[line.inputs.names.index(channel)] = value
        for _ in range(ticks):
            row = rollout.tick(raw)
        return line, row

    def test_what_is_commanded_lies_between_the_smallest_and_full_drive(self) -> None:
        # 0.1 + 0.9·s by hand; with nothing commanded there is nothing
        for push, wanted in ((0.0, 0.0), (-0.01, 0.109), (-0.5, 0.55), (0.5, -0.55), (-1.0, 1.0)):
            line, row = self.drive(rig('smallest = "10 %"'), 3, right_y=push)
            self.assertAlmostEqual(row[line.layout.at("outputs", "roller_fraction")], wanted)
        line, row = self.drive(rig('smallest = "10 %"\nlargest = "70 %"'), 3, right_y=-1.0)
        self.assertAlmostEqual(row[line.layout.at("attachments", "roller_drive")], 0.7)
        line, row = self.drive(rig(), 3, right_y=-0.3)
        self.assertEqual(row[line.layout.at("attachments", "roller_drive")], 0.3)  # to the bit

    def test_an_encoder_says_how_fast_it_turns(self) -> None:
        line, row = self.drive(rig("counts_per_turn = 1440"), 60, button_0=1.0)
        self.assertAlmostEqual(row[line.layout.at("attachments", "roller_speed")], 0.4 * TOP)
        self.assertAlmostEqual(row[line.layout.at("sensed", "roller_shaft")], 0.4 * TOP * 59 / 60, places=6)
        self.assertFalse(Line(rig()).layout.has("sensed", "roller_shaft"))
        # one that had counted before it is listened to does not seem to turn
        sensed = np.full(len(line.stages["sensed"].columns), 100.0)
        _, row = line.step(line.start(), line.rest(), sensed)
        self.assertEqual(row[line.layout.at("attachments", "roller_speed")], 0.0)

    def test_a_loop_holds_the_speed_of_a_motor_that_is_weak(self) -> None:
        speed = 'counts_per_turn = 1440\nloop = "speed"\np = 0.2\ni = 4'
        weak = rig(speed.replace("counts", "reversed = false\ncounts"))
        motor = weak.attachments["roller"].model_copy(update={"top_speed_rad_s": 0.6 * TOP})
        weak = weak.model_copy(update={"attachments": {"roller": motor}})
        line, row = self.drive(rig(speed), 240, weak, button_0=1.0)
        self.assertAlmostEqual(row[line.layout.at("attachments", "roller_speed")], 0.4 * TOP, places=2)
        # a motor of 60 % needs two thirds of its drive for 40 % of the speed of a whole one
        self.assertAlmostEqual(row[line.layout.at("attachments", "roller_drive")], 0.4 / 0.6, places=3)
        # let go it rests, and the loop forgets
        line, row = self.drive(rig(speed), 0, weak)
        self.assertEqual(row[line.layout.at("attachments", "roller_drive")], 0.0)
        duty = rig("counts_per_turn = 1440")
        line, row = self.drive(duty, 240, weak, button_0=1.0)
        self.assertAlmostEqual(row[line.layout.at("attachments", "roller_speed")], 0.24 * TOP)

    def test_a_stop_takes_the_drive_and_the_loop(self) -> None:
        loop = rig('counts_per_turn = 1440\nloop = "speed"\ni = 20')
        line = Line(loop)
        state, raw, sensed = line.start(), line.rest(), np.zeros(len(line.stages["sensed"].columns))
        raw[line.inputs.names.index("right_y")] = -0.5
        for _ in range(60):
            state, row = line.step(state, raw, sensed)  # it is held fast: the loop gathers
        self.assertEqual(row[line.layout.at("attachments", "roller_drive")], 1.0)
        for stop in (1.0, 0.0):
            state, row = line.step(state, raw, sensed, stop)
        # 0.5, and of what is missing 0.2 at once and 20/60 in this tick
        self.assertAlmostEqual(row[line.layout.at("attachments", "roller_drive")], 0.5 + 0.2 * 0.5 + 20 / 60 * 0.5)
        state, row = line.step(state, raw, sensed, 1.0)
        self.assertEqual(row[line.layout.at("attachments", "roller_drive")], 0.0)

    def test_a_motor_that_does_not_reach_its_smallest_drive_stands(self) -> None:
        real = rig('counts_per_turn = 1440\nsmallest = "30 %"')
        line, row = self.drive(rig("counts_per_turn = 1440"), 60, real, right_y=-0.29)
        self.assertEqual(row[line.layout.at("sensed", "roller_shaft")], 0.0)
        line, row = self.drive(rig("counts_per_turn = 1440"), 60, real, right_y=-0.31)
        self.assertGreater(row[line.layout.at("sensed", "roller_shaft")], 1.0)

    def test_a_loop_needs_an_encoder_and_counts_come_by_the_link(self) -> None:
        with self.assertRaisesRegex(RigError, 'attachments.roller.loop: is "speed", but there is no encoder'):
            rig('loop = "speed"')
        link = '[link]\nwire = { kind = "udp", port = 5810 }\nencoders = "counts"\n'
        text = PLAIN.replace("output = {", "counts_per_turn = 10\noutput = {") + bound("button_0", "roller 40 %") + link
        text += ROLLER.format("counts_per_turn = 100\nencoder_reversed = true")
        wire = SensedWire(Line(read_text(text, Path("test.toml"), Rig)))
        names = [c.title for c in wire.columns]
        values = np.zeros(len(names))
        values[names.index("sensed.roller_shaft_counts")] = 25.0
        self.assertAlmostEqual(wire.read(values, 0)[-1], -math.pi / 2)
