"""Buttons, letters and bits: what they do tick by tick, what attachments make of it, and what `check` says."""

import unittest
from math import radians
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from pivrex.devices.worries import warnings_in
from pivrex.errors import RigError, UnitError
from pivrex.line import Line
from pivrex.line.input_stages import sensed_columns
from pivrex.line.why import ladder, sentence
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.actions import read_action
from tests.support import PLAIN, PLOVER

ARM = """
[attachments.boom]
kind = "position"
counts_per_turn = 360
minimum = "-10 deg"
maximum = "100 deg"
top_speed = "90 deg/s"
full_at = "20 deg"
output = { kind = "percent" }
"""

SPOUT = """
[attachments.spout]
kind = "servo"
minimum = "0 deg"
maximum = "90 deg"
rate = "90 deg/s"
safe = "0 deg"
"""


def bound(channel: str, does: str, **more: str) -> str:
    keys = "".join(f'{k.rstrip("_")} = "{v}"\n' for k, v in more.items())
    return f'[[bindings]]\nchannel = "{channel}"\ndoes = "{does}"\n{keys}'


def rig_of(*parts: str) -> Rig:
    return read_text(PLAIN + "".join(parts), Path("test.toml"), Rig)


class Ticker:
    """A line with its controls held here and there, after a tick in which all were released; dt is 1/60 s."""

    def __init__(self, *parts: str) -> None:
        self.use(rig_of(*parts))

    def use(self, rig: Rig) -> "Ticker":
        self.line = Line(rig)
        self.state = self.line.start()
        self.sensed = np.zeros(len(sensed_columns(rig)))
        self.row = np.zeros(len(self.line.layout))
        return self.tick()

    def tick(self, count: int = 1, stop: bool = False, **held: float) -> "Ticker":
        raw = self.line.rest()
        for channel, value in held.items():
            raw[self.line.channels.index(channel)] = value
        for _ in range(count):
            self.state, self.row = self.line.step(self.state, raw, self.sensed, float(stop))
        return self

    def get(self, stage: str, name: str) -> float:
        return float(self.row[self.line.layout.at(stage, name)])


class DeedTest(unittest.TestCase):
    def test_they_are_read(self) -> None:
        def twist(text: str) -> list[float]:
            action = read_action(text, ("boom",), ("creep",))
            return [action.value * part for part in action.twist]

        self.assertEqual(twist("forward 60 %"), [0.6, 0, 0])
        self.assertEqual(twist("back"), [-1, 0, 0])
        self.assertEqual(twist("turn right 30 %"), [0, 0, -0.3])
        # left = forward - turn stands still, right = forward + turn runs at 50 %
        self.assertEqual(twist("pivot left 50 %"), [0.25, 0, 0.25])
        action = read_action("boom to 30 deg", ("boom",), ())
        self.assertEqual((action.verb, action.target, round(action.value, 6)), ("to", "boom", round(radians(30), 6)))

    def test_what_cannot_be_read_says_what_would_be_right(self) -> None:
        for text, why in (
            ("forwrd 60 %", 'did you mean "forward"'),
            ("forward 160 %", "must lie within 0 % and 100 %"),
            ("forward fast", '"fast" should be a share such as 60 %'),
            ("level crawl", "the levels are creep"),
            ("boom", "after boom must come follows"),
            ("boom to 30", "without a unit"),
            ("boom to x counts", "should be a number of counts"),
        ):
            with self.assertRaisesRegex(UnitError, why):
                read_action(text, ("boom",), ("creep",))


THROTTLE = [
    ('[law]\nkind = "arcade"\n', '[law]\nkind = "split arcade"\nforward = "right_trigger"\nturn = "left_x"\n'),
    ("[shaping.forward]\n", '[shaping.forward]\nslew_up = "2 /s"\nslew_down = "4 /s"\n'),
]
"""A throttle that goes one way only, and a stick that turns; from rest to full in half a second, to rest in a quarter."""


class ReverseTest(unittest.TestCase):
    def throttle(self, *parts: str) -> Ticker:
        text = PLAIN
        for old, new in THROTTLE:
            assert old in text, old
            text = text.replace(old, new)
        ticker = Ticker.__new__(Ticker)
        ticker.use(read_text(text + "".join(parts), Path("test.toml"), Rig))
        return ticker

    def test_a_throttle_that_goes_one_way_drives_back_while_its_button_is_held(self) -> None:
        t = self.throttle(bound("button_3", "reverse"))
        t.tick(60, right_trigger=0.5)
        self.assertAlmostEqual(t.get("law", "forward"), 0.5)
        t.tick(1, right_trigger=0.5, button_3=1)  # it slows down first, at 4 /s
        self.assertAlmostEqual(t.get("law", "forward"), 0.5 - 4 / 60)
        t.tick(60, right_trigger=0.5, button_3=1)
        self.assertAlmostEqual(t.get("law", "forward"), -0.5)
        self.assertAlmostEqual(t.get("scale", "forward"), 0.5)  # the stick says what it says
        self.assertIn("reversed", sentence(t.line, t.row, "left"))
        self.assertIn("reversed", next(r.text for r in ladder(t.line, t.row, "left") if r.stage == "rate"))
        t.tick(60, right_trigger=0.5, left_x=0.4, button_3=1)  # turning stays turning
        self.assertAlmostEqual(t.get("law", "turn"), -0.4 * t.line.rig.full_turn_rad_s)

    def test_by_one_press_and_back_by_the_next(self) -> None:
        t = self.throttle(bound("button_3", "reverse", when="toggle"))
        t.tick(1, button_3=1)
        t.tick(120, right_trigger=1)
        self.assertAlmostEqual(t.get("law", "forward"), -1.0)
        t.tick(1, button_3=1)
        t.tick(120, right_trigger=1)
        self.assertAlmostEqual(t.get("law", "forward"), 1.0)

    def test_a_throttle_without_the_button_is_refused(self) -> None:
        with self.assertRaisesRegex(RigError, 'goes only one way; it needs a stick, or a button that does "reverse"'):
            self.throttle()


class ButtonTest(unittest.TestCase):
    def test_steering_by_buttons_ramps_springs_and_starts_from_zero(self) -> None:
        t = Ticker(
            bound("button_14", "turn left 60 %", rise="2 /s", fall="4 /s"),
            bound("button_15", "turn right 60 %", rise="2 /s"),
        )
        t.tick(9, button_14=1)
        self.assertAlmostEqual(t.get("bindings", "turn"), 0.3)  # 9/60 s at 2 /s
        t.tick(60, button_14=1)
        self.assertAlmostEqual(t.get("bindings", "turn"), 0.6)
        t.tick(6)
        self.assertAlmostEqual(t.get("bindings", "turn"), 0.2)  # 6/60 s at 4 /s
        t.tick(3, button_15=1)
        self.assertAlmostEqual(t.get("bindings", "turn"), -0.1)  # from zero
        t.tick(1)
        self.assertEqual(t.get("bindings", "turn"), 0.0)  # no fall: it springs

    def test_a_stick_goes_before_a_button(self) -> None:
        t = Ticker(bound("button_14", "turn left 60 %"), bound("button_12", "forward 50 %"))
        t.tick(1, button_14=1, button_12=1, left_y=-0.8)
        self.assertAlmostEqual(t.get("law", "forward"), 0.8)
        self.assertAlmostEqual(t.get("law", "turn"), 0.6 * 4)  # 0.6 of full turn, 1 m/s over half the track

    def test_a_combination_beats_the_plain_binding_until_the_button_is_let_go(self) -> None:
        t = Ticker(bound("button_0", "forward 50 %"), bound("button_0", "back 50 %", with_="button_1"))
        self.assertEqual(t.tick(1, button_0=1).get("bindings", "forward"), 0.5)
        t.tick(1)
        self.assertEqual(t.tick(1, button_0=1, button_1=1).get("bindings", "forward"), -0.5)
        self.assertEqual(t.tick(1, button_0=1).get("bindings", "forward"), 0.0)
        t.tick(1)
        self.assertEqual(t.tick(1, button_0=1).get("bindings", "forward"), 0.5)

    def test_toggle_and_stop(self) -> None:
        t = Ticker(bound("button_0", "slow 40 %", when="toggle"))
        t.tick(1)
        t.tick(1, button_0=1).tick(5)
        self.assertEqual(t.get("bindings", "slow"), 0.4)
        self.assertEqual(t.tick(1, left_y=-1).get("law", "forward"), 0.4)
        t.tick(1, button_0=1).tick(1)
        self.assertEqual(t.get("bindings", "slow"), 1.0)
        t.tick(1, button_0=1).tick(1, stop=True).tick(1)  # a stop takes toggles back
        self.assertEqual(t.get("bindings", "slow"), 1.0)

    def test_the_third_press_in_a_row(self) -> None:
        t = Ticker(bound("button_8", "shut down", when="press 3", within="500 ms"))
        t.tick(1)

        def press(pause: int) -> float:
            t.tick(1, button_8=1)
            fired = t.get("bindings", "shut_down")
            t.tick(pause)
            return fired

        self.assertEqual([press(10), press(10), press(10)], [0, 0, 1])
        again = [press(10), press(40), press(10), press(10), press(10)]
        self.assertEqual(again, [0, 0, 0, 0, 1])  # the pause began it again

    def test_a_button_that_is_held_from_the_start_is_not_a_press(self) -> None:
        t = Ticker(bound("button_8", "record"))
        t.state = t.line.start()
        self.assertEqual(t.tick(1, button_8=1).get("bindings", "record"), 0)
        t.tick(1)
        self.assertEqual(t.tick(1, button_8=1).get("bindings", "record"), 1)
        self.assertEqual(t.tick(1, button_8=1).get("bindings", "record"), 0)

    def test_brake_goes_round_rates_and_coast_is_told(self) -> None:
        slow = PLAIN.replace(
            "[shaping.forward]\ndead_band = 0", '[shaping.forward]\ndead_band = 0\nslew_up = "1 /s"\nslew_down = "1 /s"'
        )
        rig = read_text(slow + bound("button_0", "brake") + bound("button_1", "coast"), Path("t.toml"), Rig)
        t = Ticker(bound("button_0", "brake"))
        t.use(rig)
        t.tick(40, left_y=-1)
        self.assertGreater(t.get("law", "forward"), 0.5)
        t.tick(1, left_y=-1, button_0=1)
        self.assertEqual((t.get("law", "forward"), t.get("rate", "forward")), (0.0, 0.0))
        t.tick(1, left_y=-1)
        self.assertAlmostEqual(t.get("law", "forward"), 1 / 60, places=6)  # it begins again from rest
        t.tick(1, button_1=1)
        self.assertEqual((t.get("outputs", "robot_coast"), t.get("outputs", "left_fraction")), (1.0, 0.0))

    def test_levels_by_letter(self) -> None:
        levels = '[[speed_levels.levels]]\nname = "creep"\nmoving = "30 %"\n[[speed_levels.levels]]\nname = "dash"\n'
        letters = '[sources.box]\nkind = "letters"\nwire = { kind = "tcp", port = 1 }\n[sources.box.letters]\n1 = "level creep"\n'
        t = Ticker(levels, letters + 'F = "forward 50 %"\n')
        t.tick(1, left_y=-1)
        self.assertEqual(t.get("law", "forward"), 1.0)
        t.tick(1)
        t.tick(1, False, left_y=-1, **{"box.letter_1": 1})
        self.assertAlmostEqual(t.get("law", "forward"), 0.3)
        # the same letter again is a press though it has not gone away between
        t.state = t.line.choose_level(t.state, 1)
        t.tick(1, False, left_y=-1, **{"box.letter_1": 2})
        self.assertAlmostEqual(t.get("law", "forward"), 0.3)

    def test_the_why_tells_of_buttons(self) -> None:
        t = Ticker(bound("button_14", "turn left 60 %"), bound("button_0", "slow 50 %"), bound("button_1", "brake"))
        t.tick(1)
        t.tick(1, button_14=1)
        self.assertEqual(
            sentence(t.line, t.row, "left"), "why left: button_14 turn left 60 % → −0.60 m/s → −0.6 backward"
        )
        t.tick(1, button_14=1, button_0=1)
        (rung,) = [r for r in ladder(t.line, t.row, "left") if r.stage == "button"]
        self.assertEqual(rung.text, "button_14 turn left 60 % · slow 50 % → turn +0.60")
        t.tick(1, button_1=1)
        (rung,) = [r for r in ladder(t.line, t.row, "left") if r.stage == "button"]
        self.assertEqual(rung.note, "! brake")

    def test_the_ladder_of_an_axis_that_is_always_one_sources(self) -> None:
        t = Ticker('[axes.left_x]\nsource = "sticks"\n', bound("button_0", "stop"))
        t.tick(1, False, **{"sticks.left_x": -0.5})
        self.assertIn("reads -0.500", next(r.text for r in ladder(t.line, t.row, "left") if r.text.startswith("turn:")))

    @settings(max_examples=40, deadline=None, derandomize=True)
    @given(st.lists(st.lists(st.booleans(), min_size=4, max_size=4), min_size=1, max_size=25))
    def test_many_robots_do_what_one_does(self, presses: list[list[bool]]) -> None:
        rig = rig_of(
            bound("button_0", "forward 50 %", rise="3 /s", fall="2 /s"), bound("button_0", "back 40 %", with_="button_1"),
            bound("button_2", "slow 30 %", when="toggle"), bound("button_3", "boom to 40 deg", when="press 2"), ARM,
        )  # fmt: skip
        line = Line(rig)
        one, many = line.start(), line.start((2,))
        sensed = np.zeros(len(sensed_columns(rig)))
        for row in presses:
            raw = line.rest()
            for i, down in enumerate(row):
                raw[line.channels.index(f"button_{i}")] = down
            one, single = line.step(one, raw, sensed)
            many, both = line.step(many, np.stack([raw, line.rest()]), np.stack([sensed, sensed]))
            self.assertEqual(both[0].tobytes(), single.tobytes())


class AttachmentTest(unittest.TestCase):
    def test_a_boom_goes_to_a_position_in_proportion(self) -> None:
        t = Ticker(ARM, bound("button_0", "boom to 40 deg"), bound("button_1", "boom by -5 deg"))
        t.tick(1)
        t.tick(1, button_0=1)
        self.assertAlmostEqual(t.get("attachments", "boom_target"), radians(40))
        self.assertEqual(t.get("outputs", "boom_percent"), 100.0)  # more than 20 deg are missing
        t.sensed[-1] = radians(35)
        t.tick(1)
        self.assertAlmostEqual(t.get("outputs", "boom_percent"), 25.0)  # 5 of 20 deg
        t.tick(1, button_1=1)
        self.assertAlmostEqual(t.get("attachments", "boom_target"), radians(35))

    def test_it_keeps_to_its_limits_and_a_stop_forgets_the_way(self) -> None:
        t = Ticker(ARM, bound("right_y", "boom follows", dead_band="10 %"))
        t.tick(600, right_y=-1)  # away is +
        self.assertAlmostEqual(t.get("attachments", "boom_target"), radians(100))
        t.sensed[-1] = radians(20)
        t.tick(1, stop=True)
        self.assertEqual(t.get("outputs", "boom_percent"), 0.0)
        t.tick(1)
        self.assertAlmostEqual(t.get("attachments", "boom_target"), radians(20))  # it stays where it was stopped
        t.tick(1, right_y=-0.1)
        self.assertAlmostEqual(t.get("attachments", "boom_target"), radians(20))  # within the dead band

    def test_one_that_must_not_sink_is_held(self) -> None:
        t = Ticker(ARM + 'safe = "hold"\n', bound("button_0", "boom to 40 deg"))
        t.sensed[-1] = radians(40)
        t.tick(1)
        t.tick(1, button_0=1)
        t.sensed[-1] = radians(38)  # the load pulls
        t.tick(1, stop=True)
        self.assertAlmostEqual(t.get("outputs", "boom_percent"), 10.0)

    def test_a_servo_eases_and_goes_to_its_safe_angle(self) -> None:
        t = Ticker(SPOUT, bound("button_0", "spout to 45 deg"))
        t.tick(1)
        t.tick(1, button_0=1).tick(14)
        self.assertAlmostEqual(t.get("attachments", "spout_target"), radians(90 * 15 / 60))  # 90 deg/s
        t.tick(60)
        self.assertEqual(t.get("outputs", "spout_pulse"), 1500.0)
        t.tick(20, stop=True)
        self.assertAlmostEqual(t.get("attachments", "spout_target"), radians(15))
        t.tick(60, stop=True).tick(60)
        self.assertEqual(t.get("outputs", "spout_pulse"), 1000.0)  # and it stays there

    def test_switches_motors_and_lamps(self) -> None:
        t = Ticker(
            '[attachments.pump]\nkind = "switch"\noutput = { low_is_on = true }\n[attachments.arm]\nkind = "motor"\n'
            'largest = "50 %"\nreversed = true\noutput = { kind = "duty" }\n[attachments.lamp]\nkind = "switch"\nshows = "recording"\n',
            bound("button_0", "pump on"), bound("button_1", "pump toggle"), bound("right_trigger", "arm follows", dead_band="0 %"),
        )  # fmt: skip
        t.tick(1)
        self.assertEqual(t.get("outputs", "pump_pin"), 1.0)
        self.assertEqual(t.tick(1, button_0=1).get("outputs", "pump_pin"), 0.0)
        self.assertEqual(t.tick(1).get("outputs", "pump_pin"), 1.0)
        t.tick(1, button_1=1).tick(3)
        self.assertEqual(t.get("attachments", "pump_target"), 1.0)
        self.assertEqual(t.tick(1, stop=True).get("attachments", "pump_target"), 0.0)
        self.assertEqual(t.tick(1).get("attachments", "pump_target"), 0.0)  # it does not go on by itself
        self.assertEqual(t.tick(1, right_trigger=0.25).get("outputs", "arm_duty"), -64.0)  # -0.25·255
        self.assertEqual(t.tick(1, right_trigger=1).get("outputs", "arm_duty"), -128.0)
        self.assertEqual(t.tick(1, stop=True, **{"session.recording": 1}).get("attachments", "lamp_target"), 1.0)


class CheckTest(unittest.TestCase):
    def mistakes(self, *parts: str) -> str:
        with self.assertRaises(RigError) as caught:
            rig_of(*parts)
        return "\n".join(str(m) for m in caught.exception.mistakes)

    def test_each_mistake_is_said_with_its_key(self) -> None:
        radio = '[sources.radio]\nkind = "packets"\nsender = "x"\nwire = { kind = "udp", port = 1 }\n'
        for parts, said in (
            (
                (bound("button_0", "stop"), bound("button_0", "record")),
                'bindings.2.channel: is "button_0", which already does "stop" (bindings.1); choose another',
            ),
            ((ARM, bound("left_y", "boom follows")), "which already is law.forward; choose another"),
            ((radio,), "sources.radio.silent_after: is missing; a stream that stops talking"),
            ((bound("button_99", "stop"),), 'is "button_99", which is no channel of that source; did you mean'),
            ((bound("button_0", "stop", source="radoi"),), 'bindings.1.source: is "radoi", but the sources are'),
            ((bound("button_0", "field frame"),), "needs to know the heading"),
            ((bound("button_0", "slide left 40 %"),), "the law arcade does not move sideways"),
            ((bound("button_0", "stop", when="held"),), '"stop" is done once'),
            ((bound("button_0", "forward", when="press"),), '"forward" lasts; say held or toggle'),
            ((bound("right_y", "stop"),), 'a stick; "stop" needs a button or a trigger'),
            ((ARM, bound("button_0", "boom on")), "boom is a position, which can follows, a speed, to, by"),
            ((ARM, bound("button_0", "boom to 200 deg")), "lies outside the limits of boom"),
            ((bound("button_0", "stop", with_="button_0"),), "the same as channel"),
            ((bound("button_0", "stop", when="press 12"),), 'should be one of "held", "press"'),
            ((radio.replace("radio", "keys"),), "sources.keys: is a name that Pivrex uses itself"),
            (('[attachments.left]\nkind = "switch"\n', bound("button_0", "left on")), "has the name of a motor"),
            (('[axes.left_y]\nsource = "nobody"\n',), 'axes.left_y.source: is "nobody"'),
        ):
            self.assertIn(said, self.mistakes(*parts))

    def test_an_attachment_that_only_a_routine_moves_is_a_warning(self) -> None:
        path = Path(self.enterContext(TemporaryDirectory())) / "rig.toml"
        path.write_text(PLOVER.read_text("utf-8") + ARM)
        told = [str(m) for m in warnings_in(read_rig(path), path)]
        self.assertIn("attachments.boom: has no binding: only a routine moves it", "\n".join(told))

    def test_all_of_them_are_said_at_once(self) -> None:
        said = self.mistakes(
            ARM, bound("button_0", "jump"), '[sources.a]\nkind = "numbers"\nwire = { kind = "udp", port = 1 }\n'
        )
        for part in ("bindings.1.does", "sources.a.silent_after", "sources.a.columns"):
            self.assertIn(part, said)


class CountsTest(unittest.TestCase):
    def test_a_position_may_be_told_in_counts(self) -> None:
        t = Ticker(ARM, bound("button_0", "boom to 45 counts"))  # 360 counts a turn: 45 deg
        t.tick(1)
        t.tick(1, button_0=1)
        self.assertAlmostEqual(t.get("attachments", "boom_target"), radians(45))
