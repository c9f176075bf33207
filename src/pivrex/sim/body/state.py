"""The state of robots with a realistic body, and the scratch memory of a step."""

from __future__ import annotations

from pivrex.kernels.records import Flag, Flags, Number, Numbers, Record, Whole, field

__all__ = ["BodyScratch", "BodyState"]


class BodyState(Record):
    """Where B simulated robots with a real body are and how they move; M driving motors, C contacts with the floor.

    Attributes
    ----------
    pose, blocked, angle, turning, begin, lifted, upside_down, attached, travel, speed
        As `pivrex.sim.ideal.StandInState` has them; speed is the tyres' own, whatever the floor does.
    velocity : B + (3,) float64
        Of the mass centre, forward and left in m/s, and the rate of turn in rad/s, as seen from above.
    spin : B + (M,) float64
        Of each motor at its wheels' axle, in rad/s.
    drive : B + (M,) float64
        The drive of each motor last, in [-1, 1].
    reaction : B + (M,) float64
        What the floor did to each motor in the last step, in N·m.
    acceleration : B + (2,) float64
        What shifts the load, forward and left, in m/s².
    charge, volts, restart : B float64
        Of the battery from 0 to 1, in V, and how long the electronics still take to start again in s.
    counted, metered : B + (W,) float64
        How far wheels have rolled as encoders count it, in m, and the speeds that they say, in m/s.
    heading : B + (1 + N,) float64
        What the gyro has added up, in rad: now, and at the N ticks before.
    bias : B float64
        Of the gyro, in rad/s.
    at, stride : B float64, whole numbers
        Its place among the normal numbers, and how it walks on.
    slip, load : B + (C,) float64
        How fast each tyre slides over the floor in m/s, and the load on it in N.
    lean, lean_rate : B float64
        How far the body leans forward of upright, in rad, and how fast that grows, in rad/s.
    tips : B float64, whole numbers
        The axle that it leans about: 0 for none, all its wheels stand; 1 for the front one, or the only one; 2 for the rear one.
    held, hand : B flags, B float64
        Whether a hand holds it until its motors get a drive, and the lean that a hand brings it to, in rad.
    heave : B float64
        How fast the mass centre gains upward speed, averaged like ``acceleration``, in m/s².
    frame_load : B float64
        The load on the frame of a robot that lies, in N.
    measured : B + (2,) float64
        The mean acceleration of the tilt sensor in the last tick, forward and up, in m/s².
    tilt_bias : B + (3,) float64
        What the tilt sensor adds: to the rate in rad/s, to both accelerations in m/s².
    """

    travel: Numbers = field("wheels", unit="m")
    speed: Numbers = field("wheels", unit="m/s")
    pose: Numbers = field(3, unit="m, m, rad")
    blocked: Flag = field()
    angle: Numbers = field("steered", unit="rad")
    turning: Numbers = field("steered", unit="rad/s")
    begin: Numbers = field("steered", unit="rad")
    lifted: Flag = field()
    upside_down: Flag = field()
    attached: Numbers = field("arms", unit="rad")
    velocity: Numbers = field(3, unit="m/s, m/s, rad/s")
    spin: Numbers = field("motors", unit="rad/s")
    drive: Numbers = field("motors")
    reaction: Numbers = field("motors", unit="Nm")
    acceleration: Numbers = field(2, unit="m/s^2")
    charge: Number = field()
    volts: Number = field(unit="V")
    restart: Number = field(unit="s")
    counted: Numbers = field("wheels", unit="m")
    metered: Numbers = field("wheels", unit="m/s")
    heading: Numbers = field("kept", unit="rad")
    bias: Number = field(unit="rad/s")
    at: Whole = field()
    stride: Whole = field()
    slip: Numbers = field("contacts", unit="m/s")
    load: Numbers = field("contacts", unit="N")
    lean: Number = field(unit="rad")
    lean_rate: Number = field(unit="rad/s")
    tips: Whole = field()
    held: Flag = field()
    hand: Number = field(unit="rad")
    heave: Number = field(unit="m/s^2")
    frame_load: Number = field(unit="N")
    measured: Numbers = field(2, unit="m/s^2")
    tilt_bias: Numbers = field(3, unit="rad/s, m/s^2, m/s^2")


class BodyScratch(Record):
    """Where a step is computed: M motors, C contacts, S steered wheels, P places where the body may touch something.

    Attributes
    ----------
    drives, steer, duty, fed, released : drives, targets of steering in rad/s, duty of each motor, whether it is connected, and
        whether its driver lets it roll
    a, b, d, r, q
        The equations of a step, [A B'; B D]·(v, ω) = (r, q): A symmetric, first the upper half of what moves in the plane, then the
        column of the lean; D diagonal.
    own : (M,)
        The part of D that is the motors' own, without the floor.
    v, spin
        Their solution: the twist about the mass centre with the rate of the lean behind it, and each motor's rate.
    pitches : flag
        Whether the body leans about an axle in this step, so that the rate of its lean is sought as well.
    ahead, above, forward : float
        Where the mass centre is from that axle, forward and up, and how far forward of the robot's centre, in m.
    stop, stop_rate : float
        The damper with which the floor stops the frame, in N·m·s, and the rate of lean that it allows, in rad/s.
    first, second : (C, 4)
        The directions of each contact now.
    hold : (C, 3)
        By what each is held along both directions in N·s/m, and its weighted slip in m/s.
    slips : (C, 2)
        How fast the floor passes along both, in m/s.
    gap : (P,)
        How far body and obstacle are apart, in m; below 0 they overlap.
    push, along : (P, 4)
        What a newton that pushes the body away, or along the obstacle, does to it: forward and left in N, turning and leaning in N·m.
    away : (P, 2)
        The direction away, in the field.
    stiff, force : (P,)
        The damper at each place in N·s/m, and what it pushes with in N.
    corners : (4, 2)
        Of the body, in the field.
    normals : (2·N,)
        Two normal numbers for each sensor.
    """

    is_scratch = True

    drives: Numbers = field("drives")
    steer: Numbers = field("steered", unit="rad/s")
    duty: Numbers = field("motors")
    fed: Numbers = field("motors")
    released: Flags = field("motors")
    a: Numbers = field(10)
    b: Numbers = field("motors", 4)
    d: Numbers = field("motors")
    own: Numbers = field("motors")
    r: Numbers = field(4)
    q: Numbers = field("motors")
    v: Numbers = field(4)
    pitches: Flag = field()
    ahead: Number = field(unit="m")
    above: Number = field(unit="m")
    forward: Number = field(unit="m")
    stop: Number = field()
    stop_rate: Number = field(unit="rad/s")
    spin: Numbers = field("motors", unit="rad/s")
    rolled: Numbers = field("motors", unit="rad")
    first: Numbers = field("contacts", 4)
    second: Numbers = field("contacts", 4)
    hold: Numbers = field("contacts", 3)
    slips: Numbers = field("contacts", 2, unit="m/s")
    gap: Numbers = field("places", unit="m")
    push: Numbers = field("places", 4)
    along: Numbers = field("places", 4)
    away: Numbers = field("places", 2)
    stiff: Numbers = field("places")
    force: Numbers = field("places", unit="N")
    corners: Numbers = field(4, 2, unit="m")
    normals: Numbers = field("normals")
