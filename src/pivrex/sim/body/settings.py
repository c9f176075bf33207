"""What a real body is made of, taken from a rig, under conditions that may differ from robot to robot of a batch."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import cos, exp, sin, sqrt
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats
from pivrex.line.values import Value
from pivrex.rig.body import Body
from pivrex.rig.rig import Rig

__all__ = ["BodySettings", "Conditions", "Contact", "MotorSettings", "settings_of"]

GRAVITY_M_S2 = 9.81

QUICKEST_S = 0.02
"""A robot without a lag would need motors without end."""

ROTOR_SHARE = 1 / 6
"""What is turned is as hard to bring to speed as this share of the mass that rests on it, if the rig does not say."""

BOARD_S = 0.02
"""Over so long accelerations are averaged before they shift the load: a frame and its tyres give way a little."""

FULL, NEARLY, EMPTY = 1.06, 0.95, 0.70
"""A battery's voltage beside its nominal one when it is full, at a tenth, and empty."""


SOFT_M_S = 0.02
"""A tyre that slips this fast gives 70 % of its grip: the belt of rubber that gives way before it slides."""


@dataclass(frozen=True)
class Conditions:
    """How a robot, or each of a batch of shape B, differs from its rig: factors, float or B float64.

    Attributes
    ----------
    mass, grip, noise, resistance : factor
        Of the mass, of every tyre's grip, of the gyro's bias, drift and noise, of the battery's resistance.
    charge : float or None
        How full the battery is, instead of what the rig says.
    strength : mapping of motor to factor
    """

    mass: Value = 1.0
    grip: Value = 1.0
    noise: Value = 1.0
    resistance: Value = 1.0
    charge: Value | None = None
    strength: dict[str, Value] = field(default_factory=dict)


Way = tuple[float, float, float]

Terms = tuple[tuple[int, float], ...]
"""Where something is added, and how many times."""

PAIRS = ((0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2))
"""The upper half of a symmetric 3 × 3 matrix."""


class Sparse(NamedTuple):
    """What a contact that is not steered adds to the equations, without what is 0: most of it is.

    Attributes
    ----------
    slip : pair of Terms
        Of the twist to the floor's speed along each direction.
    body : pair of Terms
        Of what holds it along each direction to the body's matrix, by the places of `PAIRS`.
    row, own : pair of Terms, pair of float
        And to its motor's row and to its own term.
    """

    slip: tuple[Terms, Terms]
    body: tuple[Terms, Terms]
    row: tuple[Terms, Terms]
    own: tuple[float, float]

    @classmethod
    def of(cls, first: Way, second: Way, rolls: tuple[float, float]) -> Sparse:
        """Take them from the rows of both directions, and what the wheel takes of each."""

        def terms(values: list[float]) -> Terms:
            return tuple((k, v) for k, v in enumerate(values) if v != 0)

        ways = ((first, rolls[0]), (second, rolls[1]))
        slip = [terms(list(way)) for way, _ in ways]
        body = [terms([way[i] * way[j] for i, j in PAIRS]) for way, _ in ways]
        row = [terms([-roll * one for one in way]) for way, roll in ways]
        own = rolls[0] * rolls[0], rolls[1] * rolls[1]
        return cls((slip[0], slip[1]), (body[0], body[1]), (row[0], row[1]), own)


@dataclass(frozen=True)
class Contact:
    """A wheel, a caster or a skid on the floor. Its two directions are square to each other, and lie flat.

    Attributes
    ----------
    x, y : float
        From the mass centre, in m.
    first, second : (float, float, float)
        How fast the floor passes along each direction, for each unit of the body's twist (about its mass centre).
    turn : int
        The place of a steered wheel among the steered ones, -1 for others: then its directions follow its angle.
    rolls : (float, float)
        What of the floor's speed along each direction the wheel takes away, in m for each rad/s of its motor.
    motor : int
        -1 for a caster.
    grip : (value, value)
        Friction along each direction.
    plain : bool
        Whether a tyre that slips along its second direction is dragged; rollers and casters are free there.
    """

    x: float
    y: float
    first: tuple[float, float, float]
    second: tuple[float, float, float]
    turn: int
    rolls: tuple[float, float]
    motor: int
    grip: tuple[Value, Value]
    plain: bool
    sums: Sparse = field(init=False)
    squares: tuple[Value, Value] = field(init=False)
    soft: Value = field(init=False)
    loose: Value = field(init=False)

    def __post_init__(self) -> None:
        first, second = self.grip[0] * self.grip[0], self.grip[1] * self.grip[1]
        most = np.maximum(first, second)
        most = float(most) if np.ndim(most) == 0 else most
        object.__setattr__(self, "sums", Sparse.of(self.first, self.second, self.rolls))
        object.__setattr__(self, "squares", (first, second))
        object.__setattr__(self, "soft", most * (SOFT_M_S * SOFT_M_S))
        # twice the slip at which 70 % of the grip is there
        object.__setattr__(self, "loose", 2.0 * np.sqrt(most) * SOFT_M_S)


@dataclass(frozen=True)
class MotorSettings:
    """A driving motor, seen at its wheels' axle.

    Attributes
    ----------
    stall : float
        Torque while held, at nominal voltage and full strength, in N·m, behind the gear.
    free : float
        The rate without any load, in rad/s.
    strength : value
    amps : float
        The current while held, in A.
    breakaway, lifted, running : float
        Friction of a wheel that stands on the floor, or in the air, and of one that turns, in N·m.
    inertia : float
        In kg·m².
    """

    stall: float
    free: float
    strength: Value
    amps: float
    breakaway: float
    lifted: float
    running: float
    inertia: float


@dataclass(frozen=True)
class BodySettings:
    """A body. Values are floats or arrays of a batch's shape.

    Attributes
    ----------
    mass, inertia : value
        In kg, and about the upright axis through the mass centre in kg·m².
    centre : (float, float)
        Where the mass sits, forward and left of the robot's centre, in m.
    sides : pair of tuples of Contact
        On its wheels, and on its back.
    loads : pair of (C, 3) float64
        The load on each contact for each kg at rest, and for each m/s² forward and to the left; on wheels and back.
    """

    mass: Value
    inertia: Value
    centre: tuple[float, float]
    half: tuple[float, float]
    sides: tuple[tuple[Contact, ...], tuple[Contact, ...]]
    loads: tuple[Floats, Floats]
    motors: tuple[MotorSettings, ...]
    wheel_motor: NDArray[np.intp]
    radius: Floats
    coasts: bool
    bumper: float
    volts: float
    resistance: Value
    electronics: float
    least: float
    capacity: float
    charge: Value
    noise: Value
    settle: dict[float, float] = field(default_factory=dict)

    def board(self, h: float) -> float:
        """What of a change of acceleration is felt after a step of h seconds."""
        if h not in self.settle:
            self.settle[h] = 1 - exp(-h / BOARD_S)
        return self.settle[h]


def settings_of(rig: Rig, smallest: dict[str, tuple[float, float]], under: Conditions) -> BodySettings:
    """Take a body from a rig.

    Parameters
    ----------
    rig : Rig
    smallest : motor to (lifted, loaded)
        The smallest drives that turn each motor.
    under : Conditions

    Notes
    -----
    Where the rig leaves it out, the stall torque is such that the robot follows with its lag τ: a motor whose torque falls
    linearly with speed brings a mass to speed as 1 - exp(-t/τ) with τ = m·v/F. The stall current follows from what a
    brushed motor turns into work: stall torque · free speed = volts · stall current. The free speed is that at which, less
    friction, the motor's top speed is left.
    """
    body = rig.body or Body()
    chassis, battery = rig.chassis, rig.battery
    mass = body.weighs_kg(chassis)
    centre = (chassis.mass_centre.x_m, chassis.mass_centre.y_m)
    wheels = {w.name: w for w in chassis.wheels}
    motors = []
    each = mass / len(rig.motors)
    for name, motor in rig.motors.items():
        radius = wheels[motor.wheels[0]].radius_m
        top = motor.wheel_top_rad_s
        rotor = motor.inertia_kg_m2 * motor.gear**2 if motor.inertia_kg_m2 else ROTOR_SHARE * each * radius**2
        stall = (
            motor.stall_Nm * motor.gear * motor.efficiency
            if motor.stall_Nm
            else (each * radius**2 + rotor) * top / max(rig.lag_s, QUICKEST_S)
        )
        free_least, least = smallest.get(name, (motor.smallest, motor.smallest))
        lost = motor.friction if motor.friction is not None else motor.smallest / 2
        drag = body.rolling * each * GRAVITY_M_S2 * radius
        running = lost * stall + drag
        free = top / max(1 - running / stall, 0.1)
        motors.append(
            MotorSettings(
                stall=stall,
                free=free,
                strength=motor.strength * under.strength.get(name, 1.0),
                amps=stall / motor.efficiency * free / battery.volts,
                breakaway=max(least * stall, running),
                lifted=max(free_least * stall, lost * stall),
                running=running,
                inertia=rotor,
            )
        )
    order = list(rig.motors)
    motor_of = {w: order.index(n) for n, m in rig.motors.items() for w in m.wheels}
    sides, loads = [], []
    for back in (False, True):
        contacts = _contacts(rig, body, motor_of, under, back)
        sides.append(contacts)
        loads.append(_loads([(c.x, c.y) for c in contacts], body.high_m(chassis)))
    return BodySettings(
        mass=mass * under.mass,
        inertia=mass * under.mass * body.spread_of_m(chassis) ** 2,
        centre=centre,
        half=(chassis.length_m / 2, chassis.width_m / 2),
        sides=(sides[0], sides[1]),
        loads=(loads[0], loads[1]),
        motors=tuple(motors),
        wheel_motor=np.array([motor_of[w.name] for w in chassis.wheels], np.intp),
        radius=np.array([w.radius_m for w in chassis.wheels]),
        coasts=body.at_zero == "coast",
        bumper=body.bumper,
        volts=battery.volts,
        resistance=battery.resistance_ohm * under.resistance,
        electronics=battery.electronics_A,
        least=battery.restarts_below_V,
        capacity=battery.capacity_As,
        charge=battery.charge if under.charge is None else under.charge,
        noise=under.noise,
    )


def _contacts(rig: Rig, body: Body, motor_of: dict[str, int], under: Conditions, back: bool) -> tuple[Contact, ...]:
    """Give the contacts of wheels, then of casters; those of a robot on its back as `pivrex.rig.geometry` has them."""
    side = -1.0 if back else 1.0
    cx, cy = rig.chassis.mass_centre.x_m, rig.chassis.mass_centre.y_m
    steered = list(rig.steered)
    found = []
    along, across = body.grip * under.grip, body.across * under.grip
    for wheel in rig.chassis.wheels:
        x, y, drive = wheel.x_m - cx, wheel.y_m - cy, wheel.drive_rad
        plain = wheel.rollers_rad is None
        # along the axis of a roller it grips, square to it the roller rolls
        angle = drive if wheel.rollers_rad is None else drive + side * wheel.rollers_rad
        first, second = (cos(angle), sin(angle)), (-sin(angle), cos(angle))
        way = (cos(drive), sin(drive))
        rolls = tuple(side * wheel.radius_m * (way[0] * e[0] + way[1] * e[1]) for e in (first, second))
        found.append(
            Contact(
                x=x,
                y=side * y,
                first=_passing(first, x, y, side),
                second=_passing(second, x, y, side),
                turn=steered.index(wheel.name) if wheel.name in steered else -1,
                rolls=(rolls[0], rolls[1]),
                motor=motor_of[wheel.name],
                grip=(along, across if plain else body.rollers),
                plain=plain,
            )
        )
    for caster in rig.chassis.casters:
        x, y = caster.x_m - cx, caster.y_m - cy
        found.append(
            Contact(
                x=x,
                y=side * y,
                first=_passing((1.0, 0.0), x, y, side),
                second=_passing((0.0, 1.0), x, y, side),
                turn=-1,
                rolls=(0.0, 0.0),
                motor=-1,
                grip=(body.casters, body.casters),
                plain=False,
            )
        )
    return tuple(found)


def _passing(way: tuple[float, float], x: float, y: float, side: float) -> tuple[float, float, float]:
    """How fast a point passes along a direction for each unit of a twist, with left and turning mirrored on the back."""
    return way[0], side * way[1], side * (x * way[1] - y * way[0])


def _loads(places: list[tuple[float, float]], height: float) -> Floats:
    """Give the load on each support for each kg: at rest, and for each m/s² of acceleration forward and left, (C, 3).

    Notes
    -----
    The loads carry the weight and its moment about the mass centre, Σ N = m·g, Σ N·x = -m·a_x·h, Σ N·y = -m·a_y·h. More
    than three supports would leave this open; a stiff frame on equal springs has N = α + β·x + γ·y, the solution of least
    squares.
    """
    where = np.array([(1.0, x, y) for x, y in places])
    # lengths of a robot's size, so that a line of supports counts as a line
    size = max(1e-3, sqrt(float((where[:, 1:] ** 2).sum(axis=1).max())))
    scaled = where / np.array([1.0, size, size])
    spread: Floats = scaled @ np.linalg.pinv(scaled.T @ scaled, rcond=1e-9, hermitian=True)
    wanted = np.array([[GRAVITY_M_S2, 0.0, 0.0], [0.0, -height / size, 0.0], [0.0, 0.0, -height / size]])
    loads: Floats = spread @ wanted
    return loads
