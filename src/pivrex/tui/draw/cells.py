"""Prints a scene on cells: draws it as roles, 8 x 16 points per cell without anti-aliasing, and fits each cell to a character.

A cell of one role is that role's ground. A cell of several takes the two that matter most, and the block whose two parts
differ least within (least squares). What a part holds of each of the two roles is kept as a blend of their colours.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from math import inf, isfinite
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

try:
    from PIL import Image, ImageDraw
except ImportError:  # then drawings are dots; the screen says so once
    Image = ImageDraw = None  # type: ignore[assignment]

from pivrex.export.paper import Page
from pivrex.scene.marks import FAINT, ROLES, Area, Caption, Label, Mark, Rim, Spot, role, shapes
from pivrex.scene.placing import Margins, Placing
from pivrex.scene.scene import Scene
from pivrex.tui.draw.dots import draw_dots
from pivrex.tui.draw.fit import HIGH, WIDE, fit
from pivrex.tui.draw.picture import TEXT, Picture, Placed

__all__ = ["draw_pages", "draws_dots", "placing_of", "print_scene"]

Bytes = NDArray[np.uint8]
Floats = NDArray[np.float64]

HAIRLINE = 1.0
"""Points: thinner lines are for paper alone."""

_MATTERS = np.isin(
    np.arange(len(ROLES)),
    [
        role(n)
        for n in ("commanded", "measured", "target", "alarm", "limit", "nose", "command fill", "measure fill", "title")
    ],
)
"""Roles that no label covers."""

Ends = dict[int, tuple[int, int]]


class Ready(NamedTuple):
    """A label in cells: the places where it may begin, the best first."""

    weight: float
    text: str
    role: str
    places: tuple[tuple[int, int], ...]


class Printed(NamedTuple):
    """A scene drawn as roles, its cells, the captions in its margins with the free columns there, and its labels; all with the part below."""

    raster: Bytes
    cells: Picture
    written: Picture
    labels: list[Ready]
    ends: Ends


def placing_of(scene: Scene, width: int, height: int) -> Placing:
    """Return where a scene lies in ``width`` x ``height`` cells."""
    return scene.placing(width, height, WIDE, HIGH)


_KEPT: OrderedDict[tuple[int, int, int], tuple[Scene, Printed]] = OrderedDict()
_LAST: dict[tuple[int, int, int], Printed] = {}
"""The last frame over what lies below."""

MAX_KEPT = 64


def _kept(scene: Scene, width: int, height: int) -> Printed:
    """Print the part below once, and keep it while it is used."""
    key = id(scene), width, height
    found = _KEPT.get(key)
    if found is None or found[0] is not scene:
        found = _KEPT[key] = scene, _print(scene, width, height)
        if len(_KEPT) > MAX_KEPT:
            _KEPT.popitem(last=False)
    _KEPT.move_to_end(key)
    return found[1]


def print_scene(scene: Scene, width: int, height: int) -> Picture:
    """Print a scene on ``width`` x ``height`` cells."""
    if width < 1 or height < 1:
        return Picture(width, height)
    printed = _print(scene, width, height)
    margins = scene.margins
    picture = printed.written
    picture.place(printed.cells, margins.left, margins.top)
    _write_labels(picture, printed.labels, margins)
    picture.scenes = [Placed(scene, 0, 0, width, height)]
    return picture


def draw_pages(pages: Sequence[Page], width: int) -> Picture:
    """Draw pages for paper below each other: a letter is a cell, a line a row."""
    picture = Picture(width, sum(int(page.rows) for page in pages))
    top = 0
    for page in pages:
        for scene, placing, column, row in page.scenes:
            margins = placing.margins
            size = margins.left + placing.columns + margins.right, margins.top + placing.rows + margins.bottom
            picture.place(print_scene(scene, *size), int(column), top + int(row))
        for column, row, columns in page.rules:
            picture.across(top + int(row), int(column), int(column + columns))
        for one in page.texts:
            picture.text(int(one.column), top + int(one.row), one.text, one.role)
        top += int(page.rows)
    return picture


def _print(scene: Scene, width: int, height: int) -> Printed:
    """Print a scene: its cells, and next to them what is written and marked."""
    placing = placing_of(scene, width, height)
    columns, rows = placing.columns, placing.rows
    below = _kept(scene.below, width, height) if scene.below is not None else None
    raster = _drawn(scene, placing, below.raster if below is not None else None)
    cells, written = Picture(columns, rows), Picture(width, height)
    labels = [_ready(m, placing) for m in scene.marks if isinstance(m, Label)]
    # a cell that is the same as in the last frame, or in the part below, is not fitted again
    key = id(scene.below), width, height
    before = (_LAST.get(key) or below) if scene.below is not None else None
    words = raster.view(np.uint64).reshape(rows, HIGH, columns)
    if before is None:
        changed = np.ones((rows, columns), bool)
    else:
        cells.place(before.cells, 0, 0)
        changed = (words != before.raster.view(np.uint64).reshape(words.shape)).any(axis=1)
    fit(words, changed, cells)
    if below is not None:
        written.place(below.written, 0, 0)
        labels += below.labels
    _write_spots(written, scene.marks, placing)
    ends = _write_captions(written, scene.marks, placing, below.ends if below is not None else {})
    ready = sorted((one for one in labels if one.places), key=lambda one: -one.weight)
    printed = Printed(raster, cells, written, ready, ends)
    if scene.below is not None:
        _LAST[key] = printed
        if len(_LAST) > MAX_KEPT:
            _LAST.pop(next(iter(_LAST)))
    return printed


def draws_dots() -> bool:
    """Return whether the library that draws cannot be loaded."""
    return Image is None


def _drawn(scene: Scene, placing: Placing, below: Bytes | None) -> Bytes:
    """Draw the marks of a scene as roles, over the part below."""
    size = placing.rows * HIGH, placing.columns * WIDE
    if Image is None:
        raster = np.zeros(size, np.uint8) if below is None else below.copy()
        draw_dots(raster, shapes(scene.marks, placing))
        return raster
    image = Image.new("L", size[::-1], 0) if below is None else Image.fromarray(below)
    draw = ImageDraw.Draw(image)
    for shape in shapes(scene.marks, placing, stamps=True):
        if isinstance(shape, Area):
            draw.polygon(_inner(shape.corners).ravel().tolist(), fill=role(shape.role))
        elif isinstance(shape, Rim):
            if shape.width >= HAIRLINE:
                points = np.rint(_snapped(shape, placing).clip(-FAR, FAR) - 0.5)
                draw.line(points.ravel().tolist(), fill=role(shape.role), width=round(shape.width))
        elif abs(shape.x) < FAR and abs(shape.y) < FAR:
            stamp = Image.fromarray(shape.roles.repeat(HIGH // 2, axis=0).repeat(WIDE // 2, axis=1))
            at = round(shape.x / WIDE * 2) * WIDE // 2, round(shape.y / HIGH * 2) * HIGH // 2
            image.paste(stamp, at, stamp.point(lambda of: 255 * (of > 0)))
    return np.asarray(image)


def _inner(corners: Floats) -> Floats:
    """Return corners moved to the outermost whole numbers inside: the library includes both ends of an area."""
    corners = corners.clip(-FAR, FAR)
    inner: Floats = np.rint(corners - 0.5 - 0.499 * np.sign(corners - corners.mean(axis=0)))
    return inner


FAR = 50_000.0
"""Points: what lies farther away is drawn no farther."""

THIN = 6.0
"""Points: a line along an axis that is thinner is moved to the middle of its cells, where there is a character for it."""


def _snapped(line: Rim, placing: Placing) -> Floats:
    """Return the points of a line, moved to the middle of cells if it runs along an axis."""
    points, wall = line.points, line.role == "wall"
    (x1, y1), (x2, y2) = points[0].tolist(), points[-1].tolist()
    if line.width >= THIN or (abs(x1 - x2) >= 0.5 and abs(y1 - y2) >= 0.5):
        return points
    along = points.max(axis=0) - points.min(axis=0) < 0.5
    if not wall and not along[0] and not along[1]:
        return points
    size = placing.columns, placing.rows
    middle = (np.floor(points / _CELL).clip(0, (size[0] - 1, size[1] - 1)) + 0.5) * _CELL
    inside = (points >= -1.0) & (points <= _CELL * size + 1.0)
    return np.where(inside & (along | (wall and not along.any())), middle, points)


_CELL = np.array([WIDE, HIGH])


def _write_spots(picture: Picture, marks: Sequence[Mark], placing: Placing) -> None:
    for mark in marks:
        if isinstance(mark, Spot):
            (x1, y1), (x2, y2) = (placing.cell(*corner) for corner in mark.corners.tolist())
            left, right, top, bottom = min(x1, x2), max(x1, x2), min(y1, y2), max(y1, y2)
            picture.spot(left, top, right - left + 1, mark.what, mark.value, bottom - top + 1)


def _write_captions(picture: Picture, marks: Sequence[Mark], placing: Placing, ends: Ends) -> Ends:
    """Write the captions in the margins, in their order; one without room is left out. Returns the free columns in each row."""
    ends, margins = dict(ends), placing.margins
    for mark in marks:
        if not isinstance(mark, Caption):
            continue
        y = 0 if mark.where.startswith("top") else margins.top + placing.rows
        left, right = ends.get(y, (margins.left, margins.left + placing.columns))
        if left + len(mark.text) > right:
            continue
        if mark.where.endswith("right"):
            picture.right(right, y, mark.text, mark.role)
            right -= len(mark.text) + 2
        else:
            left = picture.text(left, y, mark.text, mark.role) + 2
        ends[y] = left, right
    return ends


def _ready(label: Label, placing: Placing) -> Ready:
    """Return where a label may stand; nowhere if its point is not seen."""
    x, y = label.point.tolist()
    places = []
    if isfinite(x) and isfinite(y):
        column, row = placing.cell(x, y)
        if placing.holds(column, row):
            places = [_beside(side, column, row, len(label.text)) for side in label.sides]
    return Ready(label.weight, label.text, label.role, tuple(places))


def _write_labels(picture: Picture, labels: Sequence[Ready], margins: Margins) -> None:
    """Write texts, the heaviest first, where they cover neither what matters nor each other; signs stand where they stand."""
    taken = _MATTERS[picture.grounds] | _MATTERS[picture.roles]
    bottom = picture.height - margins.bottom
    taken[: margins.top] = picture.chars[: margins.top] != " "
    taken[bottom:] = picture.chars[bottom:] != " "
    mixed = picture.blends != TEXT
    width, height = picture.width, picture.height
    for weight, text, named, places in labels:
        for x, y in places:
            end = x + len(text)
            if not (0 <= y < height and x >= 0 and end <= width):
                continue
            if weight == inf or not (taken[y, x:end].any() or (weight < FAINT and mixed[y, x:end].any())):
                picture.text(x, y, text, named)
                taken[y, max(0, x - 1) : end + 1] = True
                break


def _beside(side: str, column: int, row: int, size: int) -> tuple[int, int]:
    """Return where a text of a size begins that stands at a side of a cell."""
    x, y = column - size // 2, row
    left = max(0, column - size - 1) if column >= size else column - size - 1  # a long text goes without a space
    for part in side.split("-"):
        x = {"left": left, "right": column + 2, "from": column, "to": column - size + 1}.get(part, x)
        y += {"above": -1, "below": 1}.get(part, 0)
    return x, y
