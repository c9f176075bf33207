"""A tick of a robot in the middle of a routine, as kernels: what it measures, whether the interpreter must run, what it requests; and the
ticks of line and simulated robot until then.
"""

from __future__ import annotations

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import whole
from pivrex.kernels.records import Flag, Number, Numbers, Record, Whole, Wholes, clear, field, pack, part
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow
from pivrex.line.tick import LineMemory, LineScratch, LineSettings, Tick
from pivrex.routine.estimate import measure_tick
from pivrex.routine.follows import PlanSettings, PlanState, PlanTable, ask_plan, feel_plan
from pivrex.routine.hands import AttachedState, ask_attachments
from pivrex.routine.profile import (
    Command,
    Measured,
    ProfileSettings,
    ProfileState,
    command_motion,
    feel_motion,
    rests,
    stand_still,
)  # fmt: skip
from pivrex.routine.watching import Watch, WatchScratch, Witnessed, look
from pivrex.routine.wheel_distances import WheelDistances, feel_wheels, give_wheels
from pivrex.sim.body.robot import RealisticRobot
from pivrex.sim.body.sensors import Chance
from pivrex.sim.body.state import BodyScratch, BodyState
from pivrex.sim.driving import drive_body, drive_ideal
from pivrex.sim.ideal import IdealRobot, IdealScratch, IdealState

__all__ = ["ASK", "BODY", "ESTIMATED", "FEEL", "IDEAL", "LOOK", "RoutineScratch", "RoutineSettings", "RoutineState"]

ESTIMATED = 3
"""How many numbers stand behind each Tick that is kept: the robot's estimated pose before it."""


class RoutineSettings(Record):
    """The settings of a rig that routines need.

    Attributes
    ----------
    dt : float
    has_gyro, has_frame, has_aim, has_zeroing : which stages it has
    columns : of a Tick
    stuck_within : how far one that is driven against its stop may come in a tick
    keeps : so many Ticks are kept at most; 0 for none
    picks : the columns of them that are; all, and its estimated pose, if there are none
    raw : the readings of controls that no one touches
    replaced : what is measured otherwise than the simulated robot says it: nothing, NaN
    """

    is_settings = True

    dt: Number = field(unit="s")
    has_gyro: Flag = field()
    has_frame: Flag = field()
    has_aim: Flag = field()
    has_zeroing: Flag = field()
    columns: Whole = field()
    stuck_within: Numbers = field("attached")
    keeps: Whole = field()
    picks: Wholes = field("picked")
    raw: Numbers = field("readings")
    replaced: SensedRow = part()
    profile: ProfileSettings = part()
    follow: PlanSettings = part()


class RoutineState(Record):
    """The state of a robot in a routine, without that of its interpreter.

    Attributes
    ----------
    tick, until : of the line, and the tick before which it waits
    odd : whether its states stand in the second of their two places
    kept : how many Ticks are kept
    begun, ended : whether the routine has, and no longer
    looked, woken : whether this tick was looked at, and the interpreter must go on
    came : whether its motion or plan is over
    line : the line of the routine's text that is done
    gyro : whether the gyro corrects it
    """

    tick: Number = field()
    until: Number = field()
    odd: Flag = field()
    kept: Whole = field()
    begun: Flag = field()
    ended: Flag = field()
    looked: Flag = field()
    woken: Flag = field()
    came: Flag = field()
    line: Number = field()
    gyro: Flag = field()
    seen: Witnessed = part()
    measured: Measured = part()
    profile: ProfileState = part()
    distances: WheelDistances = part()
    plan: PlanState = part()
    watch: Watch = part()
    attached: AttachedState = part()


class RoutineScratch(Record):
    """Where a routine computes."""

    is_scratch = True

    watch: WatchScratch = part()
    command: Command = part()
    row: Numbers = field("columns")


@kernel
def feel_robot(s: RoutineSettings, line: LineSettings, p: PlanTable, v: RoutineState, t: Tick) -> None:
    """Take in the Tick before: all that a robot does while its routine is paused."""
    measure_tick(t, s.has_gyro, s.has_frame, v.seen.pose, v.measured)
    came = feel_plan(s.follow, p, v.profile, v.plan, t.following.errors)
    done = feel_motion(s.profile, v.measured, v.profile)
    rolled = feel_wheels(s.profile, t.sensed.travel, t.sensed.speed, v.profile, v.distances)
    v.came = came or done or rolled
    at = 0
    for k in range(len(t.sensed.readings)):
        v.seen.column[at] = t.sensed.readings[k]
        at += 1
    for k in range(len(t.sensed.battery)):
        v.seen.column[at] = t.sensed.battery[k]
        at += 1
    for k in range(len(v.attached.goal)):
        i = line.attachments.arm[k]
        v.seen.column[at] = t.attachments.reached[i] if i >= 0 else t.attachments.target[k]
        at += 1
    if s.has_zeroing:
        v.seen.column[at] = t.zeroing.status


@kernel
def look_robot(s: RoutineSettings, line: LineSettings, c: RoutineScratch, v: RoutineState, t: Tick) -> None:
    """Write whether the interpreter must go on."""
    v.seen.time = v.seen.n * s.dt
    v.seen.rested = v.seen.rested + 1.0 if rests(s.profile, v.profile, v.measured, v.gyro) else 0.0
    for k in range(len(v.attached.goal)):
        if v.attached.homes[k]:
            at = t.attachments.reached[line.attachments.arm[k]]
            if not abs(at - v.attached.stuck_at[k]) < s.stuck_within[k]:
                v.attached.stuck[k], v.attached.stuck_at[k] = 0, at
            v.attached.stuck[k] = v.attached.stuck[k] + 1
            v.seen.stuck[k] = 1.0 * v.attached.stuck[k]
    watched = look(v.watch, c.watch, v.seen)
    v.woken = v.came or watched


@kernel
def ask_robot(
    s: RoutineSettings, line: LineSettings, c: RoutineScratch, p: PlanTable, v: RoutineState, t: Tick
) -> None:
    """Write what the routine asks for in this tick; in the first one all stand."""
    if v.begun:
        command_motion(s.profile, v.measured, v.profile, c.command)
    else:
        stand_still(c.command)
    ask_plan(s.follow, p, v.profile, v.plan, c.command, t.following)
    for i in range(3):
        t.law.twist[i] = c.command.twist[i]
    t.law.entered = True
    if s.has_aim:
        t.aim.heading, t.aim.rate, t.aim.entered = c.command.aim, c.command.moves, 1.0
    t.routine.line, t.routine.frame = v.line, c.command.frame
    t.routine.raw = 1.0 if v.profile.raw else 0.0
    give_wheels(s.profile, v.distances, v.profile.raw)
    for k in range(len(v.distances.share)):
        t.routine.share[k] = v.distances.commanded[k]
    if len(v.attached.goal) > 0:
        ask_attachments(line.attachments, v.attached, whole(v.seen.n), t.bindings, t.routine)
    if v.begun:
        v.seen.n += 1.0
    v.begun = True


@kernel
def must_wait(
    s: RoutineSettings, line: LineSettings, c: RoutineScratch, p: PlanTable, v: RoutineState, t: Tick
) -> bool:
    """Return whether a robot waits for the interpreter before it can make its next tick."""
    if v.ended or not v.begun or v.looked:
        v.looked = False
        return False
    feel_robot(s, line, p, v, t)
    look_robot(s, line, c, v, t)
    v.looked = v.woken
    return v.woken


@kernel
def begin_row(s: RoutineSettings, v: RoutineState, t: Tick) -> None:
    """Write the inputs of a Tick."""
    clear(t)
    t.clock.tick, t.clock.t, t.clock.stopped = v.tick, v.tick * s.dt, v.ended
    for k in range(len(s.raw)):
        t.raw.reading[k] = s.raw[k]


@kernel
def end_row(s: RoutineSettings, c: RoutineScratch, v: RoutineState, t: Tick, kept: Numbers) -> None:
    """Count a Tick, and keep it."""
    v.odd = not v.odd
    v.tick += 1.0
    if s.keeps == 0:
        return
    if len(s.picks) > 0:
        pack(t, c.row, 0)
        for k in range(len(s.picks)):
            kept[v.kept * len(s.picks) + k] = c.row[s.picks[k]]
    else:
        at = v.kept * (s.columns + ESTIMATED)
        pack(t, kept, at)
        for i in range(3):
            kept[at + s.columns + i] = v.seen.pose[i]
    v.kept = v.kept + 1


@kernel
def pass_body(
    r: RealisticRobot, chance: Chance, line: LineSettings, s: RoutineSettings, w: BodyScratch, lw: LineScratch, c: RoutineScratch,
    p: PlanTable, v: RoutineState, memory: LineMemory, remembered: LineMemory, before: BodyState, after: BodyState, t: Tick,
) -> None:  # fmt: skip
    """Make a tick of a robot with a real body."""
    clear(remembered)
    clear(after)
    begin_row(s, v, t)
    drive_body(r, chance, line, w, lw, s.replaced, memory, remembered, before, after, t, s.dt, 1.0, 0.0)
    if not v.ended:
        ask_robot(s, line, c, p, v, t)
    drive_body(r, chance, line, w, lw, s.replaced, memory, remembered, before, after, t, s.dt, 0.0, 1.0)


@kernel
def play_body(
    r: RealisticRobot, chance: Chance, line: LineSettings, s: RoutineSettings, w: BodyScratch, lw: LineScratch, c: RoutineScratch,
    p: PlanTable, v: RoutineState, memory_a: LineMemory, memory_b: LineMemory, robot_a: BodyState, robot_b: BodyState, t: Tick,
    kept: Numbers,
) -> None:  # fmt: skip
    """Make ticks of a robot with a real body until it must wait."""
    while v.tick < v.until and (s.keeps == 0 or v.kept < s.keeps):
        if must_wait(s, line, c, p, v, t):
            return
        if v.odd:
            pass_body(r, chance, line, s, w, lw, c, p, v, memory_b, memory_a, robot_b, robot_a, t)
        else:
            pass_body(r, chance, line, s, w, lw, c, p, v, memory_a, memory_b, robot_a, robot_b, t)
        end_row(s, c, v, t, kept)


@kernel
def pass_ideal(
    r: IdealRobot, line: LineSettings, s: RoutineSettings, w: IdealScratch, lw: LineScratch, c: RoutineScratch, p: PlanTable,
    v: RoutineState, memory: LineMemory, remembered: LineMemory, before: IdealState, after: IdealState, t: Tick,
) -> None:  # fmt: skip
    """Make a tick of a perfect robot."""
    clear(remembered)
    clear(after)
    begin_row(s, v, t)
    drive_ideal(r, line, w, lw, s.replaced, memory, remembered, before, after, t, s.dt, 1.0, 0.0)
    if not v.ended:
        ask_robot(s, line, c, p, v, t)
    drive_ideal(r, line, w, lw, s.replaced, memory, remembered, before, after, t, s.dt, 0.0, 1.0)


@kernel
def play_ideal(
    r: IdealRobot, line: LineSettings, s: RoutineSettings, w: IdealScratch, lw: LineScratch, c: RoutineScratch, p: PlanTable,
    v: RoutineState, memory_a: LineMemory, memory_b: LineMemory, robot_a: IdealState, robot_b: IdealState, t: Tick,
    kept: Numbers,
) -> None:  # fmt: skip
    """Make ticks of a perfect robot until it must wait."""
    while v.tick < v.until and (s.keeps == 0 or v.kept < s.keeps):
        if must_wait(s, line, c, p, v, t):
            return
        if v.odd:
            pass_ideal(r, line, s, w, lw, c, p, v, memory_b, memory_a, robot_b, robot_a, t)
        else:
            pass_ideal(r, line, s, w, lw, c, p, v, memory_a, memory_b, robot_a, robot_b, t)
        end_row(s, c, v, t, kept)


_WRITES = ("v", "memory_a", "memory_b", "robot_a", "robot_b", "t", "kept")
FEEL, LOOK, ASK = Call(feel_robot, ("v",)), Call(look_robot, ("v",)), Call(ask_robot, ("v", "t"))
BODY, IDEAL = Call(play_body, _WRITES, together=4), Call(play_ideal, _WRITES, together=4)
