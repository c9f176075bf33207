"""The wheels with their equations, commanded beside measured."""

from __future__ import annotations

from math import degrees

from pivrex.line.equations import equation, point_equation
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.chassis_shown import Shown, ShownChassis
from pivrex.units import wrap_deg

__all__ = ["draw_wheels", "whole_equation"]


def draw_wheels(
    picture: Picture, chassis: ShownChassis, shown: Shown | None, x: int, y: int, width: int, height: int
) -> int:
    """Draw a row or two for each wheel; gives the row below them."""
    model, line = chassis.model, chassis.model.line
    body = model.rig.chassis
    picture.text(x, y, "wheels", "title")
    picture.right(x + width, y, "turn in rad/s   commanded  measured", "dim")
    names = max(len(w) for w in line.wheels)
    two = height >= 34 and len(line.wheels) <= 6
    y += 1
    for i, wheel in enumerate(body.wheels):
        if y >= height:
            break
        here = wheel.name == model.wheel_name
        picture.spot(x, y, width, "wheel", str(i), 1 + two)
        at = picture.text(x, y, f"{wheel.name:<{names}}", "title" if here else "rest")
        asked = shown.given[i] if shown is not None else 0.0
        real = shown.measured[i] if shown is not None and shown.measured is not None else float("nan")
        limited = shown is not None and abs(shown.asked[i]) > line.top_m_s[i] * 1.0005
        text = equation(body, i)
        picture.text(at, y, f" = {text}", "rest" if here else "dim", width - names - 19)
        mark = "!" if limited else " "
        picture.right(x + width - 10, y, f"{mark}{number(asked)}", "alarm" if limited else "commanded")
        picture.right(x + width, y, f"{number(real)} m/s", "measured")
        y += 1
        if two and shown is not None:
            if wheel.steered:
                angle, target = (number(wrap_deg(degrees(v[i])), 0, 4) for v in (shown.angles, shown.targets))
                picture.text(x + names + 1, y, f"points {angle} deg, shall {target} deg", "target")
            else:
                picture.text(x + names + 1, y, f"= {_numbers(chassis, i)} m/s", "dim")
            y += 1
    return y


def whole_equation(chassis: ShownChassis, width: int) -> str:
    """Give the selected wheel's equation, where its row is too short for it."""
    model = chassis.model
    text = equation(model.rig.chassis, chassis.wheel)
    names = max(len(w) for w in model.line.wheels)
    return f"= {text}" if len(text) + 3 > width - names - 19 else ""


def _numbers(chassis: ShownChassis, wheel: int) -> str:
    """A wheel's equation with the present numbers."""
    geometry = chassis.model.rig.chassis.geometry
    row = geometry.rows[geometry.of_wheel == wheel][0]
    return point_equation(row, *(float(v) for v in chassis.twist))
