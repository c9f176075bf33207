"""The sentences between Pivrex and a robot: written, cut where they are long, joined again and read. See docs/wire.md."""

from __future__ import annotations

import math
import zlib

from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.sentence import frame
from pivrex.line.layout import Column, Floats
from pivrex.line.line import Line

__all__ = ["Parts", "back_columns", "out_sentences", "read_out", "read_sensed", "sensed_sentences", "wire_hash"]

FIXED = 4
"""Words before the values: kind, number, and two more."""

MOST_PARTS = 99


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


def out_sentences(seq: int, drive: bool, rig_hash: str, told: Floats) -> list[bytes]:
    """Write ``$PIVOUT,SEQ,MODE,HASH,VALUES...*hh``, in parts if it is long; mode 1 drives, 0 rests."""
    return _cut("PIVOUT", seq, f"{int(drive)},{rig_hash}", told)


def sensed_sentences(seq: int, ack: int, state: int, sensed: Floats) -> list[bytes]:
    """Write ``$PIVSEN,SEQ,ACK,STATE,VALUES...*hh``, in parts if it is long: state 0 rests, 1 drives, 2 was left alone and
    waits for a rest.
    """
    return _cut("PIVSEN", seq, f"{ack},{state}", sensed)


def _cut(kind: str, seq: int, middle: str, values: Floats) -> list[bytes]:
    """Write a sentence; one that would be longer than a line may be becomes parts, ``SEQ/PART/PARTS`` in place of its number,
    each with as many of the values as it has room for.
    """
    words = [_told(v) for v in values.tolist()]
    whole = frame(f"{kind},{seq},{middle},{','.join(words)}")
    if len(whole) - len("\r\n") <= LONGEST_LINE:
        return [whole]
    room = LONGEST_LINE - len(f"${kind},{seq}/{MOST_PARTS}/{MOST_PARTS},{middle}*hh")
    parts: list[list[str]] = [[]]
    left = room
    for word in words:
        if len(word) + 1 > left:
            parts.append([])
            left = room
        parts[-1].append(word)
        left -= len(word) + 1
    return [frame(f"{kind},{seq}/{n}/{len(parts)},{middle},{','.join(part)}") for n, part in enumerate(parts, 1)]


class Parts:
    """Joins the parts of a sentence. They come in order; one that is missing spoils only its own sentence."""

    def __init__(self) -> None:
        self._words: list[str] = []
        self._next = (1, 0)

    def whole(self, words: list[str]) -> list[str] | None:
        """Take the words of a sentence or of a part; gives those of a whole sentence, None while parts are missing.

        Raises
        ------
        ValueError
            For a part that does not follow the one before it.
        """
        if len(words) < FIXED or "/" not in words[1]:
            return words
        seq, _, rest = words[1].partition("/")
        part, _, parts = rest.partition("/")
        if not (part.isdecimal() and parts.isdecimal() and 1 <= int(part) <= int(parts) <= MOST_PARTS):
            raise ValueError(f"the number {words[1][:20]}, which is no part of a sentence")
        head = [words[0], seq, *words[2:FIXED]]
        now = (int(part), int(parts))
        if now[0] == 1:
            self._words = head
        elif now != self._next or head != self._words[:FIXED]:
            self._next, self._words = (1, 0), []
            raise ValueError(f"part {part} of {parts} without those before it")
        self._words = [*self._words, *words[FIXED:]]
        self._next = (now[0] + 1, now[1])
        return self._words if now[0] == now[1] else None

    def forget(self) -> None:
        """Drop what is not whole yet."""
        self._words, self._next = [], (1, 0)


def read_out(words: list[str], rig_hash: str, count: int) -> tuple[int, bool, list[float]]:
    """Read the words of an output sentence: sequence number, whether to drive, values; of a rest the values do not matter.
    Of a part that says rest it gives the rest: nobody waits for the others.

    Raises
    ------
    ValueError
        With what is wrong.
    """
    if words[0] != "PIVOUT" or len(words) < FIXED:
        raise ValueError(f"a sentence {words[0][:12]}, but PIVOUT is awaited")
    if words[3] != rig_hash:
        raise ValueError(f"for the rig {words[3][:12]}, but this robot has {rig_hash}")
    seq = words[1].partition("/")[0]
    if not seq.isdecimal() or int(seq) > 65535 or words[2] not in ("0", "1"):
        raise ValueError("no sequence number and mode")
    if words[2] == "0":
        return int(seq), False, []
    if len(words) != FIXED + count:
        raise ValueError(f"{len(words) - FIXED} values, but the robot has {count}")
    values = [float(w) for w in words[FIXED:]]
    if not all(map(math.isfinite, values)):
        raise ValueError("a value that is not finite")
    return int(seq), True, values


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
