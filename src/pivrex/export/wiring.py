"""The wiring of a rig: port, pin, and what it drives; as a table or a drawing."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from pivrex.export.sheet import new_sheet, save_sheet
from pivrex.files import write_atomically
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
    rows = wiring_rows(rig)
    if path.suffix.lower() == ".csv":
        buffer = io.StringIO()
        writer = csv.writer(buffer, lineterminator="\n")
        writer.writerows([HEADER, *rows])
        write_atomically(path, buffer.getvalue())
        return
    figure, (sheet,) = new_sheet(9.0, 1.1 + 0.32 * len(rows))
    sheet.set_axis_off()
    table = sheet.table(cellText=[list(r) for r in rows], colLabels=list(HEADER), loc="center", cellLoc="left")
    table.auto_set_font_size(False)
    table.set_fontsize(8)
    table.auto_set_column_width(list(range(len(HEADER))))
    table.scale(1, 1.35)
    for (row, _), cell in table.get_celld().items():
        cell.set_edgecolor("#a9b0a2")
        cell.set_linewidth(0.6)
        if row == 0:
            cell.set_text_props(weight="bold")
    sheet.set_title(f"{rig.name}: wiring of the motors", fontsize=10)
    save_sheet(figure, path)
