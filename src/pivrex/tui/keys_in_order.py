"""Carries out keys in the order in which they were pressed, also while something opens or closes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual import events

if TYPE_CHECKING:
    from textual.app import App

    _Base = App[int]
else:
    _Base = object

__all__ = ["KeysInOrder"]

NEVER_WAIT = ("escape", "ctrl+c")

LONGEST_S = 2.0
"""Whatever opens or closes, keys wait no longer."""


class KeysInOrder(_Base):
    """For the application. While there is no overlay and no one types, a key is carried out at once, before the next. An entry that opens or
    closes calls `hold_keys`; keys wait until it calls `give_keys`. Esc never waits, and deletes the keys that wait.
    """

    _early: list[events.Event]
    _waits = False
    _holder: object = None

    def obey(self, event: events.Key) -> None:
        """Do what a key means while the views have it."""
        raise NotImplementedError

    def views_have_keys(self) -> bool:
        """Return whether a key is the views' now."""
        raise NotImplementedError

    def closes_by(self, key: str) -> bool:
        """Return whether the overlay may close by this key, so that the next one must wait."""
        raise NotImplementedError

    def hold_keys(self, holder: object) -> None:
        """Let keys wait, until this holder gives them."""
        self._waits, self._holder = True, holder
        self.set_timer(LONGEST_S, lambda: self.give_keys(holder))

    def give_keys(self, holder: object) -> None:
        """Let those that waited go to whoever has them now; of one that does not hold them any more it means nothing."""
        if self._waits and self._holder is holder:
            self.call_later(self._drain, holder)

    async def _drain(self, holder: object) -> None:
        if self._holder is not holder:
            return
        self._waits, self._holder = False, None
        while self._early and not self._waits:
            await self._take(self._early.pop(0))

    async def on_event(self, event: events.Event) -> None:
        """Take what the terminal says: keys and what is pasted wait where they must."""
        typed = isinstance(event, events.Key | events.Paste) and not event.is_forwarded
        if typed and not self.app_focus:
            self.app_focus = True  # a key came: the window has the focus, whatever the terminal reported
        if typed and isinstance(event, events.Key) and event.key in NEVER_WAIT:
            self._early.clear()
            self._waits = False
        elif typed and (self._waits or self._early):
            self._early.append(event)
            return
        await self._take(event)

    async def _take(self, event: events.Event) -> None:
        if isinstance(event, events.Key) and not event.is_forwarded:
            if self.views_have_keys():
                if not await self._check_bindings(event.key, priority=True):
                    self.obey(event)
                return
            if self.closes_by(event.key):
                self.hold_keys(self.screen)
        await super().on_event(event)
