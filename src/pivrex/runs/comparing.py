"""Two runs over each other: where they first part, by which stage of the line, and which changed setting makes it so."""

from __future__ import annotations

import difflib
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
import tomlkit

from pivrex.errors import RigError
from pivrex.line import Entry, Line
from pivrex.line.beginning import begun, start_of
from pivrex.line.layout import Floats
from pivrex.line.order import STAGES
from pivrex.rig import Rig
from pivrex.rig.difference import Change, applied, differences
from pivrex.rig.read import read_text, rig_text
from pivrex.runs.figures import FIGURES, Figure, Figures
from pivrex.runs.lining import row_by
from pivrex.runs.run import Run
from pivrex.runs.track import TRACK

__all__ = ["Compared", "Effect", "Parting", "StageParting", "compare", "sentence_of"]

GIVEN = ("clock", "sensed", "truth")
"""What comes from outside the line: a difference there is the world's, or follows from one before."""

TOLERANCES = {"m": 0.01, "m/s": 0.03, "rad": 0.02, "rad/s": 0.06, "V": 0.3, "us": 8.0, "g": 0.1, "N": 2.0, "": 0.03}
"""By unit: what two drives of one real robot differ by all the time, which is no parting. Fractions and counts have none."""

EXACT = 1e-9
"""A difference that is no rounding, as a share; where both runs are exact."""

HOLDS_S = 0.1
"""A difference within noise must last so long to count."""

LOOK_ON_S = 10.0
"""So long after the first parting it is looked for when the other stages part."""

TRY_S = 20.0
"""A changed setting is tried on the ticks of at most so long a drive."""

MOST_TRIED = 12
"""More changes than this are another robot: they are not tried one by one."""

OF_THE_ROBOT = ("body", "battery", "gyro", "lag", "motors", "sensors", "spread", "chassis")
"""The tables of a rig that say how the robot is, not what is done with the stick."""


@dataclass(frozen=True)
class StageParting:
    """When a stage's columns are first apart: seconds after what the runs are lined up by, and which column; NaN for never."""

    stage: str
    t_s: float
    column: str = ""


@dataclass(frozen=True)
class Parting:
    """Where two runs first part.

    Attributes
    ----------
    t_s : float
        After what they are lined up by.
    rows : (int, int)
        Which row of each it is.
    stage, column, unit : str
        The first in the order of the line.
    values : (float, float)
    change : Change or None
        The one setting that by itself makes the first run's line do what the second's did.
    """

    t_s: float
    rows: tuple[int, int]
    stage: str
    column: str
    unit: str
    values: tuple[float, float]
    change: Change | None = None


@dataclass(frozen=True)
class Effect:
    """A changed setting: when, by itself, it first changes what the line does with the first run's readings, in which stage and
    column, and to what; NaN and empty if it does not.
    """

    change: Change
    t_s: float = np.nan
    stage: str = ""
    column: str = ""
    value: float = np.nan

    @property
    def said(self) -> str:
        """Say it in words."""
        if np.isnan(self.t_s):
            return f"{self.change}; the line does not feel it"
        return f"{self.change}; by itself it acts from {self.t_s:.2f} s on, in {self.stage}"


@dataclass(frozen=True)
class Compared:
    """Two runs over each other.

    Attributes
    ----------
    runs : (Run, Run)
    by : str
        What they are lined up by.
    zero : (int, int)
        Which row of each is lined up.
    overlap_s : float
        How long they run beside each other from there.
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
        How far apart the robots were at most, and when; NaN where nobody knows.
    """

    runs: tuple[Run, Run]
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

    @property
    def changes(self) -> tuple[Change, ...]:
        """The changes of the rig."""
        return tuple(e.change for e in self.effects)

    def as_json(self) -> dict[str, Any]:
        """Give it for `pivrex compare --json`."""
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
    exact = _is_exact(one, other, zero)
    same_rate = abs(one.dt_s - other.dt_s) < 1e-9
    partings = _Partings(one, other, zero, exact)
    if same_rate and overlap:
        partings.search(overlap)
    effects = _effects(one, _changes(one, other, zero), zero[0])
    parting = partings.first()
    if parting is not None:
        parting = replace(parting, change=_cause(parting, effects))
    apart, when = _apart(one, other, zero)
    return Compared(
        (one, other), by, zero, overlap * one.dt_s, exact, parting, partings.stages(), tuple(effects), tuple(_routines(one, other, zero)),
        tuple(_figures(one, other)), apart, when,
    )  # fmt: skip


# --- where they part ---


class _Block(NamedTuple):
    """Rows of both that stand beside each other, and the lines that made them; ``at`` is how many rows behind the zero."""

    at: int
    one: Floats
    other: Floats
    lines: tuple[Line, Line]


class _Partings:
    """Finds for each stage when it first parts."""

    def __init__(self, one: Run, other: Run, zero: tuple[int, int], exact: bool) -> None:
        self._one, self._other, self._zero, self._exact = one, other, zero, exact
        self._holds = 1 if exact else max(1, round(HOLDS_S / one.dt_s))
        self._found: dict[str, tuple[int, str]] = {}
        """For each title when it is first apart, in rows behind the zero, and its stage."""
        self._values: dict[str, tuple[float, float]] = {}
        self._units: dict[str, str] = {}
        self._stages: set[str] = set()
        self._order: dict[str, int] = {}

    def search(self, overlap: int) -> None:
        until = overlap
        for block in _blocks(self._one, self._other, self._zero, overlap):
            if block.at >= until:
                break
            self._look(block)
            if self._found:
                first = min(at for at, _ in self._found.values())
                until = min(until, first + round(LOOK_ON_S / self._one.dt_s))

    def _look(self, block: _Block) -> None:
        a, b = (line.layout for line in block.lines)
        places = {t: i for i, t in enumerate(b.titles)}
        pairs = [(i, places[t]) for i, t in enumerate(a.titles) if t in places and t not in ("clock.tick", "clock.t_s")]
        mine, theirs = block.one[:, [i for i, _ in pairs]], block.other[:, [j for _, j in pairs]]
        columns = [a.columns[i] for i, _ in pairs]
        self._stages |= {c.stage for c in columns}
        floors = (
            np.full(len(columns), EXACT) if self._exact else np.array([TOLERANCES.get(c.unit, 0.0) for c in columns])
        )
        with np.errstate(invalid="ignore"):
            apart = np.abs(mine - theirs) > floors * (np.maximum(1.0, np.abs(mine)) if self._exact else 1.0)
        apart |= np.isnan(mine) != np.isnan(theirs)
        some = np.flatnonzero(apart.sum(axis=0) >= self._holds)
        for k in some:
            title = columns[k].title
            self._order.setdefault(title, pairs[k][0])
            if title in self._found:
                continue
            at = _first_run(apart[:, k], self._holds)
            if at >= 0:
                self._found[title] = block.at + at, columns[k].stage
                self._values[title] = float(mine[at, k]), float(theirs[at, k])
                self._units[title] = columns[k].unit

    def first(self) -> Parting | None:
        if not self._found:
            return None
        found = self._found
        if not self._exact:
            # what real robots sense is never the same: it counts once what they are told is
            inside = {t: f for t, f in found.items() if f[1] not in GIVEN}
            found = inside or found
        title = min(found, key=lambda t: (found[t][0], self._order[t]))
        at, stage = found[title]
        rows = self._zero[0] + at, self._zero[1] + at
        return Parting(at * self._one.dt_s, rows, stage, title, self._units[title], self._values[title])

    def stages(self) -> tuple[StageParting, ...]:
        said = []
        for stage in (s for s in STAGES if s in self._stages and s != "clock"):
            mine = {t: at for t, (at, s) in self._found.items() if s == stage}
            title = min(mine, key=lambda t: (mine[t], self._order[t]), default="")
            said.append(StageParting(stage, mine[title] * self._one.dt_s if title else np.nan, title))
        return tuple(said)


def _first_run(flags: Any, length: int) -> int:
    """Give where the first run of at least ``length`` flags begins; -1 for none."""
    if length == 1:
        return int(np.argmax(flags)) if flags.any() else -1
    long = np.convolve(flags, np.ones(length), "valid") >= length
    return int(np.argmax(long)) if long.any() else -1


def _blocks(one: Run, other: Run, zero: tuple[int, int], overlap: int) -> Iterator[_Block]:
    """Give rows that stand beside each other, as far as both pieces of them reach."""
    at = 0
    while at < overlap:
        mine, theirs = one.piece(zero[0] + at), other.piece(zero[1] + at)
        begin, begins = zero[0] + at - mine.first, zero[1] + at - theirs.first
        count = min(len(mine.rows) - begin, len(theirs.rows) - begins, overlap - at)
        # of a changed rig only as far as its ticks reach
        for run, first in ((one, zero[0] + at), (other, zero[1] + at)):
            later = [row - first for row, _ in run.rigs if row > first]
            count = min([count, *later])
        if count <= 0:
            return
        lines = one.line(zero[0] + at), other.line(zero[1] + at)
        yield _Block(at, mine.rows[begin : begin + count], theirs.rows[begins : begins + count], lines)
        at += count


def _is_exact(one: Run, other: Run, zero: tuple[int, int]) -> bool:
    """Tell whether both are drives of stand-ins that begin alike: then every bit can be held against the other."""
    a, b = one.line(zero[0]), other.line(zero[1])
    first = one.row(zero[0]), other.row(zero[1])
    true = [row[line.layout.stage("truth")][:3] for row, line in zip(first, (a, b), strict=True)]
    if not all(np.isfinite(t).all() for t in true):
        return False
    return bool(np.abs(true[0] - true[1]).max() < EXACT)


# --- what was changed ---


def _changes(one: Run, other: Run, zero: tuple[int, int]) -> list[Change]:
    try:
        return differences(rig_text(one.rig_file(zero[0])), rig_text(other.rig_file(zero[1])))
    except (RigError, tomllib.TOMLDecodeError):
        return []


def _effects(one: Run, changes: list[Change], first: int) -> list[Effect]:
    """Find for each change where by itself it first acts: the first run's readings go through the line with it and without."""
    if len(changes) > MOST_TRIED:
        return [Effect(change) for change in changes]
    rows = one.rows(first, min(one.end, first + round(TRY_S / one.dt_s)))
    line = one.line(first)
    rows = [row for row in rows if len(row) == len(line.layout)]
    text = rig_text(one.rig_file(first))
    plain: list[Floats] = []
    found = []
    for change in changes:
        try:
            changed = Line(read_text(tomlkit.dumps(applied(text, change)), one.folder / "rig.toml", Rig))
        except RigError:  # it can only be made together with another
            found.append(Effect(change))
            continue
        plain = plain or list(_again(line, line, rows, one))
        found.append(_effect(change, line, changed, plain, _again(line, changed, rows, one), one.dt_s))
    return found


def _effect(
    change: Change, line: Line, changed: Line, plain: list[Floats], other: Iterator[Floats], dt_s: float
) -> Effect:
    places = {t: i for i, t in enumerate(changed.layout.titles)}
    both = [
        (i, places[t])
        for i, t in enumerate(line.layout.titles)
        if t in places and line.layout.columns[i].stage not in GIVEN
    ]
    mine, theirs = np.array([i for i, _ in both]), np.array([j for _, j in both])
    for n, (a, b) in enumerate(zip(plain, other, strict=True)):
        x, y = a[mine], b[theirs]
        with np.errstate(invalid="ignore"):
            apart = (np.abs(x - y) > EXACT * np.maximum(1.0, np.abs(x))) | (np.isnan(x) != np.isnan(y))
        if apart.any():
            k = int(np.argmax(apart))
            return Effect(
                change, n * dt_s, line.layout.columns[mine[k]].stage, line.layout.titles[mine[k]], float(y[k])
            )
    return Effect(change)


def _again(line: Line, changed: Line, rows: list[Floats], run: Run) -> Iterator[Floats]:
    """Put the readings of Ticks, and what somebody else asked for in them, through another line."""
    state = begun(changed, start_of(run.floor))
    taken = {stage: _taken(line, changed, stage) for stage in ("raw", "sensed", "truth")}
    for tick in rows:
        raw, sensed, truth = (np.where(some, tick[places], 0.0) for places, some in taken.values())
        stop = tick[line.layout.at("clock", "stopped")]
        driving = tick[line.layout.at("clock", "source")] if line.inputs.calibrated else 0.0
        state, row = changed.step(state, raw, sensed, stop, driving, truth, _entered(line, changed, tick))
        yield row


def _cause(parting: Parting, effects: list[Effect]) -> Change | None:
    """Give the one change that by itself does at the parting what the second run's line did there; of a robot or floor that is another
    the one change that the line does not feel.
    """
    if parting.stage in GIVEN:
        fitting = [e for e in effects if np.isnan(e.t_s) and e.change.place[0] in OF_THE_ROBOT]
    else:
        wanted = parting.values[1]
        fitting = [
            e for e in effects
            if e.column == parting.column and abs(e.t_s - parting.t_s) < 1e-6
            and (abs(e.value - wanted) <= 1e-6 * max(1.0, abs(wanted)) or bool(np.isnan(e.value) and np.isnan(wanted)))
        ]  # fmt: skip
    return fitting[0].change if len(fitting) == 1 else None


def _entered(line: Line, changed: Line, tick: Floats) -> Entry | None:
    """Give again what somebody else than the controls asked for in a tick; None if nobody did."""

    def asked(stage: str) -> Floats | None:
        mine, theirs = line.stages[stage], changed.stages[stage]
        if [c.title for c in mine.columns] != [c.title for c in theirs.columns]:
            return None
        return tick[mine.entry]

    twist = asked("law") if tick[line.stages["law"].entered] else None
    aim = moves = None
    if "aim" in line.stages and tick[line.stages["aim"].entered]:
        aim, moves = tick[line.layout.at("aim", "heading")], tick[line.layout.at("aim", "rate")]
    return Entry(twist=twist, aim=aim, moves=moves, routine=asked("routine"), plan=asked("following"))


def _taken(line: Line, changed: Line, stage: str) -> tuple[Any, Any]:
    """Give where the columns of a stage stand in the row of another layout, and which of them are there."""
    places = {t: i for i, t in enumerate(line.layout.titles)}
    found = [places.get(t, -1) for t in changed.layout.titles[changed.layout.stage(stage)]]
    return np.array(found, int), np.array(found, int) >= 0


def _routines(one: Run, other: Run, zero: tuple[int, int]) -> list[str]:
    """Give the lines of the routine that are another."""
    texts = []
    for run, row in ((one, zero[0]), (other, zero[1])):
        path = run.routine_file(max(row, run.end))
        texts.append(path.read_text("utf-8", errors="replace").splitlines() if path is not None else [])
    found = difflib.unified_diff(texts[0], texts[1], n=0, lineterm="")
    return [f"{line[0]} {line[1:]}" for line in found if line[:1] in "+-" and line[:3] not in ("+++", "---")]


# --- figures ---


def figures_of(run: Run) -> dict[str, float]:
    """Give a run's figures: as they were kept, or added up now where the program was killed."""
    if run.facts.figures or not len(run):
        return run.facts.figures
    figures: Figures | None = None
    for piece in run.pieces():
        line = run.line(piece.first)
        if figures is None:
            figures = Figures(line)
        else:
            figures.use(line)
        figures.add(piece.rows)
    return figures.values() if figures is not None else {}


def _figures(one: Run, other: Run) -> list[tuple[Figure, float, float]]:
    a, b = figures_of(one), figures_of(other)
    return [(f, a.get(f.key, np.nan), b.get(f.key, np.nan)) for f in FIGURES if f.key in a or f.key in b]


def _apart(one: Run, other: Run, zero: tuple[int, int]) -> tuple[float, float]:
    """Say how far apart their robots were at most, and when, by their tracks."""
    tracks = []
    for run, row in zip((one, other), zero, strict=True):
        track: Floats = run.track
        column = TRACK.index("x_m") if np.isfinite(track[:, TRACK.index("x_m")]).any() else TRACK.index("believed_x_m")
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
    """Say where they part, and by what, in a sentence."""
    p = found.parting
    if abs(found.runs[0].dt_s - found.runs[1].dt_s) > 1e-9:
        rates = " and ".join(f"{r.facts.rate_hz:g} Hz" for r in found.runs)
        return f"they were made at {rates}: only their figures and tracks can be laid over each other"
    if p is None:
        return f"they do not part in the {found.overlap_s:.1f} s that both have"
    unit = f" {p.unit}" if p.unit else ""
    values = " and ".join("nothing" if np.isnan(v) else f"{v:.4g}{unit}" for v in p.values)
    name = p.column.partition(".")[2]
    where = {
        "raw": "the sticks said other things",
        "sensed": "the same was told, and the robot did another thing",
        "truth": "the same was told, and the robot did another thing",
    }.get(p.stage, f"the same went in, and {p.stage} gave another thing")
    said = f"at {p.t_s:.2f} s {where}: {name} {values}"
    return f"{said}; {p.change} makes it so" if p.change is not None else said
