"""What a routine waits for, written down for the kernel: it wakes the interpreter where that would go on by itself, and only there."""

import unittest
from math import inf, nan, pi
from unittest.mock import patch

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from pivrex.kernels.records import Form
from pivrex.line import Line
from pivrex.line.tick import Tick
from pivrex.rig import read_rig
from pivrex.routine import Program, check_text
from pivrex.routine import watching as w
from pivrex.routine.files import program_of
from pivrex.routine.interpreter import Interpreter
from pivrex.routine.kinds import NUMBER
from pivrex.routine.means import Means
from pivrex.routine.nodes import Binary, Call, Compare, Condition, Group, IsState, Not, Quantity, Span, Variable
from pivrex.routine.playing import play
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.thread import Blocked, Frame, Thread
from pivrex.routine.ticking import LOOK
from pivrex.routine.values import FaultError, Seen, holds
from tests.chassis import demo_path, ideal
from tests.support import DEMO, slow
from tests.test_routine_running import FIELD, POST

NOWHERE = Span(0, 0)
NUMBERS = (0.0, -0.0, 1.0, -1.0, 0.5, 2.0, 7.0, 1e-12, inf, -inf, nan)
NAMES = {"far": 0.5, "none": nan}
READINGS = {
    "front": (w.SENSOR, 0),
    "boom": (w.COLUMN, 1),
    "time": (w.TIME, 0),
    "y": (w.POSE, 1),
    "heading": (w.ANGLE, 2),
}


RESTED, STUCK = 7.0, 16.0


def source(name: str, state: str) -> list[w.Step]:
    if state == "stuck":
        return [(w.STUCK, 1, 0.0)]
    if name == "unknown":
        raise w.NoWatchError
    does, place = READINGS[name]
    return [(does, place, 0.0), *([(w.HEARD, 0, 0.0)] if state else [])]


def watched(*threads: Thread) -> tuple[float, list[w.Step]]:
    return w.watch_of(dict(enumerate(threads)), source)


def waiting(cond: Condition | None, kind: str = "until", **more: object) -> Thread:
    return Thread([Frame("", 0, dict(NAMES))], Blocked(kind, -1, cond=cond, **more))  # type: ignore[arg-type]


def woken(wakes: float, steps: list[w.Step], n: float, readings: list[float], pose: list[float]) -> bool:
    record = w.WATCH.of(wakes=wakes, length=len(steps))
    for k, (does, place, value) in enumerate(steps):
        record.does[k], record.place[k], record.value[k] = does, place, value
    seen = Form(w.Witnessed, columns=len(readings), attached=2).of(
        n=n, time=n * 0.02, pose=pose, rested=RESTED, column=readings, stuck=[0, STUCK]
    )
    return w.look(record.plain, w.WATCH_SCRATCH.scratch.plain, seen.plain)


values = st.recursive(
    st.sampled_from(NUMBERS).map(lambda v: Quantity(v, NUMBER, NOWHERE))
    | st.sampled_from([*NAMES, *READINGS]).map(lambda n: Variable(n, NOWHERE)),
    lambda of: st.builds(lambda s, a, b: Binary(s, a, b, NOWHERE, NOWHERE), st.sampled_from("+-*/"), of, of)
    | of.map(lambda a: Binary("neg", a, a, NOWHERE, NOWHERE))
    | st.builds(lambda n, a: Call(n, tuple(a), NOWHERE), st.sampled_from(("least", "most")), st.lists(of, min_size=1, max_size=3))
    | st.builds(lambda n, a: Call(n, (a,), NOWHERE), st.sampled_from(("size", "root")), of),
    max_leaves=5,
)  # fmt: skip
conditions = st.recursive(
    st.builds(lambda s, a, b: Compare(s, a, b, NOWHERE), st.sampled_from(("<", "<=", ">", ">=", "is", "is not")), values, values)
    | st.sampled_from(sorted(READINGS)).map(lambda n: IsState(Variable(n, NOWHERE), "heard", NOWHERE)),
    lambda of: of.map(lambda a: Not(a, NOWHERE)) | st.builds(lambda s, a, b: Group(s, a, b, NOWHERE), st.sampled_from(("and", "or")), of, of),
    max_leaves=4,
)  # fmt: skip


class LookTest(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(st.lists(conditions, min_size=1, max_size=2), st.lists(st.sampled_from(NUMBERS), min_size=4, max_size=4))
    def test_any_condition_as_the_interpreter_has_it(self, conds: list[Condition], numbers: list[float]) -> None:
        n, pose = 50.0, [0.0, numbers[2], 3.5 * numbers[3] if abs(numbers[3]) < inf else 3 * pi]
        readings = {
            "front": numbers[0] if numbers[0] > 0 else nan, "boom": numbers[1], "time": 1.0, "y": pose[1],
            "heading": pi - (pi - pose[2]) % (2 * pi),
        }  # fmt: skip
        seen = Seen(NAMES, readings.__getitem__, lambda name, _: readings[name] == readings[name])
        wakes, steps = watched(*map(waiting, conds))
        if wakes == -inf:  # too long
            return
        expected, faults = False, "/" in repr(conds) or "root" in repr(conds)
        for cond in conds:
            try:
                expected = holds(cond, seen) or expected
            except FaultError:
                expected = True
        found = woken(wakes, steps, n, numbers[:2], pose)
        # a fault in what the interpreter would not compute may wake it too
        self.assertTrue(found == expected or (found and faults), (conds, numbers))

    def test_the_time_and_what_has_none(self) -> None:
        never = Compare("<", Quantity(2, NUMBER, NOWHERE), Quantity(1, NUMBER, NOWHERE), NOWHERE)
        wakes, steps = watched(waiting(never, limit_n=80.0), waiting(None, "time", until_n=70.0))
        self.assertEqual(wakes, 70.0)
        self.assertEqual([woken(wakes, steps, n, [0, 0], [0, 0, 0]) for n in (69.0, 70.0)], [False, True])
        self.assertEqual(watched(waiting(None, "motion")), (inf, []))

    def test_rest_and_a_stop(self) -> None:
        wakes, steps = watched(waiting(None, "settle", begin=44))
        self.assertEqual([woken(wakes, steps, n, [0, 0], [0, 0, 0]) for n in (49.0, 50.0)], [False, True])
        _, steps = watched(waiting(None, "home", name="boom"))
        self.assertTrue(woken(inf, steps, 50.0, [0, 0], [0, 0, 0]))
        with patch(__name__ + ".STUCK", 15.0), patch(__name__ + ".RESTED", 5.0):
            self.assertFalse(woken(inf, steps, 50.0, [0, 0], [0, 0, 0]))
            _, steps = watched(waiting(None, "settle", begin=0))
            self.assertFalse(woken(inf, steps, 50.0, [0, 0], [0, 0, 0]))

    def test_rest_is_standing_and_looking_as_it_should(self) -> None:
        line = Line(ideal("plover"))
        means = Means(line)
        state, row = means.start(np.zeros(3)), np.zeros(line.form.size)

        def rested(heading: float, moved: float = 0.0) -> float:
            state.profile.set(course=0.0)
            state.measured.set(heading=heading, forward=moved)
            w_row = Tick(line.form, row)
            LOOK((), means.settings, line.settings, means.scratch.scratch, state, w_row)
            return float(state.seen.rested)

        aside = 1.5 * means.settings.profile.tolerance
        self.assertEqual([rested(0.0), rested(0.0), rested(aside), rested(0.0)], [1, 2, 0, 1])
        self.assertEqual(rested(0.0, 0.005 * line.dt_s), 0)
        state.set(gyro=0.0)  # a robot without gyro may look anywhere
        self.assertEqual(rested(aside), 1)

    def test_what_only_the_interpreter_can_tell(self) -> None:
        for thread in (
            Thread([Frame("", 0, {})]),
            waiting(Compare("<", Variable("unknown", NOWHERE), Variable("far", NOWHERE), NOWHERE)),
        ):  # fmt: skip
            self.assertEqual(watched(waiting(None, "time", until_n=70.0), thread), (-inf, []))

    def test_a_condition_that_is_too_long_or_too_deep(self) -> None:
        chain = wide = Variable("boom", NOWHERE)
        for _ in range(w.DEEPEST):
            chain = Binary("+", Variable("boom", NOWHERE), chain, NOWHERE, NOWHERE)  # type: ignore[assignment]
        for _ in range(w.LONGEST):
            wide = Binary("neg", wide, wide, NOWHERE, NOWHERE)  # type: ignore[assignment]
        for value in (chain, wide):
            self.assertEqual(watched(waiting(Compare("<", value, value, NOWHERE)))[0], -inf)

    def test_what_went_on_at_once(self) -> None:
        def both(mode: str, *ended: bool) -> float:
            children = [Thread([Frame("", 0, {})], Blocked("time", -1, until_n=9.0), ended=e) for e in ended]
            return watched(Thread([], Blocked("join", -1, children=(1, 2), mode=mode)), *children)[0]

        self.assertEqual([both("all", False, False), both("all", True, False), both("one", False, False)], [9.0] * 3)
        self.assertEqual([both("all", True, True), both("one", True, False)], [-inf] * 2)


@slow
class AskedTest(unittest.TestCase):
    TEXT = """start at 0 m, 0 m
let n be 0
at once until all end
    drive ahead 60 cm until n is 2
    move spout to 60 deg over 0.7 s and wait
    repeat 2 times
        wait 0.2 s
        let n be n + 1
let a be time
drive ahead at 30 % until front below 70 cm and post is 3 or x > 70 cm
switch post off
drive back at 30 % until post is heard or x < 5 cm
switch pump on
move spout by -20 deg
wait until spout is there and pump is on and not time < 2.5 s at most 4 s
wait for spout
turn left at 60 deg/s until heading > 70 deg at most 3 s
settle
drive ahead at 30 % until y > 10 cm at most 3 s
"""

    def program(self, text: str) -> Program:
        checked = check_text(text, ideal("plover"))
        assert checked.program is not None, checked.wrong
        return checked.program

    def test_a_routine_goes_on_in_the_same_ticks_as_if_it_were_asked_in_each(self) -> None:
        made = self.program(self.TEXT)
        for seed in (0, 3):
            alone = play(made, ideal("plover"), POST, seed=seed)
            with patch("pivrex.routine.runner.watch_of", return_value=(-inf, [])):
                always = play(made, ideal("plover"), POST, seed=seed)
            self.assertEqual((alone.ended, alone.why), ("finished", ""))
            self.assertEqual(alone.steps, always.steps)
            self.assertEqual(alone.rows.tobytes(), always.rows.tobytes())

    def test_robots_of_a_batch_too(self) -> None:
        rig = read_rig(demo_path("plover"))
        made, seeds = program_of(DEMO / "routines" / "greenhouse-plover.txt", rig), np.arange(1, 7).astype(np.uint64)
        found = rehearse(made, rig, FIELD, seeds)
        with patch("pivrex.routine.runner.watch_of", return_value=(-inf, [])):
            always = rehearse(made, rig, FIELD, seeds)
        assert found is not None
        assert always is not None
        self.assertEqual(found.poses.tobytes(), always.poses.tobytes())
        self.assertEqual(found.times_s.tobytes(), always.times_s.tobytes())

    def test_the_interpreter_rests_while_nothing_is_over(self) -> None:
        made = program_of(DEMO / "routines" / "greenhouse-plover.txt", rig := read_rig(demo_path("plover")))
        with patch.object(Interpreter, "run", autospec=True, side_effect=Interpreter.run) as ran:
            play(made, rig, FIELD)
        # a call for each of its steps, and for each of what it decides; no call for a tick
        self.assertLess(ran.call_count, 40)
