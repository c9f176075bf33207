"""The marks of a scene, and the few shapes that every printer draws: areas, lines with a width, stamps."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.placing import Placing

__all__ = [
    "FAINT",
    "ROLES",
    "Area",
    "Arrow",
    "Caption",
    "Dots",
    "Label",
    "Line",
    "Mark",
    "Quarters",
    "Rim",
    "Shape",
    "Spot",
    "Stamped",
    "role",
    "shapes",
]

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]

ROLES = (
    "",  # the background
    "rest",  # ordinary text
    "dim",  # text that steps back
    "frame",  # rules, grids and scales
    "title",  # the name of a part
    "commanded",
    "measured",
    "target",
    "alarm",
    "ghost",  # what was before
    "chosen",  # the selected part
    "key",  # a key to press
    "safe",
    "live",
    # areas
    "floor",  # what can be driven on, or reached
    "bench",  # objects on a field
    "hull",  # the robot's body
    "nose",  # its front
    "tyre",
    "gap",  # between commanded and measured
    "limit",  # what cannot be, or is full
    "band",  # parts without importance
    "command fill",
    "measure fill",
    "groove",  # lines on a light background
    # rims and lines on areas
    "wall",
    "rim",  # of the robot's body
    "bench rim",
    "grid",  # whole metres on a floor
    "trail",  # where it was measured some time ago
    "old trail",
    "other",  # one more line, of no meaning of its own
)
"""Every role; each means the same in every view."""

_ROLE = {name: i for i, name in enumerate(ROLES)}


def role(name: str) -> int:
    """Return the number of a role."""
    return _ROLE[name]


class Area(NamedTuple):
    """A filled shape: its corners, (N, 2), in order; in the scene's units, or in points as printers take it."""

    corners: Floats
    role: str

    def shapes(self, placing: Placing, stamps: bool) -> Iterable[Shape]:
        """Return it in points; nothing if a corner is not known."""
        return _area(placing.points(self.corners), self.role)


class Rim(NamedTuple):
    """A line as printers take it: points, (N, 2), and its width, both in points."""

    points: Floats
    role: str
    width: float


class Quarters(NamedTuple):
    """A stamp as printers take it: where its top left corner lies, in points, and its roles; 0 lets through what is behind."""

    x: float
    y: float
    roles: Bytes


Shape = Area | Rim | Quarters


class Line(NamedTuple):
    """A line through points, (N, 2), ``width`` letters wide; NaN breaks it.

    ``dash`` is the length of its dashes and of the gaps between them, in letters; 0 for a full line.
    """

    points: Floats
    role: str
    width: float
    dash: float = 0.0

    def shapes(self, placing: Placing, stamps: bool) -> Iterable[Shape]:
        """Return its parts in points."""
        parts = _unbroken(placing.points(self.points))
        if self.dash:
            parts = [dash for part in parts for dash in _dashes(part, self.dash * placing.letter)]
        return [Rim(part, self.role, self.width * placing.letter) for part in parts]


class Arrow(NamedTuple):
    """An arrow from one point to another, its shaft ``width`` letters wide, moved by ``shift`` letters to its left."""

    start: Floats
    end: Floats
    role: str
    width: float
    shift: float = 0.0

    def shapes(self, placing: Placing, stamps: bool) -> Iterable[Shape]:
        """Return its outline in points."""
        letter, (start, end) = placing.letter, placing.points(np.stack((self.start, self.end)))
        return _area(_arrow(start, end, self.width * letter, self.shift * letter), self.role)


class Dots(NamedTuple):
    """Discs at points, (N, 2), with a radius in letters, whatever the scale."""

    points: Floats
    role: str
    radius: float

    def shapes(self, placing: Placing, stamps: bool) -> Iterable[Shape]:
        """Return them in points."""
        disc = self.radius * placing.letter * CIRCLE[::3]
        return [Area(at + disc, self.role) for at in placing.points(self.points) if np.isfinite(at).all()]


SHORT = 3.8
"""Letters: a drawing that is shorter takes the smaller of its stamps."""


class Stamped(NamedTuple):
    """Marks for a drawing that is long enough, and a stamp for one shorter than ``least`` letters.

    ``stamps`` are roles in quarters of a letter, (rows, columns), for a short and a longer drawing.
    """

    point: Floats
    length: float
    least: float
    marks: Sequence[Mark]
    stamps: tuple[Bytes, Bytes]

    def shapes(self, placing: Placing, stamps: bool) -> Iterable[Shape]:
        """Return the stamp where it is to be taken, or the shapes of its marks."""
        letters = self.length * placing.across / placing.letter
        if not stamps or letters >= self.least:
            return shapes(self.marks, placing, stamps)
        if not np.isfinite(self.point).all():
            return []
        roles = self.stamps[letters >= SHORT]
        size = np.array([roles.shape[1] * placing.letter, roles.shape[0] * placing.line]) / 2
        x, y = (placing.points(self.point) - size / 2).tolist()
        return [Quarters(x, y, roles)]


class Label(NamedTuple):
    """A text at a point. The heaviest are placed first; one that would cover what matters is left out.

    ``sides`` says where it may stand, the best first: "over" the point, "left", "right", "above" or "below" it,
    "from" it or "to" it: beginning or ending there; or two of them joined by a hyphen.
    """

    point: Floats
    text: str
    role: str
    weight: float
    sides: tuple[str, ...]


FAINT = 0.2
"""The weight of labels that stand only where nothing else is, and on paper not at all."""


class Caption(NamedTuple):
    """A text in the margin above or below the box, at its "top", "top right", "bottom" or "bottom right", after those before it."""

    text: str
    role: str
    where: str


class Spot(NamedTuple):
    """A box, (2, 2): two corners, that can be clicked: what a click there means, and which one of several."""

    corners: Floats
    what: str
    value: str


Mark = Area | Line | Arrow | Dots | Stamped | Label | Caption | Spot


def shapes(marks: Iterable[Mark], placing: Placing, stamps: bool = False) -> list[Shape]:
    """Return what is to be filled and drawn, in points, in order; ``stamps`` is true for a printer that takes them."""
    return [one for m in marks if not isinstance(m, Label | Caption | Spot) for one in m.shapes(placing, stamps)]


CIRCLE = np.stack((np.cos(np.linspace(0, 2 * np.pi, 49)), np.sin(np.linspace(0, 2 * np.pi, 49))), axis=1)
"""Points round a circle of radius 1, (49, 2); the last is the first."""


def _area(corners: Floats, named: str) -> list[Shape]:
    return [Area(corners, named)] if len(corners) > 2 and np.isfinite(corners).all() else []


def _unbroken(points: Floats) -> list[Floats]:
    """Return the stretches of a line between its NaNs."""
    known = np.isfinite(points).all(axis=1)
    if known.all():
        return [points] if len(points) > 1 else []
    edges = np.flatnonzero(np.diff(np.concatenate(([False], known, [False])).astype(np.int8)))
    return [points[a:b] for a, b in edges.reshape(-1, 2).tolist() if b - a > 1]


def _dashes(points: Floats, length: float) -> list[Floats]:
    """Cut a line into dashes with gaps as long as they are."""
    steps = np.hypot(*np.diff(points, axis=0).T)
    along = np.concatenate(([0.0], np.cumsum(steps)))
    if along[-1] < length or along[-1] > 2000 * length:
        return [points]
    bounds = np.arange(0.0, along[-1], length)
    bounds = np.append(bounds, along[-1]) if len(bounds) % 2 else bounds
    at = np.stack([np.interp(bounds, along, points[:, k]) for k in (0, 1)], axis=1)
    first = np.searchsorted(along, bounds[::2], "right").tolist()
    last = np.searchsorted(along, bounds[1::2], "left").tolist()
    return [np.concatenate((at[2 * k : 2 * k + 1], points[a:b], at[2 * k + 1 : 2 * k + 2]))
            for k, (a, b) in enumerate(zip(first, last, strict=True))]  # fmt: skip


def _arrow(start: Floats, end: Floats, width: float, shift: float) -> Floats:
    """Return the corners of an arrow: a shaft and a head three shafts wide; a short one is all head."""
    way = end - start
    size = float(np.hypot(*way)) or 1e-9
    ahead = way / size
    left = np.array([ahead[1], -ahead[0]])  # points count down
    start, end = start + left * shift, end + left * shift
    half, wing = width / 2, width * 1.7
    head = min(size, width * 3.0)
    neck = end - ahead * head
    return np.array([start + left * half, neck + left * half, neck + left * wing, end,
                     neck - left * wing, neck - left * half, start - left * half])  # fmt: skip
