"""Drawings with weight: areas behind cells, robots that show their front, gaps that are seen, without colours too."""

import math
import unittest

import numpy as np

from pivrex.rig import read_rig
from pivrex.tui.draw.attachment_bar import Standing, draw_standing, name_width
from pivrex.tui.draw.curve import CurveData, draw_curve
from pivrex.tui.draw.envelope_chart import EnvelopeData, draw_envelope
from pivrex.tui.draw.field_scale import scale_of, window_of
from pivrex.tui.draw.floor import draw_field, field_ground
from pivrex.tui.draw.gate import GateData, draw_gate
from pivrex.tui.draw.picture import GROUNDS, Areas, Dots, Picture, role
from pivrex.tui.draw.robot_drawing import RobotData, draw_robot, robot_scale
from pivrex.tui.draw.strip import draw_strip
from pivrex.tui.themes import TEXTURES, style_of
from tests.support import DEMO
from tests.test_app import AppCase, in_loop

COOT = DEMO / "rigs" / "coot.toml"


def cells(picture: Picture, named: str) -> np.ndarray:
    """Which cells are of an area: wholly by their ground, partly by their role."""
    return (picture.grounds == GROUNDS.index(named)) | ((picture.roles == role(named)) & (picture.chars != " "))


def quarters(picture: Picture, named: str) -> np.ndarray:
    """Which quarters of cells are of an area, (2 H, 2 W)."""
    found = np.zeros((2 * picture.height, 2 * picture.width), bool)
    ground, whose = GROUNDS.index(named), role(named)
    for y, x in np.ndindex(picture.chars.shape):
        char = str(picture.chars[y, x])
        code = " ▘▝▀▖▌▞▛▗▚▐▜▄▙▟█".index(char) if char in " ▘▝▀▖▌▞▛▗▚▐▜▄▙▟█" else 0
        for bit, (row, column) in enumerate(((0, 0), (0, 1), (1, 0), (1, 1))):
            over = code >> bit & 1
            found[2 * y + row, 2 * x + column] = (
                picture.roles[y, x] == whose if over else picture.grounds[y, x] == ground
            )
    return found


class AreaTest(unittest.TestCase):
    def test_a_box_fills_whole_cells_and_its_rims_in_quarters(self) -> None:
        areas, picture = Areas(6, 4), Picture(6, 4)
        areas.box(areas.layer("bench"), 3, 4, 9, 14)  # dots: 2 a cell across, 4 down
        areas.onto(picture, 0, 0)
        self.assertEqual("".join(picture.chars[1]), " ▐  ▌ ")
        self.assertEqual("".join(picture.chars[3]), " ▝▀▀▘ ")
        self.assertEqual([GROUNDS[g] for g in picture.grounds[1]], ["", "", "bench", "bench", "", ""])

    def test_a_convex_shape_is_what_its_sides_say(self) -> None:
        """Against an even-odd count of crossings, dot by dot."""
        chance = np.random.default_rng(4)
        for _ in range(20):
            angle = np.sort(chance.uniform(0, 2 * np.pi, 5))
            x, y = 20 + 17 * np.cos(angle), 20 + 17 * np.sin(angle)
            areas = Areas(20, 10)
            mask = areas.layer("hull")
            areas.convex(mask, x, y)
            for row in range(areas.height):
                for column in range(areas.width):
                    px, py = column + 0.5, 2 * (row + 0.5)
                    inside = False
                    for k in range(5):
                        (x1, y1), (x2, y2) = (x[k - 1], y[k - 1]), (x[k], y[k])
                        if (y1 > py) != (y2 > py) and px < (x2 - x1) * (py - y1) / (y2 - y1) + x1:
                            inside = not inside
                    self.assertEqual(bool(mask[row, column]), inside, (row, column))

    def test_two_areas_in_a_cell_are_both_seen(self) -> None:
        areas, picture = Areas(2, 1), Picture(2, 1)
        areas.box(areas.layer("hull"), 0, 0, 4, 4)
        areas.box(areas.layer("nose"), 0, 0, 1, 4)
        areas.onto(picture, 0, 0)
        self.assertEqual((picture.chars[0, 0], picture.roles[0, 0]), ("▌", role("nose")))
        self.assertEqual([GROUNDS[g] for g in picture.grounds[0]], ["hull", "hull"])

    def test_what_is_written_or_drawn_over_an_area_keeps_it(self) -> None:
        picture = Picture(8, 1)
        picture.fill(0, 0, 8, "bench")
        picture.text(1, 0, "bench", "title")
        dots = Dots(8, 1)
        dots.path(dots.layer("measured"), np.array([12.0, 15.0]), np.array([0.0, 3.0]))
        dots.onto(picture, 0, 0)
        self.assertTrue((picture.grounds == GROUNDS.index("bench")).all())
        other = Picture(10, 2)
        other.place(picture, 1, 1)
        self.assertEqual(int((other.grounds == GROUNDS.index("bench")).sum()), 8)

    def test_between_two_curves(self) -> None:
        areas = Areas(10, 5)
        mask = areas.layer("gap")
        areas.between(mask, np.array([0.0, 20.0]), np.array([4.0, 4.0]), np.array([12.0, 12.0]))
        self.assertEqual(mask.sum(axis=0).tolist(), [4] * 20)  # 8 dots are 4 quarters

    def test_every_area_has_a_colour_or_a_texture(self) -> None:
        for theme in ("dusk", "noon", "dusk 16", "noon 16"):
            behind = style_of(theme, 0).bgcolor
            for ground, name in enumerate(GROUNDS):
                style = style_of(theme, 0, ground)
                if name not in ("", "floor"):
                    self.assertNotEqual(style.bgcolor, behind, (theme, name))
        self.assertEqual(set(TEXTURES), set(GROUNDS) - {""})


class RobotTest(unittest.TestCase):
    def test_its_front_is_at_the_front_at_any_angle(self) -> None:
        from pivrex.rig.field import Field

        rig, field = read_rig(COOT), Field()
        for size in ((90, 40), (60, 24)):
            scale = scale_of(field, *size)
            ground = field_ground(field, scale, *size)
            for degrees in range(0, 360, 30):
                heading = math.radians(degrees)
                none = np.zeros((0, 2))
                picture = draw_field(ground, scale, rig, (2.5, 2.0, heading), none, none, False, np.zeros(4))
                hull, nose = quarters(picture, "hull"), quarters(picture, "nose")
                self.assertGreaterEqual(hull.sum() + nose.sum(), 12)
                (hy, hx), (ny, nx) = (np.argwhere(m).mean(axis=0) for m in (hull, nose))
                ahead = (nx - hx) * math.cos(heading) - (ny - hy) * 2 * math.sin(heading)  # in dots
                self.assertGreater(ahead, 0.12 * scale.per_m, (size, degrees))

    def test_what_is_told_and_what_is_done_lie_side_by_side_with_their_gap(self) -> None:
        rig = read_rig(COOT)
        scale = robot_scale(rig, 70, 36)
        full, half = np.full(4, 1.0), np.full(4, 0.4)
        nothing = np.zeros(4)
        data = RobotData(rig, nothing, nothing, full, half, (False,) * 4, None, None, "")
        picture = draw_robot(data, scale, 70, 36)
        told, done, gap = (int(cells(picture, n).sum()) for n in ("command fill", "measure fill", "gap"))
        for count in (told, done, gap):
            self.assertGreater(count, 8)
        self.assertAlmostEqual((done + gap) / told, 1.0, delta=0.45)
        alike = draw_robot(RobotData(rig, nothing, nothing, full, full, (False,) * 4, None, None, ""), scale, 70, 36)
        self.assertEqual(int(cells(alike, "gap").sum()), 0)

    def test_an_attachment_that_has_a_place_turns_on_the_robot(self) -> None:
        rig = read_rig(COOT)
        scale = robot_scale(rig, 70, 36)
        nothing = np.zeros(4)

        def drawn(angle: float) -> np.ndarray:
            boom = Standing("boom", "position", "", "", "", "", 0.5, 0.5, "", "", angle, True)
            data = RobotData(
                rig, nothing, nothing, None, None, (False,) * 4, None, None, "", names=False, standings=(boom,)
            )
            return cells(draw_robot(data, scale, 70, 36), "command fill")

        right, ahead = drawn(0.0), drawn(math.pi / 2)  # points -90 deg at 0
        self.assertGreater(np.argwhere(right)[:, 1].mean(), np.argwhere(ahead)[:, 1].mean())
        self.assertGreater(np.argwhere(right)[:, 0].mean(), np.argwhere(ahead)[:, 0].mean())


class ChartTest(unittest.TestCase):
    def test_the_gap_of_a_strip_is_an_area(self) -> None:
        t = np.linspace(0, 8, 480)
        asked, real = np.where(t > 4, 0.8, 0.0), np.where(t > 5, 0.8, 0.0)
        picture = draw_strip("left", t, asked, real, 1.0, 8.0, "m/s", 60, 11)
        gap = np.argwhere(cells(picture, "gap"))[:, 1]
        left, w = 6, 53
        self.assertAlmostEqual(gap.min(), left + w * 4 / 8, delta=2)
        self.assertAlmostEqual(gap.max(), left + w * 5 / 8, delta=2)
        self.assertEqual(int(cells(draw_strip("left", t, asked, asked, 1.0, 8.0, "m/s", 60, 11), "gap").sum()), 0)

    def test_the_dead_band_is_an_area_as_wide_as_it_is(self) -> None:
        x = np.linspace(-1, 1, 81)
        for edge in (0.1, 0.3):
            picture = draw_curve(CurveData("forward", x, x, None, edge, None, "1 m/s"), 90, 30)
            row = cells(picture, "band")[5]
            self.assertAlmostEqual(row.sum() / 80, edge, delta=0.03)
        gate = draw_gate(GateData(np.zeros((0, 2)), np.zeros((0, 2)), 0.3, 0.3, "stick", ("x", "y")), 70, 34)
        self.assertGreater(int(cells(gate, "band").sum()), 20)

    def test_what_can_be_reached_is_an_area(self) -> None:
        corners = np.array([(1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0)])
        data = EnvelopeData(
            corners, np.zeros((0, 2)), None, None, None, np.array([1.0, 1.0]), ("m/s", "m/s"), ("a", "b", "c"), ""
        )
        picture = draw_envelope(data, 50, 24)
        inside = cells(picture, "floor")
        self.assertAlmostEqual(inside[1:22, 4:46].mean(), 0.5, delta=0.08)  # a square on its corner fills half
        self.assertIn("┼", "".join(picture.rows()))  # axes in line characters

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
        gap = np.flatnonzero(picture.grounds[0] == GROUNDS.index("gap"))
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


class ZoomTest(AppCase):
    def test_a_window_maps_points_there_and_back(self) -> None:
        from pivrex.rig.field import Field

        scale = window_of(Field(), 80, 33, 1.0, 3.3, 2.2)
        x, y = scale.cell(3.3, 2.2)
        self.assertTrue(scale.holds(x, y))
        at = scale.metres(x, y)
        self.assertLess(math.dist(at, (3.3, 2.2)), 4 / scale.per_m)
        self.assertAlmostEqual(scale.cells[1] * 4 / scale.per_m, 1.0, delta=0.05)

    @in_loop
    async def test_z_walks_between_the_floor_and_windows_that_follow(self) -> None:
        async with self.running(source="recording watering"):
            await self.frames(30)

            def size() -> int:
                return int(
                    cells(self.app.view.canvas.picture, "hull").sum()
                    + cells(self.app.view.canvas.picture, "tyre").sum()
                )

            whole = size()
            self.assertIn("bench D", self.text("field"))
            await self.press("z")
            nearer = size()
            await self.press("z")
            self.assertGreater(nearer, 2 * whole)
            self.assertGreater(size(), 2 * nearer)
            self.assertIn("a window of 1 m", self.text("foot"))
            for _ in range(40):
                await self.frames(3)
                hull = cells(self.app.view.canvas.picture, "hull")
                self.assertTrue(hull.any())  # wherever it drives
            await self.press("z")
            self.assertIn("bench D", self.text("field"))

    @in_loop
    async def test_without_colours_areas_are_textures(self) -> None:
        async with self.running():
            await self.press("t", "t", "z", "z")
            self.assertEqual(self.app.look, "plain")
            view = self.app.view
            lines = ["".join(s.text for s in view.canvas.render_line(y)) for y in range(view.size.height)]
            shown = "\n".join(lines)
            self.assertIn(TEXTURES["hull"] * 4, shown)
            self.assertIn(TEXTURES["nose"], shown)


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
