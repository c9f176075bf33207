"""Where the robot believes to be: exactly right on the perfect simulated robot, as wrong as it says on a real one, and put right at will."""

import unittest
from math import pi, radians
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.kernels import Form
from pivrex.line import Entry, Line
from pivrex.line.beginning import begun, known_at
from pivrex.line.covariance import Covariance, Doubts, grow
from pivrex.line.odometry import Odometry
from pivrex.line.questions.disagreement import disagreement
from pivrex.rig import Rig, read_rig
from pivrex.rig.steering import VoltageSensor
from pivrex.routine import check_text, play
from pivrex.session import messages as ask
from pivrex.sim import Rollout
from pivrex.sim.body import RealisticBody
from pivrex.sim.model import simulator_of
from pivrex.sim.sampled import sampled
from tests.chassis import demo_path, ideal
from tests.support import plain_rig, slow
from tests.test_match import FIELD, SHORT, Played

Floats = NDArray[np.float64]
ROBOTS = ("plover", "coot", "bittern", "dunlin", "avocet")
START = np.array([0.5, 0.7, 1.0])


def perfect(name: str) -> Rig:
    """A demo robot on the perfect body, whose absolute sensors round nothing."""
    rig = read_rig(demo_path(name)).with_body("ideal")
    if rig.steering is None:
        return rig
    wheels = {}
    for name_, motor in rig.steering.wheels.items():
        sensor = motor.sensor
        if sensor is not None:
            sensor = VoltageSensor(kind="voltage").model_copy(
                update={"offset_rad": sensor.offset_rad, "reversed": sensor.reversed}
            )
        wheels[name_] = motor.model_copy(update={"sensor": sensor})
    return rig.model_copy(update={"steering": rig.steering.model_copy(update={"wheels": wheels})})


def drive(
    rig: Rig, seed: int, ticks: int = 400, batch: tuple[int, ...] = (), seeds: Floats | None = None
) -> tuple[Line, Floats]:
    """Drive by sticks that someone throws about; gives the Ticks."""
    line, model = Line(rig), simulator_of(rig, None)
    chance = np.random.default_rng(seed)
    robot = model.placed(model.start(batch, seeds), START)
    state, rows = begun(line, np.broadcast_to(START, (*batch, 3)), batch), []
    raw = line.rest(batch)
    for k in range(ticks):
        if k % 40 == 0:
            raw = line.rest(batch).copy()
            raw[..., : len(line.functions)] = chance.uniform(-1, 1, (*batch, len(line.functions)))
        state, row = line.step(state, raw, model.sense(robot), 0.0, 0.0, model.truth(robot))
        rows.append(row)
        robot = model.step(robot, line.commands(row), line.dt_s)
    return line, np.array(rows)


def columns(line: Line, rows: Floats, stage: str, *names: str) -> Floats:
    return rows[..., [line.layout.at(stage, n) for n in names]]


class ExactTest(unittest.TestCase):
    def test_it_is_the_truth_on_the_perfect_stand_in(self) -> None:
        for name in ROBOTS:
            for turn in ("gyro", "wheels"):
                rig = perfect(name)
                rig = rig.model_copy(update={"odometry": rig.odometry.model_copy(update={"turn": turn})})
                line, rows = drive(rig, 3)
                estimated = columns(line, rows, "odometry", "x", "y", "heading")
                truth = columns(line, rows, "truth", "x", "y", "heading")
                self.assertGreater(np.ptp(truth[:, :2], axis=0).max(), 0.3, name)
                self.assertLess(np.abs(estimated - truth).max(), 1e-9, f"{name} by {turn}")

    def test_a_batch_is_what_each_is_alone(self) -> None:
        rig = read_rig(demo_path("avocet"))
        line, alone = drive(rig, 5, 60)
        _, many = drive(rig, 5, 60, (1,))
        at = line.layout.stage("odometry")
        np.testing.assert_array_equal(many[:, 0, at], alone[:, at])

    def test_a_stand_in_that_stands_against_something_believes_no_more_than_it_did(self) -> None:
        rig = ideal("plover")
        s = Played(ask.SetUp(rig, FIELD, periods=SHORT))
        s.ask(ask.KeyDown("w"), ask.KeyDown("w"), ask.KeyDown("w"))
        rows = s.ticks(500)  # against the wall
        self.assertEqual(rows[-1, s.line.layout.at("truth", "blocked")], 1)
        np.testing.assert_allclose(
            columns(s.line, rows[-1], "odometry", "x", "y"), columns(s.line, rows[-1], "truth", "x", "y"), atol=1e-9
        )


class SureTest(unittest.TestCase):
    def own(self, **changes: float) -> Doubts:
        own: Doubts = Form(Doubts).of(gyro_s=0.1, **changes)
        return own

    def after(self, s: Doubts, steps: list[tuple[float, float, float]]) -> Any:
        covariance, heading = Form(Covariance).start().plain, 0.0
        for dx, dy, turn in steps:
            after = Form(Covariance).start().plain
            grow(s.plain, covariance, after, dx, dy, turn, -np.sin(heading) * turn, np.cos(heading) * turn)
            covariance, heading = after, heading + turn
        return covariance

    def test_each_cause_alone(self) -> None:
        straight = [(0.01, 0.0, 0.0)] * 200  # two metres along x
        # one percent of every way: 2 cm after 2 m, along it
        p = self.after(self.own(way=0.01**2), straight)
        self.assertAlmostEqual(p.xx, 0.02**2)
        self.assertEqual((p.yy, p.hh), (0.0, 0.0))
        # chance: the root of the way, either way
        p = self.after(self.own(rough=0.006**2), straight)
        self.assertAlmostEqual(p.xx, 0.006**2 * 2)
        self.assertAlmostEqual(p.yy, 0.006**2 * 2)
        # half a percent of every turn
        p = self.after(self.own(turning=0.005**2), [(0.0, 0.0, 0.01)] * 300)
        self.assertAlmostEqual(p.hh, (0.005 * 3) ** 2)
        # the point about which it turns lies 2 cm elsewhere: after half a turn the centre is 2·2 cm aside of where it began
        p = self.after(self.own(pivot_off=0.02**2), [(0.0, 0.0, 0.001 * pi)] * 1000)
        self.assertAlmostEqual(np.sqrt(p.xx), 0.04, delta=1e-4)
        self.assertLess(np.sqrt(p.yy), 1e-3)
        # a drift of 0.01 rad/s over t s turns by 0.01·t, and bends the way aside by its integral, v·0.01·t²/2
        p = self.after(self.own(drift=0.01**2), straight)
        t = 20.0
        self.assertAlmostEqual(p.hh, (0.01 * t) ** 2)
        self.assertAlmostEqual(np.sqrt(p.yy), 0.1 * 0.01 * t * t / 2, delta=0.0012)
        self.assertGreater(p.yh, 0)

    @given(
        st.lists(
            st.tuples(st.floats(-0.02, 0.02), st.floats(-0.02, 0.02), st.floats(-0.05, 0.05)), min_size=1, max_size=60
        )
    )
    @settings(max_examples=60, deadline=None)
    def test_it_is_the_product_of_the_matrices(self, steps: list[tuple[float, float, float]]) -> None:
        s = self.own(way=1e-4, turning=2.5e-5, drift=1e-5, rough=3e-5, pivot_off=4e-4)
        whole, heading = np.zeros((7, 7)), 0.0
        whole[3, 3], whole[4, 4], whole[5, 5], whole[6, 6] = s.way, s.turning, s.drift, s.pivot_off
        for dx, dy, turn in steps:
            f = np.eye(7)
            f[0, 6], f[1, 6] = -np.sin(heading) * turn, np.cos(heading) * turn
            heading += turn
            f[0, 2], f[0, 3], f[1, 2], f[1, 3], f[2, 4], f[2, 5] = -dy, dx, dx, dy, turn, s.gyro_s
            whole = f @ whole @ f.T
            whole[[0, 1], [0, 1]] += s.rough * np.hypot(dx, dy)
        p = self.after(s, steps)
        names = ["x", "y", "h", "k", "m", "d", "l"]
        for i in range(3):
            for j in range(i, 7):
                self.assertAlmostEqual(getattr(p, names[i] + names[j]), whole[i, j], delta=1e-12)

    @slow
    def test_faults_lie_within_the_ellipse_as_often_as_it_says(self) -> None:
        """Robots whose wheels, track and gyro are off by normal shares, as their rig's odometry says: 86 of 100 end within 2 sigma."""
        rig = perfect("plover")
        o = rig.odometry
        chance, count = np.random.default_rng(8), 200
        way, turning, drift = chance.normal(0, (o.way, o.turning, o.drift_rad_s), (count, 3)).T
        line, model = Line(rig), simulator_of(rig, None)
        robot = model.placed(model.start((count,), np.arange(count, dtype=np.uint64)), START)
        state, raw = begun(line, np.broadcast_to(START, (count, 3)), (count,)), line.rest((count,))
        first = line.layout.stage("sensed").start
        travels = [line.layout.at("sensed", f"{w}_travel") - first for w in ("left", "right")]
        gyro = line.layout.at("sensed", "gyro") - first
        for n in range(300):
            if n % 60 == 0:
                raw = line.rest((count,)).copy()
                raw[:, : len(line.functions)] = chance.uniform(-1, 1, (count, len(line.functions)))
            sensed = model.sense(robot).copy()
            sensed[:, travels] *= 1 + way[:, None]
            sensed[:, gyro] = (sensed[:, gyro] - START[2]) * (1 + turning) + drift * n * line.dt_s + START[2]
            state, row = line.step(state, raw, sensed, 0.0, 0.0, model.truth(robot))
            robot = model.step(robot, line.commands(row), line.dt_s)
        off = columns(line, row, "odometry", "x", "y") - columns(line, row, "truth", "x", "y")
        spread = columns(line, row, "odometry", "xx", "xy", "xy", "yy").reshape(count, 2, 2)
        away = np.einsum("ij,ij->i", off, np.linalg.solve(spread, off[..., None])[..., 0])
        inside = int((away < 4.0).sum())
        # binomial: 86.5 % of 200 is 173; chance of `rough`, which is not drawn here, only makes the ellipse a little larger
        self.assertGreaterEqual(inside, 160)
        self.assertLess(inside, count)


class DraggedTest(unittest.TestCase):
    """Wheels that are dragged aside: where Coot turns about is no chance, and its ellipse knows how sure that is."""

    def driven(self, rig: Rig, count: int = 60) -> tuple[Floats, Floats]:
        """Ten seconds of turning drives with real bodies, mass, grip and motors of other days: how far off, and within how many sigma."""
        line, seeds = Line(rig), np.arange(1, count + 1, dtype=np.uint64)
        model = RealisticBody(rig, under=sampled(rig, seeds).under)
        robot = model.placed(model.start((count,), seeds), START)
        rollout = Rollout(line, model, begun(line, np.broadcast_to(START, (count, 3)), (count,)), robot)
        chance, twist, turned = np.random.default_rng(4), np.zeros((count, 3)), np.zeros(count)
        for n in range(480):
            if n % 80 == 0:
                wish = np.stack(
                    (chance.uniform(-0.3, 0.5, count), np.zeros(count), chance.uniform(-2, 2, count)), axis=-1
                )
            twist += np.clip(wish * (n < 400) - twist, -0.02, 0.02) * (1, 1, 4)
            row = rollout.tick(line.rest((count,)), entry=Entry(twist=twist))
            turned += np.abs(columns(line, row, "odometry", "turn")[:, 0])
        off = columns(line, row, "odometry", "x", "y") - columns(line, row, "truth", "x", "y")
        spread = columns(line, row, "odometry", "xx", "xy", "xy", "yy").reshape(count, 2, 2)
        self.assertGreater(np.median(turned), 2.5)
        return off, np.sqrt(np.einsum("ij,ij->i", off, np.linalg.solve(spread, off[..., None])[..., 0]))

    @slow
    def test_the_ellipse_is_honest_with_and_without_a_pivot(self) -> None:
        rig = read_rig(demo_path("coot"))
        off, sigmas = self.driven(rig)
        # of a normal error 39 of 100 lie within one sigma and 86 within two; 60 drives
        self.assertGreater((sigmas < 1).mean(), 0.25)
        self.assertGreater((sigmas < 2).mean(), 0.7)
        unsaid = rig.model_copy(update={"odometry": rig.odometry.model_copy(update={"pivot_m": None})})
        worse, sigmas = self.driven(unsaid)
        self.assertGreater((sigmas < 1).mean(), 0.25)
        self.assertGreater((sigmas < 2).mean(), 0.7)
        self.assertGreater(np.median(np.hypot(*worse.T)), 1.4 * np.median(np.hypot(*off.T)))

    def test_turned_on_the_spot_the_pivot_stays(self) -> None:
        rig = read_rig(demo_path("coot"))
        line = Line(rig)
        layout, first = line.layout, line.layout.stage("sensed").start
        state, sensed = begun(line, np.zeros(3), ()), np.zeros(len(line.stages["sensed"].columns))
        for _ in range(91):
            state, row = line.step(state, line.rest(), sensed)
            sensed[layout.at("sensed", "gyro") - first] += radians(2)
        x, y, heading = columns(line, row, "odometry", "x", "y", "heading")
        self.assertAlmostEqual(heading, pi, places=6)
        # half a turn about a point 4 cm behind the centre: the centre is 8 cm back now
        self.assertAlmostEqual(x, -0.08, places=6)
        self.assertAlmostEqual(y, 0.0, places=6)


class BlindTest(unittest.TestCase):
    def test_without_encoders_it_goes_by_what_was_told_and_says_how_little_that_is(self) -> None:
        rig = plain_rig()
        self.assertTrue(all(not m.counts_per_turn for m in rig.motors.values()))
        line, rows = drive(rig, 2, 300)
        x, y, xx, yy = columns(line, rows[-1], "odometry", "x", "y", "xx", "yy")
        true_x, true_y = columns(line, rows[-1], "truth", "x", "y")
        way = np.hypot(*np.diff(columns(line, rows, "truth", "x", "y"), axis=0).T).sum()
        gone = np.hypot(true_x - START[0], true_y - START[1])
        self.assertGreater(way, 0.5)
        off = np.hypot(x - true_x, y - true_y)
        self.assertLess(off, 0.15 * way)  # it is told what the wheels follow with their lag
        self.assertGreater(np.sqrt(xx + yy), 0.14 * gone)
        stage = line.stages["odometry"]
        assert isinstance(stage, Odometry)
        self.assertEqual(stage.basis, "the commands of the wheels (no encoders) alone (no gyro)")

    def test_what_it_goes_by_in_words(self) -> None:
        rig = perfect("plover")
        by_wheels = rig.odometry.model_copy(update={"turn": "wheels"})
        for one, basis in (
            (rig, "wheels and gyro"),
            (rig.model_copy(update={"odometry": by_wheels}), "wheels alone"),
            (rig.model_copy(update={"gyro": None}), "wheels alone (no gyro)"),
        ):
            stage = Line(one).stages["odometry"]
            assert isinstance(stage, Odometry)
            self.assertEqual(stage.basis, basis)


class PutTest(unittest.TestCase):
    def test_known_to_be_somewhere(self) -> None:
        rig = ideal("plover")
        line = Line(rig)
        state = known_at(line, line.start(), np.array([2.0, 1.0, 0.3]))
        _, row = line.step(state, line.rest(), np.zeros(len(line.stages["sensed"].columns)))
        np.testing.assert_allclose(
            columns(line, row, "odometry", "x", "y", "heading", "xx", "hh"), [2, 1, 0.3, 0, 0], atol=1e-9
        )
        stage = line.stages["odometry"]
        assert isinstance(stage, Odometry)
        own = stage.put(line.of(state, "odometry"), np.zeros(3), np.array([0.02, 0.03, 0.1]))
        self.assertEqual(
            [float(getattr(own.covariance, n)) for n in ("xx", "yy", "hh", "xy")], [0.02**2, 0.03**2, 0.1**2, 0]
        )

    def test_what_was_believed_since_is_moved_along(self) -> None:
        stage = Line(ideal("plover")).stages["odometry"]
        assert isinstance(stage, Odometry)
        # it believed to be at (1, 1, 0), has gone 30 cm ahead and turned by 20 degrees since, and was at (3, 2, 90 deg)
        state = stage.put(stage.start(()), np.array([1.3, 1.0, radians(20)]))
        after = stage.moved(state, np.array([1.0, 1.0, 0.0]), np.array([3.0, 2.0, pi / 2]))
        np.testing.assert_allclose(after.pose, [3.0, 2.3, pi / 2 + radians(20)], atol=1e-12)

    def test_here_is_in_a_routine_moves_belief_and_line(self) -> None:
        rig = ideal("plover")
        text = "start at 1 m, 1 m\ndrive ahead 50 cm\nhere is 3 m, 2 m facing 90 deg\ndrive ahead 50 cm\n"
        text += "let a be x\nlet b be y\nlet c be heading"
        program = check_text(text, rig).program
        assert program is not None
        made = play(program, rig, None)
        for name, value in (("a", 3.0), ("b", 2.5), ("c", pi / 2)):
            self.assertAlmostEqual(made.names[name], value, delta=0.004)
        line = Line(rig)
        end = columns(line, made.rows[-1], "odometry", "x", "y", "heading")
        np.testing.assert_allclose(end, [3.0, 2.5, pi / 2], atol=0.004)
        # the robot itself went on straight
        np.testing.assert_allclose(made.pose, [2.0, 1.0, 0.0], atol=0.004)

    def test_in_a_session(self) -> None:
        rig = ideal("plover")
        s = Played(ask.SetUp(rig, FIELD, periods=SHORT))
        rows = s.ticks(3)
        np.testing.assert_allclose(columns(s.line, rows[-1], "odometry", "x", "y", "heading"), [0.5, 0.5, pi / 2])
        s.ask(ask.Believe((1.0, 2.0, 0.5)))
        np.testing.assert_allclose(columns(s.line, s.ticks(2)[-1], "odometry", "x", "y", "heading"), [1, 2, 0.5])
        s.ask(ask.PutBack())
        np.testing.assert_allclose(columns(s.line, s.ticks(2)[-1], "odometry", "x", "y", "heading"), [0.5, 0.5, pi / 2])
        # a changed rig leaves the belief where it is
        s.ask(ask.Believe((1.0, 2.0, 0.5)), ask.UseRig(rig.model_copy(update={"lag_s": 0.05}), 1))
        s.ticks(2)
        chassis = rig.chassis.model_copy(update={"length_m": rig.chassis.length_m + 0.01})
        s.ask(ask.UseRig(rig.model_copy(update={"chassis": chassis}), 2))
        np.testing.assert_allclose(columns(s.line, s.ticks(3)[-1], "odometry", "x", "y", "heading"), [1, 2, 0.5])

    def test_a_paused_routine_knows_how_far_it_rolled_out(self) -> None:
        rig = ideal("plover")
        s = Played(ask.SetUp(rig, FIELD, periods=SHORT))
        s.ask(
            ask.ChooseRoutine(check_text("start at 1 m, 2 m\ndrive ahead 40 cm at 0.8 m/s", rig).program),
            ask.StartPeriod("alone"),
        )
        s.ticks(40)
        s.ask(ask.PauseRoutine(True))
        s.ticks(30)
        s.ask(ask.PauseRoutine(False))
        s.ticks(78)
        self.assertAlmostEqual(float(s.robots.simulator.state.pose[0]), 1.4, delta=0.005)


class DisagreementTest(unittest.TestCase):
    def told(self, rig: Rig, track: float = 1.0, stands: bool = False, drift: float = 0.0) -> str:
        line, model = Line(rig), simulator_of(rig, None)
        robot, state = model.start(), begun(line, START)
        raw = line.rest().copy()
        if not stands:
            raw[: len(line.functions)] = 0.6
        gyro = line.layout.at("sensed", "gyro") - line.layout.stage("sensed").start
        for n in range(400):
            sensed = model.sense(robot).copy()
            sensed[gyro] = sensed[gyro] * track + drift * n * line.dt_s
            state, row = line.step(state, raw, sensed, 0.0, 0.0, model.truth(robot))
            robot = model.step(robot, line.commands(row), line.dt_s)
        still, turning, turned = columns(line, row, "odometry", "apart_still", "apart_turning", "turned")
        found = disagreement(float(still), float(turning), float(turned))
        return "" if found is None else ("! " * found.wrong + found.said)

    def test_they_agree_on_the_perfect_body(self) -> None:
        for name in ROBOTS:
            self.assertEqual(self.told(perfect(name)), "", name)

    def test_a_gyro_that_drifts(self) -> None:
        self.assertRegex(
            self.told(perfect("plover"), stands=True, drift=radians(1)),
            "^! the gyro turned [67] deg while the wheels stood",
        )

    def test_a_track_that_is_off(self) -> None:
        # the gyro feels a tenth less than the wheels say
        self.assertIn("the wheels say 10 % more turn", self.told(perfect("plover"), track=0.9))
        self.assertIn("% less turn", self.told(perfect("plover"), track=1.1))

    def test_words(self) -> None:
        self.assertIsNone(disagreement(0.01, 0.01, 0.0))
        self.assertIsNone(disagreement(0.0, 0.2, 10.0))
        odd, scale = disagreement(0.0, 0.9, 1.0), disagreement(0.0, -2.0, 10.0)
        assert odd is not None and scale is not None
        self.assertEqual((odd.wrong, "one side counts wrongly" in odd.said), (True, True))
        self.assertEqual((scale.wrong, "20 % less turn" in scale.said), (False, True))
