"""Changes the wheels of a rig file: place, kind, one more, one less. Comments and order stay."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Literal

from pivrex.rig.edit import set_key
from pivrex.rig.rig import Rig
from pivrex.units import format_quantity, split

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["KINDS", "Kind", "added", "moved", "of_kind", "removed"]

Kind = Literal["plain", "omni", "mecanum", "steered"]
KINDS: tuple[Kind, ...] = ("plain", "omni", "mecanum", "steered")

Edit = Callable[["TOMLDocument"], None]

STEERING = {"top_speed": "9000 rpm", "gear": 90, "counts_per_turn": 12, "output": {"kind": "duty"}}
"""A steering motor to begin with, where the rig has none to copy."""


def moved(index: int, x_m: float, y_m: float) -> Edit:
    """Put a wheel at a place, rounded to a millimetre, in the units that stand there."""

    def change(document: TOMLDocument) -> None:
        wheel: Any = document["chassis"]["wheels"][index]
        for key, value in (("x", x_m), ("y", y_m)):
            written = wheel.get(key)
            unit = split(str(written))[1] if isinstance(written, str) else ""
            set_key(document, f"chassis.wheels.{index}.{key}", format_quantity(round(value, 3), "length", unit or "mm"))

    return change


def of_kind(rig: Rig, index: int, kind: Kind) -> Edit:
    """Make a wheel plain, omni, mecanum or steered.

    A mecanum wheel gets the slant that lets four of them turn: -45 deg where x·y is not negative, else 45 deg. A steered
    one gets a steering motor like the others', or one to begin with.
    """
    wheel = rig.chassis.wheels[index]
    here = f"chassis.wheels.{index}"

    def change(document: TOMLDocument) -> None:
        slant = "-45 deg" if wheel.x_m * wheel.y_m >= 0 else "45 deg"
        set_key(document, f"{here}.rollers", {"omni": "0 deg", "mecanum": slant}.get(kind))
        set_key(document, f"{here}.steered", True if kind == "steered" else None)
        if kind == "steered":
            set_key(document, f"{here}.drive", None)
            _add_steering(document, rig, wheel.name)
        elif wheel.steered:
            _drop_steering(document, wheel.name)

    return change


def added(rig: Rig, index: int) -> tuple[str, Edit]:
    """Add a wheel like another one, on the other side of the centre, with a motor of its own; returns its name too."""
    wheel = rig.chassis.wheels[index]
    names = {w.name for w in rig.chassis.wheels} | set(rig.motors)
    name = next(n for n in (f"wheel {i}" for i in range(1, 100)) if n not in names)
    taken = {(w.x_m, w.y_m) for w in rig.chassis.wheels}
    candidates = [(-wheel.x_m, wheel.y_m), (wheel.x_m, -wheel.y_m), (-wheel.x_m, -wheel.y_m)]
    candidates += [(wheel.x_m + 0.05 * i, wheel.y_m) for i in range(1, 50)]
    x, y = next(p for p in candidates if p not in taken)
    motor = next(n for n, m in rig.motors.items() if wheel.name in m.wheels)

    def change(document: TOMLDocument) -> None:
        wheels: Any = document["chassis"]["wheels"]
        new = dict(wheels[index].unwrap())
        new.update(
            name=name, x=format_quantity(round(x, 3), "length", "mm"), y=format_quantity(round(y, 3), "length", "mm")
        )
        _append(wheels, new)
        copied = dict(document["motors"][motor].unwrap())
        copied["wheels"] = [name]
        copied["output"] = _unplugged(copied["output"])
        copied.pop("encoder_pins", None)
        document["motors"][name] = _table(copied)
        if wheel.steered:
            _add_steering(document, rig, name)

    return name, change


def removed(rig: Rig, index: int) -> Edit:
    """Delete a wheel, with its motor if that turns no other."""
    name = rig.chassis.wheels[index].name

    def change(document: TOMLDocument) -> None:
        wheels: Any = document["chassis"]["wheels"]
        del wheels[index]
        motors: Any = document["motors"]
        for motor, described in rig.motors.items():
            if name in described.wheels:
                rest = [w for w in described.wheels if w != name]
                if rest:
                    motors[motor]["wheels"] = rest
                else:
                    del motors[motor]
        if rig.chassis.wheels[index].steered:
            _drop_steering(document, name)

    return change


def _append(wheels: Any, new: dict[str, Any]) -> None:
    import tomlkit
    from tomlkit.items import AoT

    if isinstance(wheels, AoT):
        wheels.append(_table(new))
        return
    inline = tomlkit.inline_table()
    inline.update(new)
    wheels.append(inline)


def _table(values: dict[str, Any]) -> Any:
    import tomlkit

    table = tomlkit.table()
    for key, value in values.items():
        inline = tomlkit.inline_table()
        if isinstance(value, dict):
            inline.update(value)
        table.add(key, inline if isinstance(value, dict) else value)
    return table


def _unplugged(output: dict[str, Any]) -> dict[str, Any]:
    """An output without its port and pins, which belong to another motor."""
    return {k: v for k, v in output.items() if k not in {"port", "pin"} and not k.endswith("_pin")}


def _add_steering(document: TOMLDocument, rig: Rig, wheel: str) -> None:
    import tomlkit

    if "steering" not in document:
        document["steering"] = tomlkit.table()
    steering: Any = document["steering"]
    if "wheels" not in steering:
        steering["wheels"] = tomlkit.table(is_super_table=True)
    motors = steering["wheels"]
    if wheel in motors:
        return
    like = next(iter(motors.values()), None)
    values: dict[str, Any] = dict(like.unwrap()) if like is not None else {**STEERING}
    values["output"] = _unplugged(dict(values["output"]))
    motors[wheel] = _table(values)


def _drop_steering(document: TOMLDocument, wheel: str) -> None:
    steering: Any = document["steering"]
    del steering["wheels"][wheel]
    if not len(steering["wheels"]):
        del document["steering"]
