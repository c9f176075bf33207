"""The sentences between Pivrex and a robot: written, split if they are long, joined and read. See docs/wire.md."""

from __future__ import annotations

import math
import zlib
from collections import deque
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.seal import SEAL_BYTES
from pivrex.devices.sentence import frame
from pivrex.line.input_stages import TRUTH
from pivrex.line.layout import Column, Floats, plain
from pivrex.line.line import Line
from pivrex.rig.attachments import Encoded, MotorAttachment
from pivrex.rig.motors import Motor
from pivrex.rig.rig import Rig
from pivrex.rig.steering import SteeringMotor

__all__ = [
    "STALE_S",
    "STAMPS",
    "Back",
    "Out",
    "Parts",
    "SensedWire",
    "age_of",
    "back_columns",
    "out_sentences",
    "read_out",
    "read_sensed",
    "sensed_sentences",
    "stamp_of",
    "wire_hash",
]

FIXED = {"PIVOUT": 5, "PIVSEN": 4}
"""Words before the values: kind, number, and what follows it."""

STAMPS = 1 << 16
"""Stamps are a clock in ms that goes round after so many."""

SPEED_OVER_MS, LONGEST_AGO_MS = 30, 1000
"""Over how long at least, and at most, a speed comes from counts: stamps are whole ms."""

STALE_S = 0.25
"""An echo that is older says that what comes was on its way for too long, or that no one hears the robot."""

Sign = Callable[[str], str]
"""Seals a body."""


class Out(NamedTuple):
    """The head of an output sentence: its number, the stamp of the newest sensed sentence (None before the first), and whether to drive."""

    seq: int
    echo: int | None
    drive: bool


class Back(NamedTuple):
    """The head of a sensed sentence: the robot's clock, the newest obeyed number (None before the first), and its state."""

    stamp: int
    ack: int | None
    state: int


MAX_PARTS = 99


def wire_hash(line: Line) -> str:
    """Return what a rig's robot must agree on, in eight hexadecimal digits: the CRC-32 of the names and units of the values
    that leave and come back, in order, with a line end behind each (ISO-HDLC, as zlib computes it).
    """
    names = [f"{v.motor} {v.name} {v.unit}" for v in line.outputs.values]
    names += [c.title for c in back_columns(line)]
    return f"{zlib.crc32(''.join(n + chr(10) for n in names).encode()):08X}"


def back_columns(line: Line) -> list[Column]:
    """Return the columns of the values that come back: what is sensed, then what is true of it, should someone know."""
    return [*SensedWire(line).columns, *line.stages["truth"].columns[: len(TRUTH)]]


class SensedWire:
    """How what is sensed stands in a sentence: as the line has it, or what encoders say as their counts. Then the speeds of
    wheels do not travel: they come from counts and stamps.

    Attributes
    ----------
    columns : list of Column
        What travels, in order.
    """

    def __init__(self, line: Line) -> None:
        columns = line.stages["sensed"].columns
        per_count = _per_count(line.rig)
        counted = line.rig.link is not None and line.rig.link.encoders == "counts"
        self._count = len(columns)
        speeds = [f"{plain(w.name)}_speed" for w in line.rig.chassis.wheels] if counted else []
        self._speeds = [k for k, c in enumerate(columns) if c.name in speeds]
        self._travels = [k - len(self._speeds) for k in self._speeds]
        self._places = [k for k in range(len(columns)) if k not in self._speeds]
        self.columns = [
            Column("sensed", c.name, "counts") if counted and c.name in per_count else c
            for c in (columns[k] for k in self._places)
        ]
        self._factors = np.array([per_count[c.name] if c.unit == "counts" else 1.0 for c in self.columns])
        self._heard: deque[tuple[int, Floats]] = deque(maxlen=8)

    def written(self, sensed: Floats) -> Floats:
        """Return what a robot's end says that senses ``sensed``, (S,)."""
        values = sensed[self._places] / np.where(self._factors, self._factors, np.inf)
        return np.where([c.unit == "counts" for c in self.columns], np.rint(values), values)

    def read(self, values: Floats, stamp: int) -> Floats:
        """Return what is sensed, (S,), NaN where it is not known; ``stamp`` is the robot's clock in ms.

        A speed is the way since a stamp that is at least `SPEED_OVER_MS` old, over the time since then.
        """
        sensed = np.full(self._count, np.nan)
        sensed[self._places] = values * self._factors
        if self._speeds:
            travel = sensed[self._travels]
            ages = [(stamp - at) % STAMPS for at, _ in self._heard]
            old = next((k for k in reversed(range(len(ages))) if SPEED_OVER_MS <= ages[k] <= LONGEST_AGO_MS), None)
            if old is not None:
                sensed[self._speeds] = (travel - self._heard[old][1]) / (ages[old] / 1e3)
            self._heard.append((stamp, travel))
        return sensed


def _per_count(rig: Rig) -> dict[str, float]:
    """Return what a count of each encoder is, in m or rad of what is sensed, by column; 0 without an encoder."""
    found = {}
    for wheel in rig.chassis.wheels:
        motor = next(m for m in rig.motors.values() if wheel.name in m.wheels)
        found[f"{plain(wheel.name)}_travel"] = _share(motor, motor.counts_per_wheel_turn) * math.tau * wheel.radius_m
    steering = rig.steering.wheels if rig.steering is not None else {}
    for name, turner in steering.items():
        found[f"{plain(name)}_turned"] = _share(turner, turner.counts_per_turn * turner.gear) * math.tau
    for name, a in rig.attachments.items():
        if isinstance(a, Encoded):
            found[f"{plain(name)}_at"] = _share(a, a.counts_per_turn) * math.tau
        elif isinstance(a, MotorAttachment):
            found[f"{plain(name)}_shaft"] = _share(a, a.counts_per_turn) * math.tau
    return found


def _share(motor: Motor | SteeringMotor | Encoded | MotorAttachment, counts: float) -> float:
    """Return the share of a turn that is one count, by the sign of its encoder."""
    return (-1.0 if motor.encoder_reversed else 1.0) / counts if counts else 0.0


def _told(value: float) -> str:
    if math.isnan(value):
        return ""  # an empty field: it is not known
    return str(int(value)) if float(value).is_integer() and abs(value) < 1e9 else f"{value:.6g}"


def out_sentences(out: Out, rig_hash: str, commands: Floats, sign: Sign | None = None) -> list[bytes]:
    """Write ``$PIVOUT,SEQ,ECHO,MODE,HASH,VALUES...*hh``, in parts if it is long; mode 1 drives, 0 rests."""
    echo = "" if out.echo is None else out.echo
    return _cut("PIVOUT", out.seq, f"{echo},{int(out.drive)},{rig_hash}", commands, sign)


def sensed_sentences(back: Back, sensed: Floats, sign: Sign | None = None) -> list[bytes]:
    """Write ``$PIVSEN,STAMP,ACK,STATE,VALUES...*hh``, in parts if it is long: state 0 rests, 1 drives, 2 was left alone and
    waits for a rest.
    """
    return _cut("PIVSEN", back.stamp, f"{'' if back.ack is None else back.ack},{back.state}", sensed, sign)


def _cut(kind: str, seq: int, middle: str, values: Floats, sign: Sign | None) -> list[bytes]:
    """Write a sentence; one that would be longer than a line may be becomes parts, ``SEQ/PART/PARTS`` in place of its number,
    each with as many of the values as it has room for. ``sign`` seals each body.
    """
    sign = sign or str
    words = [_told(v) for v in values.tolist()]
    whole = frame(sign(f"{kind},{seq},{middle},{','.join(words)}"))
    if len(whole) - len("\r\n") <= LONGEST_LINE:
        return [whole]
    seal = 0 if sign is str else SEAL_BYTES
    room = LONGEST_LINE - len(f"${kind},{seq}/{MAX_PARTS}/{MAX_PARTS},{middle}*hh") - seal
    parts: list[list[str]] = [[]]
    left = room
    for word in words:
        if len(word) + 1 > left:
            parts.append([])
            left = room
        parts[-1].append(word)
        left -= len(word) + 1
    bodies = (f"{kind},{seq}/{n}/{len(parts)},{middle},{','.join(part)}" for n, part in enumerate(parts, 1))
    return [frame(sign(body)) for body in bodies]


class Parts:
    """Joins the parts of a sentence. They come in order; one that is missing spoils only its own sentence."""

    def __init__(self) -> None:
        self._words: list[str] = []
        self._next = (1, 0)

    def whole(self, words: list[str]) -> list[str] | None:
        """Take the words of a sentence or of a part; returns those of a whole sentence, None while parts are missing.

        Raises
        ------
        ValueError
            For a part that does not follow the one before it.
        """
        fixed = FIXED.get(words[0], len(words) + 1)
        if len(words) < fixed or "/" not in words[1]:
            return words
        seq, _, rest = words[1].partition("/")
        part, _, parts = rest.partition("/")
        if not (part.isdecimal() and parts.isdecimal() and 1 <= int(part) <= int(parts) <= MAX_PARTS):
            raise ValueError(f"the number {words[1][:20]}, which is no part of a sentence")
        head = [words[0], seq, *words[2:fixed]]
        now = (int(part), int(parts))
        if now[0] == 1:
            self._words = head
        elif now != self._next or head != self._words[:fixed]:
            self._next, self._words = (1, 0), []
            raise ValueError(f"part {part} of {parts} without those before it")
        self._words = [*self._words, *words[fixed:]]
        self._next = (now[0] + 1, now[1])
        return self._words if now[0] == now[1] else None

    def forget(self) -> None:
        """Drop what is not whole yet."""
        self._words, self._next = [], (1, 0)


def read_out(words: list[str], rig_hash: str, count: int, highest: int = STAMPS - 1) -> tuple[Out, list[float]]:
    """Read the words of an output sentence; of a rest the values do not matter. Of a part that says rest it gives the rest:
    no one waits for the others. ``highest`` is the highest sequence number.

    Raises
    ------
    ValueError
        With what is wrong.
    """
    fixed = FIXED["PIVOUT"]
    if words[0] != "PIVOUT" or len(words) < fixed:
        raise ValueError(f"a sentence {words[0][:12]}, but PIVOUT is awaited")
    if words[4] != rig_hash:
        raise ValueError(f"for the rig {words[4][:12]}, but this robot has {rig_hash}")
    seq = words[1].partition("/")[0]
    if not _is_number(seq, highest) or words[3] not in ("0", "1"):
        raise ValueError("no sequence number and mode")
    if words[2] and not _is_number(words[2], STAMPS - 1):
        raise ValueError("no echo")
    out = Out(int(seq), int(words[2]) if words[2] else None, words[3] == "1")
    if not out.drive:
        return out, []
    if len(words) != fixed + count:
        raise ValueError(f"{len(words) - fixed} values, but the robot has {count}")
    values = [float(w) for w in words[fixed:]]
    if not all(map(math.isfinite, values)):
        raise ValueError("a value that is not finite")
    return out, values


def read_sensed(words: list[str], count: int, highest: int = STAMPS - 1) -> tuple[Back, list[float]]:
    """Read the words of a sensed sentence, with its values (NaN where it says nothing); raises `ValueError`."""
    fixed = FIXED["PIVSEN"]
    if len(words) != fixed + count:
        raise ValueError(f"{len(words) - fixed} values, but the rig has {count} that come back")
    if not _is_number(words[1], STAMPS - 1):
        raise ValueError("no stamp")
    if (words[2] and not _is_number(words[2], highest)) or words[3] not in ("0", "1", "2"):
        raise ValueError("no acknowledged number and state")
    values = [float(w) if w else math.nan for w in words[fixed:]]
    if any(math.isinf(v) or abs(v) > 1e9 for v in values if not math.isnan(v)) or any(
        w.lower().strip("+- ") == "nan" for w in words[fixed:]
    ):
        raise ValueError("an absurd number")
    return Back(int(words[1]), int(words[2]) if words[2] else None, int(words[3])), values


def _is_number(word: str, highest: int) -> bool:
    return word.isascii() and word.isdecimal() and len(word) <= 10 and int(word) <= highest


def stamp_of(now_s: float) -> int:
    """Return a robot's clock as it stamps its sentences: ms, from 0 to 65535 and round again."""
    return int(now_s * 1e3) % STAMPS


def age_of(stamp: int, now_s: float) -> float:
    """Return how long ago a robot stamped something, in s, by its own clock."""
    return (stamp_of(now_s) - stamp) % STAMPS / 1e3
