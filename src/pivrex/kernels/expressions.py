"""Expressions of kernels in C, each with its type; refuses what a kernel may not contain."""

from __future__ import annotations

import ast
from dataclasses import dataclass, field
from math import isnan
from typing import ClassVar, NamedTuple

from pivrex.errors import KernelError
from pivrex.kernels.sources import KINDS, Constant, Field, Function, refusal

__all__ = ["IN_C", "KIND_WORDS", "Scope", "Typed", "own_name"]

IN_C = {"f": "double", "i": "int64_t", "b": "int"}
KIND_WORDS = {"f": "a number", "i": "a whole number", "b": "yes or no", "row": "a row", "record": "a record", "none": "nothing",
               "tuple": "several values"}  # fmt: skip
_OPS = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*"}
_COMPARED = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!="}
_MATHS = {
    "atan2": "ff", "clamp": "fff", "copysign": "ff", "cos": "f", "div": "ff", "exp": "f", "floor": "f", "hypot": "ff",
    "is_nan": "f", "larger": "ff", "mod": "ff", "rint": "f", "sin": "f", "smaller": "ff", "sqrt": "f", "whole": "f", "wrap": "f",
}  # fmt: skip
_GIVES = {"whole": "i", "is_nan": "b"}
"""What functions return that return no number."""

_RESERVED = frozenset((
    "auto", "break", "case", "char", "const", "continue", "default", "do", "double", "else", "enum", "extern", "float", "for", "goto",
    "if", "inline", "int", "long", "register", "restrict", "return", "short", "signed", "sizeof", "static", "struct", "switch",
    "typedef", "union", "unsigned", "void", "volatile", "while",
))  # fmt: skip


class Typed(NamedTuple):
    """An expression in C and its kind: f, i, b, row, record, tuple or none; of a row what it is of and its other dimensions, of a
    record its name, of several values their kinds.
    """

    text: str
    kind: str
    of: str = ""
    shape: tuple[str, ...] = ()


def own_name(name: str) -> str:
    """Return a name as C may have it."""
    return f"{name}_" if name in _RESERVED else name


@dataclass
class Scope:
    """The names of one kernel on its way to C, and what its expressions are."""

    function: Function
    records: dict[str, dict[str, Field]]
    names: dict[str, Typed] = field(default_factory=dict)
    args: dict[str, Typed] = field(default_factory=dict)
    tables: dict[str, list[str]] = field(default_factory=dict)
    words: ClassVar[dict[str, str]] = IN_C
    """What the kinds of numbers are called in C."""

    def __post_init__(self) -> None:
        self.module = self.function.module
        for arg in self.function.node.args.args:
            self.args[arg.arg] = self._argument(arg)
        self.names |= self.args
        self.returns = self._kinds_of(self.function.node.returns)

    def fail(self, node: ast.AST, said: str) -> KernelError:
        return refusal(self.module, node, said)

    def _argument(self, arg: ast.arg) -> Typed:
        if not isinstance(arg.annotation, ast.Name):
            raise self.fail(arg, f"{arg.arg} needs a kind: float, int, bool, Numbers or a record")
        kind, name = arg.annotation.id, own_name(arg.arg)
        if kind in ("float", "int", "bool"):
            return Typed(name, kind[0])
        if kind in KINDS and kind.endswith("s"):
            return Typed(name, "row", KINDS[kind])
        if kind in self.module.records:
            return Typed(name, "record", self.module.records[kind][0])
        raise self.fail(arg, f"{arg.arg} is no number, row or record that a kernel knows")

    def _kinds_of(self, returns: ast.expr | None) -> str:
        match returns:
            case ast.Constant(value=None):
                return ""
            case ast.Name(id=("float" | "int" | "bool") as kind):
                return kind[0]
            case ast.Subscript(value=ast.Name(id="tuple"), slice=ast.Tuple(elts=elts)):
                return "".join(self._kinds_of(e) for e in elts)
        raise self.fail(
            self.function.node,
            f"{self.function.node.name} must say what it returns: None, float, int, bool or a tuple of them",
        )

    def _declare(self, target: ast.Name, kind: str, like: Typed | None = None) -> Typed:
        before = self.names.get(target.id)
        of = like.of if like is not None and kind in ("row", "record") else ""
        new = Typed(own_name(target.id), kind, of, like.shape if like is not None else ())
        if before is None:
            self.names[target.id] = new
        elif (before.kind, before.of) != (new.kind, new.of):
            raise self.fail(
                target, f"{target.id} is {KIND_WORDS[before.kind]} above, and cannot become {KIND_WORDS[kind]}"
            )
        return new

    # --- expressions ---

    def _of_kind(self, node: ast.expr, kind: str) -> str:
        typed = self._typed(node)
        if typed.kind != kind:
            raise self.fail(node, f"{ast.unparse(node)} is {KIND_WORDS[typed.kind]}; {KIND_WORDS[kind]} belongs here")
        return typed.text

    def _flag(self, node: ast.expr) -> str:
        return self._of_kind(node, "b")

    def _typed(self, node: ast.expr) -> Typed:  # noqa: C901, PLR0911 - a case for each expression
        match node:
            case ast.Constant(value=bool() | int() | float() as value):
                return self.literal(value)
            case ast.Name(id=name):
                return self._named(node, name)
            case ast.Attribute() | ast.Subscript():
                return self._read(self._place(node))
            case ast.UnaryOp(op=ast.USub(), operand=inner):
                inside = self._typed(inner)
                if inside.kind not in "fi":
                    raise self.fail(node, f"{ast.unparse(inner)} is {KIND_WORDS[inside.kind]}")
                return Typed(f"(-{inside.text})", inside.kind)
            case ast.UnaryOp(op=ast.Not(), operand=inner):
                return Typed(f"(!{self._flag(inner)})", "b")
            case ast.BoolOp(op=op, values=values):
                sign = " && " if isinstance(op, ast.And) else " || "
                return Typed(f"({sign.join(self._flag(v) for v in values)})", "b")
            case ast.BinOp():
                return self._sum(node)
            case ast.Compare(left=left, ops=ops, comparators=others):
                return self._compared(node, left, ops, others)
            case ast.IfExp(test=test, body=yes, orelse=no):
                a, b = self._typed(yes), self._typed(no)
                if a.kind != b.kind or a.of != b.of:
                    raise self.fail(node, f"both must be the same: {KIND_WORDS[a.kind]} or {KIND_WORDS[b.kind]}")
                return Typed(f"({self._flag(test)} ? {a.text} : {b.text})", a.kind, a.of, a.shape)
            case ast.Call():
                return self._call(node)
        raise self.fail(node, f"a kernel cannot say {ast.unparse(node)[:40]}")

    def _named(self, node: ast.Name, name: str) -> Typed:
        if name in self.names:
            return self.names[name]
        if name not in self.module.constants:
            raise self.fail(node, f"{name} is no name that this kernel knows")
        value = self.module.constants[name]
        if not isinstance(value, tuple):
            return self.literal(value)
        shape, flat = _flattened(value)
        own = f"{self.module.name.rpartition('.')[2]}_{name.strip('_')}"
        self.tables[own] = flat
        return Typed(own, "row", "f", shape)

    def _sum(self, node: ast.BinOp) -> Typed:
        a, b = self._typed(node.left), self._typed(node.right)
        if a.kind not in "fi" or b.kind not in "fi":
            raise self.fail(node, f"{ast.unparse(node)}: only numbers can be added up")
        kind = "i" if a.kind == b.kind == "i" else "f"
        if type(node.op) in _OPS:
            return Typed(f"({a.text} {_OPS[type(node.op)]} {b.text})", kind)
        if isinstance(node.op, ast.Div):
            if not self._never_zero(node.right):
                raise self.fail(node, f"{ast.unparse(node.right)} may be 0: write div(a, b)")
            return Typed(f"(({self.words['f']}){a.text} / {b.text})", "f")
        if isinstance(node.op, ast.Mod) and kind == "i" and self._never_zero(node.right):
            return Typed(f"i_mod({a.text}, {b.text})", "i")
        raise self.fail(
            node, f"{ast.unparse(node)}: a kernel knows + - *, / by a constant, and % of whole numbers by a constant"
        )

    def _never_zero(self, node: ast.expr) -> bool:
        match node:
            case ast.Constant(value=int() | float() as value):
                return value != 0
            case ast.Name(id=name) if name not in self.names:
                return self.module.constants.get(name, 0) != 0
            case ast.BinOp(left=a, op=ast.Mult(), right=b):
                return self._never_zero(a) and self._never_zero(b)
        return False

    def _compared(self, node: ast.Compare, left: ast.expr, ops: list[ast.cmpop], others: list[ast.expr]) -> Typed:
        if isinstance(ops[0], ast.In) and isinstance(others[0], ast.Tuple):
            one, each = self._of_kind(left, "f"), [self._of_kind(v, "f") for v in others[0].elts]
            return Typed(f"({' || '.join(f'{one} == {v}' for v in each)})", "b")
        values = [self._typed(v) for v in (left, *others)]
        for value in values:
            if value.kind not in "fi":
                raise self.fail(node, f"{ast.unparse(node)}: only numbers can be compared")
        if any(type(op) not in _COMPARED for op in ops):
            raise self.fail(node, f"{ast.unparse(node)}: a kernel knows < <= > >= == != and in (a, b)")
        pairs = [
            f"({a.text} {_COMPARED[type(op)]} {b.text})" for a, op, b in zip(values, ops, values[1:], strict=False)
        ]
        return Typed(f"({' && '.join(pairs)})" if len(pairs) > 1 else pairs[0], "b")

    def _call(self, node: ast.Call) -> Typed:  # noqa: C901 - a case for each function
        if not isinstance(node.func, ast.Name) or node.keywords:
            raise self.fail(
                node, f"a kernel calls kernels, by name and with plain arguments, not {ast.unparse(node)[:40]}"
            )
        name = node.func.id
        if name == "len" and len(node.args) == 1:
            row = self._typed(node.args[0])
            if row.kind != "row" or not row.shape:
                raise self.fail(node, f"how long {ast.unparse(node.args[0])} is, no one says here")
            return Typed(row.shape[0], "i")
        if name == "abs" and len(node.args) == 1:
            value = self._typed(node.args[0])
            if value.kind not in "fi":
                raise self.fail(node, "abs takes a number")
            return Typed(f"{'m' if value.kind == 'f' else 'i'}_abs({value.text})", value.kind)
        if name in ("max", "min") and len(node.args) == 2:
            return Typed(f"i_{name}({', '.join(self._of_kind(a, 'i') for a in node.args)})", "i")
        if name in ("clear", "pack", "repeat") and name in self.module.maths:
            return self._of_all(node, name)
        if name in _MATHS and name in self.module.maths:
            if len(node.args) != len(_MATHS[name]):
                raise self.fail(node, f"{name} takes {len(_MATHS[name])} numbers")
            return Typed(f"m_{name}({', '.join(self._of_kind(a, 'f') for a in node.args)})", _GIVES.get(name, "f"))
        if name not in self.module.functions:
            raise self.fail(node, f"{name} is no kernel")
        return self._called(node, self.module.functions[name])

    def _of_all(self, node: ast.Call, name: str) -> Typed:
        """Return what is done with all numbers of a record: they are cleared, or copied into a row or another record."""
        kinds = {"pack": ["record", "row", "i"], "repeat": ["record", "record"]}.get(name, ["record"])
        args = [self._typed(a) for a in node.args]
        if [a.kind for a in args] != kinds or (name == "pack" and args[1].of != "f"):
            raise self.fail(node, f"{name} takes {', '.join(KIND_WORDS[k] for k in kinds)}")
        record = args[0].text
        if name == "clear":
            return Typed(f"memset({record}->all, 0, {record}->size_of_all * sizeof(double))", "none")
        if name == "repeat":
            return Typed(f"memcpy({args[1].text}->all, {record}->all, {record}->size_of_all * sizeof(double))", "none")
        return Typed(
            f"memcpy({args[1].text} + {args[2].text}, {record}->all, {record}->size_of_all * sizeof(double))", "none"
        )

    def _called(self, node: ast.Call, function: Function) -> Typed:
        other = Scope(function, self.records)
        if len(node.args) != len(other.args):
            raise self.fail(node, f"{function.node.name} takes {len(other.args)} arguments")
        texts = []
        for given, wanted in zip(node.args, other.args.values(), strict=True):
            typed = self._typed(given)
            wrong = typed.kind != wanted.kind or typed.of != wanted.of
            if wrong or (typed.kind == "row" and len(typed.shape) > 1):
                raise self.fail(
                    given,
                    f"{ast.unparse(given)} is {KIND_WORDS[typed.kind]}; {wanted.text} of {function.node.name} is not",
                )
            texts.append(typed.text)
        text = f"{function.name}({', '.join(texts)})"
        if len(other.returns) > 1:
            return Typed(text, "tuple", other.returns, (f"{function.name}_result",))
        return Typed(text, other.returns or "none")

    def literal(self, value: float | int | bool) -> Typed:
        """Return a number as C writes it."""
        if isinstance(value, bool):
            return Typed(str(int(value)), "b")
        if isinstance(value, int):
            return Typed(f"(int64_t){value}" if abs(value) > 2**31 else str(value) if value >= 0 else f"({value})", "i")
        if isnan(value):
            return Typed("NAN", "f")
        if value in (float("inf"), float("-inf")):
            return Typed("INFINITY" if value > 0 else "(-INFINITY)", "f")
        return Typed(self.decimal(value) if value >= 0 else f"({self.decimal(value)})", "f")

    @staticmethod
    def decimal(value: float) -> str:
        """Return a number with all its bits."""
        return value.hex()

    # --- places: what can be read and written ---

    def _place(self, node: ast.expr) -> Typed:
        """Return a field or a place in a row, as C can write it; a row's ``shape`` begins with its own length."""
        match node:
            case ast.Attribute(value=inner, attr=attr):
                record = self._typed(inner)
                if record.kind != "record":
                    raise self.fail(node, f"{ast.unparse(inner)} is {KIND_WORDS[record.kind]}, and has no fields")
                fields = self.records[record.of]
                if attr not in fields:
                    raise self.fail(node, f"{record.of} has no field {attr}")
                declared = fields[attr]
                text = f"{record.text}->{own_name(attr)}"
                if declared.kind not in IN_C:
                    return Typed(f"(&{text})", "record", declared.kind)
                if not declared.shape:
                    return Typed(f"{text}[0]", declared.kind)
                sizes = tuple(f"{record.text}->n_{d}" if isinstance(d, str) else str(d) for d in declared.shape)
                return Typed(text, "row", declared.kind, sizes)
            case ast.Subscript(value=inner, slice=index):
                return self._indexed(node, inner, index)
        raise self.fail(node, f"{ast.unparse(node)} is no place of a record or a row")

    def _indexed(self, node: ast.Subscript, inner: ast.expr, index: ast.expr) -> Typed:
        row = self._typed(inner)
        if row.kind != "row":
            raise self.fail(node, f"{ast.unparse(inner)} is {KIND_WORDS[row.kind]}, and has no places")
        at = self._of_kind(index, "i")
        if isinstance(index, ast.UnaryOp):
            raise self.fail(node, "places are counted from 0, none from the end")
        rest = row.shape[1:]
        if not rest:
            return Typed(f"{row.text}[{at}]", row.of)
        return Typed(f"({row.text} + ({at}) * {' * '.join(rest)})", "row", row.of, rest)

    @staticmethod
    def _read(place: Typed) -> Typed:
        if place.kind == "i":
            return Typed(f"(int64_t){place.text}", "i")
        if place.kind == "b":
            return Typed(f"({place.text} != 0.0)", "b")
        return place


def _flattened(value: Constant) -> tuple[tuple[str, ...], list[str]]:
    """Return the shape of a constant table, and its numbers in a row."""
    if not isinstance(value, tuple):
        return (), [float(value).hex()]
    parts = [_flattened(v) for v in value]
    return (str(len(parts)), *parts[0][0]), [n for _, flat in parts for n in flat]
