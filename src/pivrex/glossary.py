"""The glossary: every term of the screen and the files, with a plain sentence. All labels of settings come from here."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from fnmatch import fnmatchcase

__all__ = ["KEYS", "TERMS", "Term", "glossary_text", "label_of", "term_of", "title_of"]


@dataclass(frozen=True)
class Term:
    """A term.

    Attributes
    ----------
    name : str
        As the screen, the files, the commands and the docs write it.
    says : str
        What it is, in plain words.
    unit : str
        Empty for what has none.
    formula : str
        How it counts; empty where the sentence says it.
    small, large : str
        What happens when it is too small, or too large.
    more : str
        Where to read more, in docs.
    worked : callable, optional
        Returns the formula with the numbers of a robot, from the value in SI units.
    label : str
        What a setting is called where it stands; its name if left out.
    """

    name: str
    says: str
    unit: str = ""
    formula: str = ""
    small: str = ""
    large: str = ""
    more: str = "guide.md"
    worked: Callable[[float], str] | None = None
    label: str = ""


def _dead_band(band: float) -> str:
    return f"a stick at {(1 + band) / 2:.2f} gives ({(1 + band) / 2:.2f} - {band:.2f}) / (1 - {band:.2f}) = 0.50"


def _curve(k: float) -> str:
    return f"half a stick gives {1 - k:.2f} · 0.5 + {k:.2f} · 0.125 = {(1 - k) * 0.5 + k * 0.125:.2f}"


def _slew(rate: float) -> str:
    return f"1 / ({rate:g} /s) = {1 / rate:.2f} s for a full stroke" if rate else "0 is no limit"


def _gain(p: float) -> str:
    return f"an error of 10 deg gives {p:.3g} /s · 10 deg = {p * 10:.3g} deg/s"


def _leak(tau: float) -> str:
    return f"after {tau:g} s {math.exp(-1):.0%} of an old error is left" if tau else "0 is no leak"


def _turn(radius: float) -> str:
    return f"2 · π · {radius * 1e3:.0f} mm = {2 * math.pi * radius * 1e3:.0f} mm for each turn of the wheel"


def _gear(gear: float) -> str:
    return f"{gear:g} turns of the motor are one of the wheel"


_TERMS = (
    # --- the line ---
    Term("line", "Everything between the stick and the wheels, stage by stage, computed once each tick.", more="architecture.md"),
    Term("tick", "One pass through the line. The rate says how many there are each second.", "s"),
    Term("rig", "The file that describes a robot: its chassis, motors, sticks and settings.", more="rig-reference.md"),
    Term("workspace", "The folder with the rigs, routines, paths and runs of a team."),
    Term("why", "The sentence that derives what a wheel does from the stick, with the numbers of this tick."),
    Term("ladder", "The why with a row for each stage."),
    Term("shakedown", "The guide that finds swapped plugs, reversed motors, encoders and sensors, and corrects the rig."),
    Term("routine", "The text of what the robot does alone.", more="routine-language.md"),
    Term("period", "A part of a match: alone, between or driven.", "s"),
    Term("rehearsal", "Many plays of a routine with sampled errors, to see how often it succeeds."),
    Term("run", "A drive that is kept, tick by tick.", more="runs.md"),
    Term("simulated robot", "The robot that Pivrex computes in place of a real one.", more="body.md"),
    Term("live", "The state in which a real robot may drive: from Ctrl+L to the next stop.", more="safety.md"),
    Term("link", "The serial line or the network between this computer and the robot.", more="wire.md"),
    Term("source", "What a driver holds: keys, sticks on the screen, a gamepad, a radio."),
    Term("channel", "One stick axis, trigger or button of a source."),
    Term("binding", "A rule: what a button, a letter or a stick makes the robot do."),
    Term("speed level", "A share of full speed that the driver chooses, such as creep or cruise.", "%"),
    Term("attachment", "An arm, lift, servo, pump or lamp that the robot carries."),
    # --- shaping ---
    Term("dead band", "How far a stick moves before the robot does: noise near its centre does nothing.", "%", "out = (in - band) / (1 - band)",
         "a released stick still makes the robot creep", "the robot ignores small moves of the stick", worked=_dead_band),
    Term("after dead band", "How motion begins outside the dead band: from zero, or with a jump to the stick's own value.", label="after band"),
    Term("calibration", "What a stick reads at both ends and at rest, so that its whole way counts.",
         formula="out = (reading - centre) / (end - centre)",
         small="a released stick still moves the robot", large="the robot never reaches full speed"),
    Term("band measures", "What the dead band measures: each axis by itself, the stick's distance from its centre, or the sum of both axes."),
    Term("curve", "How gentle the stick is near its centre: 0 % is a straight line, 100 % the cube.", "%", "out = (1 - k) · in + k · in³",
         "small moves of the stick are hard to make", "nothing happens for half of the stick's way, and then much", worked=_curve),
    Term("scale", "What is left of this motion at full stick.", "%", "out = scale · in", "the robot is slow", "the robot is hard to hold",
         worked=lambda s: f"full stick gives {s:.2f} of full speed"),
    Term("overall scale", "What is left of every motion at full stick.", "%", "out = scale · in",
         worked=lambda s: f"full stick gives {s:.2f} of full speed"),
    Term("slew up", "Slew rate away from rest: how quickly a motion may grow.", "/s", "time to full speed = 1 / slew",
         "the robot answers late", "wheels slip, and a tall robot tips", worked=_slew),
    Term("slew down", "Slew rate towards rest: how quickly a motion may shrink.", "/s", "time to rest = 1 / slew",
         "the robot rolls on after you let go", "wheels slip when it brakes", worked=_slew),
    Term("direction", "Whether a diagonal stick keeps its direction while it is shaped, or each axis is shaped by itself."),
    Term("moving", "The share of moving that a speed level leaves.", "%"),
    Term("turning", "The share of turning that a speed level leaves.", "%"),
    # --- the law and the chassis ---
    Term("law", "What the sticks mean: tank, arcade, split arcade, triggers or planar."),
    Term("over limit", "What happens when a wheel would have to be too fast: scale slows all by one factor, clip cuts each by itself."),
    Term("reduces", "What is reduced first when moving and turning do not fit together: both alike, turning, or moving."),
    Term("move and turn", "Whether sticks move and turn the robot together, or only the stronger of the two counts."),
    Term("straight", "Whether a robot that turns while it crosses the field keeps a straight path."),
    Term("frame", "What forward means: where the robot's front points, or a direction of the field."),
    Term("upside-down threshold", "The tilt from which the robot counts as lying on its back."),
    Term("lead", "How far ahead the heading is taken while the robot turns: about as long as the wheels lag.", "s",
         small="a path crossed while turning bends to one side", large="it bends to the other side"),
    Term("kind", "The kind of a wheel: fixed, with rollers across or at an angle, steered, or a caster."),
    Term("body length", "How long the body is, from front to back.", "mm", small="collisions and shadows of sensors are missed",
         large="the robot seems to touch what it passes"),
    Term("body width", "How wide the body is, from side to side.", "mm", small="collisions are missed",
         large="the robot seems to touch what it passes"),
    Term("x", "How far forward of the robot's centre.", "mm"),
    Term("y", "How far left of the robot's centre.", "mm"),
    Term("drives", "The direction in which a wheel drives the robot.", "deg"),
    Term("rollers", "The angle of the rollers where they touch the floor.", "deg"),
    Term("radius", "Half of the wheel's diameter.", "mm", "distance = 2 · π · radius · turns", "the robot drives less far than odometry says",
         "it drives farther than odometry says", worked=_turn),
    Term("top speed", "How fast the motor turns without load.", "rpm"),
    Term("gear", "How many turns of the motor make one of the wheel.", "", "wheel turns = motor turns / gear", "the robot is fast and weak",
         "it is strong and slow", worked=_gear),
    Term("counts per turn", "How many counts an encoder makes in a turn of the motor."),
    Term("smallest", "The smallest drive at which a motor turns at all: less is friction.", "%"),
    Term("reversed", "Whether the motor turns the other way than its drive says."),
    Term("encoder reversed", "Whether the encoder counts the other way than the motor turns."),
    Term("cosine", "Whether a steered wheel drives less while it does not point where it should."),
    Term("threshold", "A steered wheel that is commanded to less than this keeps pointing where it points.", "m/s"),
    Term("to turn", "An angle for which the figures say how far each wheel rolls.", "deg"),
    Term("forward", "The robot's motion towards its front.", "m/s"),
    Term("left", "The robot's motion towards its left side.", "m/s"),
    Term("turn", "The robot's turn, left is positive.", "deg/s"),
    # --- loops ---
    Term("loop", "A controller: it compares a measured value with its setpoint, and acts on the error."),
    Term("setpoint", "The value that a loop tries to reach, also called its target."),
    Term("error", "The setpoint minus the measured value."),
    Term("P", "Proportional gain: how strongly the loop acts on the error of now.", "", "P part = P · error",
         "the loop is slow, and an error is left", "it overshoots, and in the end it swings"),
    Term("heading P", "Proportional gain of the heading loop: the turn for each degree of error.", "/s", "turn = P · error",
         "the robot drifts off its heading and comes back late", "it overshoots, and in the end it swings", worked=_gain, label="P"),
    Term("I", "Integral gain: how strongly the loop acts on the error of the past, which removes a steady-state error.", "",
         "I part = I · sum of (error · time)", "a steady-state error is left", "it overshoots, and takes long to settle"),
    Term("D", "Derivative gain: how strongly the loop acts against a quick change of the error, which damps it.", "",
         "D part = D · change of the error per second", "it overshoots", "noise makes the motors shake"),
    Term("turn P", "Proportional gain of the turn of a robot that balances."),
    Term("turn I", "Integral gain of the turn of a robot that balances."),
    Term("turn limit", "The largest turn that the loop may command.", "deg/s"),
    Term("integral limit", "The largest part that I may have of the output.", "", small="a steady-state error is left",
         large="the loop overshoots after it was held back for a while"),
    Term("integral leak time", "How long an old error stays in the integral.", "s", "I part · exp(-time / leak time)",
         "a steady-state error is left", "an error of long ago still counts", worked=_leak),
    Term("output limit", "The largest output of the loop.", "", small="the loop is slow", large="wheels slip"),
    Term("rate filter", "How long the measured turn is averaged.", "s", small="noise goes through", large="the loop sees the turn late"),
    Term("speed filter", "How long the measured speed is averaged.", "s", small="noise goes through", large="the loop sees the speed late"),
    Term("capture below", "The heading is held again once the robot turns more slowly than this.", "deg/s",
         small="after a turn the robot waits before it holds its heading", large="it holds a heading that it has not reached, and turns back"),
    Term("hold at the start", "Whether the heading is held from the start while you do not turn."),
    Term("inner loop P", "Proportional gain of the inner loop, which holds the turn's speed.", ""),
    Term("inner loop I", "Integral gain of the inner loop, which holds the turn's speed.", ""),
    Term("wheels by", "How each wheel reaches its speed: by drive alone, by feedforward, or by a loop with its encoder."),
    Term("battery compensated", "Whether the drive grows while the battery's voltage sags, so that the speed stays."),
    Term("feedforward", "Drive that is computed from the setpoint, without an error."),
    Term("turns at most", "The fastest that a steered wheel changes its direction.", "deg/s"),
    Term("back-EMF", "Whether the drive makes up for the voltage that a turning motor makes by itself."),
    Term("tilt blend", "How long the gyro counts before the accelerometers correct the lean.", "s",
         small="each acceleration looks like a lean", large="the gyro's drift stays in the lean"),
    Term("bias time", "How quickly the gyro's bias is learned.", "s"),
    Term("rest lean", "The lean at which the robot stands by itself.", "deg"),
    Term("falls at", "The lean from which no drive brings the robot back: it is given up.", "deg"),
    Term("held for", "How long a robot that balances must be held still before its drive comes on.", "s",
         small="the gyro's bias is measured badly", large="you wait"),
    Term("reach", "How far the place that is held may be from the robot.", "m"),
    # --- figures ---
    Term("step response", "What a loop does after its setpoint jumps, or after a push."),
    Term("rise time", "How long the response takes from 10 % to 90 % of the step.", "s"),
    Term("overshoot", "How far the response goes past its target.", ""),
    Term("settling time", "How long the response takes until it stays near its target.", "s"),
    Term("steady-state error", "What is left of the error in the end.", ""),
    Term("control effort", "How much output the loop needs, as a root mean square.", ""),
    Term("peak time", "When the robot is farthest off after a push.", "s"),
    Term("peak", "How far off the robot is at most after a push.", ""),
    Term("cross-track error", "How far the robot is to the left or right of its path.", "cm"),
    Term("along-track error", "How far the robot is ahead of its place on the path, or behind it.", "cm"),
    Term("time", "How long the whole drive takes.", "s"),
    # --- measuring ---
    Term("noise", "How much a reading changes although nothing moves."),
    Term("drift", "How far a value moves away in time, although nothing changes."),
    Term("bias", "The reading of a sensor at rest, where it should be 0.", ""),
    Term("jitter", "How unevenly messages come.", "ms"),
    Term("age", "How old the newest message is.", "ms"),
    Term("loss", "The share of messages that never came.", "%"),
    Term("odometry", "The pose as it is added up from wheel distances and the gyro."),
    Term("estimated pose", "Where the robot takes itself to be: x, y and heading."),
    Term("covariance", "How sure the estimated pose is, and in which directions."),
    Term("slip", "The difference between how fast a wheel turns and how fast it moves over the floor.", "m/s"),
    Term("inverse kinematics", "The equations that turn the robot's motion into wheel speeds.", more="architecture.md"),
    Term("commanded", "What the line tells a motor."),
    Term("measured", "What a sensor says."),
    Term("requested", "What a stage commands before limits."),
    Term("lean", "How far a robot that balances is from upright, forward is positive.", "deg", more="body.md"),
    # --- what views draw and what commands name ---
    Term("motion", "Forward, left and turn together: what the whole robot does.", "m/s"),
    Term("wheel", "A wheel of the chassis, with its kind, its place and its motor."),
    Term("envelope", "How fast the robot can go in every direction, and how fast while it turns.", "m/s"),
    Term("travel", "How far a wheel rolls, and how many counts its encoder makes."),
    Term("scrub", "The speed with which wheels are dragged over the floor, because the chassis cannot roll the motion.", "m/s"),
    Term("traction", "How hard the robot can accelerate before its tyres slip, by their load and their grip.", "m/s²", more="body.md"),
    Term("track", "The distance between the left and the right wheels.", "mm"),
    Term("centre of mass", "The point at which the robot's weight acts.", "mm", more="body.md"),
    Term("trail", "The line where the robot drove."),
    Term("ghost", "A drawing of the drive or of the response before."),
    Term("path", "A curve on the field that the robot drives, with points, limits and slow zones."),
    Term("slow zone", "A part of a path with a speed limit of its own.", "m/s"),
    Term("zone", "A part of the field that a routine should reach."),
    Term("sticks", "Two sticks on the screen: the mouse drags them, and they spring back."),
    Term("stream", "A source that sends all the time: it is lost when it is silent."),
    Term("event", "A source that sends only changes: it is lost when its connection is."),
    Term("lost", "A source or a link that is no longer heard: the robot stops."),
    Term("latched", "How keys drive where the terminal reports no releases: a key stays down until Space."),
    Term("target", "The setpoint of a loop, or the place to which an attachment moves."),
    Term("compass", "The heading, its target and the gyro on a dial.", "deg"),
    Term("gyro", "A sensor that measures how fast the robot turns; the sum of that is its heading.", "deg"),
    Term("encoder", "A sensor that counts how far a shaft turns."),
    Term("PID", "A loop whose output has three parts: P for the error, I for its sum, D for its change."),
    Term("gain", "A number that says how strongly a loop acts."),
    Term("goal", "What proposed gains should be best at: quick, calm or robust."),
    Term("relay experiment", "The loop oscillates between two outputs; from the oscillation follow the ultimate gain and period."),
    Term("LQR", "Linear-quadratic regulator: the gains with the least cost of errors and outputs.", more="guide.md"),
    Term("slew rate", "How quickly a value may change.", "/s"),
    Term("usual", "The median of similar runs before.", more="runs.md"),
    Term("thinned", "A run whose ticks were deleted to make space; its figures and its track stay.", more="runs.md"),
    Term("learning drive", "A routine from which most can be learned about a robot.", more="runs.md"),
    Term("own move", "A sequence of steps of a routine with a name, and with parameters.", more="routine-language.md"),
    Term("seed", "The number from which the errors of one rehearsal are sampled.", more="body.md"),
    Term("standard deviation", "How far a value usually is from its mean: two of three values are nearer."),
    Term("95 % interval", "The range that holds the true value in 95 of 100 cases.", more="runs.md"),
    Term("board", "The robot's own microcontroller.", more="wire.md"),
    Term("patch", "To bind a control by moving it."),
    # --- figures of a run ---
    Term("driven", "How long the robot drove.", "s", more="runs.md"),
    Term("distance", "How far the robot drove.", "m", more="runs.md"),
    Term("lag of the wheels", "How long the wheels take to follow a command.", "s", more="runs.md"),
    Term("at a limit", "How long a wheel was slowed by its limit.", "s", more="runs.md"),
    Term("lost to limits", "How far the robot would have driven in addition without limits.", "m", more="runs.md"),
    Term("bumps", "How often the robot ran into something.", more="runs.md"),
    Term("in contact", "How long the robot stood against something.", "s", more="runs.md"),
    Term("tyres slide", "How long a tyre slid over the floor.", "s", more="runs.md"),
    Term("distance lost to slip", "How far the wheels turned without moving the robot.", "m", more="runs.md"),
    Term("fastest slide", "How fast a tyre slid at most.", "m/s", more="runs.md"),
    Term("lowest battery", "The lowest voltage of the battery.", "V", more="runs.md"),
    Term("battery", "The mean voltage of the battery.", "V", more="runs.md"),
    Term("heading error while held", "How far the heading was from its target while it was held, as a root mean square.", "deg", more="runs.md"),
    Term("final zone distance", "How far from the nearest zone of the field the robot stopped.", "m", more="runs.md"),
    Term("final pose error", "How far the estimated place was from the true one at the end.", "m", more="runs.md"),
    Term("final heading error", "How far the estimated heading was from the true one at the end.", "deg", more="runs.md"),
    # --- stages: the first part of a Tick's columns ---
    *(
        Term(f"{name} (stage)", says, more="architecture.md")
        for name, says in {
            "clock": "The number and the time of the tick, and whether the robot is stopped.",
            "sensed": "What the robot's sensors say.",
            "truth": "Where the simulated robot really is; of a real robot no one knows it.",
            "raw": "What the source says, channel by channel.",
            "zeroing": "The gyro without its bias.",
            "heading": "The heading, and whether the robot lies on its back.",
            "pointing": "Which way steered wheels point.",
            "odometry": "The estimated pose with its covariance.",
            "axes": "Each function of the law after calibration, from -1 to 1.",
            "band": "Each function of the law after its dead band.",
            "curve": "Each function of the law after its curve.",
            "scale": "Each function of the law after its scale.",
            "bindings": "What buttons, letters and sticks request in addition.",
            "rate": "Each function after its slew rate.",
            "law": "The motion that the sticks request: forward, left and turn.",
            "probe": "What the shakedown sends to a motor.",
            "aim": "The heading that a help of the driver requests.",
            "routine": "What a routine requests, and its line.",
            "frame": "The requested motion in the robot's own directions.",
            "following": "The motion along a path, and its corrections.",
            "correction": "The turn that the gyro adds, and its P, I and D parts.",
            "wheels": "The wheel speeds that the motion needs, by inverse kinematics.",
            "limits": "The wheel speeds after limits, and what is lost.",
            "steering": "Angle and speed of steered wheels.",
            "motion": "The motion that the limited wheels make together.",
            "control": "The drive that holds each wheel's speed: feedforward and PID.",
            "drive": "The drive of each motor, from -1 to 1.",
            "attachments": "What each attachment is commanded.",
            "outputs": "The numbers that go to motor drivers and pins.",
            "tilt": "The lean, from the gyro and the accelerometers.",
            "balance": "The loops that keep a robot upright.",
        }.items()
    ),
)  # fmt: skip

TERMS = {term.name: term for term in _TERMS}
"""All terms by their names."""

KEYS = {
    "wheel.kind": "kind", "motion.forward": "forward", "motion.left": "left", "motion.turn": "turn", "figure.angle": "to turn",
    "shaping.measure": "band measures", "shaping.after_dead_band": "after dead band", "shaping.overall": "overall scale",
    "shaping.direction": "direction", "*.dead_band": "dead band", "*.curve": "curve", "*.scale": "scale", "*.slew_up": "slew up",
    "*.slew_down": "slew down", "*.moving": "moving", "*.turning": "turning",
    "law.kind": "law", "law.move_and_turn": "move and turn", "limits.fit": "over limit", "limits.first": "reduces",
    "plane.straight": "straight", "plane.lead": "lead", "steering.cosine": "cosine", "steering.threshold": "threshold",
    "chassis.length": "body length", "chassis.width": "body width",
    "chassis.wheels.*.x": "x", "chassis.wheels.*.y": "y", "*.drive": "drives", "*.rollers": "rollers", "*.radius": "radius",
    "*.top_speed": "top speed", "*.gear": "gear", "*.counts_per_turn": "counts per turn", "*.smallest": "smallest",
    "*.encoder_reversed": "encoder reversed", "*.reversed": "reversed",
    "correction.hold": "hold at the start", "correction.p": "heading P", "correction.rate.p": "inner loop P",
    "correction.rate.i": "inner loop I", "control.wheels": "wheels by", "control.compensate": "battery compensated",
    "steering.wheels.*.rate": "turns at most", "axes.*": "calibration", "plane.frame": "frame", "upside_down.threshold": "upside-down threshold",
    "balance.held_for": "held for",
    "balance.back_emf": "back-EMF", "balance.falls_at": "falls at", "balance.reach": "reach", "balance.turn.p": "turn P",
    "balance.turn.i": "turn I", "balance.turn.output_limit": "turn limit", "tilt.blend": "tilt blend", "tilt.bias_time": "bias time",
    "tilt.rest_lean": "rest lean", "*.i_limit": "integral limit", "*.i_leak_time": "integral leak time", "*.output_limit": "output limit",
    "*.rate_filter": "rate filter", "*.speed_filter": "speed filter", "*.capture_below": "capture below",
    "*.p": "P", "*.i": "I", "*.d": "D",
}  # fmt: skip
"""The term of each key of a rig that a view shows; ``*`` stands for names between. The first that fits counts."""


def term_of(key: str) -> Term:
    """Return the term of a key of a rig; raises `KeyError` for one that the glossary does not have."""
    name = next((name for pattern, name in KEYS.items() if fnmatchcase(key, pattern)), None)
    if name is None:
        raise KeyError(f"{key} has no term in the glossary")
    return TERMS[name]


def label_of(key: str) -> str:
    """Return what the screen calls a key of a rig."""
    term = term_of(key)
    return term.label or term.name


def title_of(key: str) -> str:
    """Return what a key of a rig is called away from its place: "turn: dead band"; the key itself where there is no term."""
    try:
        label = label_of(key)
    except KeyError:
        return key
    whose = [part for part in key.split(".")[1:-1] if not part.isdigit()]
    return f"{' '.join(whose)}: {label}" if whose else label


def glossary_text() -> str:
    """Return docs/glossary.md."""
    rows = [
        f"| **{t.name}** | {t.says}{f' `{t.formula}`' if t.formula else ''}{_effects(t)} | {t.unit} | [{t.more}]({t.more}) |"
        for t in sorted(_TERMS, key=lambda t: t.name.lower())
    ]
    return "\n".join([
        "# Glossary", "",
        "Every term of the screen, the files and the commands. `Q` in any view shows the one at the cursor, with this robot's numbers;",
        "`pivrex glossary TERM` shows it in the shell, and `pivrex glossary` prints this page.", "",
        "| term | what it is | unit | more |", "|---|---|---|---|", *rows, "",
    ])  # fmt: skip


def _effects(term: Term) -> str:
    said = [f"Too {word}: {what}." for word, what in (("small", term.small), ("large", term.large)) if what]
    return f" {' '.join(said)}" if said else ""
