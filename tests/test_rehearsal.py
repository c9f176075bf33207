"""Rehearsals: each drive of a batch is the one that its seed plays alone, and what is told of them is what they did."""

import json
import os
import unittest
from math import radians
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.cli import run
from pivrex.rig import open_folder, read_rig
from pivrex.routine import check_text, play
from pivrex.routine.files import program_of, shared_next_to
from pivrex.routine.rehearsal import Rehearsed, follows, reached, rehearse, split, together
from pivrex.sim.sampled import sampled
from tests.chassis import demo_path
from tests.support import DEMO, TempCase, often, slow
from tests.test_cli import Ran

FIELD = open_folder(DEMO).settings.field
ROUTINE = "start at 1 m, 2 m\ndrive ahead 30 cm\nif post is heard\n    turn left 90 deg\nelse\n    turn right 20 deg\ndrive back 10 cm"


def seeds(first: int, count: int) -> NDArray[np.uint64]:
    return np.arange(first, first + count, dtype=np.uint64)


class SpreadTest(unittest.TestCase):
    RIG = read_rig(demo_path("plover"))

    def test_within_what_the_rig_says_and_all_over_it(self) -> None:
        rig = self.RIG
        found = sampled(rig, seeds(1, 4000))
        values = dict(zip(found.names, found.values.T, strict=True))
        for name, middle, most in (
            ("start x", 0.0, 0.015), ("start heading", 0.0, radians(1.5)), ("grip", 1.0, 0.15), ("strength of left", 1.0, 0.04),
            ("charge", 0.5, 0.3), ("mass", 1.0, 0.05),
        ):  # fmt: skip
            off = values[name] - middle
            self.assertLessEqual(np.abs(off).max(), most * (1 + 1e-9), name)
            # evenly spread between ±m: variance m²/3
            self.assertAlmostEqual(off.std(), most / 3**0.5, delta=0.05 * most, msg=name)
            self.assertLess(abs(off.mean()), 0.05 * most, name)
        # and nothing follows anything else
        table = np.asarray(np.corrcoef(found.values, rowvar=False))
        self.assertLess(np.abs(table - np.eye(table.shape[0])).max(), 0.08)

    def test_seed_0_is_the_rig_and_each_seed_always_the_same(self) -> None:
        found = sampled(self.RIG, np.array([0, 5, 0], np.uint64))
        np.testing.assert_array_equal(found.values[0], [0, 0, 0, self.RIG.battery.charge, 1, 1, 1, 1, 1])
        np.testing.assert_array_equal(found.values[0], found.values[2])
        alone = sampled(self.RIG, np.array(5, np.uint64))
        np.testing.assert_array_equal(found.values[1], alone.values)
        self.assertEqual(alone.under.strength["left"], found.under.strength["left"][1])


class RehearsalTest(unittest.TestCase):
    def test_each_is_the_one_that_its_seed_plays_alone(self) -> None:
        rig = read_rig(demo_path("plover"))
        program = check_text(ROUTINE, rig).program
        assert program is not None
        found = rehearse(program, rig, FIELD, seeds(0, 6), 6.0)
        assert found is not None
        for k in range(6):
            alone = play(program, rig, FIELD, 6.0, k)
            self.assertEqual(alone.pose.tobytes(), found.poses[k].tobytes(), k)
            self.assertEqual((alone.ended, alone.time_s), (found.ended[k], found.times_s[k]))

    def test_cut_off_by_the_clock_or_ended_by_a_fault(self) -> None:
        rig = read_rig(demo_path("plover"))
        program = check_text("start at 1 m, 2 m\nlet n be post\ndrive ahead 1 m at n * 5 %", rig).program
        assert program is not None
        found = rehearse(program, rig, FIELD, seeds(1, 3), 1.0)
        assert found is not None
        for k in range(3):
            alone = play(program, rig, FIELD, 1.0, k + 1)
            self.assertEqual(alone.pose.tobytes(), found.poses[k].tobytes(), k)
            self.assertEqual((alone.ended, alone.time_s), (found.ended[k], found.times_s[k]))

    def test_it_does_not_hang_on_how_it_is_split(self) -> None:
        rig = read_rig(demo_path("plover"))
        program = check_text(ROUTINE, rig).program
        assert program is not None
        whole = rehearse(program, rig, FIELD, seeds(1, 5), 4.0)
        parts = [rehearse(program, rig, FIELD, one, 4.0) for one in split(seeds(1, 5), 2)]
        assert whole is not None
        joined = together([p for p in parts if p is not None])
        self.assertEqual(joined.poses.tobytes(), whole.poses.tobytes())
        self.assertEqual(joined.seeds.tolist(), [1, 2, 3, 4, 5])
        self.assertEqual([len(s) for s in split(seeds(1, 1000), 2)], [500, 500])

    def test_progress_and_giving_up(self) -> None:
        rig = read_rig(demo_path("plover"))
        program = check_text("wait 1 s", rig).program
        assert program is not None
        told: list[tuple[int, int]] = []

        def gives_up(done: int, whole: int) -> bool:
            told.append((done, whole))
            return False

        self.assertIsNone(rehearse(program, rig, FIELD, seeds(1, 2), 2.0, gives_up))
        self.assertEqual(told, [(0, 150)])  # two seconds and half a second of rest, at 60 Hz

    @slow
    def test_the_demo_reaches_its_bench_with_the_gyro(self) -> None:
        for name, shows, bench in (("plover", 2, "bench B"), ("bittern", 4, "bench D"))[: often(2, 1)]:
            self.assertGreaterEqual(self.share(name, shows, bench, with_gyro=True), 0.95, f"{name} {shows}")

    @slow
    def test_and_clearly_less_often_without_it(self) -> None:
        self.assertLess(self.share("plover", 2, "bench B", with_gyro=False), 0.75)

    def share(self, name: str, shows: int, bench: str, with_gyro: bool) -> float:
        """Rehearse a demo routine twenty times with another number on the post; gives how often it reaches a bench."""
        rig, path = read_rig(demo_path(name)), DEMO / "routines" / f"greenhouse-{name}.txt"
        rounds = tuple(r.model_copy(update={"shows": float(shows)}) if r.shows else r for r in FIELD.rounds)
        there = FIELD.model_copy(update={"rounds": rounds})
        program = program_of(path, rig)
        if not with_gyro:
            text = path.read_text(encoding="utf-8")
            start = text.index("\n", text.index("start at")) + 1
            checked = check_text(
                text[:start] + "from now on without gyro\n" + text[start:], rig, shared=shared_next_to(path)
            )
            assert checked.program is not None
            program = checked.program
        found = rehearse(program, rig, there, seeds(1, 20), 25.0)
        assert found is not None
        return reached(found, there)[bench]


class ToldTest(unittest.TestCase):
    def test_shares_covariance_worst_and_what_the_end_follows(self) -> None:
        chance = np.random.default_rng(3)
        n = 500
        values = chance.uniform(-1, 1, (n, 3))
        poses = np.stack(
            [1.7 + 0.05 * values[:, 0], 1.7 - 0.02 * values[:, 1] + 0.001 * chance.normal(size=n), 0 * values[:, 0]],
            axis=1,
        )
        poses[7] = (2.5, 1.7, 0.0)
        found = Rehearsed(seeds(1, n), poses, np.ones(n), ("finished",) * n, ("a", "b", "c"), values)
        self.assertEqual(
            reached(found, FIELD)["bench A"], (n - 1) / n
        )  # its zone is 12 cm wide, 1.7 m along and across
        self.assertEqual(reached(found, FIELD)["bench D"], 0)
        self.assertEqual(found.worst, 7)
        np.testing.assert_allclose(found.covariance, np.cov(poses.T))
        first, second = follows(found)[:2]
        self.assertEqual({(first.name, first.of), (second.name, second.of)}, {("a", "x"), ("b", "y")})
        by_name = {f.name: f.correlation for f in follows(found)}
        self.assertLess(by_name["b"], -0.9)
        self.assertLess(abs(by_name["c"]), 0.2)


class RehearseCommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())

    def test_rehearse(self) -> None:
        path = self.folder / "r.txt"
        path.write_text("for plover\nstart at 1.7 m, 1.5 m facing 90 deg\ndrive ahead 20 cm\n")
        ran = Ran("rehearse", str(path), "--rig", "plover", "--times", "4", "--seed", "1", "--workers", "1", "--json")
        self.assertEqual(ran.code, 0, ran.err)
        told = json.loads(ran.out)
        self.assertEqual((told["times"], told["reached"]["bench A"], told["ended"]), (4, 1.0, {"finished": 4}))
        self.assertEqual(
            set(told),
            {
                "times",
                "reached",
                "ended",
                "time_s",
                "mean",
                "standard_deviation",
                "spread",
                "renamed",
                "covariance",
                "worst",
                "follows",
            },
        )
        seed = told["worst"]["seed"]
        alone = json.loads(Ran("play", str(path), "--rig", "plover", "--seed", str(seed), "--json").out)
        self.assertEqual(alone["pose"], told["worst"]["pose"])

    def test_play_and_what_is_wrong_with_a_routine(self) -> None:
        told = json.loads(Ran("play", "practice", "--json").out)
        self.assertEqual(told["ended"], "finished")
        self.assertEqual([s["line"] for s in told["steps"]], [5, 6, 7, 8])
        self.assertEqual(told["steps"][1]["text"], "turn right 90 deg")
        ran = Ran("play", "mistakes")
        self.assertEqual((ran.code, ran.out), (1, ""))
        self.assertIn("routines/mistakes.txt:5: column 7: ", ran.err)
        self.assertEqual(len(ran.err.strip().splitlines()), 9)
        ran = Ran("play", "nowhere")
        self.assertIn('no routine of this workspace (routines/ holds "greenhouse-avocet"', ran.err)
        self.assertEqual(Ran("check", "routines/mistakes.txt").code, 1)
        self.assertIn("no mistakes", Ran("check", "routines/practice.txt").out)
        self.assertEqual(run(["play", "practice", "--rig", "avocet"]), 1)
