"""The field from above: walls, benches, the robot to scale with its trail and the trail before."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field, Rig
from pivrex.tui.draw.ellipse import ellipse
from pivrex.tui.draw.picture import Dots, Picture

__all__ = ["Believed", "FieldScale", "draw_field", "field_ground"]

Floats = NDArray[np.float64]

NAMED = 40
"""Cells across; on a smaller drawing the names of round things would cover what is drawn."""


@dataclass(frozen=True)
class FieldScale:
    """Where the field lies in a picture: dots to the metre, and the cell of its top left corner."""

    per_m: float
    left: int
    top: int
    cells: tuple[int, int]
    width_m: float

    def x(self, x_m: Floats) -> Floats:
        """Dots across."""
        return np.asarray(x_m) * self.per_m

    def y(self, y_m: Floats) -> Floats:
        """Dots down."""
        return (self.width_m - np.asarray(y_m)) * self.per_m

    def cell(self, x_m: float, y_m: float) -> tuple[int, int]:
        """The cell that a point lies in."""
        return self.left + int(x_m * self.per_m / 2), self.top + int((self.width_m - y_m) * self.per_m / 4)


def scale_of(field: Field, width: int, height: int) -> FieldScale:
    """Fit a field into ``width`` × ``height`` cells, with room for its walls and its ruler."""
    per_m = max(1.0, min((width - 2) * 2 / field.length_m, (height - 3) * 4 / field.width_m))
    cells = (max(1, int(np.ceil(field.length_m * per_m / 2))), max(1, int(np.ceil(field.width_m * per_m / 4))))
    return FieldScale(per_m, 1 + max(0, (width - 2 - cells[0]) // 2), 1, cells, field.width_m)


def field_ground(field: Field, scale: FieldScale, width: int, height: int) -> Picture:
    """Draw what stands still, once for each size."""
    picture = Picture(width, height)
    left, top = scale.left, scale.top
    w, h = scale.cells
    picture.text(left - 1, top - 1, "╭" + "─" * w + "╮", "frame")
    picture.text(left - 1, top + h, "╰" + "─" * w + "╯", "frame")
    picture.down(left - 1, top, top + h)
    picture.down(left + w, top, top + h)
    picture.text(left + 1, top - 1, f" {field.name} {field.length_m:g} × {field.width_m:g} m ", "dim")
    for metre in range(int(field.length_m) + 1):
        x = left + min(w - 1, int(metre * scale.per_m / 2))
        picture.text(x, top + h + 1, str(metre) + (" m" if metre == 0 else ""), "dim")
        for other in range(int(field.width_m) + 1):
            y = top + min(h - 1, max(0, int((field.width_m - other) * scale.per_m / 4)))
            if 0 < metre < field.length_m and 0 < other < field.width_m:
                picture.text(x, y, "·", "ground")
    dots = Dots(w, h)
    solid = dots.layer("thing")
    for thing in field.blocks:
        rows = slice(
            _at(scale.y(np.array(thing.y_m + thing.width_m / 2))), _at(scale.y(np.array(thing.y_m - thing.width_m / 2)))
        )
        columns = slice(
            _at(scale.x(np.array(thing.x_m - thing.length_m / 2))),
            _at(scale.x(np.array(thing.x_m + thing.length_m / 2))),
        )
        part = solid[rows, columns]
        part[::2, ::2] = True
        part[1::2, 1::2] = True
        part[:1], part[-1:], part[:, :1], part[:, -1:] = True, True, True, True
    angle = np.linspace(0, 2 * np.pi, 72)
    for one in field.rounds:
        dots.path(
            solid, scale.x(one.x_m + one.radius_m * np.cos(angle)), scale.y(one.y_m + one.radius_m * np.sin(angle))
        )
    dots.onto(picture, left, top)
    for thing in field.blocks:
        x, y = scale.cell(thing.x_m, thing.y_m)
        if thing.length_m * scale.per_m / 2 > len(thing.name) + 2:
            picture.text(x - (len(thing.name) + 2) // 2, y, f" {thing.name} ", "dim")
    for one in field.rounds if w >= NAMED else ():
        # its name stands below it, inside the walls
        x, y = scale.cell(one.x_m, one.y_m - one.radius_m)
        place = min(max(left + 1, x - len(one.name) // 2), left + w - len(one.name) - 1)
        picture.text(place, min(y + 1, top + h - 1), one.name, "dim")
    return picture


def _at(dots: Floats) -> int:
    return max(0, round(float(dots)))


class Believed(NamedTuple):
    """Where a robot believes to be, x and y in m, heading in rad; and the covariance of its place, (2, 2) in m²."""

    pose: tuple[float, float, float]
    covariance: Floats


def _draw_belief(dots: Dots, scale: FieldScale, rig: Rig, believed: Believed) -> None:
    """Draw the believed robot dashed, and how far off it may be."""
    x, y, heading = believed.pose
    c, s = np.cos(heading), np.sin(heading)
    length, width = rig.chassis.length_m / 2, rig.chassis.width_m / 2
    layer = dots.layer("measured")
    corners = np.array([(length, width), (-length, width), (-length, -width), (length, -width), (length, width)])
    along, aside = corners.T
    dots.path(layer, scale.x(x + c * along - s * aside), scale.y(y + s * along + c * aside), every=2)
    round_ = ellipse(believed.covariance)
    if np.abs(round_).max() * scale.per_m > 1:  # smaller than a dot it says nothing
        dots.path(dots.layer("target"), scale.x(x + round_[0]), scale.y(y + round_[1]))


def draw_field(
    ground: Picture,
    scale: FieldScale,
    rig: Rig,
    pose: tuple[float, float, float],
    trail: Floats,
    ghost: Floats,
    blocked: bool,
    angles: Floats,
    sliding: NDArray[np.bool_] | None = None,
    believed: Believed | None = None,
) -> Picture:
    """Draw what moves onto the ground.

    Parameters
    ----------
    ground : Picture
        From `field_ground`; it is not changed.
    scale : FieldScale
    rig : Rig
        For the robot's size and wheels.
    pose : tuple
        x and y in m, heading in rad.
    trail, ghost : (N, 2) float64
        Where it has been, in m, now and the time before.
    blocked : bool
        Whether it stands against something.
    angles : (W,) float64
        Where the wheels point, in rad.
    sliding : (W,) bool, optional
        Which tyres slide.
    believed : Believed, optional
        Where it believes to be; drawn alone where nobody knows its true pose, which is NaN then.
    """
    picture = Picture(ground.width, ground.height)
    picture.place(ground, 0, 0)
    w, h = scale.cells
    dots = Dots(w, h)
    if len(ghost) > 1:
        dots.path(dots.layer("ghost"), scale.x(ghost[:, 0]), scale.y(ghost[:, 1]), every=4)
    if len(trail) > 1:
        dots.path(dots.layer("measured"), scale.x(trail[:, 0]), scale.y(trail[:, 1]), every=2)
    if believed is not None:
        _draw_belief(dots, scale, rig, believed)
        pose = pose if np.isfinite(pose).all() else believed.pose
    x, y, heading = pose
    c, s = np.cos(heading), np.sin(heading)

    def outline(points: list[tuple[float, float]]) -> tuple[Floats, Floats]:
        p = np.array(points)
        return scale.x(x + c * p[:, 0] - s * p[:, 1]), scale.y(y + s * p[:, 0] + c * p[:, 1])

    length, width = rig.chassis.length_m / 2, rig.chassis.width_m / 2
    body = dots.layer("alarm" if blocked else "rest")
    dots.path(body, *outline([(length, width), (-length, width), (-length, -width), (length, -width), (length, width)]))
    nose = dots.layer("commanded")
    dots.path(nose, *outline([(0, 0), (length * 1.9, 0)]))
    wheels, loose = dots.layer("alarm" if blocked else "rest"), dots.layer("alarm")
    for k, (wheel, angle) in enumerate(zip(rig.chassis.wheels, angles, strict=True)):
        along, aside = wheel.radius_m * np.cos(angle), wheel.radius_m * np.sin(angle)
        layer = loose if sliding is not None and sliding[k] else wheels
        dots.path(layer, *outline([(wheel.x_m - along, wheel.y_m - aside), (wheel.x_m + along, wheel.y_m + aside)]))
    if rig.chassis.casters:
        dots.points(wheels, *outline([(caster.x_m, caster.y_m) for caster in rig.chassis.casters]))
    dots.onto(picture, scale.left, scale.top)
    return picture
