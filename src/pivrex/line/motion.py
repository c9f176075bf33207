"""Motion: what the wheels make of it together, how far they disagree, and how fast tyres are dragged sideways."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of, misfit, vectors
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Floats, Stage, named, some
from pivrex.rig.rig import Rig

__all__ = ["MotionSettings", "WheelsMotion", "achieved"]


@dataclass(frozen=True)
class MotionSettings:
    """The maps from the wheels, (3 + W·D + P, W·D) each: twist, what is left of the wheels, side slips. Wheels that never
    disagree nor slip leave these out.

    Attributes
    ----------
    maps, maps_upside_down : float64
        On its wheels, and on its back.
    components : int
        W·D.
    steered : bool
        Whether D is 2.
    """

    maps: Floats
    maps_upside_down: Floats
    components: int
    steered: bool


def achieved(settings: MotionSettings, wheels: Floats, upside_down: Floats | None, motion: Floats) -> None:
    """Write forward m/s, left m/s, turn rad/s, residual and scrub in m/s, B + (5,), of wheels, B + (W·D,), into ``motion``.

    The residual is the length of what the wheel that disagrees most has left, the scrub the greatest side slip of a plain
    wheel. ``over``, B, is 1 where the robot lies on its back.
    """
    found: Floats = np.einsum("kw,...w->...k", settings.maps, wheels)
    if upside_down is not None and some(upside_down):
        found = np.where(
            upside_down[..., None] > 0, np.einsum("kw,...w->...k", settings.maps_upside_down, wheels), found
        )
    n = 3 + settings.components
    motion[..., :3] = found[..., :3]
    disagrees, scrubs = found.shape[-1] > 3, found.shape[-1] > n
    motion[..., 3] = np.maximum.reduce(np.abs(misfit(found[..., 3:n], settings.steered)), axis=-1) if disagrees else 0.0
    motion[..., 4] = np.maximum.reduce(np.abs(found[..., n:]), axis=-1) if scrubs else 0.0


class WheelsMotion(Stage):
    """What the commanded wheel speeds achieve. No later stage reads it."""

    name = "motion"
    reads: tuple[str, ...] = ("heading", "pointing", "limits", "steering")

    def __init__(self, rig: Rig) -> None:
        on, upside_down = kinematics_of(rig.chassis), kinematics_of(rig.chassis, upside_down=True)
        exact = not any(m.disagree.any() or m.slide.any() for m in (on, upside_down))
        self.settings: MotionSettings = MotionSettings(
            maps=on.forward if exact else on.all_of,
            maps_upside_down=upside_down.forward if exact else upside_down.all_of,
            components=0 if exact else len(on.disagree),
            steered=on.hubs is not None,
        )
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self.columns = named(
            "motion", ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"), ("residual", "m/s"), ("scrub", "m/s")
        )

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> WheelsMotion:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self._speeds = speeds_at(layout, self._wheels)
        self._angles = layout.stage("pointing")
        self._upside_down = layout.at("heading", "upside_down") if layout.has("heading", "upside_down") else -1
        self.reads = self.reads if self._upside_down >= 0 else tuple(r for r in self.reads if r != "heading")
        self._out = layout.stage("motion")

    def step(self, state: object, row: Floats) -> object:
        wheels = row[..., self._speeds]
        if self.settings.steered:
            wheels = vectors(wheels, row[..., self._angles])
        upside_down = row[..., self._upside_down] if self._upside_down >= 0 else None
        achieved(self.settings, wheels, upside_down, row[..., self._out])
        return state


def speeds_at(layout: Layout, wheels: list[str]) -> slice:
    """Give the places of the commanded surface speeds of wheels: after steering where there is any, else the limits'."""
    if layout.has("steering", f"{wheels[0]}_speed"):
        return layout.these("steering", [f"{w}_speed" for w in wheels])
    return layout.these("limits", [f"{w}_given" for w in wheels])
