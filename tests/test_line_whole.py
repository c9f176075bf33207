"""The line as a whole: its layout, stopping, the why, and what wheels are asked."""

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from pivrex.errors import MotionError
from pivrex.line import Column, Layout, Line
from pivrex.line.order import STAGES
from pivrex.line.questions.ask import ask_wheels
from pivrex.line.why import ladder, sentence
from pivrex.rig import read_rig
from tests.chassis import bare
from tests.support import PLOVER, nothing_sensed, plain_rig


class LayoutTest(unittest.TestCase):
    def test_columns_stand_in_the_order_of_the_line(self) -> None:
        layout = Line(bare(read_rig(PLOVER))).layout
        order = [STAGES.index(c.stage) for c in layout.columns]
        self.assertEqual(order, sorted(order))
        self.assertEqual(layout.titles[:3], ("clock.tick", "clock.t_s", "clock.stopped"))
        self.assertIn("sensed.left_speed_m_s", layout.titles)
        self.assertEqual(layout.columns[layout.at("law", "turn")].unit, "rad/s")

    def test_two_columns_of_one_name_are_refused(self) -> None:
        with self.assertRaises(ValueError):
            Layout([Column("raw", "a"), Column("raw", "a")])
        with self.assertRaises(KeyError):
            Layout([Column("raw", "a")]).at("raw", "b")


class StepTest(unittest.TestCase):
    def test_stopping_goes_round_the_rate_limit(self) -> None:
        line = Line(bare(read_rig(PLOVER)))
        state, sensed = line.start(), nothing_sensed(line)
        raw = np.array([-1.0, 0.0, 0.0, 0.0])
        for _ in range(60):
            state, row = line.step(state, raw, sensed)
        self.assertGreater(row[line.layout.at("outputs", "left_duty")], 100)
        state, row = line.step(state, raw, sensed, 1.0)
        self.assertEqual(row[line.layout.at("outputs", "left_duty")], 0)
        self.assertEqual(row[line.layout.at("clock", "stopped")], 1)
        self.assertEqual(row[line.layout.at("limits", "right_limited")], 0)
        # what the stick asks for is still to be read
        self.assertGreater(row[line.layout.at("scale", "forward")], 0.9)
        # and afterwards it begins from rest again
        _, row = line.step(state, raw, sensed)
        self.assertLess(row[line.layout.at("rate", "forward")], 0.05)

    def test_the_tick_says_which_wheel_lost_how_much(self) -> None:
        line = Line(plain_rig())
        _, row = line.step(line.start(), np.array([-1.0, 1.0]), nothing_sensed(line))
        # forward 1 and right 1: left asked for 2 m/s, right for 0; scaled to 1 and 0

        def get(stage: str, name: str) -> float:
            return float(row[line.layout.at(stage, name)])

        self.assertAlmostEqual(get("wheels", "left_requested"), 2.0)
        self.assertAlmostEqual(get("limits", "left_limited"), 1.0)
        self.assertAlmostEqual(get("limits", "left_lost"), 1.0)
        self.assertAlmostEqual(get("limits", "right_lost"), 0.0)
        self.assertAlmostEqual(get("motion", "forward"), 0.5)

    @given(st.lists(st.floats(allow_nan=True, allow_infinity=True), min_size=4, max_size=4))
    def test_no_reading_whatever_makes_an_output_undefined(self, raw: list[float]) -> None:
        line = Line(bare(read_rig(PLOVER)))
        with np.errstate(over="ignore"):
            _, row = line.step(line.start(), np.array(raw), nothing_sensed(line))
        told = line.commands(row)
        self.assertTrue(np.isfinite(told).all())
        self.assertTrue((told >= 0).all() and (told <= 255).all())

    def test_touching_nothing_moves_nothing(self) -> None:
        line = Line(bare(read_rig(PLOVER)))
        _, row = line.step(line.start(), line.rest(), nothing_sensed(line))
        self.assertEqual(row[line.layout.at("outputs", "left_duty")], 0)

    def test_level_keys_stay_in_range(self) -> None:
        line = Line(bare(read_rig(PLOVER)))
        state = line.start()
        for _ in range(5):
            state = line.choose_level(state, 1)
        self.assertEqual(line.of(state, "law").level, 2)
        for _ in range(5):
            state = line.choose_level(state, -1)
        self.assertEqual(line.of(state, "law").level, 0)


class WhyTest(unittest.TestCase):
    def row(self, line: Line, *raw: float, ticks: int = 1) -> np.ndarray:
        state = line.start()
        for _ in range(ticks):
            state, row = line.step(state, np.array(raw), nothing_sensed(line))
        return row

    def test_the_sentence_derives_the_output_by_hand(self) -> None:
        # edge 0.2 takes 0.6 to 0.5; cubic 0.5 takes that to 0.3125; 1 m/s at full; turn 0
        rig = plain_rig(("[shaping.forward]\ndead_band = 0", "[shaping.forward]\ndead_band = 0.2\ncurve = 0.5"))
        line = Line(rig)
        text = sentence(line, self.row(line, -0.6, 0.0), "left")
        self.assertEqual(
            text, "why left: forward stick 0.60 → band 0.50 → curve 0.31 → 0.31 m/s → +0.312 forward".replace("-", "−")
        )

    def test_a_turn_shows_in_each_wheel_with_its_own_sign(self) -> None:
        line = Line(plain_rig())
        row = self.row(line, -0.5, 0.25)
        self.assertIn("0.50 m/s + turn 0.25 → 0.75 m/s", sentence(line, row, "left"))
        self.assertIn("0.50 m/s − turn 0.25 → 0.25 m/s", sentence(line, row, "right"))

    def test_a_turn_is_told_in_words(self) -> None:
        line = Line(plain_rig())
        text = sentence(line, self.row(line, 0.0, 0.5), "left")
        self.assertTrue(text.startswith("why left: turn stick 0.50 right → band 0.50 → curve 0.50 → 0.50 m/s"), text)

    def test_what_was_lost_is_said(self) -> None:
        line = Line(plain_rig())
        self.assertIn("! limited to 1.00 m/s", sentence(line, self.row(line, -1.0, 1.0), "left"))

    def test_humming_is_said(self) -> None:
        line = Line(bare(read_rig(PLOVER)).model_copy(update={"control": None}))  # nothing knows what friction takes
        row = self.row(line, -0.09, 0.0, 0.0, 0.0)
        self.assertIn("only hums", sentence(line, row, "left"))
        self.assertIn("too little to turn it", ladder(line, row, "left")[-1].note)

    def test_the_ladder_has_every_stage_and_leads_to_settings(self) -> None:
        line = Line(bare(read_rig(PLOVER)))
        rungs = ladder(line, self.row(line, -0.5, 0.02, 0.0, 0.0), "right")
        stages = [r.stage for r in rungs]
        for stage in ("stick", "band", "curve", "scale", "rate", "law", "wheel", "limits", "output"):
            self.assertIn(stage, stages)
        settings = {r.setting for r in rungs}
        self.assertTrue({"shaping.forward.dead_band", "shaping.turn.dead_band", "law.kind", "limits.fit"} <= settings)
        self.assertTrue(any(r.note == "still on its way" for r in rungs if r.stage == "rate"))
        self.assertIn("reversed", rungs[-1].text)

    def test_inside_the_dead_band_is_said(self) -> None:
        line = Line(bare(read_rig(PLOVER)))
        rungs = ladder(line, self.row(line, -0.06, 0.0, 0.0, 0.0), "left")
        self.assertEqual(next(r.note for r in rungs if r.stage == "band"), "inside the dead band")

    @given(st.floats(-1, 1), st.floats(-1, 1), st.sampled_from(["arcade", "tank", "split arcade"]))
    def test_every_tick_has_a_sentence_for_every_wheel(self, a: float, b: float, law: str) -> None:
        line = Line(plain_rig(('kind = "arcade"', f'kind = "{law}"')))
        row = self.row(line, a, b)
        for wheel in line.wheels:
            text = sentence(line, row, wheel)
            self.assertTrue(text.startswith(f"why {wheel}: "))
            self.assertNotIn("nan", text)


class AskTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        # radius 0.1 m, track 0.5 m: 0.5 m/s with 60 deg/s = π/3 rad/s gives 0.5 ∓ 0.25·π/3
        answer = ask_wheels(plain_rig(), 0.5, 0.0, 60.0)
        left, right = answer["wheels"]
        self.assertAlmostEqual(left["speed_m_s"], 0.5 - 0.25 * math.pi / 3)
        self.assertAlmostEqual(right["speed_m_s"], 0.5 + 0.25 * math.pi / 3)
        self.assertAlmostEqual(right["speed_rad_s"], right["speed_m_s"] / 0.1)
        self.assertEqual(left["output"]["kind"], "fraction")
        self.assertAlmostEqual(left["output"]["fraction"], left["speed_m_s"])
        self.assertFalse(answer["limited"])
        self.assertAlmostEqual(answer["twist"]["turn_deg_s"], 60.0)

    def test_limited(self) -> None:
        answer = ask_wheels(plain_rig(), 2.0, 0.0, 0.0)
        self.assertTrue(answer["limited"])
        self.assertAlmostEqual(answer["twist"]["forward_m_s"], 1.0)
        clipped = ask_wheels(plain_rig(), 1.0, 0.0, 90.0, fit="clip")
        self.assertAlmostEqual(clipped["wheels"][1]["speed_m_s"], 1.0)

    def test_along_the_field(self) -> None:
        # heading 90 deg: the field's left (+y) is the robot's forward
        answer = ask_wheels(plain_rig(), 0.0, 0.4, 0.0, heading_deg=90.0)
        self.assertAlmostEqual(answer["twist"]["forward_m_s"], 0.4)

    def test_sideways_is_refused_with_what_is_missing(self) -> None:
        with self.assertRaisesRegex(MotionError, r"Plain cannot follow .* \+0.3 m/s to the left"):
            ask_wheels(plain_rig(), 0.1, 0.3, 0.0)
