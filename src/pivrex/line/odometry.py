"""Odometry: the robot's estimated pose, from the distances of its wheels and its turns, with the covariance."""

from __future__ import annotations

from math import nan
from types import MappingProxyType
from typing import Any

import numpy as np

from pivrex.kernels.maths import cos, hypot, is_nan, sin, wrap
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.covariance import Covariance, Doubts, grow, measured
from pivrex.line.heading import HeadingColumns
from pivrex.line.input_stages import SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of
from pivrex.line.layout import plain
from pivrex.line.pointing import PointingColumns
from pivrex.line.se2 import displaced
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["Odometry", "OdometryColumns", "OdometrySettings", "OdometryState", "odometry_step"]

STANDS_RAD_S, STANDS_M_S = 0.02, 0.004
"""Wheels that turn the robot no faster, and roll no faster, stand."""

BLIND = 0.15
"""At least so much of every way, and of every turn by wheels, is unsure where no encoder says whether it was driven, one sigma."""


class OdometrySettings(Record):
    """How a robot computes where it is.

    Attributes
    ----------
    forward : (2, 3, W·D)
        The forward map, on its wheels and on its back.
    steered : flag
        Whether wheels' distances have two parts, along where they point.
    by_gyro : flag
        Whether the gyro says how far it turns.
    pivot : float
        How far ahead of the centre the point lies about which the wheels turn the robot, in m.
    doubts : Doubts
    dt : float
        In s.
    """

    is_settings = True

    forward: Numbers = field(2, 3, "ways")
    steered: Flag = field()
    by_gyro: Flag = field()
    pivot: Number = field(unit="m")
    doubts: Doubts = part()
    dt: Number = field(unit="s")


class OdometryState(Record):
    """The memory of odometry.

    Attributes
    ----------
    pose : B + (3,) float64
        x and y in m, heading in rad, unwrapped.
    covariance : Covariance
    travels : B + (W,) float64
        How far the wheels had rolled; NaN before the first tick.
    angles : B + (W,) float64
        Where they pointed, of steered chassis; else B + (0,).
    gyro : B float64
        The heading by the gyro; NaN before it has spoken.
    commanded : B + (3,) float64
        The motion that was commanded in the tick before, in m/s and rad/s: what is left to robots without encoders.
    apart : B + (3,) float64
        By how much wheels say more turn than the gyro since the pose was set, in rad: while they stood; in the direction in which they
        turned it; and how far they turned it, either way.
    """

    pose: Numbers = field(3, unit="m, m, rad")
    covariance: Covariance = part()
    travels: Numbers = field("wheels", unit="m")
    angles: Numbers = field("pointing", unit="rad")
    gyro: Number = field(unit="rad")
    commanded: Numbers = field(3, unit="m/s, m/s, rad/s")
    apart: Numbers = field(3, unit="rad")


class OdometryColumns(Record):
    """The estimated pose, the displacement of the tick in the body's directions, its covariance, and what wheels and gyro disagree about."""

    pose: Numbers = field(3, unit="m, m, rad")
    forward: Number = field(unit="m")
    left: Number = field(unit="m")
    turn: Number = field(unit="rad")
    covariance: Numbers = field(6)
    apart: Numbers = field(3, unit="rad")


@kernel
def rolled_since(before: float, now: float) -> float:
    """Return how far a wheel rolled; 0 if nothing is known of where it was."""
    return now - now if is_nan(before) else now - before


@kernel
def middle_angle(before: float, now: float) -> float:
    """Return where a wheel pointed in the middle of a tick; where it does now if nothing is known of where it did before."""
    middle = before + 0.5 * wrap(now - before)
    return now if is_nan(middle) else middle


@kernel
def wheels_say(
    s: OdometrySettings, before: OdometryState, sensed: SensedRow, pointing: PointingColumns, side: int, row: int
) -> float:
    """Return a part of the displacement that the wheels say, in the body's directions: forward, left or turn."""
    total = 0.0
    for k in range(len(before.travels)):
        rolled = rolled_since(before.travels[k], sensed.travel[k])
        if s.steered:
            angle = middle_angle(before.angles[k], pointing.angle[k])
            total += s.forward[side][row][2 * k] * (rolled * cos(angle)) + s.forward[side][row][2 * k + 1] * (
                rolled * sin(angle)
            )
        else:
            total += s.forward[side][row][k] * rolled
    return total


@kernel
def odometry_step(
    s: OdometrySettings, before: OdometryState, after: OdometryState, sensed: SensedRow, heading: HeadingColumns,
    pointing: PointingColumns, out: OdometryColumns,
) -> None:  # fmt: skip
    """Put the tick's displacement onto the pose before it: by the wheels, the turn by the gyro where it counts."""
    side = 0
    if len(heading.upside_down) > 0 and heading.upside_down[0] > 0.0:
        side = 1
    forward, left = wheels_say(s, before, sensed, pointing, side, 0), wheels_say(s, before, sensed, pointing, side, 1)
    by_wheels = wheels_say(s, before, sensed, pointing, side, 2)
    silent = is_nan(forward)
    if silent:
        forward, left, by_wheels = before.commanded[0] * s.dt, before.commanded[1] * s.dt, before.commanded[2] * s.dt
    turn = by_wheels
    for i in range(3):
        after.apart[i] = before.apart[i]
    after.gyro = before.gyro
    if len(heading.heading) > 0:
        by_gyro = heading.heading[0] - before.gyro
        heard = not is_nan(by_gyro)
        if heard and s.by_gyro:
            turn = by_gyro
        disagreement(s, after, forward, left, by_wheels, by_gyro if heard and not silent else by_wheels)
        after.gyro = heading.heading[0]
    left -= s.pivot * turn
    dx, dy = displaced(before.pose[2], forward, left, turn)
    left_x, left_y = 0.0, 0.0
    if s.doubts.pivot_off != 0.0:
        middle = before.pose[2] + 0.5 * turn
        left_x, left_y = -sin(middle) * turn, cos(middle) * turn
    grow(s.doubts, before.covariance, after.covariance, dx, dy, turn, left_x, left_y)
    after.pose[0], after.pose[1], after.pose[2] = before.pose[0] + dx, before.pose[1] + dy, before.pose[2] + turn
    for k in range(len(before.travels)):
        after.travels[k] = sensed.travel[k]
    for k in range(len(before.angles)):
        after.angles[k] = pointing.angle[k]
    for i in range(3):
        after.commanded[i] = before.commanded[i]
        out.pose[i], out.apart[i] = after.pose[i], after.apart[i]
    out.forward, out.left, out.turn = forward, left, turn
    p = after.covariance
    out.covariance[0], out.covariance[1], out.covariance[2] = p.xx, p.xy, p.xh
    out.covariance[3], out.covariance[4], out.covariance[5] = p.yy, p.yh, p.hh


@kernel
def disagreement(
    s: OdometrySettings, after: OdometryState, forward: float, left: float, by_wheels: float, by_gyro: float
) -> None:
    """Add up how far wheels and gyro disagree about the turn."""
    gap = by_wheels - by_gyro
    stands = abs(by_wheels) < STANDS_RAD_S * s.dt and hypot(forward, left) < STANDS_M_S * s.dt
    if stands:
        after.apart[0] += gap
    else:
        after.apart[1] += -gap if by_wheels < 0.0 else gap
    after.apart[2] += abs(by_wheels)


class Odometry(Stage):
    """For every rig. A robot without encoder readings counts as one that follows its commands."""

    name = "odometry"
    begins = MappingProxyType({"travels": nan, "angles": nan, "gyro": nan})

    def __init__(self, rig: Rig) -> None:
        o, maps = rig.odometry, kinematics_of(rig.chassis)
        by_gyro = rig.gyro is not None and o.turn == "gyro"
        blind = any(not m.counts_per_turn for m in rig.motors.values())
        scrub = np.array([[1.0], [1.0], [1.0 / o.scrub]])  # of the turn that wheels say
        both = [m.forward * scrub for m in (maps, kinematics_of(rig.chassis, upside_down=True))]
        steered = maps.hubs is not None
        doubts = Form(Doubts)
        self.settings: OdometrySettings = Form(OdometrySettings, ways=both[0].shape[1], doubts=doubts).of(
            forward=both,
            steered=steered,
            by_gyro=by_gyro,
            # an ideal simulated robot drags no wheel
            pivot=0.0 if rig.body is not None and rig.body.kind == "ideal" else o.pivot_m or 0.0,
            doubts=doubts.of(
                way=(max(o.way, BLIND) if blind else o.way) ** 2,
                turning=(max(o.turning, BLIND) if blind and not by_gyro else o.turning) ** 2,
                drift=o.drift_rad_s**2 if by_gyro else 0.0,
                pivot_off=_pivot_off(rig) ** 2,
                rough=o.rough_m**2,
                gyro_s=rig.dt_s if by_gyro else 0.0,
            ),
            dt=rig.dt_s,
        )
        wheels_count = len(rig.chassis.wheels)
        self.form = Form(OdometryColumns)
        self.memory = Form(
            OdometryState, wheels=wheels_count, pointing=wheels_count if steered else 0, covariance=Form(Covariance)
        )
        wheels = "the commands of the wheels (no encoders)" if blind else "wheels"
        alone = " alone" if rig.gyro is not None else " alone (no gyro)"
        self.basis = f"{wheels} and gyro" if by_gyro else wheels + alone
        """The inputs of the estimate, in words."""
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self.columns = named(
            "odometry", ("x", "m"), ("y", "m"), ("heading", "rad"), ("forward", "m"), ("left", "m"), ("turn", "rad"),
            ("xx", "m^2"), ("xy", "m^2"), ("xh", "m rad"), ("yy", "m^2"), ("yh", "m rad"), ("hh", "rad^2"),
            ("apart_still", "rad"), ("apart_turning", "rad"), ("turned", "rad"),
        )  # fmt: skip
        self.kept_while = (both[0].tobytes(), by_gyro)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Odometry:
        return cls(rig)

    # --- its state ---

    def put(self, state: OdometryState, pose: Floats, deviations: Floats | None = None) -> OdometryState:
        """Return the state of robots that are known to be at a pose, B + (3,).

        ``deviations``, (3,): how sure that is, one sigma of x, y and heading; entirely if left out.
        """
        sigmas = deviations if deviations is not None else np.zeros(3)
        known = Form(Covariance).of(state.batch, **dict(zip(("xx", "yy", "hh"), np.square(sigmas), strict=True)))
        return state._replace(pose=pose, covariance=known, apart=0.0)

    def moved(self, state: OdometryState, was: Floats, now: Floats) -> OdometryState:
        """Return the state of robots whose estimate was one pose some ticks ago, (3,), and were at another: all that they
        believe since is moved along. They are as sure as someone who said so.
        """
        turn = now[2] - was[2]
        c, s = np.cos(turn), np.sin(turn)
        dx, dy = state.pose[..., 0] - was[0], state.pose[..., 1] - was[1]
        pose = np.stack((now[0] + c * dx - s * dy, now[1] + s * dx + c * dy, state.pose[..., 2] + turn), axis=-1)
        return self.put(state, pose)

    def updated(
        self, state: OdometryState, across: Floats, off: float, variance: float
    ) -> tuple[OdometryState, Floats, Floats]:
        """Take in one number that was measured.

        Parameters
        ----------
        state : OdometryState
        across : (3,) float64
            How the number changes with x, y and heading: h.
        off : float
            Measured minus estimated.
        variance : float
            Of the measurement: r.

        Returns
        -------
        OdometryState, B + (3,) float64, B float64
            The state, the gain for x, y and heading, and the variance that was expected of ``off``.

        See `pivrex.line.covariance.measured`.
        """
        less, k, s = measured(state.covariance, across.tolist(), variance)
        gain = np.stack(k, axis=-1)
        return state._replace(pose=state.pose + gain * off, covariance=less), gain, np.asarray(s)

    def keep(self, other: Stage, state: Any, batch: tuple[int, ...]) -> Any:
        if other.kept_while == self.kept_while:
            return state
        return self.start(batch)._replace(pose=state.pose, covariance=state.covariance)  # other wheels, the same place

    # --- a tick ---

    def rungs(self, tick: WheelTick) -> list[Rung]:
        if not tick("following", "mode"):
            return []  # no command depends on it
        x, y = tick("odometry", "x"), tick("odometry", "y")
        xx, yy = (
            float(tick.row[tick.line.layout.at("odometry", n)]) for n in ("xx", "yy")
        )  # far below the smallest written digit
        sigma = float(np.sqrt(max(0.0, (xx + yy) / 2)))
        heading = float(np.degrees(tick("odometry", "heading")))
        return [
            Rung(
                "estimate",
                f"at {x:.2f} m, {y:.2f} m, {heading:.0f} deg by {self.basis}, ± {sigma * 100:.1f} cm",
                "odometry.turn",
            )
        ]


def _pivot_off(rig: Rig) -> float:
    """Return by how much the point may be off about which a robot turns, one standard deviation in m: where wheels are dragged aside
    while it turns, their loads and grip decide where that point lies.
    """
    o = rig.odometry
    if o.pivot_error_m is not None:
        return o.pivot_error_m
    axles = [w.x_m for w in rig.chassis.wheels if w.rollers_rad is None and not w.steered]
    apart = max(axles) - min(axles) if axles else 0.0
    return 0.25 * apart if o.pivot_m is None else 0.125 * apart
