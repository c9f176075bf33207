"""The speed profile of a motion in a tick, as kernels: its measured progress, its end, and its command."""

from __future__ import annotations

from pivrex.kernels.maths import clamp, cos, div, hypot, inf, is_nan, larger, nan, sin, smaller, sqrt
from pivrex.kernels.records import Flag, Number, Numbers, Record
from pivrex.kernels.records import field as of_size
from pivrex.kernels.subset import kernel

__all__ = [
    "ANY_M_S",
    "NEAR_M",
    "PATIENCE_S",
    "PULL_PER_S",
    "STEADY_S",
    "SWAYING_PATIENCE_S",
    "SWAYING_PULL_PER_S",
    "SWAYS_M_S",
    "SWAYS_NEAR_M",
    "Command",
    "Measured",
    "ProfileSettings",
    "ProfileState",
    "command_motion",
    "feel_motion",
    "is_over",
    "rests",
    "stand_still",
]

PULL_PER_S, SWAYING_PULL_PER_S = 4.0, 1.0
"""What is missing of the way is made up for at this rate; the latter by a robot that must lean first."""

SIDEWAYS_PER_S = 4.0
"""So is what the robot stands next to the line that it should drive, where it can move sideways."""

MAX_PULL_M_S, MAX_PULL_RAD_S = 0.2, 0.6
WAITS_M, WAITS_RAD = 0.12, 0.5
"""A target waits for a robot that is this far behind it."""

NEAR_M, SWAYS_NEAR_M = 0.003, 0.02
STEADY_S = 0.1
SOON_S, PATIENCE_S, SWAYING_PATIENCE_S = 0.5, 1.2, 5.0
"""At the end of a motion the robot stands at most so long until it is where it should be."""

ANY_M_S, SWAYS_M_S = 1e9, 0.04
"""A robot that balances must be slower than this there; of others it is enough that their target has come to its end."""

DUST = 1e-9
"""Less is rounding, of ways and times: whether a sum of ticks has come to a time must not depend on it."""

CATCHES_RAD_S = 0.05
BLIND_TICKS = 2
"""How many ticks after its beginning nothing of a motion is measured yet."""


class Measured(Record):
    """The measurements since the last tick: the displacement in the robots' own directions and the field's, in m and rad, their estimated
    poses, the gyro's heading, the difference between the estimated heading and it, and that to the heading of the frame's forward.
    """

    forward: Number = of_size(unit="m")
    left: Number = of_size(unit="m")
    turn: Number = of_size(unit="rad")
    along_x: Number = of_size(unit="m")
    along_y: Number = of_size(unit="m")
    x: Number = of_size(unit="m")
    y: Number = of_size(unit="m")
    heading: Number = of_size(unit="rad")
    offset: Number = of_size(unit="rad")
    ahead: Number = of_size(unit="rad")


class ProfileSettings(Record):
    """How a rig's motions go.

    Attributes
    ----------
    dt, lag : float
        A tick, and how long the wheels take to follow, in s.
    decay, memory : float
        What is left of a gap after a tick, and how long it counts, in s.
    tolerance, within : float
        How near to its heading a robot must look, in rad, and for how long, in s.
    creep, turns : float
        The slowest speed that turns a wheel, in m/s, and how far it rolls for a radian of turning, in m.
    tops : (W,)
        The top speed of each wheel.
    controlled : flag
        Whether their control drives against a speed that is too much.
    pull, near, patience, still : float
        At which rate what is missing of the way is made up for, in 1/s; how near a robot has come, in m, how slowly it goes then, in m/s, and
        how long it stands at most until that is so, in s.
    """

    is_settings = True

    dt: Number = of_size(unit="s")
    lag: Number = of_size(unit="s")
    decay: Number = of_size()
    memory: Number = of_size(unit="s")
    tolerance: Number = of_size(unit="rad")
    within: Number = of_size(unit="s")
    creep: Number = of_size(unit="m/s")
    turns: Number = of_size(unit="m")
    tops: Numbers = of_size("wheels", unit="m/s")
    controlled: Flag = of_size()
    pull: Number = of_size(unit="1/s")
    near: Number = of_size(unit="m")
    patience: Number = of_size(unit="s")
    still: Number = of_size(unit="m/s")


class ProfileState(Record):
    """A motion, as `Motion` says it, and how far it has come; all in its unit, m or rad, and s.

    Attributes
    ----------
    active, planned : whether there is one, and whether it follows a plan (`pivrex.routine.follows`) instead of its own target
    raw : whether it gives wheels shares instead
    t, way, rolled, sideways : how long it goes, how far the robot has come, has rolled ahead, and is from its line
    rate, target : of the target on its way
    ref, speed, late : where the robot should be by now, with its lag; how fast; and where it should have been a tick ago
    near, stands : for how long it is where it should be, and its target or plan has come to its end
    course, keep : the gyro's heading at its beginning, in rad, and whether that is kept
    from_x, from_y : where it began, in m
    """

    active: Flag = of_size()
    planned: Flag = of_size()
    spins: Flag = of_size()
    held: Flag = of_size()
    field: Flag = of_size()
    raw: Flag = of_size()
    forward: Number = of_size()
    left: Number = of_size()
    turn: Number = of_size()
    whole: Number = of_size()
    most: Number = of_size()
    rise: Number = of_size()
    time_s: Number = of_size()
    t: Number = of_size()
    way: Number = of_size()
    rate: Number = of_size()
    target: Number = of_size()
    ref: Number = of_size()
    speed: Number = of_size()
    late: Number = of_size()
    near: Number = of_size()
    stands: Number = of_size()
    course: Number = of_size()
    keep: Flag = of_size()
    from_x: Number = of_size()
    from_y: Number = of_size()
    sideways: Number = of_size()
    rolled: Number = of_size()
    arc: Flag = of_size()


class Command(Record):
    """The command of a motion in a tick: forward and left in m/s, turn in rad/s, the heading to aim at, NaN for none, how fast it moves, and
    the frame of its directions, 1 the robot's, 2 the field's.
    """

    twist: Numbers = of_size(3)
    aim: Number = of_size(unit="rad")
    moves: Number = of_size(unit="rad/s")
    frame: Number = of_size()


@kernel
def gone(v: ProfileState, measured: Measured) -> float:
    """Return how far the robot has come along its motion since the last tick, in its unit."""
    if v.spins:
        return measured.turn * v.turn
    if v.field:
        return measured.along_x * v.forward + measured.along_y * v.left
    return measured.forward * v.forward + measured.left * v.left


@kernel
def is_over(v: ProfileState, ended: bool, right: bool, dt: float, steady: float, patience: float) -> bool:
    """Return whether a motion is over whose target has ``ended``: its robot has stood ``right`` for long enough, or stands too long."""
    v.near = v.near + dt if ended and right else 0.0
    v.stands = v.stands + dt if ended else 0.0
    return v.near > steady - DUST or v.stands > patience - DUST


@kernel
def has_come(s: ProfileSettings, v: ProfileState, measured: Measured) -> bool:
    """Return whether the robot stands where its motion ends, and looks as it should there."""
    # at first it must look quite exactly where it should; friction may keep it from that, so not for ever
    fine = s.tolerance / 8.0 if v.stands < SOON_S - DUST else s.tolerance
    target = v.course + v.turn * (v.whole if v.whole < inf else 0.0)
    if v.held and not abs(target - measured.heading) < fine:
        return False
    missing = abs(v.whole - v.way)
    apart = larger(missing, abs(v.sideways))
    if not abs(measured.forward) < s.still * s.dt:
        return False
    if v.spins:
        apart = 0.0 if v.held else missing
    if not apart < (fine if v.spins else s.near) or not abs(v.speed) * s.lag < (0.004 if v.spins else 0.0006):
        return False
    return not (v.arc and v.held) or abs(v.forward * smaller(v.whole, 1e6) - v.rolled) < s.near


@kernel
def feel_motion(s: ProfileSettings, measured: Measured, v: ProfileState) -> bool:
    """Take in what was measured; returns whether the robot has come to the end of its motion."""
    if v.t > (BLIND_TICKS - 0.5) * s.dt:
        v.way += gone(v, measured)
        v.rolled += measured.forward
    # a heading that was never aimed at is that at which the robot comes to rest
    if is_nan(v.course) and not v.active and abs(measured.turn) < CATCHES_RAD_S * s.dt:
        v.course = measured.heading
    v.sideways = (measured.y - v.from_y) * v.forward - (measured.x - v.from_x) * v.left if v.field else 0.0
    if not v.active or v.planned:
        return False
    ended = abs(v.whole - v.target) < DUST
    right = ended and has_come(s, v, measured)
    over = is_over(v, ended, right, s.dt, s.within if v.spins else STEADY_S, s.patience)
    return over or v.t > v.time_s - 0.5 * s.dt


@kernel
def target_rate(s: ProfileSettings, v: ProfileState, missing: float, pulled: bool) -> float:
    """Return how fast the target goes, in units/s: a trapezoid that waits for a robot that is far behind."""
    rest = larger(v.whole - v.target, 0.0)
    half = 0.5 * v.rise * s.dt
    stops = sqrt(half * half + 2.0 * v.rise * smaller(rest, 1e6)) - half
    left = smaller(v.time_s - v.t, 1e6)
    most = smaller(v.most, larger(v.rise * (left + 0.5 * s.dt), 0.0))
    waits = 1.0
    if pulled:
        waits = smaller(larger(2.0 - div(missing, WAITS_RAD if v.spins else WAITS_M), 0.0), 1.0)
    rate = smaller(smaller(v.rate + v.rise * s.dt, most * waits), stops)
    creep = div(s.creep, s.turns) if v.spins else s.creep
    rate = larger(rate, smaller(creep, most))
    # the last tick takes the rest, a little more than a creeping tick, so that none is too small to turn a wheel
    return div(rest, s.dt) if rate * s.dt >= rest or rest < 1.5 * creep * s.dt else rate


@kernel
def last_bit(s: ProfileSettings, v: ProfileState, measured: Measured) -> float:
    """Return what brings a robot that must stand the last bit: no less than what turns a wheel, and in time none of it."""
    missing = v.whole - v.way - div(gone(v, measured), s.dt) * (s.lag + s.dt)
    if not abs(missing) > (s.tolerance / 10.0 if v.spins else s.near / 3.0):
        return 0.0
    requested = larger(abs(s.pull * missing), div(s.creep, s.turns) if v.spins else s.creep)
    return -requested if missing < 0.0 else requested


@kernel
def along_arc(s: ProfileSettings, v: ProfileState) -> float:
    """Return what brings a robot on along its arc, in m/s; at its end no less than what turns a wheel, and in time none of it."""
    missing = v.forward * v.way - v.rolled
    pull = clamp(s.pull * missing, -MAX_PULL_M_S, MAX_PULL_M_S)
    if v.whole > v.target:
        return pull
    if not abs(missing) > s.near / 3.0:
        return 0.0
    least = larger(abs(pull), s.creep)
    return -least if missing < 0.0 else least


@kernel
def move_target(s: ProfileSettings, v: ProfileState, rate: float, moves: bool) -> None:
    """Let the target go on, and what the robot should have come of it with its lag."""
    rest = v.whole - v.target
    v.target = v.whole if rate * s.dt >= rest - DUST else v.target + rate * s.dt
    v.late = v.ref
    gap = v.speed - rate
    v.speed = rate + gap * s.decay if moves else 0.0
    if moves:
        v.ref += rate * s.dt + gap * s.memory


@kernel
def stand_still(out: Command) -> None:
    """Ask for no motion."""
    out.twist[0], out.twist[1], out.twist[2] = 0.0, 0.0, 0.0
    out.aim, out.moves, out.frame = nan, 0.0, 1.0


@kernel
def rests(s: ProfileSettings, v: ProfileState, measured: Measured, gyro: bool) -> bool:
    """Return whether a robot stands, and, where the gyro corrects it, looks as it should."""
    still = hypot(measured.forward, measured.left) < 0.004 * s.dt and abs(measured.turn) < 0.02 * s.dt
    return still and not (gyro and abs(v.course - measured.heading) > s.tolerance)


@kernel
def command_motion(s: ProfileSettings, measured: Measured, v: ProfileState, out: Command) -> None:
    """Write the command in this tick."""
    if v.active:
        v.t += s.dt
    moves, pulled = v.active and not v.raw and not v.planned, not v.spins or not v.held
    missing = v.late - v.way
    rate = target_rate(s, v, missing, pulled) if moves else 0.0
    v.rate = rate
    out.moves = v.turn * (v.speed if moves else 0.0)
    move_target(s, v, rate, moves)
    out.frame = 2.0 if moves and v.field else 1.0
    out.aim = nan
    if (v.held and moves) or (v.keep and not v.active):
        out.aim = v.course + (v.turn * v.late if moves else 0.0)
    out.twist[0], out.twist[1], out.twist[2] = 0.0, 0.0, 0.0
    if not moves:
        return
    requested = rate
    if pulled and v.whole <= v.target:
        requested = last_bit(s, v, measured)
    elif pulled and v.whole < inf:
        most = MAX_PULL_RAD_S if v.spins else MAX_PULL_M_S
        requested += clamp(s.pull * missing, -most, most)
    forward, left = v.forward * requested, v.left * requested
    if v.arc and v.held and v.whole < inf:
        forward += along_arc(s, v)
    if v.field:  # back onto its line, and all of it to the frame's forward
        back = clamp(-SIDEWAYS_PER_S * v.sideways, -MAX_PULL_M_S, MAX_PULL_M_S)
        x, y = forward - v.left * back, left + v.forward * back
        angle = measured.ahead - (measured.heading + measured.offset)
        c, n = cos(angle), sin(angle)
        forward, left = c * x - n * y, n * x + c * y
    out.twist[0], out.twist[1], out.twist[2] = forward, left, v.turn * (rate if v.held else requested)
