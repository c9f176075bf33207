"""The definition of a kernel: a plain function that can be printed as C."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

__all__ = ["kernel"]

F = TypeVar("F", bound=Callable[..., Any])


def kernel(function: F) -> F:
    """Say that a function is a kernel: arithmetic for one robot, written in the subset of Python that C can say.

    Notes
    -----
    *Values* are numbers (``float``), whole numbers (``int``) and yes or no (``bool``), rows of them (``Numbers``), and records. A
    name keeps the kind that it has first; a whole number becomes a number by ``1.0 * n``, a number a whole one by ``whole``.
    *Statements*: assignments, ``if``, ``for ... in range(...)``, ``while``, ``break``, ``continue``, ``return``, calls of kernels.
    *Expressions*: + - * with ``/`` where the divisor is a constant (else ``div``), ``%`` of whole numbers (else ``mod``), comparisons,
    ``and``, ``or``, ``not``, ``a if b else c``, ``abs``, ``len``, ``max`` and ``min`` of two whole numbers, and the functions of
    `pivrex.kernels.maths`. Nothing is made while it runs: what needs a place writes into a record of scratch.
    """
    return function
