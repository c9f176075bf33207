"""The close-up of a rehearsal's ends: what lies where, and how long its bar is."""

import unittest

import numpy as np

from pivrex.rig.field import Zone
from pivrex.tui.draw.cloud import draw_cloud
from pivrex.tui.draw.picture import role

ZONE = Zone.model_validate({"name": "bench A", "x": "1.7 m", "y": "1.7 m", "radius": "12 cm"})


class CloudTest(unittest.TestCase):
    def setUp(self) -> None:
        chance = np.random.default_rng(2).normal(size=(300, 3))
        self.poses = np.array([1.7, 1.7, 0.0]) + chance * np.array([0.04, 0.01, 0.02])

    def cells(self, picture: object, named: str) -> np.ndarray:
        return np.argwhere(picture.roles == role(named))  # type: ignore[attr-defined]

    def test_wider_along_than_across_and_in_the_middle(self) -> None:
        picture = draw_cloud(self.poses, ZONE, 40, 12)
        rows, columns = self.cells(picture, "target").T
        # a cell is twice as high as wide: 16 cm of four sigma against 4 cm
        self.assertGreater(np.ptp(columns) / 2, 1.5 * np.ptp(rows))
        self.assertAlmostEqual(float(columns.mean()), 19.5, delta=3)
        self.assertAlmostEqual(float(rows.mean()), 5.5, delta=1.0)
        self.assertIn("bench A", picture.row(0))

    def test_the_bar_is_as_long_as_it_says(self) -> None:
        picture = draw_cloud(self.poses, ZONE, 40, 12)
        foot = picture.row(11)
        cells = foot.index("┤") - foot.index("├") + 1
        metres = float(foot.split("┤")[1].split("cm")[0]) / 100
        # the zone is 24 cm across, the window 1.1 times that in 10 rows of 4 dots; a cell has 2 across
        self.assertAlmostEqual(cells, metres * (10 * 4 / (2 * 0.132)) / 2, delta=2)

    def test_a_point_and_small_windows(self) -> None:
        draw_cloud(np.zeros((1, 3)), None, 40, 12)
        for size in ((1, 1), (8, 3), (10, 5), (12, 4)):
            picture = draw_cloud(self.poses, ZONE, *size)
            self.assertEqual((picture.width, picture.height), size)
