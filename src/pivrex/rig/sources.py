"""The sources of a rig: serial sticks, letters, packets, bit-field frames, and gamepads known by their identity."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, field_validator

from pivrex.rig.base import Table
from pivrex.rig.channels import CHANNELS, STICKS
from pivrex.rig.chassis import Name
from pivrex.rig.controls import Axis
from pivrex.rig.outputs import Pin
from pivrex.rig.quantities import Quantity
from pivrex.rig.transports import UdpTransport, Wire

__all__ = [
    "BUILT_IN",
    "FramesSource",
    "GamepadSource",
    "LettersSource",
    "NumbersSource",
    "PacketsSource",
    "PinsSource",
    "RigSource",
    "letter_channel",
]

BUILT_IN = ("chosen", "gamepad", "keys", "sticks", "session")
"""Names that a source of a rig cannot have."""

SHOWN = ("ready", "linked", "recording")
"""What the source "session" says; lamps show it."""

Byte = Annotated[int, Field(ge=0, le=255)]


class _Source(Table):
    NATURE: ClassVar[Literal["stream", "event"]] = "stream"
    axes: dict[str, Axis] = Field(
        default_factory=dict,
        description="Calibration of this source's own channels; it counts instead of [axes] for what this source says.",
    )
    when_lost: Literal["stop", "ramp"] = Field(
        default="stop",
        description="What the robot does if it is lost: stop at once, or ramp down within a set time.",
        examples=["ramp"],
    )
    ramp_s: Annotated[float, Quantity("time", above=0, at_most=5)] = Field(
        default=0.4, alias="ramp", description="The time to ramp down.", examples=["400 ms"]
    )

    @field_validator("axes", mode="after")
    @classmethod
    def _triggers_begin_where_they_rest(cls, axes: dict[str, Axis]) -> dict[str, Axis]:
        return {channel: axis.of_channel(channel) for channel, axis in axes.items()}

    @property
    def silent_s(self) -> float | None:
        """The time of silence after which it counts as lost, in s; None if silence says nothing."""
        return None

    @property
    def idle(self) -> Literal["lost", "no change", "neutral"]:
        """The action after silence."""
        return "lost"

    def channels(self) -> tuple[str, ...]:
        """Return the channels that it has."""
        raise NotImplementedError

    def problems(self) -> list[tuple[str, str]]:
        """Return the mistakes between its keys, like `Table.mistakes`; the rig asks, so that all are reported at once."""
        there = self.channels()
        return [
            (f"{key}.{name}", f"is no channel of this source, which has {', '.join(there)}")
            for key in ("axes", "pins")
            for name in getattr(self, key, ())
            if name not in there
        ]


class _Silent(_Source):
    silent_after_s: Annotated[float, Quantity("time", at_least=0.02, at_most=10)] | None = Field(
        default=None,
        alias="silent_after",
        description="A stream is lost after this time of silence. Needed for every stream.",
        examples=["200 ms"],
    )
    silence: Literal["lost", "no change", "neutral"] = Field(
        default="lost",
        description="The meaning of silence: lost; no change, for a remote that is silent while nothing changes; or neutral, "
        "for one that is silent when it is released.",
        examples=["lost"],
    )

    @property
    def silent_s(self) -> float | None:
        return self.silent_after_s

    @property
    def idle(self) -> Literal["lost", "no change", "neutral"]:
        return self.silence

    def problems(self) -> list[tuple[str, str]]:
        found = super().problems()
        if self.silent_after_s is None and self.needs_time:
            found.append(
                ("silent_after", f'is missing; {self.needs_time}. Say after which time it is lost, such as "200 ms"')
            )
        return found

    @property
    def needs_time(self) -> str:
        """Why it needs a time of silence; empty if it does not."""
        return "a stream that stops talking is only known by its silence"


class GamepadSource(_Source):
    """A gamepad known by its identity, in whatever port it is plugged."""

    NATURE: ClassVar[Literal["stream", "event"]] = "event"
    kind: Literal["gamepad"]
    device: str = Field(
        description="Its identity, as the view Driver shows it.", examples=["03000000ff1100004133000010010000"]
    )

    def channels(self) -> tuple[str, ...]:
        return CHANNELS


class PinsSource(_Source):
    """A stick and buttons on pins of the robot's own board, which reads them when it drives by itself; see `[board]`."""

    kind: Literal["pins"]
    pins: dict[str, Pin] = Field(
        min_length=1,
        description="The pin of each channel: an analogue one for a stick or a trigger, any for a button, which connects its pin to ground.",
        examples=[{"left_y": "A0", "button_0": 2}],
    )
    low: Annotated[float, Quantity("number")] = Field(
        default=0.0, description="The converter's reading at one end of a stick.", examples=[100]
    )
    high: Annotated[float, Quantity("number")] = Field(
        default=1023.0,
        description="Its reading at the other end. A stick that reads more than 2 % outside low and high counts as broken off, "
        "and the robot rests: with a resistor at each end a loose wire is found.",
        examples=[920],
    )

    def channels(self) -> tuple[str, ...]:
        return tuple(self.pins)

    def problems(self) -> list[tuple[str, str]]:
        found = super().problems()
        if not 0 <= self.low < self.high <= 1023:
            found.append(("low", f"is {self.low:g} and high {self.high:g}, but the converter reads from 0 to 1023"))
        found += [
            (f"pins.{c}", f"is no channel; they are {', '.join(CHANNELS[:4])}, button_0 and so on")
            for c in self.pins
            if c not in CHANNELS
        ]
        return found


class _Sent(_Silent):
    """A stream of a transmitter that the team builds too."""

    pins: dict[str, Pin] = Field(
        default_factory=dict,
        description="The pins of the transmitter's own board, by channel, for `pivrex board RIG --source NAME`: an analogue one for a stick or "
        "a trigger, any for a button, which connects its pin to ground.",
        examples=[{"left_y": "A0", "button_0": 2}],
    )


class NumbersSource(_Sent):
    """Lines of numbers, as a bare stick on a serial line sends them: "512 498 0", "x:512,y:498"."""

    kind: Literal["numbers"]
    wire: Wire = Field(description="Where it is heard.")
    columns: tuple[str, ...] = Field(
        default=(),
        description='The channel of each number of a line; "-" for one that you do not need.',
        examples=[["left_x", "left_y", "button_0"]],
    )
    labels: dict[str, str] = Field(
        default_factory=dict,
        description="For lines with labels: the channel of each label. Upper and lower case count as the same.",
    )
    low: Annotated[float, Quantity("number")] = Field(
        default=0.0, description="The smallest number that the device can send for a stick.", examples=[0]
    )
    high: Annotated[float, Quantity("number")] = Field(
        default=1023.0,
        description="The largest; 1023 for 10 bits, 255 for 8, 4095 for 12, 65535 for 16.",
        examples=[1023],
    )
    hello: str = Field(
        default="",
        description="Text that is sent to the device each time that it is opened, to set it up.",
        examples=["rate 50\\n"],
    )

    def channels(self) -> tuple[str, ...]:
        return tuple(c for c in dict.fromkeys((*self.columns, *self.labels.values())) if c != "-")

    @property
    def hello_bytes(self) -> bytes:
        """The bytes that are sent to the device each time that it is opened; empty if they cannot be read."""
        try:
            return self.hello.encode("ascii").decode("unicode_escape").encode("latin-1")
        except UnicodeError:
            return b""

    def problems(self) -> list[tuple[str, str]]:
        found = super().problems()
        if bool(self.columns) == bool(self.labels):
            found.append(("columns", "or labels must say what the numbers are, and only one of them"))
        if self.low >= self.high:
            found.append(("low", f"is {self.low:g}, but must be less than high, {self.high:g}"))
        found += _twice("columns", [c for c in self.columns if c != "-"])
        if not self.hello_bytes and self.hello:
            found.append(("hello", "has a backslash that means nothing; write \\n for a line end, \\x02 for a byte"))
        return found


class LettersSource(_Silent):
    """A remote that sends one character a command."""

    NATURE: ClassVar[Literal["stream", "event"]] = "event"
    kind: Literal["letters"]
    wire: Wire = Field(description="Where it is heard.")
    letters: dict[str, str] = Field(
        min_length=1,
        description='The action of each character, as in a binding; with "for 300 ms" after it only for that time, otherwise '
        "until the next letter of the same kind.",
    )
    either_case: bool = Field(
        default=False, description="True if upper and lower case have the same meaning.", examples=[False]
    )
    lasting_s: Annotated[float, Quantity("time", at_least=0.05, at_most=60)] = Field(
        default=1.0,
        alias="lasting",
        description="How long a motion lasts after its letter, without its own time or another letter; after such a silence nothing moves.",
        examples=["1 s"],
    )
    framed: bool = Field(
        default=False,
        description="True if the letters come in sentences `$PIVLET,SENDER,SEQ,LETTERS*hh`, which can be checked, counted and, "
        "with a key, trusted; see docs/wire.md.",
        examples=[False],
    )
    echo: bool = Field(
        default=False,
        description="True if each letter is answered on the wire with a line that says what it did, `> F forward 50 %`: a serial monitor "
        "shows a conversation. Not for framed letters.",
        examples=[True],
    )
    sender: str = Field(
        default="", description="Of framed letters: the sender that the robot is paired with.", examples=["green box"]
    )

    def channels(self) -> tuple[str, ...]:
        return tuple(letter_channel(c) for c in self.letters)

    @property
    def needs_time(self) -> str:
        if isinstance(self.wire, UdpTransport) and self.silence == "lost":
            return "over UDP there is no connection that could be lost"
        return ""

    def problems(self) -> list[tuple[str, str]]:
        found = super().problems()
        if self.framed:
            found += _sender_problems(self.sender)
        elif self.sender:
            found.append(("sender", "is for framed letters only; write framed = true, or leave it out"))
        if self.echo and self.framed:
            found.append(
                ("echo", "is for letters that are not framed: sentences are counted and checked, and read by no person")
            )
        for letter in self.letters:
            if letter == ">" and self.echo:
                found.append(("letters.>", "begins each answer; take another letter, or leave echo out"))
            if len(letter) != 1 or not letter.isprintable() or letter == " ":
                found.append((f"letters.{letter}", "is not one printable character"))
            elif self.framed and (not letter.isascii() or letter in "$*,"):
                found.append((f"letters.{letter}", "cannot stand in a sentence; take a plain letter or digit"))
            elif self.either_case and letter.swapcase() != letter and letter.swapcase() in self.letters:
                found.append(
                    (f"letters.{letter}", "is there in both cases, but either_case says that they mean the same")
                )
        return found


class PacketsSource(_Sent):
    """Packets of a radio, framed as sentences; see docs/wire.md."""

    kind: Literal["packets"]
    wire: Wire = Field(description="Where it is heard.")
    sender: str = Field(
        description="The sender that the robot is paired with; others are refused.", examples=["green radio"]
    )
    columns: tuple[str, ...] = Field(
        default=(*STICKS, "left_trigger", "right_trigger"),
        description="The channel of each number of a packet.",
        examples=[["left_x", "left_y"]],
    )
    full: Annotated[float, Quantity("number", above=0, at_most=1e9)] = Field(
        default=1.0, description="The number that means 1; for senders with another scale.", examples=[1.0]
    )
    zero: Annotated[float, Quantity("number")] = Field(
        default=0.0, description="The number that means 0.", examples=[0.0]
    )

    def channels(self) -> tuple[str, ...]:
        return (*self.columns, *(f"button_{n}" for n in range(17) if n not in (6, 7)))

    def problems(self) -> list[tuple[str, str]]:
        return super().problems() + _twice("columns", list(self.columns)) + _sender_problems(self.sender)


class FrameField(Table):
    """Some bits of a frame."""

    channel: Name | str = Field(description="Their channel.", examples=["left_y"])
    bit: Annotated[int, Field(ge=0, le=511)] = Field(
        description="The first bit, counted from 0 at the first byte's highest bit, without the mark.", examples=[8]
    )
    width: Annotated[int, Field(ge=1, le=32)] = Field(default=1, description="How many bits.", examples=[8])
    low_first: bool = Field(
        default=False, description="True if the byte with the low bits comes first.", examples=[False]
    )
    offset: Annotated[float, Quantity("number")] = Field(
        default=0.0, description="A number that is added to the bits' value.", examples=[-128]
    )
    scale: Annotated[float, Quantity("number")] = Field(
        default=1.0, description="A factor for the result.", examples=[0.0078125]
    )


class FramesSource(_Silent):
    """Frames of bits, as toy remotes send them: a mark, a fixed number of bytes, a check."""

    kind: Literal["frames"]
    wire: Wire = Field(description="Where it is heard.")
    mark: tuple[Byte, ...] = Field(
        min_length=1, max_length=8, description="The bytes that begin a frame.", examples=[[170, 85]]
    )
    length: Annotated[int, Field(ge=1, le=64)] = Field(
        description="How many bytes follow the mark, without the check.", examples=[4]
    )
    check: Literal["none", "sum", "xor", "complement", "crc8"] = Field(
        default="sum",
        description="The byte after them: the sum of the bytes, their exclusive-or, the complement of the sum, or a CRC with "
        "the polynomial 0x07. None: there is no such byte.",
        examples=["sum"],
    )
    fields: tuple[FrameField, ...] = Field(min_length=1, description="What the bits mean.")

    def channels(self) -> tuple[str, ...]:
        return tuple(f.channel for f in self.fields)

    def problems(self) -> list[tuple[str, str]]:
        found = super().problems()
        for i, field in enumerate(self.fields):
            if field.bit + field.width > self.length * 8:
                found.append(
                    (
                        f"fields.{i}.bit",
                        f"reaches to bit {field.bit + field.width - 1}, but the frame has {self.length * 8} bits",
                    )
                )
            if field.low_first and (field.bit % 8 or field.width % 8):
                found.append((f"fields.{i}.low_first", "needs whole bytes: bit and width must be multiples of 8"))
            if field.channel in [f.channel for f in self.fields[:i]]:
                found.append((f"fields.{i}.channel", f'is "{field.channel}" again'))
        return found


RigSource = Annotated[
    GamepadSource | PinsSource | NumbersSource | LettersSource | PacketsSource | FramesSource,
    Field(discriminator="kind"),
]


def letter_channel(letter: str) -> str:
    """Name the channel of a letter."""
    return f"letter {letter}"


def _sender_problems(sender: str) -> list[tuple[str, str]]:
    if 0 < len(sender) <= 24 and sender.isascii() and sender.isprintable() and not set(sender) & set("$*,"):
        return []
    return [("sender", "must be 1 to 24 plain characters without $, * and comma")]


def _twice(key: str, names: list[str]) -> list[tuple[str, str]]:
    return [(f"{key}.{i}", f'is "{name}" again') for i, name in enumerate(names) if name in names[:i]]
