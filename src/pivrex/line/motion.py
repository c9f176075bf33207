"""Motion: what the wheels do together, how far they disagree, and how fast tyres slide sideways."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import cos, hypot, larger, sin
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.heading import HeadingColumns
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of, side_of
from pivrex.line.layout import Layout
from pivrex.line.pointing import PointingColumns
from pivrex.line.stage import Stage, named
from pivrex.rig.rig import Rig

__all__ = ["MotionColumns", "MotionScratch", "MotionSettings", "WheelsMotion", "motion_step", "speeds_at"]


class MotionSettings(Record):
    """The maps from W wheels: twist, what is left of the wheels, side slips.

    Attributes
    ----------
    forward : (2, 3, W·D)
        On its wheels, and on its back; D is 2 where wheels are steered.
    left : (2, L, W·D)
        What is left of the wheels; of none that never disagree.
    slide : (2, P, W·D)
        The side slip of the plain wheels; of none that never slip.
    steered : flag
        Whether D is 2.
    """

    is_settings = True

    forward: Numbers = field(2, 3, "parts")
    left: Numbers = field(2, "left", "parts")
    slide: Numbers = field(2, "slides", "parts")
    steered: Flag = field()


class MotionScratch(Record):
    """The wheels, as the maps take them."""

    is_scratch = True

    wheels: Numbers = field("parts", unit="m/s")


class MotionColumns(Record):
    """The motion of the commanded wheel speeds: the twist, the largest residual of a wheel, the largest side slip."""

    twist: Numbers = field(3, unit="m/s, m/s, rad/s")
    residual: Number = field(unit="m/s")
    scrub: Number = field(unit="m/s")


@kernel
def row_sum(row: Numbers, values: Numbers, many: int) -> float:
    """Return the sum of products."""
    total = 0.0
    for k in range(many):
        total += row[k] * values[k]
    return total


@kernel
def motion_step(
    s: MotionSettings, w: MotionScratch, speeds: Numbers, pointing: PointingColumns, heading: HeadingColumns, out: MotionColumns,
) -> None:  # fmt: skip
    """Write what wheels achieve together at their surface speeds: the residual is the length of what the wheel that disagrees most has
    left, the scrub the greatest side slip of a plain wheel.
    """
    many = len(w.wheels)
    side = side_of(heading)
    if s.steered:
        for k in range(len(pointing.angle)):
            w.wheels[2 * k], w.wheels[2 * k + 1] = (
                speeds[k] * cos(pointing.angle[k]),
                speeds[k] * sin(pointing.angle[k]),
            )
    else:
        for k in range(many):
            w.wheels[k] = speeds[k]
    for i in range(3):
        out.twist[i] = row_sum(s.forward[side][i], w.wheels, many)
    out.residual, out.scrub = 0.0, 0.0
    before = 0.0
    for k in range(len(s.left[side])):
        left = row_sum(s.left[side][k], w.wheels, many)
        if not s.steered:
            out.residual = larger(out.residual, abs(left))
        elif k % 2 == 1:
            out.residual = larger(out.residual, hypot(before, left))
        before = left
    for k in range(len(s.slide[side])):
        out.scrub = larger(out.scrub, abs(row_sum(s.slide[side][k], w.wheels, many)))


class WheelsMotion(Stage):
    """The motion of the commanded wheel speeds. No later stage reads it."""

    name = "motion"

    def __init__(self, rig: Rig) -> None:
        both = [kinematics_of(rig.chassis), kinematics_of(rig.chassis, upside_down=True)]
        exact = not any(m.disagree.any() or m.slide.any() for m in both)
        parts = both[0].forward.shape[1]
        left, slides = (0, 0) if exact else (len(both[0].disagree), len(both[0].slide))
        self.settings: MotionSettings = Form(MotionSettings, parts=parts, left=left, slides=slides).of(
            forward=[m.forward for m in both],
            left=np.array([m.disagree[:left] for m in both]),
            slide=np.array([m.slide[:slides] for m in both]).reshape(2, slides, parts),
            steered=both[0].hubs is not None,
        )
        self.form, self.scratch = Form(MotionColumns), Form(MotionScratch, parts=parts)
        self.columns = named(
            "motion", ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"), ("residual", "m/s"), ("scrub", "m/s")
        )

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> WheelsMotion:
        return cls(rig)


def speeds_at(layout: Layout, wheels: list[str]) -> slice:
    """Return the places of the commanded surface speeds of wheels: after steering where there is any, else the limits'."""
    if layout.has("steering", f"{wheels[0]}_speed"):
        return layout.these("steering", [f"{w}_speed" for w in wheels])
    return layout.these("limits", [f"{w}_limited" for w in wheels])
