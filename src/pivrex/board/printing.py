"""A flat program as C99: one file, readable, with one typedef that chooses float or double."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from itertools import groupby
from math import isnan, prod
from textwrap import wrap
from typing import Any

import numpy as np

from pivrex.board.c_maths import FUNCTIONS, HEAD, NEEDS, RINT
from pivrex.board.flat_program import HALVES, REMEMBER, FlatFunction, FlatProgram, Global
from pivrex.kernels.expressions import Typed, own_name
from pivrex.kernels.printer import Printer

__all__ = ["c_name", "line_header", "line_source", "structures"]

WORDS = {"f": "real", "i": "whole", "b": "flag"}
ABOUT = {
    "row": "What a tick says, stage by stage: what goes in, then what each stage makes of it.",
    "kept": "What stages remember from one tick to the next.",
    "was": "What the stage that computes just now remembered in the tick before. One at a time: they share a place.",
    "place": "Where stages compute. One at a time: they share a place.",
}
TAKEN = frozenset(
    ("row", "kept", "was", "place", "real", "whole", "flag", "R", "signed", "index", "y0", "y1", "j0", "j1", "gamma")
)
"""Names that mean something else on a board, or to a C compiler."""


FLOATS = (1.18e-38, 3.4e38)
"""The smallest and the largest number that a float holds with all its digits."""


def c_name(name: str) -> str:
    """Return a global's name as C has it."""
    return ".".join(own_name(part) for part in name.split("."))


class _BoardPrinter(Printer):
    """Prints a function of a flat program."""

    words = WORDS

    def __init__(self, flat: FlatFunction, program: FlatProgram, traced: bool) -> None:
        self.flat, self.program, self.traced = flat, program, traced
        self.function, self.module = flat.of, flat.of.module
        self.records: dict[str, Any] = {}
        self.tables: dict[str, list[str]] = {}
        self.args = {name: self._given(name, kind) for name, kind in flat.params.items()}
        self.names = dict(self.args)
        self.returns = flat.returns
        self.sites = 0

    @staticmethod
    def _given(name: str, kind: str) -> Typed:
        return Typed(_local(name), kind) if len(kind) == 1 else Typed(_local(name), "row", kind[1])

    def result_type(self) -> str:
        return super().result_type().replace(self.function.name, self.flat.name)

    def head(self) -> str:
        gives = f"{self.flat.name}_result" if len(self.returns) > 1 else self.words.get(self.returns, "void")
        given = [self.spelled(arg) + arg.text for arg in self.args.values()]
        return f"static {gives} {self.flat.name}({', '.join(given) or 'void'})"

    def printed(self) -> str:
        said = (ast.get_docstring(self.function.node) or "").split("\n\n")[0]
        about = [f"{'/* ' if k == 0 else '   '}{line}" for k, line in enumerate(wrap(" ".join(said.split()), 110))]
        body = [_bare(line) for line in self._block(self.flat.body, 1)]
        while body and body[-1] == "    return;":
            body.pop()
        own = sorted((t for n, t in self.names.items() if n not in self.args), key=lambda t: (t.kind, t.of, t.text))
        declared = []
        for spelled, each in groupby(own, self.spelled):
            stars = "*" if spelled.endswith("*") else ""
            names = ", ".join(f"{stars}{t.text} = 0" for t in each)
            declared.append(f"    {spelled.rstrip('*')}{names};")
        return "\n".join(
            [*(about[:-1]), *([about[-1] + " */"] if about else []), self.head(), "{", *declared, *body, "}", ""]
        )

    def spelled(self, one: Typed) -> str:
        if one.kind != "row":
            return f"{self.words[one.kind]} "
        return f"CONSTANT {self.words[one.of.lower()]} *" if one.of.isupper() else f"{self.words[one.of]} *"

    # --- statements ---

    def _statement(self, node: ast.stmt, deep: int) -> Iterator[str]:
        match node:
            case ast.Expr(value=ast.Call(func=ast.Name(id=name), args=[ast.Constant(value=stage)])) if name == REMEMBER:
                own = own_name(str(stage))
                yield f"was.{own} = kept.{own};"
            case ast.For(target=ast.Name(id=name) as target, iter=ast.Call(args=bounds), body=body):
                stored = {
                    n.id for s in body for n in ast.walk(s) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)
                }
                if name in stored:
                    yield from super()._statement(node, deep)
                    return
                values = [self._of_kind(b, "i") for b in bounds]
                first, last, step = (["0", *values] if len(values) == 1 else values) + ["1"] * (len(values) < 3)
                less = ">" if step.startswith(("-", "(-")) else "<"
                own, before = _local(name), self.names.get(name)
                self.names[name] = Typed(own, "i")
                further = {"1": f"{own}++", "(-1)": f"{own}--"}.get(step, f"{own} += {step}")
                yield f"for (whole {own} = {first}; {own} {less} {last}; {further}) {{"
                yield from self._block(body, deep + 1)
                yield "}"
                if before is None:
                    del self.names[target.id]
            case _:
                yield from super()._statement(node, deep)

    def _declare(self, target: ast.Name, kind: str, like: Typed | None = None) -> Typed:
        made = super()._declare(target, kind, like)
        if made.text != _local(target.id):
            made = made._replace(text=_local(target.id))
            self.names[target.id] = made
        return made

    def _returned(self, node: ast.stmt, value: ast.expr | None) -> str:
        return super()._returned(node, value).replace(f"{self.function.name}_result", f"{self.flat.name}_result")

    def _unpacked(self, target: ast.Tuple, value: ast.expr) -> Iterator[str]:
        """Print what is assigned together; a line each where none of the values reads what another one's name gets."""
        if isinstance(value, ast.Tuple) and not self._reads(value, {_base(t) for t in target.elts}):
            for one, given in zip(target.elts, value.elts, strict=True):
                yield from self._assigned(one, given)
            return
        yield from super()._unpacked(target, value)

    def _reads(self, value: ast.expr, names: set[str]) -> bool:
        read = {n.id for n in ast.walk(value) if isinstance(n, ast.Name)}
        return bool(read & (names | set(self.program.functions)))

    def _stored(self, target: ast.expr, value: Typed, node: ast.AST) -> str:
        if isinstance(target, ast.Name) and target.id not in self.program.globals:
            return super()._stored(target, value, node)
        place = self._typed(target)
        return f"{place.text} = {value.text};"

    # --- expressions ---

    def _typed(self, node: ast.expr) -> Typed:
        if isinstance(node, ast.Subscript):
            return self._indexed(node, node.value, node.slice)
        return super()._typed(node)

    def _indexed(self, node: ast.Subscript, inner: ast.expr, index: ast.expr) -> Typed:
        found = super()._indexed(node, inner, index)
        return found if found.kind == "row" else found._replace(kind=found.kind.lower())

    def _named(self, node: ast.Name, name: str) -> Typed:
        one = self.program.globals.get(name)
        if one is None or name in self.names:
            return self.names[name]
        of = one.kind.upper() if one.value is not None else one.kind
        return (
            Typed(c_name(name), "row", of, tuple(map(str, one.shape))) if one.shape else Typed(c_name(name), one.kind)
        )

    def _never_zero(self, node: ast.expr) -> bool:
        match node:
            case ast.Name(id=name) if name in self.program.globals:
                return bool(self.program.globals[name].value)
        return super()._never_zero(node)

    def _call(self, node: ast.Call) -> Typed:
        assert isinstance(node.func, ast.Name)
        name = node.func.id
        if name not in self.program.functions:
            return super()._call(node)
        other = self.program.functions[name]
        text = f"{name}({', '.join(self._typed(a).text for a in node.args)})"
        if len(other.returns) > 1:
            return Typed(text, "tuple", other.returns, (f"{name}_result",))
        return Typed(text, other.returns or "none")

    def _compared(self, node: ast.Compare, left: ast.expr, ops: list[ast.cmpop], others: list[ast.expr]) -> Typed:
        found = super()._compared(node, left, ops, others)
        if self.traced and any(self._typed(v).kind == "f" for v in (left, *others) if not isinstance(v, ast.Tuple)):
            return found._replace(text=f"SEEN({found.text})")
        return found

    @staticmethod
    def decimal(value: float) -> str:
        return _decimal(value)


def _base(node: ast.expr) -> str:
    while isinstance(node, ast.Subscript):
        node = node.value
    assert isinstance(node, ast.Name)
    return node.id


def _bare(line: str) -> str:
    """Take off brackets that say nothing: those round a whole condition or value."""
    for before, after in ((" = ", ";"), ("return ", ";"), ("if (", ") {"), ("while (", ") {")):
        head, found, rest = line.partition(before)
        inner = rest.removesuffix(after)
        if found and rest.endswith(after) and "{" not in head + inner and inner.startswith("(") and _closes(inner):
            return f"{head}{before}{inner[1:-1]}{after}"
    return line


def _closes(text: str) -> bool:
    """Return whether the bracket that a text begins with closes at its end."""
    deep = 0
    for k, char in enumerate(text):
        deep += (char == "(") - (char == ")")
        if not deep:
            return k == len(text) - 1
    return False


def _local(name: str) -> str:
    return f"{name}_" if name in TAKEN else own_name(name)


def _decimal(value: float) -> str:
    text = repr(float(value))
    if value and not FLOATS[0] <= abs(value) <= FLOATS[1]:
        return f"{'SMALL' if abs(value) < 1 else 'LARGE'}({text})"
    return f"R({text if '.' in text or 'e' in text else text + '.0'})"


def number_in_c(value: Any, kind: str = "f") -> str:
    """Return a number of a kind as C writes it."""
    if kind != "f":
        return str(int(value))
    if isnan(value):
        return "NAN"
    if abs(value) == float("inf"):
        return "INFINITY" if value > 0 else "-INFINITY"
    return _decimal(value) if value >= 0 else "-" + _decimal(-value)


def structures(program: FlatProgram, root: str) -> dict[str, list[Global]]:
    """Return the globals of one of the roots, by stage, in the order of their places."""
    own = [g for g in program.globals.values() if g.root == root]
    if root in ("kept", "was"):  # what is remembered and what was are alike
        both = {g.name.partition(".")[2]: g for g in program.globals.values() if g.root in ("kept", "was")}
        own = [Global(f"{root}.{n}", g.kind, g.shape, g.unit, None, g.at) for n, g in both.items()]
        alive = {g.name.split(".")[1] for g in program.globals.values() if g.root == "was"} if root == "was" else None
        own = [g for g in own if alive is None or g.name.split(".")[1] in alive]
    found: dict[str, list[Global]] = {}
    for one in sorted(own, key=lambda g: g.at):
        found.setdefault(one.name.split(".")[1], []).append(one)
    return found


def _members(globals_: list[Global], deep: int, indent: str) -> list[str]:
    """Return the members of a struct, those of parts as structs in it."""
    lines = []
    for part, each in groupby(globals_, lambda g: g.name.split(".")[deep]):
        own = list(each)
        if len(own[0].name.split(".")) > deep + 1:
            lines += [f"{indent}struct {{", *_members(own, deep + 1, indent + "    "), f"{indent}}} {own_name(part)};"]
            continue
        one = own[0]
        size = f"[{max(1, prod(one.shape))}]" if one.shape else ""
        unit = f" /* {one.unit} */" if one.unit else ""
        lines.append(f"{indent}{WORDS[one.kind]} {own_name(part)}{size};{unit}")
    return lines


def line_header(program: FlatProgram, real: str) -> str:
    """Return `line.h`: the kinds of numbers, and what goes in and comes out."""
    suffix = (
        "#define R(x) x##f\n#define F(function) function##f\n"
        "#define DUST(x) (R(x) * 1000) /* less is rounding */\n#define SMALL(x) FLT_MIN\n#define LARGE(x) FLT_MAX"
        if real == "float"
        else "#define R(x) x\n#define F(function) function\n#define DUST(x) x\n#define SMALL(x) x\n#define LARGE(x) x"
    )
    lines = [
        "#ifndef LINE_H",
        "#define LINE_H",
        "#include <float.h>",
        "#include <math.h>",
        "#include <stdint.h>",
        "#include <string.h>",
        "",
        HEAD.format(real=real, suffix=suffix),
    ]
    lines += _struct(structures(program, "row"), "row", "extern struct row", "row")
    lines += _kept_types(program)
    lines += [f"/* {ABOUT['kept']} */", "extern struct kept {"]
    lines += [f"    struct {own_name(s)}_state {own_name(s)};" for s in structures(program, "kept")] or [
        "    whole nothing;"
    ]
    lines += [
        "} kept;",
        "",
        "void line_begin(void); /* before the first tick */",
        "void line_tick(void);",
        "#endif",
        "",
    ]
    return "\n".join(lines)


def _kept_types(program: FlatProgram) -> list[str]:
    lines = []
    for stage, own in structures(program, "kept").items():
        lines += [f"struct {own_name(stage)}_state {{", *_members(own, 2, "    "), "};"]
    return lines


def _struct(stages: dict[str, list[Global]], root: str, head: str, name: str) -> list[str]:
    lines = [f"/* {ABOUT[root]} */", f"{head} {{"]
    for stage, own in stages.items():
        lines += ["    struct {", *_members(own, 2, "        "), f"    }} {own_name(stage)};"]
    return [*lines, f"}} {name};", ""]


def line_source(program: FlatProgram, start: np.ndarray[Any, Any], traced: bool = False) -> str:
    """Return `line.c`. ``start``: what is remembered before the first tick, as the line's memory has it. ``traced`` notes which way
    each comparison went, by a macro SEEN.
    """
    scopes = [_BoardPrinter(f, program, traced) for f in program.functions.values()]
    bodies = [scope.printed() for scope in scopes]
    whole_text = "".join(bodies)
    lines = ['#include "line.h"', *(['#include "seen.h"'] if traced else []), ""]
    used = [n for n in FUNCTIONS if f"{n}(" in whole_text]
    used = [n for n in FUNCTIONS if n in used or n in [NEEDS.get(u) for u in used]]
    if "m_rint" in used:
        lines.append(RINT.replace("{{", "{").replace("}}", "}"))
    lines += [f"static {FUNCTIONS[n]}" for n in used] + [""]
    lines += ["/* Settings of the rig, and constants. */", *_constants(program), ""]
    lines += ["struct row row;", "struct kept kept;", ""]
    if was := structures(program, "was"):
        lines += [
            f"/* {ABOUT['was']} */",
            "static union {",
            *(f"    struct {own_name(s)}_state {own_name(s)};" for s in was),
            "} was;",
            "",
        ]
    if place := structures(program, "place"):
        lines += _struct(place, "place", "static union", "place")
    lines += [scope.result_type().rstrip("\n") for scope in scopes if scope.result_type()]
    lines += ["", *bodies]
    lines += [
        "void line_begin(void)",
        "{",
        "    memset(&row, 0, sizeof row);",
        "    memset(&kept, 0, sizeof kept);",
        *_begun(program, start),
        "}",
        "",
    ]
    lines += ["void line_tick(void)", "{", *(f"    {f}();" for f in HALVES if f in program.functions), "}", ""]
    return "\n".join(lines)


def _constants(program: FlatProgram) -> list[str]:
    lines = []
    for one in program.globals.values():
        if one.value is None:
            continue
        unit = f" /* {one.unit} */" if one.unit else ""
        if one.shape:
            flat = [number_in_c(v, one.kind) for v in np.asarray(one.value).reshape(-1).tolist()]
            rows = wrap(", ".join(flat), 100)
            body = rows[0] if len(rows) == 1 else "\n    " + "\n    ".join(rows) + "\n"
            if flat:
                lines.append(f"static CONSTANT {WORDS[one.kind]} {one.name}[{len(flat)}] = {{{body}}};{unit}")
        else:
            value = f"DUST({one.value!r})" if one.name.startswith("DUST") else number_in_c(one.value, one.kind)
            lines.append(f"static const {WORDS[one.kind]} {one.name} = {value};{unit}")
    return lines


def _begun(program: FlatProgram, start: np.ndarray[Any, Any]) -> list[str]:
    """Return what sets what is not 0 before the first tick."""
    lines = []
    for own in structures(program, "kept").values():
        for one in own:
            size = prod(one.shape)
            values = start[one.at : one.at + size].tolist()
            name = c_name(one.name)
            if not one.shape and values[0] != 0:
                lines.append(f"    {name} = {number_in_c(values[0], one.kind)};")
            elif one.shape and size > 1 and len({repr(v) for v in values}) == 1 and values[0] != 0:
                lines.append(f"    for (whole i = 0; i < {size}; i++) {name}[i] = {number_in_c(values[0], one.kind)};")
            elif one.shape:
                lines += [f"    {name}[{k}] = {number_in_c(v, one.kind)};" for k, v in enumerate(values) if v != 0]
    return lines
