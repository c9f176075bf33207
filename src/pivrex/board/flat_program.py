"""The parts of a flat program: functions and globals, which `flat.py` makes of a rig's kernels."""

from __future__ import annotations

import ast
from dataclasses import dataclass, field
from functools import cache
from typing import Any

from pivrex.kernels.records import Form
from pivrex.kernels.sources import FILES, Function, Module, read

__all__ = [
    "HALVES",
    "REMEMBER",
    "FlatFunction",
    "FlatProgram",
    "Global",
    "Known",
    "Part",
    "modules_of_kernels",
    "steering_arguments",
]

REMEMBER = "remember"
"""A call of this name, with a stage's name, stands where a stage's memory becomes what it was before."""

HALVES = ("ask", "follow")
"""The functions of `pivrex.line.tick` that make a tick, one after the other."""

OWN_KERNELS = tuple(f"board/steps/{name}.py" for name in ("words", "values", "actions", "going"))
"""Kernels that only boards have."""


@dataclass(frozen=True)
class Global:
    """A number or a row of numbers: a place of a record, a setting or a constant.

    Attributes
    ----------
    name : str
        With dots for a place, as `row.law.twist`; capitals for what stays as it is.
    kind : str
        f, i or b.
    shape : tuple of int
    unit : str
    value : number, ndarray or None
        Of what stays as it is.
    at : int
        Where it stands in its record's row; -1 for a constant.
    """

    name: str
    kind: str
    shape: tuple[int, ...] = ()
    unit: str = ""
    value: Any = None
    at: int = -1

    @property
    def root(self) -> str:
        """The record that it belongs to; empty for what stays as it is."""
        return self.name.partition(".")[0] if "." in self.name else ""


@dataclass
class FlatFunction:
    """A kernel for the records of one rig.

    Attributes
    ----------
    name : str
    of : Function
        The kernel.
    params : dict of str to str
        What it is still given: names with their kinds, f, i or b; of rows two letters, rf or rF for one that stays as it is.
    returns : str
        The kinds of what it returns.
    body : list of statements
        With names of globals where records stood.
    """

    name: str
    of: Function
    params: dict[str, str]
    returns: str
    body: list[ast.stmt] = field(default_factory=list)


@dataclass
class FlatProgram:
    """Functions, each below those that it calls; the globals that they use; and the functions that make a tick, one after the other."""

    functions: dict[str, FlatFunction]
    globals: dict[str, Global]
    order: tuple[str, ...] = ()


@dataclass(frozen=True)
class Part:
    """A record of the rig, or a part of one."""

    root: str
    path: tuple[str, ...]
    form: Form
    base: int

    def part(self, name: str) -> Part:
        place = self.form.places[name]
        form = place.form if place.form is not None else Form(self.form.record.part_type(name), is_absent=True)
        return Part(self.root, (*self.path, name), form, self.base + place.start)


Known = Part | ast.expr


@cache
def modules_of_kernels() -> tuple[Module, ...]:
    """Return all files with kernels."""
    return tuple(read((*FILES, *OWN_KERNELS)))


@cache
def steering_arguments(name: str, module: str) -> frozenset[str]:
    """Return the arguments of a kernel that decide what it does: those that stand in conditions or say how often."""
    function = next(m for m in modules_of_kernels() if m.name == module).functions[name]
    function = next(m for m in modules_of_kernels() if m is function.module).functions[function.node.name]
    args = {a.arg for a in function.node.args.args}
    tests: list[ast.expr] = []
    for node in ast.walk(function.node):
        match node:
            case ast.If(test=test) | ast.While(test=test) | ast.IfExp(test=test):
                tests.append(test)
            case ast.Compare() | ast.BoolOp():
                tests.append(node)
            case ast.Call(func=ast.Name(id="range" | "whole"), args=given):
                tests += given
            case ast.Call(func=ast.Name(id=called), args=given) if called in function.module.functions:
                other = function.module.functions[called]
                steers = steering_arguments(other.node.name, other.module.name)
                tests += [v for a, v in zip(other.node.args.args, given, strict=True) if a.arg in steers]
    found = {n.id for test in tests for n in ast.walk(test) if isinstance(n, ast.Name)}
    stored = {n.id for n in ast.walk(function.node) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)}
    return frozenset(found & args - stored)
