"""Kernels: arithmetic that is written once, as in a textbook, for one robot. It runs as plain Python, or as C."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.kernels.engines import Call, Engine, engine
    from pivrex.kernels.records import Form, Record, field
    from pivrex.kernels.subset import kernel

__all__ = ["Call", "Engine", "Form", "Record", "engine", "field", "kernel"]

__getattr__ = showing(
    "pivrex.kernels", engines="Call Engine engine", records="Form Record field", subset="kernel"
)  # fmt: skip
