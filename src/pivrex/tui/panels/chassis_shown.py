"""What the view Chassis shows now: the robot's motion or one of your own, what it asks of the wheels, what they can."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.layout import Floats
from pivrex.line.questions.envelope import Envelope
from pivrex.line.questions.preview import doing, preview
from pivrex.tui.model import ScreenModel

__all__ = ["MOTION", "Shown", "ShownChassis"]

MOTION = (("motion.forward", "forward"), ("motion.left", "left"), ("motion.turn", "turn"))


@dataclass(frozen=True)
class Shown:
    """What the drawings show in this frame, live or of your own motion."""

    angles: Floats
    targets: Floats
    asked: Floats
    given: Floats
    measured: Floats | None
    commanded: Floats
    achieved: Floats | None
    scrub: float
    residual: float


class ShownChassis:
    """What the panels draw from.

    Attributes
    ----------
    model : ScreenModel
    own : (3,) float64 or None
        A motion of your own: forward and left in m/s, turn in rad/s; None while the robot's is followed.
    angle_deg : float
        The turn whose figures are told.
    """

    def __init__(self, model: ScreenModel) -> None:
        self.model = model
        self.own: Floats | None = None
        self.angle_deg = 90.0
        self._kept: tuple[int, Envelope, Floats, Floats | None] | None = None

    @property
    def wheel(self) -> int:
        """The place of the selected wheel."""
        return self.model.wheel % len(self.model.line.wheels)

    @property
    def twist(self) -> Floats:
        """The motion that is shown, (3,)."""
        now = self.now()
        return self.own if self.own is not None else now.commanded if now is not None else np.zeros(3)

    def live(self) -> Shown | None:
        """Give what the robot does; None before the first Tick."""
        row = self.model.row
        if row is None:
            return None
        d = doing(self.model.line, row)
        return Shown(d.angles, d.targets, d.asked, d.given, d.measured, d.commanded, d.achieved, d.scrub, d.residual)

    def now(self) -> Shown | None:
        """Give what is shown: your own motion where there is one, else what the robot does."""
        if self.own is None:
            return self.live()
        p = preview(self.model.line, self.own)
        return Shown(p.angles, p.angles, p.asked, p.given, None, p.achieved, None, p.scrub, p.residual)

    def envelope(self) -> tuple[Envelope, Floats, Floats | None]:
        """Give the envelope of the rig in use, its edge, and the edge before the last change; computed once for each rig."""
        model = self.model
        if self._kept is None or self._kept[0] != model.serial:
            envelope = Envelope(model.rig)
            before = model.before.rig if model.before is not None else None
            ghost = None
            if before is not None and before.chassis != model.rig.chassis and before.name == model.rig.name:
                other = Envelope(before)
                ghost = _edge(other) if other.planar == envelope.planar else None
            self._kept = (model.serial, envelope, _edge(envelope), ghost)
        return self._kept[1:]

    def full(self) -> Floats:
        """Give the greatest forward, left and turn by themselves."""
        envelope, rig = self.envelope()[0], self.model.rig
        full = np.array([rig.fastest((1, 0, 0)), rig.fastest((0, 1, 0)), envelope.fastest_turn_rad_s])
        return np.where(full > 0, full, full.max())


def _edge(envelope: Envelope) -> Floats:
    if envelope.planar:
        return envelope.outline(0.0)
    corners = envelope.speed_and_turn()
    return np.vstack((corners, corners[:1])) if len(corners) else corners
