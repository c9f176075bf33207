"""Keys of a text are obeyed in the order in which they come."""

from __future__ import annotations

from textual import events
from textual.widget import Widget

__all__ = ["do_bound"]


async def do_bound(widget: Widget, event: events.Key) -> None:
    """Do what a key is bound to in a widget at once. Left to bubble it would be done after letters that were typed behind it."""
    for binding in widget._bindings.key_to_bindings.get(event.key, ()):
        event.stop()
        event.prevent_default()
        await widget.run_action(binding.action)
        return
