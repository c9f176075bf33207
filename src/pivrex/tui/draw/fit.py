"""Fits cells of several roles to characters.

A cell takes the two roles that matter most, and the block whose two parts differ least within (least squares). What a part holds of
each of the two is kept as a blend of their colours; a line keeps its brightness, and where it is level it takes a line character.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.marks import ROLES, role
from pivrex.tui.draw.picture import TEXT, Picture

__all__ = ["HIGH", "WIDE", "covered", "fit"]

Bytes = NDArray[np.uint8]
Words = NDArray[np.uint64]

WIDE, HIGH = 8, 16
"""Points of a cell."""

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


_ALIKE = np.uint64(0x0101010101010101)


def fit(words: Words, changed: NDArray[np.bool_], cells: Picture) -> None:
    """Fit the changed cells. A word is a row of eight points."""
    y, x = np.nonzero(changed)
    if not len(y):
        return
    rows = words[y, :, x]
    first = rows[:, 0] & np.uint64(0xFF)
    whole = (rows == (first * _ALIKE)[:, None]).all(axis=1)
    flat = y[whole], x[whole]
    cells.chars[flat], cells.blends[flat] = " ", TEXT
    cells.roles[flat] = cells.grounds[flat] = first[whole].astype(np.uint8)
    mixed = ~whole
    if mixed.any():
        points, at = rows[mixed].view(np.uint8), (y[mixed], x[mixed])
        cells.chars[at], cells.roles[at], cells.grounds[at], cells.blends[at] = _fitted(points)


def _fitted(points: Bytes) -> tuple[NDArray[np.str_], Bytes, Bytes, Bytes]:
    """Return the character, the role drawn, the role behind and the blend of cells, (N, 128)."""
    every = np.arange(len(points))
    counts = np.bincount((every[:, None] * len(ROLES) + points).ravel(), minlength=len(every) * len(ROLES))
    counts = counts.reshape(len(every), len(ROLES))
    under = (counts * _BEHIND).argmax(axis=1)
    weighed = counts * _WEIGHT
    weighed[every, under] = -1.0
    over = weighed.argmax(axis=1)
    # next to a line everything else counts as not the line; between two areas other roles do not count
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
    """Return which cells a level line crosses, (N,), and whether high (0), in the middle or low (2): there is a character for each."""
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
    """Return for fitted cells whether the role that is drawn fills at least half of each."""
    shares = np.array([_COVER.get(char, 0.0) for char in text])
    filled: list[bool] = (shares * (blends >> 4) + (1 - shares) * (blends & 15) >= 4).tolist()
    return filled
