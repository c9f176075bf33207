"""Kinds of quantities in a routine: what a number measures, its units, and the kind of an arithmetic result."""

from __future__ import annotations

from math import pi
from typing import NamedTuple

__all__ = [
    "ANGLE", "COUNTS", "LENGTH", "NUMBER", "SHARE_UNIT", "SPEED", "TIME", "TURNS", "TURN_RATE", "UNITS", "VOLTS", "Kind",
    "divided", "in_unit", "named", "shown", "times", "unit_of", "written",
]  # fmt: skip


class Kind(NamedTuple):
    """The unit of a number, as powers of metre, second, radian, volt, count and wheel turn."""

    metre: int = 0
    second: int = 0
    radian: int = 0
    volt: int = 0
    counted: int = 0
    turned: int = 0


NUMBER = Kind()
LENGTH = Kind(metre=1)
TIME = Kind(second=1)
ANGLE = Kind(radian=1)
SPEED = Kind(metre=1, second=-1)
TURN_RATE = Kind(radian=1, second=-1)
VOLTS = Kind(volt=1)
COUNTS = Kind(counted=1)
TURNS = Kind(turned=1)

SHARE_UNIT = "%"

_INCH = 0.0254
_DEG = pi / 180

UNITS: dict[str, tuple[float, Kind]] = {
    "m": (1.0, LENGTH), "cm": (0.01, LENGTH), "mm": (0.001, LENGTH), "in": (_INCH, LENGTH), "ft": (12 * _INCH, LENGTH),
    "s": (1.0, TIME), "ms": (0.001, TIME), "min": (60.0, TIME),
    "deg": (_DEG, ANGLE), "rad": (1.0, ANGLE),
    "m/s": (1.0, SPEED), "cm/s": (0.01, SPEED), "mm/s": (0.001, SPEED), "in/s": (_INCH, SPEED), "ft/s": (12 * _INCH, SPEED),
    "deg/s": (_DEG, TURN_RATE), "rad/s": (1.0, TURN_RATE),
    "V": (1.0, VOLTS),
    "count": (1.0, COUNTS), "counts": (1.0, COUNTS),
    "wheel turn": (1.0, TURNS), "wheel turns": (1.0, TURNS),
    "%": (0.01, NUMBER),
}  # fmt: skip
"""Each unit's factor to SI, and its kind."""

_NAMES = {
    NUMBER: "a plain number", LENGTH: "a length", TIME: "a time", ANGLE: "an angle", SPEED: "a speed",
    TURN_RATE: "a rate of turn", VOLTS: "a voltage", COUNTS: "encoder counts", TURNS: "wheel turns",
}  # fmt: skip

_SAID = {
    LENGTH: "m",
    TIME: "s",
    ANGLE: "deg",
    SPEED: "m/s",
    TURN_RATE: "deg/s",
    VOLTS: "V",
    COUNTS: "counts",
    TURNS: "wheel turns",
}


def times(a: Kind, b: Kind) -> Kind:
    """Return the kind of a product."""
    return Kind(*(x + y for x, y in zip(a, b, strict=True)))


def divided(a: Kind, b: Kind) -> Kind:
    """Return the kind of a quotient."""
    return Kind(*(x - y for x, y in zip(a, b, strict=True)))


def named(kind: Kind) -> str:
    """Return what a kind is: "a length"."""
    if kind in _NAMES:
        return _NAMES[kind]
    return f"something in {unit_of(kind)}"


def unit_of(kind: Kind) -> str:
    """Return the unit in which a value is shown; empty for a plain number."""
    if kind in _SAID or kind == NUMBER:
        return _SAID.get(kind, "")
    words = ("m", "s", "rad", "V", "counts", "wheel turns")
    powers = [(w, p) for w, p in zip(words, kind, strict=True) if p]
    over = "·".join(w + (f"^{p}" if p > 1 else "") for w, p in powers if p > 0) or "1"
    under = "·".join(w + (f"^{-p}" if p < -1 else "") for w, p in powers if p < 0)
    return f"{over}/{under}" if under else over


def in_unit(value: float, kind: Kind) -> float:
    """Return a value in SI in the unit in which it is shown."""
    return value / _DEG if kind in (ANGLE, TURN_RATE) else value


def shown(value: float, kind: Kind) -> str:
    """Write a value as it is shown: with four digits and its unit; "nothing" for NaN."""
    if value != value:  # noqa: PLR0124 - NaN
        return "nothing"
    return f"{in_unit(value, kind):.4g} {unit_of(kind)}".rstrip()


def written(value: float, kind: Kind, digits: int = 4) -> str:
    """Write a value with its unit as it stands in a routine; angles in degrees."""
    if kind in (ANGLE, TURN_RATE):
        value /= _DEG
    text = f"{value:.{digits}g}"
    if "e" in text:
        text = f"{value:.6f}".rstrip("0").rstrip(".")
    return f"{text} {_SAID[kind]}" if kind in _SAID else text
