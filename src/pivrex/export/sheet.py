"""The sheet that every drawing is made on: sizes, colours and how it is saved."""

from __future__ import annotations

import csv
import io
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from pivrex.files import write_atomically

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["COMMANDED", "GHOST", "MEASURED", "TARGET", "THING", "new_sheet", "save_sheet", "write_rows"]

# the same meanings as on the screen, dark enough for paper
COMMANDED, MEASURED, TARGET, GHOST = "#9a4f00", "#00695e", "#6440a8", "#8b9186"
THING = "#5c7032"


def new_sheet(width_in: float, height_in: float, columns: int = 1) -> tuple[Figure, list[Axes]]:
    """Make a figure with a row of axes. It belongs to no window."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    # text stays text: searchable, and editable in a drawing program
    mpl.rcParams.update({"svg.fonttype": "none", "pdf.fonttype": 42, "font.family": "DejaVu Sans", "font.size": 9})
    figure = Figure(figsize=(width_in, height_in), layout="constrained")
    axes = [figure.add_subplot(1, columns, i + 1) for i in range(columns)]
    for one in axes:
        one.grid(True, color="#d9d9d9", linewidth=0.6)
        one.set_axisbelow(True)
        for side in ("top", "right"):
            one.spines[side].set_visible(False)
    return figure, axes


def save_sheet(figure: Figure, path: Path) -> None:
    """Save as what the suffix says, SVG or PDF, whole or not at all; the same drawing gives the same bytes."""
    import matplotlib as mpl

    kind = path.suffix.lower().lstrip(".")
    buffer = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else {"CreationDate": None}
    with mpl.rc_context({"svg.hashsalt": "pivrex"}):
        figure.savefig(buffer, format=kind, metadata=metadata)  # None takes the date out
    write_atomically(path, buffer.getvalue())


def write_rows(title: str, header: Sequence[str], rows: Sequence[Sequence[str]], path: Path, width_in: float) -> None:
    """Write rows of text as .csv (to standard output if the path is ``-``), or as a table on a sheet; raises `SaveError`."""
    if path.suffix.lower() == ".csv" or str(path) == "-":
        buffer = io.StringIO()
        csv.writer(buffer, lineterminator="\n").writerows([header, *rows])
        if str(path) == "-":
            sys.stdout.write(buffer.getvalue())
        else:
            write_atomically(path, buffer.getvalue())
        return
    figure, (sheet,) = new_sheet(width_in, 1.1 + 0.32 * len(rows))
    sheet.set_axis_off()
    table = sheet.table(cellText=[list(r) for r in rows], colLabels=list(header), loc="center", cellLoc="left")
    table.auto_set_font_size(False)
    table.set_fontsize(8)
    table.auto_set_column_width(list(range(len(header))))
    table.scale(1, 1.35)
    for (row, _), cell in table.get_celld().items():
        cell.set_edgecolor("#a9b0a2")
        cell.set_linewidth(0.6)
        if row == 0:
            cell.set_text_props(weight="bold")
    sheet.set_title(title, fontsize=10)
    save_sheet(figure, path)
