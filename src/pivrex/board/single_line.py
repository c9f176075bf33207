"""The line of a board, run here in single precision with the board's bits: its flat program as Python."""

from __future__ import annotations

import ast
import copy
from collections.abc import Callable
from math import prod
from types import SimpleNamespace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.board.flat_program import REMEMBER, FlatFunction, FlatProgram, Global
from pivrex.board.line_c import single_functions
from pivrex.board.line_parts import LineParts
from pivrex.board.packing import Packed
from pivrex.board.printing import FLOATS

__all__ = ["ROOTS", "SingleLine", "python_function", "python_functions"]

Floats = NDArray[np.float64]

single = np.float32


def python_functions(program: FlatProgram, number: Callable[[float], ast.expr]) -> ast.Module:
    """Return the functions of a program as Python. ``number`` says how a number that is no whole one is written.

    Names with dots are attributes: `row.law.twist`. Rows of several dimensions are lists of lists.
    """
    return ast.fix_missing_locations(ast.Module([python_function(f, number) for f in program.functions.values()], []))


def python_function(one: FlatFunction, number: Callable[[float], ast.expr]) -> ast.FunctionDef:
    """Return a function as Python; see `python_functions`."""
    given = ast.arguments([], [ast.arg(_local(p)) for p in one.params], None, [], [], None, [])
    body = [_Writer(number).visit(copy.deepcopy(s)) for s in one.body]
    return ast.FunctionDef(one.name, given, body or [ast.Pass()], [], None, None, type_params=[])  # type: ignore[call-arg]


ROOTS = ("row", "kept", "was", "place")


def _local(name: str) -> str:
    return f"{name}_" if name in ROOTS else name


class _Writer(ast.NodeTransformer):
    """Writes what only kernels say as Python does."""

    def __init__(self, number: Callable[[float], ast.expr]) -> None:
        self.number = number

    def visit_Constant(self, node: ast.Constant) -> ast.expr:
        return self.number(node.value) if isinstance(node.value, float) else node

    def visit_Expr(self, node: ast.Expr) -> ast.stmt:
        match node.value:
            case ast.Call(func=ast.Name(id=name), args=[ast.Constant(value=str() as stage)]) if name == REMEMBER:
                return ast.parse(f"was.{stage} = copied(kept.{stage})").body[0]
            case ast.Constant():
                return ast.Pass()
        node.value = self.visit(node.value)
        return node

    def visit_Name(self, node: ast.Name) -> ast.expr:
        return ast.Name(_local(node.id), node.ctx)

    def visit_Subscript(self, node: ast.Subscript) -> ast.expr:
        row = self.visit(node.value)
        places = node.slice.elts if isinstance(node.slice, ast.Tuple) else [node.slice]
        for place in places:
            row = ast.Subscript(row, self.visit(place), node.ctx if place is places[-1] else ast.Load())
        return row

    def visit_BinOp(self, node: ast.BinOp) -> ast.expr:
        left, right = self.visit(node.left), self.visit(node.right)
        if isinstance(node.op, ast.Div):  # the quotient of two whole numbers is not one
            left = ast.Call(ast.Name("number", ast.Load()), [left], [])
        return ast.BinOp(left, node.op, right)


def rounded(value: float) -> Any:
    """Return a number as a board in single precision has it: what is out of its range becomes the nearest end."""
    if value and np.isfinite(value) and not FLOATS[0] <= abs(value) <= FLOATS[1]:
        end = np.finfo(single).tiny if abs(value) < 1 else np.finfo(single).max
        return single(np.copysign(end, value))
    return single(value)


def _constant(one: Global) -> Any:
    """Return what stays as it is: a number, or lists of them."""
    if one.name.startswith("DUST"):
        return single(one.value) * 1000  # less is rounding, see `line_c.line_header`
    kinds: dict[str, Callable[[Any], Any]] = {"f": rounded, "i": int, "b": bool}
    turned = kinds[one.kind]

    def listed(value: Any) -> Any:
        return [listed(v) for v in value] if isinstance(value, list) else turned(value)

    return listed(np.asarray(one.value).tolist())


MATHS: dict[str, Any] = {
    "div": lambda a, b: a / b,
    "is_nan": lambda x: x != x,  # noqa: PLR0124 - NaN is not itself
    "sqrt": np.sqrt,
    "floor": lambda x: np.floor(x) + single(0),
    "rint": lambda x: np.rint(x) + single(0),
    "copysign": np.copysign,
    "larger": lambda a, b: (a if a > b or a != a else b) + single(0),  # noqa: PLR0124
    "smaller": lambda a, b: (a if a < b or a != a else b) + single(0),  # noqa: PLR0124
    "clamp": lambda x, low, high: high if x > high else low if x < low else x,
    "hypot": lambda x, y: np.sqrt(x * x + y * y),
    "whole": lambda x: int(x) if -32768 < x < 32768 else 0,
    "inf": single(np.inf),
    "nan": single(np.nan),
}
"""What `pivrex.board.c_maths` says of them, in single precision."""


def _mod(a: Any, b: Any) -> Any:
    if b == 0 or not -np.inf < a < np.inf:
        return single(np.nan)
    left = np.fmod(a, b)
    if left != 0:
        return left + b if (b < 0) != (left < 0) else left
    return np.copysign(single(0), b)


def _wrap(angle: Any) -> Any:
    return _mod(angle + single(np.pi), single(2 * np.pi)) - single(np.pi)


class SingleLine:
    """The line of a board, in single precision.

    Attributes
    ----------
    parts : LineParts
    row, kept : Packed
        How both stand in a board's memory.
    """

    def __init__(self, parts: LineParts) -> None:
        self.parts = parts
        program = parts.program
        self.row, self.kept = Packed(program, "row"), Packed(program, "kept")
        self._given = [g for g in self.row.fields if g.name.split(".")[1] in ("clock", "sensed", "raw")]
        self._names: dict[str, Any] = {**MATHS, "mod": _mod, "wrap": _wrap, "number": single, "copied": copy.deepcopy}
        for root in ROOTS:
            self._names[root] = SimpleNamespace()
        for one in program.globals.values():
            if one.root:
                self._put(one, np.zeros(max(1, prod(one.shape))))
            else:
                self._names[one.name] = _constant(one)
        numbers: dict[str, str] = {}

        def number(value: float) -> ast.expr:
            name = numbers.setdefault(repr(value), f"NUMBER_{len(numbers)}")
            self._names[name] = rounded(value)
            return ast.Name(name, ast.Load())

        singles = FlatProgram(single_functions(), {})
        text = ast.unparse(python_functions(singles, number)) + "\n" + ast.unparse(python_functions(program, number))
        for name, value in (
            {k: v for f in singles.functions.values() for k, v in f.of.module.constants.items()}
        ).items():
            self._names.setdefault(name, rounded(float(value)))  # type: ignore[arg-type]
        exec(compile(text, "<line of a board>", "exec"), self._names)
        for name in singles.functions:
            self._names[name] = self._names.get(f"m_{name}", self._names.get(name))
        self._halves = [self._names[h] for h in program.order]

    def function(self, name: str) -> Callable[..., Any]:
        """Return one of the functions that kernels call, in single precision: sin, cos, atan2 or exp."""
        found: Callable[..., Any] = self._names[name]
        return found

    def tick(self, row: Floats, memory: Floats, goes_on: Floats | None = None) -> tuple[Floats, Floats]:
        """Make a tick.

        Parameters
        ----------
        row : (K,) float64
            Its clock, sensed and raw columns are what goes in.
        memory : (M,) float64
            What was remembered before it, as `Line.memory` orders it.
        goes_on : (K,) float64, optional
            The row of the tick before, where this one does not compute the command.

        Returns
        -------
        (K,), (M,) float64
            The row, and what is remembered after it; NaN where a board keeps nothing.
        """
        rest = np.zeros(len(row)) if goes_on is None else goes_on
        for one in self.row.fields:
            self._put(one, (row if one in self._given else rest)[one.at : one.at + prod(one.shape)])
        for one in self.kept.fields:
            self._put(one, memory[one.at : one.at + prod(one.shape)])
        with np.errstate(all="ignore"):
            for half in self._halves:
                half()
        return self._taken(self.row, len(row)), self._taken(self.kept, len(memory))

    def _place(self, one: Global) -> tuple[Any, str]:
        *path, last = one.name.split(".")
        place = self._names[path[0]]
        for name in path[1:]:
            if not hasattr(place, name):
                setattr(place, name, SimpleNamespace())
            place = getattr(place, name)
        return place, last

    def _put(self, one: Global, values: Floats) -> None:
        kinds: dict[str, Any] = {"f": single, "i": np.int64, "b": np.bool_}
        flat = [int(v) for v in values] if one.kind == "i" else list(values.astype(kinds[one.kind]))
        place, name = self._place(one)
        setattr(place, name, _nested(flat, one.shape) if one.shape else flat[0])

    def _taken(self, packed: Packed, width: int) -> Floats:
        found = np.full(width, np.nan)
        for one in packed.fields:
            if 0 not in one.shape:
                place, name = self._place(one)
                found[one.at : one.at + prod(one.shape)] = np.asarray(getattr(place, name), float).reshape(-1)
        return found


def _nested(flat: list[Any], shape: tuple[int, ...]) -> list[Any]:
    if len(shape) == 1:
        return flat
    each = prod(shape[1:])
    return [_nested(flat[k * each : (k + 1) * each], shape[1:]) for k in range(shape[0])]
