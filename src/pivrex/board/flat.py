"""The line of one rig as a flat program: every kernel for the records of this rig, with known sizes and settings."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from pivrex.board.flat_kernel import KernelWriter
from pivrex.board.flat_program import HALVES, FlatFunction, FlatProgram, Global, Known, Part, modules_of_kernels
from pivrex.board.steps.routine import BoardRoutine
from pivrex.kernels.expressions import Scope
from pivrex.kernels.records import Form
from pivrex.kernels.sources import Function, Module
from pivrex.line.line import Line
from pivrex.routine.follows import PlanTable

__all__ = ["flat_line"]


def flat_line(line: Line, routine: BoardRoutine | None = None) -> FlatProgram:
    """Return the line of a rig as a flat program, and that of a routine's steps. What only an entry writes, and no routine, is 0."""
    return _Flattener(line, routine).program()


ENTERS = ("law", "aim", "routine", "attachments")
"""The stages whose columns a routine writes."""


def _entry_columns(line: Line, has_routine: bool) -> set[str]:
    """Return the columns that only an entry writes, as the Tick's record names them: `following.plan`."""
    found = set()
    for name, stage in line.stages.items():
        places: list[int] = []
        if name == "clock" or (stage.entry is None and stage.entered < 0) or (has_routine and name in ENTERS):
            continue
        if isinstance(stage.entry, slice):
            places += range(stage.entry.start, stage.entry.stop)
        elif stage.entry is not None:
            places += np.atleast_1d(stage.entry).tolist()
        places += [stage.entered] if stage.entered >= 0 else []
        first = line.layout.stage(name).start
        for own, place in stage.form.places.items():
            here = range(first + place.start, first + place.stop)
            if here and set(here) <= set(places):
                found.add(f"{name}.{own}")
    return found


class _Flattener:
    """Makes the program; knows the rig's records."""

    def __init__(self, line: Line, routine: BoardRoutine | None) -> None:
        self.line, self.routine = line, routine
        self.modules = {m.name: m for m in modules_of_kernels()}
        self.settings = {"s": ("", line.settings.data)}
        silent = _entry_columns(line, routine is not None)
        silent -= {"law.twist", "attachments.share", "attachments.to", "attachments.by"}
        self.silent = {f"row.{name}" for name in silent}
        self.functions: dict[str, FlatFunction] = {}
        self.globals: dict[str, Global] = {}
        self._made: dict[Any, FlatFunction] = {}
        self._names: dict[str, str] = {}

    def program(self) -> FlatProgram:
        line, tick = self.line, self.modules["pivrex.line.tick"].functions
        roots: dict[str, Known] = {
            "s": Part("s", (), line.settings.form, 0),
            "w": Part("place", (), line.scratch, 0),
            "before": Part("was", (), line.memory, 0),
            "after": Part("kept", (), line.memory, 0),
            "t": Part("row", (), line.form, 0),
        }
        if self.routine is None:
            made = [self.instance(tick[half], roots) for half in HALVES]
        else:
            steps = self.modules["pivrex.board.steps.going"].functions
            own = self._routine_roots(self.routine)
            ask, follow = HALVES
            made = [self.instance(tick[ask], roots), self._of_routine(steps["ask_routine"], own)]
            made += [self.instance(tick[follow], roots), self._of_routine(steps["think_routine"], own)]
        return FlatProgram(self.functions, self.globals, tuple(f.name for f in made))

    def _routine_roots(self, routine: BoardRoutine) -> dict[str, Known]:
        """Return the records of a routine, by their names in C's order of places: its state stands behind the line's."""
        line, means, steps = self.line, routine.means, routine.steps
        self.settings |= {"rs": ("ROUTINE", means.settings.data), "m": ("STEPS", steps.settings.data)}
        self.silent |= {f"kept.routine.{name}" for name in steps.unused}
        first = line.memory.size
        return {
            "m": Part("m", (), steps.settings.form, 0),
            "s": Part("rs", (), means.settings.form, 0),
            "line": Part("s", (), line.settings.form, 0),
            "c": Part("place", ("routine",), means.scratch, line.scratch.size),
            "w": Part("place", ("thinking",), steps.scratch, line.scratch.size + means.scratch.size),
            "p": Part("ps", (), Form(PlanTable, planned=0), 0),
            "v": Part("kept", ("routine",), means.form, first),
            "k": Part("kept", ("thoughts",), steps.start.form, first + means.form.size),
            "t": Part("row", (), line.form, 0),
            "after": Part("kept", (), line.memory, 0),
        }

    def _of_routine(self, function: Function, own: Mapping[str, Known]) -> FlatFunction:
        return self.instance(function, {a.arg: own[a.arg] for a in function.node.args.args})

    def instance(self, function: Function, known: Mapping[str, Known]) -> FlatFunction:
        """Return a kernel for these of its arguments: the same for the same."""
        bound = {n: v if isinstance(v, Part) else ast.dump(v) for n, v in known.items()}
        key = (function.name, *sorted(bound.items(), key=lambda item: item[0]))
        if key not in self._made:
            writer = KernelWriter(self, function, known)
            made = FlatFunction(self._name(function, known), function, writer.params, Scope(function, {}).returns)
            self._made[key] = made
            made.body = writer.block(function.node.body)
            self.functions[made.name] = made
        return self._made[key]

    def _name(self, function: Function, known: Mapping[str, Known]) -> str:
        base = function.node.name.strip("_")
        stages = [v.path[0] for v in known.values() if isinstance(v, Part) and v.path]
        tries = [base, *(f"{base}_of_{s}" for s in stages[:1]), *(f"{base}_{k}" for k in range(2, 99))]
        name = next(n for n in tries if n not in self._names)
        self._names[name] = function.name
        return name

    # --- globals ---

    def place(self, part: Part, name: str) -> ast.expr:
        """Return a field of a record: a number that is known, or a name."""
        place = part.form.places[name]
        kind, declared = part.form.record.fields[name]
        if part.root in self.settings:
            prefix, settings = self.settings[part.root]
            values = settings[part.base + place.start : part.base + place.stop]
            if not place.shape and kind in "ib":
                return ast.Constant(int(values[0]) if kind == "i" else bool(values[0]))
            value = values.reshape(place.shape) if place.shape else float(values[0])
            return self.name(
                "_".join([prefix] * bool(prefix) + [*part.path, name]).upper(), kind, place.shape, declared.unit, value
            )
        full = ".".join([part.root, *part.path, name])
        if full in self.silent and not place.shape:
            return ast.Constant(False if kind == "b" else 0 if kind == "i" else 0.0)
        return self.name(full, kind, place.shape, declared.unit, None, part.base + place.start)

    def name(
        self, name: str, kind: str, shape: tuple[int, ...] = (), unit: str = "", value: Any = None, at: int = -1
    ) -> ast.Name:
        """Return the name of a global, which is there from now on."""
        new = Global(name, kind, shape, unit, value, at)
        while name in self.globals and not _same(self.globals[name], new):
            name += "_"
            new = replace(new, name=name)
        self.globals[name] = new
        return ast.Name(name, ast.Load())

    def constant(self, module: Module, name: str) -> ast.expr:
        """Return a constant of a file with kernels."""
        value: Any = module.constants[name]
        if isinstance(value, bool) or name in ("pi", "inf", "nan"):
            return ast.Constant(value)
        if isinstance(value, tuple):
            array = np.array(value, float)
            return self.name(name.strip("_"), "f", array.shape, "", array)
        return self.name(name.strip("_"), "i" if isinstance(value, int) else "f", (), "", value)

    def known(self, node: ast.expr) -> Any:
        """Return the number that an expression is on this rig, or None if that is not known."""
        match node:
            case ast.Constant(value=bool() | int() | float() as value):
                return value
            case ast.Name(id=name) if name in self.globals and not self.globals[name].shape:
                value = self.globals[name].value
                return value if value is None or isinstance(value, int | float) else None
        return None


def _same(a: Global, b: Global) -> bool:
    return (a.kind, a.shape, a.at) == (b.kind, b.shape, b.at) and (
        (a.value is None and b.value is None)
        or (a.value is not None and b.value is not None and np.array_equal(a.value, b.value, equal_nan=True))
    )
