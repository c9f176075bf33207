"""Chassis for tests: written by hand, drawn at random, and a rigid body that knows no matrix."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
from hypothesis import strategies as st

from pivrex.rig import Rig, read_rig, read_text
from tests.support import DEMO, often

Wheel = tuple[float, float, float, float | None, bool]
"""x, y in m, drive in rad, rollers in rad or None, steered."""

ALL = ("plover", "coot", "bittern", "dunlin", "avocet")

SOME = ("plover", "bittern", "avocet", "coot", "dunlin")[: often(5, 3)]
"""The robots that long drives are tried with: one of each way to move, and all of them with `script/test --long`."""


def demo_path(name: str) -> Path:
    return DEMO / "rigs" / f"{name}.toml"


def bare(rig: Rig) -> Rig:
    """A rig without what it has in addition to its wheels: no attachments, no sensors, and no buttons for them."""
    kept = tuple(b for b in rig.bindings if not any(b.does.startswith(name) for name in rig.attachments))
    return rig.model_copy(update={"attachments": {}, "sensors": {}, "bindings": kept})


def ideal(name: str) -> Rig:
    """A demo's robot that does what it is told to the bit: no body, no friction, motors all alike."""
    rig = read_rig(demo_path(name))
    motors = {n: m.model_copy(update={"smallest": 0.0, "strength": 1.0}) for n, m in rig.motors.items()}
    steering = rig.steering
    if steering is not None:
        wheels = {n: w.model_copy(update={"smallest": 0.0}) for n, w in steering.wheels.items()}
        steering = steering.model_copy(update={"wheels": wheels})
    odometry = rig.odometry.model_copy(update={"pivot_m": None})  # nothing is dragged
    return rig.model_copy(
        update={"body": None, "control": None, "motors": motors, "steering": steering, "odometry": odometry}
    )


def rig_text(wheels: list[Wheel], extra: str = "", top: str = "10 rad/s", radius: str = "100 mm") -> str:
    """Write a rig with a motor of 10 rad/s (1 m/s) for each wheel; steered wheels turn at 20 rad/s."""
    lines = ['name = "Test"', 'lag = "0 s"', "[chassis]", 'length = "400 mm"', 'width = "400 mm"', "wheels = ["]
    for i, (x, y, drive, rollers, steered) in enumerate(wheels):
        parts = [f'name = "w{i}"', f'x = "{x!r} m"', f'y = "{y!r} m"', f'radius = "{radius}"']
        if steered:
            parts.append("steered = true")
        elif drive:
            parts.append(f'drive = "{drive!r} rad"')
        if rollers is not None:
            parts.append(f'rollers = "{rollers!r} rad"')
        lines.append("    { " + ", ".join(parts) + " },")
    lines.append("]")
    for i, _ in enumerate(wheels):
        lines += [f"[motors.w{i}]", f'wheels = ["w{i}"]', f'top_speed = "{top}"', "counts_per_turn = 10",
                  f'output = {{ kind = "fraction", port = "D{i}" }}']  # fmt: skip
    if any(w[4] for w in wheels):
        for i, wheel in enumerate(wheels):
            if wheel[4]:
                lines += [f"[steering.wheels.w{i}]", 'top_speed = "20 rad/s"', "counts_per_turn = 10",
                          f'output = {{ kind = "fraction", port = "T{i}" }}']  # fmt: skip
    text = "\n".join(lines) + "\n" + extra
    return text if "[law]" in extra else text + '[law]\nkind = "arcade"\n'


def rig_of(wheels: list[Wheel], extra: str = "", **keys: str) -> Rig:
    return read_text(rig_text(wheels, extra, **keys), Path("test.toml"), Rig)


PLANAR = '[gyro]\n[law]\nkind = "planar"\n[shaping]\n' + "".join(
    f"[shaping.{f}]\ndead_band = 0\n" for f in ("forward", "sideways", "turn")
)

DEG45 = math.pi / 4
MECANUM: list[Wheel] = [
    (0.2, 0.15, 0.0, -DEG45, False),
    (0.2, -0.15, 0.0, DEG45, False),
    (-0.2, 0.15, 0.0, DEG45, False),
    (-0.2, -0.15, 0.0, -DEG45, False),
]
THREE_OMNI: list[Wheel] = [
    (0.1 * math.cos(a), 0.1 * math.sin(a), a + math.pi / 2, 0.0, False) for a in (0.0, 2 * math.pi / 3, 4 * math.pi / 3)
]
FOUR_OMNI: list[Wheel] = [
    (0.2 * x, 0.2 * y, math.atan2(y, x) + math.pi / 2, 0.0, False) for x in (1, -1) for y in (1, -1)
]
STEERED: list[Wheel] = [(0.2 * x, 0.2 * y, 0.0, None, True) for x in (1, -1) for y in (1, -1)]

spots = st.lists(st.tuples(st.floats(-1, 1), st.floats(-1, 1)), min_size=3, max_size=6, unique=True)
drives = st.floats(-math.pi, math.pi)
rollers = st.one_of(st.none(), st.floats(-1.2, 1.2))
twists = st.tuples(st.floats(-2, 2), st.floats(-2, 2), st.floats(-3, 3))


@st.composite
def any_wheels(draw: st.DrawFn) -> list[Wheel]:
    """Wheels of every kind, anywhere."""
    wheels: list[Wheel] = []
    for x, y in draw(spots):
        steered = draw(st.booleans())
        wheels.append((x, y, 0.0 if steered else draw(drives), None if steered else draw(rollers), steered))
    return wheels


def hub_by_moving(x: float, y: float, twist: tuple[float, float, float]) -> tuple[float, float]:
    """The velocity of a point of a rigid body, by moving the body a little: nothing here knows the matrix."""
    h = 1e-6

    def where(t: float) -> tuple[float, float]:
        turned = twist[2] * t
        return (
            twist[0] * t + math.cos(turned) * x - math.sin(turned) * y,
            twist[1] * t + math.sin(turned) * x + math.cos(turned) * y,
        )

    (ax, ay), (bx, by) = where(-h), where(h)
    return (bx - ax) / (2 * h), (by - ay) / (2 * h)


def rolled(wheel: Wheel, hub: tuple[float, float]) -> float:
    """The surface speed of a wheel that is not steered, by splitting the hub's velocity into two slanting parts.

    The hub moves by s along the drive direction plus what the rollers roll, which is square to their axis: two
    unknowns, two equations.
    """
    _, _, drive, slant, _ = wheel
    if slant is None:
        return hub[0] * math.cos(drive) + hub[1] * math.sin(drive)
    free = drive + slant + math.pi / 2
    columns = np.array([[math.cos(drive), math.cos(free)], [math.sin(drive), math.sin(free)]])
    return float(np.linalg.solve(columns, np.array(hub))[0])
