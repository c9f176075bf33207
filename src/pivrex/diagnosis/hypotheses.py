"""The hypotheses of crossed wires: every assignment of ports, motor signs, encoder signs and gyro sign that explains all observations.

Nothing is guessed and nothing is weighed: an assignment stays until an answer rules it out.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from math import log2
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["SIGNS", "Answer", "Assignment", "Wire", "WiringHypotheses", "permanent"]

Bools = NDArray[np.bool_]
Counts = NDArray[np.int64]

SIGNS = (1, -1)


class Wire(NamedTuple):
    """A hypothesis about one port: the motor on it, its sign, its encoder's sign, and the gyro's sign."""

    motor: int
    sign: int
    encoder: int
    gyro: int


class Assignment(NamedTuple):
    """One complete explanation: for each port its motor, for each motor both signs, and the gyro's sign."""

    motor_on: tuple[int, ...]
    signs: tuple[int, ...]
    encoders: tuple[int, ...]
    gyro: int


@dataclass(frozen=True, eq=False)
class Answer:
    """The observation after one probe.

    Attributes
    ----------
    port : int
        The port that was driven.
    said : str
        The answer in words, with who gave it.
    allows : (K, 2, 2, 2) bool
        For each motor, its sign, its encoder's sign and the gyro's sign (see `SIGNS`): whether that explains it.
    by_person : bool
        Whether a person said so.
    """

    port: int
    said: str
    allows: Bools
    by_person: bool


class WiringHypotheses:
    """All assignments of K motors to K ports that explain the answers so far.

    Each port's answers allow a set of wires; an assignment takes one for each port, with different motors and one gyro.
    So the assignments need not be listed: for each gyro sign their number is the permanent of the K × K matrix of how
    many wires each port and motor allow. (Brualdi & Ryser, Combinatorial Matrix Theory, ch. 7.)

    Parameters
    ----------
    has_encoder : sequence of bool
        For each motor; the sign of an encoder that is not there is not asked for.
    has_gyro : bool
    """

    def __init__(self, has_encoder: list[bool], has_gyro: bool) -> None:
        self.count = len(has_encoder)
        free = np.ones((self.count, 2, 2, 2), bool)
        for k, there in enumerate(has_encoder):
            free[k, :, 1, :] = there
        free[:, :, :, 1] &= has_gyro
        self._free = free
        self.answers: list[Answer] = []

    def take(self, answer: Answer) -> None:
        """Take an answer, whether it fits the others or not."""
        self.answers.append(answer)

    def withdraw(self, answer: Answer) -> None:
        """Take an answer back."""
        self.answers = [a for a in self.answers if a is not answer]

    def open(self, answers: list[Answer] | None = None) -> Bools:
        """Return which wires each port still allows, (K, K, 2, 2, 2): port, motor, sign, encoder, gyro."""
        found = np.repeat(self._free[None], self.count, axis=0)
        for answer in self.answers if answers is None else answers:
            found[answer.port] &= answer.allows
        return found

    def size(self, answers: list[Answer] | None = None) -> int:
        """Count the assignments that are left."""
        wires = self.open(answers)
        return sum(permanent(_numbers(wires, g)) for g in range(2))

    def assignments(self) -> Iterator[Assignment]:
        """List the assignments that are left, one after another."""
        wires = self.open()
        for g in range(2):
            for chosen in _choose(wires[..., g], 0, frozenset()):
                signs, encoders = [0] * self.count, [0] * self.count
                for k, m, e in chosen:
                    signs[k], encoders[k] = SIGNS[m], SIGNS[e]
                yield Assignment(tuple(k for k, _, _ in chosen), tuple(signs), tuple(encoders), SIGNS[g])

    def possible(self) -> Bools:
        """Return which wires take part in at least one assignment that is left; shape as `open`."""
        wires = self.open()
        for g in range(2):
            numbers = _numbers(wires, g)
            for p in range(self.count):
                for k in range(self.count):
                    if not numbers[p, k] or not permanent(_minor(numbers, p, k)):
                        wires[p, k, :, :, g] = False
        return wires

    def outcomes(self, port: int, outcome: Callable[[Wire], Hashable]) -> dict[Hashable, int]:
        """Count, for a probe of a port, how many assignments would lead to each outcome."""
        wires = self.open()
        found: dict[Hashable, int] = {}
        for g in range(2):
            numbers = _numbers(wires, g)
            for k in range(self.count):
                if not numbers[port, k]:
                    continue
                rest = permanent(_minor(numbers, port, k))
                for m, e in itertools.product(range(2), repeat=2):
                    if rest and wires[port, k, m, e, g]:
                        seen = outcome(Wire(k, SIGNS[m], SIGNS[e], SIGNS[g]))
                        found[seen] = found.get(seen, 0) + rest
        return found

    def tells(self, port: int, outcome: Callable[[Wire], Hashable]) -> float:
        """Return how much a probe of a port is expected to tell, in bits: the entropy of its outcomes."""
        counts = self.outcomes(port, outcome).values()
        total = sum(counts)
        return sum(c / total * log2(total / c) for c in counts) if total else 0.0

    def allowed(self, outcome: Callable[[Wire], Hashable], seen: Hashable) -> Bools:
        """Return which wires, (K, 2, 2, 2), would have led to what was seen."""
        found = np.zeros((self.count, 2, 2, 2), bool)
        for k, m, e, g in np.ndindex(*found.shape):
            found[k, m, e, g] = outcome(Wire(k, SIGNS[m], SIGNS[e], SIGNS[g])) == seen
        return found

    def contradiction(self) -> list[Answer]:
        """Return the fewest answers that cannot all be true together, the newest among them; empty if there are none.

        Pairs are looked for first, then larger sets; each answer of the set given is needed for it.
        """
        if not self.answers or self.size():
            return []
        newest = self.answers[-1]
        for other in self.answers[:-1]:
            if not self.size([other, newest]):
                return [other, newest]
        if not self.size([newest]):
            return [newest]
        kept = list(self.answers)
        for answer in self.answers:
            fewer = [a for a in kept if a is not answer]
            if fewer and not self.size(fewer):
                kept = fewer
        return kept


def _choose(wires: Bools, port: int, taken: frozenset[int]) -> Iterator[tuple[tuple[int, int, int], ...]]:
    """Take a wire (motor, sign, encoder) for each port from this one on, with motors that are not taken."""
    if port == len(wires):
        yield ()
        return
    for k, m, e in np.argwhere(wires[port]).tolist():
        if k not in taken:
            for rest in _choose(wires, port + 1, taken | {k}):
                yield ((k, m, e), *rest)


def _numbers(wires: Bools, gyro: int) -> Counts:
    return np.asarray(wires[..., gyro].sum(axis=(2, 3)), np.int64)


def _minor(numbers: Counts, row: int, column: int) -> Counts:
    n = len(numbers)
    return numbers[_without(n, row)[:, None], _without(n, column)]


@lru_cache(maxsize=1024)
def _without(n: int, one: int) -> NDArray[np.intp]:
    return np.array([k for k in range(n) if k != one], np.intp)


def permanent(matrix: Counts) -> int:
    """Count the ways to take one entry from each row, all from different columns, weighted by their products.

    Notes
    -----
    Ryser's formula: the signed sum over all sets of columns of the product of the row sums over that set. Exact in whole
    numbers.
    """
    return _permanent(np.ascontiguousarray(matrix, np.int64).tobytes(), len(matrix))


@lru_cache(maxsize=1 << 14)
def _permanent(numbers: bytes, n: int) -> int:
    """The same matrices come again and again while the next probe is looked for."""
    matrix = np.frombuffer(numbers, np.int64).reshape(n, n)
    if n == 0:
        return 1
    # ports that allow one motor only need no formula
    for row in range(n):
        there = np.flatnonzero(matrix[row])
        if len(there) == 0:
            return 0
        if len(there) == 1:
            return int(matrix[row, there[0]]) * permanent(_minor(matrix, row, int(there[0])))
    sets, signs = _subsets(n)
    return int((signs * np.prod(sets @ matrix.T, axis=1)).sum())


@lru_cache(maxsize=16)
def _subsets(n: int) -> tuple[Counts, Counts]:
    sets = (np.arange(2**n)[:, None] >> np.arange(n)) & 1
    return sets.astype(np.int64), np.where((n - sets.sum(axis=1)) % 2, -1, 1).astype(np.int64)
