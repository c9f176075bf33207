"""Sentences of a paired sender: framed, of one kind, and sealed if the rig has a key."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, ClassVar

from pivrex.devices.decode.lines import LONGEST_LINE, Lines
from pivrex.devices.decode.message import Message
from pivrex.devices.decode.order import Order, read_number
from pivrex.devices.seal import Seal
from pivrex.devices.sentence import unframe

__all__ = ["SentenceError", "SentenceReader", "opened", "words_from"]


class SentenceError(ValueError):
    """A sentence that moves nothing, with its ``fault``."""

    def __init__(self, fault: str, reason: str) -> None:
        super().__init__(reason)
        self.fault = fault


class SentenceReader:
    """Reads the sentences of one kind of a paired sender: checked, opened, in order. What they say is for those who derive
    from it: `_parse` reads the words, `_say` gives the readings of those that count.
    """

    KIND: ClassVar[str]
    MOST: ClassVar[int] = -1
    """Commas that part words; what stands behind them is one word."""

    def __init__(self, sender: str, seal: Seal | None) -> None:
        self._sender, self._seal = sender, seal
        self._lines, self._order = Lines(), Order(seal)
        self.stops: frozenset[str] = frozenset()
        """The channels that stop the robot."""

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        for line, too_long in self._lines.feed(data):
            yield self._read(line, too_long, at_s)

    def _read(self, line: bytes, too_long: bool, at_s: float) -> Message:
        try:
            body, session = opened(line, too_long, self._seal, f"{self.KIND},")
            words = words_from(body, self.KIND, self._sender, self.MOST)
            said = self._parse(words)
            number = read_number(words[2], self._seal)
        except SentenceError as problem:
            return Message(line, None, problem.fault, str(problem))
        except ValueError as problem:
            return Message(line, None, "damaged", str(problem))
        missed, fault, reason = self._order.judge(number, session, at_s)
        if fault:
            stops = self._seal is not None and self._says_stop(said)
            return Message(line, None, fault, reason, missed, stops=stops)
        return Message(line, self._say(said, at_s), missed=missed, does=self._does(said))

    def _parse(self, words: list[str]) -> Any:
        raise NotImplementedError

    def _say(self, said: Any, at_s: float) -> Mapping[str, float]:
        raise NotImplementedError

    def _does(self, said: Any) -> str:
        """Return the effect in words; empty if it does many things at once."""
        return ""

    def _says_stop(self, said: Any) -> bool:
        """Return whether what was read stops the robot."""
        raise NotImplementedError

    def count(self, data: bytes) -> int:
        return self._lines.count(data)

    def newest(self, data: bytes, most: int) -> bytes:
        return self._lines.newest(data, most)

    def left_out(self, count: int) -> None:
        self._order.left_out(count)

    def forget(self) -> None:
        self._lines.forget()
        self._order = Order(self._seal)


def opened(line: bytes, too_long: bool, seal: Seal | None, ours: str) -> tuple[str, int]:
    """Return the body of a line and the session that it was sealed for, 0 without a key; raises `SentenceError`.

    What does not begin with ``ours`` need not be sealed: it says nothing here.
    """
    if too_long:
        raise SentenceError("damaged", f"longer than {LONGEST_LINE} bytes")
    try:
        body = unframe(line)
    except ValueError as problem:
        raise SentenceError("damaged", str(problem)) from None
    if seal is None or not body.startswith(ours):
        return body, 0
    try:
        return seal.open(body)
    except ValueError as problem:
        raise SentenceError("foreign", str(problem)) from None


def words_from(body: str, kind: str, sender: str, most: int = -1) -> list[str]:
    """Return the words of a body, at most ``most`` commas cut, if it is of the kind and of the sender; raises `SentenceError`."""
    words = body.split(",", most)
    if words[0] != kind:
        raise SentenceError("unknown", f"a sentence {words[0][:12]}, but {kind} is awaited")
    if len(words) < 4:
        raise SentenceError("damaged", "no sender, number and what it says")
    if words[1] != sender:
        raise SentenceError("foreign", f"from {words[1][:24]!r}, but paired is {sender!r}")
    return words
