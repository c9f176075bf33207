"""Drawings are functions of data and size; looked at here as text."""

import unittest

import numpy as np
from hypothesis import strategies as st

from pivrex.line import Line
from pivrex.line.why import ladder
from pivrex.rig import read_rig
from pivrex.scene.marks import ROLES, role
from pivrex.tui.draw.attachment_bar import Standing, draw_standing, name_width
from pivrex.tui.draw.bar import Cell, HeadData, draw_foot, draw_head, draw_ladder, draw_line, draw_why
from pivrex.tui.draw.parts import centred_bar, number, slider, turning
from pivrex.tui.draw.picture import Picture, to_ascii
from pivrex.tui.draw.stick import draw_stick
from pivrex.tui.themes import next_theme, style_of
from tests.chassis import bare
from tests.support import PLOVER, nothing_sensed

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


class RowTest(unittest.TestCase):
    def test_a_stick_stays_in_its_frame(self) -> None:
        for x, y in ((float("nan"), 3.0), (-9.0, 0.0), (1.0, 1.0)):
            for size in ((15, 7), (6, 5)):
                picture = draw_stick(x, y, *size, True, "left")
                self.assertEqual(sum(row.count("●") for row in picture.rows()), 1)

    def test_a_row_of_an_attachment(self) -> None:
        picture = Picture(100, 1)
        one = Standing(
            "boom", "position", "70 deg", "35 deg", "0 deg", "110 deg", 70 / 110, 35 / 110, "held", "F3", 0.6, True
        )
        draw_standing(picture, 0, 0, 100, one)
        row = picture.row(0)
        for part in ("boom", "70 deg", "35 deg", "0 deg", "110 deg", "stopped: held"):
            self.assertIn(part, row)
        self.assertLess(row.index("○"), row.index("●"))
        gap = np.flatnonzero(picture.grounds[0] == role("gap"))
        self.assertEqual((gap.min(), gap.max()), (row.index("○"), row.index("●")))
        narrow = Picture(40, 1)
        draw_standing(narrow, 0, 0, 40, one)
        self.assertIn("70 deg", narrow.row(0))
        # where there is room, all names of the robot are read whole and stand in one column
        rows = [one, one._replace(name="middle_roller")]
        wide = Picture(100, 2)
        for y, standing in enumerate(rows):
            draw_standing(wide, 0, y, 100, standing, name_width(rows, 100))
        self.assertIn("middle_roller", wide.row(1))
        self.assertEqual(*(wide.row(y).index("70 deg") for y in (0, 1)))
        self.assertLess(name_width(rows, 40), len("middle_roller"))


class FrameDrawingTest(unittest.TestCase):
    head = HeadData("Plover", "arcade", 75.3, False, "", "keys, latched", "simulator", 0.21, 3, "cruise", "")

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

    def test_help_and_quit_stand_in_every_foot(self) -> None:
        keys = [
            ("stop", "Esc", "stop"),
            ("sources", "o", "source"),
            ("next_wheel", "n", "next wheel"),
            ("help", "?", "help"),
            ("quit", "Ctrl+Q", "quit"),
        ]
        self.assertEqual(draw_foot(keys, "", False, 42).row(0).strip(), "Esc stop  o source  ? help  Ctrl+Q quit")
        self.assertEqual(draw_foot(keys, "", False, 33).row(0).strip(), "Esc stop  ? help  Ctrl+Q quit")
        said = draw_foot(keys, "a message that is far too long for the row that it is given here", True, 80).row(0)
        self.assertIn("? help  Ctrl+Q quit", said)
        self.assertIn("! a message that is far too long", said)

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
            for i, name in enumerate(ROLES[1:], 1):
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
            for ground in range(len(ROLES)):
                style = style_of("plain", i, ground)
                self.assertEqual((style.color, style.bgcolor), (None, None))


class SixteenTest(unittest.TestCase):
    def test_what_matters_is_told_apart_in_sixteen_colours(self) -> None:
        for theme in ("dusk 16", "noon 16"):
            for name in ("chosen", "safe", "live", "rest", "title", "commanded", "measured", "alarm"):
                style = style_of(theme, role(name))
                assert style.color is not None and style.bgcolor is not None
                for colour in (style.color, style.bgcolor):
                    self.assertLess(colour.number if colour.number is not None else 99, 16, (theme, name))
                self.assertNotEqual(style.color.number, style.bgcolor.number, (theme, name))
            self.assertNotEqual(style_of(theme, role("commanded")).color, style_of(theme, role("measured")).color)
            self.assertNotEqual(style_of(theme, role("chosen")).bgcolor, style_of(theme, role("rest")).bgcolor)


if __name__ == "__main__":
    unittest.main()
