"""Letters: one character is one command, alone or in sentences."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pivrex.devices.decode.message import Message
from pivrex.devices.decode.sentences import SentenceError, SentenceReader
from pivrex.devices.seal import Seal
from pivrex.rig.actions import EVERYTHING, split_time
from pivrex.rig.sources import LettersSource, letter_channel
from pivrex.rig.transports import SerialTransport

__all__ = ["ANSWER", "FramedLettersReader", "LettersReader"]

BETWEEN = b"\r\n "
"""What may stand between letters, and means nothing."""

ANSWER = b">"
"""Begins each line that is answered."""

ANSWER_S = 0.3
"""An answer that comes back is over after so long, whatever its line has lost: the next letter counts again."""

ONCE_S = 0.12
"""How long a letter is seen whose action is done once: longer than any tick."""


class LettersReader:
    """One character a command. A letter's channel counts how often it came while it lasts, and reads 0 else.

    What comes over a network and is not letters only (a request of some other program) moves nothing, and ends what lasted.
    """

    def __init__(self, spec: LettersSource, groups: Mapping[str, str]) -> None:
        self._spec = spec
        self.groups = dict(groups)
        self._lasts = {letter: split_time(text)[1] for letter, text in spec.letters.items()}
        self._until: dict[str, float] = {}
        self._value: dict[str, float] = {}
        self._alone = not isinstance(spec.wire, SerialTransport)
        self._but, self._but_all = "", False
        self._answer_until = float("-inf")
        """How long what comes is an answer of this program that came back, unless its line ends before."""
        self._commands = b"".join(c.encode("utf-8") for c in spec.letters) + BETWEEN
        if spec.either_case:
            self._commands += self._commands.swapcase()

    def strange(self, data: bytes) -> bytes:
        """Return what of some bytes is no letter of the rig, line end or space."""
        return data.translate(None, self._commands)

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        strange = self.strange(data) if self._alone else b""
        if strange and len(strange) < len(data.translate(None, BETWEEN)):
            self._until.clear()
            yield self.refused(data, strange)
            return
        for byte in data:
            if self._spec.echo and self._is_answer(byte, at_s):
                if byte in ANSWER:
                    yield Message(ANSWER, None, "foreign", "an answer came back; it moves nothing")
            elif byte not in BETWEEN or self.knows(chr(byte)):
                yield self.letter(chr(byte), at_s)

    def _is_answer(self, byte: int, at_s: float) -> bool:
        """Return whether a byte belongs to a line that this program has answered: a loop on the line, or a device that repeats all."""
        goes_on = at_s < self._answer_until
        if byte in ANSWER:
            self._answer_until = at_s + ANSWER_S
        elif byte in b"\r\n":
            self._answer_until = float("-inf")
        return goes_on or byte in ANSWER

    def does(self, letter: str) -> str:
        """Return what a letter of the rig does now."""
        moves = self.groups.get(letter, "") not in ("", EVERYTHING)
        return self._spec.letters[letter] + (f", but {self._but}" if self._but and (moves or self._but_all) else "")

    def but(self, why: str, none: bool) -> None:
        """Take why letters that move something do nothing now, and whether none does."""
        self._but, self._but_all = why, none

    @staticmethod
    def refused(data: bytes, strange: bytes) -> Message:
        """Say that letters among something else move nothing."""
        fault = "unknown" if all(32 <= b < 127 or b in BETWEEN for b in strange) else "damaged"
        return Message(data[:240], None, fault, "letters among what is no letter of this rig; they move nothing")

    def letter(self, char: str, at_s: float) -> Message:
        """Take a letter."""
        letter, said = self.find(char), char.encode("latin-1")
        if letter is None:
            return Message(said, None, "unknown" if " " < char < "\x7f" else "damaged", "no letter of this rig")
        group = self.groups.get(letter, "")
        for other in list(self._until):
            # a letter of the same group ends a lasting motion, a stop ends all
            if other != letter and (group == EVERYTHING or (group and self.groups.get(other) == group)):
                del self._until[other]
        once = group in ("", EVERYTHING) and not self._lasts[letter]
        self._until[letter] = at_s + (self._lasts[letter] or (ONCE_S if once else self._spec.lasting_s))
        self._value[letter] = self._value.get(letter, 0.0) % 997 + 1
        return Message(said, {letter_channel(letter): self._value[letter]}, does=self.does(letter))

    def groups_are(self, groups: Mapping[str, str]) -> None:
        """Take the groups of letters of a changed rig; a letter ends others of its group."""
        self.groups = dict(groups)

    def knows(self, char: str) -> bool:
        """Return whether a character is a letter of the rig."""
        return self.find(char) is not None

    def channel(self, char: str) -> str:
        """Return the channel of a character; empty if it is no letter of the rig."""
        letter = self.find(char)
        return letter_channel(letter) if letter is not None else ""

    def find(self, char: str) -> str | None:
        """Return the letter of the rig that a character is."""
        if char in self._spec.letters:
            return char
        if self._spec.either_case and char.swapcase() in self._spec.letters:
            return char.swapcase()
        return None

    def count(self, data: bytes) -> int:
        return len(data)

    def newest(self, data: bytes, most: int) -> bytes:
        return data[-most:]

    def left_out(self, count: int) -> None:
        """A dropped letter may have ended a motion that lasts."""
        self._until.clear()

    def current(self, now_s: float) -> Mapping[str, float]:
        for letter in [k for k, until in self._until.items() if now_s >= until]:
            del self._until[letter]
        lasting = {letter_channel(k): self._value[k] for k in self._until}
        return {**dict.fromkeys(self._spec.channels(), 0.0), **lasting}

    def end(self) -> None:
        """End what lasts; a letter that comes afterwards counts again."""
        self._until.clear()

    def forget(self) -> None:
        self.end()


class FramedLettersReader(SentenceReader):
    """Sentences ``$PIVLET,SENDER,SEQ,LETTERS*hh`` of the paired sender; see docs/wire.md."""

    KIND, MOST = "PIVLET", 3

    def __init__(self, spec: LettersSource, groups: Mapping[str, str], seal: Seal | None = None) -> None:
        super().__init__(spec.sender, seal)
        self._letters = LettersReader(spec, groups)

    def groups_are(self, groups: Mapping[str, str]) -> None:
        self._letters.groups_are(groups)

    def _parse(self, words: list[str]) -> str:
        strange = next((c for c in words[3] if not self._letters.knows(c)), None)
        if strange is not None:
            raise SentenceError("unknown", f"{strange!r} is no letter of this rig")
        return words[3]

    def _say(self, said: str, at_s: float) -> Mapping[str, float]:
        found = [self._letters.letter(c, at_s).readings or {} for c in said]
        return {channel: value for readings in found for channel, value in readings.items()}

    def _does(self, said: str) -> str:
        return "; ".join(
            f"{c}: {self._letters.does(letter)}" for c in said if (letter := self._letters.find(c)) is not None
        )

    def but(self, why: str, none: bool) -> None:
        """Take why letters that move something do nothing now, and whether none does."""
        self._letters.but(why, none)

    def _says_stop(self, said: str) -> bool:
        return any(channel in self.stops for channel in map(self._letters.channel, said))

    def left_out(self, count: int) -> None:
        super().left_out(count)
        self._letters.left_out(count)

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._letters.current(now_s)

    def end(self) -> None:
        """End what lasts."""
        self._letters.end()

    def forget(self) -> None:
        super().forget()
        self._letters.forget()
