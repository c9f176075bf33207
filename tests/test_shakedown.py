"""The shakedown: the hypotheses against brute force, random faults on every robot, lies, and the smallest duty."""

import itertools
import math
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.diagnosis.correction import correct_text, corrections, is_right
from pivrex.diagnosis.hypotheses import SIGNS, Answer, Assignment, Wire, WiringHypotheses, permanent
from pivrex.diagnosis.moves import MotorMove, Runner
from pivrex.diagnosis.offsets import offset_changes
from pivrex.diagnosis.practice import practise, true_wires
from pivrex.diagnosis.probes import Bench
from pivrex.diagnosis.shakedown import Shakedown
from pivrex.diagnosis.smallest import Sweep
from pivrex.diagnosis.steps import Step
from pivrex.errors import PivrexError
from pivrex.line.outputs import encode, settings_of
from pivrex.rig import Rig, read_rig
from pivrex.rig.changes import Change
from pivrex.sim.ideal import IdealBody
from pivrex.sim.wiring import Wiring, faulty, ports_of, wiring_of
from tests.chassis import ALL, demo_path, rig_of, rig_text
from tests.support import often, slow

SEEDS = often(200, 30)


def every_assignment(count: int, has_gyro: bool = True) -> list[Assignment]:
    """List all assignments, knowing nothing of how the hypotheses keeps them."""
    found = []
    for motors in itertools.permutations(range(count)):
        for signs in itertools.product((1, -1), repeat=count):
            for encoders in itertools.product((1, -1), repeat=count):
                for gyro in (1, -1) if has_gyro else (1,):
                    found.append(Assignment(motors, signs, encoders, gyro))
    return found


def looks(bench: Bench, one: Assignment, on_floor: bool) -> tuple[object, ...]:
    """What the sensors would show for every single probe of every port."""
    wires = [Wire(k, one.signs[k], one.encoders[k], one.gyro) for k in one.motor_on]
    return tuple(bench.shows(w, on_floor) for w in wires)


class PuzzleTest(unittest.TestCase):
    @given(
        st.integers(0, 5).flatmap(
            lambda n: st.lists(st.lists(st.integers(0, 4), min_size=n, max_size=n), min_size=n, max_size=n)
        )
    )
    def test_the_permanent_is_the_sum_over_all_permutations(self, rows: list[list[int]]) -> None:
        n = len(rows)
        wanted = sum(math.prod(rows[i][p[i]] for i in range(n)) for p in itertools.permutations(range(n)))
        self.assertEqual(permanent(np.array(rows, np.int64).reshape(n, n)), wanted)

    def test_how_many_there_are(self) -> None:
        # 4! plugs · 2⁴ motor signs = 384, · 2⁴ encoders · 2 for the gyro
        self.assertEqual(WiringHypotheses([True] * 4, True).size(), 384 * 16 * 2)
        self.assertEqual(WiringHypotheses([False] * 4, False).size(), 384)
        self.assertEqual(WiringHypotheses([True] * 8, True).size(), math.factorial(8) * 2**17)

    @settings(max_examples=30, deadline=None)
    @given(st.sampled_from(["plover", "dunlin"]), st.integers(0, 10**6), st.booleans(), st.data())
    def test_what_is_kept_is_what_no_sensor_can_tell_apart(
        self, name: str, seed: int, on_floor: bool, data: st.DataObject
    ) -> None:
        rig = read_rig(demo_path(name))
        bench = Bench(rig)
        truth = true_wires(rig, faulty(rig, "random", seed))
        shakedown = Shakedown(rig, "floor" if on_floor else "up")
        probed = data.draw(st.lists(st.integers(0, len(truth) - 1), max_size=5))
        for port in probed:
            seen = bench.shows(truth[port], on_floor)
            allows = shakedown.hypotheses.allowed(lambda w: bench.shows(w, on_floor), seen)
            shakedown.hypotheses.take(Answer(port, "seen", allows, False))
        kept = set(shakedown.hypotheses.assignments())
        self.assertEqual(len(kept), shakedown.left)
        wanted = set()
        for one in every_assignment(len(truth)):
            wires = looks(bench, one, on_floor)
            if all(wires[p] == bench.shows(truth[p], on_floor) for p in probed):
                wanted.add(one)
        self.assertEqual(kept, wanted)

    def test_the_end_of_all_probing_is_the_set_that_looks_the_same_from_inside(self) -> None:
        for name in ("plover", "dunlin"):
            rig = read_rig(demo_path(name))
            bench, truth = Bench(rig), true_wires(rig, faulty(rig, "random", 5))
            shakedown = Shakedown(rig)
            while (step := shakedown.next()).asks == "sensors" and step.kind == "probe":
                allows = shakedown.hypotheses.allowed(shakedown._sensed, bench.shows(truth[step.port], True))
                shakedown.hypotheses.take(Answer(step.port, "seen", allows, False))
            same = [
                a
                for a in every_assignment(len(truth))
                if looks(bench, a, True) == tuple(bench.shows(w, True) for w in truth)
            ]
            self.assertEqual(set(shakedown.hypotheses.assignments()), set(same))
            # the robot and its mirror image: every sign turned
            self.assertEqual(len(same), 2)
            self.assertEqual(step.asks, "motion")

    def test_outcomes_add_up_and_the_best_probe_tells_most(self) -> None:
        shakedown = Shakedown(read_rig(demo_path("bittern")))
        counts = shakedown.hypotheses.outcomes(0, shakedown._sensed)
        self.assertEqual(sum(counts.values()), shakedown.left)
        # 4 motors, 2 ways to count, 2 ways to turn, all alike: 4 bits
        self.assertEqual(len(counts), 16)
        self.assertAlmostEqual(shakedown.next().bits, 4.0)
        self.assertAlmostEqual(max(shakedown.hypotheses.tells(p, shakedown._sensed) for p in range(4)), 4.0)

    def test_no_matrix_of_the_possible_is_too_wide(self) -> None:
        hypotheses = WiringHypotheses([True, True], True)
        only = np.zeros((2, 2, 2, 2), bool)
        only[0] = True
        hypotheses.take(Answer(0, "port 0 turns motor 0", only, True))
        wires = hypotheses.possible()
        self.assertFalse(wires[1, 0].any())  # so port 1 turns the other
        self.assertTrue(wires[1, 1].any())


def solve(job: tuple[str, int, str, str]) -> tuple[bool, int, int]:
    name, seed, by, place = job
    path = demo_path(name)
    rig = read_rig(path)
    report = practise(rig, path.read_text(), path, faulty(rig, "random", seed), place, by)  # type: ignore[arg-type]
    return report.correct, report.probes, report.human_answers


class Faults:
    """Random faults on one robot: by sensors and at most one answer of a person, and by a person's truthful answers alone."""

    robot: str

    def check(self, by: str, place: str) -> None:
        motors = len(ports_of(read_rig(demo_path(self.robot))))
        for seed in range(SEEDS):
            correct, probes, answers = solve((self.robot, seed, by, place))
            assert correct, (seed, by)
            assert by != "sensors" or answers <= 1, (seed, answers)
            assert probes <= 2 * motors + 1, (seed, probes)


class SensorFaults(Faults):
    def test_random_faults_by_sensors(self) -> None:
        self.check("sensors", "floor")


class PersonFaults(Faults):
    def test_random_faults_by_a_person(self) -> None:
        self.check("person", "up")


for _robot, _kind in itertools.product(ALL, (SensorFaults, PersonFaults)):
    # a class each, so that they run next to each other
    _name = f"{_robot.capitalize()}{_kind.__name__}Test"
    globals()[_name] = slow(type(_name, (_kind, unittest.TestCase), {"robot": _robot, "__module__": __name__}))


class FaultsTest(unittest.TestCase):
    def test_other_ways_to_stand_and_look(self) -> None:
        for name in ALL:
            for by, place in (("sensors", "up"), ("person", "floor")):
                for seed in range(3):
                    self.assertTrue(solve((name, seed, by, place))[0], (name, by, place, seed))

    def test_a_robot_that_is_right_needs_no_change(self) -> None:
        for name in ALL:
            path = demo_path(name)
            rig = read_rig(path)
            report = practise(rig, path.read_text(), path, wiring_of(rig))
            self.assertTrue(report.correct)
            self.assertEqual(report.changes, [])

    def test_faults_by_name(self) -> None:
        rig = read_rig(demo_path("coot"))
        wiring = faulty(rig, "swap front left/rear right, reverse front right, encoder rear left, gyro")
        self.assertEqual(wiring.plugs["M1"], ("rear right", 1.0))  # signs go with the plug
        self.assertEqual(wiring.plugs["M4"], ("front left", -1.0))
        self.assertEqual(wiring.plugs["M2"], ("front right", 1.0))
        self.assertEqual((wiring.encoders["rear left"], wiring.gyro), (-1.0, -1.0))
        report = practise(rig, demo_path("coot").read_text(), demo_path("coot"), wiring)
        self.assertTrue(report.correct)
        self.assertIn("motors.front left.output.port: M1 → M4", [str(c) for c in report.changes])
        self.assertIn("gyro.reversed: false → true", [str(c) for c in report.changes])
        for words in ("nonsense", "swap front left", "reverse nobody", "encoder"):
            with self.assertRaises(PivrexError):
                faulty(rig, words)
        self.assertEqual(faulty(rig, "random", 7), faulty(rig, "random", 7))
        self.assertNotEqual(faulty(rig, "random", 7), faulty(rig, "random", 8))

    def test_comments_survive_the_correction(self) -> None:
        path = demo_path("plover")
        rig = read_rig(path)
        report = practise(rig, path.read_text(), path, faulty(rig, "swap left/right"))
        text, corrected = correct_text(path.read_text(), path, report.changes)
        self.assertEqual(corrected.motors["left"].output.port, "M2")
        self.assertEqual(corrected.motors["left"].output.pins(), {"pin": 6, "direction_pin": 7})
        self.assertIn("# turns of the shaft for one of the wheel", text)
        self.assertEqual(text.count("#"), path.read_text().count("#"))

    def test_a_rig_without_ports_says_so(self) -> None:
        wheels = [(0.0, 0.2, 0.0, None, False), (0.0, -0.2, 0.0, None, False)]
        text = rig_text(wheels, "[gyro]\n").replace(', port = "D0"', "").replace(', port = "D1"', "")  # type: ignore[arg-type]
        from pivrex.rig import read_text

        rig = read_text(text, Path("t.toml"), Rig)
        with self.assertRaisesRegex(PivrexError, "give every output a port"):
            practise(rig, text, Path("t.toml"), faulty(rig, "swap w0/w1"))
        report = practise(rig, text, Path("t.toml"), faulty(rig, "reverse w0"))
        self.assertTrue(report.correct)


class LiesTest(unittest.TestCase):
    def asked(self, name: str = "bittern", seed: int = 1) -> tuple[Shakedown, list[Wire]]:
        rig = read_rig(demo_path(name))
        return Shakedown(rig, "up", "person"), true_wires(rig, faulty(rig, "random", seed))

    def answer(self, shakedown: Shakedown, step: Step, wire: Wire) -> None:
        option = next(o for o in step.options if o.of is not None and o.of(wire) == o.outcome)
        shakedown.say(step, option)

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 1000), st.lists(st.integers(0, 7), min_size=4, max_size=8))
    def test_a_lie_is_found_exactly_when_no_assignment_fits(self, seed: int, choices: list[int]) -> None:
        """Any answers at all, true or not: a contradiction is named if and only if none of all assignments fits."""
        shakedown, _ = self.asked("dunlin", seed)
        heard: list[tuple[int, int, int]] = []
        for i, choice in enumerate(choices):
            port, motor, sign = (i + seed) % 3, choice % 3, SIGNS[choice % 2]
            heard.append((port, motor, sign))
            outcome = (motor, sign)
            allows = shakedown.hypotheses.allowed(lambda w: (w.motor, w.sign), outcome)
            shakedown.hypotheses.take(Answer(port, f"port {port}: {outcome}", allows, True))
            fits = any(
                all(m[p] == k and s[k] == sign_ for p, k, sign_ in heard)
                for m in itertools.permutations(range(3))
                for s in itertools.product((1, -1), repeat=3)
            )
            clash = shakedown.hypotheses.contradiction()
            self.assertEqual(not clash, fits)
            self.assertEqual(shakedown.next().kind == "contradiction", not fits)
            if clash:
                # all of those named are needed for it, and without one of them they fit
                for one in clash:
                    self.assertTrue(len(clash) == 1 or shakedown.hypotheses.size([a for a in clash if a is not one]))
                self.assertIn(shakedown.hypotheses.answers[-1], clash)
                return

    def test_two_that_cannot_both_be_true(self) -> None:
        shakedown, truth = self.asked()
        step = shakedown.next()
        self.answer(shakedown, step, truth[step.port])
        said = truth[step.port]
        other = shakedown.next()
        lie = next(o for o in other.options if o.outcome == (said.motor, said.sign))
        shakedown.say(other, lie)
        clash = shakedown.next()
        self.assertEqual(clash.kind, "contradiction")
        self.assertIn("These two cannot both be true", clash.text)
        shakedown.hypotheses.withdraw(shakedown.hypotheses.answers[-1])
        self.assertEqual(shakedown.next().kind, "probe")

    def test_nothing_moved_is_named_at_once(self) -> None:
        shakedown, _ = self.asked()
        step = shakedown.next()
        shakedown.say(step, next(o for o in step.options if o.text == "nothing moved"))
        self.assertIn("Is a plug out, or a motor dead?", shakedown.next().text)

    def test_could_not_tell_asks_again_and_then_otherwise(self) -> None:
        shakedown, _ = self.asked()
        first = shakedown.next()
        for _ in range(4):
            step = shakedown.next()
            self.assertEqual(step.port, first.port)
            shakedown.say(step, next(o for o in step.options if o.of is None))
        self.assertNotEqual(shakedown.next().port, first.port)
        self.assertEqual(shakedown.left, 384 * 32)


class BenchTest(unittest.TestCase):
    def test_what_the_sensors_saw(self) -> None:
        rig = read_rig(demo_path("coot"))
        bench = Bench(rig)
        size = len(IdealBody(rig).sense(IdealBody(rig).start()))
        before: NDArray[np.float64] = np.zeros(size)
        after = before.copy()
        after[2] = -0.05
        seen = bench.look(before, after, True)
        assert seen is not None
        self.assertEqual((seen.motor, seen.count, seen.heading), (2, -1, 0))
        after[3] = 0.04  # two wheels moved much alike
        self.assertIsNone(bench.look(before, after, True))
        self.assertEqual(bench.look(before, before, True).motor, -1)  # type: ignore[union-attr]

    def test_a_runner_by_hand(self) -> None:
        runner = Runner((MotorMove(1, 0.2, 0.3), MotorMove(0, 0.4, 1.0, ramp=True, watch=0, until=0.5)), 0.1)
        told = []
        value = 0.0
        while (one := runner.step(np.array([value]))) is not None:
            told.append(one)
            value += one[1]
        self.assertEqual(told[:3], [(1, 0.2)] * 3)
        self.assertEqual(told[3:7], [(1, 0.0)] * 4)  # it rolls out for 0.4 s
        # the ramp, a tenth of 0.4 more each tick, ends once the value has gone by 0.5
        np.testing.assert_allclose([d for _, d in told[7:12]], [0.04, 0.08, 0.12, 0.16, 0.2])
        self.assertAlmostEqual(runner.runs[1].duty, 0.2)
        ended = Runner((MotorMove(0, 0.2, 9.0),), 0.1)
        ended.step(np.zeros(1))
        ended.end_move()
        for _ in range(6):
            last = ended.step(np.zeros(1))
        self.assertIsNone(last)

    def test_the_smallest_duty_is_found_and_rounded_up(self) -> None:
        rig = read_rig(demo_path("coot"))
        wiring = faulty(rig, "random", 3)
        right = rig.model_copy()
        path = demo_path("coot")
        report = practise(rig, path.read_text(), path, wiring)
        _, right = correct_text(path.read_text(), path, report.changes)
        sweep, model, outputs = Sweep(right), IdealBody(right, None, wiring), settings_of(right)
        state = model.start()

        for place in ("up", "floor"):
            state = state._replace(lifted=np.array(float(place == "up")))
            while (ramp := sweep.next(place)) is not None:
                runner = Runner(ramp[1], right.dt_s)
                while (told := runner.step(model.sense(state))) is not None:
                    drive = np.zeros(model.drives)
                    drive[told[0]] = told[1]
                    state = model.step(state, encode(outputs, drive), right.dt_s)
                sweep.take(ramp[0], place, runner.runs[0].duty)
        for motor, (free, loaded) in wiring.smallest.items():
            up, floor = sweep.found[motor, "up"], sweep.found[motor, "floor"]
            assert up is not None and floor is not None
            self.assertAlmostEqual(up, free, delta=0.012)
            self.assertAlmostEqual(floor, loaded, delta=0.012)
        for change in sweep.changes():
            motor = change.key.split(".")[1]
            written = float(str(change.after).split()[0]) / 100
            self.assertGreaterEqual(written, wiring.smallest[motor][1])
            self.assertAlmostEqual(written % 0.005, 0.0, delta=1e-9) if written % 0.005 < 0.0025 else None

    def test_a_motor_that_does_not_move_is_left_out(self) -> None:
        sweep = Sweep(read_rig(demo_path("plover")))
        sweep.take("left", "up", 0.3)
        sweep.take("left", "floor", 0.3)
        sweep.take("right", "floor", 0.062)
        self.assertIsNone(sweep.found["left", "up"])
        self.assertEqual([str(c) for c in sweep.changes()], ["motors.right.smallest: 4 % → 6.5 %"])

    def test_calibrating_the_steering(self) -> None:
        rig = read_rig(demo_path("avocet"))
        wiring = faulty(rig, "random", 2)
        model = IdealBody(rig, None, wiring)
        changes = offset_changes(rig, model.sense(model.point_ahead(model.start())))
        path = demo_path("avocet")
        _, corrected = correct_text(path.read_text(), path, changes)
        for wheel, offset in wiring.offsets.items():
            sensor = corrected.steering.wheels[wheel].sensor  # type: ignore[union-attr]
            assert sensor is not None
            self.assertLess(abs(math.remainder(sensor.offset_rad - offset, 2 * math.pi)), 0.003)
        self.assertEqual(offset_changes(corrected, model.sense(model.point_ahead(model.start()))), [])

    def test_a_change_reads_well(self) -> None:
        self.assertEqual(str(Change("gyro.reversed", None, True)), "gyro.reversed: left out → true")

    def test_nothing_to_correct_before_the_end(self) -> None:
        with self.assertRaisesRegex(PivrexError, "not done yet"):
            corrections(Shakedown(read_rig(demo_path("plover"))))
        rig = rig_of([(0.0, 0.2, 0.0, None, False), (0.0, -0.2, 0.0, None, False)])
        self.assertTrue(is_right(rig, wiring_of(rig)))
        self.assertFalse(is_right(rig, Wiring({"D0": ("w1", 1.0), "D1": ("w0", 1.0)}, {"w0": 1.0, "w1": 1.0})))


if __name__ == "__main__":
    unittest.main()
