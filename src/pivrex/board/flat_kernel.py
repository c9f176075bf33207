"""One kernel for the records of one rig: known arguments become constants, and branches that they decide disappear."""

from __future__ import annotations

import ast
import copy
import operator
from collections.abc import Mapping
from math import prod
from typing import Any, Protocol

from pivrex.board.flat_program import REMEMBER, FlatFunction, Global, Known, Part, steering_arguments
from pivrex.errors import KernelError
from pivrex.kernels.sources import KINDS, Function, Module, refusal

__all__ = ["KernelWriter"]

COMPARED = {
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}
HELD_BY_ITSELF = ("hold", "recall")
"""Kernels of a tick that a board does without: its row and its memory stay as they are until they are written."""

COUNTED = {ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul}


class House(Protocol):
    """The functions of the whole program that a kernel's writer needs."""

    globals: dict[str, Global]
    silent: set[str]

    def instance(self, function: Function, known: Mapping[str, Known]) -> FlatFunction: ...

    def place(self, part: Part, name: str) -> ast.expr: ...

    def name(
        self, name: str, kind: str, shape: tuple[int, ...] = (), unit: str = "", value: Any = None, at: int = -1
    ) -> ast.Name: ...

    def constant(self, module: Module, name: str) -> ast.expr: ...

    def known(self, node: ast.expr) -> Any: ...


class KernelWriter:
    """One kernel, for the arguments that are known."""

    def __init__(self, flattener: House, function: Function, known: Mapping[str, Known]) -> None:
        self.flat, self.function, self.module = flattener, function, function.module
        self.env: dict[str, Known] = dict(known)
        self.local: set[str] = set()
        self.params: dict[str, str] = {}
        for arg in function.node.args.args:
            if arg.arg not in known:
                kind = getattr(arg.annotation, "id", "")
                self.params[arg.arg] = "r" + KINDS[kind] if kind in KINDS else kind[0]
                self.local.add(arg.arg)
        self.deep = 0
        self.before: list[ast.stmt] = []

    def fail(self, node: ast.AST, said: str) -> KernelError:
        return refusal(self.module, node, said)

    # --- statements ---

    def block(self, nodes: list[ast.stmt]) -> list[ast.stmt]:
        made: list[ast.stmt] = []
        for node in nodes:
            for one in self.statement(node):
                made += [*self.before, one]
                self.before = []
            if made and isinstance(made[-1], ast.Return | ast.Break | ast.Continue):
                break
        return made

    def statement(self, node: ast.stmt) -> list[ast.stmt]:  # noqa: C901, PLR0911 - a case for each statement
        match node:
            case ast.Expr(value=ast.Constant()) | ast.Pass():
                return []
            case ast.Expr(value=ast.Call(func=ast.Name(id=name))) if name in HELD_BY_ITSELF:
                return []
            case ast.Expr(value=value):
                return [ast.copy_location(ast.Expr(self.expr(value)), node)]
            case ast.Assign(targets=[target], value=value):
                return self.assigned(node, target, value)
            case ast.AugAssign(target=target, op=op, value=value):
                given = self.expr(value)
                into: Any = self.target(target)
                return [ast.copy_location(ast.AugAssign(into, op, given), node)]
            case ast.If(test=test, body=body, orelse=other):
                return self.chosen(node, self.expr(test), body, other)
            case ast.For(target=ast.Name(id=name) as target, iter=ast.Call(args=bounds) as each, body=body):
                ends = [self.expr(b) for b in bounds]
                if not self.runs([self.flat.known(e) for e in ends]):
                    return []
                self.local.add(name)
                again = ast.Call(each.func, ends, [])
                return [ast.copy_location(ast.For(target, again, self.inside(body), []), node)]
            case ast.While(test=test, body=body):
                asked = self.expr(test)
                return [ast.copy_location(ast.While(asked, self.inside(body), []), node)]
            case ast.Return(value=value):
                return [ast.copy_location(ast.Return(None if value is None else self.expr(value)), node)]
        return [node]

    @staticmethod
    def runs(ends: list[Any]) -> bool:
        """Return whether a loop may run at all."""
        return not all(isinstance(e, int) for e in ends) or bool(range(*ends))

    def inside(self, body: list[ast.stmt]) -> list[ast.stmt]:
        self.deep += 1
        before, self.before, saved = self.before, [], dict(self.env)
        made = self.block(body)
        for name, known in saved.items():
            if name in self.env and self.env[name] is not known:
                raise self.fail(body[0], f"{name} stands for another row only sometimes")
        self.env = {n: k for n, k in self.env.items() if n in saved}
        self.before = before
        self.deep -= 1
        return made

    def chosen(self, node: ast.stmt, test: ast.expr, body: list[ast.stmt], other: list[ast.stmt]) -> list[ast.stmt]:
        known = self.flat.known(test)
        if known is not None:
            return self.block(body if known else other)
        yes, no = self.inside(body), self.inside(other)
        return [ast.copy_location(ast.If(test, yes or [ast.Pass()], no), node)] if yes or no else []

    def assigned(self, node: ast.stmt, target: ast.expr, value: ast.expr) -> list[ast.stmt]:
        if isinstance(target, ast.Tuple) and not isinstance(value, ast.Tuple):
            given = self.expr(value)
            into = [self.target(t) for t in target.elts]
            return [ast.copy_location(ast.Assign([ast.Tuple(into, ast.Store())], given), node)]
        targets = target.elts if isinstance(target, ast.Tuple) else [target]
        values = [self.value(v) for v in (value.elts if isinstance(value, ast.Tuple) else [value])]
        pairs = [pair for pair in zip(targets, values, strict=True) if not self.stands_for(node, *pair)]
        stored = [(self.target(t), v) for t, v in pairs if not isinstance(v, Part)]
        stored = [(t, v) for t, v in stored if not self.is_silent(t)]  # only an entry writes it: it is 0
        if not stored:
            return []
        if len(stored) == 1:
            return [ast.copy_location(ast.Assign([stored[0][0]], stored[0][1]), node)]
        into = [t for t, _ in stored]
        taken = ast.Tuple([v for _, v in stored], ast.Load())
        return [ast.copy_location(ast.Assign([ast.Tuple(into, ast.Store())], taken), node)]

    def stands_for(self, node: ast.stmt, target: ast.expr, value: Known) -> bool:
        """Let a name stand for a record or a row from here on; return whether it does."""
        if not isinstance(target, ast.Name):
            return False
        whole_row = isinstance(value, ast.Name) and value.id not in self.local and self.is_row(value)
        if not (isinstance(value, Part) or whole_row):
            return False
        self.env[target.id] = value
        return True

    def is_silent(self, target: ast.expr) -> bool:
        return isinstance(target, ast.Constant) or (
            isinstance(target, ast.Subscript) and _first(target).id in self.flat.silent
        )

    def target(self, node: ast.expr) -> ast.expr:
        if isinstance(node, ast.Name):
            self.env.pop(node.id, None)
            self.local.add(node.id)
            return ast.Name(node.id, ast.Store())
        return self.expr(node)

    # --- expressions ---

    def value(self, node: ast.expr) -> Known:  # noqa: PLR0911 - a case for each expression
        """Return the value of an expression: a record's part, or an expression without records."""
        match node:
            case ast.Name(id=name) if name in self.env:
                found = self.env[name]
                return found if isinstance(found, Part) else copy.deepcopy(found)
            case ast.Name(id=name) if name in self.local:
                return ast.Name(name, ast.Load())
            case ast.Name(id=name) if name in self.module.constants:
                return self.flat.constant(self.module, name)
            case ast.Attribute(value=inner, attr=attr):
                part = self.value(inner)
                if not isinstance(part, Part):
                    raise self.fail(node, f"{ast.unparse(node)} is no field of a record")
                if part.form.record.fields[attr][0] == "r":
                    return part.part(attr)
                return self.flat.place(part, attr)
            case ast.IfExp(test=test, body=yes, orelse=no):
                asked = self.expr(test)
                known = self.flat.known(asked)
                if known is not None:
                    return self.value(yes if known else no)
                return ast.IfExp(asked, self.expr(yes), self.expr(no))
        return self.composed(node)

    def expr(self, node: ast.expr) -> ast.expr:
        """Return an expression without records."""
        found = self.value(node)
        if isinstance(found, Part):
            raise self.fail(node, f"{ast.unparse(node)} is a record")
        return ast.copy_location(found, node)

    def composed(self, node: ast.expr) -> ast.expr:  # noqa: C901, PLR0911 - a case for each expression
        known = self.flat.known
        match node:
            case ast.Constant():
                return node
            case ast.Tuple(elts=elts):
                return ast.Tuple([self.expr(e) for e in elts], ast.Load())
            case ast.Subscript(value=inner, slice=index):
                return self.indexed(self.expr(inner), self.expr(index))
            case ast.UnaryOp(op=ast.Not(), operand=inner):
                given = self.expr(inner)
                found = known(given)
                return ast.Constant(not found) if found is not None else ast.UnaryOp(ast.Not(), given)
            case ast.UnaryOp(op=op, operand=inner):
                given = self.expr(inner)
                if isinstance(given, ast.Constant) and isinstance(given.value, int | float):
                    return ast.Constant(-given.value)
                return ast.UnaryOp(op, given)
            case ast.BinOp(left=left, op=op, right=right):
                a, b = self.expr(left), self.expr(right)
                x, y = known(a), known(b)
                if type(x) is int and type(y) is int and type(op) in COUNTED:
                    return ast.Constant(COUNTED[type(op)](x, y))
                return ast.BinOp(a, op, b)
            case ast.BoolOp(op=op, values=values):
                return self.joined(op, [self.expr(v) for v in values])
            case ast.Compare(left=left, ops=ops, comparators=others):
                return self.compared(self.expr(left), ops, [self.expr(o) for o in others])
            case ast.Call():
                return self.call(node)
        raise self.fail(node, f"a board's program cannot say {ast.unparse(node)[:40]}")

    def indexed(self, row: ast.expr, index: ast.expr) -> ast.expr:  # noqa: PLR0911 - a case for each kind of row
        at = self.flat.known(index)
        if isinstance(row, ast.Name) and row.id in self.flat.globals and isinstance(at, int):
            one = self.flat.globals[row.id]
            if row.id in self.flat.silent:
                return ast.Constant(0.0)
            if one.value is not None and len(one.shape) == 1 and one.kind in "ib" and 0 <= at < one.shape[0]:
                return ast.Constant(int(one.value[at]) if one.kind == "i" else bool(one.value[at]))
        if isinstance(row, ast.Name) and row.id in self.flat.silent:
            return ast.Constant(0.0)
        if isinstance(row, ast.Name) and row.id in self.flat.globals:
            one = self.flat.globals[row.id]
            kind = {"f": float, "i": int, "b": bool}[one.kind]
            if not prod(one.shape) and len(one.shape) == 1:
                return ast.Constant(kind(0))  # the row is empty, so no kernel reads it
            if one.value is not None and len(one.shape) == 1 and len({repr(v) for v in one.value.tolist()}) == 1:
                if one.kind == "f":
                    return self.flat.name(f"EACH_{row.id}", "f", (), one.unit, float(one.value[0]))
                return ast.Constant(kind(one.value[0]))
        only = self.shape(row)[:1] == (1,)  # the only place there is
        return ast.Subscript(row, ast.Constant(0) if only else index, ast.Load())

    def joined(self, op: ast.boolop, values: list[ast.expr]) -> ast.expr:
        ends = isinstance(op, ast.Or)  # a True ends an or, a False an and
        left: list[ast.expr] = []
        for value in values:
            found = self.flat.known(value)
            if found is None:
                left.append(value)
            elif bool(found) is ends:
                if not left:
                    return ast.Constant(ends)
                left.append(ast.Constant(ends))
                break
        if isinstance(left[-1] if left else None, ast.Constant):
            return ast.Constant(ends)  # everything before it is only read
        return ast.Constant(not ends) if not left else left[0] if len(left) == 1 else ast.BoolOp(op, left)

    def compared(self, left: ast.expr, ops: list[ast.cmpop], others: list[ast.expr]) -> ast.expr:
        values = [self.flat.known(v) for v in (left, *others)]
        if isinstance(ops[0], ast.In) and isinstance(others[0], ast.Tuple):
            each = [self.flat.known(v) for v in others[0].elts]
            if values[0] is not None and None not in each:
                return ast.Constant(values[0] in each)
        elif None not in values:
            pairs = zip(values, ops, values[1:], strict=False)
            return ast.Constant(all(COMPARED[type(op)](a, b) for a, op, b in pairs))
        return ast.Compare(left, ops, others)

    def is_row(self, node: Known) -> bool:
        """Return whether an expression is a row of numbers."""
        match node:
            case ast.Name(id=name):
                return (
                    self.params.get(name, "").startswith("r")
                    if name in self.local
                    else bool(name in self.flat.globals and self.flat.globals[name].shape)
                )
        return False

    def shape(self, node: ast.expr) -> tuple[int, ...]:
        match node:
            case ast.Name(id=name) if name in self.flat.globals:
                return self.flat.globals[name].shape
            case ast.Subscript(value=inner):
                return self.shape(inner)[1:]
        return ()

    def call(self, node: ast.Call) -> ast.expr:
        name = node.func.id if isinstance(node.func, ast.Name) else ""
        if name == "len":
            row = self.expr(node.args[0])
            shape = self.shape(row)
            if not shape:
                raise self.fail(node, f"the length of {ast.unparse(node.args[0])} is not known here")
            return ast.Constant(shape[0])
        if name in self.module.functions:
            return self.called(node, self.module.functions[name])
        args = [self.expr(a) for a in node.args]
        only = self.flat.known(args[0]) if args else None
        if name == "whole" and isinstance(args[0], ast.Constant):
            return ast.Constant(int(only or 0))
        if name in ("max", "min", "abs") and all(type(self.flat.known(a)) is int for a in args):
            numbers: list[Any] = [self.flat.known(a) for a in args]
            return ast.Constant(abs(numbers[0]) if name == "abs" else max(numbers) if name == "max" else min(numbers))
        return ast.Call(node.func, args, [])

    def called(self, node: ast.Call, other: Function) -> ast.expr:
        steers = steering_arguments(other.node.name, other.module.name)
        known: dict[str, Known] = {}
        given: list[ast.expr] = []
        kinds: dict[str, str] = {}
        for arg, value in zip(other.node.args.args, node.args, strict=True):
            kind = getattr(arg.annotation, "id", "")
            found = self.value(value)
            if isinstance(found, Part):
                known[arg.arg] = found
                if found.root == "was" and len(found.path) == 1 and self.takes_all("was"):
                    self.before.append(_remember(found.path[0]))
            elif kind in KINDS:
                shape = self.shape(found)
                if shape and not shape[0]:
                    known[arg.arg] = found  # this rig has no such part
                    continue
                if self.stays(found):
                    kinds[arg.arg] = "r" + KINDS[kind].upper()
                given.append(found)
            elif arg.arg in steers and self.flat.known(found) is not None and isinstance(found, ast.Constant):
                known[arg.arg] = found
            else:
                given.append(found)
        spaces: dict[str, Known] = {f"{n} stays": ast.Constant(True) for n in kinds}
        made = self.flat.instance(other, {**known, **spaces})
        made.params.update(kinds)
        match made.body:
            case [ast.Return(value=ast.Constant() as only)]:
                return only
        return ast.copy_location(ast.Call(ast.Name(made.name, ast.Load()), given, []), node)

    def takes_all(self, root: str) -> bool:
        return any(isinstance(v, Part) and v.root == root and not v.path for v in self.env.values())

    def stays(self, node: ast.expr) -> bool:
        """Return whether a row is of settings or constants."""
        match node:
            case ast.Subscript(value=inner):
                return self.stays(inner)
            case ast.Name(id=name) if name in self.local:
                return name in self.params and self.params[name] == "rF"
            case ast.Name(id=name):
                return name in self.flat.globals and self.flat.globals[name].value is not None
        return False


def _remember(stage: str) -> ast.stmt:
    return ast.Expr(ast.Call(ast.Name(REMEMBER, ast.Load()), [ast.Constant(stage)], []))


def _first(node: ast.expr) -> ast.Name:
    while isinstance(node, ast.Subscript):
        node = node.value
    assert isinstance(node, ast.Name)
    return node
