"""The inputs of a line: the readings it needs, the functions that use them, and everything else that listens to a channel."""

from __future__ import annotations

from pivrex.line.layout import plain
from pivrex.rig.patches import Patch, patches_of
from pivrex.rig.rig import Rig

__all__ = ["Inputs"]


class Inputs:
    """The readings that a rig's line needs.

    Attributes
    ----------
    functions : tuple of str
        The law's functions in order; C of them.
    wanted : tuple of (str, str)
        The raw readings, R of them, the functions' first: source ("chosen" for the one that drives) and channel.
    names : tuple of str
        Their names in a Tick and in recordings: the channel, with the source before it if that is not the chosen one.
    patches : tuple of Patch
        All that listens to a channel in addition to the law.
    calibrated : tuple of str
        The sources with a calibration of their own, in the order of the rig's sources.
    requested : tuple of str or None
        The names of the bindings' columns, once they are known.
    """

    def __init__(self, rig: Rig) -> None:
        axes = rig.law.axes()
        self.functions = tuple(axes)
        patches = patches_of(rig)
        wanted = [(rig.axis(a).source, rig.channel(a)) for a in axes.values()]
        for patch in patches[len(axes) :]:
            wanted.append((patch.source, patch.channel))
            if patch.binding is not None and patch.binding.with_:
                wanted.append((patch.source, patch.binding.with_))
        # functions come first and each has its own channel, see pivrex.rig.between
        self.wanted = tuple(dict.fromkeys(wanted))
        self.names = tuple(plain(c if s == "chosen" else f"{s}.{c}") for s, c in self.wanted)
        self.patches: tuple[Patch, ...] = tuple(p for p in patches if p.action is not None)
        self.calibrated = tuple(name for name, source in rig.sources.items() if source.axes)
        self.requested: tuple[str, ...] | None = None

    def at(self, source: str, channel: str) -> int:
        """Return the place of a reading."""
        return self.wanted.index((source, channel))
