"""The wiring of a rig: port, pin, and what it drives, steers or moves; as a table or a drawing."""

from __future__ import annotations

from pathlib import Path

from pivrex.export.paper import write_rows
from pivrex.rig import Rig
from pivrex.rig.attachments import PulseOutput, SwitchOutput
from pivrex.rig.outputs import Output, ServoOutput
from pivrex.rig.pin_uses import pins_of
from pivrex.rig.sources import NumbersSource, PacketsSource
from pivrex.rig.steering import steering_name

__all__ = ["wiring_rows", "write_wiring"]

HEADER = ("motor", "port", "pin", "signal", "drives", "polarity", "PWM in Hz", "bits", "counts per turn")


def wiring_rows(rig: Rig) -> list[tuple[str, ...]]:
    """Return a row for each pin, or one for what names none: the motors that drive, those that steer, the attachments, then
    encoders, sensors and sticks; last those of transmitters, which have boards of their own.
    """
    rows: list[tuple[str, ...]] = []
    for name, motor in rig.motors.items():
        counts = motor.counts_per_wheel_turn if motor.counts_per_turn else 0.0
        rows += _of(name, motor.output, "wheel " + " and ".join(motor.wheels), motor.reversed, counts)
    for wheel in rig.steered:
        assert rig.steering is not None
        turner = rig.steering.wheels[wheel]
        counts = turner.counts_per_turn * turner.gear
        rows += _of(steering_name(wheel), turner.output, f"steers {wheel}", turner.reversed, counts)
    for name, a in rig.attachments.items():
        rows += _of(name, a.output, a.kind, getattr(a, "reversed", None), getattr(a, "counts_per_turn", 0.0))
    senses = {"encoder A": "counts", "encoder B": "counts", "trigger": "sends a sound", "echo": "hears it"}
    for use in pins_of(rig):
        if ".output." not in use.key:
            rows.append((use.owner, "", str(use.pin), use.role, senses.get(use.role, "measures"), "", "", "", ""))
    for name, source in rig.sources.items():
        if isinstance(source, NumbersSource | PacketsSource):
            rows += [
                (name, "", str(pin), channel, "on its transmitter", "", "", "", "")
                for channel, pin in source.pins.items()
            ]
    return rows


def _of(
    name: str, output: Output | PulseOutput | SwitchOutput, drives: str, turned: bool | None, counts: float
) -> list[tuple[str, ...]]:
    """Return the rows of one output. ``counts`` are those of the wheel or the attachment, 0 without an encoder."""
    pulsed = getattr(output, "pwm_hz", None)
    shared = (
        drives,
        "" if turned is None else "reversed" if turned else "normal",
        f"{pulsed:g}" if pulsed is not None else "",
        str(getattr(output, "bits", "")),
        f"{counts:g}" if counts else "",
    )
    only = "servo pulse" if isinstance(output, ServoOutput | PulseOutput) else "PWM"
    if isinstance(output, SwitchOutput):
        only = "low is on" if output.low_is_on else "high is on"
    pins = output.pins()
    named = {pin: only if role == "pin" else role.removesuffix("_pin").replace("_", " ") for role, pin in pins.items()}
    if pins:
        return [(name, output.port, str(pin), signal, *shared) for pin, signal in named.items()]
    return [(name, output.port, "", getattr(output, "kind", only), *shared)]


def write_wiring(rig: Rig, path: Path) -> None:
    """Write the wiring as .csv, .svg or .pdf; raises `SaveError`."""
    write_rows(f"{rig.name}: wiring", HEADER, wiring_rows(rig), path)
