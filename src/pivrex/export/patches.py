"""What every control does: a sheet to hang beside the pit table."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from pivrex.export.sheet import new_sheet, save_sheet
from pivrex.files import write_atomically
from pivrex.rig import Rig
from pivrex.rig.channels import CHANNELS, describe_channel
from pivrex.rig.patches import patches_of

__all__ = ["patch_rows", "write_patches"]

HEADER = ("source", "channel", "where", "does", "how")


def patch_rows(rig: Rig) -> list[tuple[str, ...]]:
    """Give a row for each patch: source, channel, where that is, what it does and how."""
    rows: list[tuple[str, ...]] = []
    for p in patches_of(rig):
        source = "the one that drives" if p.source == "chosen" else p.source
        where = describe_channel(p.channel) if p.channel in CHANNELS else ""
        how = []
        if p.binding is not None:
            how = [p.binding.when] if p.binding.when else ["held" if p.deed is not None and p.deed.lasts else "press"]
            how += [f"with {p.binding.with_}"] if p.binding.with_ else []
        elif p.lasts_s:
            how = [f"for {p.lasts_s * 1e3:g} ms"]
        rows.append((source, p.channel, where, p.function, ", ".join(how)))
    return rows


def write_patches(rig: Rig, path: Path) -> None:
    """Write them as .csv, .svg or .pdf; raises `SaveError`."""
    rows = patch_rows(rig)
    if path.suffix.lower() == ".csv":
        buffer = io.StringIO()
        csv.writer(buffer, lineterminator="\n").writerows([HEADER, *rows])
        write_atomically(path, buffer.getvalue())
        return
    figure, (sheet,) = new_sheet(8.5, 1.1 + 0.28 * len(rows))
    sheet.set_axis_off()
    table = sheet.table(cellText=[list(r) for r in rows], colLabels=list(HEADER), loc="center", cellLoc="left")
    table.auto_set_font_size(False)
    table.set_fontsize(8)
    table.auto_set_column_width(list(range(len(HEADER))))
    table.scale(1, 1.25)
    for (row, _), cell in table.get_celld().items():
        cell.set_edgecolor("#a9b0a2")
        cell.set_linewidth(0.6)
        if row == 0:
            cell.set_text_props(weight="bold")
    sheet.set_title(f"{rig.name}: what every control does", fontsize=10)
    save_sheet(figure, path)
