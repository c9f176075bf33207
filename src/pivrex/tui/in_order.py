"""Keys are obeyed in the order in which they were pressed, also those that come while something still opens or closes."""

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


class KeysInOrder(_Base):
    """For the application. While nothing lies over the views and nobody types, a key is obeyed at once, before the next is
    looked at. What is about to take keys (a value entry that opens, one that is being closed) asks to `hold_keys`; they wait
    until it says `give_keys`. Esc never waits, and what waited is forgotten with it.
    """

    _early: list[events.Event]
    _waits = False

    def obey(self, event: events.Key) -> None:
        """Do what a key means while the views have it."""
        raise NotImplementedError

    def views_have_keys(self) -> bool:
        """Tell whether a key is the views' now."""
        raise NotImplementedError

    def closes_by(self, key: str) -> bool:
        """Tell whether what lies over may close by this key, so that the next one must wait."""
        raise NotImplementedError

    def hold_keys(self) -> None:
        """Let keys wait."""
        self._waits = True

    def give_keys(self) -> None:
        """Let those that waited go to whoever has them now."""
        if self._waits:
            self.call_later(self._drain)

    async def _drain(self) -> None:
        self._waits = False
        while self._early and not self._waits:
            await self._take(self._early.pop(0))

    async def on_event(self, event: events.Event) -> None:
        """Take what the terminal says: keys and what is pasted wait where they must."""
        typed = isinstance(event, events.Key | events.Paste) and not event.is_forwarded
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
                self.hold_keys()
        await super().on_event(event)
