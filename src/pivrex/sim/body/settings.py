"""The settings of a realistic body, from a rig, with conditions that may differ between the robots of a batch."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import cos, sin, sqrt
from typing import Any

import numpy as np

from pivrex.kernels.records import Flag, Flags, Form, Number, Numbers, Record, Wholes
from pivrex.kernels.records import field as of_size
from pivrex.line.stage import Floats
from pivrex.rig.balance import Tilt
from pivrex.rig.body import Body
from pivrex.rig.plane import Gyro as GyroTable
from pivrex.rig.rig import Rig
from pivrex.sim.body.contacts import Contact, contacts_of, loads_of
from pivrex.sim.fitted import STEER_LAG

__all__ = ["BodySettings", "Conditions", "settings_of"]

GRAVITY_M_S2 = 9.81

QUICKEST_S = 0.02
"""A robot without a lag would need motors without end."""

SAME_AXLE_M = 0.005
"""Wheels this near the line across share an axle."""

LIES_ON = 1.5
"""The frame of a robot that lies touches the floor this many times as far from the axle as its weight is: a third stays on the wheels."""

ROTOR_SHARE = 1 / 6
"""What is turned is as hard to bring to speed as this share of the mass that rests on it, if the rig does not say."""

RATTLES = 0.02
"""What a loose mounting adds to the gyro's noise for each m/s² of acceleration, in rad/s."""

HUMS = 0.0008
"""What a mounting next to a motor adds to it for each rad/s of the wheels, in rad/s."""

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

    mass: Any = 1.0
    grip: Any = 1.0
    noise: Any = 1.0
    resistance: Any = 1.0
    charge: Any | None = None
    strength: dict[str, Any] = field(default_factory=dict)


class BodySettings(Record):
    """A body with M motors, C contacts with the floor (W wheels, then casters) and S steered wheels.

    Each contact has two directions, square to each other and flat. What is of 2 is on its wheels, then on its back.

    Attributes
    ----------
    mass, inertia : float
        In kg, and about the upright axis through the mass centre in kg·m².
    centre : (2,)
        Where the mass sits, forward and left of the robot's centre, in m.
    half : (2,)
        Half its length and width, in m.
    x, y : (2, C)
        Of each contact from the mass centre, in m.
    first, second : (2, C, 3)
        How fast the floor passes along each direction, for each unit of the body's twist (about its mass centre).
    rolls : (2, C, 2)
        What of the floor's speed along each direction the wheel takes away, in m for each rad/s of its motor.
    turn, motor : (C,)
        The place of a steered wheel among the steered ones, then its directions follow its angle, and of its motor; -1 for none.
    squares : (C, 2)
        The square of the friction along each direction.
    soft, loose : (C,)
        How its friction is softened, in m²/s², and from which weighted slip on it may slide, in m/s.
    is_plain : (C,) flags
        Whether a tyre that slips along its second direction is dragged; rollers and casters are free there.
    loads : (4, C, 3)
        The load for each kg at rest, and for each m/s² forward and to the left: on its wheels, on its back, on the front axle alone,
        on the rear one alone.
    stall, free, strength, amps : (M,)
        Torque while held in N·m, rate without load in rad/s, a factor on the voltage, current while held in A; at the wheels' axle.
    breakaway, lifted_breakaway, running : (M,)
        Friction of a wheel that stands on the floor, or in the air, and of one that turns, in N·m.
    rotor_inertia : (M,)
        In kg·m².
    wheel_motor, radius : (W,)
    coasts : (M,) flags
        Whether a motor turns freely while its driver gets nothing.
    longest_step : float
        A tick is cut into equal steps no longer than this, in s.
    bumper : float
        Friction of the body on what it touches.
    volts, resistance, electronics, least, capacity, charge : float
        Of the battery: V, ohm, A, the V below which electronics start again, A·s, and how full it is.
    steer_lag : float
        How long steering motors take to follow, in s.
    per_count, per_metre : (W,)
        How far a wheel rolls for a count, in m, and 1 over it; 0 for one whose encoder is not said to count.
    gyro_scale, gyro_bias, gyro_walk, gyro_noise, rattles, hums, gyro_most, gyro_late : float
        See `pivrex.sim.body.sensors.step_gyro`.
    balances, tippable : flag
        Whether it leans about its only axle, or may lift wheels off the floor and tip about an axle of several.
    axle_x, axle_z : (2,)
        Where the front and the rear axle are, forward of the robot's centre and above the floor, in m; the only one twice.
    mass_z : float
        How high the mass sits above the floor, in m.
    pitch_inertia, roll_inertia : float
        About the axis across and that along the robot, through the mass centre, in kg·m².
    lies, frame_x : (2,)
        The leans forward and back at which its frame lies on the floor, in rad, and how far from the axle it touches then, in m.
    tilt_z, tilt_error : float
        How high above the axle the tilt sensor sits, in m, and how far it is turned from the body's upright, in rad.
    tilt_noise, tilt_bias : (3,)
        One sigma of each reading, and the largest bias: of the rate in rad/s, of both accelerations in m/s².
    """

    is_settings = True

    mass: Number = of_size(unit="kg")
    inertia: Number = of_size(unit="kg m^2")
    centre: Numbers = of_size(2, unit="m")
    half: Numbers = of_size(2, unit="m")
    x: Numbers = of_size(2, "contacts", unit="m")
    y: Numbers = of_size(2, "contacts", unit="m")
    first: Numbers = of_size(2, "contacts", 3)
    second: Numbers = of_size(2, "contacts", 3)
    rolls: Numbers = of_size(2, "contacts", 2, unit="m")
    turn: Wholes = of_size("contacts")
    motor: Wholes = of_size("contacts")
    squares: Numbers = of_size("contacts", 2)
    soft: Numbers = of_size("contacts", unit="m^2/s^2")
    loose: Numbers = of_size("contacts", unit="m/s")
    is_plain: Flags = of_size("contacts")
    loads: Numbers = of_size(4, "contacts", 3)
    stall: Numbers = of_size("motors", unit="Nm")
    free: Numbers = of_size("motors", unit="rad/s")
    strength: Numbers = of_size("motors")
    amps: Numbers = of_size("motors", unit="A")
    breakaway: Numbers = of_size("motors", unit="Nm")
    lifted_breakaway: Numbers = of_size("motors", unit="Nm")
    running: Numbers = of_size("motors", unit="Nm")
    rotor_inertia: Numbers = of_size("motors", unit="kg m^2")
    wheel_motor: Wholes = of_size("wheels")
    radius: Numbers = of_size("wheels", unit="m")
    coasts: Flags = of_size("motors")
    longest_step: Number = of_size(unit="s")
    bumper: Number = of_size()
    volts: Number = of_size(unit="V")
    resistance: Number = of_size(unit="ohm")
    electronics: Number = of_size(unit="A")
    least: Number = of_size(unit="V")
    capacity: Number = of_size(unit="A s")
    charge: Number = of_size()
    steer_lag: Number = of_size(unit="s")
    per_count: Numbers = of_size("wheels", unit="m")
    per_metre: Numbers = of_size("wheels", unit="1/m")
    gyro_scale: Number = of_size()
    gyro_bias: Number = of_size(unit="rad/s")
    gyro_walk: Number = of_size(unit="rad/s")
    gyro_noise: Number = of_size(unit="rad/s")
    rattles: Number = of_size(unit="rad s/m")
    hums: Number = of_size()
    gyro_most: Number = of_size(unit="rad/s")
    gyro_late: Number = of_size()
    balances: Flag = of_size()
    tippable: Flag = of_size()
    axle_x: Numbers = of_size(2, unit="m")
    axle_z: Numbers = of_size(2, unit="m")
    mass_z: Number = of_size(unit="m")
    pitch_inertia: Number = of_size(unit="kg m^2")
    roll_inertia: Number = of_size(unit="kg m^2")
    lies: Numbers = of_size(2, unit="rad")
    frame_x: Numbers = of_size(2, unit="m")
    tilt_z: Number = of_size(unit="m")
    tilt_error: Number = of_size(unit="rad")
    tilt_noise: Numbers = of_size(3, unit="rad/s, m/s^2, m/s^2")
    tilt_bias: Numbers = of_size(3, unit="rad/s, m/s^2, m/s^2")


def settings_of(
    rig: Rig, smallest: dict[str, tuple[float, float]], under: Conditions, tick_s: float | None = None
) -> BodySettings:
    """Take a body from a rig.

    Parameters
    ----------
    rig : Rig
    smallest : motor to (lifted, loaded)
        The smallest drives that turn each motor.
    under : Conditions
    tick_s : float, optional
        How long its ticks are, for the gyro's delay; the rig's if left out.

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
    motors = [
        _motor(rig, name, mass / len(rig.motors), body, smallest.get(name), under.strength.get(name, 1.0))
        for name in rig.motors
    ]
    order = list(rig.motors)
    motor_of = {w: order.index(n) for n, m in rig.motors.items() for w in m.wheels}
    sides = [contacts_of(rig, body, motor_of, back) for back in (False, True)]
    contacts = sides[0]
    # rollers and casters hold by themselves, whatever the floor
    by_floor = np.array([(c.motor >= 0, c.is_plain) for c in contacts])
    grips = np.where(by_floor, np.asarray(under.grip, float)[..., None, None], 1.0) * [c.grip for c in contacts]
    squares = grips * grips
    most = squares.max(axis=-1)
    differ = (under.mass, under.grip, under.noise, under.resistance, under.charge, *under.strength.values())
    batch = np.broadcast_shapes(*(np.shape(v) for v in differ))
    around = [2 * np.pi * w.radius_m for w in chassis.wheels]
    counts = [rig.motors[order[motor_of[w.name]]].counts_per_wheel_turn for w in chassis.wheels]
    leaning = _leaning(rig, body, mass * np.asarray(under.mass, float), under.noise, contacts)
    form = Form(BodySettings, contacts=len(contacts), motors=len(motors), wheels=len(chassis.wheels))
    made: BodySettings = form.of(
        batch,
        mass=mass * under.mass,
        inertia=mass * under.mass * body.spread_of_m(chassis) ** 2,
        centre=(chassis.mass_centre.x_m, chassis.mass_centre.y_m),
        half=(chassis.length_m / 2, chassis.width_m / 2),
        **{
            name: [[getattr(c, name) for c in side] for side in sides]
            for name in ("x", "y", "first", "second", "rolls")
        },
        **{name: [getattr(c, name) for c in contacts] for name in ("turn", "motor", "is_plain")},
        squares=squares,
        soft=most * (SOFT_M_S * SOFT_M_S),
        loose=2.0 * np.sqrt(most) * SOFT_M_S,  # twice the slip at which 70 % of the grip is there
        loads=[loads_of([(c.x, c.y) for c in side], body.high_m(chassis), GRAVITY_M_S2) for side in sides]
        + leaning.pop("loads"),
        **leaning,
        **{name: np.stack(np.broadcast_arrays(*(m[name] for m in motors)), axis=-1) for name in motors[0]},
        wheel_motor=[motor_of[w.name] for w in chassis.wheels],
        radius=[w.radius_m for w in chassis.wheels],
        bumper=body.bumper,
        volts=battery.volts,
        resistance=battery.resistance_ohm * under.resistance,
        electronics=battery.electronics_A,
        least=battery.restarts_below_V,
        capacity=battery.capacity_As,
        charge=battery.charge if under.charge is None else under.charge,
        steer_lag=max(rig.lag_s, 1e-3) * STEER_LAG,
        per_count=[a / c if c else 0.0 for a, c in zip(around, counts, strict=True)],
        per_metre=[c / a if c else 0.0 for a, c in zip(around, counts, strict=True)],
        **_gyro(rig, under.noise, tick_s or rig.dt_s),
    )
    return made


def _motor(
    rig: Rig, name: str, each_kg: float, body: Body, smallest: tuple[float, float] | None, strength: Any
) -> dict[str, Any]:
    """Return what a motor is, as `BodySettings` has it; ``each_kg`` is what each motor moves."""
    motor = rig.motors[name]
    radius = {w.name: w for w in rig.chassis.wheels}[motor.wheels[0]].radius_m
    top = motor.wheel_top_rad_s
    rotor = motor.inertia_kg_m2 * motor.gear**2 if motor.inertia_kg_m2 else ROTOR_SHARE * each_kg * radius**2
    stall = (
        motor.stall_Nm * motor.gear * motor.efficiency
        if motor.stall_Nm
        else (each_kg * radius**2 + rotor) * top / max(rig.lag_s, QUICKEST_S)
    )
    free_least, least = smallest or (motor.smallest, motor.smallest)
    lost = motor.friction if motor.friction is not None else motor.smallest / 2
    running = lost * stall + body.rolling * each_kg * GRAVITY_M_S2 * radius
    free = top / max(1 - running / stall, 0.1)
    return {
        "stall": stall,
        "free": free,
        "strength": motor.strength * strength,
        "amps": stall / motor.efficiency * free / rig.battery.volts,
        "breakaway": max(least * stall, running),
        "lifted_breakaway": max(free_least * stall, lost * stall),
        "running": running,
        "rotor_inertia": rotor,
        "coasts": rig.coasts_at_zero(motor.output),
    }


def _gyro(rig: Rig, noise: Any, tick_s: float) -> dict[str, Any]:
    table = rig.gyro or GyroTable()
    return {
        "gyro_scale": 1.0 + table.scale,
        "gyro_bias": table.bias_rad_s * noise,
        "gyro_walk": table.drift_rad_s2 * sqrt(60.0) * noise,
        "gyro_noise": table.noise_rad_s * noise,
        "rattles": RATTLES if table.mounting == "loose" else 0.0,
        "hums": HUMS if table.mounting == "by a motor" else 0.0,
        "gyro_most": table.max_rad_s,
        "gyro_late": table.delay_s / tick_s,
    }


def _leaning(rig: Rig, body: Body, mass: Floats, noise: Any, contacts: list[Contact]) -> dict[str, Any]:
    """Return how a body pitches, as `BodySettings` has it."""
    chassis, high = rig.chassis, body.high_m(rig.chassis)
    radii = [w.radius_m for w in chassis.wheels] + [0.0] * len(chassis.casters)
    centre = chassis.mass_centre.x_m
    at = [c.x for c in contacts]
    found: dict[str, Any] = {"axle_x": [], "axle_z": [], "loads": [], "frame_x": []}
    lies = body.lies_rad(rig.balance is not None)
    for edge, lean in ((max(at), lies[0]), (min(at), -lies[1])):
        on = [k for k, x in enumerate(at) if abs(x - edge) <= SAME_AXLE_M]
        loads = np.zeros((len(contacts), 3))
        loads[on] = loads_of([(0.0, contacts[k].y) for k in on], high, GRAVITY_M_S2)
        found["loads"].append(loads)
        found["axle_x"].append(edge + centre)
        found["axle_z"].append(radius := max(radii[k] for k in on))
        out = -edge * cos(lean) + (high - radius) * sin(lean)
        found["frame_x"].append(LIES_ON * max(abs(out), radius, 0.01))
    tilt = rig.tilt or Tilt()
    gyration = body.gyration_m(chassis)
    errors = (tilt.bias_rad_s, tilt.level_m_s2, tilt.level_m_s2)
    noises = (tilt.noise_rad_s, tilt.shake_m_s2, tilt.shake_m_s2)
    return {
        **found,
        "balances": rig.balance is not None,
        "tippable": rig.balance is None and min(at) < -SAME_AXLE_M and max(at) > SAME_AXLE_M,
        "mass_z": high,
        "pitch_inertia": mass * gyration[0] ** 2,
        "roll_inertia": mass * gyration[1] ** 2,
        "lies": lies,
        "tilt_z": (tilt.height_m - found["axle_z"][0]) if tilt.height_m is not None else 0.0,
        "tilt_error": tilt.mounting_error_rad,
        "tilt_noise": np.multiply.outer(np.asarray(noise, float), noises),
        "tilt_bias": np.multiply.outer(np.asarray(noise, float), errors),
    }
