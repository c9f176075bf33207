"""Many ticks of one robot at once, where that gives the same bits: stages that remember nothing take them in one go."""

from __future__ import annotations

from typing import Any

from pivrex.line.layout import Floats
from pivrex.line.line import Line, LineState

__all__ = ["asks_nothing_of_sensors", "complete", "through"]

Counts = list[bool]


def _after_sensing(line: Line) -> set[str]:
    """The stages that hang on what was sensed."""
    found = {"sensed"}
    for name, stage in line.stages.items():
        if found & set(stage.reads):
            found.add(name)
    return found


def asks_nothing_of_sensors(line: Line) -> bool:
    """Tell whether what leaves for the robot does not hang on what came back, so that it may be known beforehand."""
    return "outputs" not in _after_sensing(line)


def through(line: Line, state: LineState, rows: Floats, counts: Counts) -> LineState:
    """Run all stages but those that hang on what was sensed.

    Parameters
    ----------
    line : Line
    state : LineState
    rows : (N, K) float64
        With what goes in, as `Line.begin` gives it, but for what was sensed; the stages' columns are written.
    counts : list of bool
        Which of the rows are ticks that count; the others leave no trace.

    Returns
    -------
    LineState
    """
    return _run(line, state, rows, counts, _after_sensing(line), False)


def complete(line: Line, state: LineState, rows: Floats, counts: Counts) -> LineState:
    """Run the other stages, once rows have what was sensed."""
    return _run(line, state, rows, counts, _after_sensing(line), True)


def _run(line: Line, state: LineState, rows: Floats, counts: Counts, sensing: set[str], these: bool) -> LineState:
    after: list[Any] = list(state.stages)
    for k, (name, stage) in enumerate(line.stages.items()):
        if (name in sensing) == these:
            after[k] = stage.run(after[k], rows, counts)
    return state._replace(stages=tuple(after))
