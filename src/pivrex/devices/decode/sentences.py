"""Sentences of a paired sender: framed, of one kind, and sealed if the rig has a key."""

from __future__ import annotations

from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.seal import Seal
from pivrex.devices.sentence import unframe

__all__ = ["SentenceError", "opened", "words_from"]


class SentenceError(ValueError):
    """A sentence that moves nothing, with its ``fault``."""

    def __init__(self, fault: str, reason: str) -> None:
        super().__init__(reason)
        self.fault = fault


def opened(line: bytes, too_long: bool, seal: Seal | None, ours: str) -> tuple[str, int]:
    """Give the body of a line and the session that it was sealed for, 0 without a key; raises `SentenceError`.

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
    """Give the words of a body, at most ``most`` commas cut, if it is of the kind and of the sender; raises `SentenceError`."""
    words = body.split(",", most)
    if words[0] != kind:
        raise SentenceError("unknown", f"a sentence {words[0][:12]}, but {kind} is awaited")
    if len(words) < 4:
        raise SentenceError("damaged", "no sender, number and what it says")
    if words[1] != sender:
        raise SentenceError("foreign", f"from {words[1][:24]!r}, but paired is {sender!r}")
    return words
