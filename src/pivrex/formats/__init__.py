"""Runs and recordings on disk: read, written, played at the rate."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.formats.player import Player
    from pivrex.formats.recording import Reading, Recording
    from pivrex.formats.ticks import read_ticks, tick_header, tick_lines

__all__ = ["Player", "Reading", "Recording", "read_ticks", "tick_header", "tick_lines"]
__getattr__ = showing(
    __name__, recording="Reading Recording", player="Player", ticks="read_ticks tick_header tick_lines"
)
