"""The season: a figure of all runs over time, and whether the newest is worse than usual."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from pivrex.runs.facts import Facts
from pivrex.runs.figures import FIGURES, Figure
from pivrex.runs.shelf import Shelved

__all__ = ["Course", "kind_of", "season_of"]

MIN_BEFORE = 5
"""How many runs must lie before one that is said to stand out."""

STANDS_OUT = 4.0
"""Robust sigma off the median of those before."""

MIN_SHARE = 0.1
"""And at least so much of that median: figures that never change have no spread."""


@dataclass(frozen=True)
class Course:
    """A figure of a robot over its runs, the oldest first.

    Attributes
    ----------
    figure : Figure
    names : tuple of str
        The runs.
    when : tuple of datetime
    values : tuple of float
    usual : float
        The median of those before the newest.
    stands_out : bool
        Whether the newest is worse than those before by more than they differ among themselves.
    """

    figure: Figure
    names: tuple[str, ...]
    when: tuple[datetime, ...]
    values: tuple[float, ...]
    usual: float
    stands_out: bool

    @property
    def said(self) -> str:
        """Return a sentence about an unusual value; empty if there is none."""
        if not self.stands_out:
            return ""
        f = self.figure
        unit = f" {f.unit}" if f.unit else ""
        return f"{f.title} is {self.values[-1]:.{f.digits}f}{unit} in {self.names[-1]}; it was about {self.usual:.{f.digits}f}{unit} before"


def kind_of(facts: Facts) -> str:
    """Return what kind of drive a run is: by whom or which routine it was driven first. Only drives of one kind are held against each other."""
    return facts.drivers[0] if facts.drivers else ""


def season_of(runs: Sequence[Shelved], rig: str, kind: str | None = None) -> list[Course]:
    """Return the course of every figure that at least two runs of a rig have.

    Parameters
    ----------
    kind : str, optional
        Only of runs that this driver or routine drove; of those that are driven like the newest if left out.

    Notes
    -----
    The newest stands out where it is worse than the median of those before by `STANDS_OUT` · 1.4826 · their median absolute
    deviation (Iglewicz & Hoaglin 1993).
    """
    mine = [r for r in runs if r.facts is not None and r.facts.rig == rig and r.facts.figures]
    mine.sort(key=lambda r: r.facts.began if r.facts is not None else datetime.min)
    if mine and kind is None and mine[-1].facts is not None:
        kind = kind_of(mine[-1].facts)
    mine = [r for r in mine if r.facts is not None and kind_of(r.facts) == kind]
    found = []
    for figure in FIGURES:
        there = [
            (r.name, r.facts.began, r.facts.figures[figure.key])
            for r in mine
            if r.facts is not None and figure.key in r.facts.figures
        ]
        if len(there) >= 2:
            names, when, values = zip(*there, strict=True)
            usual, out = _stands_out(figure, np.array(values))
            found.append(Course(figure, names, when, values, usual, out))
    return found


def _stands_out(figure: Figure, values: np.ndarray) -> tuple[float, bool]:
    before, newest = values[:-1], float(values[-1])
    usual = float(np.median(before))
    if figure.less is None or len(before) < MIN_BEFORE:
        return usual, False
    spread = 1.4826 * float(np.median(np.abs(before - usual)))
    worse = newest - usual if figure.less else usual - newest
    return usual, worse > max(STANDS_OUT * spread, MIN_SHARE * abs(usual), 10.0**-figure.digits)
