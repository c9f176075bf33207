"""Learned values as changes of the rig, in the units of its file, so that its simulated robot behaves like the real one."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import tomlkit

from pivrex.rig.changes import Change, put_changes
from pivrex.rig.rig import Rig
from pivrex.sim.body.settings import Conditions, settings_of
from pivrex.units import KINDS, format_quantity, split

__all__ = ["Change", "changes_for", "put_into"]

DIGITS = 4
"""How many digits are written: more would say that more is known."""


def changes_for(rig: Rig, text: str, values: Mapping[str, float]) -> list[Change]:
    """Return the changes of a rig for learned values; changes without an effect are left out.

    Parameters
    ----------
    values : mapping
        By the keys of `pivrex.runs.learning.learn.Learned`, in its units.

    Notes
    -----
    The simulated robot takes its torque from the lag unless the rig says a stall torque; then that is scaled as the lag asks. Its friction is
    what is left of the static drive next to what rolling and casters take.
    """
    data = tomllib.loads(text)
    found: list[Change] = []

    def put(key: str, value: float, kind: str, unit: str) -> None:
        before = _at(data, key)
        if isinstance(before, str) and kind != "number":
            unit = split(before)[1] or unit
        after = _written(value, kind, unit)
        if before != after:
            found.append(Change(key, before, after))

    _put_motors(rig, put, values)
    for key, kind, unit in _ALONE:
        if key in values:
            put(key, values[key], kind, unit)
    if "gyro.bias" in values:
        put("gyro.bias", float(np.radians(abs(values["gyro.bias"]))), "turn rate", "deg/s")
    return found


_ALONE = (("odometry.scrub", "number", ""), ("gyro.scale", "fraction", "%"))
_CONTROL = (
    ("control.static", "fraction", "%"),
    ("control.acceleration", "time", "ms"),
    ("control.speed", "fraction", "%"),
)


def _put_motors(rig: Rig, put: Callable[..., None], values: Mapping[str, float]) -> None:
    wheels = {w.name: w for w in rig.chassis.wheels}
    top = values.get("motors.*.top_speed")
    if top is None:
        return
    # the learned value is the mean of all; a motor's own top speed is that of the best motor, the reference of the others
    strengths = [
        min(1.0, values[f"motors.{name}.strength"]) for name in rig.motors if f"motors.{name}.strength" in values
    ]
    top *= float(np.mean([1 / s for s in strengths])) if strengths else 1.0
    for name, motor in rig.motors.items():
        put(f"motors.{name}.top_speed", top / wheels[motor.wheels[0]].radius_m * motor.gear, "turn rate", "rpm")
        if f"motors.{name}.strength" in values:
            put(f"motors.{name}.strength", min(1.0, values[f"motors.{name}.strength"]), "fraction", "%")
    _put_friction(rig, put, values["control.static"], top, values["lag"])
    put("lag", values["lag"], "time", "ms")
    control = rig.control
    for key, kind, unit in _CONTROL if control is not None else ():
        if key != "control.speed" or (control is not None and control.speed is not None):
            put(key, values[key], kind, unit)


def _put_friction(rig: Rig, put: Callable[..., None], static: float, top: float, lag: float) -> None:
    wheels = {w.name: w for w in rig.chassis.wheels}
    turned = {
        name: motor.model_copy(
            update={"top_speed_rad_s": top / wheels[motor.wheels[0]].radius_m * motor.gear, "friction": 0.0}
        )
        for name, motor in rig.motors.items()
    }
    smallest = {name: (m.smallest, m.smallest) for name, m in rig.motors.items()}
    body = settings_of(rig.model_copy(update={"motors": turned, "lag_s": lag}), smallest, Conditions())
    casters = sum(
        load * grip
        for motor, load, grip in zip(body.motor, body.loads[0, :, 0], np.sqrt(body.squares[:, 0]), strict=True)
        if motor < 0
    )
    motors = zip(body.stall, body.running, body.rotor_inertia, strict=True)
    for (name, motor), (own_stall, running, inertia) in zip(rig.motors.items(), motors, strict=True):
        radius = wheels[motor.wheels[0]].radius_m
        if motor.stall_Nm is not None:
            # torque that follows from the lag: (m r² + I)·ω/τ
            each = float(body.mass) / len(rig.motors)
            wanted = (each * radius**2 + inertia) * top / radius / lag
            put(f"motors.{name}.stall", motor.stall_Nm * wanted / own_stall, "torque", "mNm")
            stall = wanted
        else:
            stall = own_stall
        drags = float(body.mass) * casters * radius / len(rig.motors)
        put(f"motors.{name}.friction", max(0.0, static - (running + drags) / stall), "fraction", "%")
        if static > motor.smallest:
            put(f"motors.{name}.smallest", static, "fraction", "%")


def _at(data: Any, key: str) -> Any:
    for part in key.split("."):
        data = data.get(part) if isinstance(data, dict) else None
    return data


def _written(value: float, kind: str, unit: str) -> Any:
    if kind == "number":
        return float(f"{value:.{DIGITS}g}")
    scaled = value / KINDS[kind].units[unit]
    return format_quantity(float(f"{scaled:.{DIGITS}g}") * KINDS[kind].units[unit], kind, unit)


def put_into(text: str, changes: Sequence[Change]) -> str:
    """Return a rig's text with changes made; comments and order stay."""
    document = tomlkit.parse(text)
    put_changes(document, changes)
    return tomlkit.dumps(document)
