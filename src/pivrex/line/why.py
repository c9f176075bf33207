"""The why: one wheel's output derived from the stick, stage by stage, with the numbers of one Tick."""

from __future__ import annotations

import re
from dataclasses import replace

from pivrex.line.line import Line
from pivrex.line.stage import Floats, Rung
from pivrex.line.wheel_tick import WheelTick

__all__ = ["Rung", "ladder", "sentence"]

ARROW = " → "

UNKNOWN = re.compile(r"(?<!\w)[+-]?nan(?!\w)")
"""How a number reads that a Tick does not have: a run of an older version may lack columns."""

MINUS = re.compile(r"(?<!\w)-|-(?=\d)")
"""A minus sign, which is no hyphen of a word."""


def sentence(line: Line, row: Floats, wheel: str) -> str:
    """Derive a wheel's output in one sentence: every stage gives its part; what the Tick does not have is "?"."""
    tick = WheelTick(line, row, wheel)
    parts: list[str] = []
    for stage in line.stages.values():
        try:
            parts += stage.phrases(tick)
        except ValueError:  # a whole number has no digits after the point
            parts.append(f"{stage.name} ?")
    return f"why {wheel}: " + MINUS.sub("−", UNKNOWN.sub("?", ARROW.join(parts)))


def ladder(line: Line, row: Floats, wheel: str) -> list[Rung]:
    """Derive a wheel's output, a rung a step, in the order of the line: every stage gives its own; what the Tick does not have is "?"."""
    tick = WheelTick(line, row, wheel)
    rungs: list[Rung] = []
    for stage in line.stages.values():
        try:
            rungs += stage.rungs(tick)
        except ValueError:
            rungs.append(Rung(stage.name, "?", note="this Tick does not hold it"))
    return [
        replace(r, text=UNKNOWN.sub("?", r.text), note=UNKNOWN.sub("?", r.note)) if "nan" in r.text + r.note else r
        for r in rungs
    ]
