"""Heading: how far the robot has turned by its gyro, and which of its sides is up."""

from __future__ import annotations

from types import MappingProxyType

from pivrex.kernels.maths import is_nan, nan
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["Heading", "HeadingColumns", "HeadingSettings", "HeadingState", "heading_step"]


class HeadingSettings(Record):
    """The gyro and the side sensor.

    Attributes
    ----------
    gyro_sign : float
        1, or -1 for a gyro that counts the other way; 0 without a gyro.
    threshold, up_sign : float
        Of the sensor that says which side is up, in g; ``up_sign`` is 0 without one.
    """

    is_settings = True

    gyro_sign: Number = field()
    threshold: Number = field(unit="g")
    up_sign: Number = field()


class HeadingColumns(Record):
    """The heading as seen from above, of rigs with a gyro, and whether the robot lies on its back, of rigs with a side sensor."""

    heading: Numbers = field("gyros", unit="rad")
    upside_down: Numbers = field("sides")


class HeadingState(Record):
    """The memory of the heading, B each: the gyro's last reading, in rad, NaN before the first; the heading as seen from above, in rad,
    unwrapped; and whether the robot lies on its back.
    """

    gyro: Number = field(unit="rad")
    heading: Number = field(unit="rad")
    upside_down: Flag = field()


@kernel
def heading_step(
    s: HeadingSettings, before: HeadingState, after: HeadingState, gyro: float, up: float, out: HeadingColumns
) -> None:
    """Take in the gyro, in rad, unwrapped, as the sensor counts; and the side sensor.

    ``up`` is what the side sensor reads, in g: the acceleration that holds the robot up, along the sensor's own axis. Times
    ``up_sign`` it is near 1 on the wheels and near -1 on the back. Either is anything where there is no such sensor.

    Notes
    -----
    The first heading is taken as it is, later ones are added up by their changes: on its back a robot that turns left as
    seen from above turns right for its own gyro. The side changes only when the sensor has passed the threshold on the
    other side of zero. (Own rules.)
    """
    after.gyro, after.heading, after.upside_down = gyro, before.heading, before.upside_down
    if s.up_sign != 0.0:
        level = up * s.up_sign
        if level < -s.threshold:
            after.upside_down = True
        elif level > s.threshold:
            after.upside_down = False
        out.upside_down[0] = 1.0 if after.upside_down else 0.0
    if s.gyro_sign != 0.0:
        sign = -s.gyro_sign if after.upside_down else s.gyro_sign
        after.heading = before.heading + sign * (gyro - before.gyro)
        if is_nan(after.heading):
            after.heading = gyro * s.gyro_sign
        out.heading[0] = after.heading


class Heading(Stage):
    """For every rig with a gyro or a side sensor, whatever its law."""

    name = "heading"
    begins = MappingProxyType({"gyro": nan})

    def __init__(self, settings: HeadingSettings) -> None:
        self.settings: HeadingSettings = settings
        gyro, up = bool(settings.gyro_sign), bool(settings.up_sign)
        self.form, self.memory = Form(HeadingColumns, gyros=gyro, sides=up), Form(HeadingState)
        self.columns = named("heading", *([("heading", "rad")] * gyro), *([("upside_down", "")] * up))
        self.kept_while = (float(settings.gyro_sign), float(settings.up_sign))

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
            Form(HeadingSettings).of(
                gyro_sign=0.0 if rig.gyro is None else -1.0 if rig.gyro.reversed else 1.0,
                threshold=up.threshold if up is not None else 0.0,
                up_sign=0.0 if up is None else -1.0 if up.reversed else 1.0,
            )
        )

    def rungs(self, tick: WheelTick) -> list[Rung]:
        if not self.settings.up_sign:
            return []
        upside_down = tick("heading", "upside_down")
        text = f"up {tick('sensed', 'up'):+.2f} g, threshold {self.settings.threshold:g} g → on its {'back' if upside_down else 'wheels'}"
        return [Rung("side", text, "upside_down.threshold", "! on its back" if upside_down else "")]
