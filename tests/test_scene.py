"""Scenes: where marks lie, and what the cells show of them."""

import math
import subprocess
import sys
import unittest
from collections.abc import Callable
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from textual.geometry import Region

from pivrex.scene.marks import ROLES, Area, Quarters, Rim, role, shapes
from pivrex.scene.palette import DARK
from pivrex.scene.scene import Box, Margins, Scene
from pivrex.scene.stamps import stamp_of
from pivrex.tui.canvas import Canvas
from pivrex.tui.draw import cells
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.fit import covered
from pivrex.tui.draw.picture import TEXT, Picture
from pivrex.tui.themes import style_of

SHARES = {" ": 0.0, "▀": 0.5, "▌": 0.5, "▘": 0.25, "▝": 0.25, "▖": 0.25, "▗": 0.25, "▞": 0.5, "▔": 1 / 8, "▕": 1 / 8, "┃": 1 / 4,
          "━": 1 / 4, "╱": 1 / 8, "╲": 1 / 8}  # fmt: skip
SHARES |= {char: k / 8 for k, char in enumerate("▁▂▃▄▅▆▇", 1)} | {char: k / 8 for k, char in enumerate("▏▎▍▌▋▊▉", 1)}


def shares(picture: Picture, named: str) -> np.ndarray:
    """Return how much of each cell is in the colour of a role, by the shapes of the characters in the Unicode standard."""
    number = role(named)
    inside = np.where(picture.blends == TEXT, 8, picture.blends >> 4) / 8
    outside = np.where(picture.blends == TEXT, 0, picture.blends & 15) / 8
    cover = np.array([[SHARES.get(str(c), 0.0) for c in row] for row in picture.chars]).reshape(picture.chars.shape)
    over = cover * inside + (1 - cover) * outside
    whole = (picture.grounds == number) & (picture.blends == TEXT)
    sampled = np.where(picture.roles == number, over, 0.0) + np.where(picture.grounds == number, 1.0 - over, 0.0)
    return np.where(whole, 1.0, np.where(picture.blends == TEXT, 0.0, sampled))


def middle(picture: Picture, named: str) -> tuple[float, float]:
    """Return the middle of all that is in the colour of a role, in columns and rows."""
    weight = shares(picture, named)
    y, x = np.indices(weight.shape) + 0.5
    return float((x * weight).sum() / weight.sum()), float((y * weight).sum() / weight.sum())


class PlacingTest(unittest.TestCase):
    def test_a_place_keeps_its_shape_and_a_chart_fills_its_room(self) -> None:
        box = Box(0.0, 0.0, 4.0, 2.0)
        equal = Scene(box).placing(40, 40, 8.0, 16.0)
        self.assertEqual(equal.across, equal.up)
        self.assertAlmostEqual(equal.across, 40 * 8 / 4)  # across is what limits it
        # it lies in the middle: 2 m are 160 of 640 points, so 240 stay free above
        np.testing.assert_allclose(equal.points((0.0, 2.0)), (0.0, 240.0))
        chart = Scene(box, equal=False).placing(40, 40, 8.0, 16.0)
        np.testing.assert_allclose(chart.points([(0.0, 2.0), (4.0, 0.0)]), [(0.0, 0.0), (320.0, 640.0)])

    @given(st.floats(0.0, 4.0), st.floats(0.0, 2.0))
    def test_a_letter_leads_back_to_what_lies_in_it(self, x: float, y: float) -> None:
        placing = Scene(Box(0.0, 0.0, 4.0, 2.0), margins=Margins(3, 1, 2, 1)).placing(65, 22, 8.0, 16.0)
        column, row = placing.cell(x, y)
        self.assertTrue(placing.holds(column, row))
        back = placing.units(column, row)
        self.assertLessEqual(abs(back[0] - x), 4.0 / placing.across + 1e-9)
        self.assertLessEqual(abs(back[1] - y), 8.0 / placing.up + 1e-9)

    def test_what_lies_outside_is_not_held(self) -> None:
        placing = Scene(Box(0.0, 0.0, 4.0, 2.0), equal=False, margins=Margins(3, 1, 2, 1)).placing(65, 22, 8.0, 16.0)
        self.assertEqual(placing.cell(4.0, 0.0), (62, 20))  # the last letter and line of 60 and 20 after 3 and 1
        for x, y in ((-0.01, 1.0), (4.01, 1.0), (1.0, -0.01), (1.0, 2.01)):
            self.assertFalse(placing.holds(*placing.cell(x, y)), (x, y))


class ShapesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.scene = Scene(Box(0.0, 0.0, 10.0, 10.0))
        self.placing = self.scene.placing(10, 10, 10.0, 10.0)

    def shown(self, stamps: bool = False) -> list[Area | Rim | Quarters]:
        return shapes(self.scene.marks, self.placing, stamps)

    def test_an_arrow_ends_where_it_points_and_is_widest_at_its_head(self) -> None:
        self.scene.arrow((2.0, 5.0), (8.0, 5.0), "commanded", 0.4)
        (area,) = self.shown()
        assert isinstance(area, Area)
        self.assertEqual(area.corners[:, 0].max(), 80.0)
        self.assertEqual(area.corners[:, 0].min(), 20.0)
        wide = np.ptp(area.corners[:, 1])
        self.assertGreater(wide, 2.5 * 4.0)
        self.scene.arrow((2.0, 5.0), (8.0, 5.0), "commanded", 0.4, shift=1.0)
        aside = self.shown()[1]
        assert isinstance(aside, Area)
        self.assertAlmostEqual(float(aside.corners[:, 1].mean()), 40.0)  # left of what goes right is up

    def test_dashes_cover_half_of_a_line_and_keep_to_it(self) -> None:
        self.scene.line([(0.0, 0.0), (10.0, 0.0), (10.0, 10.0)], "target", 0.2, 0.5)
        parts = self.shown()
        self.assertEqual(len(parts), 20)
        length = sum(float(np.hypot(*np.diff(p.points, axis=0).T).sum()) for p in parts if isinstance(p, Rim))
        self.assertAlmostEqual(length, 100.0)

    def test_what_is_not_known_is_left_out(self) -> None:
        nan = math.nan
        self.scene.line(
            [(0.0, 1.0), (1.0, 1.0), (nan, 1.0), (3.0, 1.0), (4.0, 1.0), (5.0, 1.0), (nan, nan), (7.0, 1.0)], "rest"
        )
        self.scene.area([(0.0, 0.0), (1.0, nan), (1.0, 1.0)], "hull")
        self.scene.arrow((0.0, nan), (1.0, 1.0), "commanded")
        self.scene.dots([(nan, 0.0), (1.0, 1.0)], "target")
        self.scene.stamped((nan, 0.0), 1.0, 5.0, (), stamp_of(0.0, "hull"))
        shown = self.shown(stamps=True)
        self.assertEqual([len(s.points) for s in shown if isinstance(s, Rim)], [2, 3])
        self.assertEqual(len([s for s in shown if isinstance(s, Area)]), 1)
        self.assertEqual(len(shown), 3)

    def test_what_is_drawn_small_takes_its_stamp_where_the_printer_takes_stamps(self) -> None:
        marks = [Area(np.array([(1.0, 1.0), (4.0, 1.0), (4.0, 4.0)]), "hull")]
        self.scene.stamped((5.0, 5.0), 3.0, 4.0, marks, stamp_of(0.0, "hull"))
        self.assertIsInstance(self.shown()[0], Area)
        stamp = self.shown(stamps=True)[0]
        assert isinstance(stamp, Quarters)
        self.assertEqual(stamp.roles.shape, (4, 6))
        self.assertEqual((stamp.x + 6 * 5 / 2, stamp.y + 4 * 5 / 2), (50.0, 50.0))
        near = self.scene.placing(14, 14, 10.0, 10.0)  # 3 units are 4.2 letters now
        self.assertIsInstance(shapes(self.scene.marks, near, stamps=True)[0], Area)

    def test_stamps_point_where_they_are_told(self) -> None:
        for k in range(16):
            angle = k * math.pi / 8
            for stamp in stamp_of(angle, "hull"):
                at = {}
                for named in ("hull", "nose"):
                    y, x = np.argwhere(stamp == role(named)).mean(axis=0)
                    at[named] = np.array([x, -2 * y])  # a quarter is twice as high as wide
                way = at["nose"] - at["hull"]
                turned = (math.atan2(way[1], way[0]) - angle + math.pi) % (2 * math.pi) - math.pi
                self.assertLess(abs(turned), math.radians(24), (k, stamp.shape))


class CellsTest(unittest.TestCase):
    def printed(self, *boxes: tuple[float, float, float, float, str], size: tuple[int, int] = (10, 5)) -> Picture:
        """Print boxes in cells: left, top, right, bottom, role."""
        scene = Scene(Box(0.0, -float(size[1]), float(size[0]), 0.0), equal=False)
        for left, top, right, bottom, named in boxes:
            scene.area([(left, -top), (right, -top), (right, -bottom), (left, -bottom)], named)
        return print_scene(scene, *size)

    def test_whole_cells_are_ground_so_that_no_seam_shows(self) -> None:
        picture = self.printed((2.0, 1.0, 7.0, 4.0, "bench"))
        self.assertTrue((picture.chars == " ").all(), picture.rows())
        wanted = np.zeros((5, 10), bool)
        wanted[1:4, 2:7] = True
        np.testing.assert_array_equal(picture.grounds == role("bench"), wanted)

    def test_edges_along_an_axis_lie_at_an_eighth(self) -> None:
        for eighths in range(1, 8):
            picture = self.printed((2.0 + eighths / 8, 0.0, 10.0, 5.0, "hull"))
            self.assertAlmostEqual(shares(picture, "hull")[2].sum(), 8 - eighths / 8, delta=0.01)
            self.assertNotIn(str(picture.chars[2, 2]), " ")
            lower = self.printed((0.0, 0.0, 10.0, 2.0 + eighths / 8, "hull"))
            self.assertAlmostEqual(shares(lower, "hull")[:, 4].sum(), 2 + eighths / 8, delta=0.07)

    @settings(max_examples=40, deadline=None)
    @given(st.floats(0, 2 * math.pi), st.floats(4.0, 9.0), st.floats(3.0, 9.0))
    def test_a_turned_box_keeps_its_place_and_its_size(self, angle: float, length: float, width: float) -> None:
        scene = Scene(Box(0.0, 0.0, 30.0, 30.0))
        c, s = math.cos(angle), math.sin(angle)
        corners = np.array([(length, width), (-length, width), (-length, -width), (length, -width)])
        scene.area(corners @ np.array([(c, s), (-s, c)]) + 15.0, "hull")
        picture = print_scene(scene, 40, 20)
        x, y = middle(picture, "hull")
        self.assertAlmostEqual(x, 20.0, delta=0.35)
        self.assertAlmostEqual(y, 10.0, delta=0.2)
        per_m = 20 / 30  # rows to the unit
        self.assertAlmostEqual(shares(picture, "hull").sum() / (4 * length * width * 2 * per_m**2), 1.0, delta=0.08)

    def test_thin_lines_win_over_areas_and_stay_bright(self) -> None:
        scene = Scene(Box(0.0, -8.0, 20.0, 0.0), equal=False)
        scene.area([(0, 0), (20, 0), (20, -8), (0, -8)], "hull")
        scene.line([(0.0, -1.0), (20.0, -7.0)], "measured", 0.4)
        picture = print_scene(scene, 20, 8)
        here = picture.roles == role("measured")
        self.assertTrue(here.any(axis=0).all())  # it has no gap
        brightest = np.maximum(picture.blends >> 4, picture.blends & 15)
        self.assertTrue((np.where(here, brightest, 0).max(axis=0) >= 6).all())

    def test_a_line_is_as_wide_over_the_rim_of_an_area_as_elsewhere(self) -> None:
        covered_by = []
        for rim in (0.0, 10.3, 20.0):  # all floor, the rim under the line, no floor
            scene = Scene(Box(0.0, -12.0, 20.0, 0.0), equal=False)
            scene.area([(rim, 0), (20, 0), (20, -12), (rim, -12)], "floor")
            scene.line([(10.0, 0.0), (11.0, -12.0)], "measured", 0.5)
            covered_by.append(float(shares(print_scene(scene, 20, 12), "measured").sum()))
        self.assertLess(max(covered_by) / min(covered_by), 1.25)

    def test_a_level_line_is_one_row_of_one_character(self) -> None:
        for offset, char in ((0.06, "▔"), (0.5, "━"), (0.94, "▂")):
            scene = Scene(Box(0.0, -4.0, 10.0, 0.0), equal=False)
            # it rises by a hair: what is quite level is moved to the middle of its row
            scene.line([(0.0, -1.0 - offset), (10.0, -1.0 - offset - 0.04)], "commanded", 0.3)
            self.assertEqual(print_scene(scene, 10, 4).row(1), char * 10)
            level = Scene(scene.box, equal=False)
            level.line([(0.0, -1.0 - offset), (10.0, -1.0 - offset)], "frame", 0.3)
            self.assertEqual(print_scene(level, 10, 4).row(1), "━" * 10)

    def test_hairlines_are_for_paper(self) -> None:
        scene = Scene(Box(0.0, 0.0, 1.0, 1.0))
        scene.line([(0.0, 0.5), (1.0, 0.5)], "grid", 0.05)
        self.assertFalse((print_scene(scene, 10, 5).chars != " ").any())

    def test_what_lies_below_is_printed_once_and_stays(self) -> None:
        ground = Scene(Box(0.0, 0.0, 20.0, 10.0))
        ground.area([(0, 0), (20, 0), (20, 10), (0, 10)], "floor")
        ground.label((4.0, 5.0), "bench", "title")
        for x in (5.0, 15.0):
            scene = Scene(ground.box, below=ground)
            scene.disc((x, 5.0), 2.0, "hull")
            picture = print_scene(scene, 20, 5)
            both = Scene(ground.box)
            both.marks = [*ground.marks, *scene.marks]
            plain = print_scene(both, 20, 5)
            for name in ("chars", "roles", "grounds", "blends"):
                np.testing.assert_array_equal(getattr(picture, name), getattr(plain, name), name)

    def test_labels_stand_in_order_of_weight_and_cover_nothing_that_matters(self) -> None:
        scene = Scene(Box(0.0, 0.0, 30.0, 10.0), equal=False)
        scene.area([(0, 4), (12, 4), (12, 6), (0, 6)], "commanded")
        scene.label((6.0, 5.0), "hidden", "rest", 9.0)
        scene.label((20.0, 5.0), "light", "rest", 1.0)
        scene.label((20.0, 5.0), "heavy", "rest", 2.0)
        scene.label((20.0, 5.0), "moved", "rest", 0.5, "over above")
        scene.label((6.0, 5.0), "beside", "rest", 0.5, "over below")
        scene.sign((6.0, 5.0), "◆", "title")
        text = "\n".join(print_scene(scene, 30, 10).rows())
        for word in ("heavy", "moved", "beside", "◆"):
            self.assertIn(word, text)
        for word in ("hidden", "light"):
            self.assertNotIn(word, text)

    def test_labels_and_signs_outside_are_left_out(self) -> None:
        scene = Scene(Box(0.0, 0.0, 10.0, 10.0))
        scene.label((-5.0, 5.0), "far", sides="right")
        scene.label((math.nan, 5.0), "lost")
        scene.sign((5.0, 15.0), "◆", "title")
        self.assertEqual("".join(print_scene(scene, 20, 10).rows()).strip(), "")

    def test_captions_stand_in_the_margins_while_there_is_room(self) -> None:
        scene = Scene(Box(0.0, 0.0, 1.0, 1.0), margins=Margins(2, 1, 2, 1))
        for text, where in (
            ("speed", "top"),
            ("m/s", "top right"),
            ("a much longer remark", "top"),
            ("0 s", "bottom"),
            ("8 s", "bottom right"),
        ):
            scene.caption(text, "dim", where)
        rows = print_scene(scene, 24, 8).rows()
        self.assertEqual(rows[0], "  speed            m/s  ")
        self.assertEqual(rows[7], "  0 s              8 s  ")

    def test_spots_cover_their_box_and_at_least_a_cell(self) -> None:
        scene = Scene(Box(0.0, 0.0, 20.0, 10.0), equal=False)
        scene.spot([(0.0, 0.0), (9.9, 9.9)], "area", "a")
        scene.spot([(4.01, 5.5), (4.02, 5.5)], "point", "b")
        picture = print_scene(scene, 20, 10)
        found = [(s.what, s.value) if (s := picture.spot_at(x, 4)) else None for x in (0, 3, 4, 5, 9, 10)]
        self.assertEqual(found, [("area", "a"), ("area", "a"), ("point", "b"), ("area", "a"), ("area", "a"), None])

    @settings(max_examples=60, deadline=None)
    @given(
        st.integers(0, 400), st.integers(0, 120), st.booleans(),
        st.lists(st.tuples(st.floats(-1e5, 1e5), st.floats(-1e5, 1e5)), min_size=3, max_size=8),
    )  # fmt: skip
    def test_any_size_and_any_points(
        self, width: int, height: int, equal: bool, points: list[tuple[float, float]]
    ) -> None:
        scene = Scene(Box(0.0, 0.0, 100.0, 60.0), equal=equal, margins=Margins(8, 1, 1, 1))
        scene.area(points, "hull")
        scene.line(points, "commanded", 0.5, 0.8)
        scene.arrow(points[0], points[1], "measured")
        scene.stamped(points[0], 3.0, 9.0, (), stamp_of(points[0][0], "hull"))
        scene.label(points[0], "name", sides="over left right above below")
        scene.caption("caption")
        picture = print_scene(scene, width, height)
        self.assertEqual((picture.width, picture.height), (width, height))


class DotsTest(unittest.TestCase):
    def test_without_the_library_areas_are_whole_cells_and_lines_dots(self) -> None:
        scene = Scene(Box(0.0, -8.0, 20.0, 0.0), equal=False)
        scene.area([(2, -2), (12, -2), (12, -6), (2, -6)], "bench")
        scene.line([(0.0, -1.0), (20.0, -7.5)], "measured", 0.4)
        scene.line([(0.0, 0.0), (1e9, 0.0)], "commanded", 0.4)
        scene.stamped((16.0, -4.0), 2.0, 9.0, (), stamp_of(0.0, "hull"))
        scene.label((4.5, -4.5), "bench", "title")
        with mock.patch.object(cells, "Image", None):
            self.assertTrue(cells.draws_dots())
            below = Scene(scene.box, equal=False)
            below.marks, scene.marks, scene.below = scene.marks[:1], scene.marks[1:], below
            picture = print_scene(scene, 20, 8)
        self.assertTrue((picture.grounds[2:6, 2:4] == role("bench")).all())
        self.assertEqual(int((picture.grounds == role("bench"))[:, 14:].sum()), 0)
        self.assertTrue((picture.roles == role("measured")).any(axis=0)[1:19].all())
        self.assertIn("bench", picture.row(4))
        self.assertFalse(cells.draws_dots())

    def test_the_screen_starts_without_the_library(self) -> None:
        code = "import sys; sys.modules['PIL'] = None; import pivrex.tui.app, pivrex.tui.start; "
        code += "from pivrex.tui.draw import cells; print(cells.draws_dots())"
        ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False)
        self.assertEqual(ran.stdout.strip(), "True", ran.stderr)


class CanvasTest(unittest.TestCase):
    def again(self, change: Callable[[Picture], None], row_by_row: bool = False) -> list[Region]:
        """Return what is drawn again where a picture of 60 x 6 changes."""
        canvas = Canvas()
        canvas._picture = Picture(60, 6)
        canvas.row_by_row = row_by_row
        now = Picture(60, 6)
        change(now)
        with mock.patch.object(canvas, "refresh") as refresh:
            canvas.show(now)
        return [region for call in refresh.call_args_list for region in call.args]

    def test_only_what_changed_is_drawn_again(self) -> None:
        def blends(picture: Picture) -> None:
            picture.blends[2, 3] = 0x40

        def two(picture: Picture) -> None:
            picture.text(3, 1, "ab")
            picture.text(30, 2, "cd")

        self.assertEqual(self.again(lambda _: None), [])
        self.assertEqual(self.again(blends), [Region(0, 2, 60, 1)])
        self.assertEqual(self.again(two), [Region(0, 1, 60, 2)])
        self.assertEqual(self.again(two, row_by_row=True), [Region(3, 1, 2, 1), Region(30, 2, 2, 1)])


class FewColoursTest(unittest.TestCase):
    def test_a_part_of_a_cell_takes_the_colour_that_it_has_most_of(self) -> None:
        over, under = (style_of("dusk 16", 0, role(n)).bgcolor for n in ("hull", "bench"))
        for blend, wanted in (
            (0x80, (over, under)),
            (0x62, (over, under)),
            (0x31, (under, under)),
            (0x85, (over, over)),
            (0x08, (under, over)),
        ):
            style = style_of("dusk 16", role("hull"), role("bench"), blend)
            self.assertEqual((style.color, style.bgcolor), wanted, hex(blend))
        whole = style_of("dusk", role("hull"), role("bench"), 0x40)
        assert whole.color is not None and whole.color.triplet is not None
        mean = [(int(DARK["hull"][k : k + 2], 16) + int(DARK["bench"][k : k + 2], 16)) / 2 for k in (1, 3, 5)]
        np.testing.assert_allclose(whole.color.triplet, mean, atol=1)


class PlainTest(unittest.TestCase):
    def test_areas_are_signs_by_what_most_of_a_cell_is(self) -> None:
        scene = Scene(Box(0.0, -3.0, 8.0, 0.0), equal=False)
        scene.area([(0, 0), (8, 0), (8, -3), (0, -3)], "floor")
        scene.area([(2.25, 0), (5.25, 0), (5.25, -3), (2.25, -3)], "bench")
        scene.line([(0.0, -1.5), (8.0, -1.5)], "measured", 0.4)
        canvas = Canvas()
        canvas._picture = print_scene(scene, 8, 3)
        # three quarters of the third cell are bench, a quarter of the sixth
        self.assertEqual(canvas._textured(canvas._picture.row(0), 0), "  ▒▒▒   ")
        self.assertEqual(canvas._textured(canvas._picture.row(1), 1), "••••••••")

    def test_how_much_a_character_covers(self) -> None:
        text = "▀▌▘▁▔▊"
        for blend, wanted in (
            (0x80, [True, True, False, False, False, True]),
            (0x08, [True, True, True, True, True, False]),
        ):
            self.assertEqual(covered(text, np.full(6, blend, np.uint8)), wanted)

    def test_every_role_has_its_number(self) -> None:
        self.assertEqual([role(name) for name in ROLES], list(range(len(ROLES))))


if __name__ == "__main__":
    unittest.main()
