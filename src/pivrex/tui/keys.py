"""How keys are written for people."""

from __future__ import annotations

__all__ = ["key_name"]

_NAMES = {
    "escape": "Esc", "enter": "Enter", "space": "Space", "backspace": "Backspace", "delete": "Del", "tab": "Tab", "up": "↑",
    "down": "↓", "left": "←", "right": "→", "home": "Home", "end": "End", "pageup": "PgUp", "pagedown": "PgDn",
    "left_square_bracket": "[", "right_square_bracket": "]", "equals_sign": "=", "plus": "+", "minus": "-",
    "question_mark": "?", "exclamation_mark": "!", "comma": ",", "full_stop": ".", "slash": "/",
    "number_sign": "#", "asterisk": "*",
}  # fmt: skip


def key_name(key: str) -> str:
    """Write a key for people: "Ctrl+L", "⇧←", "Esc"."""
    *held, last = key.split("+") if key != "+" else [key]
    whole = (held and len(last) == 1) or (last[0] == "f" and last[1:].isdecimal())
    last = _NAMES.get(last, last.upper() if whole else last)
    marks = {"ctrl": "Ctrl+", "shift": "⇧", "alt": "Alt+"}
    return "".join(marks.get(h, h + "+") for h in held) + last
