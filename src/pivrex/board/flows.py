"""Data flow in the functions of a flat program: for each name, the names that it is computed from."""

from __future__ import annotations

import ast
from collections import defaultdict
from dataclasses import dataclass, field

from pivrex.board.flat_program import REMEMBER, FlatFunction, Global

__all__ = ["Flow", "Names"]

Names = frozenset[str]
NONE: Names = frozenset()


@dataclass(frozen=True)
class Made:
    """A call as it stands in a function: what of it is needed is needed of the function that it calls."""

    called: str
    what: str
    """The name of an argument that it writes, or `return:k`."""


@dataclass
class Flow:
    """The data flow of one function: for each name, the names that it is computed from."""

    function: FlatFunction
    flows: dict[str, Flow]
    globals: dict[str, Global]
    edges: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    made: dict[str, Made] = field(default_factory=dict)
    rows: dict[str, Names] = field(default_factory=dict)
    """Of names that stand for rows: whose."""

    def __post_init__(self) -> None:
        self._ends = self._exits(self.function.body, ast.Return)
        self._block(self.function.body, NONE)
        outside = {*self.function.params, *self.globals}
        sinks = {n for n in self.edges if n.startswith("return:") or n in outside}
        self.gives: dict[str, Names] = {n: frozenset(self._reach(n) & outside) for n in sinks}
        """For each name that it writes, and for each result, the outside names that it depends on."""

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
                self.rows[name] = self.rows.get(name, NONE) | self.bases(value)
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
        for name in self.bases(target):
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

    def bases(self, node: ast.expr) -> Names:
        """Return the names that a row or a place refers to: its own name, and its aliases."""
        match node:
            case ast.Subscript(value=inner):
                return self.bases(inner)
            case ast.IfExp(body=yes, orelse=no):
                return self.bases(yes) | self.bases(no)
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
        """Note what a call writes; return the names that each of its results depends on."""
        assert isinstance(call.func, ast.Name)
        name = call.func.id
        if name == REMEMBER:
            return []
        args = [self._read(a, under) for a in call.args]
        if name not in self.flows:
            return [frozenset[str]().union(*args)]
        flow = self.flows[name]
        own = dict(zip(flow.function.params, args, strict=True))
        rows = dict(zip(flow.function.params, (self.bases(a) for a in call.args), strict=True))
        results: dict[int, Names] = {}
        for sink, sources in flow.gives.items():
            here = frozenset[str]().union(*(own.get(s, frozenset({s})) for s in sources)) | under
            if sink in self.globals:
                self.edges[sink] |= here
                continue
            mark = f"{name}:{id(call)}:{sink}"
            self.made[mark] = Made(name, sink)
            self.edges[mark] |= here
            if sink.startswith("return:"):
                results[int(sink.removeprefix("return:"))] = frozenset({mark})
            else:
                for base in rows[sink]:
                    self.edges[base].add(mark)
        return [results[k] for k in sorted(results)]
