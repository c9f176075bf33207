"""The sources of all kernels: functions, records and constants, read from their text without running it."""

from __future__ import annotations

import ast
import hashlib
import math
import operator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pivrex.errors import KernelError

__all__ = ["FILES", "Field", "Function", "Module", "digest", "read", "refusal"]

PACKAGE = Path(__file__).parents[1]

FILES = (
    "kernels/trial.py",
    *(f"line/{name}.py" for name in (
        "stage", "input_stages", "se2", "aim", "routine_stage", "probe", "heading", "pointing", "covariance", "odometry", "zeroing", "tilt",
        "axes", "band", "curve", "laws", "scale", "presses", "bindings", "rate", "law", "pid", "kinematics", "limits",
        "frame", "helping", "following", "correction", "steering", "motion", "balance", "control", "drive", "attachments", "outputs",
        "tick", "seeing",
    )),
    *(f"sim/{name}.py" for name in ("bumps", "fitted", "ideal")),
    *(f"sim/body/{name}.py" for name in ("settings", "state", "feed", "leaning", "ground", "walls", "mechanics", "sensors", "robot")),
    "sim/driving.py",
    *(f"routine/{name}.py" for name in ("profile", "wheel_distances", "estimate", "watching", "follows", "hands", "ticking")),
)  # fmt: skip
"""The files with kernels, each below those that it takes kernels from."""

KINDS = {"Number": "f", "Numbers": "f", "Whole": "i", "Wholes": "i", "Flag": "b", "Flags": "b"}
_SUMS: dict[type[ast.operator], Any] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Pow: operator.pow,
}
_KNOWN = {"pi": math.pi, "inf": math.inf, "nan": math.nan}

Constant = float | int | bool | tuple["Constant", ...]


def refusal(module: Module, node: ast.AST, said: str) -> KernelError:
    """Return the error that says what is wrong, and in which line."""
    return KernelError(f"{module.path}:{getattr(node, 'lineno', 1)}: {said}")


@dataclass(frozen=True)
class Field:
    """A field of a record: its kind (f, i, b or the name of a record), and its dimensions."""

    kind: str
    shape: tuple[int | str, ...]


@dataclass(frozen=True)
class Function:
    """A kernel, with the file that it stands in and its name in C."""

    module: Module
    node: ast.FunctionDef
    name: str


@dataclass
class Module:
    """The declarations and imports of a file, by the names that it uses."""

    path: str
    name: str
    functions: dict[str, Function] = field(default_factory=dict)
    records: dict[str, tuple[str, dict[str, Field]]] = field(default_factory=dict)
    constants: dict[str, Constant] = field(default_factory=dict)
    maths: set[str] = field(default_factory=set)


def digest(root: Path = PACKAGE) -> str:
    """Return the version of the kernels: a hash of their files and of the printer's."""
    whole = hashlib.sha256()
    for path in sorted({root / f for f in FILES} | set((root / "kernels").glob("*.py"))):
        whole.update(path.read_bytes().replace(b"\r\n", b"\n"))
    return whole.hexdigest()[:24]


def read(files: tuple[str, ...] = FILES, root: Path = PACKAGE) -> list[Module]:
    """Read files with kernels; raises `KernelError`."""
    known: dict[str, Module] = {}
    for path in files:
        module = _module(path, (root / path).read_text(encoding="utf-8"), known)
        known[module.name] = module
    return list(known.values())


def _module(path: str, text: str, known: dict[str, Module]) -> Module:
    module = Module(path, "pivrex." + path.removesuffix(".py").replace("/", "."))
    stem = Path(path).stem
    for node in ast.parse(text).body:
        match node:
            case ast.ImportFrom():
                _imported(module, node, known)
            case ast.FunctionDef() if any(_is_kernel(d) for d in node.decorator_list):
                module.functions[node.name] = Function(module, node, f"{stem}_{node.name.strip('_')}")
            case ast.ClassDef() if any(isinstance(b, ast.Name) and b.id == "Record" for b in node.bases):
                module.records[node.name] = (node.name, _fields(module, node))
            case ast.Assign(targets=[ast.Name(id=name)], value=value):
                _constant(module, name, value)
            case ast.Assign(targets=[ast.Tuple(elts=names)], value=ast.Tuple(elts=values)) if len(names) == len(values):
                for one, value in zip(names, values, strict=True):
                    if isinstance(one, ast.Name):
                        _constant(module, one.id, value)
    return module


def _is_kernel(decorator: ast.expr) -> bool:
    return isinstance(decorator, ast.Name) and decorator.id == "kernel"


def _imported(module: Module, node: ast.ImportFrom, known: dict[str, Module]) -> None:
    if node.module == "pivrex.kernels.maths":
        module.maths |= {alias.name for alias in node.names}
        module.constants |= {n.name: _KNOWN[n.name] for n in node.names if n.name in _KNOWN}
    if node.module == "pivrex.kernels.records":
        module.maths |= {alias.name for alias in node.names if alias.name in ("clear", "pack", "repeat")}
    other = known.get(node.module or "")
    if other is None:
        return
    for alias in node.names:
        own = alias.asname or alias.name
        for mine, theirs in ((module.functions, other.functions), (module.records, other.records)):
            if alias.name in theirs:
                mine[own] = theirs[alias.name]  # type: ignore[assignment]
        if alias.name in other.constants:
            module.constants[own] = other.constants[alias.name]


def _fields(module: Module, node: ast.ClassDef) -> dict[str, Field]:
    found = {}
    for one in node.body:
        match one:
            case ast.AnnAssign(target=ast.Name(id=name), annotation=ast.Name(id=kind), value=ast.Call(args=args)):
                shape = [a.value for a in args if isinstance(a, ast.Constant)]
                if len(shape) != len(args):
                    raise refusal(module, one, "a field's dimensions are numbers and names")
                found[name] = Field(KINDS.get(kind, kind), tuple(s for s in shape if isinstance(s, int | str)))
    return found


def _constant(module: Module, name: str, node: ast.expr) -> None:
    value = _value(module, node)
    if value is not None:
        module.constants[name] = value


def _value(module: Module, node: ast.expr) -> Constant | None:
    """Return the value of a constant; None for what is none that a kernel can use."""
    match node:
        case ast.Constant(value=bool() | int() | float() as value):
            return value
        case ast.Name(id=name):
            return module.constants.get(name)
        case ast.UnaryOp(op=ast.USub(), operand=inner):
            inside = _value(module, inner)
            return -inside if isinstance(inside, int | float) else None
        case ast.BinOp(left=left, op=op, right=right) if type(op) in _SUMS:
            a, b = _value(module, left), _value(module, right)
            if isinstance(a, int | float) and isinstance(b, int | float):
                return _SUMS[type(op)](a, b)
        case ast.Tuple(elts=elts):
            values = [_value(module, e) for e in elts]
            if all(v is not None for v in values):
                return tuple(v for v in values if v is not None)
    return None
