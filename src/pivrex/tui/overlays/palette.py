"""The palette: Textual's own, safe against a key that closes it while another is being obeyed."""

from __future__ import annotations

from contextlib import suppress

from textual import work
from textual.command import CommandPalette
from textual.css.query import NoMatches

from pivrex.tui.overlays.closing import ClosesItself

__all__ = ["Palette"]


class Palette(ClosesItself, CommandPalette):
    """The commands of the program, found by typing. One that is closed while it still opens finds its own parts gone."""

    def on_descendant_focus(self) -> None:
        self.call_next(self.app.give_keys)  # type: ignore[attr-defined]

    def on_unmount(self) -> None:
        self.app.give_keys()  # type: ignore[attr-defined]

    @work(exclusive=True, group="--textual-command-palette-gather-commands")
    async def _gather_commands(self, search_value: str) -> None:
        with suppress(NoMatches):
            await CommandPalette._gather_commands.__wrapped__(self, search_value)  # type: ignore[attr-defined]

    def _watch__list_visible(self) -> None:
        with suppress(NoMatches):
            super()._watch__list_visible()

    async def _watch__show_busy(self) -> None:
        with suppress(NoMatches):
            await super()._watch__show_busy()

    def _action_command_list(self, action: str) -> None:
        # a page key before the list has its first layout: there is nothing to move yet
        with suppress(KeyError, IndexError, NoMatches):
            super()._action_command_list(action)
