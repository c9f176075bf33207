"""Which value of a rig uses which pin of a board, in both directions."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field
from pathlib import Path

from pivrex.board.chips import CHIPS
from pivrex.board.printing import number_in_c
from pivrex.devices.robot_sentences import back_columns, wire_hash
from pivrex.errors import Mistake, RigError
from pivrex.line.layout import Column, plain
from pivrex.line.line import Line
from pivrex.rig.attachments import Encoded, MotorAttachment
from pivrex.rig.pin_uses import PinUse, pins_of
from pivrex.rig.rig import Rig
from pivrex.rig.sensors import Ranger
from pivrex.rig.sources import NumbersSource, PacketsSource, PinsSource, RigSource
from pivrex.rig.steering import VoltageSensor, steering_name
from pivrex.rig.transports import SerialTransport

__all__ = ["START", "TILTS", "Back", "BoardWiring", "OutputPin", "Place", "Sensed", "transmitting", "wired", "word_of"]

ROLES = {
    "duty": ("pwm", ("pin", "enable_pin")),
    "direction": ("level", ("direction_pin",)),
    "forward_duty": ("pwm", ("forward_pin",)),
    "backward_duty": ("pwm", ("backward_pin",)),
    "forward": ("level", ("forward_pin",)),
    "backward": ("level", ("backward_pin",)),
    "pulse": ("pulse", ("pin",)),
    "pin": ("level", ("pin",)),
}
"""By the name of a value: what its pin does, and how the rig may call that."""

START = "start"
"""The channel of the button that begins a routine."""

SOUND_M_S = 343.0
"""At 20 degrees Celsius."""


@dataclass(frozen=True)
class Place:
    """A pin in use: its name in C, its use in the rig, and for PWM how far it counts and how often it switches."""

    name: str
    use: PinUse
    full: int = 0
    pwm_hz: float = 0.0
    column: str = ""
    factor: float = 0.0
    """Of what is sensed: by which column, and what a unit of it is there: counts, mV, or us of an echo."""
    channel: str = ""
    """Of a stick or a button: which it is."""


@dataclass(frozen=True)
class OutputPin:
    """A value that leaves: how it reaches its pin, and at rest. Without a place it is the student's own code that gives it."""

    title: str
    kind: str
    place: Place | None
    rest: float


@dataclass(frozen=True)
class Sensed:
    """A column of what is sensed, as an expression of C: empty where only the student's own code can sense it.

    ``known`` is whether anything can; ``counter`` the place of an encoder whose counts it is, ``share`` what each of them is.
    """

    title: str
    value: str
    known: bool = True
    counter: str = ""
    share: float = 0.0


@dataclass(frozen=True)
class Back:
    """A value that comes back over the link: which sensed column it is, -1 for none, and whether it is a count."""

    title: str
    column: int
    counts: bool = False


@dataclass
class BoardWiring:
    """All that a board's program must know of a rig.

    Attributes
    ----------
    places : dict of str to list of Place
        By kind: pwm, level, pulse, count (two each), sensor (an analogue pin), range (trigger and echo), button.
    missing : list of str
        What has no pin, by its key, and what becomes of it.
    alone, sender
        Whether the board drives by itself; or of which source it is the transmitter.
    """

    line: Line
    alone: bool = False
    sender: str = ""
    places: dict[str, list[Place]] = field(
        default_factory=lambda: {k: [] for k in ("pwm", "level", "pulse", "count", "sensor", "range", "button")}
    )
    outputs: list[OutputPin] = field(default_factory=list)
    sensed: list[Sensed] = field(default_factory=list)
    back: list[Back] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)

    @property
    def rig(self) -> Rig:
        return self.line.rig

    @property
    def source(self) -> RigSource | None:
        """The source of a board that is alone, or of a transmitter."""
        name = self.sender or (self.rig.board.source if self.alone else "")
        return self.rig.sources.get(name)

    @property
    def radio(self) -> NumbersSource | PacketsSource | None:
        """That, if the board hears it as a radio."""
        source = self.source
        return source if isinstance(source, NumbersSource | PacketsSource) and not self.sender else None

    @property
    def shares_port(self) -> bool:
        """Whether the radio has the chip's one serial port, so that a laptop only listens."""
        return self.radio is not None and not CHIPS[self.rig.board.chip].radio

    @property
    def baud(self) -> int:
        """The speed of the serial line to a laptop."""
        source, link = self.source, self.rig.link
        own = isinstance(source, NumbersSource | PacketsSource) and (self.shares_port or bool(self.sender))
        wire = source.wire if own else link.wire if link is not None else None  # type: ignore[union-attr]
        return wire.baud if isinstance(wire, SerialTransport) else 115200

    @property
    def hash(self) -> str:
        return wire_hash(self.line)


def word_of(*names: str) -> str:
    """Return names as one of C: capitals, with underscores."""
    return re.sub(r"\W+", "_", "_".join(names)).upper()


def wired(line: Line, alone: bool = False) -> BoardWiring:
    """Return what of a rig sits on which pin; of one that drives ``alone`` its stick too."""
    made = BoardWiring(line, alone)
    uses: dict[str, list[PinUse]] = {}
    for use in pins_of(line.rig):
        uses.setdefault(use.owner, []).append(use)
    _give(made, uses)
    _come_back(made, uses)
    source = made.source
    if isinstance(source, PinsSource):
        _read_sticks(made, line.rig.board.source, source)
    begins = [u for u in uses.get("board", []) if u.key == "board.start_pin"]  # an attachment may be called so too
    if alone and begins:
        made.places["button"].append(Place(word_of("button", START), begins[0], channel=START))
    return made


def transmitting(line: Line, name: str) -> BoardWiring:
    """Return what sits on the pins of the transmitter of a source; raises `RigError` if it names none."""
    source = line.rig.sources.get(name)
    key = f"sources.{name}"
    if not isinstance(source, NumbersSource | PacketsSource) or getattr(source, "labels", None):
        known = (
            ", ".join(n for n, s in line.rig.sources.items() if isinstance(s, NumbersSource | PacketsSource)) or "none"
        )
        raise RigError(
            Path("rig"), [Mistake(0, key, f"is not packets, nor numbers with columns; those of this rig are {known}")]
        )
    made = BoardWiring(line, sender=name)
    lacks = [c for c in source.columns if c not in source.pins and c != "-"]
    if lacks:
        raise RigError(Path("rig"), [Mistake(0, f"{key}.pins", f"names no pin for {', '.join(lacks)}")])
    _read_sticks(made, name, source)
    return made


def _read_sticks(made: BoardWiring, name: str, source: PinsSource | NumbersSource | PacketsSource) -> None:
    for channel, pin in source.pins.items():
        kind = "button" if channel.startswith("button_") else "sensor"
        use = PinUse(f"sources.{name}.pins.{channel}", name, channel, pin)
        made.places[kind].append(Place(word_of(kind, name, channel), use, channel=channel))


def _give(made: BoardWiring, uses: dict[str, list[PinUse]]) -> None:
    rig = made.rig
    outputs = {
        **dict(zip(rig.motor_names, rig.outputs().values(), strict=True)),
        **{n: a.output for n, a in rig.attachments.items()},
    }
    rest = made.line.resting()
    for value, at_rest in zip(made.line.outputs.values, rest.tolist(), strict=True):
        output = outputs.get(value.motor)
        kind, roles = ROLES.get(value.name, ("", ()))
        if getattr(output, "kind", "") == "duty":
            kind = ""  # a signed duty needs to say its direction somehow: it is no single pin
        use = next((u for u in uses.get(value.motor, []) if u.role in roles and ".output." in u.key), None)
        title = f"{value.motor} {value.name}"
        if use is None or not kind:
            made.outputs.append(OutputPin(title, "", None, at_rest))
            if value.motor != "robot":
                why = (
                    "is one signed number, which no pin can say"
                    if getattr(output, "kind", "") == "duty"
                    else "has no pin"
                )
                made.missing.append(f"{title} {why}: mine_give in mine.c gets it")
            continue
        full = int(getattr(output, "full", 1))
        place = Place(word_of(kind, *title.split()), use, full, float(getattr(output, "pwm_hz", 0.0)))
        made.places[kind].append(place)
        made.outputs.append(OutputPin(title, kind, place, at_rest))


def _come_back(made: BoardWiring, uses: dict[str, list[PinUse]]) -> None:
    rig, says = made.rig, {}
    for wheel in rig.chassis.wheels:
        name, motor = next((n, m) for n, m in rig.motors.items() if wheel.name in m.wheels)
        share = math.tau * wheel.radius_m / motor.counts_per_wheel_turn if motor.counts_per_turn else 0.0
        says[f"{plain(wheel.name)}_travel"] = says[f"{plain(wheel.name)}_speed"] = (name, share, motor.encoder_reversed)
    for steered in rig.steered:
        turner = rig.steering.wheels[steered]  # type: ignore[union-attr]
        counts = turner.counts_per_turn * turner.gear
        share = math.tau / counts if counts else 0.0
        says[f"{plain(steered)}_turned"] = (steering_name(steered), share, turner.encoder_reversed)
    for name, a in rig.attachments.items():
        if isinstance(a, Encoded | MotorAttachment) and a.counts_per_turn:
            at = f"{plain(name)}_{'at' if isinstance(a, Encoded) else 'shaft'}"
            says[at] = (name, math.tau / a.counts_per_turn, a.encoder_reversed)
    for column in made.line.stages["sensed"].columns:
        if column.name in says:
            owner, share, is_reversed = says[column.name]
            own = _of_encoder(made, uses, owner, -share if is_reversed else share, column)
            lack = f"{owner} has counts_per_turn but no encoder_pins: mine_sense in mine.c may return {_said(column)}"
        else:
            own = Sensed(column.title, *_of_sensor(made, uses, column.name))
            lack = f"{_said(column)} has no pin: mine_sense in mine.c may return it"
        made.sensed.append(own)
        if own.known and not own.value and not (column.name in says and column.name.endswith("_speed")):
            made.missing.append(lack)
    places = {c.name: k for k, c in enumerate(made.line.stages["sensed"].columns)}
    for one in back_columns(made.line):
        known = one.stage == "sensed"  # the others are true of a simulated robot only
        made.back.append(Back(one.title, places[one.name] if known else -1, one.unit == "counts"))


def _said(column: Column) -> str:
    """Return a column as a person says it: "left travel (m)"."""
    return column.name.replace("_", " ") + (f" ({column.unit})" if column.unit else "")


def _of_encoder(made: BoardWiring, uses: dict[str, list[PinUse]], owner: str, share: float, column: Column) -> Sensed:
    """Return how a board senses an encoder; ``share`` is the value of a count, with its sign."""
    if not share:
        return Sensed(column.title, "", known=False)
    pins = [u for u in uses.get(owner, []) if u.role.startswith("encoder")]
    if len(pins) != 2:
        return Sensed(column.title, "")
    name = word_of("count", owner)
    if name not in [p.name for p in made.places["count"]]:
        made.places["count"] += [Place(name, pin, column=column.name, factor=1.0 / share) for pin in pins]
    if column.name.endswith("_speed"):
        return Sensed(column.title, f"per_second[{name}] * {number_in_c(share)}")
    return Sensed(column.title, f"(real)board_count({name}) * {number_in_c(share)}", counter=name, share=share)


TILTS = {"lean_rate": "tilt rate", "accel_forward": "tilt forward", "accel_up": "tilt up"}
"""The pins of a tilt sensor, by what it says; each says nothing at half of the supply."""


def _of_sensor(  # noqa: PLR0911 - a case for each sensor
    made: BoardWiring, uses: dict[str, list[PinUse]], column: str
) -> tuple[str, bool]:
    """Return how a board senses it, and whether anything can."""
    rig = made.rig
    sensors, supply_mV = {plain(n): s for n, s in rig.sensors.items()}, rig.board.supply_V * 1000  # noqa: N806 - millivolts
    if column.endswith("_absolute") and rig.steering is not None:
        wheel = next(w for w in rig.steered if f"{plain(w)}_absolute" == column)
        sensor = rig.steering.wheels[wheel].sensor
        use = next((u for u in uses.get(steering_name(wheel), []) if u.role == "angle sensor"), None)
        if sensor is None:
            return "", False
        if use is None or not isinstance(sensor, VoltageSensor):
            return "", True
        place = _analogue(made, use, column, supply_mV / sensor.at_supply)
        return f"(real)board_sensor({place}) * R({sensor.at_supply!r}) / ANALOGUE_FULL", True
    if column == "gyro" and "gyro" in uses and rig.gyro is not None:
        _analogue(made, uses["gyro"][0], column, 1000.0 / rig.gyro.per_V_rad_s)
        return "gyro_rad", True
    if column in TILTS and rig.tilt is not None and TILTS[column] in uses:
        per_volt = rig.tilt.per_V_rad_s if column == "lean_rate" else rig.tilt.g_per_V
        place = _analogue(made, uses[TILTS[column]][0], column, 1000.0 / per_volt)
        return f"((real)board_sensor({place}) / ANALOGUE_FULL - R(0.5)) * R({rig.board.supply_V * per_volt!r})", True
    if column == "battery" and "battery" in uses:
        share = rig.battery.r2_ohm / (rig.battery.r1_ohm + rig.battery.r2_ohm)
        place = _analogue(made, uses["battery"][0], column, 1000.0 * share)
        factor = rig.board.supply_V / share
        return f"(real)board_sensor({place}) * R({factor!r}) / ANALOGUE_FULL", True
    if isinstance(sensors.get(column), Ranger):
        name = next(n for n in rig.sensors if plain(n) == column)
        pins = [u for u in uses.get(name, []) if u.role in ("trigger", "echo")]
        if len(pins) == 2:
            place = word_of("range", name)
            made.places["range"] += [Place(place, pin, column=column, factor=2e6 / SOUND_M_S) for pin in pins]
            return f"(real)board_sensor({place}) * R({SOUND_M_S / 2e6!r})", True
    return "", True


def _analogue(made: BoardWiring, use: PinUse, column: str, factor: float) -> str:
    place = Place(word_of("sensor", use.owner), use, column=column, factor=factor)
    made.places["sensor"].append(place)
    return place.name
