"""Typing a value with its unit, at the foot of the view."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from textual import events, on
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.screen import ModalScreen
from textual.widgets import Input, Label

from pivrex.errors import UnitError
from pivrex.tui.keys import do_bound
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["EntryRequest", "Typed", "ValueEntry"]


@runtime_checkable
class Typed(Protocol):
    """A view in which something can be typed."""

    def entry(self) -> tuple[str, str, str]:
        """Return the key that is typed, its value as shown, and what is allowed."""
        ...

    def type_in(self, text: str) -> None:
        """Take what was typed; raises `UnitError`."""
        ...


@dataclass(frozen=True)
class EntryRequest:
    """A request for one value: its title, its first text, and what is allowed; ``take`` may raise `UnitError`."""

    what: str
    shown: str
    allowed: str
    take: Callable[[str], None]

    def entry(self) -> tuple[str, str, str]:
        return self.what, self.shown, self.allowed

    def type_in(self, text: str) -> None:
        self.take(text)


class _Ready(Input):
    """Textual's own, that takes the keys which came before it could, all in their order."""

    async def on_key(self, event: events.Key) -> None:
        await do_bound(self, event)

    def on_focus(self) -> None:
        self.call_next(self.app.give_keys, self.screen)  # type: ignore[attr-defined]


class ValueEntry(LiesOver, ModalScreen[None]):
    """Asks for one value; a mistake appears next to it and the text stays."""

    DEFAULT_CSS = """
    ValueEntry { align: left bottom; }
    ValueEntry Horizontal { height: 1; background: $panel; margin-bottom: 1; }
    ValueEntry Label { padding: 0 1; color: $primary; text-style: bold; }
    ValueEntry Input, ValueEntry Input:focus {
        width: 32; border: none; height: 1; padding: 0 1; background: $surface; color: $foreground;
    }
    ValueEntry #what { width: 1fr; color: $foreground; text-style: none; }
    ValueEntry #what.wrong { color: $error; text-style: bold; }
    """

    def __init__(self, view: Typed) -> None:
        super().__init__()
        self._view = view

    def compose(self) -> ComposeResult:
        key, shown, allowed = self._view.entry()
        with Horizontal():
            yield Label(f"{key} =", markup=False)
            ready = _Ready(shown, select_on_focus=True)
            ready.styles.width = min(max(32, len(shown) + 3), 64)
            yield ready
            yield Label(f"Enter sets it, Esc leaves it{f'  ({allowed})' if allowed else ''}", id="what", markup=False)

    @on(Input.Submitted)
    def take(self, event: Input.Submitted) -> None:
        event.stop()
        if self.app.screen is not self:
            self._give_keys()
            return  # a second Enter, or one after Esc
        try:
            self._view.type_in(event.value)
        except UnitError as problem:
            what = self.query_one("#what", Label)
            what.update(f"! {problem}")
            what.add_class("wrong")
            self._give_keys()
            return
        self.dismiss()
        self._give_keys()

    def on_unmount(self) -> None:
        self._give_keys()

    def _give_keys(self) -> None:
        self.app.give_keys(self)  # type: ignore[attr-defined]
