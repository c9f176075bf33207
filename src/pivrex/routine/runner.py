"""A routine on a line: tick by tick it gives what robots in the middle of it ask for, for one robot or many."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import replace
from math import hypot, inf, isfinite, nan
from typing import Any

import numpy as np

from pivrex.kernels.records import Form
from pivrex.line.asked import OF_ROBOT
from pivrex.line.attachments import reached
from pivrex.line.entry import Entry
from pivrex.line.landmarks import NoMarkError, range_mark, wall_mark
from pivrex.line.layout import plain
from pivrex.line.line import Line, LineState
from pivrex.line.stage import Floats
from pivrex.line.zeroing import Zeroing
from pivrex.rig.attachments import ENCODED
from pivrex.rig.field import Field
from pivrex.routine.belief import Belief
from pivrex.routine.follows import Follows
from pivrex.routine.hands import Hands
from pivrex.routine.kinds import NUMBER, Kind
from pivrex.routine.knowing import Knowing
from pivrex.routine.memory import Habits, Memory
from pivrex.routine.mind import Mind
from pivrex.routine.motion import Motions, wrapped
from pivrex.routine.planning import Planner, Standing, number, slower, time_of
from pivrex.routine.profile import Command, Felt
from pivrex.routine.program import AttachStep, FollowStep, Instruction, MotionStep, Program, RunStep, WaitStep
from pivrex.routine.robot import RobotWords
from pivrex.routine.thread import UNKNOWN
from pivrex.routine.values import Seen, value_of
from pivrex.routine.watching import LOOK, SCRATCH, WATCH, Watch, watch_of

__all__ = ["Runner"]


class Runner(Knowing):
    """A program that is being run by a batch of robots of shape ``batch``, () or (B,).

    Parameters
    ----------
    program : Program
    line : Line
    batch : tuple
    start : batch + (3,) float64
        Where each believes to begin: x and y in m, heading in rad.

    Attributes
    ----------
    n : int
        Ticks that have been.
    minds : list of Mind
        One for each robot.
    belief : Belief
    """

    def __init__(
        self, program: Program, line: Line, start: Floats, batch: tuple[int, ...] = (), field: Field | None = None
    ) -> None:
        self.program, self.line, self.field = program, line, field
        self._batch = batch
        self._count = batch[0] if batch else 1
        self._words = RobotWords(line.rig)
        rig = line.rig
        self._planner = Planner(line, self._words)
        self.n = 0
        self.minds = [Mind(i, line.dt_s) for i in range(self._count)]
        self._hands = [Hands() for _ in range(self._count)]
        own = self._planner.drive, self._planner.turn, self._words.has_gyro
        self._habits = [Habits(*own) for _ in range(self._count)]
        self._motions, self.follows = Motions(line, batch), Follows(line, batch)
        self.belief = Belief(line, batch, start)
        self._watch: Watch = WATCH.of(batch, wakes=-inf)
        self._zeroes: list[int] = []
        self._zero_asked = [0] * self._count
        self._names = list(rig.attachments)
        self._arms = [n for n, kind in self._words.attachments.items() if kind in ENCODED]
        self._lines = np.zeros(self._count)
        self._settles = 3 * rig.lag_s + 0.15
        """So long a motion takes to come to rest after its target has."""
        layout = line.layout
        sensed = {n: layout.at("sensed", plain(n)) for n in self._words.sensors}
        sensed |= {
            n: layout.at("attachments", reached(plain(n), k) if k in ENCODED else f"{plain(n)}_target")
            for n, k in self._words.attachments.items()
        }
        if rig.battery.sensed:
            sensed["battery"] = layout.at("sensed", "battery")
        if layout.has("zeroing", "status"):
            sensed["zeroing status"] = layout.at("zeroing", "status")
        self._places, self._columns = {n: k for k, n in enumerate(sensed)}, np.array(list(sensed.values()), np.intp)
        self._seen: Floats = np.zeros((self._count, len(sensed)))
        self._requests = np.zeros((*batch, len(self._names), 3))
        self._requests[..., 1] = nan

    @property
    def ended(self) -> bool:
        """Whether all robots have ended."""
        return all(mind.ended for mind in self.minds)

    def copied(self) -> Runner:
        """Give a copy that goes its own way."""
        made = copy.copy(self)
        made.minds = [m.copied() for m in self.minds]
        made._hands = [h.copied() for h in self._hands]
        made._habits = [replace(h, slow=dict(h.slow)) for h in self._habits]
        made._motions = self._motions.copied()
        made.belief, made.follows = self.belief.copied(), self.follows.copied()
        made._watch, made._lines, made._requests = self._watch._replace(), self._lines.copy(), self._requests.copy()
        made._zeroes, made._zero_asked = list(self._zeroes), list(self._zero_asked)
        return made

    def memory(self, row: Floats) -> Memory:
        """Give what the one robot knows, between two steps; ``row`` is the Tick that was made of what it asked for last."""
        habits, belief, layout = self._habits[0], self.belief, self.line.layout
        return Memory(
            self.n,
            self.minds[0].copied(),
            self._hands[0].copied(),
            replace(habits, slow=dict(habits.slow)),
            (float(belief.x), float(belief.y), float(belief.heading)),
            {
                n: float(row[layout.at("attachments", reached(plain(n), self._words.attachments[n]))])
                for n in self._arms
            },
        )

    @classmethod
    def resumed(cls, program: Program, line: Line, memory: Memory, told: bool, field: Field | None = None) -> Runner:
        """Begin where a memory is of, standing where it believes to be. What attachments were asked for is asked for again.

        ``told``: the attachments are where the memory says, whatever their encoders call it; so of a stand-in.
        """
        made = cls(program, line, np.array(memory.believed), field=field)
        made.n, made.minds = memory.n, [memory.mind.copied()]
        hands = made._hands[0] = memory.hands.copied()
        made._habits = [replace(memory.habits, slow=dict(memory.habits.slow))]
        hands.sent |= hands.goals
        hands.called |= memory.angles if told else {}
        hands.busy = True
        return made

    def renumber(self, lines: Mapping[float, float]) -> None:
        """Take other numbers for the lines of the text: it has been changed elsewhere."""
        for mind in self.minds:
            mind.renumber(lines)
        self._lines = np.array([lines.get(line, line) for line in self._lines.tolist()])

    # --- a tick ---

    def tick(self, row: Floats | None) -> Entry:
        """Give what is asked for in this tick, from the Tick before, B + (K,); None before the first, in which all stand."""
        if row is None:
            return self._entry(Form(Command).of(self._batch, aim=nan, frame=OF_ROBOT))
        felt, done = self.feel(row)
        self._seen = row[..., self._columns].reshape(self._count, -1)
        self._run(done)
        entry = self._entry(self._motions.command(felt))
        self.n += 1
        return entry

    def feel(self, row: Floats) -> tuple[Felt, Any]:
        """Take in a Tick; gives what was felt, and who has come to the end of a motion. All that a routine does while it is paused."""
        felt = self.belief.feel(row)
        came = self.follows.feel(row)
        done = self._motions.feel(felt)
        return felt, done | (came if self._batch else came[0])

    def before(self, state: LineState) -> LineState:
        """Give the line's state for this tick: with gyros that shall be zeroed, and robots that said where they are. Call it first."""
        state, missed = self.belief.before(self.line, state)
        for i in missed:
            self.minds[i].miss()
        stage = self.line.stages.get("zeroing")
        if not self._zeroes or not isinstance(stage, Zeroing):
            return state
        own = self.line.of(state, "zeroing")
        asked = stage.ask(own)
        if self._batch:
            mask = np.zeros(self._batch, bool)
            mask[self._zeroes] = True
            asked = type(own)(own.form, np.where(mask[..., None], asked.data, own.data))
        self._zeroes = []
        return self.line.changed(state, "zeroing", asked)

    def _run(self, done: Any) -> None:
        n, woken = self.n, np.zeros((*self._batch, 1))
        seen = self._seen if self._batch else self._seen[0]
        LOOK(self._batch, self._watch, SCRATCH.scratch, seen, self.belief.poses, float(n), n * self.line.dt_s, woken)
        moved = np.atleast_1d(done)
        for i in np.flatnonzero(moved | (woken.reshape(-1) > 0)).tolist():
            if not self.minds[i].ended:
                self._run_one(i, n, bool(moved[i]))

    def _run_one(self, i: int, n: int, moved: bool) -> None:
        mind = self.minds[i]
        mind.run(self.program, n, self, moved)
        self._lines[i] = 0.0 if mind.ended else mind.line()
        wakes, steps = (
            (inf, []) if mind.ended else watch_of(mind.threads, lambda name, state: self.watched(i, name, state))
        )
        watch, at = self._watch, (i,) if self._batch else ()
        watch.wakes[at], watch.length[at] = wakes, len(steps)
        if steps:
            for numbers, values in zip((watch.does, watch.place, watch.value), zip(*steps, strict=True), strict=True):
                numbers[(*at, slice(len(steps)))] = values

    def _entry(self, command: Command) -> Entry:
        """Put together what all ask for."""
        batch = self._batch
        twist, aim, followed = command.twist, command.aim, self.follows.command()
        if followed is not None:
            follows = followed[1][..., 0] > 0
            twist = np.where(follows[..., None], followed[0], twist)
            aim = np.where(follows, nan, aim)
        wheels = len(self.line.wheels)
        routine = np.zeros((*batch, 3 + wheels + 3 * len(self._arms)))
        if self._arms and any(hands.homing or hands.called for hands in self._hands):
            for i, hands in enumerate(self._hands):
                routine[(*((i,) if batch else ()), slice(3 + wheels, None))] = hands.pushes(self._arms)
        routine[..., 0] = self._lines if batch else self._lines[0]
        routine[..., 1] = command.frame
        raw = self._motions.state.raw
        if np.any(raw):
            routine[..., 2] = raw
            routine[..., 3 : 3 + wheels] = np.where(np.asarray(raw)[..., None] > 0, self._motions.shares, 0.0)
        return Entry(
            twist=twist,
            requests=self._requested() if self._names else None,
            aim=aim,
            moves=command.moves,
            routine=routine,
            plan=followed[1] if followed is not None else None,
        )

    # --- motions ---

    def moving(self, i: int) -> bool:
        return self._motions.get(i, "active") > 0 or self.follows.active(i)

    def lost(self, i: int) -> str:
        return self.follows.lost(i)

    def end_motion(self, i: int, whole: bool) -> None:
        felt = self.belief.felt
        if self.follows.active(i):
            assert felt is not None
            self._end_following(i, felt, whole)
        elif self.moving(i):
            assert felt is not None
            self._motions.end(i, self._one(i, felt.heading), self._habits[i].gyro, whole)

    def _end_following(self, i: int, felt: Felt, whole: bool) -> None:
        """The gyro holds the heading at which a whole plan ends; of any other the one at which the robot comes to rest."""
        to = self.follows.heading(i) if whole and not self.follows.lost(i) else None
        self.follows.end(i)
        off = 0.0 if to is None else wrapped(to - self._one(i, self.belief.heading))
        course = nan if to is None else self._one(i, felt.heading) + off
        self._motions.rest(i, course, self._habits[i].gyro)

    def rests(self, i: int) -> bool:
        felt = self.belief.felt
        assert felt is not None
        forward, left, turn = (self._one(i, v) for v in (felt.forward, felt.left, felt.turn))
        still = hypot(forward, left) < 0.004 * self.line.dt_s and abs(turn) < 0.02 * self.line.dt_s
        if not self._habits[i].gyro:
            return still
        off = self._motions.get(i, "course") - self._one(i, felt.heading)
        return still and not abs(off) > self._motions.tolerance_rad

    def here(self, i: int, x: float, y: float, facing: float | None) -> None:
        if facing is not None:  # as near as may be to what was believed, so that no turn is counted twice
            now = self.reading(i, "heading")
            heading = self._one(i, self.belief.heading)
            facing = heading + wrapped(facing - now)
        self.belief.put(i, x, y, facing)

    def mark(self, i: int, side: str, sensor: str) -> str:
        rig, pose = self.line.rig, self.belief.pose(i)
        try:
            self.belief.mark(
                i,
                wall_mark(rig, self.field, pose, side)
                if side
                else range_mark(rig, self.field, pose, sensor, self._raw(i, sensor)),
            )
        except NoMarkError:
            return UNKNOWN
        return ""

    def set_default(self, i: int, what: str, value: float, kind: Kind, on: bool) -> None:
        habits, rig = self._habits[i], self.line.rig
        if what == "gyro":
            habits.gyro = on
        elif what == "drive":
            habits.drive = value * rig.full_forward_m_s if kind == NUMBER else value
        else:
            habits.turn = value * rig.full_turn_rad_s if kind == NUMBER else value

    def begin_motion(self, i: int, step: MotionStep, seen: Seen, code: str) -> None:
        if isinstance(step, FollowStep):
            plan = self._planner.plan_path(step, seen, self._standing(i))
            self._motions.rest(i, nan, False)
            self.follows.begin(i, plan, step.here, self._planner.most_way(step, seen), step.feeds)
            return
        motion = self._planner.plan(step, seen, self._standing(i))
        if code in self._habits[i].slow:
            motion = slower(motion, self._habits[i].slow[code] - self._settles)
        belief, felt = self.belief, self.belief.felt
        assert felt is not None
        x, y, heading = (self._one(i, v) for v in (belief.x, belief.y, felt.heading))
        self._motions.begin(i, motion, x, y, heading)

    def _standing(self, i: int) -> Standing:
        habits, heading = self._habits[i], self._one(i, self.belief.heading)
        looks = heading
        course = self._motions.get(i, "course")
        if self._motions.get(i, "keep") > 0 and isfinite(course) and self.belief.felt is not None:
            looks = heading + course - self._one(i, self.belief.felt.heading)
        x, y = self._one(i, self.belief.x), self._one(i, self.belief.y)
        return Standing(x, y, heading, looks, habits.drive, habits.turn, habits.gyro)

    # --- ending together ---

    def duration(self, i: int, step: Instruction, seen: Seen) -> float:
        """How long a step would take alone, in s."""
        match step:
            case WaitStep() | RunStep() if step.time is not None:
                return max(0.0, value_of(step.time, seen))
            case AttachStep():
                at, hands = self.angle(i, step.name), self._hands[i]
                place = self._place_of(step, number(step.value, seen, "where it goes"))
                way = abs(hands.aimed(self._words, step.name, step.by, place, at) - hands.goal(step.name, at))
                rate = self._words.reach(step.name).rate
                own = 0.0 if step.over is None else number(step.over, seen, "over how long")
                return max(own, way / rate if rate else 0.0)
            case FollowStep():
                return self._planner.plan_path(step, seen, self._standing(i)).time_s + self._settles
            case MotionStep():
                motion = self._planner.plan(step, seen, self._standing(i))
                return time_of(motion) + (self._settles if motion.time_s == inf else 0.0)
        return 0.0

    def slow(self, i: int, branch: str, seconds: float) -> None:
        if isfinite(seconds):
            self._habits[i].slow[branch] = seconds

    def slowed(self, i: int, code: str, seconds: float) -> float:
        return self._habits[i].slow.get(code, seconds)

    def is_slowed(self, i: int, code: str) -> bool:
        return code in self._habits[i].slow
