"""The offsets of absolute steering sensors, read while all steered wheels point straight ahead."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.diagnosis.probes import Bench
from pivrex.rig.changes import Change, in_degrees
from pivrex.rig.rig import Rig
from pivrex.units import wrap_rad

__all__ = ["offset_changes"]

MIN_RAD = 0.002


def offset_changes(rig: Rig, sensed: NDArray[np.float64]) -> list[Change]:
    """Return the changed offsets, from the sensed values, (S,) in the order of `sensed_columns`."""
    bench, found = Bench(rig), []
    for i, wheel in enumerate(rig.steered):
        sensor = rig.steering.wheels[wheel].sensor if rig.steering is not None else None
        if sensor is None:
            continue
        offset = bench.absolute(i, sensed)
        if abs(wrap_rad(offset - sensor.offset_rad)) > MIN_RAD:
            found.append(
                Change(f"steering.wheels.{wheel}.sensor.offset", in_degrees(sensor.offset_rad), in_degrees(offset))
            )
    return found
