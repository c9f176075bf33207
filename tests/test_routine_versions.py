"""Routines made of routines and held against each other: backwards, two versions, and a rehearsal on a cluster."""

import json
import os
import unittest
from math import isnan, pi, radians
from pathlib import Path
from unittest import mock

import numpy as np

from pivrex.errors import PivrexError
from pivrex.rig import Rig, read_rig
from pivrex.routine import Program, check_text, play
from pivrex.routine.backwards import backwards, there_and_back
from pivrex.routine.cluster import rehearse_on
from pivrex.routine.rehearsal import Rehearsed, rehearse
from pivrex.routine.versions import compared
from tests.chassis import demo_path, ideal
from tests.support import DEMO, TempCase, slow
from tests.test_cli import Ran
from tests.test_rehearsal import FIELD, ROUTINE, seeds


def read(text: str, rig: Rig, name: str = "r") -> Program:
    checked = check_text(text, rig, name)
    assert checked.program is not None, checked.wrong
    return checked.program


class BackwardsTest(unittest.TestCase):
    """On the perfect simulated robot, in the open: what is undone ends where it began."""

    def check(self, rig: Rig, text: str, lines: list[str]) -> None:
        program = read("start at 2 m, 2 m facing 30 deg\n" + text, rig)
        there = play(program, rig, None)
        self.assertEqual(there.ended, "finished")
        made = backwards(program, rig, there)
        words = [" ".join(w for w in row.split() if not w[0].isdigit()) for row in made.splitlines()[2:]]
        self.assertEqual(words, lines, made)
        home = play(read(made, rig), rig, None, 60)
        np.testing.assert_allclose(home.pose[:2], there.poses[0][:2], atol=0.012, err_msg=made)
        self.assertAlmostEqual((home.pose[2] - there.poses[0][2] + pi) % (2 * pi) - pi, 0, delta=radians(0.8), msg=made)
        both = play(read(there_and_back(program, rig, there), rig), rig, None, 60)
        np.testing.assert_allclose(both.pose[:2], there.poses[0][:2], atol=0.012, err_msg=made)

    def test_every_way_with_two_sides(self) -> None:
        self.check(
            ideal("plover"),
            "drive ahead 50 cm\nturn left 70 deg\ndrive back 20 cm at 30 %\nbend right 120 deg with radius 0.3 m\n"
            "bend back left 40 deg with radius 0.5 m\npivot left 60 deg about the left side\nturn to 10 deg\ndrive to 2.5 m, 2.2 m",
            [
                # the last line had turned it to the right first, the one before a little to the left
                "drive back m", "turn left deg", "turn right deg", "pivot back right deg about the left side",
                "bend left deg with radius m", "bend back right deg with radius m", "drive ahead m at %", "turn right deg",
                "drive back m",
            ],
        )  # fmt: skip

    def test_sideways_and_along_the_field(self) -> None:
        self.check(
            ideal("bittern"), "drive left 40 cm\nturn right 90 deg\ndrive right 30 cm\ndrive along 100 deg for 30 cm",
            ["drive to m, m", "drive left m", "turn left deg", "drive right m"],
        )  # fmt: skip

    def test_decisions_repeats_and_own_moves_are_dissolved(self) -> None:
        self.check(
            ideal("plover"),
            "own move nudge with way 10 cm\n    drive ahead way\nlet n be 2\nrepeat n times\n    do nudge\nif n is 2\n    turn left 30 deg",
            ["turn right deg", "drive back m", "drive back m"],
        )  # fmt: skip

    def test_wheels(self) -> None:
        rig = ideal("plover")
        program = read("start at 2 m, 2 m\nwheels left 40 %, right 20 % for 1 s\nwait 0.5 s", rig)
        made = backwards(program, rig, play(program, rig, None))
        self.assertIn('wheels "left" -40 %, "right" -20 % for 1 s', made)

    def test_the_rig_and_what_counts_from_the_beginning_are_kept(self) -> None:
        rig = ideal("plover")
        program = read("for plover\nstart at 2 m, 2 m\nfrom now on drive at 0.3 m/s\ndrive ahead 30 cm", rig)
        made = backwards(program, rig, play(program, rig, None)).splitlines()
        self.assertEqual((made[1], made[3]), ("for plover", "from now on drive at 0.3 m/s"))


class VersionsTest(unittest.TestCase):
    RIG = ideal("plover")

    def compare(self, a: str, b: str) -> tuple[float, int, int, str]:
        plays = play(read(a, self.RIG), self.RIG, None), play(read(b, self.RIG), self.RIG, None)
        made = compared(("old", "new"), plays, None, None)
        return made.at_s, made.a.line, made.b.line, made.faster

    def test_where_they_part_and_which_is_faster(self) -> None:
        old = "start at 2 m, 2 m\nwait 1 s\ndrive ahead 50 cm at 0.5 m/s\nwait 1 s"
        at_s, a, b, faster = self.compare(old, old.replace("wait 1 s\ndrive", "wait 0.5 s\n\ndrive"))
        # the second begins half a second sooner, 1 cm takes it √(2·0.01/a)
        self.assertGreater(at_s, 0.5)
        self.assertLess(at_s, 0.9)
        self.assertEqual((a, b, faster), (2, 4, "new"))
        at_s, a, b, faster = self.compare(old, old)
        self.assertTrue(isnan(at_s))
        self.assertEqual(faster, "")

    def test_which_is_more_reliable(self) -> None:
        one = play(read("start at 2 m, 2 m\nwait 0.1 s", self.RIG), self.RIG, None)
        chance = np.random.default_rng(4).normal(size=(200, 3))

        def rehearsed(sigma: float) -> Rehearsed:
            return Rehearsed(
                seeds(1, 200),
                np.array([1.7, 1.7, 0]) + sigma * chance,
                np.ones(200),
                ("finished",) * 200,
                (),
                chance[:, :0],
            )

        made = compared(("old", "new"), (one, one), (rehearsed(0.05), rehearsed(0.02)), FIELD)
        self.assertEqual(made.more_reliable, "new")
        self.assertAlmostEqual(
            made.a.scatter_m, 0.05 * float(np.sqrt(np.trace(np.cov(chance[:, :2].T)) / 2)), delta=1e-9
        )
        # within 12 cm of the zone's middle: 1 - exp(-r²/2σ²) of a normal cloud
        self.assertEqual((made.b.zone, made.b.share), ("bench A", 1.0))
        self.assertAlmostEqual(made.a.share, 1 - np.exp(-(0.12**2) / (2 * 0.05**2)), delta=0.05)
        self.assertIn("new is more reliable: old ± 5", " ".join(made.sentences()))
        near = compared(("old", "new"), (one, one), (rehearsed(0.05), rehearsed(0.049)), FIELD)
        self.assertEqual((near.more_reliable, isnan(near.at_s)), ("", True))


class ClusterTest(unittest.TestCase):
    @slow
    def test_two_workers_give_what_one_machine_gives(self) -> None:
        from distributed import LocalCluster

        rig = read_rig(demo_path("plover"))
        program = read(ROUTINE, rig)
        whole = rehearse(program, rig, FIELD, seeds(1, 41), 3.0)
        assert whole is not None
        told: list[tuple[int, int]] = []
        with (
            mock.patch("pivrex.routine.cluster.FEWEST", 10),
            LocalCluster(
                n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, worker_dashboard_address=None
            ) as cluster,
        ):
            found = rehearse_on(
                cluster.scheduler_address, (program, rig, FIELD, 3.0), seeds(1, 41), lambda *n: told.append(n)
            )
        self.assertEqual(found.poses.tobytes(), whole.poses.tobytes())
        self.assertEqual((found.seeds.tolist(), found.ended), (whole.seeds.tolist(), whole.ended))
        self.assertEqual(told, [(1, 2), (2, 2)])

    def test_nobody_there(self) -> None:
        rig = ideal("plover")
        with (
            mock.patch("pivrex.routine.cluster.ANSWERS_S", 0.3),
            self.assertRaisesRegex(PivrexError, "no scheduler answers at tcp://127.0.0.1:1"),
        ):
            rehearse_on("tcp://127.0.0.1:1", (read("wait 1 s", rig), rig, None, 1.0), seeds(1, 2))


class CommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())

    def test_back(self) -> None:
        path = Path("routines") / "short.txt"
        path.write_text("for plover\nstart at 0.5 m, 0.5 m facing 90 deg\ndrive ahead 60 cm\nturn right 90 deg\n")
        ran = Ran("back", "short", "-o", "routines/home.txt", "--times", "3", "--json")
        self.assertEqual(ran.code, 0, ran.err)
        told = json.loads(ran.out)
        self.assertEqual(Path("routines/home.txt").read_text(), told["text"])
        self.assertLess(told["error_m"], 0.05)
        self.assertGreaterEqual(told["max_error_m"], told["mean_error_m"])
        alone = json.loads(Ran("play", "home", "--json").out)
        self.assertAlmostEqual(alone["pose"]["y_m"], 0.5, delta=0.05)

    def test_rehearse_against(self) -> None:
        Path("routines/a.txt").write_text("for plover\nstart at 1 m, 2 m\ndrive ahead 30 cm at 0.4 m/s\n")
        Path("routines/b.txt").write_text(
            "for plover\nstart at 1 m, 2 m\ndrive ahead 30 cm at 0.4 m/s without gyro\nwait 1 s\n"
        )
        told = json.loads(Ran("rehearse", "a", "--against", "b", "--times", "6", "--workers", "1", "--json").out)[
            "against"
        ]
        self.assertEqual((told["faster"], [v["name"] for v in told["versions"]]), ("a", ["a", "b"]))
        self.assertTrue((DEMO / "routines").is_dir())
