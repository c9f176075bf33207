"""What runs and recordings look like on disk: read, written, played onto the rate."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.formats.player import Player
    from pivrex.formats.recording import Reading, Recording
    from pivrex.formats.ticks import tick_header, tick_line

__all__ = ["Player", "Reading", "Recording", "tick_header", "tick_line"]
__getattr__ = showing(__name__, recording="Reading Recording", player="Player", ticks="tick_header tick_line")
