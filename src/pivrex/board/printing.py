"""A function of a flat program as C99."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from itertools import groupby
from math import isnan
from textwrap import wrap
from typing import Any

from pivrex.board.flat_program import REMEMBER, FlatFunction, FlatProgram
from pivrex.kernels.expressions import Typed, own_name
from pivrex.kernels.printer import Printer

__all__ = ["FLOATS", "WORDS", "BoardPrinter", "c_name", "number_in_c"]

WORDS = {"f": "real", "i": "whole", "b": "flag"}
TAKEN = frozenset(
    ("row", "kept", "was", "place", "real", "whole", "flag", "R", "signed", "index", "y0", "y1", "j0", "j1", "gamma")
)
"""Names that mean something else on a board, or to a C compiler."""


FLOATS = (1.18e-38, 3.4e38)
"""The smallest and the largest number that a float holds with all its digits."""


def c_name(name: str) -> str:
    """Return a global's name as C has it."""
    return ".".join(own_name(part) for part in name.split("."))


class BoardPrinter(Printer):
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
            return super()._named(node, name)
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
        text = f"{other.name}({', '.join(self._typed(a).text for a in node.args)})"
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
        return decimal_in_c(value)


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


def decimal_in_c(value: float) -> str:
    """Return a number as C writes it, not below 0; what no float holds becomes the nearest that it does."""
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
    return decimal_in_c(value) if value >= 0 else "-" + decimal_in_c(-value)
