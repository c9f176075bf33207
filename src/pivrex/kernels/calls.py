"""Runs a kernel for one robot or many, in a C library or as plain Python."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from ctypes import c_char_p, c_int64
from functools import cache
from itertools import pairwise
from math import prod
from struct import Struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels.records import Record, address_of

__all__ = ["Index", "KernelLoop"]

Floats = NDArray[np.float64]

Index = Mapping[str, NDArray[np.int64]]
"""For an argument's name which of its records each robot has."""

TOGETHER = 64
"""How many robots in one thread, of which each makes a tick."""


class KernelLoop:
    """A kernel as it is called from outside.

    Its arguments are records, rows of numbers and numbers. Each is of one robot, then it counts for all of them, or of a batch.

    Parameters
    ----------
    kernel : function
    writes : sequence of str
        The arguments that it writes; except scratch.
    first : sequence of Record
        Its first arguments, where they stay the same: settings.
    together : int
        Minimum number of robots for a thread of C: fewer are not worth a second one.
    """

    def __init__(
        self, kernel: Callable[..., None], writes: Sequence[str], *first: Record, together: int = TOGETHER
    ) -> None:
        self.together = together
        code = kernel.__code__
        self.names = names = code.co_varnames[: code.co_argcount]
        self.kernel, self.writes, self.first = kernel, tuple(writes), first
        self.is_number = [str(kernel.__annotations__[n]) in ("float", "<class 'float'>") for n in names]
        self.symbol = f"for_all_{kernel.__module__.rpartition('.')[2]}_{kernel.__name__.strip('_')}"
        self._written = [names.index(w) for w in writes]
        self._begin = ([r.address for r in first], [r.row_length for r in first], [r.form.address for r in first])
        self._rest = self.is_number[len(first) :]
        self._integers, self._numbers = Struct(f"{len(names)}q"), Struct(f"{sum(self.is_number)}d")
        self._standing = self._integers.pack(*([0] * len(names)))
        self._forms: tuple[list[Any], bytes] = (["none yet"], b"")
        self._run: tuple[Any, Any] = (None, None)

    # --- in C ---

    def in_c(
        self,
        library: Any,
        batch: tuple[int, ...],
        rest: Sequence[Any],
        in_order: bool = False,
        index: Index | None = None,
    ) -> None:
        """Run it in a C library; ``in_order`` where a robot reads what the one before it wrote. ``rest`` are its arguments without the
        first ones; ``index`` says for some which of their records each robot has.
        """
        if self._run[0] is not library:
            self._run = library, _function(library, self.symbol)
        if not batch:
            self._one(rest)
            return
        first, strides, forms = self._begin
        before, strides, forms = first.copy(), strides.copy(), forms.copy()
        numbers, kept = [], []
        for arg, is_number in zip(rest, self._rest, strict=True):
            if isinstance(arg, Record):
                before.append(arg.address)
                strides.append(arg.row_length)
                forms.append(arg.form.address)
                continue
            forms.append(0)
            if type(arg) is float or (is_number and np.ndim(arg) == 0):
                before.append(0)
                strides.append(0)
                numbers.append(float(arg))
                continue
            data = np.asarray(arg, np.float64, order="C")
            kept.append(data)  # it must live until the call is over
            before.append(address_of(data))
            strides.append(1 if is_number else data.shape[-1] if data.ndim > 1 else 0)
            if is_number:
                numbers.append(0.0)
        run, pack = self._run[1], self._integers.pack
        tail = pack(*strides), pack(*forms), self._numbers.pack(*numbers)
        robots = prod(batch)
        if robots < 2 * self.together or in_order or _cores() == 1:
            chosen = None
            if index is not None:
                kept += [np.ascontiguousarray(i, np.int64) for i in index.values()]
                places = dict(zip(index, kept[-len(index) :], strict=True))
                chosen = pack(*(address_of(places[n]) if n in places else 0 for n in self.names))
            run(robots, pack(*before), *tail, chosen)
            return
        self._in_threads(robots, before, strides, tail, (*self.first, *rest))

    def _one(self, rest: Sequence[Any]) -> None:
        """Run it for one robot: for each of its ticks, so in as few steps as may be."""
        places, forms = self._begin[0].copy(), list[Any]()
        numbers, kept = list[float](), []
        for arg in rest:
            if arg.__class__ is float:
                places.append(0)
                numbers.append(arg)
                forms.append(None)
            elif isinstance(arg, Record):
                places.append(arg._address or arg.address)
                forms.append(arg.form)
            else:
                data = np.asarray(arg, np.float64, order="C")
                kept.append(data)  # it must live until the call is over
                forms.append(None)
                if self._rest[len(forms) - 1]:
                    places.append(0)
                    numbers.append(data.item())
                else:
                    places.append(address_of(data))
        if forms != self._forms[0]:
            table = self._begin[2] + [f.address if f is not None else 0 for f in forms]
            self._forms = forms, self._integers.pack(*table)
        pack = self._integers.pack
        self._run[1](1, pack(*places), self._standing, self._forms[1], self._numbers.pack(*numbers), None)

    def _in_threads(
        self, robots: int, at: list[int], strides: list[int], tail: tuple[bytes, bytes, bytes], args: Sequence[Any]
    ) -> None:
        """Run it over the cores, each thread with a share of the robots."""
        pieces = min(_cores(), robots // self.together)
        jobs, kept = [], []
        for begin, end in pairwise(robots * k // pieces for k in range(pieces + 1)):
            there = [a + 8 * begin * s for a, s in zip(at, strides, strict=True)]
            for k, arg in enumerate(args):
                if isinstance(arg, Record) and arg.is_scratch:
                    own = arg.form.start()  # each thread computes in a place of its own
                    kept.append(own)
                    there[k] = own.address
            jobs.append(
                _pool(os.getpid()).submit(
                    self._run[1], end - begin, self._integers.pack(*there), tail[0], tail[1], tail[2], None
                )
            )
        for job in jobs:
            job.result()

    # --- as plain Python ---

    def plainly(self, batch: tuple[int, ...], rest: Sequence[Any], index: Index | None = None) -> None:
        """Run the Python function itself."""
        args = (*self.first, *rest)
        for robot in np.ndindex(batch):
            places = [(int(index[n][robot]),) if index is not None and n in index else robot for n in self.names]
            mine = [_plain(arg, at, number) for arg, at, number in zip(args, places, self.is_number, strict=True)]
            self.kernel(*mine)
            for k in self._written:
                arg = args[k]
                if isinstance(arg, Record):
                    arg.data[places[k] if arg.data.ndim > 1 else ()] = arg.form.from_plain(mine[k])
                else:
                    arg[places[k]] = mine[k]


def _function(library: Any, symbol: str) -> Any:
    found = getattr(library, symbol)
    found.argtypes, found.restype = [c_int64, *[c_char_p] * 5], None
    return found


def _plain(arg: Any, index: tuple[int, ...], is_number: bool) -> Any:
    """Return an argument as plain Python has it: an object of numbers and lists, a list, a float."""
    if isinstance(arg, Record):
        if arg.data.ndim > 1:
            return arg.form.to_plain(arg.data[index].tolist())
        return arg.plain if arg.is_settings or arg.is_scratch else arg.form.to_plain(arg.data.tolist())
    if isinstance(arg, float):
        return arg
    data = np.asarray(arg, np.float64)
    return (data[index] if data.ndim > (not is_number) else data).tolist()


@cache
def _cores() -> int:
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


@cache
def _pool(process: int) -> ThreadPoolExecutor:
    """Return the threads of a process: one that was forked has none of its parent's."""
    return ThreadPoolExecutor(_cores(), thread_name_prefix="kernels")
