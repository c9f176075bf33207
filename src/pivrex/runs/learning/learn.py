"""Learns a robot from a drive: every parameter with its interval, what cannot be learned, and what to drive for it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pivrex.errors import LearnError
from pivrex.line import Line
from pivrex.rig.rig import Rig
from pivrex.runs.learning.drive import Drive, drive_of
from pivrex.runs.learning.fit import Fit
from pivrex.runs.learning.held_out import HeldOut, held_out
from pivrex.runs.learning.motors import Windows, motors_of, windows_of
from pivrex.runs.learning.sides import each_of
from pivrex.runs.learning.to_rig import Change, changes_for, put_into
from pivrex.runs.learning.turning import Value, bias_of, scale_of, scrub_of
from pivrex.runs.run import Run

__all__ = ["LEARNING_DRIVE", "Learned", "Learning", "learn"]

LEARNING_DRIVE = "A learning drive teaches more: G in Runs drives it, pivrex learn RIG --drive writes it"

SHARE = 0.95
"""How often an interval holds the true value, at least."""

TIMES = 1.96
"""Sigma either way for that, of a normal error."""

LEARNT_FROM = 0.75
"""How much of the drive is learned from; the rest is held out."""

OFF_STATIC, OFF_SPEED, OFF_RISE = 0.0012, 0.0012, 0.015
"""What no residual shows, one sigma: tyres that give way, casters, a battery that sags between its readings. Of the static drive as
it is, of the others as a share. Found by learning simulated robots whose values are known.
"""

OFF_STRENGTH, OFF_SCRUB = 0.0015, 0.002

OFF_VOLTS = 0.02
"""How far a battery is off whose voltage no one measures, one sigma."""

OFF_SCALE = 0.01
"""How far a gyro's scale is off that no one has measured, one sigma: makers of small ones promise two or three times that at most."""


@dataclass(frozen=True)
class Learned:
    """A parameter.

    Attributes
    ----------
    key : str
        Its dotted key in the rig; of what stands for several motors with "*" for their names.
    title : str
    value, low, high : float
        And its interval, in the unit.
    unit : str
    sigma : float
    """

    key: str
    title: str
    value: float
    low: float
    high: float
    unit: str
    sigma: float


@dataclass(frozen=True)
class Learning:
    """The result of learning from a drive.

    Attributes
    ----------
    run : str
    rig : Rig
        As it was.
    learned : tuple of Learned
    refused : tuple of (key, why)
        What the drive cannot tell, and what to drive for it.
    notes : tuple of str
        What holds only as long as something else does.
    changes : tuple of Change
        Of the rig.
    held_out : HeldOut or None
        None where too little was held out.
    """

    run: str
    rig: Rig
    learned: tuple[Learned, ...]
    refused: tuple[tuple[str, str], ...]
    notes: tuple[str, ...]
    changes: tuple[Change, ...]
    held_out: HeldOut | None

    def as_json(self) -> dict[str, Any]:
        """Return it for `pivrex learn --json`."""
        held = self.held_out
        return {
            "run": self.run,
            "rig": self.rig.name,
            "interval": SHARE,
            "parameters": [
                {"key": p.key, "title": p.title, "value": p.value, "low": p.low, "high": p.high, "unit": p.unit}
                for p in self.learned
            ],
            "refused": [{"key": key, "why": why} for key, why in self.refused],
            "notes": list(self.notes),
            "changes": [{"key": c.key, "before": c.before, "after": c.after} for c in self.changes],
            "held_out": None
            if held is None
            else {"seconds": held.seconds, "off_before_m_s": held.before, "off_after_m_s": held.after},
        }


def learn(run: Run, rig: Rig, text: str, turned_rad: float = 0.0, within_rad: float = np.radians(2.0)) -> Learning:
    """Learn a rig's robot from a run.

    Parameters
    ----------
    run : Run
    rig : Rig
    text : str
        Its file, for the units in which its keys are written.
    turned_rad, within_rad : float
        How far the robot truly turned from the first time it stood to the last, where someone has seen it, and how exactly (one
        sigma); 0 where no one has.

    Raises
    ------
    LearnError
        If the run is of another robot, or tells nothing at all.
    RunError
        If it cannot be read.

    Notes
    -----
    The equation of a brushed motor is fitted to stretches of the drive (see `motors`), the turn of the wheels to that of the gyro, the
    gyro to the time that the robot stands. (Feedforward constants by regression: Åström & Murray, Feedback Systems, ch. 3; errors
    that hang together: Newey & West 1987.)
    """
    line = Line(rig)
    drive = drive_of(run, line)
    begin = round(LEARNT_FROM * len(drive))
    part = drive.part(0, begin)
    learned: list[Learned] = []
    refused: list[tuple[str, str]] = []
    notes: list[str] = []
    if not drive.senses_volts:
        notes.append("the battery's voltage is not measured: speeds are right if the battery is the rig's, and as full")
    motors = _motors(part, line, learned, refused)
    bias = _turning(drive, rig, (turned_rad, within_rad), learned, refused, notes)
    del bias
    if not learned:
        raise LearnError(f"{'; '.join(why for _, why in refused)}. {LEARNING_DRIVE}")
    changes = changes_for(rig, text, {p.key: p.value for p in learned})
    held = held_out(run, drive, rig, put_into(text, changes), begin) if motors is not None and changes else None
    return Learning(run.name, rig, tuple(learned), tuple(refused), tuple(notes), tuple(changes), held)


def _row(key: str, title: str, value: float, sigma: float, unit: str) -> Learned:
    return Learned(key, title, value, value - TIMES * sigma, value + TIMES * sigma, unit, sigma)


def _motors(drive: Drive, line: Line, learned: list[Learned], refused: list[tuple[str, str]]) -> Fit | None:
    rig = line.rig
    share = np.array([drive.ahead[drive.motor_of == m].mean() for m in range(drive.drive.shape[1])])
    try:
        windows = windows_of(drive, rig.battery.volts)
        found = motors_of(windows, share)
    except LearnError as problem:
        refused += [
            (key, str(problem))
            for key in ("motors.*.top_speed", "control.static", "control.speed", "control.acceleration", "lag")
        ]
        return None
    static, speed, rise = found.values.tolist()
    if not (0 <= static < 0.8 and speed > 0 and rise > 0):
        why = "its commands and its motion fit no motor: was it live, and driven on the floor?"
        refused.append(("motors.*.top_speed", why))
        return None
    s_static, s_speed, s_rise = found.sigma.tolist()
    s_static = float(np.hypot(s_static, OFF_STATIC))
    s_speed = float(np.hypot(s_speed, (OFF_SPEED if drive.senses_volts else OFF_VOLTS) * speed))
    s_rise = float(np.hypot(s_rise, OFF_RISE * rise))
    top = (1 - static) / speed
    s_top = top * float(np.hypot(s_speed / speed, s_static / (1 - static)))
    quick = rise * top
    s_quick = quick * float(np.hypot(s_rise / rise, s_top / top))
    learned += [
        _row("motors.*.top_speed", "top speed of the wheels", top, s_top, "m/s"),
        _row("control.static", "drive for friction", static, s_static, ""),
        _row("control.speed", "drive for top speed in addition", 1 - static, s_static, ""),
        _row("control.acceleration", "drive for acceleration", quick, s_quick, "s"),
        _row("lag", "lag of the wheels", quick, s_quick, "s"),
    ]
    if len(rig.motors) > 1:
        _sides(drive, windows, rig, learned, refused)
    return found


def _sides(drive: Drive, windows: Windows, rig: Rig, learned: list[Learned], refused: list[tuple[str, str]]) -> None:
    try:
        each = each_of(windows, drive, rig.chassis)
    except LearnError as problem:
        refused.append(("motors.*.strength", str(problem)))
        return
    best = min(each, key=lambda one: one.values[1])
    for name, one in zip(rig.motors, each, strict=True):
        strength = float(best.values[1] / one.values[1])
        own = [float(f.sigma[1] / f.values[1]) for f in (best, one)] if one is not best else [0.0]
        sigma = strength * float(np.linalg.norm([*own, OFF_STRENGTH]))
        learned.append(_row(f"motors.{name}.strength", f"{name} motor, of the best one", strength, sigma, ""))


def _turning(
    drive: Drive, rig: Rig, turned: tuple[float, float], learned: list[Learned], refused: list[tuple[str, str]], notes: list[str]
) -> Value | None:  # fmt: skip
    if rig.gyro is None:
        refused += [(key, "the rig has no gyro") for key in ("odometry.scrub", "gyro.bias", "gyro.scale")]
        return None
    try:
        bias = bias_of(drive)
        learned.append(
            _row(
                "gyro.bias",
                "gyro while it stands",
                float(np.degrees(bias.value)),
                float(np.degrees(bias.sigma)),
                "deg/s",
            )
        )
    except LearnError as problem:
        refused.append(("gyro.bias", str(problem)))
        bias = Value(0.0, rig.gyro.bias_rad_s)
    scale, off = rig.gyro.scale, OFF_SCALE  # only a scale that was found makes the track more accurate
    if turned[0]:
        try:
            found = scale_of(drive, bias, *turned)
            scale, off = found.value, float(np.hypot(OFF_SCRUB, found.sigma))
            learned.append(_row("gyro.scale", "scale error of the gyro", found.value, found.sigma, ""))
        except LearnError as problem:
            refused.append(("gyro.scale", str(problem)))
    else:
        why = (
            "how far it truly turned is unknown: stand square against a wall, turn several times, stand square again, and "
            "type how far that was (--turned, or T in the view Runs)"
        )
        refused.append(("gyro.scale", why))
    try:
        scrub = scrub_of(drive, bias.value, scale)
        sigma = float(np.hypot(scrub.sigma, off * scrub.value))
        learned.append(_row("odometry.scrub", "effective track ratio", scrub.value, sigma, ""))
        if off == OFF_SCALE:
            notes.append("the track is as accurate as the gyro's scale")
    except LearnError as problem:
        refused.append(("odometry.scrub", str(problem)))
    return bias
