"""The parsed line of a routine as a record: expressions, conditions and steps, each with its place in the line."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pivrex.routine.kinds import Kind

__all__ = [
    "Amount", "Binary", "Call", "Compare", "Condition", "Expression", "Group", "IsState", "Node", "Not", "Options", "Otherwise",
    "Place", "Quantity", "Span", "Variable",
]  # fmt: skip


@dataclass(frozen=True)
class Span:
    """From which column of its line to which, counted from 0, the end left out."""

    begin: int
    end: int

    def to(self, other: Span) -> Span:
        """Return the span from here to the end of another."""
        return Span(self.begin, other.end)


# --- expressions: what has a value ---


@dataclass(frozen=True)
class Quantity:
    """A number with its unit, in SI."""

    value: float
    kind: Kind
    span: Span = field(compare=False)


@dataclass(frozen=True)
class Variable:
    """A name: kept by the routine, or a reading."""

    name: str
    span: Span = field(compare=False)


@dataclass(frozen=True)
class Binary:
    """Two values and a sign between them; ``0 - a`` for a minus before one."""

    sign: str
    a: Expression
    b: Expression
    span: Span = field(compare=False)
    at: Span = field(compare=False)
    """Of the sign."""


@dataclass(frozen=True)
class Call:
    """A function of values."""

    name: str
    args: tuple[Expression, ...]
    span: Span = field(compare=False)


Expression = Quantity | Variable | Binary | Call

# --- conditions ---


@dataclass(frozen=True)
class Compare:
    """Two values compared: by <, <=, >, >=, is, is not."""

    sign: str
    a: Expression
    b: Expression
    span: Span = field(compare=False)


@dataclass(frozen=True)
class IsState:
    """A sensor that is heard or silent, an attachment that is there, on or off."""

    of: Expression
    state: str
    span: Span = field(compare=False)


@dataclass(frozen=True)
class Not:
    """The opposite."""

    of: Condition
    span: Span = field(compare=False)


@dataclass(frozen=True)
class Group:
    """Two conditions: ``and`` or ``or``."""

    word: str
    a: Condition
    b: Condition
    span: Span = field(compare=False)


Condition = Compare | IsState | Not | Group

# --- parts of steps ---


@dataclass(frozen=True)
class Amount:
    """How far or how long."""

    value: Expression


@dataclass(frozen=True)
class Place:
    """A place on the field."""

    x: Expression
    y: Expression


@dataclass(frozen=True)
class Otherwise:
    """The action at a limit: ``stop``, ``go on`` or ``do``, then with a move's name and its arguments."""

    what: str
    name: str = ""
    args: tuple[tuple[str, Expression, Span], ...] = ()
    span: Span = field(default=Span(0, 0), compare=False)


@dataclass(frozen=True)
class Options:
    """The options of a motion, or of a step that waits."""

    at: Expression | None = None
    gyro: bool | None = None
    until: Condition | None = None
    most: Expression | None = None
    otherwise: Otherwise | None = None
    twice: tuple[tuple[str, Span], ...] = field(default=(), compare=False)
    """Options that are said more than once."""


@dataclass(frozen=True)
class Node:
    """A line: which form it has, and the parts of that form by name."""

    form: str
    span: Span = field(compare=False)
    parts: dict[str, Any]
    options: Options = Options()

    def __getitem__(self, name: str) -> Any:
        return self.parts.get(name)
