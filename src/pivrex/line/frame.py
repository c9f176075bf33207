"""Frame: whose forward counts, and about which point the robot turns."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line.asked import OF_FIELD
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import Asked, asked_of, kinematics_of
from pivrex.line.layout import Layout
from pivrex.line.limits import LimitSettings, fit, turning_points
from pivrex.line.limits import settings_of as limits_of
from pivrex.line.se2 import shift, straighten
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import NOTHING, Told, turning
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["Frame", "FrameSettings", "FrameState", "given_turn", "robot_twist", "to_robot"]

ROBOT, FIELD, OTHER = 1.0, 2.0, 3.0
"""What is asked for in the bindings' column."""

PASSES = 4
"""How often the turn that the limits leave is reckoned again. Each pass leaves at most a quarter of the error before it;
after four the direction of a path at the limits is right to 0.05 degrees on every robot of the demo.
"""


@dataclass(frozen=True)
class FrameSettings:
    """How a rig moves in the plane.

    Attributes
    ----------
    field : bool
        Whether the field's forward counts at the start.
    straight_s : float
        The time of a tick if the turn of each tick is reckoned in, else 0.
    lead_s : float
        How far ahead of now the heading is taken, for motors that lag.
    points : (Q, 2) float64
        Turning points in m; the centre first.
    safe : (2,) float64
        A speed in m/s, in any direction, and a turn in rad/s that every wheel can by itself, each as 1 over it.
    """

    field: bool
    straight_s: float
    lead_s: float
    points: Floats
    safe: Floats


class FrameState(NamedTuple):
    """What the frame remembers, B each: the heading that is the field's forward direction, 1 while the field's forward
    counts, and the index of the turning point.
    """

    zero: Floats
    field: Floats
    point: Floats


def to_robot(twist: Floats, heading_rad: float | Floats, turn_rad_s: Floats, dt_s: float, lead_s: float) -> Floats:
    """Turn a field-relative twist into the robot-relative one that keeps to the asked direction all through a tick.

    Parameters
    ----------
    twist : B + (3,) float64
        Velocity along the field's directions, and the rate of turn.
    heading_rad : B float64
        Of the robot at the beginning of the tick.
    turn_rad_s : B float64
        How fast the robot will really turn: what the limits leave of the turn that was asked.
    dt_s : float
        The tick's length; with 0 the twist is right only at its beginning, and the path drifts aside by half of the
        tick's turn.
    lead_s : float
        Takes the heading this much later: wheels that follow with a lag do now what was asked that long ago, when the
        robot stood otherwise.

    Returns
    -------
    B + (3,) float64
    """
    angle: Floats | float = heading_rad
    gain: Floats | float = 1.0
    if dt_s:
        half, gain = straighten(turn_rad_s * dt_s)
        angle = angle + half
    if lead_s:
        angle = angle + turn_rad_s * lead_s
    c, s = np.cos(angle) * gain, np.sin(angle) * gain
    forward, left = twist[..., 0], twist[..., 1]
    turned = np.empty(twist.shape)
    turned[..., 0], turned[..., 1], turned[..., 2] = c * forward + s * left, c * left - s * forward, twist[..., 2]
    return turned


def given_turn(
    limits: LimitSettings,
    maps: Asked,
    forward: Floats,
    twist: Floats,
    upside_down: Floats | None = None,
    point: Floats | None = None,
) -> Floats:
    """Give the turn, B in rad/s, that the limits leave of a motion of the robot's centre, B + (3,).

    ``forward``, (2, W·D), are the rows of the forward map that give the turn, on its wheels and on its back.
    """
    asked = asked_of(maps, twist, upside_down)
    given = fit(limits, maps, twist, asked, upside_down, point)
    if not limits.clip and not limits.first:  # all by one factor
        wheels = (-1,) if not maps.steered else (-2, -1)
        full, left = (np.abs(v).sum(axis=wheels) for v in (asked, given))
        share: Floats = np.where(full > 0, left / np.where(full > 0, full, 1.0), 1.0)
        return twist[..., 2] * share
    both = np.einsum("sw,...w->...s", forward, given.reshape((*twist.shape[:-1], -1)))
    return both[..., 0] if upside_down is None else np.where(upside_down > 0, both[..., 1], both[..., 0])


class Frame(Stage):
    """For robots that move in the plane: the twist of the centre relative to the robot, from the law's."""

    name = "frame"
    reads = ("law", "heading", "bindings", "routine")

    def __init__(self, rig: Rig) -> None:
        self._rig = rig
        plane = rig.plane
        maps = kinematics_of(rig.chassis)
        self._limits, self._maps = limits_of(rig), Asked.of(rig)
        self._forward = np.stack((maps.forward[2], kinematics_of(rig.chassis, upside_down=True).forward[2]))
        needs = self._maps.maps if self._maps.steered else self._maps.maps[:, None, :]
        across = np.sqrt((needs[..., :2] ** 2).sum(axis=(1, 2))) / self._limits.top
        spin = np.sqrt((needs[..., 2] ** 2).sum(axis=1)) / self._limits.top
        self.settings: FrameSettings = FrameSettings(
            field=plane.frame == "field",
            straight_s=rig.dt_s if plane.straight == "on" else 0.0,
            lead_s=plane.lead_s,
            points=turning_points(rig),
            safe=np.array([across.max(), spin.max()]),
        )
        self.columns = named(
            "frame",
            ("heading", "rad"),
            ("field", ""),
            ("point", ""),
            ("forward", "m/s"),
            ("left", "m/s"),
            ("turn", "rad/s"),
        )
        self.kept_while = (len(self.settings.points),)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Frame | None:
        return cls(rig) if rig.law.kind == "planar" else None

    def place(self, layout: Layout) -> None:
        def at(stage: str, name: str) -> int:
            return layout.at(stage, name) if layout.has(stage, name) else -1

        self._in = layout.these("law", ("forward", "left", "turn"))
        self._out = layout.stage("frame")
        self._heading, self._upside_down = at("heading", "heading"), at("heading", "upside_down")
        self._routine = layout.at("routine", "frame")
        self._frame, self._set, self._next = (at("bindings", n) for n in ("frame", "set_heading", "next_point"))

    def start(self, batch: tuple[int, ...]) -> FrameState:
        none = np.zeros(batch)
        return FrameState(none, np.full(batch, float(self.settings.field)), none)

    def step(self, state: FrameState, row: Floats) -> FrameState:
        heading = row[..., self._heading] if self._heading >= 0 else np.zeros(row.shape[:-1])
        upside_down = row[..., self._upside_down] if self._upside_down >= 0 else None
        state = self._asked(state, row, heading)
        used = self._used(state, row[..., self._routine])
        ahead = heading - state.zero
        out = row[..., self._out]
        out[..., 0], out[..., 1], out[..., 2] = ahead, used.field, used.point
        out[..., 3:] = robot_twist(
            self.settings, self._limits, self._maps, self._forward, row[..., self._in], ahead, used, upside_down
        )
        return state

    @staticmethod
    def _used(state: FrameState, routine: Floats) -> FrameState:
        """Give the frame that counts in this tick: a routine says whose forward it means, and turns about the centre."""
        if not some(routine):
            return state
        asked = routine > 0
        field = np.where(asked, (routine == OF_FIELD).astype(float), state.field)
        return FrameState(state.zero, field, np.where(asked, 0.0, state.point))

    def _asked(self, state: FrameState, row: Floats, heading: Floats) -> FrameState:
        """Do what buttons ask for."""
        zero, field, point = state
        if self._frame >= 0 and some(row[..., self._frame]):
            asked = row[..., self._frame]
            field = np.where(asked == OTHER, 1.0 - field, np.where(asked > 0, asked - ROBOT, field))
        if self._set >= 0 and some(row[..., self._set]):
            zero = np.where(row[..., self._set] > 0, heading, zero)
        if self._next >= 0 and some(row[..., self._next]):
            point = np.where(row[..., self._next] > 0, (point + 1) % len(self.settings.points), point)
        return FrameState(zero, field, point)

    # --- what it tells ---

    def _words(self, told: Told) -> str:
        heading = wrap_deg(float(np.degrees(told("frame", "heading"))))
        words = [f"field, heading {heading:.0f} deg" if told("frame", "field") else "robot"]
        point = int(told("frame", "point"))
        words += [f"about {self._rig.plane.points[point - 1].name}"] if point else []
        words += ["on its back"] if told.get("heading", "upside_down") else []
        return ", ".join(words)

    def _motion(self, told: Told, digits: int) -> str:
        sign = "+" if digits == 3 else ""
        forward, left = (f"{told('frame', n):{sign}.{digits}f}" for n in ("forward", "left"))
        return f"forward {forward} left {left} m/s, turn {turning(float(np.degrees(told('frame', 'turn'))))}"

    def turns(self, told: Told) -> bool:
        """Tell whether the motion of the centre is another than the law's."""
        return any(abs(told("law", n) - told("frame", n)) > NOTHING for n in ("forward", "left", "turn"))

    def phrases(self, told: Told) -> list[str]:
        return [f"{self._words(told)}: {self._motion(told, 2)}"] if self.turns(told) else []

    def rungs(self, told: Told) -> list[Rung]:
        before = f"forward {told('law', 'forward'):+.3f} left {told('law', 'left'):+.3f}"
        return [Rung("frame", f"{before}, {self._words(told)} → {self._motion(told, 3)}", "plane.frame")]


def robot_twist(
    settings: FrameSettings,
    limits: LimitSettings,
    maps: Asked,
    forward: Floats,
    twist: Floats,
    ahead: Floats,
    state: FrameState,
    upside_down: Floats | None = None,
) -> Floats:
    """Turn the law's twist, B + (3,), of the turning point into that of the robot's centre, relative to the robot.

    ``ahead`` is the heading from the field's forward, B in rad. The turn that is reckoned in is the one that the limits
    leave: found by asking them `PASSES` times, where they may take anything at all.
    """
    turn = twist[..., 2]
    moved = _once(settings, twist, ahead, turn, state, upside_down)
    if not ((settings.straight_s or settings.lead_s) and some(state.field) and some(turn)):
        return moved
    # no wheel is asked for more than this share of what it can, whatever the direction
    most = np.hypot(moved[..., 0], moved[..., 1]) * settings.safe[0] + np.abs(turn) * settings.safe[1]
    if not some(most > 1.0):
        return moved
    point = state.point if some(state.point) else None
    for _ in range(PASSES):
        given = given_turn(limits, maps, forward, moved, upside_down, point)
        # where nothing can be taken the turn stays as it was asked, to the bit, whatever others of the batch do
        left = np.where(most > 1.0, given, turn)
        if not some(left != turn):
            break
        moved = _once(settings, twist, ahead, left, state, upside_down)
    return moved


def _once(
    settings: FrameSettings, twist: Floats, ahead: Floats, turn: Floats, state: FrameState, upside_down: Floats | None
) -> Floats:
    if some(state.field):
        turned = to_robot(twist, ahead, turn, settings.straight_s, settings.lead_s)
        twist = turned if not state.field.ndim else np.where(state.field[..., None] > 0, turned, twist)
    if some(state.point):
        x, y = np.moveaxis(settings.points[state.point.astype(np.intp)], -1, 0)
        moved = shift(twist, x, y if upside_down is None else np.where(upside_down > 0, -y, y))
        twist = np.where(state.point[..., None] > 0, moved, twist)  # about the centre even a sign of zero stays
    return twist
