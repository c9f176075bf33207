"""Help: the signs of the open view, then its keys."""

from __future__ import annotations

from collections.abc import Sequence

from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.overlays.sheet import Sheet

__all__ = ["draw_help", "help_sheet"]

SIGNS = 14


def help_sheet(view: str, signs: list[tuple[str, str]], commands: list[Command], key: str) -> Sheet:
    """Return the help of a view as an overlay."""

    def drawn(width: int) -> Picture:
        own = [c for c in commands if c.view == view]
        return draw_help(signs, [c for c in commands if c.view != view], width, own)

    return Sheet(f"{view}: what you see, and the keys", key, drawn)


def draw_help(
    signs: list[tuple[str, str]], commands: list[Command], width: int, own: Sequence[Command] = ()
) -> Picture:
    """Draw all of it, as high as it is: a view's own keys first; sentences that are too long go on in the next row."""
    lines = [(c.key, f"{c.title}: {c.help}", "key") for c in own if c.keys]
    lines += [("", "", "rest")] * bool(lines)
    lines += [(sign, text, "measured") for sign, text in signs]
    lines.append(("", "", "rest"))
    lines += [(c.key, f"{c.title}: {c.help}", "key") for c in commands if c.keys]
    lines.append(("F1 to F12", "press the buttons that the rig uses; Driver shows which", "key"))
    lines.append(("w a s d", "drive by keys, the left stick; i j k l the right one, q and e the triggers", "key"))
    rows = [
        (sign if i == 0 else "", part, named)
        for sign, text, named in lines
        for i, part in enumerate(wrapped(text, width - SIGNS - 2) or [""])
    ]
    picture = Picture(width, len(rows))
    for y, (sign, text, named) in enumerate(rows):
        picture.text(1, y, sign, named)
        picture.text(SIGNS, y, text, "rest", width - SIGNS)
    return picture
