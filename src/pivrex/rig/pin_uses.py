"""Every pin that a rig names."""

from __future__ import annotations

from typing import NamedTuple

from pivrex.rig.tables import RigTables

__all__ = ["PinUse", "pins_of"]


class PinUse(NamedTuple):
    """The use of a pin: the key in the rig that names it, its owner, and its purpose."""

    key: str
    owner: str
    role: str
    pin: int | str


def pins_of(rig: RigTables) -> list[PinUse]:
    """Return every pin that a rig names: of motors, attachments and their encoders, then of sensors and sticks."""
    found = []
    owners = dict(zip(rig.all_motors(), rig.motor_names, strict=True))
    parts = {**rig.all_motors(), **{f"attachments.{n}": a for n, a in rig.attachments.items()}}
    for key, part in parts.items():
        owner = owners.get(key, key.partition(".")[2])
        found += [PinUse(f"{key}.output.{role}", owner, role, pin) for role, pin in part.output.pins().items()]
        for k, pin in enumerate(getattr(part, "encoder_pins", ())):
            found.append(PinUse(f"{key}.encoder_pins", owner, f"encoder {'AB'[k]}", pin))
        sensor = getattr(part, "sensor", None)
        if sensor is not None and sensor.pin != "":
            found.append(PinUse(f"{key}.sensor.pin", owner, "angle sensor", sensor.pin))
    return found + _sensing(rig)


def _sensing(rig: RigTables) -> list[PinUse]:
    """Return the pins of sensors and sticks."""
    found = []
    for name, sensor in rig.sensors.items():
        for role in ("trigger_pin", "echo_pin"):
            if getattr(sensor, role, "") != "":
                found.append(PinUse(f"sensors.{name}.{role}", name, role.removesuffix("_pin"), getattr(sensor, role)))
    if rig.gyro is not None and rig.gyro.pin != "":
        found.append(PinUse("gyro.pin", "gyro", "gyro", rig.gyro.pin))
    if rig.tilt is not None:
        pins = {"rate": rig.tilt.rate_pin, "forward": rig.tilt.forward_pin, "up": rig.tilt.up_pin}
        found += [PinUse(f"tilt.{n}_pin", f"tilt {n}", f"tilt {n}", pin) for n, pin in pins.items() if pin != ""]
    if rig.battery.pin != "":
        found.append(PinUse("battery.pin", "battery", "battery divider", rig.battery.pin))
    if rig.board.start_pin != "":
        found.append(PinUse("board.start_pin", "board", "start", rig.board.start_pin))
    for name, source in rig.sources.items():
        for channel, pin in (
            source.pins.items() if source.kind == "pins" else ()
        ):  # a transmitter has a board of its own
            found.append(PinUse(f"sources.{name}.pins.{channel}", name, channel, pin))
    return found
