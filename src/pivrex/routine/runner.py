"""A routine on a line, for one robot: connects the interpreter and the kernels."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from dataclasses import replace
from math import inf, isfinite, nan

import numpy as np

from pivrex.line.attachments import reached
from pivrex.line.entry import Entry
from pivrex.line.following import BEGINS, IN_PLACE
from pivrex.line.landmarks import NoMarkError, range_mark, wall_mark
from pivrex.line.layout import plain
from pivrex.line.line import Line, LineState
from pivrex.line.stage import Floats
from pivrex.line.tick import LineMemory
from pivrex.line.zeroing import Zeroing
from pivrex.path.plan import Plan
from pivrex.rig.attachments import ENCODED
from pivrex.rig.field import Field
from pivrex.routine.estimate import known_by, moved_to
from pivrex.routine.hands import Hands
from pivrex.routine.interpreter import Interpreter
from pivrex.routine.kinds import NUMBER, Kind
from pivrex.routine.knowing import Knowing
from pivrex.routine.means import Means
from pivrex.routine.memory import Habits, Memory
from pivrex.routine.motion import begin, begin_plan, end, wrapped
from pivrex.routine.planning import Standing, number, slower, time_of
from pivrex.routine.program import AttachStep, FollowStep, Instruction, MotionStep, Program, RunStep, WaitStep
from pivrex.routine.thread import UNKNOWN
from pivrex.routine.tick_requests import Asker
from pivrex.routine.ticking import RoutineState
from pivrex.routine.values import Seen, value_of
from pivrex.routine.watching import watch_of

__all__ = ["Runner"]


class Runner(Knowing):
    """A program that is being run by one robot.

    Parameters
    ----------
    program : Program
    line : Line
    start : (3,) float64
        Where it begins by its estimate: x and y in m, heading in rad.
    field : Field, optional
    means : Means, optional
        What it has alike with others of its line.
    state : RoutineState, optional
        Where its state stands, among those of others.

    Attributes
    ----------
    interpreter : Interpreter
    state : RoutineState
    """

    def __init__(
        self, program: Program, line: Line, start: Floats, field: Field | None = None, means: Means | None = None,
        state: RoutineState | None = None,
    ) -> None:  # fmt: skip
        self.program, self.line, self.field = program, line, field
        self._means = means if means is not None else Means(line)
        self._words = self._means.words
        self.interpreter = Interpreter(line.dt_s)
        planner = self._means.planner
        self._habits = Habits(planner.drive, planner.turn, self._words.has_gyro)
        self._look_at(state if state is not None else self._means.start(start))
        self._watch.set(wakes=-inf)
        self._followed: Plan | None = None
        self._learns: list[Callable[[LineMemory], LineMemory | None]] = []
        """What the line needs in this tick: where the robot is."""
        self._zeroes, self._zero_requested = False, 0
        self._settles = 3 * line.rig.lag_s + 0.15
        """How long a motion takes to come to rest after its target has."""

    def _look_at(self, state: RoutineState) -> None:
        self.state = state
        self._seen, self._measured, self._profile = state.seen, state.measured, state.profile
        self._plan, self._watch = state.plan, state.watch
        self._hands, self._asker = Hands(self._means.names, state.attached), Asker(self._means, state)

    @property
    def pose(self) -> Floats:
        """Its estimated pose, (3,): x and y in m, heading in rad, unwrapped."""
        return self._seen.pose

    def copied(self, state: RoutineState | None = None) -> Runner:
        """Return a copy that goes its own way. ``state``: a copy of its state, if there is one already."""
        made = copy.copy(self)
        made._look_at(state if state is not None else self.state.take(...))
        made.interpreter, made._hands.off = self.interpreter.copied(), set(self._hands.off)
        made._habits, made._learns = replace(self._habits, slow=dict(self._habits.slow)), list(self._learns)
        return made

    def memory(self, row: Floats) -> Memory:
        """Return the robot's memory between two steps; ``row`` is the Tick that follows from its last request."""
        layout, kinds = self.line.layout, self._words.attachments
        arms = [n for n, kind in kinds.items() if kind in ENCODED]
        return Memory(
            self.n,
            self.interpreter.copied(),
            self._hands.kept(),
            set(self._hands.off),
            replace(self._habits, slow=dict(self._habits.slow)),
            tuple(self.pose.tolist()),
            {n: float(row[layout.at("attachments", reached(plain(n), kinds[n]))]) for n in arms},
        )

    @classmethod
    def resumed(
        cls, program: Program, line: Line, memory: Memory, simulated: bool, field: Field | None = None
    ) -> Runner:
        """Begin where a memory is of, at its estimated pose. Commands of attachments are repeated.

        ``simulated``: the attachments are where the memory says, whatever their encoders call it; so of a simulated robot.
        """
        made = cls(program, line, np.array(memory.estimated), field)
        made._seen.set(n=memory.n)
        made.interpreter = memory.interpreter.copied()
        made._habits = replace(memory.habits, slow=dict(memory.habits.slow))
        made.state.set(gyro=float(made._habits.gyro))
        made._hands.begin(memory.attached, memory.off, memory.angles if simulated else {})
        return made

    def renumber(self, lines: Mapping[float, float]) -> None:
        """Take new numbers for the lines of the text after a change of other lines."""
        self.interpreter.renumber(lines)
        line = self.state.get("line")
        self.state.set(line=lines.get(line, line))

    # --- a tick ---

    def tick(self, row: Floats | None) -> Entry:
        """Return the command in this tick, from the Tick before, (K,); None before the first, in which it stands."""
        if row is not None:
            self.feel(row)
            if self._asker.look(row) and not self.interpreter.ended:
                self.think()
        return self._asker.ask()

    def feel(self, row: Floats) -> None:
        """Take in a Tick: all that a routine does while it is paused."""
        self._asker.feel(row)

    def think(self) -> None:
        """Let the interpreter go on, and write down what it waits for then."""
        state, interpreter = self.state, self.interpreter
        interpreter.run(self.program, self.n, self, bool(state.get("came")))
        wakes, steps = (inf, []) if interpreter.ended else watch_of(interpreter.threads, self.watched)
        state.set(woken=0.0, line=0.0 if interpreter.ended else interpreter.line())
        watch = self._watch
        watch.set(wakes=wakes, length=len(steps))
        if steps:
            for numbers, values in zip((watch.does, watch.place, watch.value), zip(*steps, strict=True), strict=True):
                numbers[: len(steps)] = values

    def before(self, state: LineState) -> LineState:
        """Return the line's state for this tick, once `tick` has the command: with a gyro that is to be zeroed, and a robot that
        said where it is.
        """
        return state._replace(memory=self.taught(state.memory)) if self._learns or self._zeroes else state

    def taught(self, memory: LineMemory) -> LineMemory:
        """Return what the line remembers, with what it needs in this tick."""
        for learns in self._learns:
            after = learns(memory)
            if after is None:
                self.interpreter.miss()
            else:
                memory = after
        self._learns = []
        stage = self.line.stages.get("zeroing")
        if self._zeroes and isinstance(stage, Zeroing):
            memory = memory._replace(zeroing=stage.ask(memory.part("zeroing")))
        self._zeroes = False
        return memory

    # --- motions ---

    def moving(self) -> bool:
        return self._profile.get("active") > 0

    def lost(self) -> str:
        if not self._plan.get("lost"):
            return ""
        return f"is {self._plan.get('away'):.2f} m from its path, and lost (following.lost is {self._means.plans.settings.get('lost'):g} m)"

    def end_motion(self, whole: bool) -> None:
        if self.moving():
            end(self._profile, self._measured.get("heading"), self._habits.gyro, whole, self._planned_heading())

    def _planned_heading(self) -> float:
        """Return the gyro's heading at which a plan ends; NaN for one that lies elsewhere, and of a robot that is lost."""
        plan, in_place = self._followed, self._plan.get("mode") in (IN_PLACE, BEGINS)
        if plan is None or not in_place or self.lost():
            return nan
        return self._measured.get("heading") + wrapped(float(plan.looks.heading[-1]) - float(self.pose[2]))

    def here(self, x: float, y: float, facing: float | None) -> None:
        was = self._seen.pose.copy()
        # as near as possible to the estimate, so that no turn counts twice
        heading = was[2] if facing is None else was[2] + wrapped(facing - self.reading("heading"))
        now = self._seen.pose[...] = x, y, heading
        self._measured.set(x=x, y=y, offset=heading - self._measured.get("heading"))
        self._learns.append(lambda memory: moved_to(self.line, memory, was, np.array(now)))

    def mark(self, side: str, sensor: str) -> str:
        rig = self.line.rig
        try:
            mark = (
                wall_mark(rig, self.field, self._seen.pose, side)
                if side
                else range_mark(rig, self.field, self._seen.pose, sensor, self._raw(sensor))
            )
        except NoMarkError:
            return UNKNOWN
        self._learns.append(lambda memory: known_by(self.line, memory, mark))
        return ""

    def set_default(self, what: str, value: float, kind: Kind, on: bool) -> None:
        habits = self._habits
        if what == "gyro":
            habits.gyro = on
            self.state.set(gyro=float(on))
        elif what == "drive":
            habits.drive = value * self._means.planner.full_forward if kind == NUMBER else value
        else:
            habits.turn = value * self._means.planner.full_turn if kind == NUMBER else value

    def begin_motion(self, step: MotionStep, seen: Seen, code: str) -> None:
        planner = self._means.planner
        if isinstance(step, FollowStep):
            self._followed = planner.plan_path(step, seen, self._standing())
            begin_plan(self._profile)
            self._plan.set(
                **self._means.plans.begun(self._followed, step.here, planner.max_way(step, seen), step.feeds)
            )
            return
        motion = planner.plan(step, seen, self._standing())
        if code in self._habits.slow:
            motion = slower(motion, self._habits.slow[code] - self._settles)
        if motion.shares is not None:
            self.state.distances.share[...], self.state.distances.far[...] = motion.shares, motion.far
            self.state.distances.gone[...], self.state.distances.ended[...] = 0.0, 0.0
            self.state.distances.set(stands=0.0)
        x, y, _ = self._seen.pose.tolist()
        begin(self._profile, motion, x, y, self._measured.get("heading"), self.line.dt_s)

    def _standing(self) -> Standing:
        habits, course = self._habits, self._profile.get("course")
        x, y, heading = self._seen.pose.tolist()
        keeps = self._profile.get("keep") > 0 and isfinite(course)
        looks = heading + course - self._measured.get("heading") if keeps else heading
        return Standing(x, y, heading, looks, habits.drive, habits.turn, habits.gyro)

    # --- ending together ---

    def duration(self, step: Instruction, seen: Seen) -> float:
        """How long a step would take alone, in s."""
        match step:
            case WaitStep() | RunStep() if step.time is not None:
                return max(0.0, value_of(step.time, seen))
            case AttachStep():
                at, hands = self.angle(step.name), self._hands
                place = self._place_of(step, number(step.value, seen, "where it goes"))
                way = abs(hands.aimed(self._words, step.name, step.by, place, at) - hands.goal(step.name, at))
                rate = self._words.reach(step.name).rate
                own = 0.0 if step.over is None else number(step.over, seen, "over how long")
                return max(own, way / rate if rate else 0.0)
            case FollowStep():
                return self._means.planner.plan_path(step, seen, self._standing()).time_s + self._settles
            case MotionStep():
                motion = self._means.planner.plan(step, seen, self._standing())
                return time_of(motion) + (self._settles if motion.time_s == inf else 0.0)
        return 0.0

    def slow(self, branch: str, seconds: float) -> None:
        if isfinite(seconds):
            self._habits.slow[branch] = seconds

    def slowed(self, code: str, seconds: float) -> float:
        return self._habits.slow.get(code, seconds)

    def is_slowed(self, code: str) -> bool:
        return code in self._habits.slow
