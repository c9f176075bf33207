"""A picture: a grid of characters, each with a role; a theme sets the colour of a role."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.scene.marks import ROLES
from pivrex.scene.scene import Scene

__all__ = ["TEXT", "Picture", "Placed", "Spot", "to_ascii"]

TEXT = 0xF0
"""The blend of a cell that is not fitted: its role's style for what is written, its ground's colour behind."""

_ROLE = {name: i for i, name in enumerate(ROLES)}


class Spot(NamedTuple):
    """A part of a picture that can be clicked: what a click there means, and which one of several."""

    x: int
    y: int
    width: int
    height: int
    what: str
    value: str


class Placed(NamedTuple):
    """A scene and the rectangle in which it was printed."""

    scene: Scene
    x: int
    y: int
    width: int
    height: int


class Picture:
    """A grid of ``height`` rows and ``width`` columns.

    Attributes
    ----------
    chars : (height, width) of one character
    roles, grounds : (height, width) uint8
        Indices into `ROLES`; 0 is nothing.
    blends : (height, width) uint8
        For cells that are fitted: 16 times the eighths that the role has of what is drawn, and those that it has of what is behind.
    scenes : list of Placed
        The scenes that were printed on it, for terminals that show pixels.
    spots : list of Spot
        What can be clicked; the last drawn lies on top.
    """

    def __init__(self, width: int, height: int) -> None:
        self.width, self.height = max(0, width), max(0, height)
        self.chars = np.full((self.height, self.width), " ", "<U1")
        self.roles = np.zeros((self.height, self.width), np.uint8)
        self.grounds = np.zeros((self.height, self.width), np.uint8)
        self.blends = np.full((self.height, self.width), TEXT, np.uint8)
        self.spots: list[Spot] = []
        self.scenes: list[Placed] = []

    def spot(self, x: int, y: int, width: int, what: str, value: str = "", height: int = 1) -> None:
        """Mark what can be clicked."""
        if width > 0 and height > 0:
            self.spots.append(Spot(x, y, width, height, what, value))

    def spot_at(self, x: int, y: int) -> Spot | None:
        """Return what can be clicked at a cell."""
        return next((s for s in reversed(self.spots) if 0 <= x - s.x < s.width and 0 <= y - s.y < s.height), None)

    def text(self, x: int, y: int, text: str, named: str = "rest", width: int | None = None) -> int:
        """Write text from column x; what does not fit is cut, with … if ``width`` cuts it. Returns the column after it."""
        if width is not None and len(text) > width:
            text = text[: max(0, width - 1)] + "…" if width > 0 else ""
        end = x + len(text)
        if 0 <= y < self.height and end > 0 and x < self.width:
            shown = text[max(0, -x) : self.width - x]
            left = max(0, x)
            self.chars[y, left : left + len(shown)] = np.frombuffer(shown.encode("utf-32-le"), "<U1")
            self.roles[y, left : left + len(shown)] = _ROLE[named]
            self.blends[y, left : left + len(shown)] = TEXT
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
            self.blends[rows, x] = TEXT

    def fill(self, x: int, y: int, width: int, named: str, height: int = 1) -> None:
        """Lay an area behind whole cells; what is written there stays."""
        if width > 0 and height > 0:
            self.grounds[max(0, y) : max(0, y + height), max(0, x) : max(0, x + width)] = _ROLE[named]

    def place(self, other: Picture, x: int, y: int) -> None:
        """Put another picture here; what does not fit is cut."""
        height, width = min(other.height, self.height - y), min(other.width, self.width - x)
        if height > 0 and width > 0:
            self.chars[y : y + height, x : x + width] = other.chars[:height, :width]
            self.roles[y : y + height, x : x + width] = other.roles[:height, :width]
            self.grounds[y : y + height, x : x + width] = other.grounds[:height, :width]
            self.blends[y : y + height, x : x + width] = other.blends[:height, :width]
            self.spots += (s._replace(x=s.x + x, y=s.y + y) for s in other.spots)
            self.scenes += (s._replace(x=s.x + x, y=s.y + y) for s in other.scenes)

    def row(self, y: int) -> str:
        """Return a row as text."""
        return self.chars[y].tobytes().decode("utf-32")

    def rows(self) -> list[str]:
        """Return all rows as text."""
        return [self.row(y) for y in range(self.height)]


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
    """Write text for a terminal that knows ASCII only, each character by one."""
    plain = text.translate(_ASCII)
    return plain if plain.isascii() else plain.encode("ascii", "replace").decode("ascii")
