"""The source that plays a recording."""

from __future__ import annotations

from collections.abc import Mapping

from pivrex.devices.source import PLAYS
from pivrex.errors import RecordingError
from pivrex.formats.player import Player
from pivrex.formats.recording import Recording
from pivrex.line.line import Line

__all__ = ["RecordedDriver"]


class RecordedDriver:
    """The source that plays a recording. It stands still while it is not advanced."""

    kind = "recording"
    can = PLAYS

    def __init__(self, recording: Recording, dt_s: float) -> None:
        self.name = f"recording {recording.path.stem}"
        self.title = f"recorded driver, {recording.path.stem}"
        self.lost = ""
        self._recording = recording
        self._player = Player(recording, dt_s)
        self._columns: tuple[Line | None, tuple[str, ...]] = (None, ())

    def channels(self) -> frozenset[str]:
        """Return the channels that the recording has."""
        return self._recording.channels()

    def driven_by(self, line: Line) -> str:
        """Return the source of the line's rig whose readings these are; empty if they are those of none."""
        return self._recording.driving_source(line)

    def columns_for(self, line: Line) -> tuple[str, ...]:
        """Return the column of each of the line's inputs, empty where there is none."""
        if self._columns[0] is not line:
            self._columns = (line, self._recording.columns_for(line))
        return self._columns[1]

    @property
    def ended(self) -> bool:
        """Whether the last reading has been given."""
        return self._player.ended

    def rewind(self) -> None:
        """Go back to the first reading."""
        self._player.rewind()

    def advance(self) -> None:
        """Go on by one tick; a line that cannot be played makes the source lost."""
        try:
            self._player.advance()
        except RecordingError as problem:
            self.lost = str(problem)

    def read(self, now_s: float) -> Mapping[str, float]:
        """Return the reading of this tick."""
        return self._player.reading.raw
