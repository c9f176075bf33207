"""The line of a rig as a MicroPython module: its functions in the order of the line, its settings as named constants."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from inspect import getsource
from itertools import groupby
from math import inf, isnan, prod
from textwrap import wrap
from typing import Any

import numpy as np

from pivrex.board.flat_program import FlatFunction, FlatProgram, Global
from pivrex.board.line_c import ABOUT, GOES_ON, structures
from pivrex.board.single_line import ROOTS, python_function
from pivrex.kernels import maths
from pivrex.kernels.expressions import own_name

__all__ = ["line_module", "maths_module"]

INDENT = "    "


def maths_module() -> str:
    """Return `maths.py`: what kernels call, which MicroPython understands as it is."""
    text = getsource(maths).replace("from __future__ import annotations\n\n", "")
    return text.replace(
        "from math import copysign, inf, nan, pi\n",
        'from math import copysign, pi\n\ninf, nan = float("inf"), float("nan")\n',
    )


def line_module(program: FlatProgram, start: np.ndarray[Any, Any]) -> str:
    """Return `line.py`. ``start``: what is remembered before the first tick, as the line's memory has it."""
    bodies = [_printed(f) for f in program.functions.values()]
    used = sorted(n for n in maths.__all__ if n not in ("inf", "nan", "pi") and any(f"{n}(" in body for body in bodies))
    lines = [
        '"""The line of the robot, from readings to what leaves for motors. Written by pivrex board: change the rig, and write it again."""',
        "", f"from maths import {', '.join([*used, 'inf', 'nan', 'pi'])}", "", "",
        "class Part:", f'{INDENT}"""Numbers by their names."""', "", "",
        "def copied(x):", f'{INDENT}"""Return a copy of a part, or of rows in it."""',
        f"{INDENT}if isinstance(x, list):", f"{INDENT * 2}return [copied(v) for v in x]",
        f"{INDENT}if isinstance(x, Part):", f"{INDENT * 2}made = Part()",
        f"{INDENT * 2}for name in x.__dict__:", f"{INDENT * 3}setattr(made, name, copied(getattr(x, name)))",
        f"{INDENT * 2}return made", f"{INDENT}return x", "", "",
        "# less than a DUST is rounding: of a board whose numbers are single, a thousand times as much",
        "SINGLE = 1000.0 if 1.0 + 1e-9 == 1.0 else 1.0", "",
        "# --- settings of the rig, and constants ---", "", *_constants(program), "",
    ]  # fmt: skip
    for root in ROOTS:
        lines += ["", f"# {ABOUT[root]}", f"{root} = Part()", *_parts(program, root)]
    lines += [
        "",
        "",
        *"\n\n\n".join(bodies).split("\n"),
        "",
        "",
        *_begin(program, start),
        "",
        "",
        *_clear(program),
        "",
        "",
        *_tick(program),
    ]
    return "\n".join(lines) + "\n"


def _number(value: float) -> ast.expr:
    if isnan(value):
        return ast.Name("nan", ast.Load())
    if value in (inf, -inf):
        name = ast.Name("inf", ast.Load())
        return name if value > 0 else ast.UnaryOp(ast.USub(), name)
    return ast.Constant(float(value))


def _printed(one: FlatFunction) -> str:
    """Return a function with what its kernel says of itself."""
    said = (ast.get_docstring(one.of.node) or "").split("\n\n")[0]
    text = ast.unparse(ast.fix_missing_locations(python_function(one, _number)))
    about = [f"# {line}" for line in wrap(" ".join(said.split()), 110)]
    return "\n".join([*about, re.sub(r"\bnumber\(", "float(", text)])


def _value(one: Global, value: Any, stays: bool = True) -> str:
    """Return numbers as they are written: those that stay as they are as tuples."""
    if isinstance(value, list):
        inner = ", ".join(_value(one, v, stays) for v in value)
        return f"[{inner}]" if not stays else f"({inner},)" if len(value) == 1 else f"({inner})"
    if one.kind == "f":
        return ast.unparse(_number(float(value)))
    return str(bool(value) if one.kind == "b" else int(value))


def _constants(program: FlatProgram) -> Iterator[str]:
    for one in program.globals.values():
        if one.value is not None:
            dust = " * SINGLE" if one.name.startswith("DUST") else ""
            yield f"{one.name} = {_value(one, np.asarray(one.value).tolist())}{dust}{f'  # {one.unit}' if one.unit else ''}"


def _zeros(one: Global, shape: tuple[int, ...]) -> str:
    zero = {"f": "0.0", "i": "0", "b": "False"}[one.kind]
    if not shape:
        return zero
    if len(shape) == 1:
        return f"[{zero}] * {shape[0]}"
    return f"[{_zeros(one, shape[1:])} for _ in range({shape[0]})]"


def _parts(program: FlatProgram, root: str) -> Iterator[str]:
    """Yield what makes the parts of a record, with zeros."""
    made = set[str]()
    for own in structures(program, root).values():
        for one in own:
            path = one.name.split(".")
            for deep in range(2, len(path)):
                part = ".".join(path[:deep])
                if part not in made:
                    made.add(part)
                    yield f"{part} = Part()"
            yield f"{one.name} = {_zeros(one, one.shape)}{f'  # {one.unit}' if one.unit else ''}"


def _begin(program: FlatProgram, start: np.ndarray[Any, Any]) -> Iterator[str]:
    yield "def begin():"
    yield f'{INDENT}"""Remember what is remembered before the first tick."""'
    yield f"{INDENT}clear()"
    for own in structures(program, "kept").values():
        for one in own:
            values = start[one.at : one.at + prod(one.shape)]
            given = values.reshape(one.shape).tolist() if one.shape else values[0]
            yield f"{INDENT}{one.name} = {_value(one, given, stays=False)}"
    goes_on = [f"kept.{own_name(s)}" for s in structures(program, "kept") if s in GOES_ON]
    yield from (
        "",
        "",
        "def begin_again():",
        f'{INDENT}"""As a routine begins; a robot that balances goes on standing."""',
    )
    yield from (f"{INDENT}was_{k} = copied({part})" for k, part in enumerate(goes_on))
    yield f"{INDENT}begin()"
    yield from (f"{INDENT}{part} = was_{k}" for k, part in enumerate(goes_on))


def _clear(program: FlatProgram) -> Iterator[str]:
    yield "def clear():"
    yield f'{INDENT}"""Let all of the row be 0: before each tick."""'
    for stage, own in groupby(
        (g for each in structures(program, "row").values() for g in each), lambda g: g.name.split(".")[1]
    ):
        yield f"{INDENT}# {stage}"
        for one in own:
            yield f"{INDENT}{one.name} = {_zeros(one, one.shape)}"


def _tick(program: FlatProgram) -> Iterator[str]:
    yield "def tick():"
    yield f'{INDENT}"""Make a tick, once what goes in stands in the row."""'
    for name in program.order:
        yield f"{INDENT}{name}()"
