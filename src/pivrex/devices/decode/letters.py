"""One character a command."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping

from pivrex.devices.decode.message import Message, shown
from pivrex.rig.actions import split_time
from pivrex.rig.sources import LettersSource, letter_channel

__all__ = ["LettersReader"]

ONCE_S = 0.12
"""How long a letter is seen whose action is done once: longer than any tick."""


class LettersReader:
    """One character a command. A letter's channel counts how often it came while it lasts, and reads 0 else."""

    def __init__(self, spec: LettersSource, groups: Mapping[str, str]) -> None:
        self._spec = spec
        self.groups = dict(groups)
        self._lasts = {letter: split_time(text)[1] for letter, text in spec.letters.items()}
        self._until: dict[str, float] = {}
        self._value: dict[str, float] = {}

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        for byte in data:
            char = chr(byte)
            if char in "\r\n":
                continue
            letter = self._find(char)
            if letter is None:
                known = "damaged" if not 32 < byte < 127 else "unknown"
                yield Message(shown(bytes([byte])), None, known, "no letter of this rig")
                continue
            group = self.groups.get(letter, "")
            for other in list(self._until):
                # what is done once ends at once, another of the same group ends what lasted
                if other != letter and (group and self.groups.get(other) == group):
                    del self._until[other]
            once = not group and not self._lasts[letter]
            self._until[letter] = at_s + (self._lasts[letter] or (ONCE_S if once else math.inf))
            self._value[letter] = self._value.get(letter, 0.0) % 997 + 1
            yield Message(char, {letter_channel(letter): self._value[letter]})

    def _find(self, char: str) -> str | None:
        if char in self._spec.letters:
            return char
        if self._spec.either_case and char.swapcase() in self._spec.letters:
            return char.swapcase()
        return None

    def current(self, now_s: float) -> Mapping[str, float]:
        for letter in [k for k, until in self._until.items() if now_s >= until]:
            del self._until[letter]
        lasting = {letter_channel(k): self._value[k] for k in self._until}
        return {**dict.fromkeys(self._spec.channels(), 0.0), **lasting}

    def forget(self) -> None:
        self._until.clear()
