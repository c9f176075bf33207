"""Turns the result of a shakedown into changes of the rig, and writes them."""

from __future__ import annotations

import pickle
from functools import lru_cache
from pathlib import Path
from typing import Any

from pivrex.diagnosis.shakedown import Shakedown
from pivrex.errors import PivrexError
from pivrex.rig import Rig, read_text
from pivrex.rig.changes import SAME_RAD, Change, in_degrees, put_changes
from pivrex.sim.wiring import Wiring, wiring_of
from pivrex.units import wrap_rad

__all__ = ["correct_text", "corrections", "is_right"]


def corrections(shakedown: Shakedown) -> list[Change]:  # noqa: C901 - a case for each part of a rig that may be wired wrongly
    """Return the changes that the rig needs.

    Raises
    ------
    PivrexError
        If the shakedown has not found the one assignment, or the rig names no ports.
    """
    solution = shakedown.solution()
    if solution is None:
        raise PivrexError("the shakedown is not done yet, so there is nothing to correct")
    rig, bench = shakedown.rig, shakedown.bench
    keys, motors = list(rig.all_motors()), list(rig.all_motors().values())
    if any(k != p for p, k in enumerate(solution.motor_on)) and any("where " in port for port in bench.ports):
        raise PivrexError(f"{rig.name} names no ports, so plugs cannot be put right in it; give every output a port")
    offsets, agree = shakedown.sensor_facts()
    changes: list[Change] = []

    def change(key: str, before: Any, after: Any) -> None:
        if before != after:
            changes.append(Change(key, before, after))

    for port, k in enumerate(solution.motor_on):
        mine, there = (m.output.model_dump(by_alias=True, exclude_unset=True) for m in (motors[k], motors[port]))
        for name in dict.fromkeys([*mine, *there]):
            change(f"{keys[k]}.output.{name}", mine.get(name), there.get(name))
        change(f"{keys[k]}.reversed", motors[k].reversed, solution.signs[k] < 0)
        if bench.has_encoder[k] and motors[k].counts_per_turn:
            change(f"{keys[k]}.encoder_reversed", motors[k].encoder_reversed, solution.encoders[k] < 0)
        if bench.steers(k):
            sensor, wheel = rig.steering.wheels[bench.wheels[k][0]].sensor, bench.wheels[k][0]  # type: ignore[union-attr]
            if sensor is not None and wheel in offsets:
                sense = (
                    solution.encoders[k] * agree.get(wheel, 1) if motors[k].counts_per_turn else solution.encoders[k]
                )
                change(f"{keys[k]}.sensor.reversed", sensor.reversed, sense < 0)
                if abs(wrap_rad(offsets[wheel] - sensor.offset_rad)) > SAME_RAD:
                    change(f"{keys[k]}.sensor.offset", in_degrees(sensor.offset_rad), in_degrees(offsets[wheel]))
    if rig.upside_down is not None and shakedown.upright:
        change("upside_down.reversed", rig.upside_down.reversed, shakedown.upright < 0)
    if rig.tilt is not None and shakedown.tilt:
        change("tilt.reversed", rig.tilt.reversed, shakedown.tilt < 0)
    if rig.gyro is not None:
        change("gyro.reversed", rig.gyro.reversed, solution.gyro < 0)
    changes.sort(key=lambda c: keys.index(next((k for k in keys if c.key.startswith(k + ".")), keys[-1])))
    return changes


def correct_text(text: str, path: Path, changes: list[Change]) -> tuple[str, Rig]:
    """Put changes into a rig's text, comments kept; returns the text and the rig. Raises `RigError`."""
    import tomlkit

    document = pickle.loads(_parsed(text))
    put_changes(document, changes)
    changed = tomlkit.dumps(document)
    return changed, read_text(changed, path, Rig)


@lru_cache(maxsize=4)
def _parsed(text: str) -> bytes:
    """A rig's text as a document, pickled: whoever practises corrects the same text again and again."""
    import tomlkit

    return pickle.dumps(tomlkit.parse(text))


def is_right(rig: Rig, wiring: Wiring) -> bool:
    """Return whether a rig says what a wiring is."""
    said = wiring_of(rig)
    offsets = all(abs(wrap_rad(said.offsets[w] - wiring.offsets[w])) <= SAME_RAD for w in said.offsets)
    same_signs = {**said.encoders} == {**wiring.encoders} and {**said.senses} == {**wiring.senses}
    gyro = rig.gyro is None or said.gyro == wiring.gyro
    upright = rig.upside_down is None or said.up == wiring.up
    tilt = rig.tilt is None or said.tilt == wiring.tilt
    return {**said.plugs} == {**wiring.plugs} and same_signs and gyro and upright and tilt and offsets
