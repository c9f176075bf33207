"""All messages with their times, newest first; above them the warnings about the open rig."""

from __future__ import annotations

from collections.abc import Callable

from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.editing import EditMessage
from pivrex.tui.overlays.sheet import Sheet

__all__ = ["draw_messages", "message_sheet"]

TIMES = 10


def message_sheet(messages: Callable[[], list[EditMessage]], warnings: Callable[[], list[str]], key: str) -> Sheet:
    """Return the messages as an overlay, which shows new ones while it is open."""
    return Sheet("messages", key, lambda width: draw_messages(messages(), warnings(), width), goes_on=True)


def draw_messages(messages: list[EditMessage], warnings: list[str], width: int) -> Picture:
    """Draw all of them, newest first; one that is too long goes on in the next row."""
    rows: list[tuple[str, str, str]] = []
    if warnings:
        rows.append(("", "warnings of the open rig: no mistakes, but worth a look", "title"))
        for warning in warnings:
            rows += [
                ("!" if i == 0 else "", part, "alarm") for i, part in enumerate(wrapped(warning, width - TIMES - 2))
            ]
        rows.append(("", "", "rest"))
    if not messages:
        rows.append(("", "no messages yet", "rest"))
    for one in reversed(messages):
        text = one.text + (f"  ({one.times} times)" if one.times > 1 else "")
        named = "alarm" if one.alarm else "rest"
        rows += [
            (one.at if i == 0 else "", part, named) for i, part in enumerate(wrapped(text, width - TIMES - 2) or [""])
        ]
    picture = Picture(width, max(1, len(rows)))
    for y, (at, text, named) in enumerate(rows):
        picture.text(1, y, at, "alarm" if at == "!" else "key")
        picture.text(TIMES, y, text, named, width - TIMES)
    return picture
