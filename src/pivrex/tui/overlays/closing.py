"""An overlay closes only itself, and only once; Esc closes it if nothing moves."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from textual import events
from textual.await_complete import AwaitComplete
from textual.screen import Screen

from pivrex.session.periods import Period
from pivrex.tui.model import ScreenModel

if TYPE_CHECKING:
    _Base = Screen[object]
else:
    _Base = object

__all__ = ["LiesOver", "moves"]


def moves(model: ScreenModel) -> bool:
    """Return whether a robot moves, or may: it is live, its board drives, something plays or runs, or it is not commanded to rest."""
    status = model.status
    plays = any(s.name == status.source and s.can.plays for s in status.sources) and not status.held
    if (
        status.live
        or status.watching
        or plays
        or status.probing
        or status.match.period is not Period.OFF
        or model.row is None
    ):
        return True
    line = model.line
    return not np.allclose(line.commands(model.row), line.resting(), equal_nan=True)


class LiesOver(_Base):
    """For an overlay. It closes only itself: Esc or a second Enter may have closed it already, and the screen below must stay. An overlay to
    look at has a key of its own, which closes it; a click next to it does too. The app handles a key without a meaning here, as
    everywhere: while live it stops the robot. Esc always belongs to the app: it stops everything that moves, and closes the overlay.

    Attributes
    ----------
    own_key : str
        The key that opened it; empty where all keys are its own.
    means : tuple of str
        The other keys that mean something here.
    """

    own_key = ""
    means: tuple[str, ...] = ()

    def dismiss(self, result: object = None) -> AwaitComplete:
        if self.app.screen is not self:
            return AwaitComplete.nothing()  # type: ignore[no-untyped-call]
        return super().dismiss(result)

    def on_key(self, event: events.Key) -> None:
        if not self.own_key:
            return
        if event.key == self.own_key:
            event.stop()
            self.dismiss(None)
        elif event.key not in self.means:
            event.stop()
            self.app.means_nothing(event.key)  # type: ignore[attr-defined]

    def on_click(self, event: events.Click) -> None:
        if self.own_key and event.widget is self:
            self.dismiss(None)
