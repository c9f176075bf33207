"""Slow work on runs, in a process of its own: list, read, compare, learn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np

from pivrex.errors import PivrexError, RunError, UnitError
from pivrex.export.paper import Page
from pivrex.export.report import pages_of
from pivrex.line.layout import Floats
from pivrex.rig import Field, Rig, read_rig
from pivrex.rig.field import Keep
from pivrex.rig.read import rig_text
from pivrex.routine.pins import read_pin
from pivrex.runs.comparing import Differences, compare, figures_of, sentence_of
from pivrex.runs.events import Event
from pivrex.runs.facts import Facts
from pivrex.runs.learning import Learning, learn
from pivrex.runs.run import Run
from pivrex.runs.season import Course, season_of
from pivrex.runs.shelf import Shelf, Shelved
from pivrex.runs.through import through
from pivrex.runs.track import TRACK
from pivrex.tui.jobs.job import Job, Progress

__all__ = ["ComparedRuns", "Listed", "OpenRun", "PinCurve", "Report", "RunReader", "Went", "place", "run_job"]

Pins = tuple[tuple[str, str], ...]
"""Names, and what is pinned under them."""

MAX_POINTS = 2000
"""How many points of a run are enough for a chart."""

SMALL = 90
"""How many points of a track are enough for a small picture."""


@dataclass(frozen=True)
class Listed:
    """All runs, the newest first; how much room they take, in bytes, and the rule by which old ones make room."""

    runs: tuple[Shelved, ...]
    size: int
    rule: str


@dataclass(frozen=True)
class Went:
    """Where a run went, for its small picture: (N, 2) in m, and how large its floor is."""

    name: str
    points: Floats
    length_m: float
    width_m: float


@dataclass(frozen=True)
class PinCurve:
    """The pinned values over a run: the rows of the run, (N,), and the values, or why there are none."""

    name: str
    unit: str
    rows: Floats
    values: Floats
    problem: str = ""


@dataclass(frozen=True)
class OpenRun:
    """A run, for being shown: its track is (N, len(TRACK)), its rows count from ``first``."""

    name: str
    facts: Facts
    field: Field
    rig: Rig | None
    track: Floats
    first: int
    dt_s: float
    events: tuple[Event, ...]
    figures: dict[str, float]
    warnings: tuple[str, ...]
    course: tuple[Course, ...]
    pins: Pins = ()
    curves: tuple[PinCurve, ...] = ()


@dataclass(frozen=True)
class ComparedRuns(Differences):
    """Two runs over each other, for being shown: their names, and where they part as a sentence."""

    names: tuple[str, str]
    said: str


@dataclass(frozen=True)
class Report:
    """The pages of a report, as wide as the screen needs them."""

    pages: tuple[Page, ...]


def place(track: Floats) -> Floats:
    """Return where a track went, (N, 2): truly, or where no one knows that by the estimate."""
    x = TRACK.index("x_m")
    if not np.isfinite(track[:, x]).any():
        x = TRACK.index("estimated_x_m")
    return track[:, x : x + 2]


class RunReader:
    """Answers questions about the runs of a folder; what it has read it keeps."""

    def __init__(self, folder: Path, settings: Keep) -> None:
        self._shelf = Shelf(folder, settings)

    def __call__(self, question: tuple[Any, ...], progress: Progress) -> object:
        word, *about = question
        answers: dict[str, Callable[..., object]] = {
            "list": self._list,
            "went": self._went,
            "open": self._open_run,
            "compare": self._compare,
            "learned": self._learned,
            "through": self._through,
            "pages": self._pages,
        }
        try:
            return answers[word](*about)
        except (OSError, ValueError, KeyError, IndexError) as problem:  # a file that goes away while it is read
            raise PivrexError(f"cannot be read: {problem}") from None

    def _list(self) -> Listed:
        runs = self._shelf.runs()
        return Listed(tuple(runs), sum(self._shelf.size(r) for r in runs), self._shelf.rule())

    def _went(self, path: Path) -> Went:
        run = Run(path)
        points = place(run.track)
        points = points[np.isfinite(points).all(axis=1)]
        _there_still(path)
        step = max(1, len(points) // SMALL)
        return Went(run.name, points[::step], run.floor.length_m, run.floor.width_m)

    def _open_run(self, path: Path, pins: Pins = ()) -> OpenRun:
        run = Run(path)
        rig: Rig | None = None
        try:
            rig = run.line(run.first).rig
        except PivrexError as problem:
            run.warnings.append(str(problem))
        figures = {} if rig is None else figures_of(run)
        course = season_of(
            [r for r in self._shelf.runs() if r.facts is not None and r.facts.began <= run.facts.began], run.facts.rig
        )
        run_shown = OpenRun(
            run.name, run.facts, run.floor, rig, run.track, run.first, run.dt_s, tuple(run.events), figures, tuple(run.warnings),
            tuple(course), pins, tuple(_pinned(run, *pin) for pin in pins),
        )  # fmt: skip
        _there_still(path)
        return run_shown

    def _compare(self, one: Path, other: Path, by: str) -> ComparedRuns:
        found = compare(Run(one), Run(other), by)
        kept = {f.name: getattr(found, f.name) for f in fields(Differences)}
        return ComparedRuns(**kept, names=(found.runs[0].name, found.runs[1].name), said=sentence_of(found))

    @staticmethod
    def _learned(path: Path, rig: Path, turned_rad: float) -> Learning:
        return learn(Run(path), read_rig(rig), rig_text(rig), turned_rad)

    @staticmethod
    def _pages(columns: int, one: Path, other: Path | None = None, by: str = "") -> Report:
        first = Run(one)
        both = compare(first, Run(other), by) if other is not None else None
        return Report(tuple(pages_of(first, both, columns)))

    def _through(self, path: Path, rig: Path) -> tuple[str, str]:
        run = Run(path)
        stem = f"{run.name}-as-{rig.stem}"
        folder, count = self._shelf.folder / stem, 1
        while folder.exists():
            count += 1
            folder = self._shelf.folder / f"{stem}-{count}"
        return run.name, through(run, rig, folder).name


def _pinned(run: Run, name: str, text: str) -> PinCurve:
    """Compute what is pinned over a run, at not many more Ticks than a picture shows."""
    rows, values, unit, problem = [], [], "", ""
    step = max(1, len(run) // MAX_POINTS)
    for piece in run.pieces():
        try:
            pin = read_pin(name, text, run.line(piece.first))
        except UnitError as wrong:
            problem = str(wrong)
            continue
        unit = pin.unit
        rows.append(piece.first + np.arange(0, len(piece.rows), step, dtype=float))
        values.append(pin.values(piece.rows[::step])[0])
    at, found = (np.concatenate([np.empty(0), *each]) for each in (rows, values))
    return PinCurve(name, unit, at, found, problem)


def _there_still(folder: Path) -> None:
    """Refuse a run that was deleted while it was read: half of it would be shown as the whole."""
    if not folder.is_dir():
        raise RunError(folder, 0, "was deleted while it was read")


def _kind(question: tuple[Any, ...]) -> tuple[int, object]:
    """The kind of a question: a person's own come before small pictures."""
    return (1, question) if question[0] == "went" else (0, question[0])


def run_job(folder: Path, settings: Keep) -> Job[tuple[Any, ...], object]:
    """Return the job that answers questions about the runs of a folder."""
    return Job("pivrex-runs", RunReader, folder, settings, key=_kind)
