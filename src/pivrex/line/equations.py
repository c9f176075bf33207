"""Each wheel's kinematics in plain words, with its numbers."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.rig.chassis import Chassis

__all__ = ["equation", "point_equation", "sum_of"]

NAMES = ("forward", "left", "turn")


def equation(chassis: Chassis, wheel: int, upside_down: bool = False) -> str:
    """Write what a wheel must do for a motion: "forward − left − 0.31·turn", in m/s with turn in rad/s; with ``over`` that
    of a robot on its back.

    A steered wheel has two such sums, how fast its hub moves forward and left: its speed is their length, its angle their
    direction.
    """
    geometry = chassis.geometry
    every = (geometry.rows_upside_down if upside_down else geometry.rows) @ (
        geometry.clean_upside_down if upside_down else geometry.clean
    )
    rows = every[geometry.of_wheel == wheel]
    if len(rows) == 1:
        return sum_of(rows[0])
    return f"({sum_of(rows[0])}, {sum_of(rows[1])})"


def sum_of(row: np.ndarray) -> str:
    """Write a row of the wheel matrix as a sum."""
    text = ""
    for factor, name in zip(row.tolist(), NAMES, strict=True):
        if abs(factor) < 0.0005:
            continue
        size = f"{abs(factor):.3g}"
        part = name if size == "1" else f"{size}·{name}"
        sign = "−" if factor < 0 else "+"
        text += f" {sign} {part}" if text else f"−{part}" if factor < 0 else part
    return text or "nothing"


def point_equation(row: np.ndarray, forward: float, left: float, turn: float) -> str:
    """Write the same sum with a motion's numbers in it: "0.30 − 0.10 − 0.06", in m/s; "?" for one that no one knows."""
    terms = [float(f * v) for f, v in zip(row, (forward, left, turn), strict=True) if abs(f) >= 0.0005]
    text = ""
    for term in terms:
        sign = "−" if term < -0.0005 else "+"
        size = f"{abs(term):.2f}" if isfinite(term) else "?"
        text += f" {sign} {size}" if text else f"{'−' if sign == '−' else ''}{size}"
    return text or "0.00"
