"""The field from above: walls, benches, the robot to scale with its trail and the trail before."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field, Rig
from pivrex.tui.draw.attachment_bar import Standing, lay_attachments
from pivrex.tui.draw.ellipse import ellipse
from pivrex.tui.draw.field_scale import FieldScale
from pivrex.tui.draw.picture import Areas, Dots, Picture
from pivrex.tui.draw.small_robot import lay_robot, outline_robot, placed

__all__ = ["Believed", "draw_field", "field_ground"]

Floats = NDArray[np.float64]

NAMED = 40
"""Cells across; on a smaller drawing the names of round things would cover what is drawn."""


LEAST_OFF = 2.0
"""Dots: a belief that is nearer to the truth than this would only hide the robot."""


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
    areas = Areas(w, h)
    floor, solid = areas.layer("floor"), areas.layer("bench")
    areas.box(floor, *(float(v) for v in (scale.x(0.0), scale.y(field.width_m), scale.x(field.length_m), scale.y(0.0))))
    for thing in field.blocks:
        x, y, half_l, half_w = thing.x_m, thing.y_m, thing.length_m / 2, thing.width_m / 2
        box = (scale.x(x - half_l), scale.y(y + half_w), scale.x(x + half_l), scale.y(y - half_w))
        if float(box[2]) > 0 and float(box[0]) < 2 * w and float(box[3]) > 0 and float(box[1]) < 4 * h:
            areas.box(solid, *(float(v) for v in box))
    for one in field.rounds:
        areas.disc(solid, float(scale.x(one.x_m)), float(scale.y(one.y_m)), max(1.0, one.radius_m * scale.per_m))
    areas.onto(picture, left, top)
    _rule(picture, field, scale)
    for thing in field.blocks:
        x, y = scale.cell(thing.x_m, thing.y_m)
        room = thing.length_m * scale.per_m / 2 > len(thing.name) + 2
        if room and scale.holds(x - len(thing.name) // 2, y) and scale.holds(x + len(thing.name) // 2, y):
            picture.text(x - len(thing.name) // 2, y, thing.name, "title")
    for one in field.rounds if w >= NAMED else ():
        # its name stands below it, inside the walls
        x, y = scale.cell(one.x_m, one.y_m - one.radius_m)
        if not scale.holds(x, y):
            continue
        place = min(max(left + 1, x - len(one.name) // 2), left + w - len(one.name) - 1)
        picture.text(place, min(y + 1, top + h - 1), one.name, "rest")
    return picture


def _rule(picture: Picture, field: Field, scale: FieldScale) -> None:
    """Mark whole metres: in numbers below, by points on the floor."""
    left, top = scale.left, scale.top
    w, h = scale.cells
    first = max(0, int(np.ceil(scale.left_m - 1e-9)))
    for metre in range(first, int(field.length_m) + 1):
        x = (
            left + min(w - 1, int((metre - scale.left_m) * scale.per_m / 2))
            if scale.left_m == 0
            else scale.cell(metre, 0)[0]
        )
        if not left <= x < left + w:
            continue
        picture.text(x, top + h + 1, str(metre) + (" m" if metre == first else ""), "dim")
        for other in range(int(field.width_m) + 1):
            y = scale.cell(0.0, float(other))[1]
            if (
                0 < metre < field.length_m
                and 0 < other < field.width_m
                and top <= y < min(top + h, picture.height)
                and x < picture.width
                and picture.chars[y, x] == " "
            ):
                picture.text(x, y, "·", "ground")


class Believed(NamedTuple):
    """Where a robot believes to be, x and y in m, heading in rad; and the covariance of its place, (2, 2) in m²."""

    pose: tuple[float, float, float]
    covariance: Floats


def _draw_belief(dots: Dots, scale: FieldScale, rig: Rig, believed: Believed, pose: tuple[float, float, float]) -> None:
    """Draw the believed robot dashed where it is not where the true one is, and how far off it may be."""
    x, y, heading = believed.pose
    off = np.hypot(x - pose[0], y - pose[1]) * scale.per_m
    turned = abs(np.sin((heading - pose[2]) / 2)) * rig.chassis.length_m * scale.per_m
    if not off + turned < LEAST_OFF:
        outline_robot(dots, scale, rig, believed.pose, "measured", every=2)
    round_ = ellipse(believed.covariance)
    if np.abs(round_).max() > rig.chassis.width_m / 2:  # within the robot it would only hide it
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
    standings: list[Standing] | None = None,
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
    standings : list of Standing, optional
        What stands of its attachments, where they shall be drawn.
    """
    picture = Picture(ground.width, ground.height)
    picture.place(ground, 0, 0)
    w, h = scale.cells
    dots = Dots(w, h)
    if len(ghost) > 1:
        dots.path(dots.layer("ghost"), scale.x(ghost[:, 0]), scale.y(ghost[:, 1]), every=4)
    if len(trail) > 1:
        dots.path(dots.layer("measured"), scale.x(trail[:, 0]), scale.y(trail[:, 1]), every=2)
    dots.onto(picture, scale.left, scale.top)
    known = bool(np.isfinite(pose).all())
    if believed is not None and not known:
        pose = believed.pose
    areas = Areas(w, h)
    lay_robot(areas, scale, rig, pose, angles, "limit" if blocked else "hull", sliding)
    if standings:
        lay_attachments(areas, lambda x, y: placed(scale, pose, np.stack((x, y), axis=1)), scale.per_m, rig, standings)
    areas.onto(picture, scale.left, scale.top)
    over = Dots(w, h)
    if believed is not None:
        _draw_belief(over, scale, rig, believed, pose if known else (np.nan, np.nan, np.nan))
    over.onto(picture, scale.left, scale.top)
    return picture
