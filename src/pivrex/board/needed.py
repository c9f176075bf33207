"""The part of a flat program that its outputs depend on. It leaves out columns that only a screen shows, and everything that only they
use.
"""

from __future__ import annotations

import ast
from collections.abc import Iterable, Iterator

from pivrex.board.flat_program import REMEMBER, FlatFunction, FlatProgram
from pivrex.board.flows import Flow, Names

__all__ = ["needed"]


def needed(program: FlatProgram, outputs: Iterable[str]) -> FlatProgram:
    """Return the part of a program that its outputs depend on, from tick to tick.

    Parameters
    ----------
    program : FlatProgram
    outputs : iterable of str
        Globals whose values count.

    Notes
    -----
    A backward slice (Weiser 1981), by names: a name is needed if one that is needed is computed from it or under a condition on it.
    Each call has its own edges from arguments to results, so two callers of one function do not mix.
    """
    flows: dict[str, Flow] = {}
    for function in program.functions.values():
        flows[function.name] = Flow(function, flows, program.globals)
    wanted = _Wanted(program, flows, set(outputs))
    functions = {}
    for function in program.functions.values():
        made = FlatFunction(
            function.name,
            function.of,
            {p: k for p, k in function.params.items() if p in wanted.local[function.name]},
            "".join(k for i, k in enumerate(function.returns) if f"return:{i}" in wanted.local[function.name]),
            _Cut(wanted, function).block(function.body),
        )
        if made.body:
            functions[made.name] = made
    names = {n: {m.id for s in f.body for m in ast.walk(s) if isinstance(m, ast.Name)} for n, f in functions.items()}
    called: set[str] = set()
    for name in reversed(functions):  # each comes after those that it calls
        if name in program.order or any(name in names[n] for n in called):
            called.add(name)
    used = set[str]().union(*(names[n] for n in called))
    return FlatProgram(
        {n: f for n, f in functions.items() if n in called},
        {n: g for n, g in program.globals.items() if n in used},
        tuple(n for n in program.order if n in called),
    )


class _Wanted:
    """Which names are needed, of all functions."""

    def __init__(self, program: FlatProgram, flows: dict[str, Flow], outputs: set[str]) -> None:
        self.flows = flows
        self.globals = set(outputs)
        self.local: dict[str, set[str]] = {name: set() for name in program.functions}
        before = -1
        while before != (now := len(self.globals) + sum(map(len, self.local.values()))):
            before = now
            for name, flow in flows.items():
                self._pass_on(name, flow)
            self.globals |= {"kept." + n.removeprefix("was.") for n in self.globals if n.startswith("was.")}

    def _pass_on(self, name: str, flow: Flow) -> None:
        own = self.local[name]
        stack = [n for n in flow.edges if n in own or n in self.globals]
        seen = set(stack)
        while stack:
            at = stack.pop()
            if at in flow.made:
                made = flow.made[at]
                self.local[made.called].add(made.what)
            for one in flow.edges.get(at, ()):
                (self.globals if one in flow.globals else own).add(one)
                if one not in seen:
                    seen.add(one)
                    stack.append(one)

    def wants(self, function: str, names: Names) -> bool:
        return any(n in self.globals or n in self.local[function] for n in names)


class _Cut:
    """Leaves out of one function what is not needed."""

    def __init__(self, wanted: _Wanted, function: FlatFunction) -> None:
        self.wanted, self.function = wanted, function
        self.flow = wanted.flows[function.name]
        self.returns = [
            k for k in range(len([n for n in self.flow.gives if n.startswith("return:")]))
            if f"return:{k}" in wanted.local[function.name]
        ]  # fmt: skip

    def block(self, nodes: list[ast.stmt]) -> list[ast.stmt]:
        left = [one for node in nodes for one in self.statement(node)]
        kept = [
            one for k, one in enumerate(left)
            if not (self._remembers(one) and (k + 1 == len(left) or self._remembers(left[k + 1])))
        ]  # fmt: skip
        at_end = len(kept) == 1 and isinstance(kept[0], ast.Return) and kept[0].value is None
        return [] if at_end and nodes is self.function.body else kept

    @staticmethod
    def _remembers(node: ast.stmt) -> bool:
        match node:
            case ast.Expr(value=ast.Call(func=ast.Name(id=name))):
                return name == REMEMBER
        return False

    def _wants(self, target: ast.expr) -> bool:
        return self.wanted.wants(self.function.name, self.flow.bases(target))

    def statement(self, node: ast.stmt) -> Iterator[ast.stmt]:  # noqa: C901, PLR0912 - a case for each statement
        match node:
            case ast.Expr(value=ast.Call() as call):
                if self._does_something(call):
                    yield ast.copy_location(ast.Expr(self._called(call)), node)
            case ast.Assign(targets=[ast.Tuple(elts=targets)], value=ast.Call() as call):
                yield from self._taken(node, targets, call)
            case ast.Assign(targets=[ast.Tuple(elts=targets)], value=ast.Tuple(elts=values)):
                pairs = [(t, self._expr(v)) for t, v in zip(targets, values, strict=True) if self._wants(t)]
                if len(pairs) == 1:
                    yield ast.copy_location(ast.Assign([pairs[0][0]], pairs[0][1]), node)
                elif pairs:
                    into, given = (
                        ast.Tuple([t for t, _ in pairs], ast.Store()),
                        ast.Tuple([v for _, v in pairs], ast.Load()),
                    )
                    yield ast.copy_location(ast.Assign([into], given), node)
            case ast.Assign(targets=[target], value=value):
                if self._wants(target):
                    yield ast.copy_location(ast.Assign([target], self._expr(value)), node)
                elif isinstance(value, ast.Call) and self._does_something(value):
                    yield ast.copy_location(ast.Expr(self._called(value)), node)
            case ast.AugAssign(target=target, op=op, value=value):
                if self._wants(target):
                    yield ast.copy_location(ast.AugAssign(target, op, self._expr(value)), node)
            case ast.If(test=test, body=body, orelse=other):
                yes, no = self.block(body), self.block(other)
                if yes:
                    yield ast.copy_location(ast.If(self._expr(test), yes, no), node)
                elif no:
                    yield ast.copy_location(ast.If(ast.UnaryOp(ast.Not(), self._expr(test)), no, []), node)
            case ast.For(target=target, iter=ast.Call(func=func, args=bounds), body=body):
                if inner := self.block(body):
                    again = ast.Call(func, [self._expr(b) for b in bounds], [])
                    yield ast.copy_location(ast.For(target, again, inner, []), node)
            case ast.While(test=test, body=body):
                if inner := self.block(body):
                    yield ast.copy_location(ast.While(self._expr(test), inner, []), node)
            case ast.Return(value=value):
                yield from self._returned(node, value)
            case _:
                yield node

    def _taken(self, node: ast.stmt, targets: list[ast.expr], call: ast.Call) -> Iterator[ast.stmt]:
        """Yield a call with those of its results that are needed."""
        assert isinstance(call.func, ast.Name)
        theirs = self.wanted.local[call.func.id]
        left = [t for k, t in enumerate(targets) if f"return:{k}" in theirs]
        if not any(self._wants(t) for t in left):
            if self._does_something(call):
                yield ast.copy_location(ast.Expr(self._called(call)), node)
        elif len(left) == 1:
            yield ast.copy_location(ast.Assign([left[0]], self._called(call)), node)
        else:
            yield ast.copy_location(ast.Assign([ast.Tuple(left, ast.Store())], self._called(call)), node)

    def _returned(self, node: ast.stmt, value: ast.expr | None) -> Iterator[ast.stmt]:
        if not self.returns or value is None:
            yield ast.copy_location(ast.Return(None), node)
        elif isinstance(value, ast.Tuple):
            left = [self._expr(value.elts[k]) for k in self.returns]
            yield ast.copy_location(ast.Return(left[0] if len(left) == 1 else ast.Tuple(left, ast.Load())), node)
        else:
            yield ast.copy_location(ast.Return(self._expr(value)), node)

    def _does_something(self, call: ast.Call) -> bool:
        assert isinstance(call.func, ast.Name)
        name = call.func.id
        if name == REMEMBER:
            stage = call.args[0]
            assert isinstance(stage, ast.Constant)
            return any(n.startswith(f"was.{stage.value!s}.") for n in self.wanted.globals)
        flow = self.wanted.flows.get(name)
        if flow is None:
            return False
        rows = dict(zip(flow.function.params, (self.flow.bases(a) for a in call.args), strict=True))
        return any(self.wanted.wants(self.function.name, rows.get(sink, frozenset({sink}))) for sink in flow.gives)

    def _expr(self, node: ast.expr) -> ast.expr:
        made: ast.expr = _Calls(self).visit(node)
        return made

    def _called(self, call: ast.Call) -> ast.Call:
        assert isinstance(call.func, ast.Name)
        args: Iterable[ast.expr] = call.args
        if call.func.id in self.wanted.flows:
            theirs = self.wanted.local[call.func.id]
            args = [
                a
                for p, a in zip(self.wanted.flows[call.func.id].function.params, call.args, strict=True)
                if p in theirs
            ]
        return ast.copy_location(ast.Call(call.func, [self._expr(a) for a in args], []), call)


class _Calls(ast.NodeTransformer):
    """Return calls in an expression only the arguments that are needed."""

    def __init__(self, cut: _Cut) -> None:
        self.cut = cut

    def visit_Call(self, node: ast.Call) -> ast.expr:
        return self.cut._called(node)
