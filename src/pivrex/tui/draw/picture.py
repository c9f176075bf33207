"""A picture: a grid of characters, each with the role that a theme gives a colour to."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["GROUNDS", "ROLES", "Areas", "Dots", "Picture", "Spot", "role", "to_ascii"]

ROLES = (
    "rest",  # ordinary text
    "dim",  # text that steps back
    "frame",  # rules, grids and scales
    "title",  # what a part is called
    "commanded",
    "measured",
    "target",
    "alarm",
    "ghost",  # what was before
    "chosen",  # what the keys act on
    "ground",  # the floor of a field
    "thing",  # what stands on it
    "key",  # a key to press
    "safe",
    "live",
    # areas, and the partly filled cells at their rims
    "floor",  # what can be driven on, or reached
    "bench",  # what stands on a field
    "hull",  # the robot's body
    "nose",  # its front
    "tyre",
    "gap",  # between what was commanded and what was measured
    "limit",  # what cannot be, or is full
    "band",  # what counts for nothing
    "command fill",
    "measure fill",
    "groove",  # lines on what is light
)
"""Every role; signs mean the same in every view."""

GROUNDS = ("", "floor", "bench", "hull", "nose", "tyre", "gap", "limit", "band", "command fill", "measure fill")
"""What may lie behind a cell; the roles of the same names are for cells that it fills only in part."""

_ROLE = {name: i for i, name in enumerate(ROLES)}
_GROUND = {name: i for i, name in enumerate(GROUNDS)}

# row and column of each dot in its cell, and its bit in the Unicode braille block
_BRAILLE = ((0, 0, 0), (1, 0, 1), (2, 0, 2), (0, 1, 3), (1, 1, 4), (2, 1, 5), (3, 0, 6), (3, 1, 7))


def role(name: str) -> int:
    """Give the number of a role."""
    return _ROLE[name]


class Spot(NamedTuple):
    """A part of a picture that can be clicked: what a click there means, and which one of several."""

    x: int
    y: int
    width: int
    height: int
    what: str
    value: str


class Picture:
    """A grid of ``height`` rows and ``width`` columns.

    Attributes
    ----------
    chars : (height, width) of one character
    roles, grounds : (height, width) uint8
        Indices into `ROLES` and `GROUNDS`.
    spots : list of Spot
        What can be clicked; the last drawn lies on top.
    """

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height = max(0, width), max(0, height)
        self.chars = np.full((self.height, self.width), " ", "<U1")
        self.roles = np.zeros((self.height, self.width), np.uint8)
        self.grounds = np.zeros((self.height, self.width), np.uint8)
        self.spots: list[Spot] = []

    def spot(self, x: int, y: int, width: int, what: str, value: str = "", height: int = 1) -> None:
        """Mark what can be clicked."""
        if width > 0 and height > 0:
            self.spots.append(Spot(x, y, width, height, what, value))

    def spot_at(self, x: int, y: int) -> Spot | None:
        """Give what can be clicked at a cell."""
        return next((s for s in reversed(self.spots) if 0 <= x - s.x < s.width and 0 <= y - s.y < s.height), None)

    def text(self, x: int, y: int, text: str, named: str = "rest", width: int | None = None) -> int:
        """Write text from column x; what does not fit is cut, with … if ``width`` cuts it. Gives the column after it."""
        if width is not None and len(text) > width:
            text = text[: max(0, width - 1)] + "…" if width > 0 else ""
        end = x + len(text)
        if 0 <= y < self.height and end > 0 and x < self.width:
            shown = text[max(0, -x) : self.width - x]
            left = max(0, x)
            self.chars[y, left : left + len(shown)] = np.frombuffer(shown.encode("utf-32-le"), "<U1")
            self.roles[y, left : left + len(shown)] = _ROLE[named]
        return end

    def right(self, x: int, y: int, text: str, named: str = "rest") -> None:
        """Write text that ends before column x."""
        self.text(x - len(text), y, text, named)

    def across(self, y: int, x1: int, x2: int, char: str = "─", named: str = "frame") -> None:
        """Fill a row from x1 up to but not including x2."""
        self.text(x1, y, char * max(0, x2 - x1), named)

    def down(self, x: int, y1: int, y2: int, char: str = "│", named: str = "frame") -> None:
        """Fill a column from y1 up to but not including y2."""
        if 0 <= x < self.width:
            rows = slice(max(0, y1), max(0, y2))
            self.chars[rows, x] = char
            self.roles[rows, x] = _ROLE[named]

    def fill(self, x: int, y: int, width: int, named: str, height: int = 1) -> None:
        """Lay an area behind whole cells; what is written there stays."""
        if width > 0 and height > 0:
            self.grounds[max(0, y) : max(0, y + height), max(0, x) : max(0, x + width)] = _GROUND[named]

    def place(self, other: Picture, x: int, y: int) -> None:
        """Put another picture here; what does not fit is cut."""
        height, width = min(other.height, self.height - y), min(other.width, self.width - x)
        if height > 0 and width > 0:
            self.chars[y : y + height, x : x + width] = other.chars[:height, :width]
            self.roles[y : y + height, x : x + width] = other.roles[:height, :width]
            self.grounds[y : y + height, x : x + width] = other.grounds[:height, :width]
            self.spots += (s._replace(x=s.x + x, y=s.y + y) for s in other.spots)

    def row(self, y: int) -> str:
        """Give a row as text."""
        return self.chars[y].tobytes().decode("utf-32")

    def rows(self) -> list[str]:
        """Give all rows as text."""
        return [self.row(y) for y in range(self.height)]


class Dots:
    """A canvas of dots, 2 × 4 to a cell, in layers of one role each; later layers win a cell's colour.

    Coordinates are in dots from the top left.
    """

    def __init__(self, width: int, height: int) -> None:
        self.cells = (max(1, width), max(1, height))
        self.width, self.height = self.cells[0] * 2, self.cells[1] * 4
        self._layers: list[tuple[str, NDArray[np.bool_]]] = []

    def layer(self, named: str) -> NDArray[np.bool_]:
        """Give a new empty mask, (height, width) of dots, that is drawn in a role above those before it."""
        mask = np.zeros((self.height, self.width), bool)
        self._layers.append((named, mask))
        return mask

    def points(self, mask: NDArray[np.bool_], x: NDArray[np.float64], y: NDArray[np.float64]) -> None:
        """Set single dots; those outside are left out."""
        with np.errstate(invalid="ignore"):
            inside = (x >= 0) & (x < self.width) & (y >= 0) & (y < self.height)
        mask[y[inside].astype(int), x[inside].astype(int)] = True

    def path(self, mask: NDArray[np.bool_], x: NDArray[np.float64], y: NDArray[np.float64], every: int = 1) -> None:
        """Join points by straight lines; with ``every`` only each n-th dot along them, for dotted and dashed lines."""
        if len(x) < 2:
            self.points(mask, np.asarray(x, float), np.asarray(y, float))
            return
        x, y = np.asarray(x, float), np.asarray(y, float)
        steps = np.maximum(np.abs(np.diff(x)), np.abs(np.diff(y)))
        steps = np.nan_to_num(np.minimum(np.ceil(steps), 4000), nan=0).astype(int) + 1
        which = np.repeat(np.arange(len(steps)), steps)
        along = (np.arange(len(which)) - np.repeat(np.cumsum(steps) - steps, steps)) / steps[which]
        px = x[which] + (x[which + 1] - x[which]) * along
        py = y[which] + (y[which + 1] - y[which]) * along
        px, py = np.append(px, x[-1]), np.append(py, y[-1])
        if every > 1:
            px, py = px[::every], py[::every]
        self.points(mask, px + 0.5, py + 0.5)

    def onto(self, picture: Picture, x: int, y: int) -> None:
        """Draw all layers onto a picture; a cell without dots keeps what it had, and so does a letter: names stay readable."""
        if not self._layers:
            return
        width, height = self.cells
        code = np.zeros((height, width), np.uint32)
        roles = np.zeros((height, width), np.uint8)
        for named, mask in self._layers:
            # one bit for each of the 2 x 4 dots of a cell
            dots = mask.view(np.uint8)
            bits = np.zeros((height, width), np.uint8)
            for row, column, bit in _BRAILLE:
                bits |= dots[row::4, column::2] << bit
            code |= bits
            roles[bits > 0] = _ROLE[named]
        w, h = min(width, picture.width - x), min(height, picture.height - y)
        if w <= 0 or h <= 0:
            return
        there = picture.chars[y : y + h, x : x + w]
        some = (code[:h, :w] > 0) & ~_letters(there)
        below = picture.roles[y : y + h, x : x + w]
        # a line across the rim of an area: the area goes on behind it where it fills most of the cell
        rim = some & _mostly(there)
        picture.grounds[y : y + h, x : x + w][rim] = _GROUND_OF_ROLE[below[rim]]
        glyphs = (code[:h, :w] + 0x2800).astype(np.uint32).view("<U1").reshape(h, w)
        picture.chars[y : y + h, x : x + w][some] = glyphs[some]
        picture.roles[y : y + h, x : x + w][some] = roles[:h, :w][some]


class Areas:
    """Filled areas, in quarters of a cell (2 × 2), in layers of one role each; later layers lie over those before.

    Coordinates are those of `Dots`: two of them across and four down to a cell.
    """

    def __init__(self, width: int, height: int) -> None:
        self.cells = (max(1, width), max(1, height))
        self.width, self.height = self.cells[0] * 2, self.cells[1] * 2
        self._layers: list[tuple[str, NDArray[np.bool_]]] = []

    def layer(self, named: str) -> NDArray[np.bool_]:
        """Give a new empty mask, (height, width) of quarters, for a role that is also a ground."""
        mask = np.zeros((self.height, self.width), bool)
        self._layers.append((named, mask))
        return mask

    def box(self, mask: NDArray[np.bool_], left: float, top: float, right: float, bottom: float) -> None:
        """Fill a box, at least a quarter wide and high."""
        x1, x2 = (int(np.clip(round(v), 0, self.width)) for v in sorted((left, right)))
        y1, y2 = (int(np.clip(round(v / 2), 0, self.height)) for v in sorted((top, bottom)))
        mask[y1 : max(y2, y1 + 1), x1 : max(x2, x1 + 1)] = True

    def convex(self, mask: NDArray[np.bool_], x: NDArray[np.float64], y: NDArray[np.float64]) -> None:
        """Fill a convex shape with corners in order, either way round: all quarters whose middle lies within."""
        x, y = np.asarray(x, float), np.asarray(y, float) / 2
        if not (np.isfinite(x).all() and np.isfinite(y).all()):
            return
        x1, x2 = max(0, int(x.min())), min(self.width, int(x.max()) + 1)
        y1, y2 = max(0, int(y.min())), min(self.height, int(y.max()) + 1)
        if x1 >= x2 or y1 >= y2:
            return
        px, py = np.arange(x1, x2) + 0.5, (np.arange(y1, y2) + 0.5)[:, None]
        xs, ys = x.tolist(), y.tolist()
        turn = sum(xs[k - 1] * ys[k] - xs[k] * ys[k - 1] for k in range(len(xs)))
        way = 1.0 if turn >= 0 else -1.0
        within = np.ones((y2 - y1, x2 - x1), bool)
        for k in range(len(xs)):
            u, v = xs[k - 1], ys[k - 1]
            within &= (py - v) * (way * (xs[k] - u)) >= (px - u) * (way * (ys[k] - v))
        mask[y1:y2, x1:x2] |= within

    def between(
        self, mask: NDArray[np.bool_], x: NDArray[np.float64], a: NDArray[np.float64], b: NDArray[np.float64]
    ) -> None:
        """Fill between two curves over the same rising x."""
        if len(x) < 2:
            return
        columns = np.arange(max(0, int(np.ceil(x[0]))), min(self.width, int(x[-1]) + 1))
        if not len(columns):
            return
        first, second = np.interp(columns, x, a) / 2, np.interp(columns, x, b) / 2
        low, high = np.minimum(first, second), np.maximum(first, second)
        rows = np.arange(self.height)[:, None] + 0.5
        mask[:, columns] |= (rows >= low) & (rows <= high)

    def disc(self, mask: NDArray[np.bool_], x: float, y: float, radius: float) -> None:
        """Fill a disc."""
        around = np.linspace(0, 2 * np.pi, 24, endpoint=False)
        self.convex(mask, x + radius * np.cos(around), y + radius * np.sin(around))

    def thick(self, mask: NDArray[np.bool_], x: tuple[float, float], y: tuple[float, float], wide: float) -> None:
        """Fill a thick line."""
        dx, dy = x[1] - x[0], y[1] - y[0]
        length = float(np.hypot(dx, dy)) or 1.0
        ax, ay = -dy / length * wide / 2, dx / length * wide / 2
        self.convex(
            mask,
            np.array([x[0] + ax, x[1] + ax, x[1] - ax, x[0] - ax]),
            np.array([y[0] + ay, y[1] + ay, y[1] - ay, y[0] - ay]),
        )

    def onto(self, picture: Picture, x: int, y: int) -> None:
        """Lay all layers onto a picture: whole cells become ground, the rims blocks; what was written there is covered."""
        width, height = self.cells
        w, h = min(width, picture.width - x), min(height, picture.height - y)
        if w <= 0 or h <= 0:
            return
        chars, roles = picture.chars[y : y + h, x : x + w], picture.roles[y : y + h, x : x + w]
        grounds = picture.grounds[y : y + h, x : x + w]
        top = np.zeros((self.height, self.width), np.uint8)
        for number, (_, mask) in enumerate(self._layers, 1):
            top[mask] = number
        cells = top.reshape(height, 2, width, 2).transpose(0, 2, 1, 3).reshape(height, width, 4)[:h, :w]
        over = cells.max(axis=2)
        is_over = cells == over[..., None]
        code = (is_over << np.arange(4)).sum(axis=2)
        # of what else is in the cell the one with more quarters is its ground; nothing counts too
        left = np.where(is_over, 0, cells)
        other = left.max(axis=2)
        shown = (left == other[..., None]).sum(axis=2) >= (~is_over & (cells == 0)).sum(axis=2)
        other = np.where((other > 0) & shown, other, 0)
        role_of = np.array([0, *(_ROLE[n] for n, _ in self._layers)], np.uint8)
        ground_of = np.array([0, *(_GROUND[n] for n, _ in self._layers)], np.uint8)
        some = over > 0
        whole, part = some & (code == 15), some & (code < 15)
        # the rim over the rim of another area: what that one filled is the ground from now on
        below = part & (other == 0) & _mostly(chars)
        grounds[below] = _GROUND_OF_ROLE[roles[below]]
        mixed = part & (other > 0)
        grounds[mixed] = ground_of[other[mixed]]
        chars[part], roles[part] = _QUARTERS[code[part]], role_of[over[part]]
        chars[whole], grounds[whole] = " ", ground_of[over[whole]]


_QUARTERS = np.array(list(" ▘▝▀▖▌▞▛▗▚▐▜▄▙▟█"))
"""The block for each set of quarters: bits from the top left, top right, bottom left, bottom right."""

_MOSTLY = np.zeros(0x25A0, bool)
for _char in "▀▌▛▐▜▄▙▟█":
    _MOSTLY[ord(_char)] = True


def _letters(chars: NDArray[np.str_]) -> NDArray[np.bool_]:
    """Tell which cells hold a letter."""
    codes = np.ascontiguousarray(chars).view(np.uint32).reshape(chars.shape)
    return (codes >= ord("A")) & (codes <= ord("z")) | (codes >= ord("À")) & (codes < 0x2000)


def _mostly(chars: NDArray[np.str_]) -> NDArray[np.bool_]:
    """Tell which cells hold a block that fills half of the cell or more."""
    codes = np.ascontiguousarray(chars).view(np.uint32).reshape(chars.shape)
    return _MOSTLY[np.minimum(codes, _MOSTLY.size - 1)]


_GROUND_OF_ROLE = np.array([_GROUND.get(name, 0) for name in ROLES], np.uint8)


def _ascii_table() -> dict[int, str]:
    table = {0x2800 + code: " .:;*%#@@"[code.bit_count()] for code in range(256)}
    pairs = {
        "─": "-", "│": "|", "╭": "+", "╮": "+", "╯": "+", "╰": "+", "┬": "+", "┴": "+", "├": "+", "┤": "+", "┼": "+",
        "━": "=", "╸": "=", "╺": "=", "┃": "|", "●": "o", "○": "o", "◆": "*", "◇": "*", "▸": ">", "◂": "<", "→": ">",
        "←": "<", "↑": "^", "↓": "v", "·": ".", "…": "~", "−": "-", "█": "#", "▌": "#", "▐": "#", "▏": "|", "▕": "|",
        "▖": "#", "░": ":", "▒": "%", "▓": "#", "╌": "-", "╎": ":", "×": "x", "µ": "u", "°": "d", "ω": "w", "■": "#",
        "▪": "*", "□": "o", "’": "'", "▲": "^", "▼": "v", "▶": ">", "◀": "<", "↗": "/", "↘": "\\", "³": "3", "▁": "_",
        "▔": "-", "▘": "'", "▝": "'", "▗": ".", "▚": "%", "▞": "%", "▛": "#", "▜": "#", "▙": "#", "▟": "#",
        "⎍": "n", "⇅": "|", "╋": "+", "↖": "\\", "↙": "/", "⊕": "o", "┄": "-", "╱": "/", "⇧": "^", "▀": "#", "▄": "#", "⌂": "^", "¦": "|",
    }  # fmt: skip
    return {**table, **{ord(a): b for a, b in pairs.items()}}


_ASCII = _ascii_table()


def to_ascii(text: str) -> str:
    """Write text for a terminal that knows no more than ASCII, each character by one."""
    plain = text.translate(_ASCII)
    return plain if plain.isascii() else plain.encode("ascii", "replace").decode("ascii")
