"""The shakedown: probe, look, and find every crossed wire, step by step; the caller carries out the steps."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import pi
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from pivrex.diagnosis.hypotheses import SIGNS, Answer, Assignment, Wire, WiringHypotheses
from pivrex.diagnosis.moves import MotorMove
from pivrex.diagnosis.probes import Bench, Seen
from pivrex.diagnosis.steps import Known, Option, Step, clash_said
from pivrex.line.input_stages import sensed_columns
from pivrex.rig.rig import Rig

__all__ = ["Shakedown"]

Floats = NDArray[np.float64]


Place = Literal["floor", "up"]


DUTY, SECONDS = 0.25, 0.5
"""A probe is slow and short."""


QUARTER = pi / 2

TIPPED_G, TURNED_RAD = 0.12, 0.35
"""A hand tips and turns a robot by more than this, 7 and 20 degrees."""


BITS = 1e-9


TRIES = 2
"""A probe that the sensors could not read is sent again once, then left to the person."""


@dataclass
class _Record:
    """Additional observations of a shakedown."""

    offsets: dict[int, float] = field(default_factory=dict)
    agree: dict[int, int] = field(default_factory=dict)
    upright: int = 0
    tilt: int = 0


class Shakedown:
    """A guided check of one robot.

    Parameters
    ----------
    rig : Rig
        What the robot is said to be.
    place : "floor" or "up"
        Whether it stands on the floor or on a block with its wheels up.
    by : "sensors" or "person"
        Who says what was seen; with sensors a person is asked only what these cannot tell.
    """

    def __init__(self, rig: Rig, place: Place = "floor", by: Literal["sensors", "person"] = "sensors") -> None:
        self.rig, self.place, self.by = rig, place, by
        self.bench = Bench(rig)
        self.hypotheses = WiringHypotheses(self.bench.has_encoder, self.bench.has_gyro)
        self.probes = 0
        self._pointed = not any(
            rig.steering.wheels[w].sensor is not None for w in rig.steered if rig.steering is not None
        )
        self._tipped, self._turned = rig.tilt is None, False
        names = [c.name for c in sensed_columns(rig)]
        self._tilt_at, self._gyro_at = (names.index(n) if n in names else -1 for n in ("accel_forward", "gyro"))
        self._unread: dict[tuple[int, bool], int] = {}
        self._record = _Record()
        self._at_first = self.hypotheses.size()

    # --- known facts ---

    @property
    def left(self) -> int:
        """How many assignments still explain everything."""
        return self.hypotheses.size()

    @property
    def human_answers(self) -> int:
        """How many answers came from a person."""
        return sum(a.by_person for a in self.hypotheses.answers)

    def known(self) -> list[Known]:
        """Return what is known of each port."""
        wires = self.hypotheses.possible()
        found = []
        for p, port in enumerate(self.bench.ports):
            motors = np.flatnonzero(wires[p].any(axis=(1, 2, 3)))
            if len(motors) != 1:
                found.append(Known(port, None, None, None))
                continue
            k = int(motors[0])
            signs = np.flatnonzero(wires[p, k].any(axis=(1, 2)))
            encoders = np.flatnonzero(wires[p, k].any(axis=(0, 2)))
            found.append(
                Known(
                    port,
                    self.bench.names[k],
                    SIGNS[signs[0]] if len(signs) == 1 else None,
                    SIGNS[encoders[0]] if len(encoders) == 1 else None,
                )
            )
        return found

    def solution(self) -> Assignment | None:
        """Return the one assignment that is left; None while there are more, or none."""
        return next(self.hypotheses.assignments()) if self.left == 1 else None

    def sensor_facts(self) -> tuple[dict[str, float], dict[str, int]]:
        """Return the offsets of the absolute sensors in rad, and whether each agrees (1) with its wheel's encoder."""
        names = self.rig.steered
        return (
            {names[i]: v for i, v in self._record.offsets.items()},
            {names[i]: v for i, v in self._record.agree.items()},
        )

    @property
    def upright(self) -> int:
        """The sign that the side sensor read, the robot standing upright; 0 without one, or before the first probe."""
        return self._record.upright

    @property
    def tilt(self) -> int:
        """1 if the tilt sensor counts as it should, -1 if it is mounted the other way; 0 without one, or before it was tipped."""
        return self._record.tilt

    # --- the next step ---

    def next(self) -> Step:
        """Choose what to do next: the probe that is expected to tell the most."""
        clash = self.hypotheses.contradiction()
        if clash:
            return Step("contradiction", clash_said(clash))
        if not self._pointed:
            return Step(
                "ahead", "Point all steered wheels straight ahead, as they stand when the robot drives forward."
            )
        if not self._tipped:
            return Step("tip", "Hold the robot in your hands and tip it forward, its front down, by about 20 degrees.")
        if self.left == 1:
            return Step("done", "Everything is known.")
        step = self._by_sensors() if self.by == "sensors" else None
        by_turning = self._by_turning() if step is None else None
        if self.by == "sensors":
            step = step or by_turning
        step = step or self._by_person() or by_turning
        return step or Step("done", f"{self.left} explanations are left that nothing can tell apart.")

    def _by_turning(self) -> Step | None:
        """Return the step in which the gyro sees the robot turn; one that balances would fall while its motors are tried on the floor."""
        if self.place == "floor" or not self.bench.has_gyro:
            return None
        if self.rig.balance is not None:
            text = "Hold the robot in your hands and turn it to the left, by about a quarter."
            return None if self._turned else Step("turn", text)
        return Step("floor", "Put the robot on the floor with half a metre free around it: the gyro must see it turn.")

    def _by_sensors(self) -> Step | None:
        best, most = -1, BITS
        for p in range(len(self.bench.ports)):
            if self._unread.get((p, False), 0) < TRIES:
                tells = self.hypotheses.tells(p, self._sensed)
                if tells > most + BITS:
                    best, most = p, tells
        if best >= 0:
            return self._probe(best, "sensors", most)
        return self._across()

    def _probe(self, port: int, asks: str, bits: float) -> Step:
        name = self.bench.ports[port]
        options = () if asks == "sensors" else self._options(port, asks)
        return Step(
            "probe",
            f"Port {name} gets {DUTY * 100:.0f} % forward for {SECONDS:g} s, then as much back.",
            port,
            (MotorMove(port, DUTY, SECONDS), MotorMove(port, -DUTY, SECONDS)),
            asks=asks,
            options=options,
            bits=bits,
        )

    def _across(self) -> Step | None:
        """Drive a steered wheel that stands across: only so can sensors tell which way steering turns it."""
        if self.place != "floor" or not self.bench.has_gyro:
            return None
        wires = self.hypotheses.possible()
        sits = {
            int(np.flatnonzero(w.any(axis=(1, 2, 3)))[0]): p
            for p, w in enumerate(wires)
            if w.any(axis=(1, 2, 3)).sum() == 1
        }
        for k in range(self.bench.drives):
            j = self.bench.steering_of(k)
            if j < 0 or k not in sits or j not in sits or self._unread.get((sits[j], True), 0) >= TRIES:
                continue
            p, q = sits[k], sits[j]
            if wires[q, j].any(axis=(0, 2)).sum() < 2:
                continue  # which way it counts is known
            driven = {(SIGNS[m] * SIGNS[g]) for m, e, g in np.argwhere(wires[p, k]).tolist()}
            turned = {(SIGNS[m] * SIGNS[e]) for m, e, g in np.argwhere(wires[q, j]).tolist()}
            if len(driven) != 1 or len(turned) != 1:
                continue
            wire = Wire(k, driven.pop(), 1, 1)
            if self.bench.shows_across(Wire(j, 1, 1, 1), wire, QUARTER) == self.bench.shows_across(
                Wire(j, 1, -1, 1), wire, QUARTER
            ):
                continue  # it is mounted so that the gyro sees no difference
            away = DUTY * turned.pop()
            at, _ = self.bench.watch(j)
            wheel = self.bench.wheels[k][0]
            return Step(
                "probe",
                f"Port {self.bench.ports[q]} turns the wheel {wheel} across, then port {self.bench.ports[p]} drives it.",
                q,
                (
                    MotorMove(q, away, 5.0, watch=at, until=QUARTER),
                    MotorMove(p, DUTY, SECONDS),
                    MotorMove(q, -away, 5.0, watch=at, until=QUARTER),
                ),
                seen_in=1,
                bits=1.0,
                across=(wire, QUARTER),
            )
        return None

    def _by_person(self) -> Step | None:
        best, most, asks = -1, BITS, ""
        for kind, outcome in (("motion", _motion), ("reading", self._read_off)):
            for p in range(len(self.bench.ports)):
                if self._unread.get((p, kind == "motion"), 0) >= 2 * TRIES:
                    continue
                tells = self.hypotheses.tells(p, outcome)
                if tells > most + BITS:
                    best, most, asks = p, tells, kind
            if best >= 0:
                return self._probe(best, asks, most)
        return None

    # --- outcomes ---

    def _sensed(self, wire: Wire) -> Seen:
        return self.bench.shows(wire, self.place == "floor")

    def _read_off(self, wire: Wire) -> tuple[int, int]:
        seen = self._sensed(wire)
        return seen.count, seen.heading

    def _options(self, port: int, asks: str) -> tuple[Option, ...]:
        """List what a person may say, the likely first."""
        found = []
        if asks == "motion":
            chances = self.hypotheses.outcomes(port, _motion)
            for k, name in enumerate(self.bench.names):
                ways = ("turned left", "turned right")
                if not self.bench.steers(k):
                    ways = (
                        ("turned forward", "turned backward")
                        if self.rig.is_bench
                        else ("rolled forward", "rolled backward")
                    )
                who = self.bench.wheels[k][0] if self.bench.steers(k) else name
                found += [Option(f"{who} {way}", (k, s), _motion) for s, way in zip(SIGNS, ways, strict=True)]
            found.sort(key=lambda o: -chances.get(o.outcome, 0))
            if self.place == "floor":
                found += [
                    Option("its nose swung to the left", 1, self._nose),
                    Option("its nose swung to the right", -1, self._nose),
                ]
            found.append(Option("nothing moved", "nothing", _motion))
        else:
            counts = (("its count went up", 1), ("its count went down", -1))
            headings = (("the heading rose", 1), ("the heading fell", -1), ("the heading stayed", 0))
            found = [
                Option(f"{a}, {b}", (c, h), self._read_off)
                for a, c in counts
                for b, h in headings
                if self._may_show(port, h)
            ]
            found += [Option("no count moved", (0, 0), self._read_off)]
        return (*found, Option("could not tell", None, None))

    def _may_show(self, port: int, heading: int) -> bool:
        return (self.place == "floor" and self.bench.has_gyro) or heading == 0

    def _nose(self, wire: Wire) -> int:
        return 0 if self.bench.steers(wire.motor) else wire.sign * self.bench.turning[wire.motor]

    # --- answers ---

    def ahead(self, sensed: Floats) -> None:
        """Take what the absolute sensors read while all steered wheels point straight ahead."""
        self._pointed = True
        for i, wheel in enumerate(self.rig.steered):
            if self.rig.steering is not None and self.rig.steering.wheels[wheel].sensor is not None:
                self._record.offsets[i] = self.bench.absolute(i, sensed)

    def tip(self, sensed: Floats) -> str:
        """Take what the tilt sensor says of a robot that a person has tipped forward; returns it in words."""
        tilt = float(sensed[self._tilt_at])
        if not abs(tilt) > TIPPED_G:
            return "the tilt sensor feels no lean: is it plugged in? Tip the robot farther"
        self._tipped, self._record.tilt = True, 1 if tilt < 0 else -1
        return f"tipped forward, the tilt sensor says {'forward' if tilt < 0 else 'back: it is mounted the other way'}"

    def turn(self, before: Floats, after: Floats) -> str:
        """Take what the gyro says of a robot that a person has turned to the left; returns it in words."""
        turned = float(after[self._gyro_at] - before[self._gyro_at])
        if not abs(turned) > TURNED_RAD:
            return "the gyro saw no turn: is it plugged in? Turn the robot farther"
        self._turned = True
        said = f"turned to the left, the heading {'rises' if turned > 0 else 'falls'}"
        self.hypotheses.take(Answer(0, said, self.hypotheses.allowed(lambda w: w.gyro, 1 if turned > 0 else -1), False))
        return said

    def on_floor(self) -> None:
        """Go on with the robot on the floor."""
        self.place = "floor"

    def see(self, step: Step, before: Floats, after: Floats) -> str:
        """Take what the sensors said of a probe; returns it in words."""
        self.probes += 1
        port = self.bench.ports[step.port]
        if step.across is not None:
            return self._see_across(step, before, after)
        seen = self.bench.look(before, after, self.place == "floor")
        self._note_sensor(seen, before, after)
        if seen is None:
            self._unread[step.port, False] = self._unread.get((step.port, False), 0) + 1
            return f"port {port}: more than one wheel moved, the sensors cannot tell"
        if seen.motor < 0 and all(self.bench.has_encoder):
            said = f"port {port}: no encoder moved"
        elif seen.motor < 0:
            said = f"port {port}: a motor without encoder, or none"
        else:
            said = f"port {port}: {self.bench.names[seen.motor]} counts {'up' if seen.count > 0 else 'down'}"
        if seen.heading:
            said += f", heading {'rises' if seen.heading > 0 else 'falls'}"
        self.hypotheses.take(Answer(step.port, said, self.hypotheses.allowed(self._sensed, seen), False))
        return said

    def _see_across(self, step: Step, before: Floats, after: Floats) -> str:
        assert step.across is not None
        driven, angle = step.across
        port = self.bench.ports[step.port]
        seen = self.bench.look(before, after, True)
        heading = seen.heading if seen is not None else 0

        def outcome(wire: Wire) -> int:
            return self.bench.shows_across(wire, driven, angle) if self.bench.steers(wire.motor) else 2

        allows = self.hypotheses.allowed(outcome, heading)
        if not allows.any():
            self._unread[step.port, True] = self._unread.get((step.port, True), 0) + 1
            return f"port {port}: the gyro saw too little"
        said = f"port {port}: with its wheel across, the heading {'rises' if heading > 0 else 'falls' if heading < 0 else 'stays'}"
        self.hypotheses.take(Answer(step.port, said, allows, False))
        return said

    def _note_sensor(self, seen: Seen | None, before: Floats, after: Floats) -> None:
        """Notice which side the robot takes for up, and whether an absolute sensor goes with its wheel's encoder."""
        self._record.upright = self.bench.upright(before)
        if seen is None or seen.motor < self.bench.drives:
            return
        i = seen.motor - self.bench.drives
        if i in self._record.offsets:
            change = self.bench.absolute_change(i, before, after)
            self._record.agree[i] = 1 if change * seen.count > 0 else -1

    def say(self, step: Step, option: Option, before: Floats | None = None, after: Floats | None = None) -> str:
        """Take a person's answer; returns it in words."""
        self.probes += 1
        if before is not None and after is not None:
            self._note_sensor(self.bench.look(before, after, self.place == "floor"), before, after)
        said = f"port {self.bench.ports[step.port]}: {option.text} (you)"
        if option.of is None:
            key = (step.port, step.asks == "motion")
            self._unread[key] = self._unread.get(key, 0) + 1
            return said
        self.hypotheses.take(Answer(step.port, said, self.hypotheses.allowed(option.of, option.outcome), True))
        return said

    @property
    def at_first(self) -> int:
        """How many explanations there were before anything was seen."""
        return self._at_first


def _motion(wire: Wire) -> tuple[int, int]:
    return wire.motor, wire.sign
