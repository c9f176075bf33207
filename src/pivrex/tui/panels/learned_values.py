"""What a run teaches about its robot, as a picture."""

from __future__ import annotations

from textwrap import wrap

import numpy as np

from pivrex.runs.learning import Learning
from pivrex.runs.learning.learn import LEARNING_DRIVE
from pivrex.tui.draw.picture import Picture

__all__ = ["draw_learned"]


def draw_learned(learned: Learning, width: int, height: int) -> Picture:
    """Draw each parameter with its interval, as it was in the rig and as it was learned."""
    picture = Picture(width, height)
    picture.text(1, 0, f"learned about {learned.rig.name} from {learned.run}", "title", width - 2)
    held, y = learned.held_out, 2
    if held is not None:
        said = f"held out {held.seconds:.0f} s: the simulated robot's wheels are off by {held.before:.3f} m/s with the rig as it is"
        picture.text(1, 1, f"{said}, by {held.after:.3f} m/s as learned", "rest", width - 2)
    bar = max(0, min(34, width - 78))
    for p in learned.learned:
        if y >= height - 2:
            break
        picture.text(1, y, p.title, "rest", 34)
        picture.right(48, y, f"{p.value:.4g}", "measured")
        picture.text(49, y, p.unit, "dim")
        picture.text(56, y, f"{p.low:.4g} to {p.high:.4g}", "target", 20)
        if bar >= 12:
            _interval(picture, 78, y, bar, p.value, p.low, p.high)
        y += 1
    _not_told(picture, y + 1, width, learned)
    return picture


def _not_told(picture: Picture, y: int, width: int, learned: Learning) -> None:
    """Report what the run cannot tell, and what to drive for it; and what the rig would say."""
    for key, why in learned.refused:
        for k, line in enumerate(wrap(f"{key}: {why}", max(20, width - 5))):
            picture.text(1 if k == 0 else 3, y, ("? " if k == 0 else "") + line, "dim", width - 2)
            y += 1
    if learned.refused:
        picture.text(1, y, LEARNING_DRIVE, "key", width - 2)
        y += 1
    for line in [row for note in learned.notes for row in wrap(note, max(20, width - 3))]:
        picture.text(1, y, line, "dim", width - 2)
        y += 1
    if learned.changes:
        picture.text(1, y + 1, "proposed values: W writes them into the rig", "title")
        for k, change in enumerate(learned.changes):
            picture.text(3, y + 2 + k, str(change), "commanded", width - 4)


def _interval(picture: Picture, x: int, y: int, width: int, value: float, low: float, high: float) -> None:
    """Draw how wide an interval is next to its value: the whole bar is a tenth of it either way."""
    picture.across(y, x, x + width, "╌", "frame")
    span = 0.1 * abs(value) or max(abs(high), abs(low), 1e-9)

    def at(v: float) -> int:
        return x + int(np.clip(round((v - value) / span * (width - 1) / 2 + (width - 1) / 2), 0, width - 1))

    picture.across(y, at(low), at(high) + 1, "━", "target")
    picture.text(at(value), y, "◆", "measured")
