"""What lies over the screen for a moment closes only itself, and only once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual.await_complete import AwaitComplete
from textual.screen import Screen

if TYPE_CHECKING:
    _Base = Screen[object]
else:
    _Base = object

__all__ = ["ClosesItself"]


class ClosesItself(_Base):
    """For a screen over another: by the time it wants to close, Esc or a second Enter may have closed it already, and
    the screen below must stay.
    """

    def dismiss(self, result: object = None) -> AwaitComplete:
        if self.app.screen is not self:
            return AwaitComplete.nothing()  # type: ignore[no-untyped-call]
        return super().dismiss(result)
