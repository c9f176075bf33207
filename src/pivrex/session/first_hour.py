"""The first hour: nine tasks in the order of the work, each with a goal that is judged on the Ticks of the simulated robot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from dataclasses import field as made

import numpy as np
from numpy.typing import NDArray

from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig.field import Field
from pivrex.routine.rehearsal import Rehearsed, reached
from pivrex.units import wrap_rad

__all__ = ["TASKS", "Goal", "Task", "Verdict", "bench_reached"]


@dataclass(frozen=True)
class Verdict:
    """The state of a goal: whether it is reached, in words, and whether it still waits for a measurement."""

    reached: bool
    says: str
    waits: bool = False


Flags = NDArray[np.bool_]

Goal = Callable[[Line, Floats], Verdict]
"""Judges Ticks of one rig, (N, K), oldest first."""


def _values(line: Line, rows: Floats, stage: str, name: str) -> Floats:
    """Return a column over time, (N,); NaN for one that this rig does not have."""
    layout = line.layout
    values: Floats = rows[:, layout.at(stage, name)] if layout.has(stage, name) else np.full(len(rows), np.nan)
    return values


def _steady(flags: Flags, ticks: int) -> Flags:
    """Return where a condition has held for so many ticks, (N,)."""
    sums = np.concatenate(([0], np.cumsum(flags)))
    before = np.maximum(np.arange(len(flags)) + 1 - ticks, 0)
    steady: Flags = sums[1:] - sums[before] >= ticks
    return steady


def _held(line: Line, rows: Floats, flags: Flags, seconds: float = 0.6) -> Flags:
    """Return where a stick has been held like this for a while and the line drives, (N,): slew rates are over there."""
    drives = _values(line, rows, "clock", "stopped") == 0
    return _steady(flags & drives, round(seconds / line.dt_s))


def _fastest(line: Line, rows: Floats) -> Floats:
    """Return the fastest commanded wheel, (N,), in m/s."""
    fastest: Floats = np.abs(rows[:, line.speeds]).max(axis=1)
    return fastest


def _waits(what: str) -> Verdict:
    return Verdict(False, f"waits for {what}", waits=True)


def _quiet(line: Line, rows: Floats) -> Verdict:
    """Released and noisy, no wheel is commanded to move; pushed halfway, the robot still drives."""
    y, x = (_values(line, rows, "raw", name) for name in ("left_y", "left_x"))
    noisy = np.hypot(x, y)
    released = _held(line, rows, (noisy > 0) & (noisy < 0.15))
    pushed = _held(line, rows, (y < -0.45) & (y > -0.55))
    if not released.any() or not pushed.any():
        return _waits("the recording first-hour-1: a stick that is let go, then pushed halfway")
    fast = _fastest(line, rows)
    creeps, drives = float(fast[released].max()), float(fast[pushed].min()) / line.rig.full_forward_m_s
    says = f"released: up to {creeps * 100:.1f} cm/s; pushed halfway: {drives * 100:.0f} % of full speed"
    return Verdict(creeps == 0 and drives >= 0.1, says)


def _gentle(line: Line, rows: Floats) -> Verdict:
    """A third of the stick gives little, all of it everything."""
    y, full = _values(line, rows, "raw", "left_y"), line.rig.full_forward_m_s
    little, much = _held(line, rows, np.abs(y + 0.35) < 0.02, 0.9), _held(line, rows, y < -0.95, 0.9)
    if not little.any() or not much.any():
        return _waits("the recording first-hour-2: a third of the stick, then all of it")
    forward = _values(line, rows, "law", "forward") / full
    low, high, least = float(forward[little].max()), float(forward[much].min()), float(forward[little].min())
    says = f"a third of the stick gives {low * 100:.0f} % of full speed; all of it {high * 100:.0f} %"
    return Verdict(least >= 0.02 and low <= 0.15 and high >= 0.95, says)


def _two_sticks(line: Line, rows: Floats) -> Verdict:
    """The left stick moves the robot and does nothing else; the right one turns it."""
    left, right = _values(line, rows, "raw", "left_y"), _values(line, rows, "raw", "right_x")
    moves, turns = (
        _held(line, rows, (left < -0.6) & ~(np.abs(right) > 0.1)),
        _held(line, rows, (np.abs(right) > 0.6) & (np.abs(left) < 0.1)),
    )
    forward = _values(line, rows, "law", "forward") / line.rig.full_forward_m_s
    turn = _values(line, rows, "law", "turn") / line.rig.full_turn_rad_s
    if not moves.any():
        return _waits("the recording first-hour-3: the left stick pushed, then the right one moved to the right")
    ahead = float(forward[moves].min())
    if not turns.any():
        return Verdict(
            False, f"left stick: {ahead * 100:.0f} % ahead; the law does not read the right stick's left and right"
        )
    pure = bool((np.abs(turn[moves]) < 0.01).all() and (np.abs(forward[turns]) < 0.01).all())
    right_turn = -float(turn[turns].max())
    says = f"left stick: {ahead * 100:.0f} % of full speed ahead; right stick: {right_turn * 100:.0f} % of a full turn to the right"
    return Verdict(pure and ahead > 0.15 and right_turn > 0.1, says)


def _plugs(line: Line, rows: Floats) -> Verdict:
    """The robot moves as the line commands: ahead, and to the side to which it should turn."""
    forward = _held(line, rows, _values(line, rows, "law", "forward") > 0.1)
    turn = _values(line, rows, "law", "turn")
    turns = _held(line, rows, (np.abs(turn) > 0.3) & (np.abs(_values(line, rows, "law", "forward")) < 0.02))
    if not forward.any() or not turns.any():
        return _waits("the recording first-hour-4: ahead, then a turn to the left")
    x, y, heading = (_values(line, rows, "truth", name) for name in ("x", "y", "heading"))
    ahead = np.gradient(x) * np.cos(heading) + np.gradient(y) * np.sin(heading)
    rate = np.gradient(np.unwrap(heading)) / line.dt_s
    says_ahead = float(np.median(ahead[forward])) / line.dt_s
    left = float(np.median(np.sign(turn[turns]) * rate[turns]))
    says = f"commanded ahead: {says_ahead:+.2f} m/s; commanded to turn left: {np.degrees(left):+.0f} deg/s (left is positive)"
    return Verdict(says_ahead > 0.05 and left > 0.3, says)


def _straight(line: Line, rows: Floats) -> Verdict:
    """Ahead for a metre, the gyro keeps the robot on its line."""
    ahead = _values(line, rows, "raw", "left_y") < -0.5
    drives = _pieces(ahead & (_values(line, rows, "clock", "stopped") == 0))
    x, y, heading = (_values(line, rows, "truth", name) for name in ("x", "y", "heading"))
    long = [(a, b) for a, b in drives if np.hypot(x[b - 1] - x[a], y[b - 1] - y[a]) > 0.8]
    if not long or not line.rig.has_realistic_physics:
        return _waits("a drive of a metre straight ahead, with realistic physics: the recording first-hour-5")
    a, b = long[-1]
    sideways = -(x[b - 1] - x[a]) * np.sin(heading[a]) + (y[b - 1] - y[a]) * np.cos(heading[a])
    turned = float(np.degrees(wrap_rad(heading[b - 1] - heading[a])))
    held = bool((_values(line, rows, "correction", "on")[a + 5 : b] == 1).all())
    said = "the gyro holds the heading" if held else "no one holds the heading"
    far = float(np.hypot(x[b - 1] - x[a], y[b - 1] - y[a]))
    says = f"in {far:.1f} m it drifted {abs(sideways) * 100:.0f} cm to one side and turned {turned:+.1f} deg; {said}"
    return Verdict(bool(held and abs(sideways) < 0.03 and abs(turned) < 1.5), says)


def _pieces(flags: Flags) -> list[tuple[int, int]]:
    """Return where a condition begins and ends, each time that it holds and has ended."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(int), [0]))))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b < len(flags) and a > 0]


def _overshoot(line: Line, rows: Floats) -> tuple[float, float] | None:
    """Return overshoot, as a share of the step, and settling time in s of the newest turn of the target; None for none."""
    target, heading = _values(line, rows, "correction", "target"), np.unwrap(_values(line, rows, "truth", "heading"))
    steps = np.flatnonzero(np.abs(np.diff(target)) > np.radians(20))
    held = np.isfinite(target)
    begins = [int(k) + 1 for k in steps] + [a for a, _ in _pieces(held)]
    for a in sorted(begins, reverse=True):
        size = wrap_rad(target[a] - heading[a])
        end = a + round(2.5 / line.dt_s)
        if abs(size) < np.radians(20) or end > len(rows) or not held[a:end].all():
            continue
        share = (heading[a:end] - heading[a]) / size
        outside = np.flatnonzero(np.abs(share - 1) > 0.05)
        return float(share.max()) - 1, float((outside[-1] + 1 if len(outside) else 0) * line.dt_s)
    return None


def _too_much(line: Line, rows: Floats) -> Verdict:
    """A turn overshoots by a tenth."""
    found = _overshoot(line, rows)
    if found is None:
        return _waits("a step of the heading that the robot carries out")
    return Verdict(found[0] >= 0.1, f"overshoot {found[0] * 100:.0f} %, settling time {found[1]:.2f} s")


def _cured(line: Line, rows: Floats) -> Verdict:
    """A turn arrives soon, and does not go past its target."""
    found = _overshoot(line, rows)
    if found is None:
        return _waits("a step of the heading that the robot carries out")
    says = f"overshoot {found[0] * 100:.0f} %, settling time {found[1]:.2f} s"
    return Verdict(found[0] <= 0.03 and found[1] <= 1.2, says)


def bench_reached(found: Rehearsed, floor: Field) -> Verdict:
    """Judge a rehearsal: 9 of 10 drives, or more, have to end at bench A."""
    share = reached(found, floor).get(BENCH, 0.0)
    return Verdict(share >= 0.9, f"{share * 10:.1f} of 10 drives end at {BENCH}")


def _rolls_on(line: Line, rows: Floats) -> Verdict:
    """Let go, the robot is commanded to rest as soon as yesterday, and it is as fast as yesterday."""
    y = _values(line, rows, "raw", "left_y")
    fast = np.abs(_values(line, rows, "law", "forward"))
    let_go = [a for a, b in _pieces((y == 0) & (_values(line, rows, "clock", "stopped") == 0)) if b - a > 60]
    let_go = [a for a in let_go if y[a - 1] < -0.9]
    if not let_go:
        return _waits("the recording first-hour-8: full speed ahead, then the stick is let go")
    a = let_go[-1]
    moves = fast[a : a + 60] > 0.01
    t = _values(line, rows, "clock", "t")
    seconds = float(t[a + (int(moves.argmin()) if not moves.all() else 60)] - t[a])
    says = f"at {fast[a - 1]:.2f} m/s; let go, it is commanded to rest after {seconds:.2f} s"
    return Verdict(bool(seconds <= 0.3 and fast[a - 1] >= 0.6), says)


def _travel(line: Line, rows: Floats) -> Floats:
    """Return how far the first wheel's encoder says that it rolled, (N,), in m."""
    return _values(line, rows, "sensed", f"{line.wheels[0].replace(' ', '_')}_travel")


def _heard(line: Line, rows: Floats) -> Verdict:
    """For a second the encoders of the robot on the link are heard."""
    heard = _steady(np.isfinite(_travel(line, rows)), round(1 / line.dt_s))
    if not heard.any():
        return _waits("a robot on the link that says what its encoders count")
    return Verdict(bool(heard[-1]), "the robot on the link is heard; it rests until you go live")


def _driven(line: Line, rows: Floats) -> Verdict:
    """The robot on the link has rolled, and is stopped again."""
    stopped = _values(line, rows, "clock", "stopped")
    live = stopped == 0
    if not live.any():
        return _waits("you to go live, drive, and stop")
    way = float(np.nanmax(_travel(line, rows)[live]) - np.nanmin(_travel(line, rows)[live]))
    rests = bool(stopped[-1] == 1)
    says = f"its wheel rolled {way * 100:.0f} cm; {'it is stopped' if rests else 'it is live'}"
    return Verdict(way >= 0.1 and rests, says)


BENCH = "bench A"

ROUTINE = """\
# First hour: begin here, and end at bench A, whatever the battery and the floor.
for plover
start at 0.50 m, 0.50 m facing 90 deg

drive ahead for 2.0 s at 0.6 m/s
turn left for 0.4 s
drive ahead for 2.0 s at 0.6 m/s
"""


@dataclass(frozen=True)
class Task:
    """A task of the first hour.

    Attributes
    ----------
    name : str
    goal : str
        What is reached in the end.
    look : str
        What to look at first.
    hint, answer : str
    view : str
        The view in which it begins.
    goals : tuple of Goal
        One after the other; none for a routine that is rehearsed.
    robot : str
        Whose rig it begins with.
    edits : dict
        What is different in that rig: keys and values.
    before : dict
        What was different yesterday, for two runs to compare; empty for none.
    recording : str
        Who drives; keys if left out.
    fault : str
        What is plugged wrongly, as `pivrex.sim.wiring.faulty` reads it.
    routine : str
        The routine with which it begins.
    linked : bool
        Whether the Ticks of a robot on the link are judged, and no others.
    """

    name: str
    goal: str
    look: str
    hint: str
    answer: str
    view: str
    goals: tuple[Goal, ...] = ()
    robot: str = "plover"
    edits: dict[str, object] = made(default_factory=dict)
    before: dict[str, object] = made(default_factory=dict)
    recording: str = ""
    fault: str = ""
    routine: str = ""
    linked: bool = False


TASKS: Sequence[Task] = (
    Task(
        "A quiet stick",
        "Let go, the worn stick moves no wheel; pushed halfway, it still drives the robot.",
        "the marks of the two sticks while no one touches them, and the wheels that creep.",
        "A stick that is let go reads about 7 %. The setting that ignores small readings is 0 %.",
        "Set the dead band of forward and of turn to 8 %: just above the noise. With 45 % the robot would ignore half of the stick.",
        "shaping", (_quiet,), recording="first-hour-1",
        edits={"shaping.forward.dead_band": "0 %", "shaping.turn.dead_band": "0 %"},
    ),
    Task(
        "Gentle, but still fast",
        "A third of the stick gives 2 to 15 % of full speed; all of it gives full speed.",
        "the curve of forward: how high it is at a third of the stick, and at the end.",
        "A scale makes everything slow. You need a setting that bends the line and leaves its end where it is.",
        "Set the curve of forward to 60 %: the cube is small near the centre, and 1 at the end.",
        "shaping", (_gentle,), recording="first-hour-2",
        edits={"shaping.forward.curve": "0 %", "speed_levels.levels.1.moving": "100 %"},
    ),
    Task(
        "A stick for each hand",
        "The left stick moves the robot and does nothing else; the right stick turns it.",
        "the sticks on the screen: one of them moves, and the wheels do not.",
        "The law says which stick does what. It stands in Shaping.",
        'Change the law from "arcade" to "split arcade": it moves by left_y and turns by right_x.',
        "shaping", (_two_sticks,), recording="first-hour-3",
    ),
    Task(
        "Two plugs swapped",
        "Commanded ahead, the robot drives ahead; commanded to the left, it turns to the left.",
        "which way the robot turns on the field when the driver turns it to the left.",
        "Do not guess: the shakedown sends one motor after the other, and looks which wheel turns.",
        "In Chassis, start the shakedown and follow it: it finds that the plugs M1 and M2 are swapped, and corrects the rig.",
        "field", (_plugs,), recording="first-hour-4", fault="swap left/right",
    ),
    Task(
        "Straight ahead",
        "The gyro holds the heading: after a metre the robot is less than 3 cm to one side.",
        "the trail on the field: the right motor is weaker than the left one.",
        "No setting of a motor helps for long: batteries sag and floors differ. The gyro knows the heading.",
        "Turn the heading hold on (Y). The correction turns the robot back as soon as the gyro sees an error.",
        "field", (_straight,), recording="first-hour-5",
        edits={"control.wheels": "open", "motors.right.strength": "90 %"},
    ),
    Task(
        "Too much P, and the cure",
        "First a heading step that overshoots by 10 % or more; then one with 3 % or less that settles in 1.2 s.",
        "the step response in Heading, and the figures below it: overshoot and settling time.",
        "P is how hard the loop pulls. Carry out the step on the robot after each change of P.",
        "With P at 20 /s the step overshoots by 16 %; with 7 /s it arrives in less than a second and stays. D would damp it too.",
        "heading", (_too_much, _cured),
        edits={"control.wheels": "open", "correction.hold": "on", "correction.p": "3 /s", "correction.i": 0, "correction.d": 0},
    ),
    Task(
        "Nine times of ten",
        f"Rehearsed, the routine ends at {BENCH} in at least 9 of 10 drives.",
        "where the 200 drives of a rehearsal end: timed moves depend on the battery.",
        "Say where to drive, not for how long. And look what stands between the start and the bench.",
        "Write: drive to 0.60 m, 1.70 m; then: drive to 1.70 m, 1.70 m. The encoders and the gyro measure the distance.",
        "routine", routine=ROUTINE,
    ),
    Task(
        "What yesterday's change did",
        "Let go at full speed, the robot is commanded to rest within 0.3 s, as yesterday, and is as fast as yesterday.",
        "the two runs: four settings differ between them, and only one of them changed this drive.",
        "Compare the two runs. The comparison names the first stage that differs, and what caused it.",
        "The slew down of forward went from 5 /s to 0.8 /s. Set it back to 5 /s in Shaping.",
        "runs", (_rolls_on,), recording="first-hour-8",
        edits={"shaping.forward.slew_down": "0.8 /s", "shaping.turn.curve": "42 %", "correction.i": 12, "attachments.spout.rate": "120 deg/s"},
        before={"shaping.forward.slew_down": "5 /s", "shaping.turn.curve": "50 %", "correction.i": 20, "attachments.spout.rate": "180 deg/s"},
    ),
    Task(
        "Connect a robot",
        "A robot on the link is heard; you go live, drive it 10 cm, and stop it.",
        'the head: "simulated" changes once the robot on the link answers.',
        "In a second terminal run: pivrex simulator {rig}. Then change from the simulated robot to the one on the link.",
        "h changes to the robot on the link; Ctrl+L goes live once the sticks are let go; w and i drive; Esc stops.",
        "field", (_heard, _driven), robot="coot", linked=True,
    ),
)  # fmt: skip
"""In the order of the work. Each shows what to look at; nothing of it moves a robot on a link."""
