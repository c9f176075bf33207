"""The term at the cursor, with this robot's numbers; below it all terms of the glossary."""

from __future__ import annotations

from math import isfinite

from pivrex.glossary import TERMS, term_of
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.sheet import Sheet

__all__ = ["glossary_sheet"]

NAMES = 24
WIDEST = 132
OWN = ("motion.", "figure.", "wheel.")
"""What is no key of a rig, but of a view."""


def glossary_sheet(model: ScreenModel, key: str, own_key: str) -> Sheet:
    """Return the glossary as an overlay: the term of a key of the rig, empty for none, and all others."""
    card = _card(model, key)

    def drawn(width: int) -> Picture:
        wide = min(width, WIDEST)
        lines = [*card, *((t.name, t.says, "title") for t in sorted(TERMS.values(), key=lambda t: t.name.lower()))]
        rows = [
            (sign if i == 0 else "", part, named)
            for sign, text, named in lines
            for i, part in enumerate(wrapped(text, wide - NAMES - 2) or [""])
        ]
        picture = Picture(wide, len(rows))
        for y, (sign, text, named) in enumerate(rows):
            picture.text(1, y, sign, named)
            picture.text(NAMES, y, text, "rest", wide - NAMES)
        return picture

    return Sheet("what is this?" if card else "glossary", own_key, drawn)


def _card(model: ScreenModel, key: str) -> list[tuple[str, str, str]]:
    """Return the rows of the term at the cursor: a word, what it says, and the word's role."""
    try:
        term = term_of(key)
    except KeyError:
        return []
    value = _value(model, key)
    rows = [
        ("unit", term.unit),
        ("formula", term.formula),
        ("here", term.worked(value) if term.worked is not None and isfinite(value) else ""),
        ("too small", term.small),
        ("too large", term.large),
        ("in the rig", _place(model, key)),
        ("more", f"docs/{term.more}"),
    ]
    return [
        (term.name, term.says, "chosen"),
        *((word, text, "measured") for word, text in rows if text),
        ("", "", "rest"),
    ]


def _place(model: ScreenModel, key: str) -> str:
    """Return where a setting stands, and what it is; empty for one of a view's own."""
    if key.startswith(OWN):
        return ""
    setting = model.setting(key)
    if setting.quantity is not None or setting.choices:
        return f"{key} = {model.shown(key)}"
    return f"{key}, line {model.line_of(key)}"


def _value(model: ScreenModel, key: str) -> float:
    """Return the value of a setting in SI units; NaN for what has none."""
    value = None if key.startswith(OWN) or model.setting(key).quantity is None else model.setting(key).value(model.rig)
    return float(value) if isinstance(value, int | float) else float("nan")
