"""The palette: Textual's own, safe against a key that closes it while another is carried out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from functools import partial
from typing import Any

from textual import work
from textual.app import SystemCommand
from textual.command import CommandList, CommandPalette
from textual.css.query import NoMatches
from textual.widgets.option_list import Option

from pivrex.glossary import label_of, term_of
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["Palette", "more_entries"]

EVERYDAY = (
    ("size, length, width, wheels of the robot", "Opens Chassis, where wheels are placed.", "chassis", ""),
    (
        "practise: find faults of the wiring",
        "Opens the shakedown; pivrex shakedown RIG --fault random makes faults.",
        "chassis",
        "shakedown",
    ),
    ("fault, error, warning", "Lists what was said, and what the rig is warned of.", "", "messages"),
    ("slow, gentle, sensitive", "Opens Shaping: curve, scale and slew rates.", "shaping", ""),
    ("save, picture, print", "Saves the drawing of this view.", "", "export"),
    ("connect, real robot, cable", "Changes to the robot on the link.", "", "robot"),
)
"""Words that someone types who does not know ours: what is found, its help, the view and the command."""

SAY_S = 0.3
"""How long nothing is found before that is said."""


def more_entries(
    do: Callable[[str, str], Any], show: Callable[[str], Any], views: Mapping[str, Any], go_to: Callable[[str], Any]
) -> Iterable[SystemCommand]:
    """Return entries for everyday words, and one for each setting that a view has.

    ``do`` does a command of a view, ``show`` opens a view, ``go_to`` goes to a setting.
    """
    for title, said, view, command in EVERYDAY:
        yield SystemCommand(title, said, partial(do, view, command) if command else partial(show, view))

    for name, view in views.items():
        for key in view.setting_keys():
            title = f"{label_of(key)}  ({key}), in {name.capitalize()}"
            yield SystemCommand(title, term_of(key).says, partial(go_to, key))


class Palette(LiesOver, CommandPalette):
    """The commands of the program, found by typing. One that is closed while it still opens finds its own parts gone."""

    def on_descendant_focus(self) -> None:
        self.call_next(self.app.give_keys, self)  # type: ignore[attr-defined]

    def on_unmount(self) -> None:
        self.app.give_keys(self)  # type: ignore[attr-defined]

    @work(exclusive=True, group="--textual-command-palette-gather-commands")
    async def _gather_commands(self, search_value: str) -> None:
        with suppress(NoMatches):
            await CommandPalette._gather_commands.__wrapped__(self, search_value)  # type: ignore[attr-defined]

    def _start_no_matches_countdown(self, search_value: str) -> None:
        """Report that nothing matches, where the library's own would say it in its words and in the dimmest colour."""
        self._stop_no_matches_countdown()

        def say() -> None:
            with suppress(NoMatches):
                commands = self.query_one(CommandList)
                if search_value and not commands.option_count:
                    commands.add_option(
                        Option(f'nothing matches "{search_value}"; fewer letters find more', id=self._NO_MATCHES)
                    )
                    self._list_visible = True

        self._no_matches_timer = self.set_timer(SAY_S, say)

    def _watch__list_visible(self) -> None:
        with suppress(NoMatches):
            super()._watch__list_visible()

    async def _watch__show_busy(self) -> None:
        with suppress(NoMatches):
            await super()._watch__show_busy()

    def _action_command_list(self, action: str) -> None:
        # a page key before the list has its first layout: nothing can move yet
        with suppress(KeyError, IndexError, NoMatches):
            super()._action_command_list(action)
