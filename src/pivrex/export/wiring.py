"""The wiring of a rig: port, pin, and what it drives; as a table or a drawing."""

from __future__ import annotations

from pathlib import Path

from pivrex.export.sheet import write_rows
from pivrex.rig import Rig
from pivrex.rig.outputs import ServoOutput

__all__ = ["wiring_rows", "write_wiring"]

HEADER = ("motor", "port", "pin", "signal", "drives", "polarity", "PWM in Hz", "bits", "counts per wheel turn")


def wiring_rows(rig: Rig) -> list[tuple[str, ...]]:
    """Give a row for each pin, or one for a motor that names none."""
    rows: list[tuple[str, ...]] = []
    for name, motor in rig.motors.items():
        output = motor.output
        pulsed = getattr(output, "pwm_hz", None)
        drives = "wheel " + " and ".join(motor.wheels)
        shared = (
            drives,
            "reversed" if motor.reversed else "normal",
            f"{pulsed:g}" if pulsed is not None else "",
            str(getattr(output, "bits", "")),
            f"{motor.counts_per_wheel_turn:g}" if motor.counts_per_turn else "",
        )
        pins = output.pins()
        for role, pin in pins.items():
            signal = role.removesuffix("_pin").replace("_", " ")
            if signal == "pin":
                signal = "servo pulse" if isinstance(output, ServoOutput) else "PWM"
            rows.append((name, output.port, str(pin), signal, *shared))
        if not pins:
            rows.append((name, output.port, "", output.kind, *shared))
    return rows


def write_wiring(rig: Rig, path: Path) -> None:
    """Write the wiring as .csv, .svg or .pdf; raises `SaveError`."""
    write_rows(f"{rig.name}: wiring of the motors", HEADER, wiring_rows(rig), path, 9.0)
