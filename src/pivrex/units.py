"""Quantities as students write them, and as the program computes with them.

Inside everything is SI and radians. At the edges a quantity is a number with its unit: "32 mm", "45 deg",
"1.3 m/s", "40 %". A number without a unit is refused where one could be mistaken for another.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from pivrex.errors import UnitError

__all__ = ["KINDS", "Kind", "format_quantity", "parse", "readable", "split", "wrap_deg", "wrap_rad"]

_NUMBER = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")


@dataclass(frozen=True)
class Kind:
    """A kind of quantity: its name, its units (each a factor to SI), an example, and whether a bare number will do."""

    name: str
    units: dict[str, float]
    example: str
    bare: bool = False


_DEG = math.pi / 180
_INCH = 0.0254

KINDS = {
    kind.name: kind
    for kind in (
        Kind("length", {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": _INCH, "ft": 12 * _INCH}, "32 mm"),
        Kind("angle", {"deg": _DEG, "rad": 1.0, "turn": 2 * math.pi, "turns": 2 * math.pi}, "45 deg"),
        Kind(
            "speed",
            {"m/s": 1.0, "cm/s": 0.01, "mm/s": 0.001, "in/s": _INCH, "ft/s": 12 * _INCH, "km/h": 1 / 3.6},
            "1.3 m/s",
        ),
        Kind("turn rate", {"deg/s": _DEG, "rad/s": 1.0, "rpm": 2 * math.pi / 60, "turn/s": 2 * math.pi}, "200 rpm"),
        Kind("time", {"s": 1.0, "ms": 1e-3, "us": 1e-6, "µs": 1e-6, "min": 60.0}, "20 ms"),
        Kind("frequency", {"Hz": 1.0, "kHz": 1e3}, "60 Hz"),
        Kind("fraction", {"%": 0.01}, "40 %", bare=True),
        Kind("rate", {"/s": 1.0, "%/s": 0.01}, "3 /s"),
        Kind("turn rate drift", {"deg/s/min": _DEG / 60, "rad/s/s": 1.0}, "0.05 deg/s/min"),
        Kind("turn acceleration", {"deg/s/s": _DEG, "rad/s/s": 1.0}, "360 deg/s/s"),
        Kind("acceleration", {"m/s/s": 1.0, "cm/s/s": 0.01}, "1 m/s/s"),
        Kind("mass", {"kg": 1.0, "g": 1e-3}, "1.2 kg"),
        Kind("voltage", {"V": 1.0, "mV": 1e-3}, "7.4 V"),
        Kind("current", {"A": 1.0, "mA": 1e-3}, "300 mA"),
        Kind("resistance", {"ohm": 1.0, "kohm": 1e3, "mohm": 1e-3}, "120 mohm"),
        Kind("charge", {"Ah": 3600.0, "mAh": 3.6, "As": 1.0}, "1500 mAh"),
        Kind("torque", {"Nm": 1.0, "Ncm": 0.01, "mNm": 1e-3}, "35 mNm"),
        Kind("inertia", {"kg m2": 1.0, "g cm2": 1e-7}, "40 g cm2"),
        Kind("impulse", {"Ns": 1.0}, "0.3 Ns"),
    )
}


def split(text: str) -> tuple[float, str]:
    """Split ``"32 mm"`` into 32.0 and ``"mm"``; the unit may be empty.

    Raises
    ------
    UnitError
        If it does not begin with a number.
    """
    match = _NUMBER.match(text)
    if match is None:
        raise UnitError(f"{text!r} is not a number with a unit")
    return float(match[1]), match[2]


def parse(value: object, kind_name: str) -> float:
    """Read a quantity.

    Parameters
    ----------
    value : str, int or float
        As it stands in the file. A bare number is taken only where the kind allows one.
    kind_name : str
        A key of `KINDS`.

    Returns
    -------
    float
        In SI units and radians; a fraction as 0.4 for ``"40 %"``.

    Raises
    ------
    UnitError
        With what stands there and what would be right.
    """
    kind = KINDS[kind_name]
    article = "an" if kind.name[0] in "aeiou" else "a"
    wanted = f'{article} {kind.name} such as "{kind.example}"'
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise UnitError(f"is {_shown(value)}, but should be {wanted}")
    if isinstance(value, str):
        try:
            number, unit = split(value)
        except UnitError:
            raise UnitError(f"is {_shown(value)}, but should be {wanted}") from None
    else:
        number, unit = float(value), ""
    if not math.isfinite(number):
        raise UnitError(f"is {number}, but should be {wanted}")
    if not unit and (kind.bare or number == 0):
        return number
    if not unit:
        raise UnitError(f"is {_shown(value)} without a unit; write {wanted} (units: {', '.join(kind.units)})")
    if unit not in kind.units:
        raise UnitError(f"is {_shown(value)}; the unit {unit!r} is not one of {', '.join(kind.units)}")
    factor = kind.units[unit]
    # 35 % is 35/100 = 0.35; times 0.01 it would be 0.35000000000000003
    return number / round(1 / factor) if factor < 1 and round(1 / factor) * factor == 1 else number * factor


def format_quantity(si_value: float, kind_name: str, unit: str, digits: int = 6) -> str:
    """Write an SI value in ``unit``, as `parse` reads it back: ``format_quantity(0.032, "length", "mm")`` is "32 mm"."""
    kind = KINDS[kind_name]
    number = si_value / kind.units[unit] if unit else si_value
    text = f"{round(number, digits):g}" if abs(number) < 1e6 else f"{number:.0f}"
    return f"{text} {unit}" if unit else text


_LARGER = {
    "ms": "s",
    "mm": "m",
    "mm/s": "m/s",
    "mohm": "ohm",
    "ohm": "kohm",
    "mAh": "Ah",
    "mA": "A",
    "mV": "V",
    "g": "kg",
}


def readable(si_value: float, kind_name: str, unit: str, digits: int = 6) -> str:
    """Write an SI value with so many digits in ``unit``, or in a larger one where the number would be 1000 or more."""
    units = KINDS[kind_name].units
    while unit in _LARGER and abs(si_value / units[unit]) >= 1000 - 1e-9:
        unit = _LARGER[unit]
    text = f"{si_value / units[unit]:.{digits}g}"
    return f"{float(text):.0f} {unit}" if "e+" in text else f"{text} {unit}"


def wrap_rad(angle: float) -> float:
    """Bring an angle into (-π, π]."""
    wrapped = math.remainder(angle, 2 * math.pi)
    return math.pi if wrapped == -math.pi else wrapped


def wrap_deg(angle: float) -> float:
    """Bring an angle in degrees into (-180, 180]."""
    wrapped = math.remainder(angle, 360)
    return 180.0 if wrapped == -180 else wrapped + 0.0


def _shown(value: object) -> str:
    return f'"{value}"' if isinstance(value, str) else str(value).lower() if isinstance(value, bool) else str(value)
