"""All numbers of Field: motion, pose, estimate, the realistic body, sensors; and faults."""

from __future__ import annotations

from math import isfinite
from textwrap import wrap
from weakref import WeakKeyDictionary

import numpy as np

from pivrex.line.kinematics import kinematics_of, vectors
from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.line.odometry import Odometry
from pivrex.line.questions.disagreement import Disagreement, disagreement
from pivrex.line.stage import Floats
from pivrex.scene.floor import EstimatedPose
from pivrex.sim.traction import traction_of
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel
from pivrex.units import wrap_deg

__all__ = ["LIFTS_N", "SLIDES_M_S", "FieldNumbers", "estimate_error", "estimated_of", "hints", "of_wheels"]

SLIDES_M_S = 0.08
"""A tyre that is dragged faster than this is said to slide."""

LIFTS_N = 0.02
Row = tuple[str, list[tuple[str, str]]]
"""A name, and what is said of it in parts, each with its role."""

WORDS = 42
"""How long may a part of a row be."""


def estimated_of(model: ScreenModel) -> EstimatedPose | None:
    """Return the robot's estimated pose."""
    x, y, heading, xx, xy, yy = (model.value("odometry", n) for n in ("x", "y", "heading", "xx", "xy", "yy"))
    if not isfinite(x + y + heading + xx + xy + yy):
        return None
    return EstimatedPose((x, y, heading), np.array([[xx, xy], [xy, yy]]))


def of_wheels(model: ScreenModel, what: str) -> list[float]:
    """Return what is true of each wheel with realistic physics; NaN of others."""
    return [model.value("truth", f"{plain(w)}_{what}") for w in model.line.wheels]


def estimate_error(model: ScreenModel, estimated: EstimatedPose) -> tuple[float, float]:
    """Return how sure the robot is of its place (one sigma) and how far off it is, in m; NaN where it is not known."""
    x, y, _ = estimated.pose
    sigma = float(np.sqrt(max(0.0, np.trace(estimated.covariance) / 2)))
    return sigma, float(np.hypot(x - model.value("truth", "x"), y - model.value("truth", "y")))


def hints(model: ScreenModel) -> list[tuple[str, str]]:
    """Return what is wrong, the worst first, each with its role."""
    found, wheels = [], model.line.wheels
    if model.value("truth", "blocked") == 1:
        found.append("it stands against something")
    restart = model.value("truth", "restart")
    if restart > 0:
        found.append(f"sagged: electronics start again, {restart:.1f} s")
    lifting = [w for w, v in zip(wheels, of_wheels(model, "load"), strict=True) if v < LIFTS_N]
    sliding = [(v, w) for w, v in zip(wheels, of_wheels(model, "slip"), strict=True) if v > SLIDES_M_S]
    if lifting and not model.status.lifted:
        found.append(f"{' and '.join(lifting)} lift{'s' * (len(lifting) == 1)}")
    elif sliding:
        if model.line not in _HELD:
            _HELD[model.line] = traction_of(model.rig).ahead
        held = _HELD[model.line]
        found.append(f"{max(sliding)[1]} slides {max(sliding)[0]:.2f} m/s: its tyres grip up to {held:.1f} m/s²")
    humming = [m for m in model.rig.motors if model.value("outputs", f"{plain(m)}_hums") == 1]
    if humming:
        found.append(f"{' and '.join(humming)} only hum{'s' * (len(humming) == 1)}: too little to turn")
    apart = disagreement_of(model)
    if apart is not None and apart.wrong:
        found.append(apart.said)
    return [(f"! {said}", "alarm") for said in found]


_HELD: WeakKeyDictionary[Line, float] = WeakKeyDictionary()
"""The hardest start that the tyres of a line's robot hold, in m/s²."""


def disagreement_of(model: ScreenModel) -> Disagreement | None:
    """Return what wheels and gyro disagree about, if they do."""
    apart = [model.value("odometry", n) for n in ("apart_still", "apart_turning", "turned")]
    if model.rig.balance is not None:  # its wheels never stand: the counts to and fro look like turns
        apart[1:] = [0.0, 0.0]
    return disagreement(*apart) if model.rig.gyro is not None and all(map(isfinite, apart)) else None


def _measured(line: Line, row: Floats) -> Floats:
    """Return the twist that the encoders measure in a Tick, (3,): forward and left in m/s, turn in rad/s."""
    chassis = line.rig.chassis
    layout, wheels = line.layout, [plain(w) for w in line.wheels]
    speeds = row[..., [layout.at("sensed", f"{w}_speed") for w in wheels]]
    maps = kinematics_of(chassis)
    if maps.hubs is not None:
        speeds = vectors(speeds, row[..., layout.stage("pointing")])
    measured: Floats = np.einsum("kw,...w->...k", maps.forward, speeds)
    return measured


class FieldNumbers(Panel):
    """A row for each, with what does not fit in the next."""

    def draw(self, width: int, height: int) -> Picture:
        picture, y = Picture(width, height), 0
        for name, values in self._rows():
            if y >= height:
                break
            picture.text(0, y, f"{name:<9}", "dim")
            at = 9
            for text, named in values:
                if at + len(text) > width and at > 9:
                    y, at = y + 1, 9
                at = picture.text(at, y, text, named) + 2
            y += 1
        return picture

    def _estimate_rows(self) -> list[Row]:
        """Return the robot's estimated pose, how sure it is, how far off, and what its wheels and its gyro disagree about."""
        model, estimated = self.model, estimated_of(self.model)
        if estimated is None:
            return []
        x, y, heading = estimated.pose
        sigma, off = estimate_error(model, estimated)
        said = [
            (f"x {number(x, 2, 5)} m", "measured"), (f"y {number(y, 2, 5)} m", "measured"),
            (f"{number(wrap_deg(float(np.degrees(heading))), 0, 4)} deg", "measured"),
            (f"± {sigma * 100:.1f} cm", "target"),
        ]  # fmt: skip
        if isfinite(off):
            said.append((f"off {off * 100:.1f} cm", "alarm" if off > 3 * sigma + 0.02 else "rest"))
        rows = [("estimate", said)]
        stage = model.line.stages["odometry"]
        if isinstance(stage, Odometry) and stage.basis != "wheels and gyro":
            rows.append(("", [(f"by {stage.basis}", "dim")]))
        found = disagreement_of(model)
        if found is not None:
            words = f"! {found.said}" if found.wrong else found.said
            rows.append(("turn", [(part, "alarm" if found.wrong else "rest") for part in wrap(words, WORDS)]))
        return rows

    def _floor(self) -> list[Row]:
        """Numbers of a realistic body: its motion over the floor next to the wheels' measurements, slip, battery."""
        model = self.model
        rows = model.history
        if (
            not model.rig.has_realistic_physics
            or model.row is None
            or len(rows) < 2
            or not isfinite(model.value("truth", "battery"))
        ):
            return []
        layout = model.line.layout
        place = layout.these("truth", ("x", "y", "heading"))
        now, before = rows[-1, place], rows[-min(len(rows), 4), place]
        t = float(rows[-1, layout.at("clock", "t")] - rows[-min(len(rows), 4), layout.at("clock", "t")])
        moved = (now - before) / t if t > 0 else np.zeros(3)
        c, s = np.cos(now[2]), np.sin(now[2])
        forward, left = float(c * moved[0] + s * moved[1]), float(c * moved[1] - s * moved[0])
        measured = _measured(model.line, model.row)
        volts = model.value("truth", "battery")
        sideways = (
            [(f"sideways {turning(left, 2, 'm/s', steady=True)}", "rest")] if model.rig.law.kind == "planar" else []
        )
        found = [
            ("measured", [(f"forward {number(float(measured[0]))} m/s", "measured"),
                      (f"turn {turning(float(np.degrees(measured[2])), 0, 'deg/s', 3, True)}", "measured")]),
            ("true", [(f"forward {number(forward)} m/s", "rest"), *sideways,
                      (f"turn {turning(float(np.degrees(moved[2])), 0, 'deg/s', 3, True)}", "rest")]),
        ]  # fmt: skip
        found.append(("battery", [(f"{volts:.2f} V of {model.rig.battery.volts:g} V", "rest")]))
        for name, sensor in model.rig.sensors.items():
            value = model.value("sensed", plain(name))
            if sensor.kind == "ranger":
                found.append(
                    (name[:7], [(f"{value:.2f} m" if value > 0 else "no echo", "measured" if value > 0 else "dim")])
                )
            else:
                found.append(
                    (
                        name[:7],
                        [(f"reads {value:g}" if value > 0 else "sees nothing", "measured" if value > 0 else "dim")],
                    )
                )
        return found

    def _sideways(self) -> list[tuple[str, str]]:
        if self.model.rig.law.kind != "planar":
            return []
        left = self.model.value("motion", "left")
        return [(f"sideways {turning(left, 2, 'm/s', steady=True)}", "commanded")]

    def _rows(self) -> list[Row]:
        model, line = self.model, self.model.line
        heading = wrap_deg(model.degrees("truth", "heading")) if model.row is not None else 0.0
        turn = turning(model.degrees("motion", "turn"), 0, "deg/s", 3, True)
        forward = f"forward {number(model.value('motion', 'forward'))} m/s"
        rows: list[Row] = [("motion", [(forward, "commanded"), *self._sideways(), (f"turn {turn}", "commanded")])]
        if isfinite(model.value("truth", "x")) or model.row is None:  # the true pose of a real robot is unknown
            x, y = (number(model.value("truth", axis), 2, 5) for axis in "xy")
            said = (f"x {x} m", f"y {y} m", f"heading {number(heading, 0, 4)} deg")
            rows.append(("pose", [(one, "measured") for one in said]))
        rows += self._estimate_rows()
        rows += self._floor()
        for i, wheel in enumerate(line.wheels):
            motor = next(m for m in model.rig.motors.values() if wheel in m.wheels)
            travel = model.value("sensed", f"{plain(wheel)}_travel")
            values = [(f"{wheel} rolled {number(travel, 2, 7)} m", "measured")]
            if motor.counts_per_turn and isfinite(travel):
                counts = motor.counts(travel, model.rig.chassis.wheels[i].radius_m)
                values.append((f"= {counts:+7.0f} counts".replace("-", "−"), "rest"))
            if "steering" in line.stages and model.rig.chassis.wheels[i].steered:
                angle = wrap_deg(model.degrees("pointing", f"{plain(wheel)}_angle"))
                values.append((f"points {number(angle, 0, 4)} deg", "measured"))
            rows.append(("sensed", values))
        if line.layout.has("heading", "heading") and model.row is not None:
            gyro, ahead = (wrap_deg(model.degrees(*of)) for of in (("sensed", "gyro"), ("heading", "heading")))
            off = f"{number(ahead, 0, 4)} deg from the field's forward"
            rows.append(("gyro", [(f"says {number(gyro, 0, 4)} deg", "measured"), (off, "rest")]))
        if line.layout.has("sensed", "up") and model.row is not None:
            side = "on its back" if model.value("heading", "upside_down") == 1 else "on its wheels"
            rows.append(("side", [(f"up {number(model.value('sensed', 'up'))} g", "measured"), (side, "rest")]))
        contact = hints(model) or [("no contact, all tyres grip", "dim")]
        return [*rows, *(("" if k else "contact", [one]) for k, one in enumerate(contact))]
