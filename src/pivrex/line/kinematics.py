"""Kinematics: from the twist of the body to the motion of its wheels, and back, with the same maps for every chassis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.kernels.maths import hypot
from pivrex.kernels.records import Flag, Form, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.equations import equation
from pivrex.line.heading import HeadingColumns
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.routine_stage import RoutineColumns
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.chassis import Chassis
from pivrex.rig.rig import Rig

__all__ = [
    "Kinematics",
    "Motion",
    "Needs",
    "Wheels",
    "WheelsColumns",
    "hub_velocities",
    "kinematics_of",
    "motion_of",
    "motion_stage",
    "needs_of",
    "side_of",
    "twist_of",
    "vectors",
    "wheel_need",
    "wheel_speeds",
    "wheels_step",
    "without_dust",
]

DUST_M_S = 1e-9
"""A speed below this is rounding: nothing."""


@dataclass(frozen=True)
class Kinematics:
    """The linear maps of a chassis with W wheels, P of them plain and not steered.

    A chassis without steered wheels uses the speeds of its wheels, D = 1; one with steered wheels uses velocity
    vectors on the ground, D = 2, in which a wheel that is not steered always lies along its drive direction.

    Attributes
    ----------
    inverse : (W, 3) float64
        Wheel surface speeds in m/s from the twist (forward m/s, left m/s, turn rad/s); of a chassis with steered
        wheels only the rows of those that are not steered mean anything.
    forward : (3, W·D) float64
        The twist from the wheels.
    disagree : (W·D, W·D) float64
        What is left of the wheels after the twist that fits them best.
    slide : (P, W·D) float64
        The side slip of the plain wheels, from the wheels.
    hubs : (W, 2, 3) float64, or None
        Velocity vectors from the twist.
    """

    inverse: Floats
    forward: Floats
    disagree: Floats
    slide: Floats
    hubs: Floats | None

    @property
    def all_of(self) -> Floats:
        """The three maps from the wheels in one matrix, (3 + W·D + P, W·D)."""
        return np.concatenate((self.forward, self.disagree, self.slide))


@dataclass(frozen=True)
class Motion:
    """The motion that wheels achieve together.

    Attributes
    ----------
    twist : B + (3,) float64
    residual : B + (W,) float64
        How far each wheel is from what the body's motion would have it do, in m/s; of a vector its length.
    scrub : B + (P,) float64
        How fast each plain wheel slides sideways, in m/s.
    """

    twist: Floats
    residual: Floats
    scrub: Floats


def kinematics_of(chassis: Chassis, upside_down: bool = False) -> Kinematics:
    """Take the maps from a chassis; with ``over`` those of the robot lying on its back (see `pivrex.rig.geometry`)."""
    geometry = chassis.geometry
    rows = geometry.rows_upside_down if upside_down else geometry.rows
    forward = geometry.forward_upside_down if upside_down else geometry.forward
    count = len(chassis.wheels)
    inverse = np.zeros((count, 3))
    hubs = None
    if any(w.steered for w in chassis.wheels):
        hubs = np.zeros((count, 2, 3))
        back = np.zeros((3, count, 2))
        for w, wheel in enumerate(chassis.wheels):
            mine = np.flatnonzero(geometry.of_wheel == w)
            drive = np.array([np.cos(wheel.drive_rad), np.sin(wheel.drive_rad)])
            if wheel.steered:
                hubs[w], back[:, w] = rows[mine], forward[:, mine]
            else:
                inverse[w] = rows[mine[0]]
                hubs[w], back[:, w] = np.outer(drive, rows[mine[0]]), np.outer(forward[:, mine[0]], drive)
        needs, forward = hubs.reshape(-1, 3), back.reshape(3, -1)
    else:
        inverse = needs = rows
    slide = (geometry.slip_upside_down if upside_down else geometry.slip) @ forward
    disagree = np.eye(len(needs)) - needs @ forward
    slide[np.abs(slide) < 1e-12] = 0.0
    disagree[np.abs(disagree) < 1e-12] = 0.0
    if geometry.drags:  # request no motion that would drag a tyre sideways
        clean = geometry.clean_upside_down if upside_down else geometry.clean
        inverse, hubs = inverse @ clean, hubs @ clean if hubs is not None else None
    return Kinematics(inverse, forward, disagree, slide, hubs)


def wheel_speeds(kinematics: Kinematics, twist: Floats) -> Floats:
    """Return the wheel surface speeds, B + (W,) in m/s, that a twist, B + (3,), needs of wheels that are not steered.

    s = H·twist, by einsum: a matrix product gives other bits for one robot than for many.
    """
    return np.einsum("wk,...k->...w", kinematics.inverse, twist)


def hub_velocities(kinematics: Kinematics, twist: Floats) -> Floats:
    """Return the velocity vectors, B + (W, 2) in m/s forward and left, that a twist, B + (3,), needs of the wheels."""
    assert kinematics.hubs is not None
    return np.einsum("wdk,...k->...wd", kinematics.hubs, twist)


def vectors(speeds: Floats, angles_rad: Floats) -> Floats:
    """Return velocity vectors, B + (W·2,), of wheels that roll at ``speeds`` and point along ``angles_rad``, B + (W,)."""
    found = np.empty((*speeds.shape[:-1], 2 * speeds.shape[-1]))
    found[..., 0::2] = speeds * np.cos(angles_rad)
    found[..., 1::2] = speeds * np.sin(angles_rad)
    return found


def twist_of(kinematics: Kinematics, wheels: Floats) -> Floats:
    """Return the twist, B + (3,), that wheels achieve: surface speeds, or `vectors` where wheels are steered, B + (W·D,)."""
    return np.einsum("kw,...w->...k", kinematics.forward, wheels)


def motion_of(kinematics: Kinematics, wheels: Floats) -> Motion:
    """Return all that wheels achieve, from the same argument as `twist_of`."""
    found = np.einsum("kw,...w->...k", kinematics.all_of, wheels)
    rest = 3 + len(kinematics.disagree)
    return Motion(found[..., :3], misfit(found[..., 3:rest], kinematics.hubs is not None), found[..., rest:])


def misfit(left_over: Floats, vectors: bool) -> Floats:
    """Return how far wheels disagree, B + (W,) in m/s, from what `Kinematics.disagree` leaves of them, B + (W·D,)."""
    if not vectors:
        return left_over
    return np.hypot(left_over[..., 0::2], left_over[..., 1::2])


class Needs(Record):
    """What motions need from the W wheels of a rig, upright and upside down.

    Attributes
    ----------
    steered : flag
        Whether velocity vectors are asked for, forward and left of each wheel in turn, instead of surface speeds.
    maps : (2, W·D, 3)
        What a twist asks of them, on its wheels and on its back; D is 2 where wheels are steered.
    top : (W,)
        The fastest that each wheel can, in m/s, above 0.
    ahead : (W, 2)
        The drive direction of each wheel.
    """

    is_settings = True

    steered: Flag = field()
    maps: Numbers = field(2, "parts", 3)
    top: Numbers = field("wheels", unit="m/s")
    ahead: Numbers = field("wheels", 2)


class WheelsColumns(Record):
    """What the motion needs from each wheel: for steered ones the velocity of their hubs, forward and left in turn, and the speed of all."""

    hub: Numbers = field("hubs", unit="m/s")
    requested: Numbers = field("wheels", unit="m/s")


@kernel
def without_dust(value: float, dust: float) -> float:
    """Return a number; 0 where it is only rounding."""
    return value if abs(value) >= dust else 0.0 * value


@kernel
def side_of(heading: HeadingColumns) -> int:
    """Return 1 for a robot that lies on its back, else 0."""
    if len(heading.upside_down) > 0 and heading.upside_down[0] > 0.0:
        return 1
    return 0


@kernel
def wheel_need(s: Needs, side: int, k: int, twist: Numbers) -> float:
    """Return what a twist asks of part k of the wheels, in m/s: s = H·twist."""
    row = s.maps[side][k]
    return without_dust(row[0] * twist[0] + row[1] * twist[1] + row[2] * twist[2], DUST_M_S)


@kernel
def wheels_step(
    s: Needs,
    twist: Numbers,
    heading: HeadingColumns,
    routine: RoutineColumns,
    bench: Numbers,
    motors: int,
    out: WheelsColumns,
) -> None:
    """Write what the motion of the robot's centre asks of each wheel; where a routine gives wheels shares of their top speed, those,
    along the drive direction of a wheel that is steered. ``bench``: the command of each of its ``motors``
    where they stand on a bench.
    """
    side = side_of(heading)
    for k in range(len(s.top)):
        of_top = routine.share[k] * s.top[k]
        if s.steered:
            for i in range(2):
                own = of_top * s.ahead[k][i] if routine.raw > 0.0 else wheel_need(s, side, 2 * k + i, twist)
                out.hub[2 * k + i] = own
            out.requested[k] = hypot(out.hub[2 * k], out.hub[2 * k + 1])
        else:
            need = bench[k] if motors > 0 else wheel_need(s, side, k, twist)
            out.requested[k] = of_top if routine.raw > 0.0 else need


def needs_of(rig: Rig) -> Needs:
    """Return what motions ask of the wheels of a rig."""
    maps = [kinematics_of(rig.chassis), kinematics_of(rig.chassis, upside_down=True)]
    steered = all(m.hubs is not None for m in maps)
    rows = [m.hubs.reshape(-1, 3) if steered and m.hubs is not None else m.inverse for m in maps]
    made: Needs = Form(Needs, parts=len(rows[0]), wheels=len(rig.chassis.wheels)).of(
        steered=steered,
        maps=rows,
        top=[rig.wheel_top_m_s(w.name) for w in rig.chassis.wheels],
        ahead=[(np.cos(w.drive_rad), np.sin(w.drive_rad)) for w in rig.chassis.wheels],
    )
    return made


def motion_stage(layout: Layout) -> str:
    """Return the last stage that changes the motion of the robot's centre, with its columns forward, left and turn."""
    return next(stage for stage in ("correction", "following") if layout.has(stage, "turn"))


class Wheels(Stage):
    """What the motion needs from each wheel: its surface speed; for steered wheels also the velocity of their hubs."""

    name = "wheels"

    def __init__(self, rig: Rig) -> None:
        self._rig = rig
        self.settings: Needs = needs_of(rig)
        self._wheels = tuple(plain(w.name) for w in rig.chassis.wheels)
        count = len(self._wheels)
        self.form = Form(WheelsColumns, wheels=count, hubs=2 * count if self.settings.steered else 0)
        steered = bool(self.settings.steered)
        vectors = [(f"{w}_{way}", "m/s") for w in self._wheels for way in ("forward", "left") if steered]
        self.columns = named("wheels", *vectors, *((f"{w}_requested", f"{rig.way_unit}/s") for w in self._wheels))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Wheels:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self._stage = motion_stage(layout)

    def _equation(self, tick: WheelTick) -> str:
        return equation(self._rig.chassis, tick.w, upside_down=bool(tick.get("heading", "upside_down")))

    def phrases(self, tick: WheelTick) -> list[str]:
        requested = tick("wheels", f"{tick.column}_requested")
        if tick.by_motion and not self._rig.is_bench:
            wheel = self._rig.chassis.wheels[tick.w]
            if self.settings.steered and wheel.steered:
                return [f"{requested:.2f} m/s"]
            return [f"{self._equation(tick)} = {requested:.2f} m/s"]
        return [] if tick.by_stick else [tick.speed(requested)]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        if self._rig.is_bench:
            return []
        requested = tick("wheels", f"{tick.column}_requested")
        forward, left, turn = (tick(self._stage, n) for n in ("forward", "left", "turn"))
        sideways = f" left {left:+.3f}" if self._rig.law.kind == "planar" else ""
        text = (
            f"{tick.wheel} = {self._equation(tick)} with forward {forward:+.3f}{sideways} m/s, "
            f"turn {turn:+.3f} rad/s → {requested:+.3f} m/s"
        )
        return [Rung("wheel", text, f"chassis.wheels.{tick.w}.x")]
