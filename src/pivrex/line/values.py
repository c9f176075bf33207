"""One code for one robot and for thousands: a value is a Python float, or an array with a number for each robot.

A step of a body, or of a loop, is a hundred sums of single numbers. For one robot numpy would spend a microsecond on each, Python
spends a twentieth; for thousands numpy works through them at once. Both round alike: sums, products, quotients and square
roots are exactly rounded (IEEE 754), and whatever else is needed comes from numpy in both.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import sqrt
from typing import Any, Protocol

import numpy as np

from pivrex.line.layout import Floats

__all__ = ["ALONE", "MANY", "Ops", "Value", "joined", "ops_of", "parts", "single", "whole"]

Value = Any
"""A float, or float64 of shape B."""


class Ops(Protocol):
    """What cannot be written alike for a float and for an array."""

    def sqrt(self, value: Value) -> Value: ...
    def where(self, flag: Any, yes: Value, no: Value) -> Value: ...
    def most(self, a: Value, b: Value) -> Value: ...
    def least(self, a: Value, b: Value) -> Value: ...
    def within(self, value: Value, most: Value) -> Value: ...
    def no(self, flag: Any) -> Any: ...
    def some(self, flag: Any) -> bool: ...
    def turned(self, angle: Value) -> tuple[Value, Value]: ...


class _Alone:
    @staticmethod
    def sqrt(value: float) -> float:
        return sqrt(value)

    @staticmethod
    def where(flag: bool, yes: float, no: float) -> float:
        return yes if flag else no

    @staticmethod
    def most(a: float, b: float) -> float:
        return (a if a > b else b) + 0.0

    @staticmethod
    def least(a: float, b: float) -> float:
        return (a if a < b else b) + 0.0

    @staticmethod
    def within(value: float, most: float) -> float:
        return most if value > most else -most if value < -most else value

    @staticmethod
    def no(flag: bool) -> bool:
        return not flag

    @staticmethod
    def some(flag: bool) -> bool:
        return flag

    @staticmethod
    def turned(angle: float) -> tuple[float, float]:
        return float(np.cos(angle)), float(np.sin(angle))


class _Many:
    sqrt = staticmethod(np.sqrt)
    no = staticmethod(np.logical_not)
    where = staticmethod(np.where)

    @staticmethod
    def most(a: Value, b: Value) -> Value:
        return np.maximum(a, b) + 0.0  # no zero with a sign

    @staticmethod
    def least(a: Value, b: Value) -> Value:
        return np.minimum(a, b) + 0.0

    @staticmethod
    def within(value: Value, most: Value) -> Value:
        return np.where(value > most, most, np.where(value < -most, -most, value))

    @staticmethod
    def some(flag: Any) -> bool:
        return bool(flag.any() if isinstance(flag, np.ndarray | np.bool_) else flag)

    @staticmethod
    def turned(angle: Value) -> tuple[Value, Value]:
        return np.cos(angle), np.sin(angle)


ALONE: Ops = _Alone()
MANY: Ops = _Many()


def ops_of(batch: tuple[int, ...]) -> Ops:
    """Give what works on values of a batch shape."""
    return MANY if batch else ALONE


def parts(array: Floats) -> list[Value]:
    """Take the numbers along the last axis apart."""
    last = array.ndim - 1
    return array.tolist() if not last else list(np.ascontiguousarray(array.transpose(last, *range(last))))


def single(array: Floats) -> Value:
    """Give an array of shape B as a value."""
    return array.item() if array.ndim == 0 else array


def whole(value: Value, batch: tuple[int, ...]) -> Floats:
    """Give a value as an array of shape B."""
    if not batch:
        return np.array(value, np.float64)
    array = np.asarray(value, np.float64)
    return array if array.shape == batch else np.broadcast_to(array, batch)


def joined(values: Sequence[Value], batch: tuple[int, ...]) -> Floats:
    """Put values together along a last axis, B + (N,)."""
    if not batch:
        return np.array(values, np.float64)
    whole = np.empty((*batch, len(values)))
    for k, value in enumerate(values):
        whole[..., k] = value
    return whole
