"""Proves that the printed line of a board equals the line of the desktop: compiled for this computer and run tick by tick."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from math import prod
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.board.flat_program import Global
from pivrex.board.line_parts import LineParts, line_parts
from pivrex.board.printing import c_name
from pivrex.board.steps import BoardRoutine, Task
from pivrex.errors import PivrexError
from pivrex.kernels.building import compiler
from pivrex.line.beginning import begun
from pivrex.line.line import Line
from pivrex.rig.field import Field
from pivrex.routine.playing import play, start_pose
from pivrex.sim.model import simulator_of
from pivrex.sim.rollout import Rollout

__all__ = [
    "FLAGS",
    "Proof",
    "Ticks",
    "own_ticks",
    "played_ticks",
    "prove",
    "ran_in_double",
    "ticks_of",
    "ticks_of_routine",
]

Floats = NDArray[np.float64]

FLAGS = ("-std=c99", "-O0", "-ffp-contract=off", "-fno-builtin", "-Wall", "-Wextra", "-Werror")
"""Every sum and product as it is written, as the desktop's own kernels are built: so the same text has the same bits."""

LONGEST_S = 120.0
INPUTS = ("clock", "sensed", "raw")
"""The stages whose columns go in."""

DIGITS = 1e-4
"""Of a value that is no whole number a step is this share of its full range: no motor driver tells less apart."""


@dataclass(frozen=True)
class Ticks:
    """Ticks that a line made: its rows, (N, K), and what it remembered before each, (N, M); with a routine, which the board has too."""

    rows: Floats
    memories: Floats
    routine: BoardRoutine | None = None
    at: Floats | None = None

    def fed(self, line: Line) -> Floats:
        """Return the board's row before each of its ticks: the inputs, and 0 everywhere else; in a tick without new commands, the values of
        the tick before.
        """
        given = np.concatenate([np.arange(len(line.layout))[line.layout.stage(name)] for name in INPUTS])
        fed = np.zeros_like(self.rows)
        held = np.flatnonzero(self.repeats(line))
        fed[held] = self.rows[held - 1]
        fed[:, given] = self.rows[:, given]
        return fed

    def repeats(self, line: Line) -> NDArray[np.bool_]:
        """Return in which ticks, (N,), the command goes on; never in the first."""
        found = np.zeros(len(self.rows), bool)
        if line.layout.has("clock", "asks"):
            found[1:] = self.rows[1:, line.layout.at("clock", "asks")] == 0.0
        return found

    def parts(self, line: Line) -> LineParts:
        """Return what a board needs to make them."""
        return line_parts(line, self.at, self.routine)


@dataclass(frozen=True)
class Stage:
    """The worst difference between float and double of a stage's columns that the board keeps, absolute, in their units."""

    stage: str
    worst: float
    column: str


@dataclass(frozen=True)
class Proof:
    """The results of a proof.

    Attributes
    ----------
    ticks : int
    differ : int
        Ticks in which an output of the double program has other bits than the line's.
    stages : list of Stage
        Of the float program, each tick from the same state.
    steps : float
        By how many steps outputs of the float program differ at most, where no comparison flips.
    flips, comparisons : int
        Ticks in which a comparison went another way because of rounding; and how many comparisons there were.
    flipped_steps : float
        By how many steps outputs differ at most where one does.
    """

    ticks: int
    differ: int
    stages: list[Stage]
    steps: float
    flips: int
    comparisons: int
    flipped_steps: float

    @property
    def holds(self) -> bool:
        """Whether all is as it should be: the same bits in double, at most a step in float, and hardly a flip."""
        return self.differ == 0 and self.steps <= 1.0 and self.flips * 10_000 <= self.comparisons

    def as_json(self) -> dict[str, Any]:
        return {**asdict(self), "holds": self.holds}


def ticks_of(line: Line, rows: Floats) -> Ticks:
    """Make the ticks of a line again whose inputs stand in ``rows``, (N, K), with what it remembered before each."""
    given = [line.layout.stage(name) for name in ("clock", "sensed", "truth", "raw")]
    made = np.zeros_like(rows)
    for part in given:
        made[:, part] = rows[:, part]
    memories = np.zeros((len(rows), line.memory.size))
    before = line.start().memory
    for k in range(len(rows)):
        memories[k] = before.data
        after = line.memory.start()
        line.pass_through(before, after, made[k])
        before = after
    return Ticks(made, memories)


def played_ticks(line: Line, task: Task, field: Field | None) -> Ticks:
    """Play a routine on the simulated robot. ``memories`` are those of a board whose routine begins, in each tick.

    Raises `RoutineError` for what a board cannot do.
    """
    routine, at = BoardRoutine.of(task, line), start_pose(task.program, field)
    played = play(task.program, line.rig, field, task.period_s)
    rows, parts = played.rows[: round(played.time_s / line.dt_s)], line_parts(line, at, routine)
    begins = parts.again(begun(line, at).memory.data)
    begins[parts.program.globals["kept.thoughts.on"].at] = 1.0
    return Ticks(rows, np.broadcast_to(begins, (len(rows), len(begins))), routine, at)


def ran_in_double(line: Line, ticks: Ticks) -> tuple[Floats, Floats]:
    """Let a board's program in double make ticks from its own state; return its rows, (N, K), and what it remembered before each, (N, M).

    Raises `PivrexError` without a C compiler, or if it refuses what was written.
    """
    with TemporaryDirectory(prefix="pivrex-proof-") as made_here:
        ran = _run(Path(made_here), ticks.parts(line), "double", False, ticks, line, free=True)
    return ran.rows, ran.memories


def ticks_of_routine(line: Line, task: Task, field: Field | None) -> Ticks:
    """Play a routine on the simulated robot, and let a board's program remember what it makes of the same ticks; see both functions above."""
    ticks = played_ticks(line, task, field)
    return replace(ticks, memories=ran_in_double(line, ticks)[1])


def own_ticks(line: Line, many: int = 1500, seed: int = 1) -> Ticks:
    """Make ticks of a drive of no recording: sticks, buttons, readings that are missing, stops, on the simulated robot."""
    chance = np.random.default_rng(seed)
    rollout, rows = Rollout(line, simulator_of(line.rig, None)), []
    sticks, buttons = len(line.functions), len(line.channels) - len(line.functions)
    raw = goal = line.rest()
    for k in range(many):
        if k % 40 == 0:  # a hand moves sticks to somewhere, and lets go of them
            goal = (
                line.rest()
                if k % 160 == 120
                else np.append(chance.uniform(-1.1, 1.1, sticks), chance.random(buttons) < 0.3)
            )
        raw = np.where(np.arange(len(raw)) < sticks, raw + (goal - raw) * 0.15, goal)
        read = np.where(chance.random(len(raw)) < 0.005, np.nan, raw)
        rows.append(rollout.tick(read, float(k % 300 > 285)))
    return ticks_of(line, np.array(rows))


def prove(line: Line, ticks: Ticks) -> tuple[Proof, Floats]:
    """Compile the line of a board for this computer, in double and in float, and run ticks through it. Return the proof, and what
    float makes of the rows, (N, K), NaN where the board keeps nothing.

    Raises
    ------
    PivrexError
        Without a C compiler, or if it refuses what was written.
    """
    parts = ticks.parts(line)
    with TemporaryDirectory(prefix="pivrex-proof-") as made_here:
        folder = Path(made_here)
        double = _run(folder, parts, "double", False, ticks, line, free=True)
        both = [_run(folder, parts, real, True, ticks, line, free=False) for real in ("double", "float")]
    commands = line.outputs.commands
    same = double.rows[:, commands].view(np.int64) == (ticks.rows[:, commands] + 0.0).view(np.int64)
    stages = _worst(line, both[1].rows - ticks.rows)
    steps = np.abs(both[1].rows[:, commands] - ticks.rows[:, commands]) / _steps(line)
    flips = np.array([a != b for a, b in zip(both[0].ways, both[1].ways, strict=True)], bool)
    proof = Proof(
        ticks=len(ticks.rows),
        differ=int((~same).any(axis=1).sum()),
        stages=stages,
        steps=float(np.max(steps[~flips], initial=0.0)),
        flips=int(flips.sum()),
        comparisons=sum(map(len, both[1].ways)),
        flipped_steps=float(np.max(steps[flips], initial=0.0)),
    )
    return proof, both[1].rows


def _worst(line: Line, off: Floats) -> list[Stage]:
    found = []
    for name in line.stages:
        own = np.abs(off[:, line.layout.stage(name)])
        known = ~np.isnan(own)
        if name in ("clock", "sensed", "truth", "raw") or not known.any():
            continue
        worst = np.where(known, own, 0.0).max(axis=0)
        at = int(worst.argmax())
        found.append(Stage(name, float(worst[at]), line.layout.titles[line.layout.stage(name).start + at]))
    return found


def _steps(line: Line) -> Floats:
    """Return how large a step of each value that leaves is."""
    s = line.outputs.settings
    full = np.maximum(np.abs(s.forward), np.abs(s.backward))
    steps = np.where((s.is_whole != 0) | (s.level != 0), 1.0, full * DIGITS)
    return np.append(steps, np.ones(len(line.outputs.values) - len(steps)))


# --- a program of this computer ---


@dataclass(frozen=True)
class _Ran:
    """The results of a program: rows, NaN where it keeps none, the direction of each comparison, and the memory before each."""

    rows: Floats
    ways: list[bytes]
    memories: Floats


def _run(folder: Path, parts: LineParts, real: str, traced: bool, ticks: Ticks, line: Line, free: bool) -> _Ran:
    """Compile and run; ``free`` lets it go on from its own state, else each tick begins from the line's."""
    own = folder / f"{real}-{traced}"
    own.mkdir()
    (own / "line.h").write_text(parts.header(real), encoding="utf-8")
    (own / "line.c").write_text(parts.source(traced), encoding="utf-8")
    (own / "seen.h").write_text(_SEEN, encoding="utf-8")
    (own / "prove.c").write_text(_harness(parts, line), encoding="utf-8")
    command = compiler()
    if command is None:
        raise PivrexError("there is no C compiler here; on Debian: sudo apt-get install gcc libc6-dev")
    try:
        made = subprocess.run(
            [*command, *FLAGS, "-o", "prove", "line.c", "prove.c", "-lm"],
            cwd=own, capture_output=True, text=True, timeout=LONGEST_S, check=False, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        if made.returncode:
            raise PivrexError(f"the C compiler refuses what was written: {made.stderr.strip().splitlines()[0]}")
        ran = subprocess.run(
            [str(own / "prove")], input=b"".join(_sent(line, ticks, free)), capture_output=True, timeout=LONGEST_S, check=True
        ).stdout  # fmt: skip
    except (OSError, subprocess.SubprocessError) as problem:
        raise PivrexError(f"the program that was compiled does not run: {problem}") from None
    width, keeps, rows, memories, ways, at = ticks.rows.shape[1], len(parts.start), [], [], [], 0
    while at < len(ran):
        rows.append(np.frombuffer(ran, np.float64, width, at))
        memories.append(np.frombuffer(ran, np.float64, keeps, at + 8 * width))
        at += 8 * (width + keeps)
        many = int(np.frombuffer(ran, np.int64, 1, at)[0])
        ways.append(ran[at + 8 : at + 8 + many])
        at += 8 + many
    return _Ran(np.array(rows).reshape(-1, width), ways, np.array(memories).reshape(-1, keeps))


def _sent(line: Line, ticks: Ticks, free: bool) -> Iterator[bytes]:
    """Yield the kind of each tick (0: from the inputs, 1: from the memory too, 2: and from the whole row), and its values."""
    for k, (row, memory, goes_on) in enumerate(zip(ticks.fed(line), ticks.memories, ticks.repeats(line), strict=True)):
        given = not free or (k == 0 and ticks.routine is not None)  # something requests a routine
        yield bytes([1 if given else 2 if goes_on else 0])
        yield row.tobytes()
        if given:
            yield memory.tobytes()


_SEEN = """\
extern unsigned char seen_ways[];
extern long seen_many;
static inline int seen(int way) { seen_ways[seen_many++ & 0xFFFFF] = (unsigned char)way; return way; }
#define SEEN(way) seen(way)
"""


def _harness(parts: LineParts, line: Line) -> str:
    """Return a program that reads ticks and states as doubles, and answers with what the line makes of them."""
    program = parts.program
    inputs = [g.name for g in program.globals.values() if g.name.split(".")[1:2] in (["clock"], ["sensed"], ["raw"])]

    def table(name: str, globals_: list[Global]) -> str:
        rows = [
            f"    {{&{c_name(g.name)}, '{g.kind}', {prod(g.shape)}, {g.at}, {int(g.name in inputs)}}},"
            for g in globals_
        ]
        return "\n".join([f"static const struct field {name}[] = {{", *rows, "    {0, 0, 0, 0, 0}", "};"])

    row = [g for g in program.globals.values() if g.root == "row" and 0 not in g.shape]
    kept = [g for g in program.globals.values() if g.root == "kept" and 0 not in g.shape]
    return _PROVE.format(
        rows=table("rows", row), kepts=table("kepts", kept), width=len(line.layout), memory=len(parts.start)
    )


_PROVE = """\
#include <stdio.h>
#include <string.h>
#include "line.h"
struct field {{ void *at; char kind; int many, first, goes_in; }};
{rows}
{kepts}
unsigned char seen_ways[0x100000];
long seen_many;
static double row_in[{width}], row_out[{width}], memory[{memory}];
static void put(const struct field *f, const double *from) {{
    for (int k = 0; k < f->many; k++) {{
        double v = from[f->first + k];
        if (f->kind == 'f') ((real *)f->at)[k] = (real)v;
        else if (f->kind == 'i') ((whole *)f->at)[k] = (whole)v;
        else ((flag *)f->at)[k] = v != 0;
    }}
}}
static void get(const struct field *f, double *to) {{
    for (int k = 0; k < f->many; k++)
        to[f->first + k] = f->kind == 'f' ? (double)((real *)f->at)[k] : f->kind == 'i' ? ((whole *)f->at)[k] : ((flag *)f->at)[k];
}}
int main(void) {{
    int how;
    line_begin();
    while ((how = getchar()) != EOF) {{
        if (fread(row_in, sizeof row_in, 1, stdin) != 1 || (how == 1 && fread(memory, sizeof memory, 1, stdin) != 1)) return 1;
        for (int k = 0; k < {width}; k++) row_out[k] = NAN;
        if (how != 2) memset(&row, 0, sizeof row);
        for (const struct field *f = rows; f->at; f++) if (f->goes_in || how == 1) put(f, row_in);
        if (how == 1) for (const struct field *f = kepts; f->at; f++) put(f, memory);
        for (int k = 0; k < {memory}; k++) memory[k] = NAN;
        for (const struct field *f = kepts; f->at; f++) get(f, memory);
        seen_many = 0;
        line_tick();
        for (const struct field *f = rows; f->at; f++) get(f, row_out);
        fwrite(row_out, sizeof row_out, 1, stdout);
        fwrite(memory, sizeof memory, 1, stdout);
        if (seen_many > (long)sizeof seen_ways) return 2;
        {{ long long many = seen_many; fwrite(&many, sizeof many, 1, stdout); }}
        fwrite(seen_ways, 1, (size_t)seen_many, stdout);
    }}
    return 0;
}}
"""
