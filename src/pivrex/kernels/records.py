"""Records: flat rows of named numbers, which kernels read and write, in Python and in C."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from ctypes import addressof, c_char
from functools import cached_property
from math import prod
from threading import local
from typing import Any, ClassVar, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "Flag", "Flags", "Form", "Number", "Numbers", "Record", "Whole", "Wholes", "address_of", "clear", "field", "pack", "part", "repeat",
]  # fmt: skip

Number = Any
"""A field's annotation: a number, float64."""

Numbers = Any
"""Numbers of some shape; a kernel's argument of this kind is a row of numbers without names."""

Whole = Any
Wholes = Any
"""Whole numbers."""

Flag = Any
Flags = Any
"""Yes or no, kept as 1.0 and 0.0."""

Floats = NDArray[np.float64]

Dimension = int | str
R = TypeVar("R", bound="Record")


class _Field:
    """A field of a record: on the desktop a view of its numbers, B + its shape."""

    def __init__(self, shape: tuple[Dimension, ...], unit: str) -> None:
        self.shape, self.unit, self.name = shape, unit, ""

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    def __get__(self, record: Record | None, owner: type) -> Any:
        if record is None:
            return self
        return record.form.view(record.data, self.name)


def part() -> Any:
    """Declare a field that is itself a record: its annotation says which."""
    return _Field((), "")


def field(*shape: Dimension, unit: str = "") -> Any:
    """Declare a field.

    Parameters
    ----------
    *shape : int or str
        Its dimensions, each a number or a name whose size the rig says; none for a single number.
    unit : str
    """
    return _Field(shape, unit)


class _Place(NamedTuple):
    kind: str
    start: int
    stop: int
    shape: tuple[int, ...]
    form: Form | None = None


class Form:
    """How the numbers of a record stand in a row, for one rig: it says how large each dimension is, and what form each part has.

    Attributes
    ----------
    record : type of Record
    size : int
        How many numbers a record has.
    table : int64
        For C: where each field begins, how large each dimension is, the size, where each part's own table begins, and those tables.
    """

    def __new__(cls, record: type[Record], /, *, is_absent: Any = False, **sizes: Any) -> Form:
        """Return the one form of a record with these sizes."""
        key = (record, is_absent, *sorted(sizes.items(), key=lambda item: item[0]))
        if key not in _FORMS:
            made = super().__new__(cls)
            made._build(record, is_absent, sizes)
            _FORMS[key] = made
        return _FORMS[key]

    def __reduce__(self) -> tuple[Any, ...]:
        return _again, (self.record, self.is_absent, self._sizes)

    def _build(self, record: type[Record], is_absent: bool, sizes: dict[str, int | Form | None]) -> None:
        self.record, self.is_absent, self._sizes = record, is_absent, sizes
        self.size: int
        self.table: NDArray[np.int64]
        self.places: dict[str, _Place] = {}
        at, tables = 0, []
        dimensions = {d: 0 if is_absent else int(sizes[d]) for d in record.dimensions}  # type: ignore[arg-type]
        for name, (kind, declared) in record.fields.items():
            form = sizes.get(name)
            if kind == "r" and not isinstance(form, Form):
                form = Form(record.part_type(name), is_absent=True)
            shape = tuple(dimensions[d] if isinstance(d, str) else d for d in declared.shape)
            length = form.size if isinstance(form, Form) else 0 if is_absent else prod(shape)
            self.places[name] = _Place(kind, at, at + length, shape, form if isinstance(form, Form) else None)
            at += length
            if isinstance(form, Form):
                tables.append(form.table)
        self.size = at
        own = [*(p.start for p in self.places.values()), *dimensions.values(), at]
        begins = np.cumsum([len(own) + len(tables), *(len(p) for p in tables)])[: len(tables)]
        self.table = np.concatenate([np.array([*own, *begins], np.int64), *tables]).astype(np.int64)
        self.address = address_of(self.table)
        self.plain = type(record.__name__, (), {"__slots__": tuple(self.places), "own_form": self})
        self._own = local()

    def view(self, data: Floats, name: str) -> Any:
        """Return a field of records, B + its shape; a part as records."""
        place = self.places[name]
        if place.kind == "r":
            if place.form is None or place.form.is_absent:
                raise AttributeError(f"this rig has no {name}")
            return place.form.record(place.form, data[..., place.start : place.stop])
        if not place.shape:
            return data[..., place.start]
        part = data[..., place.start : place.stop]
        return part if len(place.shape) == 1 else part.reshape(*data.shape[:-1], *place.shape)

    def start(self, batch: tuple[int, ...] = ()) -> Any:
        """Return records of zeros, for a batch of shape ``batch``."""
        return self.record(self, np.zeros((*batch, self.size)))

    @property
    def scratch(self) -> Any:
        """A record that this thread alone computes in."""
        try:
            return self._own.scratch
        except AttributeError:
            self._own.scratch = made = self.start()
            return made

    def of(self, batch: tuple[int, ...] = (), /, **values: Any) -> Any:
        """Return records with these values, numbers or arrays of B + their shape; all else 0."""
        made = self.start(batch)
        self.put(made.data, values)
        return made

    def put(self, data: Floats, values: Mapping[str, Any]) -> None:
        """Write values into fields of records."""
        for name, value in values.items():
            place = self.places[name]
            if place.kind == "r":
                data[..., place.start : place.stop] = value.data
            else:
                self.view(data, name)[...] = value

    # --- as plain Python ---

    @cached_property
    def to_plain(self) -> Callable[[list[float]], Any]:
        """A function from a row to an object with a float, an int, a bool or (nested) lists of them for each field."""
        lines = []
        for name, (kind, start, stop, shape, form) in self.places.items():
            if kind == "r":
                text = (
                    f"parts[{name!r}](row[{start}:{stop}])"
                    if form is not None and not form.is_absent
                    else f"absent[{name!r}]"
                )
            elif not shape:
                text = {"f": "row[{}]", "i": "int(row[{}])", "b": "row[{}] != 0.0"}[kind].format(start)
            else:
                text = {"f": "row[{}:{}]", "i": "[int(v) for v in row[{}:{}]]", "b": "[v != 0.0 for v in row[{}:{}]]"}[
                    kind
                ].format(start, stop)
                text = text if len(shape) == 1 else f"nested({text}, {shape})"
            lines.append(f"    made.{name} = {text}")
        return self._written("def f(row):\n    made = plain()", lines, "    return made")

    @cached_property
    def from_plain(self) -> Callable[[Any], list[float]]:
        """A function from such an object to a row."""
        parts = [
            f"*back[{name!r}](made.{name})" if p.form is not None else
            f"made.{name}" if not p.shape else f"*made.{name}" if len(p.shape) == 1 else f"*flat(made.{name}, {len(p.shape)})"
            for name, p in self.places.items() if p.form is None or not p.form.is_absent
        ]  # fmt: skip
        return self._written("def f(made):", [], f"    return [{', '.join(parts)}]")

    @cached_property
    def clear(self) -> Callable[[Any], None]:
        """A function that makes all numbers of such an object 0."""
        lines = []
        for name, (kind, _, _, shape, form) in self.places.items():
            zero = {"f": "0.0", "i": "0", "b": "False", "r": ""}[kind]
            if kind == "r":
                lines += [f"    clears[{name!r}](made.{name})"] if form is not None and not form.is_absent else []
            elif len(shape) < 2:
                lines.append(f"    made.{name}[:] = [{zero}] * {shape[0]}" if shape else f"    made.{name} = {zero}")
            else:
                lines.append(f"    made.{name}[:] = nested([{zero}] * {prod(shape)}, {shape})")
        return self._written("def f(made):", lines, "    return None")

    def overwrite(self, made: Any, by: Any) -> None:
        """Let such an object have the numbers of another, in the lists that it has."""
        for name, place in self.places.items():
            if place.form is not None:
                if not place.form.is_absent:
                    place.form.overwrite(getattr(made, name), getattr(by, name))
            elif place.shape:
                getattr(made, name)[:] = getattr(by, name)
            else:
                setattr(made, name, getattr(by, name))

    def nothing(self) -> Any:
        """Return the plain object of a part that this rig does not have: no kernel reads its numbers."""
        made = self.plain()
        for name, place in self.places.items():
            setattr(made, name, place.form.nothing() if place.form is not None else [] if place.shape else 0)
        return made

    def _written(self, head: str, lines: list[str], tail: str) -> Any:
        """Return a function whose text is written for this form: it runs for every tick of every robot."""
        own = {name: p.form for name, p in self.places.items() if p.form is not None}
        names: dict[str, Any] = {
            "plain": self.plain, "nested": _nested, "flat": _flat,
            "absent": {n: f.nothing() for n, f in own.items() if f.is_absent},
            "parts": {n: f.to_plain for n, f in own.items() if not f.is_absent},
            "back": {n: f.from_plain for n, f in own.items() if not f.is_absent},
            "clears": {n: f.clear for n, f in own.items() if not f.is_absent},
        }  # fmt: skip
        exec("\n".join([head, *lines, tail]), names)
        return names["f"]


def clear(record: Any) -> None:
    """Make all numbers of a record 0. For kernels."""
    record.own_form.clear(record)


def repeat(record: Any, into: Any) -> None:
    """Copy all numbers of a record into another of the same form. For kernels."""
    form = record.own_form
    form.overwrite(into, form.to_plain(form.from_plain(record)))


def pack(record: Any, row: Any, at: int) -> None:
    """Copy all numbers of a record into a row, from place ``at`` on. For kernels."""
    form = record.own_form
    row[at : at + form.size] = form.from_plain(record)


def _nested(values: list[Any], shape: tuple[int, ...]) -> list[Any]:
    for length in reversed(shape[1:]):
        values = [values[k : k + length] for k in range(0, len(values), length)] if length else [[]] * shape[0]
    return values


def _flat(values: list[Any], deep: int) -> list[float]:
    for _ in range(deep - 1):
        values = [one for part in values for one in part]
    return values


def address_of(data: NDArray[Any]) -> int:
    """Return where the numbers of a contiguous array stand."""
    if data.size and data.flags.writeable and data.flags.c_contiguous:
        return addressof(c_char.from_buffer(data))  # type: ignore[arg-type] # an array is a buffer
    return int(data.ctypes.data)


_FORMS: dict[Any, Form] = {}


def _again(record: type[Record], is_absent: bool, sizes: dict[str, Any]) -> Form:
    return Form(record, is_absent=is_absent, **sizes)


_KINDS = {"Number": "f", "Numbers": "f", "Whole": "i", "Wholes": "i", "Flag": "b", "Flags": "b"}


class Record:
    """The numbers of one robot, or of each of a batch of shape B, by name. Only kernels and `set` change it.

    Subclasses declare fields: ``name: Numbers = field("wheels", unit="m")``. Access gives a view, B + the field's shape.

    Attributes
    ----------
    form : Form
    data : B + (size,) float64, contiguous
    """

    __slots__ = ("_address", "_plain", "data", "form")

    fields: ClassVar[dict[str, tuple[str, _Field]]] = {}
    dimensions: ClassVar[tuple[str, ...]] = ()
    is_settings: ClassVar[bool] = False
    """Whether its numbers stay as they are: settings. Plain Python then takes them apart once."""
    is_scratch: ClassVar[bool] = False
    """Whether its numbers mean nothing between two calls: a place to compute in."""

    def __init_subclass__(cls) -> None:
        own = {n: f for n, f in vars(cls).items() if isinstance(f, _Field)}
        hidden = [n for n in own if n in vars(Record)]
        if hidden:
            raise TypeError(f"{cls.__name__}: a field cannot be called {hidden[0]}, as every record has that")
        cls.fields = {n: (_KINDS.get(str(cls.__annotations__[n]).split(".")[-1], "r"), f) for n, f in own.items()}
        cls.dimensions = tuple(dict.fromkeys(d for f in own.values() for d in f.shape if isinstance(d, str)))

    def __init__(self, form: Form, data: Floats) -> None:
        self.form, self.data = form, data
        self._address = 0
        self._plain: Any = None

    @classmethod
    def part_type(cls, name: str) -> type[Record]:
        """Return the record that a part is."""
        found: type[Record] = getattr(sys.modules[cls.__module__], str(cls.__annotations__[name]))
        return found

    def widened(self: R, batch: tuple[int, ...]) -> R:
        """Return the same for each robot of a batch."""
        return type(self)(self.form, np.broadcast_to(self.data, (*batch, self.form.size)).copy())

    @property
    def address(self) -> int:
        """Where its numbers stand, for C."""
        if not self._address:
            self._address = address_of(self.data)
        return self._address

    def part(self: R, name: str) -> Any:
        """Return a part, its place known for C."""
        found = self.form.view(self.data, name)
        found._address = self.address + 8 * self.form.places[name].start
        return found

    @property
    def row_length(self) -> int:
        """How many numbers on the next robot's stand; 0 if it is of one."""
        return self.data.strides[-2] // 8 if self.data.ndim > 1 else 0

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.form, self.data)

    @property
    def batch(self) -> tuple[int, ...]:
        """The batch's shape."""
        return self.data.shape[:-1]

    def _replace(self: R, **values: Any) -> R:
        """Return the same with other values, of a batch too; as for named tuples."""
        batches = [
            v.batch
            if isinstance(v, Record)
            else np.shape(v)[: np.ndim(v) - len(self.form.places[n].shape)]
            if np.ndim(v)
            else ()
            for n, v in values.items()
        ]
        made = self.widened(np.broadcast_shapes(self.batch, *batches))
        self.form.put(made.data, values)
        return made

    def take(self: R, index: Any) -> R:
        """Return some of a batch: what numpy makes of the index."""
        return type(self)(self.form, np.ascontiguousarray(self.data[index]))

    def get(self, name: str) -> float:
        """Return a single number of one robot."""
        return float(self.data[self.form.places[name].start])

    def set(self, **values: Any) -> None:
        """Write single numbers, of one robot or of each of a batch."""
        for name, value in values.items():
            self.data[..., self.form.places[name].start] = value

    def forget_plain(self) -> None:
        """Discard what plain Python made of settings: they were written."""
        self._plain = None

    @property
    def plain(self) -> Any:
        """The same as plain Python has it, for kernels that are called by themselves; of one robot, taken apart once."""
        if self._plain is None:
            self._plain = self.form.to_plain(self.data.tolist())
        return self._plain
