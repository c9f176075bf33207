"""Mistakes between the tables of a rig, each of which is correct by itself."""

from __future__ import annotations

import numpy as np

from pivrex.rig.balance_mistakes import balance_mistakes
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.controls import ON_BENCH, same_stick
from pivrex.rig.geometry import impossible_motion
from pivrex.rig.pin_uses import pins_of
from pivrex.rig.plane import Plane
from pivrex.rig.steering import steering_name
from pivrex.rig.tables import RigTables

__all__ = ["table_mistakes"]

AHEAD_ONLY = ', or a button that does "reverse"'

REST_MAY_READ = 0.05
"""What a resting trigger may read at most; a calibration by which it reads more drives by itself."""


def table_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """Return pairs of a dotted key and what is wrong there."""
    return [
        *(_bench_mistakes(rig) if rig.is_bench else _motor_mistakes(rig)),
        *_steering_mistakes(rig),
        *_axis_mistakes(rig),
        *_reading_mistakes(rig),
        *_button_mistakes(rig),
        *([] if rig.is_bench or rig.law.kind == "each" else _law_mistakes(rig)),
        *_correction_mistakes(rig),
        *_control_mistakes(rig),
        *balance_mistakes(rig),
        *_pin_mistakes(rig),
        *_encoder_mistakes(rig),
        *_alone_mistakes(rig),
    ]


def _motor_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    found = []
    wheels = {wheel.name: wheel for wheel in rig.chassis.wheels}
    driven: dict[str, str] = {}
    for name, motor in rig.motors.items():
        for i, wheel in enumerate(motor.wheels):
            if wheel not in wheels:
                found.append((f"motors.{name}.wheels.{i}", f'is "{wheel}", but the chassis has {_listed(wheels)}'))
            elif wheel in driven:
                found.append((f"motors.{name}.wheels.{i}", f'is "{wheel}", which motor {driven[wheel]} turns already'))
            driven.setdefault(wheel, name)
        known = [wheels[w] for w in motor.wheels if w in wheels]
        if len({w.y_m for w in known}) > 1 and rig.chassis.shape == "two-sided":
            found.append(
                (f"motors.{name}.wheels", "are on both sides; they need different speeds when the robot turns")
            )
        elif len(known) > 1 and rig.chassis.shape != "two-sided" and not _alike(rig, [w.name for w in known]):
            found.append(
                (
                    f"motors.{name}.wheels",
                    "need different speeds for one motion of the robot, but one motor turns them at one rate",
                )
            )
        if len({w.radius_m for w in known}) > 1:
            found.append((f"motors.{name}.wheels", "have different radii, but one motor turns them at one rate"))
    return found + _without_wheels(rig, [name for name in wheels if name not in driven])


def _without_wheels(rig: RigTables, idle: list[str]) -> list[tuple[str, str]]:
    """Mistakes: parts of a bench in a rig that has a chassis; ``idle`` are its wheels without a motor."""
    found = [
        (
            f"motors.{name}.wheels",
            f"is missing; the wheels it turns, such as {_listed(idle[:1] or [w.name for w in rig.chassis.wheels[:1]])}",
        )
        for name, motor in rig.motors.items()
        if not motor.wheels
    ]
    if rig.law.kind == "each":
        what = 'is "each", which drives motors on a bench; a rig with [chassis] has a law that moves it'
        found.append(("law.kind", what))
    for table, motors in (("law", rig.law.motors), ("shaping", rig.shaping.motors)):
        found += [(f"{table}.motors", "is for motors on a bench, in a rig without [chassis]")] if motors else []
    if idle:
        found.append(("motors", f"turn no wheel {_listed(idle)}; every wheel of the chassis needs a motor"))
    return found


def _bench_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """Mistakes of a rig without a chassis."""
    found = [
        (
            f"motors.{name}.wheels",
            "are wheels, but the rig has no [chassis] to which they belong; add one, or leave this out on a bench",
        )
        for name, motor in rig.motors.items()
        if motor.wheels != (name,)
    ]
    if rig.law.kind != "each":
        found.append(("law.kind", f'is "{rig.law.kind}", but without [chassis] it is "each"'))
    if not rig.motors:
        found.append(("motors", "are none; a bench, a rig without [chassis], needs one at least"))
    for name in rig.motors:
        if name not in rig.law.motors:
            found.append((f"law.motors.{name}", f'is missing; say which channel drives it, such as "{ON_BENCH[0]}"'))
    found += [
        (f"law.motors.{n}", f"is no motor; there are {_listed(rig.motors)}")
        for n in rig.law.motors
        if n not in rig.motors
    ]
    found += [
        (f"shaping.motors.{n}", f"is no motor; there are {_listed(rig.motors)}")
        for n in rig.shaping.motors
        if n not in rig.motors
    ]
    found += [
        (key, "needs wheels on the floor, but the rig has no [chassis]; leave it out")
        for key, there in (
            ("steering", rig.steering is not None), ("correction", rig.correction is not None), ("gyro", rig.gyro is not None),
            ("upside_down", rig.upside_down is not None), ("sensors", bool(rig.sensors)), ("body", rig.has_realistic_physics),
        )
        if there
    ]  # fmt: skip
    return found


def _alike(rig: RigTables, wheels: list[str]) -> bool:
    """Return whether wheels that are not steered run at one speed in every motion."""
    names = [w.name for w in rig.chassis.wheels]
    geometry = rig.chassis.geometry
    rows = [geometry.rows[geometry.of_wheel == names.index(w)] for w in wheels]
    return all(r.shape[0] == 1 and np.allclose(r, rows[0]) for r in rows)


def _steering_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    found = []
    steered = [w.name for w in rig.chassis.wheels if w.steered]
    motors = rig.steering.wheels if rig.steering is not None else {}
    for name in motors:
        if name not in steered:
            what = (
                "which is not steered" if name in [w.name for w in rig.chassis.wheels] else "which the chassis has not"
            )
            found.append((f"steering.wheels.{name}", f"is for a wheel {what}; steered are {_listed(steered)}"))
        if steering_name(name) in rig.motors:
            found.append((f"motors.{steering_name(name)}", "has the name of a steering motor; call it something else"))
    missing = [name for name in steered if name not in motors]
    if missing:
        key = "steering.wheels" if rig.steering is not None else "steering"
        found.append(
            (key, f'has no motor for the steered wheel {_listed(missing)}; add [steering.wheels."{missing[0]}"]')
        )
    return found


def _button_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """A button does one thing."""
    used = {rig.channel(a): rig.law.key(role) for role, a in rig.law.axes().items()}
    found = []
    for key, button in rig.buttons().items():
        if button in used:
            found.append((key, f'is "{button}", which is {used[button]} already; choose another'))
        used.setdefault(button, key)
    return found


def _law_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    found = []
    geometry = rig.chassis.geometry
    wanted = {"forward": (1.0, 0.0, 0.0), "turn": (0.0, 0.0, 1.0)}
    if rig.law.kind == "planar":
        wanted["sideways"] = (0.0, 1.0, 0.0)
    for function, twist in wanted.items():
        requested = np.array(twist)
        got = geometry.followed(requested)
        # a law that does not speak of sideways leaves it to the chassis: a driven axle off the centre turns about itself
        part = slice(None) if rig.law.kind == "planar" else [0, 2]
        if not np.allclose(got[part], requested[part], rtol=0, atol=1e-6):
            motion = impossible_motion(requested)
            reason = (
                "its wheels only roll straight ahead"
                if rig.chassis.shape == "two-sided"
                else "its plain wheels would be dragged sideways"
                if geometry.drags
                else "no wheel of it drives that way"
            )
            if function == "turn" and geometry.can(np.array([0.0, 0.0, 1.0]) - _sideways(got)):
                reason = "it turns about a point that is not its centre, and would move sideways"
            found.append(
                ("law.kind", f'is "{rig.law.kind}", which asks for {motion}, but this chassis cannot do that: {reason}')
            )
    if rig.law.full_left_m_s is not None and rig.law.kind != "planar":
        found.append(("law.full_left", f"is given, but the law {rig.law.kind} does not move sideways"))
    found += _direction_mistakes(rig)
    if rig.limits.fit == "clip" and rig.limits.first != "both":
        found.append(
            (
                "limits.first",
                f'is "{rig.limits.first}", but fit = "clip" cuts each wheel by itself, whatever comes first',
            )
        )
    if rig.law.kind != "planar" and rig.plane != Plane():
        found.append(("plane", f'is given, but the law is "{rig.law.kind}"; only "planar" reads it'))
    if rig.gyro is None and (rig.plane.frame == "field" or rig.plane.switch):
        key = "plane.frame" if rig.plane.frame == "field" else "plane.switch"
        found.append((key, "needs to know the heading, but the rig has no gyro; add a table [gyro]"))
    return found


def _correction_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    if rig.correction is not None and rig.gyro is None:
        return [("correction", "is given, but the rig has no gyro; add a table [gyro]")]
    return []


def _control_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    if rig.control is None or rig.control.wheels != "pid":
        return []
    blind = [name for name, motor in rig.motors.items() if not motor.counts_per_turn]
    if not blind:
        return []
    return [("control.wheels", f'is "pid", which needs encoders, but {_listed(blind)} has none (counts_per_turn is 0)')]


def _direction_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    if rig.shaping.direction == "free":
        return []
    if rig.law.kind != "planar":
        return [
            ("shaping.direction", f'is "kept", but the law is "{rig.law.kind}"; only "planar" moves in any direction')
        ]
    if rig.shaping.measure == "axis":
        return [("shaping.direction", 'is "kept", but measure = "axis" turns a push at the dead band; say "stick"')]
    axes = rig.law.axes()
    if not same_stick(rig.channel(axes["forward"]), rig.channel(axes["sideways"])):
        return [("shaping.direction", 'is "kept", but forward and sideways are not the two directions of one stick')]
    return []


def _axis_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    found = []
    for name, axis in rig.axes.items():
        if axis.source not in ("chosen", "gamepad", "keys", "sticks", *rig.sources):
            known = ", ".join(["chosen", "gamepad", "keys", "sticks", *rig.sources])
            found.append((f"axes.{name}.source", f'is "{axis.source}", but the sources are {known}'))
        elif axis.source in rig.sources and rig.channel(name) not in rig.sources[axis.source].channels():
            there = ", ".join(rig.sources[axis.source].channels())
            found.append((f"axes.{name}.channel", f'is "{rig.channel(name)}", but {axis.source} has {there}'))
        if not axis.channel and name not in CHANNELS:
            found.append(
                (
                    f"axes.{name}",
                    f'names no channel; give it one, such as channel = "left_y", or call it by its channel ({", ".join(CHANNELS[:4])}, ...)',
                )
            )
        if is_one_sided(rig.channel(name)) and axis.source not in rig.sources and not axis.reversed:
            # a trigger of a gamepad, of keys or of a stick on the screen rests at 0
            rest = (0.0 - axis.minimum) / (axis.maximum - axis.minimum)
            if rest > REST_MAY_READ:
                found.append(
                    (
                        f"axes.{name}.minimum",
                        f"is {axis.minimum:g}, but a trigger rests at 0, which would read {rest:.2f}; leave it out or say 0",
                    )
                )
        if is_one_sided(rig.channel(name)) and axis.centre is not None:
            found.append(
                (f"axes.{name}.centre", "is given, but a trigger or button rests at one end and has no centre")
            )
    return found


def _reading_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """Mistakes in the law's inputs: axes must exist, each with its own channel, a stick or a trigger as the law needs."""
    found = []
    for role, name in rig.law.axes().items():
        if name not in rig.axes and name not in CHANNELS:
            known = _listed(rig.axes)
            found.append(
                (rig.law.key(role), f'is "{name}", which is neither an axis of this rig ({known}) nor a channel')
            )
            return found
        one_sided = is_one_sided(rig.channel(name))
        if role in ("ahead", "back") and not one_sided and not rig.is_bench:
            found.append((f"law.{role}", f'reads "{name}", a stick; it needs a trigger or a button'))
        reversed_by = role == "forward" and any(b.does.strip() == "reverse" for b in rig.bindings)
        if role not in ("ahead", "back") and one_sided and not rig.is_bench and not reversed_by:
            found.append(
                (
                    f"law.{role}",
                    f'reads "{name}", which goes only one way; it needs a stick{AHEAD_ONLY * (role == "forward")}',
                )
            )
    axes = rig.law.axes()
    channels: dict[str, str] = {}
    for role, name in axes.items():
        other = channels.setdefault(rig.channel(name), role)
        if other != role and not found:
            found.append(
                (
                    rig.law.key(role),
                    f'reads the channel "{rig.channel(name)}", which is {rig.law.key(other)} already; choose another',
                )
            )
    if rig.law.kind in ("arcade", "split arcade") and not found:
        one = same_stick(rig.channel(axes["forward"]), rig.channel(axes["turn"]))
        if rig.law.kind == "arcade" and not one:
            found.append(("law.turn", 'reads another stick than law.forward; that is the law "split arcade"'))
        if rig.law.kind == "split arcade" and one:
            found.append(("law.turn", 'reads the same stick as law.forward; that is the law "arcade"'))
    return found


def _pin_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    found = []
    used: dict[str, str] = {}
    outputs = {**rig.outputs(), **{f"attachments.{name}": a.output for name, a in rig.attachments.items()}}
    places = [(f"{key}.output.port", f"port {out.port}") for key, out in outputs.items() if out.port]
    for key, word in [*places, *((use.key, f"pin {use.pin}") for use in pins_of(rig))]:
        if word in used:
            found.append((key, f"is {word}, which {used[word]} uses already"))
        used.setdefault(word, key)
    return found


def _encoder_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    if rig.link is None or rig.link.encoders != "counts":
        return []
    without = [
        key
        for key, motor in rig.all_motors().items()
        if not motor.counts_per_turn and getattr(motor, "sensor", None) is None
    ]
    what = f'is "counts", but {without[0]} has no counts_per_turn; give it, or say "converted"' if without else ""
    return [("link.encoders", what)] if what else []


def _alone_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """Return what is wrong with the source of a board that drives by itself."""
    name = rig.board.source
    if not name:
        what = 'is missing; mode = "alone" needs one of [sources] that drives the board'
        return [("board.source", what)] if rig.board.mode == "alone" else []
    if name not in rig.sources:
        known = ", ".join(rig.sources) or "none"
        return [("board.source", f'is "{name}", but the sources are {known}')]
    source, found = rig.sources[name], []
    if source.kind not in ("pins", "packets", "numbers") or getattr(source, "labels", None):
        what = f'is "{name}", of the kind {source.kind}; a board reads pins, packets, and numbers with columns'
        return [("board.source", what)]
    if source.kind != "pins" and source.wire.kind != "serial":
        found.append((f"sources.{name}.wire.kind", "must be serial: the board reads this source, and has no network"))
    return found


def _sideways(twist: np.ndarray) -> np.ndarray:
    return np.array([0.0, -float(twist[1]), 0.0])


def _listed(names: object) -> str:
    return ", ".join(f'"{name}"' for name in names) or "none"  # type: ignore[attr-defined]
