"""The why: one wheel's output derived from the stick, stage by stage, with the numbers of one Tick."""

from __future__ import annotations

from pivrex.line.line import Line
from pivrex.line.stage import Floats, Rung
from pivrex.line.told import Told

__all__ = ["Rung", "ladder", "sentence"]

ARROW = " → "


def sentence(line: Line, row: Floats, wheel: str) -> str:
    """Derive a wheel's output in one sentence: every stage gives its part."""
    told = Told(line, row, wheel)
    parts = [part for stage in line.stages.values() for part in stage.phrases(told)]
    return f"why {wheel}: " + ARROW.join(parts).replace("-", "−")


def ladder(line: Line, row: Floats, wheel: str) -> list[Rung]:
    """Derive a wheel's output, a rung a step, in the order of the line: every stage gives its own."""
    told = Told(line, row, wheel)
    return [rung for stage in line.stages.values() for rung in stage.rungs(told)]
