"""Prints a scene on cells: it is drawn as roles, 8 x 16 points a cell without anti-aliasing, and each cell fitted to a character.

A cell of one role is that role's ground. A cell of several takes the two that matter most, and the block whose two parts
differ least within (least squares). What a part holds of each of the two roles is kept as a blend of their colours.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from pivrex.export.paper import Page
from pivrex.scene.marks import FAINT, ROLES, Area, Caption, Label, Mark, Rim, Spot, role, shapes
from pivrex.scene.scene import Placing, Scene
from pivrex.tui.draw.picture import TEXT, Picture

__all__ = ["covered", "draw_pages", "placing_of", "print_scene"]

Bytes = NDArray[np.uint8]
Floats = NDArray[np.float64]
Words = NDArray[np.uint64]

WIDE, HIGH = 8, 16
"""Points of a cell."""

HAIRLINE = 1.0
"""Points: thinner lines are for paper alone."""

_AREAS = (
    "",
    "key",
    "safe",
    "live",
    "floor",
    "bench",
    "hull",
    "nose",
    "tyre",
    "gap",
    "limit",
    "band",
    "measure fill",
    "groove",
)
_IS_LINE = np.isin(np.arange(len(ROLES)), [role(n) for n in _AREAS], invert=True)
"""Roles of lines: they are thin, so they win over areas and lose no brightness."""

_WEIGHTS = {"commanded": 6.0, "measured": 6.0, "alarm": 7.0, "chosen": 7.0, "target": 5.0, "trail": 5.0, "old trail": 5.0,
            "title": 5.0, "rest": 5.0, "command fill": 4.0, "measure fill": 4.0, "ghost": 3.0, "dim": 3.0, "nose": 3.0, "groove": 3.0,
            "rim": 2.5, "frame": 2.0, "wall": 2.0, "limit": 2.0, "": 0.5, "floor": 0.5}  # fmt: skip
_WEIGHT = np.array([_WEIGHTS.get(name, 1.0) for name in ROLES], np.float32)
"""How much a point of each role counts when a cell chooses what it draws; what it lays behind is the area that has most."""

_BEHIND = np.where(_IS_LINE, np.float32(0.6), np.float32(1.0))

_MATTERS = np.isin(
    np.arange(len(ROLES)),
    [
        role(n)
        for n in ("commanded", "measured", "target", "alarm", "limit", "nose", "command fill", "measure fill", "title")
    ],
)
"""Roles that no label covers."""

BRIGHTER, CLEARER = 2.3, 0.42
"""How the blends of a line are spread: more of it where it is, less where it is not."""


def _shapes() -> tuple[str, NDArray[np.float32], NDArray[np.float32]]:
    """Return the characters, which of a cell's 8 x 8 points each fills, and what each must be better by to be taken.

    Where a terminal's cell is higher than its font's blocks, a row below them shows what is behind: blocks that stand on the
    bottom of the cell are taken only where they are much better.
    """
    found: list[tuple[str, NDArray[np.float32], float]] = []

    def add(char: str, where: tuple[slice, slice] | None, least: float = 0.0) -> NDArray[np.float32]:
        mask = np.zeros((8, 8), np.float32)
        if where is not None:
            mask[where] = 1.0
        found.append((char, mask, least))
        return mask

    top, low, left, right, every = slice(0, 4), slice(4, 8), slice(0, 4), slice(4, 8), slice(None)
    add(" ", None)
    add("▀", (top, every))
    add("▌", (every, left), 0.3)
    for char, where in (("▘", (top, left)), ("▝", (top, right))):
        add(char, where)
    for char, where in (("▖", (low, left)), ("▗", (low, right))):
        add(char, where, 0.5)
    add("▞", (top, right))[low, left] = 1.0
    for k in range(1, 8):
        if k != 4:
            add("▁▂▃▄▅▆▇"[k - 1], (slice(8 - k, 8), every), 4.0 + (k != 1))
            add("▏▎▍▌▋▊▉"[k - 1], (every, slice(0, k)), 0.4)
    add("▔", (slice(0, 1), every), 0.2)
    add("▕", (every, slice(7, 8)), 0.4)
    add("┃", (every, slice(3, 5)), 0.2)
    add("━", (slice(3, 5), every), 0.2)
    for char, slope in (("╱", -1), ("╲", 1)):
        mask = add(char, None, 1.0)
        for k in range(8):
            mask[k, max(0, (k if slope > 0 else 7 - k) - 0) : (k if slope > 0 else 7 - k) + 1] = 1.0
    return (
        "".join(f[0] for f in found),
        np.array([f[1].ravel() / 2 for f in found]).T.copy(),
        np.array([f[2] for f in found], np.float32),
    )


_CHARS, _MASKS, _LEAST = _shapes()
_CHAR = np.array(list(_CHARS))
_INSIDE = 2 * _MASKS.sum(axis=0)
_COVER = dict(zip(_CHARS, (_INSIDE / 64).tolist(), strict=True))


class Printed(NamedTuple):
    """A scene drawn as roles, and its cells."""

    raster: Bytes
    cells: Picture


def placing_of(scene: Scene, width: int, height: int) -> Placing:
    """Return where a scene lies in ``width`` x ``height`` cells."""
    return scene.placing(width, height, WIDE, HIGH)


_KEPT: dict[int, tuple[Scene, tuple[int, int], Printed]] = {}
MOST_KEPT = 16


def _kept(scene: Scene, placing: Placing, size: tuple[int, int]) -> Printed:
    """Print what lies below once, and keep it."""
    found = _KEPT.get(id(scene))
    if found is not None and found[0] is scene and found[1] == size:
        return found[2]
    if len(_KEPT) >= MOST_KEPT:
        _KEPT.pop(next(iter(_KEPT)))
    printed = _print(scene, placing, size)
    _KEPT[id(scene)] = (scene, size, printed)
    return printed


def print_scene(scene: Scene, width: int, height: int) -> Picture:
    """Print a scene on ``width`` x ``height`` cells."""
    picture = Picture(width, height)
    if width < 1 or height < 1:
        return picture
    placing = placing_of(scene, width, height)
    printed = _print(scene, placing, (width, height))
    picture.place(printed.cells, placing.margins.left, placing.margins.top)
    marks = scene.all_marks()
    _spots(picture, marks, placing)
    _captions(picture, marks, placing)
    _labels(picture, marks, placing)
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


def _print(scene: Scene, placing: Placing, size: tuple[int, int]) -> Printed:
    columns, rows = placing.columns, placing.rows
    below = _kept(scene.below, placing, size) if scene.below is not None else None
    image = Image.new("L", (columns * WIDE, rows * HIGH), 0) if below is None else Image.fromarray(below.raster)
    draw = ImageDraw.Draw(image)
    for shape in shapes(scene.marks, placing, stamps=True):
        if isinstance(shape, Area):
            draw.polygon(_inner(shape.corners).ravel().tolist(), fill=role(shape.role))
        elif isinstance(shape, Rim):
            if shape.width >= HAIRLINE:
                points = np.rint(np.clip(_snapped(shape, columns, rows), -FAR, FAR) - 0.5)
                draw.line(points.ravel().tolist(), fill=role(shape.role), width=round(shape.width))
        elif abs(shape.x) < FAR and abs(shape.y) < FAR:
            stamp = Image.fromarray(shape.roles.repeat(HIGH // 2, axis=0).repeat(WIDE // 2, axis=1))
            at = round(shape.x / WIDE * 2) * WIDE // 2, round(shape.y / HIGH * 2) * HIGH // 2
            image.paste(stamp, at, stamp.point(lambda of: 255 * (of > 0)))
    raster = np.asarray(image)
    cells = Picture(columns, rows)
    words = raster.view(np.uint64).reshape(rows, HIGH, columns)
    if below is None:
        _fit(words, np.ones((rows, columns), bool), cells)
    else:
        cells.place(below.cells, 0, 0)
        _fit(words, (words != below.raster.view(np.uint64).reshape(words.shape)).any(axis=1), cells)
    return Printed(raster, cells)


def _inner(corners: Floats) -> Floats:
    """Return corners moved to the outermost points within: the library draws what lies between whole numbers, both of them included."""
    corners = np.clip(corners, -FAR, FAR)
    inner: Floats = np.rint(corners - 0.5 - 0.499 * np.sign(corners - corners.mean(axis=0)))
    return inner


FAR = 50_000.0
"""Points: what lies farther away is drawn no farther."""

THIN = 6.0
"""Points: a line along an axis that is thinner is moved to the middle of its cells, where there is a character for it."""


def _snapped(line: Rim, columns: int, rows: int) -> Floats:
    """Return the points of a line, moved to the middle of cells if it runs along an axis."""
    points = line.points
    along = np.ptp(points, axis=0) < 0.5
    if line.width >= THIN or not (along.any() or line.role == "wall"):
        return points
    cell = np.array([WIDE, HIGH])
    middle = (np.floor(points / cell).clip(0, (columns - 1, rows - 1)) + 0.5) * cell
    inside = (points >= -1.0) & (points <= cell * (columns, rows) + 1.0)
    moved = inside & (along if along.any() else True)
    return np.where(moved, middle, points)


_ALIKE = np.uint64(0x0101010101010101)


def _fit(words: Words, changed: NDArray[np.bool_], cells: Picture) -> None:
    """Fit the changed cells. A word is a row of eight points."""
    first = words[:, 0] & np.uint64(0xFF)
    differs = words[:, 0] ^ (first * _ALIKE)
    for k in range(1, HIGH):
        differs |= words[:, k] ^ words[:, 0]
    mixed = changed & (differs != 0)
    flat = changed & (differs == 0)
    cells.chars[flat] = " "
    cells.roles[flat] = cells.grounds[flat] = first[flat].astype(np.uint8)
    cells.blends[flat] = TEXT
    y, x = np.nonzero(mixed)
    if len(y):
        points = np.ascontiguousarray(words[y, :, x]).view(np.uint8).reshape(len(y), HIGH * WIDE)
        cells.chars[y, x], cells.roles[y, x], cells.grounds[y, x], cells.blends[y, x] = _fitted(points)


def _fitted(points: Bytes) -> tuple[NDArray[np.str_], Bytes, Bytes, Bytes]:
    """Return the character, the role drawn, the role behind and the blend of cells, (N, 128)."""
    every = np.arange(len(points))
    counts = np.bincount((every[:, None] * len(ROLES) + points).ravel(), minlength=len(every) * len(ROLES))
    counts = counts.reshape(len(every), len(ROLES))
    under = (counts * _BEHIND).argmax(axis=1)
    weighed = counts * _WEIGHT
    weighed[every, under] = -1.0
    over = weighed.argmax(axis=1)
    # beside a line all else is what is not the line; between two areas what is neither counts for nothing
    a, b = _halved(points == over[:, None]), _halved(points == under[:, None])
    a_in, b_in = a @ _MASKS, b @ _MASKS
    a_out, b_out = counts[every, over, None] / 2 - a_in, counts[every, under, None] / 2 - b_in
    lines = _IS_LINE[over]
    b_in = np.where(lines[:, None], _INSIDE - a_in, b_in)
    b_out = np.where(lines[:, None], 64 - _INSIDE - a_out, b_out)
    p_in, p_out = (a / np.maximum(a + b, 1e-6) for a, b in ((a_in, b_in), (a_out, b_out)))
    error = a_in * (1 - p_in) + a_out * (1 - p_out)
    error += np.where(lines[:, None] & (p_in >= p_out), np.minimum(_LEAST, 0.2), _LEAST)
    best = error.argmin(axis=1)
    inside, outside = p_in[every, best], p_out[every, best]
    more, less = np.maximum(inside, outside), np.minimum(inside, outside)
    more = np.where(lines, np.minimum(more * BRIGHTER, 1), more)
    less = np.where(lines, np.maximum((less - CLEARER) * BRIGHTER, 0), less)
    inner = inside >= outside
    blend = np.rint(np.where(inner, more, less) * 8) * 16 + np.rint(np.where(inner, less, more) * 8)
    chars = _CHAR[best]
    level, height = _level(a)
    level = level & lines
    chars[level] = np.array(["▔", "━", "▂"])[height[level]]
    blend[level] = 0x80
    return chars, over.astype(np.uint8), under.astype(np.uint8), blend.astype(np.uint8)


def _level(filled: NDArray[np.float32]) -> tuple[NDArray[np.bool_], NDArray[np.intp]]:
    """Tell which cells a level line crosses, (N,), and whether high (0), in the middle or low (2): there is a character for each."""
    some = filled.reshape(len(filled), 8, 8) > 0
    rows = np.asarray(some.any(axis=2))
    first, last = rows.argmax(axis=1), 7 - rows[:, ::-1].argmax(axis=1)
    level = (some.any(axis=1).sum(axis=1) == 8) & (last - first < 3)
    return level, np.digitize(first + last, (4, 10))


def _halved(mask: NDArray[np.bool_]) -> NDArray[np.float32]:
    """Return how many of two points above each other are set, (N, 64)."""
    rows = mask.view(np.uint8).reshape(len(mask), HIGH // 2, 2, WIDE)
    return (rows[:, :, 0] + rows[:, :, 1]).reshape(len(mask), -1).astype(np.float32)


def covered(text: str, blends: Bytes) -> list[bool]:
    """Tell of fitted cells whether the role that is drawn fills at least half of each."""
    shares = np.array([_COVER.get(char, 0.0) for char in text])
    filled: list[bool] = (shares * (blends >> 4) + (1 - shares) * (blends & 15) >= 4).tolist()
    return filled


def _spots(picture: Picture, marks: list[Mark], placing: Placing) -> None:
    for mark in marks:
        if isinstance(mark, Spot):
            (x1, y1), (x2, y2) = (placing.cell(*corner) for corner in mark.corners.tolist())
            left, right, top, bottom = min(x1, x2), max(x1, x2), min(y1, y2), max(y1, y2)
            picture.spot(left, top, right - left + 1, mark.what, mark.value, bottom - top + 1)


def _captions(picture: Picture, marks: list[Mark], placing: Placing) -> None:
    """Write what stands in the margins, in its order; what has no room is left out."""
    margins = placing.margins
    first: dict[int, int] = {}
    last: dict[int, int] = {}
    for mark in marks:
        if not isinstance(mark, Caption):
            continue
        y = 0 if mark.where.startswith("top") else margins.top + placing.rows
        left, right = first.get(y, margins.left), last.get(y, margins.left + placing.columns)
        if left + len(mark.text) > right:
            continue
        if mark.where.endswith("right"):
            picture.right(right, y, mark.text, mark.role)
            last[y] = right - len(mark.text) - 2
        else:
            first[y] = picture.text(left, y, mark.text, mark.role) + 2


def _labels(picture: Picture, marks: list[Mark], placing: Placing) -> None:
    """Write texts, the heaviest first, where they cover neither what matters nor each other; signs stand where they stand."""
    labels = sorted((m for m in marks if isinstance(m, Label)), key=lambda m: -m.weight)
    taken = _MATTERS[picture.grounds] | _MATTERS[picture.roles]
    taken[: placing.margins.top] = picture.chars[: placing.margins.top] != " "
    taken[picture.height - placing.margins.bottom :] = picture.chars[picture.height - placing.margins.bottom :] != " "
    mixed = picture.blends != TEXT
    for label in labels:
        if not np.isfinite(label.point).all():
            continue
        column, row = placing.cell(*label.point.tolist())
        if not placing.holds(column, row):
            continue
        for side in label.sides:
            x, y = _beside(side, column, row, len(label.text))
            room = slice(x, x + len(label.text))
            fits = 0 <= y < picture.height and x >= 0 and room.stop <= picture.width
            if fits and (
                label.weight == np.inf or not (taken[y, room] | (mixed[y, room] & (label.weight < FAINT))).any()
            ):
                picture.text(x, y, label.text, label.role)
                taken[y, max(0, x - 1) : room.stop + 1] = True
                break


def _beside(side: str, column: int, row: int, size: int) -> tuple[int, int]:
    """Return where a text of a size begins that stands at a side of a cell."""
    x, y = column - size // 2, row
    left = max(0, column - size - 1) if column >= size else column - size - 1  # what is long goes without a space
    for part in side.split("-"):
        x = {"left": left, "right": column + 2, "from": column, "to": column - size + 1}.get(part, x)
        y += {"above": -1, "below": 1}.get(part, 0)
    return x, y
