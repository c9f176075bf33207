"""Returns the reader of a source."""

from __future__ import annotations

from collections.abc import Mapping

from pivrex.devices.decode.frames import FramesReader
from pivrex.devices.decode.letters import FramedLettersReader, LettersReader
from pivrex.devices.decode.message import Reader
from pivrex.devices.decode.numbers import NumbersReader
from pivrex.devices.decode.packets import PacketsReader
from pivrex.devices.seal import Seal
from pivrex.rig.sources import FramesSource, LettersSource, NumbersSource, PacketsSource

__all__ = ["reader_of"]


def reader_of(
    spec: NumbersSource | LettersSource | PacketsSource | FramesSource,
    groups: Mapping[str, str],
    seal: Seal | None = None,
) -> Reader:
    """Make the reader of a source; ``groups`` say of letters which put an end to each other, a ``seal`` is demanded of what
    comes in sentences.
    """
    match spec:
        case NumbersSource():
            return NumbersReader(spec)
        case LettersSource():
            return FramedLettersReader(spec, groups, seal) if spec.framed else LettersReader(spec, groups)
        case PacketsSource():
            return PacketsReader(spec, seal)
        case FramesSource():
            return FramesReader(spec)
