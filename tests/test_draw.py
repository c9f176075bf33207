"""Drawings are functions of data and size; looked at here as text."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from pivrex.line import Line
from pivrex.line.why import ladder
from pivrex.rig import open_folder, read_rig
from pivrex.tui.draw.bar import Cell, HeadData, draw_foot, draw_head, draw_ladder, draw_line, draw_why
from pivrex.tui.draw.curve import CurveData, draw_curve
from pivrex.tui.draw.field_scale import scale_of
from pivrex.tui.draw.floor import draw_field, field_ground
from pivrex.tui.draw.gate import GateData, draw_gate, outline
from pivrex.tui.draw.lines import Series, draw_lines
from pivrex.tui.draw.parts import centred_bar, number, slider, turning
from pivrex.tui.draw.picture import GROUNDS, ROLES, Dots, Picture, role, to_ascii
from pivrex.tui.draw.stick import draw_stick
from pivrex.tui.draw.strip import draw_strip
from pivrex.tui.themes import next_theme, style_of
from tests.chassis import bare
from tests.support import DEMO, PLOVER, nothing_sensed

sizes = st.tuples(st.integers(0, 170), st.integers(0, 50))


class PictureTest(unittest.TestCase):
    def test_text_is_cut_at_the_edges_and_by_a_width(self) -> None:
        picture = Picture(8, 2)
        self.assertEqual(picture.text(-2, 0, "abcdef", "key"), 4)
        self.assertEqual(picture.row(0), "cdef    ")
        picture.text(5, 1, "xyz...")
        picture.text(0, 1, "longer", width=4)
        self.assertEqual(picture.row(1), "lon… xyz")
        self.assertEqual(picture.roles[0, 0], role("key"))
        picture.text(0, 9, "nowhere")

    def test_braille_by_the_standard(self) -> None:
        # Unicode: dots 1 to 8 are the bits 0x01 to 0x80; the left column is 1, 2, 3, 7
        dots = Dots(2, 1)
        mask = dots.layer("rest")
        mask[:, 0] = True
        mask[0, 3] = True
        picture = Picture(2, 1)
        dots.onto(picture, 0, 0)
        self.assertEqual([ord(c) - 0x2800 for c in picture.row(0)], [0x47, 0x08])

    def test_later_layers_win_the_colour_and_empty_cells_keep_their_text(self) -> None:
        picture = Picture(3, 1)
        picture.text(0, 0, "··c")
        dots = Dots(3, 1)
        dots.layer("ghost")[0, 0:4] = True
        dots.layer("commanded")[0, 2] = True
        dots.onto(picture, 0, 0)
        self.assertEqual([ROLES[r] for r in picture.roles[0]], ["ghost", "commanded", "rest"])
        self.assertEqual(picture.row(0)[2], "c")

    def test_a_line_goes_behind_letters(self) -> None:
        picture = Picture(8, 1)
        picture.text(1, 0, "Bät 1·")
        dots = Dots(8, 1)
        dots.layer("ghost")[0] = True
        dots.onto(picture, 0, 0)
        self.assertEqual("".join("~" if c >= "\u2800" else c for c in picture.row(0)), "~Bät~~~~")

    @given(st.lists(st.tuples(st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)), min_size=1, max_size=20))
    def test_paths_outside_the_canvas_are_harmless(self, points: list[tuple[float, float]]) -> None:
        dots = Dots(10, 5)
        x, y = np.array(points).T
        dots.path(dots.layer("rest"), x, y)

    def test_a_line_has_no_gaps(self) -> None:
        dots = Dots(10, 5)
        mask = dots.layer("rest")
        dots.path(mask, np.array([0.0, 19.0]), np.array([0.0, 19.0]))
        self.assertTrue(all(mask[i, max(0, i - 1) : i + 2].any() for i in range(20)))

    def test_ascii_keeps_the_columns(self) -> None:
        text = "╭─ why ● → 0.50 m/s ⣿⠁ µs −1 ⇧"
        plain = to_ascii(text)
        self.assertTrue(plain.isascii())
        self.assertEqual(len(plain), len(text))
        self.assertEqual(plain[:8], "+- why o")


class PartsTest(unittest.TestCase):
    def test_numbers_keep_their_column(self) -> None:
        for value, wanted in (
            (0.5, " +0.50"),
            (-0.5, " −0.50"),
            (0.001, "  0.00"),
            (-0.001, "  0.00"),
            (float("nan"), "     –"),
        ):
            self.assertEqual(number(value), wanted)
        self.assertEqual(number(0.0, 0, 5), "    0")

    def test_turns_are_told_in_words(self) -> None:
        self.assertEqual(turning(12.3, 0, "deg/s"), "12 deg/s left")
        self.assertEqual(turning(-12.3, 0, "deg/s"), "12 deg/s right")
        self.assertEqual(turning(0.2, 0, "deg/s"), "0 deg/s")

    def test_bars(self) -> None:
        picture = Picture(11, 1)
        centred_bar(picture, 0, 0, 11, -0.6, "commanded")
        self.assertEqual(picture.row(0), "╌╌━━━│╌╌╌╌╌")
        picture = Picture(11, 1)
        slider(picture, 0, 0, 11, 0.5, "rest")
        self.assertEqual(picture.row(0), "━━━━━◆╌╌╌╌╌")


class CurveDrawingTest(unittest.TestCase):
    def data(self, **changes: object) -> CurveData:
        x = np.linspace(-1, 1, 101)
        values = {
            "title": "forward",
            "x": x,
            "y": x,
            "ghost": None,
            "edge": 0.1,
            "live": (0.5, 0.5, 0.5),
            "full": "1.00 m/s",
        }
        return CurveData(**{**values, **changes})  # type: ignore[arg-type]

    def test_the_live_point_rides_on_the_curve(self) -> None:
        rows = draw_curve(self.data(live=(1.0, 1.0, 0.0)), 60, 24).rows()
        self.assertIn("○", rows[1])
        where = rows[1].index("○")
        below = next(r for r in rows[1:] if "●" in r)
        self.assertEqual(below.index("●"), where)
        self.assertIn("1 = 1.00 m/s", rows[0])
        self.assertIn("edge ±10 %", rows[22])

    def test_a_turn_is_drawn_as_the_stick_moves(self) -> None:
        # left is +, and is drawn at the left
        rows = draw_curve(self.data(mirrored=True, live=(0.9, 0.0, 0.0)), 60, 24).rows()[1:]
        self.assertLess(next(r.index("●") for r in rows if "●" in r), 15)

    def test_the_ghost_is_there_after_a_change_only(self) -> None:
        x = np.linspace(-1, 1, 101)
        for ghost, wanted in ((None, False), (x, False), (x**3, True)):
            picture = draw_curve(self.data(ghost=ghost), 60, 24)
            self.assertEqual(bool((picture.roles == role("ghost")).any()), wanted)

    @settings(max_examples=60)
    @given(sizes, st.booleans())
    def test_any_size(self, size: tuple[int, int], one_sided: bool) -> None:
        x = np.linspace(0 if one_sided else -1, 1, 51)
        picture = draw_curve(self.data(x=x, y=x, one_sided=one_sided, live=(float("nan"),) * 3), *size)
        self.assertEqual((picture.width, picture.height), size)


class OtherDrawingsTest(unittest.TestCase):
    def test_outlines(self) -> None:
        x, y = outline("sum", 0.1, 0.2)
        np.testing.assert_allclose(np.abs(x) / 0.1 + np.abs(y) / 0.2, 1)
        x, y = outline("stick", 0.1, 0.2)
        np.testing.assert_allclose((x / 0.1) ** 2 + (y / 0.2) ** 2, 1)

    def test_the_gate(self) -> None:
        raw = np.array([[0.0, 0.0], [1.0, 1.0]])
        rows = draw_gate(GateData(raw, raw * 0.5, 0.1, 0.1, "stick", ("turn", "forward")), 60, 30).rows()
        top = next(i for i, r in enumerate(rows) if "○" in r)
        self.assertEqual(top, 1)
        self.assertGreater(rows[1].index("○"), next(r.index("●") for r in rows if "●" in r))

    def test_the_field_is_to_scale(self) -> None:
        field = open_folder(DEMO).settings.field
        scale = scale_of(field, 102, 43)
        ground = field_ground(field, scale, 102, 43)
        text = "\n".join(ground.rows())
        for name in ("greenhouse 5 × 4 m", "bench A", "bench D", "water butt", "moisture post"):
            self.assertIn(name, text)
        rig = read_rig(PLOVER)
        empty = np.empty((0, 2))
        picture = draw_field(ground, scale, rig, (2.5, 2.0, 0.0), empty, empty, False, np.zeros(2))
        changed = np.argwhere((picture.chars != ground.chars) | (picture.grounds != ground.grounds))
        # 0.22 m long, with its front drawn to 0.14 m ahead of the centre: 0.25 m of 5 m in 95 cells
        columns = changed[:, 1]
        self.assertAlmostEqual((columns.max() - columns.min() + 1) * 2 / scale.per_m, 0.25, delta=0.06)
        blocked = draw_field(ground, scale, rig, (2.5, 2.0, 0.0), empty, empty, True, np.zeros(2))
        self.assertTrue((blocked.grounds == GROUNDS.index("limit")).any())

    @settings(max_examples=40)
    @given(sizes)
    def test_any_size(self, size: tuple[int, int]) -> None:
        field = open_folder(DEMO).settings.field
        scale = scale_of(field, *size)
        ground = field_ground(field, scale, *size)
        nothing = np.empty(0)
        draw_field(
            ground, scale, read_rig(PLOVER), (-9.0, 99.0, 1.0), np.zeros((1, 2)), np.zeros((5, 2)), False, np.zeros(2)
        )
        draw_strip("s", nothing, nothing, nothing, 1.0, 8.0, "m/s", *size)
        draw_gate(GateData(np.empty((0, 2)), np.empty((0, 2)), 0.1, 0.1, "axis", ("a", "b")), *size)
        draw_stick(float("nan"), 3.0, max(6, size[0]), max(5, size[1]), True, "left")

    def test_the_strip_shows_the_newest_at_the_right(self) -> None:
        t = np.linspace(0, 8, 200)
        step = np.where(t > 6, 1.0, 0.0)
        picture = draw_strip("left", t, step, step, 1.0, 8.0, "m/s", 60, 8)
        self.assertTrue((picture.roles[1, 45:59] == role("commanded")).all())
        self.assertFalse((picture.roles[1, 6:40] == role("commanded")).any())


class ScaleTest(unittest.TestCase):
    @given(st.floats(-200, 200), st.floats(0.01, 300), st.integers(4, 40))
    def test_lines_over_time_have_two_round_numbers_beside_them_at_least(
        self, low: float, span: float, height: int
    ) -> None:
        t = np.linspace(0, 1, 40)
        picture = draw_lines("x", t, [Series("one", low + span * t, "rest")], (low, low + span), "m/s", 60, height + 2)
        written = [row[:8].strip().replace("−", "-") for row in picture.rows()[1:-1]]
        values = [float(text) for text in written if text]
        self.assertGreaterEqual(len(values), 2)
        self.assertEqual(values, sorted(values, reverse=True))
        for value in values:
            self.assertTrue(low - 1e-9 <= value <= low + span + 1e-9)
        for row, text in enumerate(written):
            if text:  # it stands in the row of its value
                self.assertAlmostEqual(row, (low + span - float(text)) / span * (height - 1), delta=1.01)


class FrameDrawingTest(unittest.TestCase):
    head = HeadData("Plover", "arcade", 75.3, False, "", "keys, latched", "stand-in", 0.21, 3, "cruise", "")

    def test_the_state_is_told_in_words_too(self) -> None:
        from dataclasses import replace

        self.assertIn(" safe ", draw_head(self.head, 160).row(0))
        self.assertIn(" LIVE ", draw_head(replace(self.head, live=True), 160).row(0))
        self.assertIn(" ! STOPPED ", draw_head(replace(self.head, held="Esc"), 160).row(0))

    def test_the_head_keeps_the_state_at_any_width(self) -> None:
        for width in (160, 100, 80, 60, 30, 16):
            row = draw_head(self.head, width).row(0)
            self.assertIn("safe", row, width)
            self.assertIn("Plover", row, width)
        self.assertIn("01:15.3", draw_head(self.head, 160).row(0))

    def test_the_open_cell_opens_downwards(self) -> None:
        bars = (("left", 0.5, "+0.50 m/s", "measured"),)
        for open_one in (0, 1):
            cells = [Cell("2", "shaping", open_one == 0, bars), Cell("5", "field", open_one == 1, bars)]
            rows = draw_line(cells, 160).rows()
            left = rows[0].index("╭") if open_one == 0 else rows[0].rindex("╭")
            self.assertEqual(rows[2][left], "╯")
            self.assertEqual(rows[2][left + 10], " ")
            self.assertIn("+0.50 m/s", rows[1])

    def test_a_long_why_loses_its_middle_not_its_end(self) -> None:
        text = "why left: stick 0.62 → band 0.58 → curve 0.41 → rate 0.40 → 0.41 m/s − turn 0.12 → 0.29 m/s → 82/255 forward"
        self.assertEqual(draw_why(text, 160).row(0).strip(), text)
        short = draw_why(text, 70).row(0)
        self.assertIn("why left: stick 0.62", short)
        self.assertIn("82/255 forward", short)
        self.assertIn("…", short)

    def test_the_foot_keeps_keys_whole(self) -> None:
        keys = [("stop", "Esc", "stop"), ("sources", "o", "source"), ("next_wheel", "n", "next wheel")]
        picture = draw_foot(keys, "", False, 24)
        self.assertEqual(picture.row(0).strip(), "Esc stop  o source")
        # each is clicked where it is drawn
        at = [spot.value if (spot := picture.spot_at(x, 0)) else "" for x in range(24)]
        self.assertEqual(at, [""] + ["stop"] * 8 + [""] * 2 + ["sources"] * 8 + [""] * 5)

    def test_the_ladder(self) -> None:
        line = Line(bare(read_rig(PLOVER)))
        _, row = line.step(line.start(), np.array([-0.9, 0.2, 0, 0]), nothing_sensed(line))
        rungs = ladder(line, row, "left")
        text = "\n".join(draw_ladder(rungs, 2, "left", 150, 16).rows())
        self.assertIn("▸ band", text)
        self.assertIn("shaping.forward.curve", text)
        self.assertIn("why left, stage by stage", text)


class ThemeTest(unittest.TestCase):
    def test_every_theme_has_every_role(self) -> None:
        for theme in ("dusk", "noon", "dusk 16", "noon 16"):
            for i, name in enumerate(ROLES):
                self.assertIsNotNone(style_of(theme, i).color, (theme, name))
        self.assertEqual([next_theme(t) for t in ("dusk", "noon", "plain")], ["noon", "plain", "dusk"])

    def test_text_can_be_read(self) -> None:
        """WCAG 2 contrast of every text role against its ground: 4.5 for text, 3 for what steps back."""

        def luminance(colour: tuple[int, ...]) -> float:
            parts = [c / 255 for c in colour]
            linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
            return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

        for theme in ("dusk", "noon"):
            for name in (
                "rest",
                "dim",
                "title",
                "commanded",
                "measured",
                "target",
                "alarm",
                "key",
                "chosen",
                "safe",
                "live",
            ):
                style = style_of(theme, role(name))
                assert style.color is not None and style.bgcolor is not None
                light, dark = sorted(
                    (
                        luminance(tuple(style.color.triplet or (0, 0, 0))),
                        luminance(tuple(style.bgcolor.triplet or (0, 0, 0))),
                    ),
                    reverse=True,
                )
                self.assertGreater((light + 0.05) / (dark + 0.05), 4.5, (theme, name))

    def test_plain_needs_no_colour(self) -> None:
        for i in range(len(ROLES)):
            for ground in range(len(GROUNDS)):
                style = style_of("plain", i, ground)
                self.assertEqual((style.color, style.bgcolor), (None, None))


if __name__ == "__main__":
    unittest.main()
