"""Heading: how far the robot has turned by its gyro, and which side of it is up."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.kernels.records import Form, Numbers, Record, field
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["Heading", "HeadingColumns", "HeadingSettings", "HeadingState", "orient"]


@dataclass(frozen=True)
class HeadingSettings:
    """The gyro and the side sensor.

    Attributes
    ----------
    gyro_sign : float
        1, or -1 for a gyro that counts the other way; 0 without a gyro.
    threshold, up_sign : float
        Of the sensor that says which side is up, in g; ``up_sign`` is 0 without one.
    """

    gyro_sign: float
    threshold: float
    up_sign: float


class HeadingColumns(Record):
    """The heading as seen from above, of rigs with a gyro, and whether the robot lies on its back, of rigs with a side sensor."""

    heading: Numbers = field("gyros", unit="rad")
    upside_down: Numbers = field("sides")


class HeadingState(NamedTuple):
    """What is remembered, of shape B each: what the gyro said last, in rad, NaN before it has said anything; the heading
    as seen from above, in rad, unwrapped; and 1 while the robot lies on its back.
    """

    gyro: Floats
    heading: Floats
    upside_down: Floats


def orient(settings: HeadingSettings, state: HeadingState, gyro: Floats, up: Floats) -> HeadingState:
    """Take in the gyro and the side sensor.

    Parameters
    ----------
    settings : HeadingSettings
    state : HeadingState
    gyro : B float64
        The gyro's heading in rad, unwrapped, as the sensor counts; anything without one.
    up : B float64
        What the side sensor reads, in g: the acceleration that holds the robot up, along the sensor's own axis. Times
        ``up_sign`` it is near 1 on the wheels and near -1 on the back. Anything where there is no such sensor.

    Returns
    -------
    HeadingState

    Notes
    -----
    The first heading is taken as it is, later ones are added up by their changes: on its back a robot that turns left as
    seen from above turns right for its own gyro. The side changes only when the sensor has passed the threshold on the
    other side of zero. (Own rules.)
    """
    upside_down, heading = state.upside_down, state.heading
    if settings.up_sign:
        level = up * settings.up_sign
        upside_down = np.where(level < -settings.threshold, 1.0, np.where(level > settings.threshold, 0.0, upside_down))
    if settings.gyro_sign:
        sign = (
            np.where(upside_down > 0, -settings.gyro_sign, settings.gyro_sign)
            if settings.up_sign
            else settings.gyro_sign
        )
        heading = heading + sign * (gyro - state.gyro)
        unknown = heading != heading  # noqa: PLR0124 - NaN is not itself
        if some(unknown):
            heading = np.where(unknown, gyro * settings.gyro_sign, heading)
    return HeadingState(gyro, heading, upside_down)


class Heading(Stage):
    """For every rig with a gyro or a side sensor, whatever its law."""

    name = "heading"
    reads: tuple[str, ...] = ("sensed", "zeroing")

    def __init__(self, settings: HeadingSettings) -> None:
        self.settings: HeadingSettings = settings
        gyro, up = bool(settings.gyro_sign), bool(settings.up_sign)
        self.columns = named("heading", *([("heading", "rad")] * gyro), *([("upside_down", "")] * up))
        self.kept_while = (settings.gyro_sign, settings.up_sign)

    @staticmethod
    def form_of(rig: Rig) -> Form:
        """Return how the columns stand; of size 0 for a rig without."""
        return Form(HeadingColumns, gyros=rig.gyro is not None, sides=rig.upside_down is not None)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Heading | None:
        if rig.gyro is None and rig.upside_down is None:
            return None
        up = rig.upside_down
        return cls(
            HeadingSettings(
                gyro_sign=0.0 if rig.gyro is None else -1.0 if rig.gyro.reversed else 1.0,
                threshold=up.threshold if up is not None else 0.0,
                up_sign=0.0 if up is None else -1.0 if up.reversed else 1.0,
            )
        )

    def place(self, layout: Layout) -> None:
        zeroed = layout.has("zeroing", "gyro")
        self._gyro = layout.at("zeroing" if zeroed else "sensed", "gyro") if self.settings.gyro_sign else 0
        self._up = layout.at("sensed", "up") if self.settings.up_sign else 0
        self._heading = layout.at("heading", "heading") if self.settings.gyro_sign else -1
        self._upside_down = layout.at("heading", "upside_down") if self.settings.up_sign else -1

    def start(self, batch: tuple[int, ...]) -> HeadingState:
        none = np.zeros(batch)
        return HeadingState(np.full(batch, np.nan), none, none)

    def step(self, state: HeadingState, row: Floats) -> HeadingState:
        after = orient(self.settings, state, row[..., self._gyro] + 0.0, row[..., self._up])
        if self._heading >= 0:
            row[..., self._heading] = after.heading
        if self._upside_down >= 0:
            row[..., self._upside_down] = after.upside_down
        return after

    def rungs(self, told: Told) -> list[Rung]:
        if self._upside_down < 0:
            return []
        upside_down = told("heading", "upside_down")
        text = f"up {told('sensed', 'up'):+.2f} g, threshold {self.settings.threshold:g} g → on its {'back' if upside_down else 'wheels'}"
        return [Rung("side", text, "upside_down.threshold", "! on its back" if upside_down else "")]
