"""Pointing: the present angles of the steered wheels, from encoders and absolute sensors."""

from __future__ import annotations

from types import MappingProxyType

from pivrex.kernels.maths import div, is_nan, nan, pi, wrap
from pivrex.kernels.records import Flags, Form, Numbers, Record, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.layout import plain
from pivrex.line.stage import Stage, named
from pivrex.rig.rig import Rig

__all__ = ["Pointing", "PointingColumns", "PointingSettings", "PointingState", "pointing_step"]


class PointingSettings(Record):
    """The sensors of W wheels, S of them steered. Wheels that are not steered stand at their drive direction.

    Attributes
    ----------
    steers : (W,)
        The place of each wheel among the steered ones, -1 for one that is not.
    fixed : (W,)
        The drive direction of each wheel, in rad; 0 for steered ones.
    by_sensor : (S,) flags
        Wheels without an encoder, whose angle is the absolute sensor's.
    full, offset, sense : (S,)
        Of the absolute sensors: the reading of a whole turn, the angle it reads straight ahead, 1 or -1. Without a
        sensor ``full`` is NaN: the wheel is taken to point straight ahead at the start.
    """

    is_settings = True

    steers: Wholes = field("pointing")
    fixed: Numbers = field("pointing", unit="rad")
    by_sensor: Flags = field("steered")
    full: Numbers = field("steered")
    offset: Numbers = field("steered", unit="rad")
    sense: Numbers = field("steered")


class PointingColumns(Record):
    """Where each wheel points, of rigs with steered wheels."""

    angle: Numbers = field("pointing", unit="rad")


class PointingState(Record):
    """The memory of pointing: offsets of the encoders' angles, B + (S,) in rad, NaN before the first tick; and the last angles of the
    wheels, B + (W,) in rad, unwrapped.
    """

    zero: Numbers = field("steered", unit="rad")
    angle: Numbers = field("pointing", unit="rad")


@kernel
def pointing_step(
    s: PointingSettings, before: PointingState, after: PointingState, sensed: SensedRow, out: PointingColumns
) -> None:
    """Compute the angles of the wheels: at the start from the absolute sensors, sense·(2π·reading/full - offset), then by the changes of the
    encoders. A wheel without an encoder follows its sensor.
    """
    for k in range(len(s.steers)):
        i = s.steers[k]
        if i < 0:
            after.angle[k] = s.fixed[k]
        else:
            share = 0.0 if is_nan(s.full[i]) else div(sensed.absolute[i], s.full[i])
            sensor = s.sense[i] * (share * 2.0 * pi - s.offset[i])
            begins = is_nan(before.zero[i])
            after.zero[i] = wrap(sensor) - sensed.turned[i] if begins else before.zero[i]
            if s.by_sensor[i]:
                near = wrap(sensor) if begins else before.angle[k]
                after.angle[k] = near + wrap(sensor - near)
            else:
                after.angle[k] = sensed.turned[i] + after.zero[i]
        out.angle[k] = after.angle[k]


class Pointing(Stage):
    """For rigs with steered wheels."""

    name = "pointing"
    begins = MappingProxyType({"zero": nan})

    def __init__(self, rig: Rig) -> None:
        assert rig.steering is not None
        wheels, steered = rig.chassis.wheels, list(rig.steered)
        motors = [rig.steering.wheels[name] for name in steered]
        sensors = [m.sensor for m in motors]
        self.settings: PointingSettings = Form(PointingSettings, pointing=len(wheels), steered=len(steered)).of(
            steers=[steered.index(w.name) if w.steered else -1 for w in wheels],
            fixed=[0.0 if w.steered else w.drive_rad for w in wheels],
            by_sensor=[m.counts_per_turn == 0 for m in motors],
            full=[s.full if s is not None else nan for s in sensors],
            offset=[s.offset_rad if s is not None else 0.0 for s in sensors],
            sense=[-1.0 if s is not None and s.reversed else 1.0 for s in sensors],
        )
        self.form, self.memory = self.form_of(rig), Form(PointingState, pointing=len(wheels), steered=len(steered))
        self.columns = named("pointing", *((f"{plain(w.name)}_angle", "rad") for w in wheels))
        self.kept_while = (
            rig.steered, *(getattr(self.settings, k).tobytes() for k in ("by_sensor", "full", "offset", "sense")),
        )  # fmt: skip

    @staticmethod
    def form_of(rig: Rig) -> Form:
        """Return how the columns stand; of size 0 for a rig without."""
        return Form(PointingColumns, pointing=len(rig.chassis.wheels) if rig.steered else 0)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Pointing | None:
        return cls(rig) if rig.steering is not None and rig.steered else None
