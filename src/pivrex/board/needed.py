"""What of a flat program its outputs need: all else is left out, columns that only a screen shows and what only they hang on."""

from __future__ import annotations

import ast
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from pivrex.board.flat import HALVES, REMEMBER, FlatFunction, FlatProgram, Global

__all__ = ["needed"]

Names = frozenset[str]
NONE: Names = frozenset()


def needed(program: FlatProgram, outputs: Iterable[str]) -> FlatProgram:
    """Return the program with nothing in it but what its outputs hang on, from tick to tick.

    Parameters
    ----------
    program : FlatProgram
    outputs : iterable of str
        Globals whose values count.

    Notes
    -----
    A backward slice (Weiser 1981), by names: a name is needed if one that is needed is computed from it or under a condition on it.
    A call passes on what its function makes of its arguments, so one that serves many is told apart by who calls it.
    """
    flows: dict[str, _Flow] = {}
    for function in program.functions.values():
        flows[function.name] = _Flow(function, flows, program.globals)
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
    for name in reversed(functions):  # each stands below those that it calls
        if name in HALVES or any(name in names[n] for n in called):
            called.add(name)
    used = set[str]().union(*(names[n] for n in called))
    return FlatProgram(
        {n: f for n, f in functions.items() if n in called}, {n: g for n, g in program.globals.items() if n in used}
    )


@dataclass(frozen=True)
class _Made:
    """A call as it stands in a function: what of it is needed is needed of the function that it calls."""

    called: str
    what: str
    """The name of an argument that it writes, or `return:k`."""


@dataclass
class _Flow:
    """What flows where in one function: for each name those that it is computed from."""

    function: FlatFunction
    flows: dict[str, _Flow]
    globals: dict[str, Global]
    edges: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    made: dict[str, _Made] = field(default_factory=dict)
    rows: dict[str, Names] = field(default_factory=dict)
    """Of names that stand for rows: whose."""

    def __post_init__(self) -> None:
        self._ends = self._exits(self.function.body, ast.Return)
        self._block(self.function.body, NONE)
        outside = {*self.function.params, *self.globals}
        sinks = {n for n in self.edges if n.startswith("return:") or n in outside}
        self.gives: dict[str, Names] = {n: frozenset(self._reach(n) & outside) for n in sinks}
        """For each name that it writes, and what it returns, what of outside that hangs on."""

    def _reach(self, name: str) -> set[str]:
        found, stack = set[str](), [name]
        while stack:
            for one in self.edges.get(stack.pop(), ()):
                if one not in found:
                    found.add(one)
                    stack.append(one)
        return found

    # --- statements ---

    def _exits(self, nodes: list[ast.stmt], *kinds: type[ast.stmt], under: Names = NONE) -> Names:
        """Return what decides whether it is left early."""
        found: set[str] = set()
        for k, node in enumerate(nodes):
            match node:
                case ast.If(test=test, body=body, orelse=other):
                    inner = under | self._plain_names(test)
                    found |= self._exits(body, *kinds, under=inner) | self._exits(other, *kinds, under=inner)
                case ast.While(test=test, body=body):
                    found |= self._exits(body, *kinds, under=under | self._plain_names(test))
                case ast.For(iter=ast.Call(args=bounds), body=body):
                    inner = under.union(*(self._plain_names(b) for b in bounds))
                    found |= self._exits(body, *kinds, under=inner)
                case _ if isinstance(node, kinds) and (under or k + 1 < len(nodes)):
                    found |= under
        return frozenset(found)

    def _plain_names(self, node: ast.expr) -> Names:
        """Return the names in a condition, calls taken whole."""
        return self._read(node)

    def _block(self, nodes: list[ast.stmt], under: Names) -> None:
        under = under | self._ends
        for node in nodes:
            self._statement(node, under)

    def _statement(self, node: ast.stmt, under: Names) -> None:  # noqa: C901, PLR0912 - a case for each statement
        match node:
            case ast.Expr(value=ast.Call() as call):
                self._call(call, under)
            case ast.Assign(targets=[ast.Tuple(elts=targets)], value=ast.Call() as call):
                each = self._call(call, under)
                for target, given in zip(targets, each, strict=True):
                    self._store(target, given, under)
            case ast.Assign(targets=[ast.Tuple(elts=targets)], value=ast.Tuple(elts=values)):
                for target, value in zip(targets, values, strict=True):
                    self._store(target, self._read(value, under), under)
            case ast.Assign(targets=[ast.Name(id=name)], value=ast.Subscript() as value) if self._is_row(value):
                self.rows[name] = self.rows.get(name, NONE) | self._bases(value)
                self.edges[name] |= self._read(value, under) | under
            case ast.Assign(targets=[target], value=value):
                self._store(target, self._read(value, under), under)
            case ast.AugAssign(target=target, value=value):
                self._store(target, self._read(value, under) | self._read(target, under), under)
            case ast.If(test=test, body=body, orelse=other):
                inner = under | self._read(test, under)
                self._block(body, inner)
                self._block(other, inner)
            case ast.While(test=test, body=body):
                inner = under | self._read(test, under) | self._exits(body, ast.Break, ast.Continue)
                self._block(body, inner)
            case ast.For(target=ast.Name(id=name), iter=ast.Call(args=bounds), body=body):
                ends = under.union(*(self._read(b, under) for b in bounds))
                self.edges[name] |= ends
                self._block(body, ends | self._exits(body, ast.Break, ast.Continue))
            case ast.Return(value=value) if value is not None:
                for k, one in enumerate(value.elts if isinstance(value, ast.Tuple) else [value]):
                    if isinstance(one, ast.Call) and not isinstance(value, ast.Tuple) and self._returns(one) > 1:
                        for i, given in enumerate(self._call(one, under)):
                            self.edges[f"return:{i}"] |= given | under
                    else:
                        self.edges[f"return:{k}"] |= self._read(one, under) | under

    def _store(self, target: ast.expr, given: Names, under: Names) -> None:
        for name in self._bases(target):
            self.edges[name] |= given | under | self._indices(target)

    # --- expressions ---

    def _returns(self, call: ast.Call) -> int:
        assert isinstance(call.func, ast.Name)
        flow = self.flows.get(call.func.id)
        return sum(n.startswith("return:") for n in flow.gives) if flow is not None else 1

    def _shape(self, node: ast.expr) -> tuple[int, ...]:
        match node:
            case ast.Name(id=name) if name in self.globals:
                return self.globals[name].shape
            case ast.Subscript(value=inner):
                return self._shape(inner)[1:]
        return ()

    def _is_row(self, node: ast.expr) -> bool:
        return bool(self._shape(node))

    def _bases(self, node: ast.expr) -> Names:
        """Return whose numbers a row or a place is: its own name, and those that it stands for."""
        match node:
            case ast.Subscript(value=inner):
                return self._bases(inner)
            case ast.IfExp(body=yes, orelse=no):
                return self._bases(yes) | self._bases(no)
            case ast.Name(id=name):
                return frozenset({name}) | self.rows.get(name, NONE)
        return NONE

    def _indices(self, node: ast.expr) -> Names:
        match node:
            case ast.Subscript(value=inner, slice=index):
                return self._indices(inner) | self._read(index)
        return NONE

    def _read(self, node: ast.expr, under: Names = NONE) -> Names:
        match node:
            case ast.Call():
                given = self._call(node, under)
                return given[0] if given else NONE
            case ast.Name(id=name):
                return frozenset({name}) | self.rows.get(name, NONE)
        return frozenset[str]().union(
            *(self._read(c, under) for c in ast.iter_child_nodes(node) if isinstance(c, ast.expr))
        )

    def _call(self, call: ast.Call, under: Names) -> list[Names]:
        """Note what a call writes; gives what each of its results hangs on."""
        assert isinstance(call.func, ast.Name)
        name = call.func.id
        if name == REMEMBER:
            return []
        args = [self._read(a, under) for a in call.args]
        if name not in self.flows:
            return [frozenset[str]().union(*args)]
        flow = self.flows[name]
        own = dict(zip(flow.function.params, args, strict=True))
        rows = dict(zip(flow.function.params, (self._bases(a) for a in call.args), strict=True))
        results: dict[int, Names] = {}
        for sink, sources in flow.gives.items():
            here = frozenset[str]().union(*(own.get(s, frozenset({s})) for s in sources)) | under
            if sink in self.globals:
                self.edges[sink] |= here
                continue
            mark = f"{name}:{id(call)}:{sink}"
            self.made[mark] = _Made(name, sink)
            self.edges[mark] |= here
            if sink.startswith("return:"):
                results[int(sink.removeprefix("return:"))] = frozenset({mark})
            else:
                for base in rows[sink]:
                    self.edges[base].add(mark)
        return [results[k] for k in sorted(results)]


class _Wanted:
    """Which names are needed, of all functions."""

    def __init__(self, program: FlatProgram, flows: dict[str, _Flow], outputs: set[str]) -> None:
        self.flows = flows
        self.globals = set(outputs)
        self.local: dict[str, set[str]] = {name: set() for name in program.functions}
        before = -1
        while before != (now := len(self.globals) + sum(map(len, self.local.values()))):
            before = now
            for name, flow in flows.items():
                self._pass_on(name, flow)
            self.globals |= {"kept." + n.removeprefix("was.") for n in self.globals if n.startswith("was.")}

    def _pass_on(self, name: str, flow: _Flow) -> None:
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
        return self.wanted.wants(self.function.name, self.flow._bases(target))

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
        rows = dict(zip(flow.function.params, (self.flow._bases(a) for a in call.args), strict=True))
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
    """Gives calls in an expression only the arguments that are needed."""

    def __init__(self, cut: _Cut) -> None:
        self.cut = cut

    def visit_Call(self, node: ast.Call) -> ast.expr:
        return self.cut._called(node)
