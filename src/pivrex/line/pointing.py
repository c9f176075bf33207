"""Pointing: where the wheels point now, from encoders and absolute sensors."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels.records import Form, Numbers, Record, field
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Floats, Stage, named, some
from pivrex.rig.rig import Rig

__all__ = ["Pointing", "PointingColumns", "PointingSettings", "PointingState", "measure", "settings_of", "wrap"]


@dataclass(frozen=True)
class PointingSettings:
    """The sensors of W wheels, S of them steered. Wheels that are not steered stand at their drive direction.

    Attributes
    ----------
    steered : (S,) int
        Which wheels are steered.
    fixed : (W,) float64
        The drive direction of each wheel, in rad; 0 for steered ones.
    by_sensor : (S,) bool
        Wheels without an encoder, whose angle is the absolute sensor's.
    full, offset, sense : (S,) float64
        Of the absolute sensors: the reading of a whole turn, the angle it reads straight ahead, 1 or -1. Without a
        sensor ``full`` is NaN: the wheel is taken to point straight ahead at the start.
    any_by_sensor : bool
    """

    steered: NDArray[np.intp]
    fixed: Floats
    by_sensor: NDArray[np.bool_]
    full: Floats
    offset: Floats
    sense: Floats
    any_by_sensor: bool


class PointingColumns(Record):
    """Where each wheel points, of rigs with steered wheels."""

    angle: Numbers = field("pointing", unit="rad")


class PointingState(NamedTuple):
    """What is remembered: what is added to the encoders' angles, B + (S,) in rad, NaN before the first tick; and where the
    wheels pointed last, B + (W,) in rad, unwrapped.
    """

    zero: Floats
    angle: Floats


def settings_of(rig: Rig) -> PointingSettings | None:
    """Take the sensors from a rig; None if no wheel is steered."""
    if rig.steering is None or not rig.steered:
        return None
    wheels = rig.chassis.wheels
    motors = [rig.steering.wheels[name] for name in rig.steered]
    sensors = [m.sensor for m in motors]
    return PointingSettings(
        steered=np.array([i for i, w in enumerate(wheels) if w.steered], np.intp),
        fixed=np.array([w.drive_rad for w in wheels]),
        by_sensor=np.array([m.counts_per_turn == 0 for m in motors]),
        full=np.array([s.full if s is not None else np.nan for s in sensors]),
        offset=np.array([s.offset_rad if s is not None else 0.0 for s in sensors]),
        sense=np.array([-1.0 if s is not None and s.reversed else 1.0 for s in sensors]),
        any_by_sensor=any(m.counts_per_turn == 0 for m in motors),
    )


def wrap(angle_rad: Floats) -> Floats:
    """Bring angles into [-π, π)."""
    wrapped: Floats = (angle_rad + pi) % (2 * pi) - pi
    return wrapped


def measure(settings: PointingSettings, state: PointingState, turned: Floats, absolute: Floats) -> PointingState:
    """Find where the wheels point now.

    Parameters
    ----------
    settings : PointingSettings
    state : PointingState
    turned : B + (S,) float64
        How far the encoders say each wheel has turned since the robot was switched on, in rad.
    absolute : B + (S,) float64
        What the absolute sensors read: counts, or the share of the supply.

    Returns
    -------
    PointingState
        With the true angles: at the start those of the absolute sensors, sense·(2π·reading/full - offset), then the
        encoders' changes on top of them. A wheel without an encoder follows its sensor.
    """
    if not settings.any_by_sensor:
        now = turned + state.zero
        if not some(now != now):  # noqa: PLR0124 - NaN is not itself
            return PointingState(state.zero, _placed(settings, now))
    begun = ~np.isnan(state.zero)
    share = np.where(np.isnan(settings.full), 0.0, absolute / np.where(np.isnan(settings.full), 1.0, settings.full))
    pointing = settings.sense * (share * 2 * pi - settings.offset)
    zero = np.where(begun, state.zero, wrap(pointing) - turned)
    near = np.where(begun, state.angle[..., settings.steered], wrap(pointing))
    now = np.where(settings.by_sensor, near + wrap(pointing - near), turned + zero)
    return PointingState(zero, _placed(settings, now))


def _placed(settings: PointingSettings, steered: Floats) -> Floats:
    """Put the angles of the steered wheels, B + (S,), among those of all wheels, B + (W,)."""
    if len(settings.steered) == len(settings.fixed):
        return steered
    angle = np.empty((*steered.shape[:-1], len(settings.fixed)))
    angle[...] = settings.fixed
    angle[..., settings.steered] = steered
    return angle


class Pointing(Stage):
    """For rigs with steered wheels."""

    name = "pointing"
    reads = ("sensed",)

    def __init__(self, rig: Rig, settings: PointingSettings) -> None:
        self.settings: PointingSettings = settings
        self._steered = [plain(n) for n in rig.steered]
        self.columns = named("pointing", *((f"{plain(w.name)}_angle", "rad") for w in rig.chassis.wheels))
        self.kept_while = (
            rig.steered,
            *(getattr(settings, k).tobytes() for k in ("by_sensor", "full", "offset", "sense")),
        )

    @staticmethod
    def form_of(rig: Rig) -> Form:
        """Return how the columns stand; of size 0 for a rig without."""
        return Form(PointingColumns, pointing=len(rig.chassis.wheels) if rig.steered else 0)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Pointing | None:
        settings = settings_of(rig)
        return cls(rig, settings) if settings is not None else None

    def place(self, layout: Layout) -> None:
        self._turned = layout.these("sensed", [f"{w}_turned" for w in self._steered])
        self._absolute = layout.these("sensed", [f"{w}_absolute" for w in self._steered])
        self._out = layout.stage("pointing")

    def start(self, batch: tuple[int, ...]) -> PointingState:
        s = (*batch, len(self.settings.steered))
        return PointingState(np.full(s, np.nan), np.zeros((*batch, len(self.settings.fixed))))

    def step(self, state: PointingState, row: Floats) -> PointingState:
        after = measure(self.settings, state, row[..., self._turned], row[..., self._absolute])
        row[..., self._out] = after.angle
        return after
