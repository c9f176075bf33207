"""Compares two runs: their first difference and its stage, figures side by side, the distance between their robots."""

from __future__ import annotations

import difflib
import tomllib
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from pivrex.errors import RigError
from pivrex.line.layout import Floats
from pivrex.rig.difference import Change, differences
from pivrex.rig.read import rig_text
from pivrex.runs.alignment import row_by
from pivrex.runs.effects import Effect, cause_of, effects_of
from pivrex.runs.figures import FIGURES, Figure, Figures
from pivrex.runs.parting import Parting, Partings, StageParting, is_exact
from pivrex.runs.run import Run
from pivrex.runs.track import TRACK

__all__ = ["Compared", "Differences", "Effect", "Parting", "StageParting", "compare", "sentence_of"]


@dataclass(frozen=True)
class Differences:
    """The differences of two compared runs.

    Attributes
    ----------
    by : str
        What they are lined up by.
    zero : (int, int)
        Which row of each is lined up.
    overlap_s : float
        How long they run next to each other from there.
    exact : bool
        Whether every bit was held against the other; else differences within the noise of real robots are passed over.
    parting : Parting or None
    stages : tuple of StageParting
        In the order of the line, as far as both have them.
    effects : tuple of Effect
        The changes of the rig, and where each by itself first changes what the line does with the first run's readings.
    routine : tuple of str
        Lines of the routine that are another, each with "- " or "+ " before it.
    figures : tuple of (Figure, float, float)
        Side by side; NaN where one run has none.
    apart_m, apart_at_s : float
        How far apart the robots were at most, and when; NaN where no one knows.
    """

    by: str
    zero: tuple[int, int]
    overlap_s: float
    exact: bool
    parting: Parting | None
    stages: tuple[StageParting, ...]
    effects: tuple[Effect, ...]
    routine: tuple[str, ...]
    figures: tuple[tuple[Figure, float, float], ...]
    apart_m: float
    apart_at_s: float


@dataclass(frozen=True)
class Compared(Differences):
    """Two runs over each other; ``runs`` are these, open."""

    runs: tuple[Run, Run]

    @property
    def changes(self) -> tuple[Change, ...]:
        """The changes of the rig."""
        return tuple(e.change for e in self.effects)

    def as_json(self) -> dict[str, Any]:
        """Return it for `pivrex compare --json`."""
        p = self.parting
        parts = None
        if p is not None:
            parts = {
                "t_s": p.t_s, "rows": list(p.rows), "stage": p.stage, "column": p.column, "unit": p.unit, "values": _finite(p.values),
                "setting": p.change.key if p.change is not None else None,
            }  # fmt: skip
        return {
            "runs": [r.name for r in self.runs],
            "by": self.by,
            "overlap_s": self.overlap_s,
            "exact": self.exact,
            "parts": parts,
            "stages": [{"stage": s.stage, "t_s": _finite([s.t_s])[0], "column": s.column or None} for s in self.stages],
            "settings": [
                {
                    "key": e.change.key,
                    "before": e.change.before,
                    "after": e.change.after,
                    "acts_s": _finite([e.t_s])[0],
                    "stage": e.stage or None,
                }
                for e in self.effects
            ],
            "routine": list(self.routine),
            "figures": [{"figure": f.key, "unit": f.unit, "values": _finite((a, b))} for f, a, b in self.figures],
            "apart_m": _finite([self.apart_m])[0],
            "apart_at_s": _finite([self.apart_at_s])[0],
            "said": sentence_of(self),
        }


def _finite(values: Any) -> list[float | None]:
    return [float(v) if np.isfinite(v) else None for v in values]


def compare(one: Run, other: Run, by: str = "start") -> Compared:
    """Lay two runs over each other.

    Raises
    ------
    RunError
        If one of them cannot be read, or they cannot be lined up so.
    """
    zero = row_by(one, by), row_by(other, by)
    overlap = max(0, min(one.end - zero[0], other.end - zero[1]))
    exact = is_exact(one, other, zero)
    same_rate = abs(one.dt_s - other.dt_s) < 1e-9
    partings = Partings(one, other, zero, exact)
    if same_rate and overlap:
        partings.search(overlap)
    effects = effects_of(one, _changes(one, other, zero), zero[0])
    parting = partings.first()
    if parting is not None:
        parting = replace(parting, change=cause_of(parting, effects))
    apart, when = _apart(one, other, zero)
    return Compared(
        by, zero, overlap * one.dt_s, exact, parting, partings.stages(), tuple(effects), tuple(_routines(one, other, zero)),
        tuple(_figures(one, other)), apart, when, (one, other),
    )  # fmt: skip


# --- changes ---


def _changes(one: Run, other: Run, zero: tuple[int, int]) -> list[Change]:
    try:
        return differences(rig_text(one.rig_file(zero[0])), rig_text(other.rig_file(zero[1])))
    except (RigError, tomllib.TOMLDecodeError):
        return []


def _routines(one: Run, other: Run, zero: tuple[int, int]) -> list[str]:
    """Return the lines of the routine that are another."""
    texts = []
    for run, row in ((one, zero[0]), (other, zero[1])):
        path = run.routine_file(max(row, run.end))
        texts.append(path.read_text("utf-8", errors="replace").splitlines() if path is not None else [])
    found = difflib.unified_diff(texts[0], texts[1], n=0, lineterm="")
    return [f"{line[0]} {line[1:]}" for line in found if line[:1] in "+-" and line[:3] not in ("+++", "---")]


# --- figures ---


def figures_of(run: Run) -> dict[str, float]:
    """Return a run's figures: as they were kept, or added up now where the program was killed."""
    if run.facts.figures or not len(run):
        return run.facts.figures
    figures: Figures | None = None
    for piece in run.pieces():
        line = run.line(piece.first)
        if figures is None:
            figures = Figures(line, run.floor)
        else:
            figures.use(line)
        figures.add(piece.rows)
    return figures.values() if figures is not None else {}


def _figures(one: Run, other: Run) -> list[tuple[Figure, float, float]]:
    a, b = figures_of(one), figures_of(other)
    return [(f, a.get(f.key, np.nan), b.get(f.key, np.nan)) for f in FIGURES if f.key in a or f.key in b]


def _apart(one: Run, other: Run, zero: tuple[int, int]) -> tuple[float, float]:
    """Return how far apart their robots were at most, and when, by their tracks."""
    tracks = []
    for run, row in zip((one, other), zero, strict=True):
        track: Floats = run.track
        column = TRACK.index("x_m") if np.isfinite(track[:, TRACK.index("x_m")]).any() else TRACK.index("estimated_x_m")
        track = track[track[:, 0] >= row]
        tracks.append(((track[:, 0] - row) * run.dt_s, track[:, column], track[:, column + 1]))
    (t, x, y), (u, p, q) = tracks
    if not len(t) or not len(u):
        return np.nan, np.nan
    t_shared = t[t <= u[-1]]
    away = np.hypot(x[: len(t_shared)] - np.interp(t_shared, u, p), y[: len(t_shared)] - np.interp(t_shared, u, q))
    if not np.isfinite(away).any():
        return np.nan, np.nan
    most = int(np.nanargmax(away))
    return float(away[most]), float(t_shared[most])


# --- said ---


def sentence_of(found: Compared) -> str:
    """Return where they part, and by what, in a sentence."""
    p = found.parting
    if abs(found.runs[0].dt_s - found.runs[1].dt_s) > 1e-9:
        rates = " and ".join(f"{r.facts.rate_hz:g} Hz" for r in found.runs)
        return f"they were made at {rates}: only their figures and tracks can be compared"
    if p is None:
        return f"no difference in the {found.overlap_s:.1f} s that both have"
    unit = f" {p.unit}" if p.unit else ""
    values = " and ".join("nothing" if np.isnan(v) else f"{v:.4g}{unit}" for v in p.values)
    name = p.column.partition(".")[2]
    where = {
        "raw": "different stick readings",
        "sensed": "same commands, and the robot moved differently",
        "truth": "same commands, and the robot moved differently",
    }.get(p.stage, f"same inputs, first difference after {p.stage}")
    said = f"at {p.t_s:.2f} s {where}: {name} {values}"
    return f"{said}; caused by {p.change}" if p.change is not None else said
