"""The palette: Textual's own, safe against a key that closes it while another is being obeyed."""

from __future__ import annotations

from contextlib import suppress

from textual.await_complete import AwaitComplete
from textual.command import CommandPalette

__all__ = ["Palette"]


class Palette(CommandPalette):
    """Closes only itself: by then Esc may have closed it already, and the screen below must stay."""

    def dismiss(self, result: object = None) -> AwaitComplete:
        if self.app.screen is not self:
            return AwaitComplete.nothing()  # type: ignore[no-untyped-call]
        return super().dismiss(result)  # type: ignore[arg-type] # Textual's palette gives no result

    def _action_command_list(self, action: str) -> None:
        # a page key before the list has its first layout: there is nothing to move yet
        with suppress(KeyError, IndexError):
            super()._action_command_list(action)
