"""Steering: the target angle of each steered wheel, its allowed speed meanwhile, and the loop that turns it."""

from __future__ import annotations

from types import MappingProxyType

import numpy as np

from pivrex.kernels.maths import atan2, copysign, cos, div, hypot, is_nan, nan, pi, sin, wrap
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, Wholes, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.input_stages import ClockColumns
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import without_dust
from pivrex.line.layout import plain
from pivrex.line.limits import LimitsColumns
from pivrex.line.pid import PidSettings, pid
from pivrex.line.pointing import PointingColumns
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["SteerSettings", "SteerState", "Steering", "SteeringColumns", "short_ways", "steering_step"]

NEARLY = 1e-9
"""What counts as nothing compared with 1."""

DUST = 1e-8
"""A drive below this is rounding: none."""


class SteerSettings(Record):
    """The steering of W wheels, S of them steered.

    Attributes
    ----------
    steers : (W,)
        The place of each wheel among the steered ones, -1 for one that is not.
    inward : (W,)
        Where each wheel points to hold the ground: along the line to the centre.
    threshold : (W,)
        In m/s; 0 for wheels that are not steered.
    cosine : flag
    loop : PidSettings
        From the angle that is missing, in rad, to the rate that is wanted, in rad/s: p in 1/s, i in 1/s², d without a unit,
        largest in rad/s.
    per_top : (S,)
        The drive, a fraction, for each rad/s; negative for a reversed motor.
    dt : float
    hold : int
        The column of the bindings that holds the ground, -1 for none.
    """

    is_settings = True

    steers: Wholes = field("pointing")
    inward: Numbers = field("pointing", unit="rad")
    threshold: Numbers = field("pointing", unit="m/s")
    cosine: Flag = field()
    loop: PidSettings = part()
    per_top: Numbers = field("steered", unit="s/rad")
    dt: Number = field(unit="s")
    hold: Whole = field()


class SteerState(Record):
    """The memory of steering: the target angles of the wheels, NaN before the first tick, and their last angles, B + (W,) in rad; the loop's
    integral, B + (S,) in rad·s.
    """

    target: Numbers = field("pointing", unit="rad")
    angle: Numbers = field("pointing", unit="rad")
    missed: Numbers = field("steered", unit="rad s")


class SteeringColumns(Record):
    """The commands of steered wheels: the angle of each, whether it runs reversed (-1) because that is shorter, the share of its speed while
    its angle has an error, its surface speed with both; and the drives of the steering motors.
    """

    target: Numbers = field("pointing", unit="rad")
    way: Numbers = field("pointing")
    share: Numbers = field("pointing")
    speed: Numbers = field("pointing", unit="m/s")
    drive: Numbers = field("steered")


@kernel
def inward_angle(inward: float, angle: float) -> float:
    """Return how far a wheel turns to point along the line to the centre, the short way, in rad."""
    missing = wrap(inward - angle)
    return missing - copysign(pi, missing) if abs(missing) > pi / 2.0 else missing


@kernel
def aim_wheel(
    s: SteerSettings, k: int, before: float, angle: float, forward: float, left: float, size: float, hold: bool,
    out: SteeringColumns,
) -> None:  # fmt: skip
    """Choose where a wheel points and how fast it rolls.

    ``before`` is where it was to point until now and ``angle`` where it points, in rad; ``forward`` and ``left`` are the velocity that it
    must have over the ground, ``size`` its length; with ``hold`` all wheels point inwards and stand.

    Notes
    -----
    The short way to an angle is at most a quarter turn: a wheel that would have to turn farther goes to the opposite
    angle and runs reversed; at exactly a quarter it does not. With e the angle still missing the share is cos e, so that a
    wheel rolls with what of the wanted velocity lies along it.
    """
    # in the wheel's own directions, at its present angle
    c, sn = cos(angle), sin(angle)
    along, across = forward * c + left * sn, left * c - forward * sn
    driven = size > s.threshold[k]
    reach = abs(along)
    way = -1.0 if along < -NEARLY * size else 1.0
    target = angle + atan2(across * way, reach) if driven else before
    if hold:
        target, driven = angle + inward_angle(s.inward[k], angle), False
    out.target[k], out.way[k], out.share[k], out.speed[k] = target, way, 1.0, 0.0
    if driven:
        if s.cosine:
            out.share[k] = div(reach, size)
        out.speed[k] = along if s.cosine else way * size


@kernel
def steering_step(
    s: SteerSettings, before: SteerState, after: SteerState, clock: ClockColumns, limits: LimitsColumns, pointing: PointingColumns,
    bindings: BindingsColumns, out: SteeringColumns,
) -> None:  # fmt: skip
    """Choose where each wheel points, and drive the steering motors there."""
    hold = s.hold >= 0 and bindings.value[max(s.hold, 0)] >= 0.5
    for k in range(len(s.steers)):
        angle = pointing.angle[k]
        begins = is_nan(before.target[k])
        target, last = angle if begins else before.target[k], angle if begins else before.angle[k]
        aim_wheel(s, k, target, angle, limits.hub[2 * k], limits.hub[2 * k + 1], limits.limited[k], hold, out)
        after.target[k], after.angle[k] = out.target[k], angle
        i = s.steers[k]
        if i >= 0:
            output, missed = pid(s.loop, i, before.missed[i], out.target[k] - angle, div(angle - last, s.dt), s.dt)
            out.drive[i], after.missed[i] = without_dust(output * s.per_top[i], DUST), missed
            if clock.stopped:
                out.drive[i], after.missed[i] = 0.0, 0.0


def short_ways(settings: SteerSettings, pointing: Floats, wanted: Floats) -> tuple[Floats, Floats]:
    """Return where wheels that point along ``pointing``, (W,) in rad, turn for velocities, (W, 2) in m/s, and their speeds then, (W,), in
    m/s, cosines left out.
    """
    own = settings._replace(cosine=False).plain
    out = Form(SteeringColumns, pointing=len(pointing), steered=0).start().plain
    for k, (angle, (forward, left)) in enumerate(zip(pointing.tolist(), wanted.tolist(), strict=True)):
        aim_wheel(own, k, angle, angle, forward, left, hypot(forward, left), False, out)
    return np.array(out.target), np.array(out.speed)


class Steering(Stage):
    """For rigs with steered wheels: targets, what is left of the speeds, and the drives of the steering motors."""

    name = "steering"
    begins = MappingProxyType({"target": nan})

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        assert rig.steering is not None
        self._rig = rig
        wheels, steered = rig.chassis.wheels, list(rig.steered)
        motors = [rig.steering.wheels[name] for name in steered]
        top = np.array([m.top_rad_s for m in motors])
        gains = Form(PidSettings, loops=len(steered))
        sizes = {"pointing": len(wheels), "steered": len(steered)}
        self.settings: SteerSettings = Form(SteerSettings, **sizes, loop=gains).of(
            steers=[steered.index(w.name) if w.steered else -1 for w in wheels],
            inward=[np.arctan2(w.y_m, w.x_m) if w.steered else w.drive_rad for w in wheels],
            threshold=[rig.steering.threshold_m_s if w.steered else 0.0 for w in wheels],
            cosine=rig.steering.cosine == "on",
            loop=gains.of(
                p=[m.p_per_s for m in motors],
                i=[m.i for m in motors],
                d=[m.d for m in motors],
                largest=np.minimum(top, [m.rate_rad_s if m.rate_rad_s is not None else np.inf for m in motors]),
            ),
            per_top=np.array([-1.0 if m.reversed else 1.0 for m in motors]) / top,
            dt=rig.ask_dt_s,
            hold=column_of(rig, inputs, "hold"),
        )
        self.form, self.memory = Form(SteeringColumns, **sizes), Form(SteerState, **sizes)
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self._steered = [plain(n) for n in rig.steered]
        parts = (("target", "rad"), ("way", ""), ("share", ""), ("speed", "m/s"))
        each = [(f"{w}_{part}", unit) for part, unit in parts for w in self._wheels]
        self.columns = named("steering", *each, *((f"{w}_drive", "") for w in self._steered))
        self.kept_while = (rig.steered, len(self._wheels))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Steering | None:
        return cls(rig, inputs) if rig.steering is not None and rig.steered else None

    # --- explanation ---

    def phrases(self, tick: WheelTick) -> list[str]:
        if not self._rig.chassis.wheels[tick.w].steered:
            return []
        target, angle = self._angles(tick)
        output, speed = tick("limits", f"{tick.column}_limited"), tick("steering", f"{tick.column}_speed")
        parts = [f"to {target:.0f} deg, points {angle:.0f} deg"]
        if tick("steering", f"{tick.column}_way") < 0:
            parts[0] += ", reversed"
        if abs(abs(speed) - output) > NOTHING:
            share = tick("steering", f"{tick.column}_share")
            parts[0] += f", cosine {share:.2f}" if share < 1 else ""
        return [f"{parts[0]}: {speed:.2f} m/s"]

    def _angles(self, tick: WheelTick) -> tuple[float, float]:
        target = np.degrees(tick("steering", f"{tick.column}_target"))
        return wrap_deg(float(target)), wrap_deg(float(np.degrees(tick("pointing", f"{tick.column}_angle"))))

    def rungs(self, tick: WheelTick) -> list[Rung]:
        if not self._rig.chassis.wheels[tick.w].steered:
            return []
        target, angle = self._angles(tick)
        missing = abs(np.degrees(tick("steering", f"{tick.column}_target") - tick("pointing", f"{tick.column}_angle")))
        return [
            Rung(
                "steer",
                f"{tick('limits', f'{tick.column}_limited'):+.3f} m/s, points {angle:+.1f} deg, target {target:+.1f} deg, "
                f"share {tick('steering', f'{tick.column}_share'):.2f} → {tick('steering', f'{tick.column}_speed'):+.3f} m/s",
                f"steering.wheels.{tick.wheel}.p",
                "still turning" if missing > 2 else "",
            )
        ]
