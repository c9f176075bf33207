"""A routine in reverse, made from what it did: the same distances the other way, last first; and there and back in one."""

from __future__ import annotations

from math import degrees, hypot, pi, sin

import numpy as np

from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.rig.rig import Rig
from pivrex.routine.kinds import COUNTS, LENGTH, TURNS
from pivrex.routine.motion import wrapped
from pivrex.routine.nodes import Quantity
from pivrex.routine.planning import SPINNING
from pivrex.routine.playing import Play
from pivrex.routine.program import Instruction, MotionStep, Program
from pivrex.routine.robot import RobotWords

__all__ = ["backwards", "there_and_back"]

NOTHING_M, NOTHING_RAD = 0.002, 0.003
"""A step that moved the robot no more is left out."""

_SETTINGS = ("from now on drive", "from now on turn", "from now on with")


def backwards(program: Program, rig: Rig, play: Play) -> str:
    """Return the text of a routine that goes back by the ways that a play went.

    Parameters
    ----------
    program : Program
    rig : Rig
    play : Play
        Of that program, on a simulated robot of that rig.

    Notes
    -----
    Ways are as long as the robot measured them; decisions, repeats and own moves are dissolved into what was done.
    Attachments stay as they are, and nothing waits.
    """
    x, y, heading = (float(v) for v in play.estimated[-1])
    head = [f"# {program.name} run backwards, made from what it did"]
    if program.rig:
        head.append(f"for {_named(program.rig)}")
    head.append(f"start at {_place(x, y)} facing {_angle(wrapped(heading))}")
    return "\n".join([*head, *_settings(program.text), *_steps(program, rig, play)]) + "\n"


def there_and_back(program: Program, rig: Rig, play: Play) -> str:
    """Return the text of a routine, and behind it the ways back."""
    return (
        "\n".join([program.text.rstrip("\n"), "# and back", *_settings(program.text), *_steps(program, rig, play)])
        + "\n"
    )


def _settings(text: str) -> list[str]:
    """Return what counts from the beginning on."""
    return [row for row in text.split("\n") if row.startswith(_SETTINGS)]


def _steps(program: Program, rig: Rig, play: Play) -> list[str]:
    made = []
    maker = _Maker(rig, play)
    for step in reversed(play.steps):
        motion = program.codes[step.code][step.at]
        if step.lane == "motion" and isinstance(motion, MotionStep):
            made += maker.back(motion, step.begin, step.end)
    return made


class _Maker:
    def __init__(self, rig: Rig, play: Play) -> None:
        self._rig, self._play = rig, play
        self._words = RobotWords(rig)
        self._layout = Line(rig).layout

    def back(self, motion: MotionStep, begin: int, end: int) -> list[str]:
        """Return the lines that undo one step."""
        estimated = self._play.estimated
        last = len(estimated) - 1
        before, after = estimated[min(begin, last)], estimated[min(end, last)]
        options = _options(motion)
        if motion.shape == "wheels":
            return self._wheels(motion, begin, end)
        if motion.shape == "turn" and motion.kind == LENGTH:
            side, rolled = "right" if motion.spin > 0 else "left", self._rolled(motion, begin, end)
            return [f"turn {side} {_length(rolled)}{options}"] if rolled > NOTHING_M else []
        turned, way = float(after[2] - before[2]), after[:2] - before[:2]
        if motion.shape in SPINNING:
            return self._turn(motion, turned, hypot(*way), options)
        if motion.shape == "along" or (motion.shape == "to" and self._words.by_field):
            if hypot(*way) < NOTHING_M and abs(turned) < NOTHING_RAD:
                return []
            facing = f" facing {_angle(wrapped(float(before[2])))}" if motion.shape == "to" else ""
            return [f"drive to {_place(*before[:2])}{facing}{options}"]
        middle = float(before[2]) + turned / 2
        ahead = float(way[0] * np.cos(middle) + way[1] * np.sin(middle))
        sideways = float(way[1] * np.cos(middle) - way[0] * np.sin(middle))
        along, words = (sideways, ("right", "left")) if motion.left else (ahead, ("back", "ahead"))
        return [f"drive {words[along < 0]} {_length(abs(along))}{options}"] if abs(along) > NOTHING_M else []

    def _turn(self, motion: MotionStep, turned: float, chord: float, options: str) -> list[str]:
        side = "right" if turned > 0 else "left"
        if abs(turned) < NOTHING_RAD:
            return []
        if motion.shape == "pivot":
            stands = "left" if motion.left > 0 else "right"
            # to turn back about the same side is to drive the other one the other way
            back = "" if (side == "left") == (stands == "left") else "back "
            return [f"pivot {back}{side} {_angle(abs(turned))} about the {stands} side{options}"]
        said = motion.values.get("radius")
        if motion.shape == "bend" and (isinstance(said, Quantity) or (abs(turned) < 1.9 * pi and chord > NOTHING_M)):
            radius = said.value if isinstance(said, Quantity) else chord / (2 * abs(sin(turned / 2)))
            # back along the same circle: its middle lies on the side that it lay on before
            lay = "left" if (turned > 0) == (motion.forward > 0) else "right"
            back = "back " if motion.forward > 0 else ""
            return [f"bend {back}{lay} {_angle(abs(turned))} with radius {_length(radius)}{options}"]
        return [f"turn {side} {_angle(abs(turned))}{options}"]

    def _rolled(self, motion: MotionStep, begin: int, end: int) -> float:
        """Return how far the wheels rolled that rolled farthest, in m: as it was said, if that was a length."""
        if isinstance(motion.amount, Quantity) and motion.kind == LENGTH:
            return motion.amount.value
        rows, count = self._play.rows, len(self._rig.chassis.wheels)
        travel = rows[:, self._layout.stage("sensed")][:, :count]
        return float(np.abs(travel[min(end, len(rows) - 1)] - travel[min(begin, len(rows) - 1)]).max())

    def _wheels(self, motion: MotionStep, begin: int, end: int) -> list[str]:
        row = self._play.rows[min(begin + 1, len(self._play.rows) - 1)]
        names = [w.name for w in self._rig.chassis.wheels]
        shares = [float(row[self._layout.at("routine", f"{plain(n)}_share")]) for n in names]
        said = ", ".join(f'"{n}" {-100 * s:.4g} %' for n, s in zip(names, shares, strict=True))
        if motion.kind in (LENGTH, COUNTS, TURNS) and motion.amount is not None:
            return [f"wheels {said} for {_length(self._rolled(motion, begin, end))}"]
        return [f"wheels {said} for {_number((end - begin) * self._play.dt_s)} s"]


def _options(motion: Instruction) -> str:
    assert isinstance(motion, MotionStep)
    speed = motion.speed
    at = ""
    if isinstance(speed, Quantity):
        at = f" at {_number(abs(speed.value) * 100)} %"
        if speed.kind.metre:
            at = f" at {_number(abs(speed.value))} m/s"
        elif speed.kind.radian:
            at = f" at {_number(degrees(abs(speed.value)))} deg/s"
    gyro = "" if motion.gyro is None else " with gyro" if motion.gyro else " without gyro"
    return at + gyro


def _number(value: float, digits: int = 3) -> str:
    text = f"{value:.{digits}f}"
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return "0" if text == "-0" else text


def _length(value: float) -> str:
    return f"{_number(value, 4)} m"


def _angle(value: float) -> str:
    return f"{_number(degrees(value), 2)} deg"


def _place(x: float, y: float) -> str:
    return f"{_length(float(x))}, {_length(float(y))}"


def _named(name: str) -> str:
    return name if name.isidentifier() else f'"{name}"'
