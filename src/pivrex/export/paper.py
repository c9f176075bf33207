"""Prints scenes on paper, as SVG or PDF: a page of letters and lines on which scenes, texts and tables are placed."""

from __future__ import annotations

import csv
import io
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.files import write_atomically
from pivrex.scene.marks import FAINT, Area, Caption, Label, Rim, shapes
from pivrex.scene.palette import LIGHT
from pivrex.scene.placing import Placing
from pivrex.scene.scene import Scene

__all__ = ["LETTER", "LINE", "PAPERS", "Page", "Text", "save_pages", "write_rows"]

Floats = NDArray[np.float64]

LETTER, LINE = 4.8, 11.0
"""Points (1/72 inch) of a letter and of a line of text, which is set in 8 points."""

PAPERS = {"A4": (595.28, 841.89), "letter": (612.0, 792.0)}
"""Sizes of paper, in points."""

FONT = "DejaVu Sans Mono"
SIZE = 8.0
NEAR = 0.8
"""Lines from a point to what stands above or below it."""

STROKE, FINEST = 0.6, 0.35
"""Lines are thinner than on the screen by this, and never thinner than so many points."""


class Text(NamedTuple):
    """A text on a page: where its upper left corner lies, in letters and lines, and how many times the usual size it has."""

    column: float
    row: float
    text: str
    role: str
    size: float = 1.0


class Page:
    """A page, ``columns`` letters wide and ``rows`` lines high.

    Attributes
    ----------
    scenes : list of (Scene, Placing, column, row)
    texts : list of Text
    rules : list of (column, row, columns)
        Level lines.
    """

    def __init__(self, columns: float, rows: float) -> None:
        self.columns, self.rows = columns, rows
        self.scenes: list[tuple[Scene, Placing, float, float]] = []
        self.texts: list[Text] = []
        self.rules: list[tuple[float, float, float]] = []

    def scene(self, scene: Scene, column: float, row: float, columns: int, rows: int) -> Placing:
        """Place a scene in a rectangle, margins included."""
        placing = scene.placing(columns, rows, LETTER, LINE)
        self.scenes.append((scene, placing, column, row))
        return placing

    def text(self, column: float, row: float, text: str, named: str = "rest", size: float = 1.0) -> None:
        """Write a text."""
        if text:
            self.texts.append(Text(column, row, text, named, size))

    def table(
        self, column: float, row: float, title: str, head: Sequence[str], rows: Sequence[Sequence[str]], columns: int,
        alarms: Sequence[int] = (), right: Sequence[int] = (),
    ) -> float:  # fmt: skip
        """Write a table ``columns`` letters wide; what is too long is cut. Rows in ``alarms`` are marked, columns in ``right`` are
        set to the right. Returns the row after it.
        """
        wide = [max(len(str(cell)) for cell in cells) for cells in zip(head, *rows, strict=True)]
        over = sum(wide) + 2 * (len(wide) - 1) - columns
        widest = int(np.argmax(wide))
        wide[widest] = max(4, wide[widest] - max(0, over))
        if title:
            self.text(column, row, title, "title", 1.25)
            row += 1.5
        for number, cells in enumerate((head, *rows)):
            at = column
            for k, (cell, size) in enumerate(zip(cells, wide, strict=True)):
                shown = cell if len(cell) <= size else cell[: size - 1] + "…"
                named = "dim" if number == 0 else "alarm" if number - 1 in alarms else "title" if k == 0 else "rest"
                self.text(at + (size - len(shown) if k in right else 0), row, shown, named)
                at += size + 2
            if number == 0:
                self.rules.append((column, row + 1.15, columns))
                row += 0.35
            row += 1
        return row

    def figure(self) -> Any:
        """Draw the page with the library for paper."""
        import matplotlib as mpl
        from matplotlib.figure import Figure
        from matplotlib.lines import Line2D

        # text stays text: searchable, and editable in a drawing program
        mpl.rcParams.update({"svg.fonttype": "none", "pdf.fonttype": 42, "font.family": FONT})
        width, height = self.columns * LETTER, self.rows * LINE
        figure = Figure(figsize=(width / 72, height / 72), facecolor="white")
        axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
        axes.set_axis_off()
        axes.set_xlim(0.0, width)
        axes.set_ylim(height, 0.0)
        for scene, placing, column, row in self.scenes:
            _draw(axes, scene, placing, np.array([column * LETTER, row * LINE]))
        for column, row, columns in self.rules:
            x = [column * LETTER, (column + columns) * LETTER]
            axes.add_line(Line2D(x, [row * LINE] * 2, color=LIGHT["frame"], linewidth=0.6))
        for one in self.texts:
            _write(axes, one.column * LETTER, (one.row + 0.5) * LINE, one.text, one.role, one.size)
        return figure


def _write(axes: Any, x: float, y: float, text: str, named: str, size: float = 1.0) -> None:
    bold = named == "title" or size > 1.0
    axes.text(
        round(x, 3), round(y, 3), text, color=LIGHT.get(named) or LIGHT["rest"], fontsize=SIZE * size,
        fontweight="bold" if bold else "normal", ha="left", va="center", parse_math=False, zorder=1e6,
    )  # fmt: skip


def _draw(axes: Any, scene: Scene, placing: Placing, corner: Floats) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Polygon, Rectangle

    marks, origin = scene.all_marks(), corner + np.array([placing.margins.left * LETTER, placing.margins.top * LINE])
    size = np.array([placing.columns * LETTER, placing.rows * LINE])
    frame = Rectangle(tuple(origin), *size, transform=axes.transData)
    for number, shape in enumerate(shapes(marks, placing), 1):
        # everything far outside is clipped anyway
        if isinstance(shape, Area):
            drawn: Any = Polygon(np.clip(shape.corners, -1e5, 1e5) + origin, closed=True, facecolor=LIGHT[shape.role],
                                 edgecolor=LIGHT[shape.role], linewidth=0.2)  # fmt: skip
            axes.add_patch(drawn)
        elif isinstance(shape, Rim):
            points = np.clip(shape.points, -1e5, 1e5) + origin
            drawn = Line2D(points[:, 0], points[:, 1], color=LIGHT[shape.role], solid_joinstyle="round",
                           linewidth=max(FINEST, shape.width * STROKE), solid_capstyle="butt")  # fmt: skip
            axes.add_line(drawn)
        else:  # a stamp: paper uses none
            continue
        drawn.set_gid(shape.role.replace(" ", "-") + ("" if isinstance(shape, Area) else "-line"))
        drawn.set_zorder(number)  # the library would draw all lines over all areas
        drawn.set_clip_path(frame)
    _captions(axes, marks, placing, corner)
    _labels(axes, marks, placing, origin)


def _captions(axes: Any, marks: Sequence[Any], placing: Placing, corner: Floats) -> None:
    """Write the captions in the margins, those at the right first; one without room is left out."""
    margins = placing.margins
    first: dict[int, int] = {}
    last: dict[int, int] = {}
    captions = [m for m in marks if isinstance(m, Caption)]
    for mark in sorted(captions, key=lambda m: not m.where.endswith("right")):
        row = 0 if mark.where.startswith("top") else margins.top + placing.rows
        left, right = first.get(row, margins.left), last.get(row, margins.left + placing.columns)
        if left + len(mark.text) > right:
            continue
        at = right - len(mark.text) if mark.where.endswith("right") else left
        if mark.where.endswith("right"):
            last[row] = at - 2
        else:
            first[row] = at + len(mark.text) + 2
        _write(axes, corner[0] + at * LETTER, corner[1] + (row + 0.5) * LINE, mark.text, mark.role)


def _labels(axes: Any, marks: Sequence[Any], placing: Placing, origin: Floats) -> None:
    """Write texts at points, the heaviest first, where they do not cover each other."""
    taken: list[tuple[float, float, float]] = []
    for label in sorted((m for m in marks if isinstance(m, Label)), key=lambda m: -m.weight):
        if (
            label.weight < FAINT
            or not np.isfinite(label.point).all()
            or not placing.holds(*placing.cell(*label.point.tolist()))
        ):
            continue
        size = len(label.text) * LETTER
        for side in label.sides:
            x, y = (placing.points(label.point) + origin).tolist()
            parts = side.split("-")
            y += LINE * (parts.count("below") - parts.count("above")) * NEAR
            x += {"left": -size - LETTER / 2, "right": LETTER, "from": 0.0, "to": -size}.get(parts[0] if len(parts) == 1 else next(
                (p for p in parts if p in ("left", "right", "from", "to")), ""), -size / 2)  # fmt: skip
            free = all(x + size < a or b < x or abs(y - at) >= LINE * 0.75 for a, b, at in taken)
            if free or label.weight == np.inf:
                _write(axes, x, y, label.text, label.role)
                taken.append((x, x + size, y))
                break


def save_pages(pages: Sequence[Page], path: Path) -> list[Path]:
    """Save pages as what the suffix says, whole or not at all: as one .pdf, or as an .svg for each page. The same pages give the same
    bytes. Returns what was written.

    Raises
    ------
    SaveError
    """
    import matplotlib as mpl
    from matplotlib.backends.backend_pdf import PdfPages

    if path.suffix.lower() == ".pdf":
        buffer = io.BytesIO()
        with PdfPages(buffer, metadata={"CreationDate": None}) as book:  # None removes the date
            for page in pages:
                book.savefig(page.figure())
        write_atomically(path, buffer.getvalue())
        return [path]
    written = []
    for number, page in enumerate(pages, 1):
        buffer = io.BytesIO()
        with mpl.rc_context({"svg.hashsalt": "pivrex"}):
            page.figure().savefig(buffer, format="svg", metadata={"Date": None})
        file = path if number == 1 else path.with_name(f"{path.stem}-{number}{path.suffix}")
        write_atomically(file, buffer.getvalue())
        written.append(file)
    return written


def write_rows(title: str, header: Sequence[str], rows: Sequence[Sequence[str]], path: Path) -> None:
    """Write rows of text as .csv (to standard output if the path is ``-``), or as a table on a page; raises `SaveError`."""
    if path.suffix.lower() == ".csv" or str(path) == "-":
        buffer = io.StringIO()
        csv.writer(buffer, lineterminator="\n").writerows([header, *rows])
        if str(path) == "-":
            sys.stdout.write(buffer.getvalue())
        else:
            write_atomically(path, buffer.getvalue())
        return
    columns = sum(max(len(cell) for cell in cells) + 2 for cells in zip(header, *rows, strict=True))
    page = Page(columns + 6, len(rows) + 7)
    page.table(4, 2, title, header, rows, columns - 2)
    save_pages([page], path)
