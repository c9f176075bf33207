"""Figures of answers, the relay experiment, the search over gains and the commands: against sums worked by hand."""

import io
import json
import math
import unittest
from collections import deque
from contextlib import redirect_stderr, redirect_stdout

import numpy as np
from numpy.typing import NDArray

from pivrex.cli.main import run
from pivrex.rig import Rig, read_rig
from pivrex.rig.correction import Correction as CorrectionTable
from pivrex.sim.body import Conditions
from pivrex.tuning import LOOPS, OPEN, Bench, Experiment, Gains, figures_of, loops_of, step_responses_to
from pivrex.tuning.relay import gains_by, relay, relay_on
from pivrex.tuning.search import CONDITIONS, GOALS, search
from tests.chassis import demo_path
from tests.support import TempCase, often, plain_rig, slow

Floats = NDArray[np.float64]
HEADING, WHEEL, STEERING = LOOPS["heading"], LOOPS["wheel"], LOOPS["steering"]


class FiguresTest(unittest.TestCase):
    def test_of_a_first_order_answer(self) -> None:
        # 1 - exp(-t/τ): from a tenth to nine tenths τ·ln 9, within 5 % after τ·ln 20
        t = np.arange(1, 3001) / 1000
        value = 1 - np.exp(-t / 0.2)
        f = figures_of(t, value[None], np.zeros(1), np.ones(1), np.ones((1, 3000)))
        self.assertAlmostEqual(float(f.rise_s[0]), 0.2 * math.log(9), delta=0.002)
        self.assertAlmostEqual(float(f.settle_s[0]), 0.2 * math.log(20), delta=0.003)
        self.assertEqual(float(f.overshoot[0]), 0.0)
        self.assertEqual(float(f.effort[0]), 1.0)

    def test_of_a_second_order_answer(self) -> None:
        # damping 0.5: overshoot exp(-π·0.5/√(1 - 0.25)) = 16.3 %
        t = np.arange(1, 8001) / 1000
        z, w = 0.5, 6.0
        wd = w * math.sqrt(1 - z * z)
        value = 1 - np.exp(-z * w * t) * (np.cos(wd * t) + z * w / wd * np.sin(wd * t))
        f = figures_of(t, 2 * value[None], np.zeros(1), np.full(1, 2.0), np.zeros((1, 8000)))
        self.assertAlmostEqual(float(f.overshoot[0]), 2 * math.exp(-math.pi * z / math.sqrt(1 - z * z)), delta=1e-4)
        self.assertAlmostEqual(float(f.final[0]), 0.0, places=4)

    def test_of_a_push(self) -> None:
        t = np.arange(1, 1001) / 1000
        value = 0.3 * np.exp(-t / 0.1)
        f = figures_of(t, value[None], np.zeros(1), np.zeros(1), np.zeros((1, 1000)))
        self.assertAlmostEqual(float(f.overshoot[0]), 0.3, delta=0.004)
        self.assertAlmostEqual(float(f.settle_s[0]), 0.1 * math.log(20), delta=0.003)

    def test_one_that_never_settles(self) -> None:
        t = np.arange(1, 1001) / 1000
        f = figures_of(t, np.sin(30 * t)[None] + 1, np.zeros(1), np.ones(1), np.zeros((1, 1000)))
        self.assertTrue(math.isnan(float(f.settle_s[0])))


class Plant:
    """K/((τ·s + 1)·s) or K/(τ·s + 1) with a dead time, stepped a thousand times a second by hand."""

    def __init__(self, gain: float, lag_s: float, dead_s: float, integrates: bool) -> None:
        self.gain, self.lag, self.integrates = gain, lag_s, integrates
        self.queue = deque([0.0] * round(dead_s * 1000))
        self.speed = self.value = 0.0

    def __call__(self, given: float) -> float:
        self.queue.append(given)
        late = self.queue.popleft()
        self.speed += (self.gain * late - self.speed) / self.lag * 0.001
        self.value += self.speed * 0.001
        return self.value if self.integrates else self.speed


class RelayTest(unittest.TestCase):
    def limit(self, gain: float, lag: float, dead: float, integrates: bool) -> tuple[float, float]:
        """The ultimate gain and period by the phase: -180 deg in all, found by halving."""
        low, high = 0.1, 1e4
        for _ in range(200):
            w = (low + high) / 2
            phase = math.atan(w * lag) + w * dead + (math.pi / 2 if integrates else 0.0)
            low, high = (w, high) if phase < math.pi else (low, w)
        size = gain / math.hypot(1.0, w * lag) / (w if integrates else 1.0)
        return 1 / size, 2 * math.pi / w

    def test_it_finds_the_limit_of_plants_known_by_hand(self) -> None:
        for plant in ((2.0, 0.1, 0.05, True), (1.0, 0.3, 0.08, True), (3.0, 0.05, 0.1, True), (1.5, 0.4, 0.03, False)):
            found = relay(Plant(*plant), 1.0, 1e-4, 0.001, 12.0)
            assert found is not None
            gain, period = self.limit(*plant)
            self.assertAlmostEqual(found.period_s / period, 1.0, delta=0.1, msg=str(plant))
            # a switch's first harmonic alone: of a lag without an integrator the others pass too
            self.assertAlmostEqual(found.gain / gain, 1.0, delta=0.1 if plant[3] else 0.25, msg=str(plant))

    def test_what_does_not_swing_is_said(self) -> None:
        self.assertIsNone(relay(lambda _u: 0.0, 1.0, 0.01, 0.01, 5.0))
        drifting = iter(np.linspace(0, 100, 100000))
        self.assertIsNone(relay(lambda _u: float(next(drifting)), 1.0, 0.01, 0.01, 5.0))

    def test_on_every_loop_of_a_robot(self) -> None:
        rig = read_rig(demo_path("avocet"))
        for loop in loops_of(rig):
            found = relay_on(rig, loop)
            assert found is not None, loop.name
            self.assertTrue(0.05 < found.period_s < 1.0, loop.name)
            for goal in GOALS:
                self.assertTrue(all(g >= 0 for g in gains_by(found, goal, loop, rig)))

    def test_the_perfect_heading_has_the_limit_of_its_lag_and_ticks(self) -> None:
        # wheels with a lag of 100 ms at 60 Hz, a tick and a half of dead time, the switch's own band next to it
        rig = plain_rig(('lag = "0 s"', 'lag = "100 ms"'), ("[law]", "[gyro]\n[law]"))
        found = relay_on(rig.model_copy(update={"correction": CorrectionTable()}), HEADING)
        assert found is not None
        _, period = self.limit(1.0, 0.1, 1.5 / 60, True)
        self.assertAlmostEqual(found.period_s / period, 1.0, delta=0.25)


class LoopsTest(unittest.TestCase):
    def test_which_loops_a_rig_has(self) -> None:
        self.assertEqual([x.name for x in loops_of(read_rig(demo_path("plover")))], ["heading", "wheel"])
        self.assertEqual([x.name for x in loops_of(read_rig(demo_path("avocet")))], ["heading", "wheel", "steering"])
        self.assertEqual(loops_of(plain_rig()), [])
        with self.assertRaises(ValueError):
            Bench(plain_rig(), HEADING)

    def test_p_alone_pi_with_windup_and_the_whole_loop_differ_as_in_the_books(self) -> None:
        rig = weak(read_rig(demo_path("plover")))
        under = Experiment("both", math.radians(30), 3.0)  # under way with a weak side, no push
        wound = self.clamped(rig, 10.0)
        p, full = (step_responses_to(rig, HEADING, under, [g]) for g in (Gains(10.0, 0.0, 0.0), Gains(10.0, 20.0, 0.2)))
        pi_wound = step_responses_to(wound, HEADING, under, [Gains(10.0, 60.0, 0.0)])
        # P alone leaves what the pull needs; I takes it away; without a brake and a clamp it swings farther over
        self.assertGreater(abs(math.degrees(float(p.figures.final[0]))), 0.8)
        self.assertLess(abs(math.degrees(float(full.figures.final[0]))), 0.3)
        self.assertGreater(float(pi_wound.figures.overshoot[0]), 1.2 * float(full.figures.overshoot[0]))
        self.assertLess(float(p.figures.overshoot[0]), float(full.figures.overshoot[0]) + 1e-9)

    def clamped(self, rig: Rig, clamp: float) -> Rig:
        assert rig.correction is not None
        return rig.model_copy(update={"correction": rig.correction.model_copy(update={"i_limit_rad_s": clamp})})

    def test_a_changed_order_of_gain_sets_changes_no_answer(self) -> None:
        rig = read_rig(demo_path("coot"))
        sets = [Gains(12.0, 1.0, 0.4), Gains(5.0, 0.0, 0.0)]
        there = step_responses_to(rig, HEADING, HEADING.experiment(rig, "push"), sets)
        back = step_responses_to(rig, HEADING, HEADING.experiment(rig, "push"), sets[::-1])
        np.testing.assert_array_equal(there.value, back.value[::-1])

    def test_a_batch_answers_as_each_alone(self) -> None:
        rig = read_rig(demo_path("plover"))
        bench = Bench(rig, HEADING)
        gains = Gains(np.array([6.0, 14.0]), np.array([0.0, 20.0]), np.array([0.1, 0.3]))
        experiment = HEADING.experiment(rig, "both")
        many = bench.run(experiment, gains, np.zeros(2, np.uint64))
        for k in range(2):
            alone = bench.run(experiment, Gains(*(float(np.asarray(g)[k]) for g in gains)), np.array(0, np.uint64))
            np.testing.assert_array_equal(alone.value[0], many.value[k])

    def test_the_wheel_loop_answers_in_shares_of_top_speed(self) -> None:
        rig = read_rig(demo_path("coot"))
        a = step_responses_to(rig, WHEEL, WHEEL.experiment(rig, "step"), [WHEEL.gains(rig), Gains(0.0, 0.0, 0.0)])
        self.assertAlmostEqual(float(a.target[0, -1]), 0.4, places=6)
        self.assertLess(abs(float(a.figures.final[0])), 0.03)
        self.assertIn("speed", a.parts)

    def test_open_feedforward_and_the_loop_in_one_drawing(self) -> None:
        rig = read_rig(demo_path("coot"))
        a = step_responses_to(rig, WHEEL, WHEEL.experiment(rig, "step"), [WHEEL.gains(rig), Gains(0.0, 0.0, 0.0), OPEN])
        loop, forward, opened = (abs(float(v)) for v in a.figures.final)
        self.assertGreater(opened, forward)
        self.assertGreater(opened, 1.3 * loop)
        again = step_responses_to(rig, WHEEL, WHEEL.experiment(rig, "step"), [OPEN, WHEEL.gains(rig)])
        np.testing.assert_array_equal(again.value[1], a.value[0])  # what was left open is closed again

    def test_the_steering_loop_turns_a_wheel(self) -> None:
        rig = read_rig(demo_path("avocet"))
        a = step_responses_to(
            rig, STEERING, STEERING.experiment(rig, "step"), [STEERING.gains(rig), Gains(2.0, 0.0, 0.0)]
        )
        self.assertAlmostEqual(math.degrees(float(a.value[0, -1])), 60.0, delta=2.0)
        self.assertLess(float(a.figures.rise_s[0]), 0.5)
        self.assertLess(math.degrees(float(a.value[1, 40])), math.degrees(float(a.value[0, 40])))

    def test_what_a_proposal_writes(self) -> None:
        rig = read_rig(demo_path("avocet"))
        self.assertEqual(
            HEADING.changes(rig, Gains(12.3456, 0.5, 0.07)),
            {"correction.p": "12.3 /s", "correction.i": 0.5, "correction.d": 0.07},
        )
        self.assertEqual(len(STEERING.changes(rig, Gains(12.0, 0.0, 0.1))), 12)
        self.assertEqual(WHEEL.changes(rig, Gains(1.0, 2.0, 0.0))["control.wheels"], "pid")


def weak(rig: Rig) -> Rig:
    motors = {n: m.model_copy(update={"strength": 0.9}) if "left" in n else m for n, m in rig.motors.items()}
    return rig.model_copy(update={"motors": motors})


class SearchTest(unittest.TestCase):
    def test_conditions_are_balanced(self) -> None:
        for name, values in CONDITIONS.items():
            kinds = sorted(set(values.tolist()))
            self.assertEqual([int((values == k).sum()) for k in kinds], [4, 4], name)

    def test_what_is_found_is_no_worse_than_what_was_there_and_the_same_again(self) -> None:
        rig = read_rig(demo_path("plover"))
        steps: list[tuple[int, int]] = []

        def told(done: int, whole: int) -> bool:
            steps.append((done, whole))
            return False

        first = search(rig, HEADING, "robust", 48, progress=told)
        again = search(rig, HEADING, "robust", 48)
        assert first is not None and again is not None
        self.assertEqual(first, again)
        self.assertEqual((steps[0], steps[-1]), ((0, 48), (48, 48)))
        own = search(rig, HEADING, "robust", 2)  # the rig's own gains, and one next to them
        assert own is not None
        self.assertLessEqual(first.score, own.score)

    def test_it_can_be_stopped(self) -> None:
        rig = read_rig(demo_path("plover"))
        self.assertIsNone(search(rig, HEADING, "quick", 40, progress=lambda _done, _whole: True))

    @slow
    def test_sure_overshoots_less_than_quick(self) -> None:
        rig = read_rig(demo_path("bittern"))
        quick, sure = (search(rig, HEADING, goal, 80) for goal in ("quick", "robust"))
        assert quick is not None and sure is not None
        self.assertLessEqual(sure.beyond[1], quick.beyond[1] + math.radians(0.1))

    def test_noise_and_mass_matter(self) -> None:
        rig = read_rig(demo_path("plover"))
        experiment = HEADING.experiment(rig, "push")
        light, heavy = (
            step_responses_to(rig, HEADING, experiment, [HEADING.gains(rig)], Conditions(mass=m)).figures.overshoot[0]
            for m in (1.0, 2.0)
        )
        self.assertGreater(float(light), float(heavy))

    def test_a_wheel_is_asked_for_its_speed_when_the_experiment_says(self) -> None:
        rig, loop = read_rig(demo_path("plover")), LOOPS["wheel"]
        answer = Bench(rig, loop).run(loop.experiment(rig, "step"), None, np.array(0, np.uint64))
        before = answer.t_s < 0.25
        self.assertLess(np.abs(answer.target[0, before]).max(), 0.001)  # it holds its heading meanwhile
        self.assertAlmostEqual(float(answer.target[0, ~before][2]), 0.4, places=6)


class CommandTest(TempCase):
    def ran(self, *words: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with redirect_stdout(out), redirect_stderr(err):
            code = run(list(words))
        return code, out.getvalue(), err.getvalue()

    def test_heading_gives_its_figures_as_json(self) -> None:
        for name in ("coot", "avocet"):
            code, out, err = self.ran("heading", str(demo_path(name)), "--turn", "90", "--json")
            self.assertEqual((code, err), (0, ""))
            answer = json.loads(out)
            self.assertLess(abs(answer["final_error_deg"]), 1.0, name)
            self.assertTrue(answer["finished"])
            self.assertTrue({"rise_s", "overshoot_deg", "settle_s", "drift_m", "ticks"} <= answer.keys())

    def test_a_straight_is_judged_by_its_way_and_its_line(self) -> None:
        """A straight's heading should not change: its noise is no swing, and its rise is that of its way."""
        for name in ("plover", "coot", "bittern", "dunlin", "avocet"):
            rig = read_rig(demo_path(name))
            experiment = HEADING.experiment(rig, "straight")
            for seed in range(1, often(20, 2) + 1):
                a = Bench(rig, HEADING).run(experiment, None, np.array(seed, np.uint64))
                self.assertFalse(a.unstable[0], f"{name} {seed}")
                # a trapezoid of speed to half of full and back: all of it takes way/v + v/a, a tenth of the way √(0.2·way/a)
                v, rise, way = rig.full_forward_m_s / 2, rig.correction.drive_acceleration_m_s2, experiment.amount  # type: ignore[union-attr]
                v = min(v, math.sqrt(way * rise))
                tenth = (
                    math.sqrt(0.2 * way / rise) if 0.1 * way < v * v / (2 * rise) else 0.1 * way / v + v / (2 * rise)
                )
                self.assertAlmostEqual(
                    a.figures.rise_s[0],
                    way / v + v / rise - 2 * tenth,
                    delta=0.15 if name == "coot" else 0.1,
                    msg=f"{name} {seed}",
                )
                self.assertLessEqual(a.figures.rise_s[0], a.figures.settle_s[0])
                self.assertLessEqual(a.figures.settle_s[0], a.done_s[0])
        for gains in (Gains(0.0, 0.0, 30.0), Gains(0.0, 500.0, 0.0)):
            a = Bench(rig := read_rig(demo_path("bittern")), HEADING).run(
                HEADING.experiment(rig, "straight"), gains, np.array(1, np.uint64)
            )
            self.assertTrue(a.unstable[0], gains)
        said = json.loads(self.ran("heading", str(demo_path("plover")), "--straight", "0.5", "--json")[1])
        self.assertAlmostEqual(said["end_error_m"], 0.5 - said["distance_m"], places=3)
        self.assertLess(abs(said["end_error_m"]), 0.02)

    def test_seeds_gains_and_bodies_count(self) -> None:
        rig = str(demo_path("plover"))

        def drift(*more: str) -> float:
            return float(json.loads(self.ran("heading", rig, "--straight", "1", "--json", *more)[1])["final_error_deg"])

        self.assertEqual(drift(), drift())
        self.assertNotEqual(drift(), drift("--seed", "3"))
        self.assertNotEqual(drift(), drift("--p", "3"))
        self.assertAlmostEqual(drift("--body", "ideal"), 0.0, places=3)
        push = json.loads(self.ran("heading", rig, "--push", "0.3", "--json")[1])
        self.assertGreater(push["overshoot_deg"], 3.0)

    def test_the_old_name_of_a_goal_counts_with_a_warning(self) -> None:
        code, out, err = self.ran("tune", str(demo_path("plover")), "--goal", "sure", "--candidates", "8")
        self.assertEqual(code, 0)
        self.assertIn("goal robust", out)
        self.assertIn("--goal sure is called robust now", err)

    def test_wrong_use_is_said(self) -> None:
        rig = str(demo_path("plover"))
        for words, said in (
            (("heading", rig), "say one of --turn"),
            (("heading", rig, "--turn", "90", "--push", "1"), "say one of --turn"),
            (("heading", rig, "--turn", "nan"), "should be a number"),
            (("heading", rig, "--turn", "9", "--body", "soft"), "realistic or ideal"),
            (("tune", rig, "--loop", "arm"), "heading, wheel, steering"),
            (("tune", rig, "--goal", "best"), "quick, calm, robust"),
        ):
            code, _, err = self.ran(*words)
            self.assertEqual(code, 2, words)
            self.assertIn(said, err.replace("\n", " "))
        code, _, err = self.ran("tune", rig, "--loop", "steering")
        self.assertEqual(code, 1)
        self.assertIn("no steered wheels", err)
        plain = self.write("plain.toml", (demo_path("plover")).read_text().replace("[gyro]\n", ""))
        code, _, err = self.ran("heading", str(plain), "--turn", "9")
        self.assertEqual(code, 1)
        self.assertIn("no gyro", err)

    def test_zero_and_backwards_end(self) -> None:
        rig = str(demo_path("plover"))
        for words in (
            ("--turn", "0"),
            ("--straight", "0"),
            ("--straight", "-0.5"),
            ("--push", "0"),
            ("--turn", "-720"),
        ):
            code, out, _ = self.ran("heading", rig, *words, "--json")
            self.assertEqual(code, 0)
            self.assertTrue(
                all(v is None or isinstance(v, bool | dict) or math.isfinite(v) for v in json.loads(out).values())
            )

    def test_tune_gives_gains_with_their_spread(self) -> None:
        for loop in ("heading", "wheel", "steering"):
            code, out, _ = self.ran("tune", str(demo_path("avocet")), "--loop", loop, "--candidates", "8", "--json")
            self.assertEqual(code, 0)
            answer = json.loads(out)
            self.assertEqual(set(answer["gains"]), {"p", "i", "d"})
            self.assertLessEqual(answer["settle_s"]["mean"], answer["settle_s"]["worst"])
        code, out, _ = self.ran("tune", str(demo_path("avocet")), "--by", "relay", "--json")
        self.assertGreater(json.loads(out)["ultimate_gain"], 5)

    def test_placement_trials(self) -> None:
        code, out, _ = self.ran("gyro", str(demo_path("plover")), "--seconds", "2", "--json")
        self.assertEqual(code, 0)
        answer = json.loads(out)
        self.assertEqual(list(answer), ["firm", "loose", "by a motor"])
        # the rig's own noise, less what the delay of a third of a tick averages away
        self.assertAlmostEqual(answer["firm"]["noise_deg_s"], 0.08, delta=0.06)
        self.assertGreater(answer["loose"]["noise_deg_s"], 5 * answer["firm"]["noise_deg_s"])
        self.assertGreater(answer["by a motor"]["noise_deg_s"], 1.5 * answer["firm"]["noise_deg_s"])

    def test_the_response_on_paper(self) -> None:
        svg, pdf = self.folder / "r.svg", self.folder / "r.pdf"
        code, _, _ = self.ran("export", "response", str(demo_path("avocet")), "-o", str(svg), "-o", str(pdf))
        self.assertEqual(code, 0)
        text = svg.read_text()
        for word in ("target jumps 30 deg", "push", "P alone", "terms of the output", "heading in deg"):
            self.assertIn(word, text)
        self.assertTrue(pdf.read_bytes().startswith(b"%PDF"))
        code, _, err = self.ran("export", "response", str(demo_path("plover")), "--loop", "steering", "-o", str(svg))
        self.assertEqual(code, 1)
        self.assertIn("no loop steering", err)


class HostileRigTest(TempCase):
    def mistakes(self, old: str, new: str) -> str:
        text = demo_path("plover").read_text()
        self.assertIn(old, text)
        path = self.write("rig.toml", text.replace(old, new, 1))
        out = io.StringIO()
        with redirect_stderr(io.StringIO()), redirect_stdout(out):
            self.assertEqual(run(["check", str(path)]), 1)
        return out.getvalue()

    def test_what_cannot_be_is_said_with_its_place(self) -> None:
        self.assertIn('body.mass: is "0 kg", but must be more than', self.mistakes('mass = "1.2 kg"', 'mass = "0 kg"'))
        self.assertIn("grip", self.mistakes('kind = "realistic"', 'kind = "realistic"\ngrip = -1'))
        self.assertIn("correction", self.mistakes("[gyro]", '[sensors.x]\nkind = "lamp"'))
        blind = demo_path("plover").read_text().replace('wheels = "feedforward"', 'wheels = "pid"')
        path = self.write("blind.toml", blind.replace("counts_per_turn = 12", "counts_per_turn = 0"))
        code, out, _ = CommandTest.ran(self, "check", str(path))  # type: ignore[arg-type]
        self.assertEqual(code, 1)
        self.assertIn('control.wheels: is "pid", which needs encoders, but "left", "right" has none', out)
        self.assertIn("correction.rate_filter", self.mistakes('p = "10 /s"', 'p = "10 /s"\nrate_filter = "-1 s"'))

    def test_a_floor_without_any_friction_and_a_robot_put_into_a_wall_survive(self) -> None:
        rig = read_rig(demo_path("plover"))
        assert rig.body is not None
        for body in ({"grip": 0.0, "casters": 0.0}, {"mass_kg": 0.001}, {"height_m": 5.0}, {"mass_kg": 900.0}):
            slippery = rig.model_copy(update={"body": rig.body.model_copy(update=body)})
            a = step_responses_to(slippery, HEADING, HEADING.experiment(slippery, "push"), [HEADING.gains(slippery)])
            self.assertTrue(np.isfinite(a.value).all(), body)


if __name__ == "__main__":
    unittest.main()
