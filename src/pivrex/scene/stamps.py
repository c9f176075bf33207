"""Robots that are drawn small: stamps made by hand for 16 directions, in quarters of a letter, each with a visible front."""

from __future__ import annotations

from functools import cache
from math import isfinite, pi

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.marks import role

__all__ = ["stamp_of"]

Bytes = NDArray[np.uint8]

_FIVE = (
    """
    ..........
    hhhhhhn...
    hhhhhhnnn.
    hhhhhhnnn.
    hhhhhhn...
    ..........
    """,
    """
    ......nn..
    ..hhhhnnn.
    hhhhhhnnn.
    .hhhhhhn..
    .hhhhh....
    ..........
    """,
    """
    ......nnn.
    ...hhhnnn.
    .hhhhhhnn.
    hhhhhhhh..
    ..hhhhh...
    ....h.....
    """,
    """
    .....nnn..
    ...nnnnn..
    ..hhhhhnn.
    .hhhhhhh..
    .hhhhhh...
    ...hhh....
    """,
    """
    ....nn....
    ...nnnn...
    ..hhhhhh..
    ..hhhhhh..
    ..hhhhhh..
    ..........
    """,
)
"""Five letters long, from pointing right to pointing up in steps of a 16th of a turn: h is the body, n the front."""

_THREE = (
    """
    ......
    hhhhnn
    hhhhnn
    ......
    """,
    """
    ....nn
    hhhhnn
    hhhhn.
    ......
    """,
    """
    ....nn
    .hhhnn
    .hhhh.
    ..hh..
    """,
    """
    ...nn.
    ..nnn.
    .hhhh.
    .hhhh.
    """,
    """
    ..nn..
    .hnnh.
    .hhhh.
    .hhhh.
    """,
)
"""Three letters long."""


@cache
def _drawn(sixteenth: int, hull: str, small: bool) -> Bytes:
    quarter, step = divmod(sixteenth, 4)
    # what points left or down is what points right or up, seen in a mirror
    at, mirrored, turned = ((step, False, False), (4 - step, True, False), (step, True, True), (4 - step, False, True))[
        quarter
    ]
    rows = (_THREE if small else _FIVE)[at].split()
    numbers = {".": 0, "h": role(hull), "n": role("nose")}
    stamp = np.array([[numbers[c] for c in row] for row in rows], np.uint8)
    return stamp[:: -1 if turned else 1, :: -1 if mirrored else 1]


def stamp_of(heading: float, hull: str) -> tuple[Bytes, Bytes]:
    """Return the stamp of a robot that points in a direction, in rad: roles in quarters, for drawings three and five letters long."""
    sixteenth = round(heading / (pi / 8)) % 16 if isfinite(heading) else 0
    return _drawn(sixteenth, hull, True), _drawn(sixteenth, hull, False)
