"""A list from which you choose one, by arrows or by the mouse; it may change while it is open."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from textual import events, on
from textual.app import ComposeResult
from textual.content import Content
from textual.geometry import Size
from textual.screen import ModalScreen
from textual.widgets import OptionList
from textual.widgets.option_list import Option

from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.picture import to_ascii
from pivrex.tui.keys import key_name
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["Choice", "Choices"]

LOOK_AGAIN_S = 0.25
NARROWEST = 8


class Choice(NamedTuple):
    """One choice: its value, its name, the text next to it, and whether that is a fault."""

    value: str
    title: str
    note: str = ""
    wrong: bool = False


class _List(OptionList):
    """Textual's own, safe in a window that is too small for any of it."""

    def get_content_height(self, container: Size, viewport: Size, width: int) -> int:
        return super().get_content_height(container, viewport, width) if width > NARROWEST else 1


class Choices(LiesOver, ModalScreen[str | None]):
    """Return the value that was chosen, or None.

    Parameters
    ----------
    title : str
        The question.
    choices : callable
        Gives what there is now.
    chosen : str
        The value that is selected first.
    key : str
        The key that opened it closes it.
    hint : str
        What else there is to know, below the list.
    keys : mapping of str to str
        Keys of its own, with the values that they give; ``{}`` in one stands for what is selected.
    """

    DEFAULT_CSS = """
    Choices { background: transparent; align: left top; }
    Choices OptionList, Choices OptionList:focus {
        width: 88; max-width: 100%; min-width: 24; height: auto; max-height: 80%; margin: 4 0; border: round $foreground; padding: 0 1;
        background: $background; background-tint: transparent; color: $foreground; border-title-color: $foreground;
        border-subtitle-color: $foreground; border-title-style: bold; scrollbar-size-vertical: 1;
        text-wrap: nowrap; text-overflow: ellipsis; scrollbar-color: $foreground; scrollbar-background: $background;
    }
    Choices.ascii OptionList, Choices.ascii OptionList:focus { border: ascii $foreground; }
    Choices OptionList > .option-list--option-highlighted, Choices OptionList:focus > .option-list--option-highlighted {
        background: $foreground; color: $background; text-style: none;
    }
    Choices OptionList > .option-list--option-hover { background: $panel; }
    """
    means = ("up", "down", "enter", "home", "end", "pageup", "pagedown")

    def __init__(
        self,
        title: str,
        choices: Callable[[], Sequence[Choice]],
        chosen: str,
        key: str,
        hint: Callable[[], str] = str,
        keys: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(classes="ascii" if Canvas.ascii_only else None)
        self._title, self._choices, self._chosen, self.own_key, self._hint = title, choices, chosen, key, hint
        self._keys = dict(keys or {})
        self._listed: tuple[Choice, ...] = ()
        self._shown: tuple[object, ...] = ()

    def on_key(self, event: events.Key) -> None:
        if event.key in self._keys:
            event.stop()
            at = self._list.highlighted
            selected = self._listed[at].value if at is not None and at < len(self._listed) else ""
            self.dismiss(self._keys[event.key].replace("{}", selected))
        else:
            super().on_key(event)

    def compose(self) -> ComposeResult:
        yield _List()

    def on_mount(self) -> None:
        self._list.border_title = f"{self._title}  ↑↓ Enter, or click  {key_name(self.own_key)} closes"
        self._look()
        self.set_interval(LOOK_AGAIN_S, self._look)

    def on_descendant_focus(self) -> None:
        self.call_next(self.app.give_keys, self)  # type: ignore[attr-defined]

    def on_unmount(self) -> None:
        self.app.give_keys(self)  # type: ignore[attr-defined]

    @property
    def _list(self) -> OptionList:
        return self.query_one(OptionList)

    def _look(self) -> None:
        """Show what there is now; what was selected stays so."""
        choices, hint = tuple(self._choices()), self._hint()
        width = self._list.scrollable_content_region.width or min(88, self.app.size.width - 4) - 4
        if (choices, hint, width) == self._shown:
            return
        at = self._list.highlighted
        before = self._listed[at].value if at is not None and at < len(self._listed) else self._chosen
        self._listed, self._shown = choices, (choices, hint, width)
        self._list.clear_options()
        self._list.add_options(Option(_line(c, width)) for c in choices)
        self._list.border_subtitle = to_ascii(hint) if Canvas.ascii_only else hint
        values = [c.value for c in choices]
        if values:
            self._list.highlighted = values.index(before) if before in values else 0

    @on(OptionList.OptionSelected)
    def take(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        if event.option_index < len(self._listed):  # as it is shown, whatever there is by now
            self.dismiss(self._listed[event.option_index].value)


def _line(choice: Choice, width: int) -> Content:
    note = f"! {choice.note}" if choice.wrong else choice.note
    note = note if len(note) <= width // 2 else note[: width // 2 - 1] + "…"
    room = max(1, width - len(note) - 2)
    title = choice.title if len(choice.title) <= room else choice.title[: room - 1] + "…"
    parts = title + " " * max(0, width - len(title) - len(note)), note
    plain = [to_ascii(part) if Canvas.ascii_only else part for part in parts]
    return Content.assemble(plain[0], (plain[1], "bold $error" if choice.wrong else ""))
