"""The robot behind a link: outputs leave as sentences, sensed values come back the same way. See docs/wire.md."""

from __future__ import annotations

import math
import time
import zlib

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.decode.lines import Lines
from pivrex.devices.decode.message import Message, shown
from pivrex.devices.health import Said, Tally
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.transports.opening import open_transport
from pivrex.line.given import NOWHERE
from pivrex.line.layout import Column
from pivrex.line.line import Line
from pivrex.rig.sources import Link
from pivrex.rig.transports import transport_title

__all__ = ["RobotLink", "back_columns", "out_sentence", "read_out", "read_sensed", "sensed_sentence", "wire_hash"]

Floats = NDArray[np.float64]


def wire_hash(line: Line) -> str:
    """Give what a rig's robot must agree on, in eight hexadecimal digits: the CRC-32 of the names and units of the values
    that leave and come back, in order, with a line end behind each (ISO-HDLC, as zlib computes it).
    """
    names = [f"{v.motor} {v.name} {v.unit}" for v in line.outputs.values]
    names += [c.title for c in back_columns(line)]
    return f"{zlib.crc32(''.join(n + chr(10) for n in names).encode()):08X}"


def back_columns(line: Line) -> list[Column]:
    """Give the columns of the values that come back: what is sensed, then what is true of it, should somebody know."""
    return [*line.stages["sensed"].columns, *line.stages["truth"].columns]


def _told(value: float) -> str:
    return "" if math.isnan(value) else f"{value:.6g}"  # an empty field: nobody knows


def out_sentence(seq: int, drive: bool, rig_hash: str, told: Floats) -> bytes:
    """Write ``$PIVOUT,SEQ,MODE,HASH,VALUES...*hh``; mode 1 drives, 0 rests."""
    return frame(f"PIVOUT,{seq},{int(drive)},{rig_hash},{','.join(map(_told, told.tolist()))}")


def read_out(line: bytes, rig_hash: str, count: int) -> tuple[int, bool, list[float]]:
    """Read an output sentence: sequence number, whether to drive, values. Raises `ValueError` with what is wrong."""
    words = unframe(line).split(",")
    if words[0] != "PIVOUT" or len(words) < 4:
        raise ValueError(f"a sentence {words[0][:12]}, but PIVOUT is awaited")
    if words[3] != rig_hash:
        raise ValueError(f"for the rig {words[3][:12]}, but this robot has {rig_hash}")
    if len(words) != 4 + count:
        raise ValueError(f"{len(words) - 4} values, but the robot has {count}")
    if not words[1].isdecimal() or int(words[1]) > 65535 or words[2] not in ("0", "1"):
        raise ValueError("no sequence number and mode")
    values = [float(w) for w in words[4:]]
    if not all(map(math.isfinite, values)):
        raise ValueError("a value that is not finite")
    return int(words[1]), words[2] == "1", values


def sensed_sentence(seq: int, ack: int, state: int, sensed: Floats) -> bytes:
    """Write ``$PIVSEN,SEQ,ACK,STATE,VALUES...*hh``: state 0 rests, 1 drives, 2 was left alone and waits for a rest."""
    return frame(f"PIVSEN,{seq},{ack},{state},{','.join(map(_told, sensed.tolist()))}")


def read_sensed(words: list[str], count: int) -> tuple[int, int, list[float]]:
    """Read the words of a sensed sentence: acknowledged number, state, values (NaN where it says nothing)."""
    if len(words) != 4 + count:
        raise ValueError(f"{len(words) - 4} values, but the rig has {count} that come back")
    if not words[2].isdecimal() or words[3] not in ("0", "1", "2"):
        raise ValueError("no acknowledged number and state")
    values = [float(w) if w else math.nan for w in words[4:]]
    if any(math.isinf(v) or abs(v) > 1e9 for v in values if not math.isnan(v)) or any(
        w.lower() == "nan" for w in words[4:]
    ):
        raise ValueError("an absurd number")
    return int(words[2]), int(words[3]), values


class RobotLink:
    """A robot behind a link.

    Attributes
    ----------
    title : str
    tally : Tally
        Of what it says.
    problem : str
        Why it cannot be driven now; empty if it can.
    fault : str
        What its motor driver complained of last.
    """

    def __init__(self, line: Line, link: Link) -> None:
        self._link = link
        self.title = f"robot, {transport_title(link.wire)}"
        self.wire = open_transport(link.wire, outward=True)
        self.tally = Tally()
        self.hash = wire_hash(line)
        self._lines = Lines()
        self._seq = 0
        self._sensed = np.zeros(len(line.stages["sensed"].columns))
        self._truth = NOWHERE
        self._rest = line.resting()
        self.drives = False
        self.greeted = ""
        """The rig that the robot says it has."""
        self.fault = ""
        self.state = 0
        self._heard_s = float("-inf")
        self._drives_s = float("-inf")
        self.sent: Said | None = None

    def poll(self, now_s: float) -> None:
        """Take what has come. Call it once a tick."""
        for data, _, at_s in self.wire.poll(now_s):
            for line, too_long in self._lines.feed(data):
                message = self._read(line, too_long)
                self.tally.add(message, at_s)
                if not message.fault:
                    self._heard_s = at_s

    def _read(self, line: bytes, too_long: bool) -> Message:
        text = shown(line)
        try:
            words = unframe(line).split(",")
            if too_long:
                raise ValueError("too long")
            match words[0]:
                case "PIVSEN":
                    count = len(self._sensed)
                    _, self.state, values = read_sensed(words, count + len(NOWHERE))
                    sensed, self._truth = np.array(values[:count]), np.array(values[count:])
                    self._sensed = np.where(np.isnan(sensed), self._sensed, sensed)
                case "PIVHEY" if len(words) >= 3:
                    self.greeted = words[2][:16]
                case "PIVFLT" if len(words) >= 2:
                    self.fault = ", ".join(words[1:])[:80]
                case _:
                    return Message(text, None, "unknown", f"a sentence {words[0][:12]}")
        except ValueError as problem:
            return Message(text, None, "damaged", str(problem))
        return Message(text, {})

    def problem(self, now_s: float) -> str:
        """Say why it cannot be driven now; empty if it can."""
        if not self.wire.is_open:
            return self.wire.problem
        if now_s - self._heard_s > self._link.quiet_after_s:
            return (
                f"the robot is silent for {self._link.quiet_after_s * 1e3:.0f} ms"
                if self._heard_s > 0
                else "no robot answers"
            )
        if self.greeted and self.greeted != self.hash:
            return f"the robot has another rig ({self.greeted}, here {self.hash})"
        return "" if self.greeted else "the robot has not greeted yet"

    def alone_for(self, now_s: float) -> float:
        """Give for how long it has been told to drive, in s."""
        return now_s - self._drives_s

    def sense(self) -> Floats:
        """Give the newest sensed values; before the first, and where the robot says nothing, 0."""
        return self._sensed

    def truth(self) -> Floats:
        """Give what the robot says is true of it; NaN where it does not know, as hardly any robot does."""
        return self._truth

    def command(self, told: Floats, dt_s: float) -> None:
        """Tell the robot; while it may not drive it is told to rest."""
        self._seq = (self._seq + 1) % 65536
        if not self.drives:
            self._drives_s = time.perf_counter()
        sentence = out_sentence(self._seq, self.drives, self.hash, told if self.drives else self._rest)
        if self.wire.send(sentence):
            self.sent = Said(time.perf_counter(), shown(sentence), out=True)

    def put_back(self) -> None:
        """A real robot is put back by hand."""

    def fits(self, line: Line, link: Link | None) -> bool:
        """Tell whether a changed rig can go on over this link as it is."""
        return wire_hash(line) == self.hash and link == self._link

    def close(self) -> None:
        """Tell it to rest a last time, and hang up."""
        self.drives = False
        self.command(self._rest, 0.0)
        self.wire.close()
