"""The input stages of a line: the clock, sensed values, true values, readings."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, field
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Column, plain
from pivrex.line.stage import Stage, named
from pivrex.rig.attachments import ENCODED, has_shaft
from pivrex.rig.rig import Rig

__all__ = [
    "NOWHERE",
    "TRUTH",
    "Clock",
    "ClockColumns",
    "InputStage",
    "Raw",
    "RawColumns",
    "Sensed",
    "SensedRow",
    "Truth",
    "TruthRow",
    "sensed_columns",
    "sensed_form",
    "truth_columns",
    "truth_form",
]  # fmt: skip


class ClockColumns(Record):
    """Which tick it is, when, whether the robot must stand still, of rigs with calibrations of sources whose counts, and of those that
    balance whether the command is computed in this tick.
    """

    tick: Number = field()
    t: Number = field(unit="s")
    stopped: Flag = field()
    source: Numbers = field("calibrations")
    asks: Numbers = field("halves")


class RawColumns(Record):
    """The readings as the devices give them."""

    reading: Numbers = field("readings")


class SensedRow(Record):
    """The columns of the robot's sensors; see `sensed_columns`. A part that a rig does not have has size 0."""

    travel: Numbers = field("wheels", unit="m")
    speed: Numbers = field("wheels", unit="m/s")
    turned: Numbers = field("steered", unit="rad")
    absolute: Numbers = field("steered")
    gyro: Numbers = field("gyros", unit="rad")
    up: Numbers = field("sides", unit="g")
    at: Numbers = field("arms", unit="rad")
    shaft: Numbers = field("shafts", unit="rad")
    tilt: Numbers = field("tilts", unit="rad/s, g, g")
    readings: Numbers = field("sensors")
    battery: Numbers = field("batteries", unit="V")


class TruthRow(Record):
    """The columns of what is true of a simulated robot; see `truth_columns`. Behind the pose they have size 0 for a perfect one."""

    pose: Numbers = field(3, unit="m, m, rad")
    blocked: Numbers = field(1)
    battery: Numbers = field("bodies", unit="V")
    restart: Numbers = field("bodies", unit="s")
    lean: Numbers = field("leaning", unit="rad")
    slip: Numbers = field("tyres", unit="m/s")
    load: Numbers = field("tyres", unit="N")


def sensed_form(rig: Rig) -> Form:
    """Return how the sensed columns of a rig stand."""
    return Form(
        SensedRow, wheels=len(rig.chassis.wheels), steered=len(rig.steered), gyros=rig.gyro is not None,
        sides=rig.upside_down is not None, arms=sum(a.kind in ENCODED for a in rig.attachments.values()),
        shafts=sum(map(has_shaft, rig.attachments.values())), tilts=len(TILT) * (rig.tilt is not None),
        sensors=len(rig.sensors), batteries=rig.battery.sensed,
    )  # fmt: skip


def truth_form(rig: Rig) -> Form:
    """Return how the columns of what is true stand."""
    return Form(
        TruthRow,
        bodies=rig.has_realistic_physics,
        leaning=rig.may_lean,
        tyres=len(rig.chassis.wheels) if rig.has_realistic_physics else 0,
    )


def sensed_columns(rig: Rig) -> tuple[Column, ...]:
    """Return the columns of the robot's sensors, with the signs of the rig.

    Each wheel's travel and speed; of a steered one how far it has turned since the robot was switched on, and what its
    absolute sensor reads; the gyro's own heading and the upward acceleration where the rig has such sensors; where
    attachments with an encoder are (of a lift the angle of its drum), and how far motors with one have turned; the tilt
    sensor's rate and accelerations; what rangers and lamps read; the battery's voltage where it is sensed.
    """
    wheels = [plain(w.name) for w in rig.chassis.wheels]
    steered = [plain(w) for w in rig.steered]
    arms = [plain(n) for n, a in rig.attachments.items() if a.kind in ENCODED]
    return named(
        "sensed",
        *((f"{w}_travel", rig.way_unit) for w in wheels),
        *((f"{w}_speed", f"{rig.way_unit}/s") for w in wheels),
        *((f"{w}_turned", "rad") for w in steered),
        *((f"{w}_absolute", "") for w in steered),
        *([("gyro", "rad")] if rig.gyro is not None else []),
        *([("up", "g")] if rig.upside_down is not None else []),
        *((f"{a}_at", "rad") for a in arms),
        *((f"{plain(n)}_shaft", "rad") for n, a in rig.attachments.items() if has_shaft(a)),
        *(TILT if rig.tilt is not None else ()),
        *((plain(n), "m" if s.kind == "ranger" else "") for n, s in rig.sensors.items()),
        *([("battery", "V")] if rig.battery.sensed else []),
    )


TILT = (("lean_rate", "rad/s"), ("accel_forward", "g"), ("accel_up", "g"))
"""What a tilt sensor says: how fast the robot leans forward, and what holds it up, along its own axes."""

TRUTH = (("x", "m"), ("y", "m"), ("heading", "rad"), ("blocked", ""))
"""What is true of every simulated robot, whatever its sensors say: its pose, and whether it touches something."""


def truth_columns(rig: Rig) -> tuple[Column, ...]:
    """Return the columns of what is true of the simulated robot: of one with realistic physics also its battery's voltage, for how long its
    electronics still start again, how far it leans forward if it can, how fast each tyre slides over the floor, and the load on each wheel.
    """
    if not rig.has_realistic_physics:
        return named("truth", *TRUTH)
    wheels = [plain(w.name) for w in rig.chassis.wheels]
    slips, loads = ([(f"{w}_{what}", unit) for w in wheels] for what, unit in (("slip", "m/s"), ("load", "N")))
    return named(
        "truth", *TRUTH, ("battery", "V"), ("restart", "s"), *([("lean", "rad")] * rig.may_lean), *slips, *loads
    )


class InputStage(Stage):
    """Columns of inputs."""


class Clock(InputStage):
    """Which tick it is, whether the robot must stand still, and whose calibration counts."""

    name = "clock"

    def __init__(self, calibrated: bool, halves: bool) -> None:
        self.entry = 2
        """Where it stands whether a robot is stopped."""
        own = *([("source", "")] * calibrated), *([("asks", "")] * halves)
        self.columns = named("clock", ("tick", ""), ("t", "s"), ("stopped", ""), *own)
        self.form = Form(ClockColumns, calibrations=calibrated, halves=halves)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Clock:
        return cls(bool(inputs.calibrated), rig.asks_every > 1)


class Sensed(InputStage):
    """The sensed values before the tick."""

    name = "sensed"

    def __init__(self, rig: Rig) -> None:
        self.columns, self.form = sensed_columns(rig), sensed_form(rig)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Sensed:
        return cls(rig)


class Truth(InputStage):
    """The true state of the simulated robot; no stage reads it. NaN where it is unknown."""

    name = "truth"

    def __init__(self, rig: Rig) -> None:
        self.columns, self.form = truth_columns(rig), truth_form(rig)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Truth:
        return cls(rig)


class Raw(InputStage):
    """The readings as the devices give them."""

    name = "raw"

    def __init__(self, inputs: Inputs) -> None:
        self.columns = named("raw", *((n, "") for n in inputs.names))
        self.form = Form(RawColumns, readings=len(inputs.names))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Raw:
        return cls(inputs)


NOWHERE = np.array(np.nan)
"""The truth of a robot of which no one knows where it is, in every column."""
