"""The strip of pinned values below any view: each value now, and over the last seconds."""

from __future__ import annotations

from textwrap import wrap

import numpy as np

from pivrex.errors import UnitError
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.routine.pins import DIVIDES, Pin, read_pin
from pivrex.scene.scene import Box, Margins, Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel

__all__ = ["PinStrip"]

LASTS_S = 10.0
HIGH, HIGH_FROM = 3, 40
"""It is so many lines high, on a screen of at least so many; else one."""

NARROWEST, NUMBER_W, LEFT = 30, 14, 18


class PinStrip:
    """It stands between the view and the why, where anything is pinned."""

    def __init__(self, model: ScreenModel) -> None:
        self._model = model
        self._line: Line | None = None
        self._read: dict[tuple[str, str], Pin | str] = {}

    def height(self, screen: int) -> int:
        """Return how many lines it takes of a screen that is so high; 0 where nothing is pinned."""
        return 0 if not self._model.documents.pins(self._model.rig_name) else HIGH if screen >= HIGH_FROM else 1

    def _pin(self, name: str, text: str) -> Pin | str:
        """Return a pin on the line in use, or why it cannot be had there."""
        line = self._model.line
        if line is not self._line:
            self._line, self._read = line, {}
        if (name, text) not in self._read:
            try:
                self._read[name, text] = read_pin(name, text, line)
            except UnitError as problem:
                self._read[name, text] = str(problem)
        return self._read[name, text]

    def draw(self, width: int, height: int) -> Picture:
        """Draw the strip."""
        picture, pins = Picture(width, height), list(self._model.documents.pins(self._model.rig_name).items())
        room = max(1, min(len(pins), width // NARROWEST))
        if room < len(pins):
            picture.right(width - 1, 0, f"and {len(pins) - room} more", "dim")
            width -= 12
        each = width // room
        for k, (name, text) in enumerate(pins[:room]):
            picture.place(self._one(name, self._pin(name, text), each - 1, height), k * each, 0)
            picture.spot(k * each, 0, each - 1, "pins", name, height)
        return picture

    def _one(self, name: str, pin: Pin | str, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        named = min(len(name), max(8, width - NUMBER_W - 8)) if height == 1 else min(max(len(name), LEFT), width // 2)
        picture.text(1, 0, name, "title", named)
        if isinstance(pin, str):
            x, y = (named + 2, 0) if height == 1 else (1, 1)
            for k, row in enumerate(wrap(f"! {pin}", max(8, width - x - 1))[: height - y]):
                picture.text(x, y + k, row, "alarm", width - x)
            return picture
        rows = self._rows(2 * width)
        values, divides = pin.values(rows)
        said, role = "no tick yet", "dim"
        if len(rows):
            known = bool(np.isfinite(values[-1]))
            said, role = (
                (f"{_short(values[-1], values)} {pin.unit}".rstrip(), "measured") if known else ("nothing", "dim")
            )
            said, role = (f"! {DIVIDES}", "alarm") if divides[-1] else (said, role)
        if height == 1:
            picture.right(named + 3 + NUMBER_W, 0, said, role)
            left = named + 4 + NUMBER_W
        else:
            picture.text(1, 1, said, role)
            left = named + 2
            some = values[np.isfinite(values)]
            if len(some):
                picture.text(1, 2, f"{_short(some.min(), some)} to {_short(some.max(), some)}", "dim", left - 1)
        if width - left >= 4:
            picture.place(_curve(values, width - left, height), left, 0)
        return picture

    def _rows(self, most: int) -> Floats:
        """Return the Ticks of the last seconds, the newest last, not many more than are drawn."""
        rows = self._model.history
        rows = rows[-round(LASTS_S / self._model.line.dt_s) :]
        return rows[:: -max(1, len(rows) // most)][::-1]


def _short(value: float, among: Floats) -> str:
    """Write a number in few letters; one that is negligible next to the others is 0."""
    return f"{value:.3g}" if abs(value) > 1e-4 * np.nanmax(np.abs(among)) else "0"


def _curve(values: Floats, width: int, height: int) -> Picture:
    """Draw values over their own range; constant ones in the middle."""
    known = values[np.isfinite(values)]
    low, span = (float(known.min()), float(np.ptp(known))) if len(known) else (0.0, 0.0)
    share = (values - low) / span if span > 0 else np.where(np.isfinite(values), 0.5, np.nan)
    scene = Scene(Box(0.0, -0.1, 1.0, 1.1), equal=False, margins=Margins(0, 0, 0, 0))
    if len(values) > 1:
        scene.line(np.column_stack((np.linspace(0, 1, len(values)), share)), "measured", 0.3)
    return print_scene(scene, width, height)
