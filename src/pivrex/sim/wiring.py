"""The true wiring of a robot, which may differ from its rig; and faults to practise on."""

from __future__ import annotations

import random
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from math import pi

from pivrex.errors import PivrexError
from pivrex.rig.outputs import Output
from pivrex.rig.rig import Rig

__all__ = ["Wiring", "faulty", "ports_of", "wiring_of"]


@dataclass(frozen=True)
class Wiring:
    """Which motor sits on which port and which way everything counts. Motors are named as in `motor_names`.

    Attributes
    ----------
    plugs : port to (motor, sign)
        The motor on each port, and 1 if a positive output turns its wheel forward (a steering motor: to the left).
    encoders : motor to sign
        1 if its encoder counts up while its wheel rolls forward (turns left).
    gyro : float
        1 if its heading rises while the robot turns left.
    up : float
        1 if the side sensor reads +1 g on the wheels.
    tilt : float
        1 if the tilt sensor's lean grows while the robot leans forward.
    offsets, senses : wheel to angle in rad, and to sign
        What the absolute sensors read straight ahead, and 1 if they rise while the wheel turns left.
    smallest : motor to (free, loaded)
        The smallest drive that turns it with the wheels up, and on the floor.
    """

    plugs: Mapping[str, tuple[str, float]]
    encoders: Mapping[str, float]
    gyro: float = 1.0
    up: float = 1.0
    tilt: float = 1.0
    offsets: Mapping[str, float] = field(default_factory=dict)
    senses: Mapping[str, float] = field(default_factory=dict)
    smallest: Mapping[str, tuple[float, float]] = field(default_factory=dict)


def ports_of(rig: Rig) -> dict[str, Output]:
    """Name every port of a rig, in the order of its motors: by what is printed there, else by its pins."""
    return {_port(name, output): output for name, output in zip(rig.motor_names, rig.outputs().values(), strict=True)}


def _port(motor: str, output: Output) -> str:
    if output.port:
        return output.port
    pins = output.pins()
    return f"pin {' and '.join(str(p) for p in pins.values())}" if pins else f"where {motor} sits"


def wiring_of(rig: Rig) -> Wiring:
    """Return the wiring that a rig describes."""
    motors, names = list(rig.all_motors().values()), rig.motor_names
    signs = {name: -1.0 if m.reversed else 1.0 for name, m in zip(names, motors, strict=True)}
    sensors = {w: rig.steering.wheels[w].sensor for w in rig.steered if rig.steering is not None}
    return Wiring(
        plugs={port: (name, signs[name]) for port, name in zip(ports_of(rig), names, strict=True)},
        encoders={name: -1.0 if m.encoder_reversed else 1.0 for name, m in zip(names, motors, strict=True)},
        gyro=-1.0 if rig.gyro is not None and rig.gyro.reversed else 1.0,
        up=-1.0 if rig.upside_down is not None and rig.upside_down.reversed else 1.0,
        tilt=-1.0 if rig.tilt is not None and rig.tilt.reversed else 1.0,
        offsets={w: s.offset_rad for w, s in sensors.items() if s is not None},
        senses={w: -1.0 if s.reversed else 1.0 for w, s in sensors.items() if s is not None},
        smallest={name: (m.smallest, m.smallest) for name, m in zip(names, motors, strict=True)},
    )


def faulty(rig: Rig, words: str, seed: int = 0) -> Wiring:
    """Return a wiring with faults.

    Parameters
    ----------
    rig : Rig
        Says how it should be.
    words : str
        ``random``; ``none``; or, with commas between: ``swap A/B`` (two motors), ``reverse A`` (a motor), ``encoder A``,
        ``gyro``, ``up``, ``tilt``.
    seed : int
        For ``random``; the same one gives the same faults.

    Raises
    ------
    PivrexError
        If the words mean nothing, or name a motor that the rig has not.
    """
    wiring = wiring_of(rig)
    for word in (w.strip() for w in words.split(",")):
        wiring = _with(wiring, rig, word, seed)
    return wiring


def _with(wiring: Wiring, rig: Rig, word: str, seed: int) -> Wiring:  # noqa: PLR0911 - a case for each fault that has a name
    what, _, rest = word.partition(" ")
    names = rig.motor_names
    if what == "swap" and "/" in rest:
        a, b = (_known(n.strip(), names) for n in rest.split("/", 1))
        other = {a: b, b: a}
        return replace(wiring, plugs={p: (other.get(m, m), s) for p, (m, s) in wiring.plugs.items()})
    if what == "reverse" and rest:
        motor = _known(rest.strip(), names)
        return replace(wiring, plugs={p: (m, -s if m == motor else s) for p, (m, s) in wiring.plugs.items()})
    if what == "encoder" and rest:
        motor = _known(rest.strip(), names)
        return replace(wiring, encoders={m: -s if m == motor else s for m, s in wiring.encoders.items()})
    if word == "gyro":
        return replace(wiring, gyro=-wiring.gyro)
    if word == "up":
        return replace(wiring, up=-wiring.up)
    if word == "tilt":
        return replace(wiring, tilt=-wiring.tilt)
    if word == "random":
        return _random(wiring, random.Random(seed))
    if word == "none":
        return wiring
    raise PivrexError(
        f'the fault "{word}" is not known; known are random, none, swap A/B, reverse A, encoder A, gyro, up and tilt, with commas between'
    )


def _known(name: str, names: tuple[str, ...]) -> str:
    if name not in names:
        raise PivrexError(f'there is no motor "{name}"; the rig has {", ".join(names)}')
    return name


def _random(wiring: Wiring, chance: random.Random) -> Wiring:
    """Mix every plug, and flip every sign at random."""
    motors = [m for m, _ in wiring.plugs.values()]
    chance.shuffle(motors)

    def sign() -> float:
        return chance.choice((-1.0, 1.0))

    return replace(
        wiring,
        plugs={port: (motor, sign()) for port, motor in zip(wiring.plugs, motors, strict=True)},
        encoders={m: sign() for m in wiring.encoders},
        gyro=sign(),
        up=sign(),
        offsets={w: chance.uniform(-pi, pi) for w in wiring.offsets},
        senses={w: sign() for w in wiring.senses},
        smallest={m: (free := chance.uniform(0.02, 0.06), free + chance.uniform(0.01, 0.05)) for m in wiring.smallest},
        tilt=sign(),
    )
