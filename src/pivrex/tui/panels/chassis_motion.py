"""The motion in Chassis: the robot's, or your own, which you nudge, type and drag by its bars."""

from __future__ import annotations

from dataclasses import dataclass
from math import degrees, isfinite, radians

import numpy as np

from pivrex.errors import UnitError
from pivrex.glossary import label_of
from pivrex.line.layout import Floats
from pivrex.line.questions.ask import can_do
from pivrex.line.questions.envelope import Envelope
from pivrex.line.questions.preview import doing, preview
from pivrex.tui.draw.parts import centred_bar, number, speed_of, turning, wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.settings_list import OwnSetting, Settings
from pivrex.units import parse, split

__all__ = ["MOTION", "TWICE", "ChassisMotion", "MotionBars", "Shown", "motion_bars"]

MOTION = ("motion.forward", "motion.left", "motion.turn")

STEPS = (0.02, 0.02, radians(5))
"""A fine nudge of the motion, in m/s and rad/s."""

TWICE = 1.6
"""How far beyond what the chassis can do a motion may be nudged, so that the limits are seen at work."""


@dataclass(frozen=True)
class Shown:
    """The content of the drawings in this frame, live or of your own motion."""

    angles: Floats
    targets: Floats
    requested: Floats
    limited: Floats
    measured: Floats | None
    commanded: Floats
    achieved: Floats | None
    scrub: float
    residual: float


class ChassisMotion:
    """The data of the view's panels.

    Attributes
    ----------
    model : ScreenModel
    own : (3,) float64 or None
        A motion of your own: forward and left in m/s, turn in rad/s; None while the robot's is followed.
    angle_deg : float
        The turn whose figures are shown.
    """

    def __init__(self, model: ScreenModel) -> None:
        self.model = model
        self.own: Floats | None = None
        self.angle_deg = 90.0
        self._kept: tuple[int, Envelope, Floats, Floats | None] | None = None
        self._full: tuple[int, Floats] | None = None
        self._live: tuple[object, Shown] | None = None

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
        """Return what the robot does; None before the first Tick."""
        row = self.model.row
        if row is None:
            return None
        newest = self.model.serial, self.model.trace.newest
        if self._live is None or self._live[0] != newest:  # several panels draw from it in one frame
            d = doing(self.model.line, row)
            found = Shown(
                d.angles, d.targets, d.requested, d.limited, d.measured, d.commanded, d.achieved, d.scrub, d.residual
            )
            self._live = (newest, found)
        return self._live[1]

    def now(self) -> Shown | None:
        """Return what is shown: your own motion where there is one, else what the robot does."""
        if self.own is None:
            return self.live()
        p = preview(self.model.line, self.own)
        return Shown(p.angles, p.angles, p.requested, p.limited, None, p.achieved, None, p.scrub, p.residual)

    def envelope(self) -> tuple[Envelope, Floats, Floats | None]:
        """Return the envelope of the rig in use, its edge, and the edge before the last change; computed once for each rig."""
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
        """Return the greatest forward, left and turn by themselves."""
        serial, rig = self.model.serial, self.model.rig
        if self._full is None or self._full[0] != serial:
            turn = self.envelope()[0].fastest_turn_rad_s
            full = np.array([rig.fastest((1, 0, 0)), rig.fastest((0, 1, 0)), turn])
            self._full = serial, np.where(full > 0, full, full.max())
        return self._full[1]

    # --- a motion of one's own ---

    def begin_own(self) -> Floats:
        """Return one's own motion, begun from the robot's."""
        if self.own is None:
            shown = self.live()
            start = shown.commanded if shown is not None else np.zeros(3)
            steps = np.array(STEPS)
            self.own = np.round(np.asarray(start) / steps) * steps if np.abs(start).max() > 0.02 else np.zeros(3)
        return self.own

    def set_part(self, part: int, value: float, most: float = TWICE) -> None:
        """Set forward (0), left (1) or turn (2) of one's own motion, at most so many times what the chassis can."""
        own, most = self.begin_own().copy(), most * float(self.full()[part])
        own[part] = min(max(value, -most), most)
        self.own = own

    def settings(self) -> dict[str, OwnSetting]:
        """Return the values that you select and change here like settings."""
        return {key: self._part(i, label_of(key)) for i, key in enumerate(MOTION)} | {
            "figure.angle": OwnSetting(
                lambda: f"{self.angle_deg:g} deg", self._nudge_angle, self._type_angle, "left is +"
            )
        }

    def _part(self, part: int, name: str) -> OwnSetting:
        kind, unit = ("turn rate", "deg/s") if name == "turn" else ("speed", "m/s")

        def shown() -> str:
            value = float(self.twist[part])
            return f"{degrees(value) if name == 'turn' else value:g} {unit}"

        def nudge(steps: int) -> None:
            # left is +, and a key that points right moves to the right
            way = 1 if part == 0 else -1
            self.set_part(part, round(self.begin_own()[part] / STEPS[part] + way * steps) * STEPS[part])

        def type_in(text: str) -> None:
            size, written = split(text)
            value = parse(f"{size:g} {written or unit}", kind)
            if abs(value) > TWICE * float(self.full()[part]):
                raise UnitError(f"is {text}, more than {TWICE:g} times what the wheels can")
            self.set_part(part, value)

        return OwnSetting(shown, nudge, type_in, "m/s" if part == 0 else "left is +")

    def _nudge_angle(self, steps: int) -> None:
        self.angle_deg = max(-3600.0, min(3600.0, self.angle_deg + 5 * steps))

    def _type_angle(self, text: str) -> None:
        size, written = split(text)
        self.angle_deg = degrees(parse(f"{size:g} {written or 'deg'}", "angle"))


def _edge(envelope: Envelope) -> Floats:
    if envelope.planar:
        return envelope.outline(0.0)
    corners = envelope.speed_and_turn()
    return np.vstack((corners, corners[:1])) if len(corners) else corners


class MotionBars(Panel):
    """Forward, left and turn as bars that can be dragged, and what there is to say about them."""

    HEIGHT = 4
    """Without its remarks."""

    def __init__(self, chassis: ChassisMotion, settings: Settings) -> None:
        super().__init__(settings.view)
        self._chassis, self._settings = chassis, settings
        self._bars: list[tuple[str, int, int, int]] = []
        """Key, row, left column, width."""
        self._dragged = ""

    def act_follow(self) -> None:
        """Follow the robot again, or begin a motion of one's own."""
        self._chassis.own = None if self._chassis.own is not None else self._chassis.begin_own()

    def act_still(self) -> None:
        """Bring one's own motion to rest."""
        self._chassis.own = np.zeros(3)

    def draw(self, width: int, height: int) -> Picture:
        picture, chassis, shown = Picture(width, height), self._chassis, self._chassis.now()
        twist, own = chassis.twist, chassis.own is not None
        at = picture.text(0, 0, "motion", "title")
        hint = "yours; v follows the robot again" if own else "the robot's; ←→ tests your own"
        picture.text(at + 2, 0, hint, "dim", width - at - 2)
        full, bar = chassis.full(), max(0, width - 34)
        bar -= 1 - bar % 2
        self._bars = []
        for row, (key, value, top) in enumerate(zip(MOTION, twist.tolist(), full.tolist(), strict=True), 1):
            name, here = label_of(key), key == self._settings.chosen
            picture.spot(0, row, width, "setting", key)
            picture.text(0, row, "▸" if here else " ", "commanded")
            picture.text(2, row, f"{name:<8}", "title" if here else "dim")
            shown_value = turning(degrees(value), 0, "deg/s", 4) if name == "turn" else f"{number(value)} m/s"
            if name == "left":
                shown_value = turning(value, 2, "m/s", 6)
            if bar >= 9:
                centred_bar(picture, 10, row, bar, (-value if name != "forward" else value) / top, "commanded")
                self._bars.append((key, row, 10, bar))
            picture.text(12 + max(bar, 0), row, f"{shown_value:<19}", "chosen" if here and own else "commanded")
        # keep rows for remarks, so that nothing below jumps when there is one
        lines = [(line, named) for text, named in _remarks(chassis, shown) for line in wrapped(text, width)]
        for row, (line, named) in enumerate(lines[: height - self.HEIGHT], self.HEIGHT):
            picture.text(0, row, line, named)
        return picture

    def point(self, x: int, y: int, phase: str) -> None:
        if phase == "press":
            self._dragged = next((b[0] for b in self._bars if b[1] == y and b[2] <= x < b[2] + b[3]), "")
            self._settings.select(self._dragged)
        bar = next((b for b in self._bars if b[0] == self._dragged), None)
        if bar is None or phase == "release":
            return
        _, _, start, width = bar
        part = MOTION.index(self._dragged)
        share = min(max(2 * (x - start) / max(1, width - 1) - 1, -1.0), 1.0)
        self._chassis.set_part(part, (share if part == 0 else -share) * float(self._chassis.full()[part]))


def _remarks(chassis: ChassisMotion, shown: Shown | None) -> list[tuple[str, str]]:
    """Remarks about the motion: what is impossible, lost, or slides sideways."""
    model, own = chassis.model, chassis.own
    found = []
    if own is not None:
        missing = preview(model.line, own).missing
        words = [f"{abs(missing[i]):.2f} m/s {('forward', 'sideways')[i]}" for i in range(2) if abs(missing[i]) > 1e-6]
        if words and not (model.rig.law.kind != "planar" and abs(own[1]) < 1e-9):
            found.append((f"! it cannot do {' and '.join(words)}: {can_do(model.rig)}", "alarm"))
    if shown is None:
        return found
    limited = np.abs(shown.requested) > model.line.top_m_s * 1.0005
    if limited.any():
        many = f"{int(limited.sum())} of {len(limited)} wheels too fast"
        found.append((f"! {many}: {model.rig.limits.fit} leaves {_left(shown)}", "alarm"))
    if shown.residual > 0.01:
        found.append((f"! the wheels disagree by {shown.residual:.2f} m/s: some of them must slip", "alarm"))
    if shown.scrub > 0.005:
        found.append((f"tyres scrub sideways at {shown.scrub:.2f} m/s", "target"))
    return found


def _left(shown: Shown) -> str:
    """The part of a motion that the limits allow, in words."""
    forward, left, turn = shown.commanded
    parts = [f"{abs(forward):.2f} m/s {'forward' if forward >= 0 else 'back'}"]
    if abs(left) > 0.005:
        parts.append(turning(left, 2, "m/s"))
    if abs(turn) > 0.005:
        parts.append(turning(degrees(turn), 0, "deg/s"))
    return ", ".join(parts)


def motion_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """The commanded motion; left and right in words, with bars to their sides."""
    forward, left, turn = (model.value("motion", n) for n in ("forward", "left", "turn"))
    rig = model.rig
    if rig.is_bench:
        return tuple(
            (name, model.commanded(name) / top, speed_of(rig, model.commanded(name)), "commanded")
            for name, top in zip(model.line.wheels, model.line.top_m_s.tolist(), strict=True)
        )
    bars = [("forward", forward / rig.full_forward_m_s, f"{number(forward, 2, 5)} m/s", "commanded")]
    if rig.law.kind == "planar":
        bars.append(("sideways", -left / rig.full_left_m_s, turning(left, 2, "m/s", 4, steady=True), "commanded"))
    deg_s = degrees(turn) if isfinite(turn) else turn
    bars.append(("turn", -turn / rig.full_turn_rad_s, turning(deg_s, 0, "deg/s", 3, steady=True), "commanded"))
    return tuple(bars)
