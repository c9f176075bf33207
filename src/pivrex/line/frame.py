"""Frame: whether the robot's forward or the field's counts, and the point about which the robot turns."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import cos, div, hypot, sin, whole
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, part
from pivrex.kernels.records import field as of_size
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.heading import HeadingColumns
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import WheelsColumns, kinematics_of, side_of, wheel_need
from pivrex.line.law import LawColumns
from pivrex.line.limits import BOTH, LimitScratch, LimitSettings, fit_hubs, fit_speeds, turning_points
from pivrex.line.limits import settings_of as limits_of
from pivrex.line.routine_stage import OF_FIELD, RoutineColumns
from pivrex.line.se2 import straightened
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick, turning
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["Frame", "FrameColumns", "FrameScratch", "FrameSettings", "FrameState", "frame_step", "to_robot"]

ROBOT, FIELD, OTHER = 1.0, 2.0, 3.0
"""The command in the bindings' column."""

DUST_RAD_S = 1e-9
"""Less than this is rounding."""

PASSES = 4
"""How often the turn that the limits leave is computed again. Each pass leaves at most a quarter of the error before it;
after four the direction of a path at the limits is right to 0.05 degrees on every robot of the demo.
"""


class FrameSettings(Record):
    """How a rig moves in the plane.

    Attributes
    ----------
    field : flag
        Whether the field's forward counts at the start.
    straight : float
        The time of a tick if the turn of each tick counts, else 0.
    lead : float
        How far ahead of now the heading is taken, in s, for motors that lag.
    points : (Q, 2)
        Turning points in m; the centre first.
    safe : (2,)
        A speed in m/s, in any direction, and a turn in rad/s that every wheel can by itself, each as 1 over it.
    limits : LimitSettings
        What the limits will leave of the turn.
    turns : (2, W·D)
        The rows of the forward map that give the turn, on its wheels and on its back.
    frame, set_heading, next_point : int
        The columns of the bindings, -1 for none.
    """

    is_settings = True

    field_first: Flag = of_size()
    straight: Number = of_size(unit="s")
    lead: Number = of_size(unit="s")
    points: Numbers = of_size("points", 2, unit="m")
    safe: Numbers = of_size(2)
    limits: LimitSettings = part()
    turns: Numbers = of_size(2, "parts")
    frame: Whole = of_size()
    set_heading: Whole = of_size()
    next_point: Whole = of_size()


class FrameState(Record):
    """The memory of the frame, B each: the heading of the field's forward direction, whether the field's forward counts, and the index of
    the turning point.
    """

    zero: Number = of_size(unit="rad")
    field: Flag = of_size()
    point: Number = of_size()


class FrameColumns(Record):
    """The heading from the field's forward, whether that counts, the turning point, and the twist of the centre relative to the robot."""

    heading: Number = of_size(unit="rad")
    field: Flag = of_size()
    point: Number = of_size()
    twist: Numbers = of_size(3, unit="m/s, m/s, rad/s")


class FrameScratch(Record):
    """Where the limits are asked beforehand."""

    is_scratch = True

    limits: LimitScratch = part()
    wheels: WheelsColumns = part()
    limited: Numbers = of_size("parts", unit="m/s")
    twist: Numbers = of_size(3)


@kernel
def to_robot(forward: float, left: float, heading: float, turn: float, dt: float, lead: float) -> tuple[float, float]:
    """Return a velocity along the field's directions, in m/s, as the robot-relative one that keeps to the asked direction all through
    a tick.

    Parameters
    ----------
    heading : float
        Of the robot at the beginning of the tick, in rad.
    turn : float
        How fast the robot will really turn, in rad/s: what the limits leave of the commanded turn.
    dt : float
        The tick's length; with 0 the velocity is right only at its beginning, and the path drifts to one side by half of the
        tick's turn.
    lead : float
        Takes the heading this much later: wheels that follow with a lag do now the command of that long ago, when the
        robot stood otherwise.
    """
    angle, gain = heading + turn * lead, 1.0
    if dt != 0.0:
        half, gain = straightened(turn * dt)
        angle += half
    c, s = cos(angle) * gain, sin(angle) * gain
    return c * forward + s * left, c * left - s * forward


@kernel
def moved_centre(
    s: FrameSettings, side: int, point: int, is_field: bool, law: LawColumns, ahead: float, turn: float, twist: Numbers
) -> None:
    """Write the twist of the robot's centre, relative to the robot, from the law's of the turning point. ``turn``: what is left of it."""
    twist[0], twist[1], twist[2] = law.twist[0], law.twist[1], law.twist[2]
    if is_field:
        twist[0], twist[1] = to_robot(twist[0], twist[1], ahead, turn, s.straight, s.lead)
    if point > 0:  # v_centre = v_point - ω × r
        y = -s.points[point][1] if side == 1 else s.points[point][1]
        twist[0] += twist[2] * y
        twist[1] -= twist[2] * s.points[point][0]


@kernel
def limited_turn(s: FrameSettings, w: FrameScratch, side: int, point: int, twist: Numbers) -> float:
    """Return the turn, in rad/s, that the limits leave of a motion of the robot's centre."""
    limits = s.limits
    needs, many = limits.needs, len(w.limited)
    for k in range(many):
        if needs.steered:
            w.wheels.hub[k] = wheel_need(needs, side, k, twist)
        else:
            w.wheels.requested[k] = wheel_need(needs, side, k, twist)
    if needs.steered:
        for k in range(len(needs.top)):
            w.wheels.requested[k] = hypot(w.wheels.hub[2 * k], w.wheels.hub[2 * k + 1])
        fit_hubs(limits, w.limits, side, point, twist, w.wheels, w.limited)
    else:
        fit_speeds(limits, w.limits, side, point, twist, w.wheels.requested, w.limited)
    if not limits.clip and limits.first == BOTH:  # all by one factor
        full, left = 0.0, 0.0
        for k in range(many):
            full += abs(w.wheels.hub[k] if needs.steered else w.wheels.requested[k])
            left += abs(w.limited[k])
        return twist[2] * div(left, full) if full > 0.0 else twist[2]
    total = 0.0
    for k in range(many):
        total += s.turns[side][k] * w.limited[k]
    return total


@kernel
def robot_twist(
    s: FrameSettings, w: FrameScratch, side: int, point: int, is_field: bool, law: LawColumns, ahead: float, out: Numbers,
) -> None:  # fmt: skip
    """Write the law's twist of the turning point as that of the robot's centre, relative to the robot.

    ``ahead`` is the heading from the field's forward, in rad. The turn that counts is the one that the limits
    leave: found by asking them `PASSES` times, where they may take anything at all.
    """
    turn = law.twist[2]
    moved_centre(s, side, point, is_field, law, ahead, turn, out)
    if not is_field or turn == 0.0 or (s.straight == 0.0 and s.lead == 0.0):
        return
    # no wheel gets more than this share of its limit, whatever the direction
    if not hypot(out[0], out[1]) * s.safe[0] + abs(turn) * s.safe[1] > 1.0:
        return
    for _ in range(PASSES):
        left = limited_turn(s, w, side, point, out)
        if abs(left - turn) < DUST_RAD_S:
            break
        moved_centre(s, side, point, is_field, law, ahead, left, out)


@kernel
def requested_frame(
    s: FrameSettings, before: FrameState, after: FrameState, bindings: BindingsColumns, heading: float
) -> None:
    """Do what buttons ask for."""
    after.zero, after.field, after.point = before.zero, before.field, before.point
    if s.frame >= 0:
        requested = bindings.value[s.frame]
        if requested == OTHER:
            after.field = not before.field
        elif requested > 0.0:
            after.field = requested > ROBOT
    if s.set_heading >= 0 and bindings.value[s.set_heading] > 0.0:
        after.zero = heading
    if s.next_point >= 0 and bindings.value[s.next_point] > 0.0:
        after.point = before.point + 1.0
        if after.point >= len(s.points):
            after.point = 0.0


@kernel
def frame_step(
    s: FrameSettings, w: FrameScratch, before: FrameState, after: FrameState, heading: HeadingColumns, bindings: BindingsColumns,
    law: LawColumns, routine: RoutineColumns, out: FrameColumns,
) -> None:  # fmt: skip
    """Turn the law's twist into that of the centre relative to the robot. A routine says whose forward it means, and turns about the
    centre.
    """
    now = heading.heading[0] if len(heading.heading) > 0 else 0.0
    requested_frame(s, before, after, bindings, now)
    is_field, point = after.field, whole(after.point)
    if routine.frame > 0.0:
        is_field, point = routine.frame == OF_FIELD, 0
    ahead = now - after.zero
    out.heading, out.field, out.point = ahead, is_field, 1.0 * point
    robot_twist(s, w, side_of(heading), point, is_field, law, ahead, out.twist)


class Frame(Stage):
    """For robots that move in the plane: the twist of the centre relative to the robot, from the law's."""

    name = "frame"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._rig = rig
        plane = rig.plane
        maps = kinematics_of(rig.chassis)
        limits, points = limits_of(rig), turning_points(rig)
        own = limits.needs
        needs = own.maps[0].reshape(len(own.top), -1, 3)
        across = np.sqrt((needs[..., :2] ** 2).sum(axis=(1, 2))) / own.top
        spin = np.sqrt((needs[..., 2] ** 2).sum(axis=1)) / own.top
        turns = [maps.forward[2], kinematics_of(rig.chassis, upside_down=True).forward[2]]
        columns = ("frame", "set_heading", "next_point")
        count, parts = len(own.top), len(turns[0])
        self.settings: FrameSettings = Form(FrameSettings, points=len(points), parts=parts, limits=limits.form).of(
            field_first=plane.frame == "field",
            straight=rig.ask_dt_s if plane.straight == "on" else 0.0,
            lead=plane.lead_s,
            points=points,
            safe=(across.max(), spin.max()),
            limits=limits,
            turns=turns,
            **{name: column_of(rig, inputs, name) for name in columns},
        )
        self.form, self.memory = Form(FrameColumns), Form(FrameState)
        self.begins = {"field": self.settings.field_first}
        self.scratch = Form(
            FrameScratch, parts=parts, limits=Form(LimitScratch, parts=parts),
            wheels=Form(WheelsColumns, wheels=count, hubs=2 * count if own.steered else 0),
        )  # fmt: skip
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
        return cls(rig, inputs) if rig.law.kind == "planar" else None

    # --- explanation ---

    def _words(self, tick: WheelTick) -> str:
        heading = wrap_deg(float(np.degrees(tick("frame", "heading"))))
        words = [f"field, heading {heading:.0f} deg" if tick("frame", "field") else "robot"]
        point = int(tick("frame", "point"))
        words += [f"about {self._rig.plane.points[point - 1].name}"] if point else []
        words += ["on its back"] if tick.get("heading", "upside_down") else []
        return ", ".join(words)

    def _motion(self, tick: WheelTick, digits: int) -> str:
        sign = "+" if digits == 3 else ""
        forward, left = (f"{tick('frame', n):{sign}.{digits}f}" for n in ("forward", "left"))
        return f"forward {forward} left {left} m/s, turn {turning(float(np.degrees(tick('frame', 'turn'))))}"

    def turns(self, tick: WheelTick) -> bool:
        """Return whether the motion of the centre is another than the law's."""
        return any(abs(tick("law", n) - tick("frame", n)) > NOTHING for n in ("forward", "left", "turn"))

    def phrases(self, tick: WheelTick) -> list[str]:
        return [f"{self._words(tick)}: {self._motion(tick, 2)}"] if self.turns(tick) else []

    def rungs(self, tick: WheelTick) -> list[Rung]:
        before = f"forward {tick('law', 'forward'):+.3f} left {tick('law', 'left'):+.3f}"
        return [Rung("frame", f"{before}, {self._words(tick)} → {self._motion(tick, 3)}", "plane.frame")]
