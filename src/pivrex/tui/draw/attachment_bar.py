"""Attachments: a row each, with commanded and reached positions between their limits."""

from __future__ import annotations

from math import isfinite
from typing import NamedTuple

from pivrex.tui.draw.picture import Picture

__all__ = ["Standing", "draw_standing", "name_width"]

NAMES = 9
LONG_NAMES = 16
LONG_FROM = 60
"""Rows of at least so many cells have room for long names."""
VALUES = 8
SAFE = 20
"""Cells for what it does when the robot is stopped."""


class Standing(NamedTuple):
    """An attachment as it is now.

    Attributes
    ----------
    name, kind : str
    command, reached : str
        With their units; empty for what no one knows.
    low, high : str
        As far as it goes.
    at, by_sensor : float
        Its target and where it is, as shares of its range from 0 to 1; NaN where no one knows.
    safe : str
        What it does when the robot is stopped.
    by : str
        Which buttons act on it, with their keys.
    angle_rad : float
        Where it is, or its target; NaN for what has no angle.
    acts : bool
        Whether it does something just now.
    """

    name: str
    kind: str
    command: str
    reached: str
    low: str
    high: str
    at: float
    by_sensor: float
    safe: str
    by: str
    angle_rad: float
    acts: bool


def name_width(standings: list[Standing], width: int) -> int:
    """Return how many cells the names of all rows take, in rows of ``width`` cells."""
    longest = max((len(one.name) for one in standings), default=0)
    return max(NAMES, min(longest, LONG_NAMES if width >= LONG_FROM else NAMES))


def draw_standing(picture: Picture, x: int, y: int, width: int, one: Standing, names: int = NAMES) -> None:
    """Draw an attachment in a row: ● its target, ○ where its sensor says that it is, and the words for both.

    ``names``: the cells for its name.
    """
    picture.text(x, y, one.name, "title" if one.acts else "rest", names)
    at = x + names + 1
    if one.kind == "switch":
        picture.text(at, y, f"{'■' if one.at else '□'} {one.command}", "commanded" if one.at else "rest")
    else:
        picture.right(at + VALUES - 1, y, one.command, "commanded" if one.acts else "rest")
    at += VALUES + 1
    picture.text(at, y, one.reached, "measured", VALUES)
    at += VALUES + 1
    safe = f"stopped: {one.safe}"
    room = x + width - at
    with_safe = room >= len(safe) + 2
    bar = room - len(one.low) - len(one.high) - 2 - (SAFE if room >= SAFE + 30 else 0)
    if one.kind != "switch" and bar >= 8:
        _draw_range(picture, at, y, bar, one)
        with_safe = room >= SAFE + 30
    if with_safe:
        picture.right(x + width, y, safe, "dim")


def _draw_range(picture: Picture, x: int, y: int, bar: int, one: Standing) -> None:
    """Draw its range with its target and its position; the part between them is an area."""
    x = picture.text(x, y, one.low, "dim") + 1
    picture.across(y, x, x + bar, "─", "frame")
    commanded, is_at = (
        min(bar - 1, max(0, round(s * (bar - 1)))) if isfinite(s) else -1 for s in (one.at, one.by_sensor)
    )
    if commanded >= 0 and is_at >= 0:
        picture.fill(x + min(commanded, is_at), y, abs(commanded - is_at) + 1, "gap")
    if is_at >= 0:
        picture.text(x + is_at, y, "○", "measured")
    if commanded >= 0:
        picture.text(x + commanded, y, "●", "commanded")
    picture.text(x + bar + 1, y, one.high, "dim")
