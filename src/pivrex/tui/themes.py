"""Three themes: dusk, noon for a bright hall, and plain, which needs no colour. One meaning to a sign everywhere."""

from __future__ import annotations

from rich.style import Style
from textual.theme import Theme

from pivrex.tui.draw.picture import ROLES

__all__ = ["STYLES", "THEMES", "next_theme"]

_DUSK = {
    "rest": "#e4dcc8", "dim": "#8d9a8a", "frame": "#4a5a4d", "title": "bold #e4dcc8",
    "commanded": "bold #f0a63a", "measured": "#49c5b6", "target": "#b9a2e8", "alarm": "bold #ff7b66",
    "ghost": "#6b7568", "chosen": "bold #0d1612 on #e4dcc8", "ground": "#34443a", "thing": "#7c8f5a",
    "key": "bold #d8c690", "safe": "bold #0d1612 on #9fb58c", "live": "bold #0d1612 on #ff7b66",
}  # fmt: skip
_NOON = {
    "rest": "#1d241f", "dim": "#5b655c", "frame": "#a9b0a2", "title": "bold #1d241f",
    "commanded": "bold #9a4f00", "measured": "#00695e", "target": "#6440a8", "alarm": "bold #b3200a",
    "ghost": "#8b9186", "chosen": "bold #f7f3e6 on #1d241f", "ground": "#c3c6b4", "thing": "#5c7032",
    "key": "bold #6b5200", "safe": "bold #f7f3e6 on #3f6b3a", "live": "bold #ffffff on #b3200a",
}  # fmt: skip
_PLAIN = {
    "rest": "", "dim": "", "frame": "dim", "title": "bold", "commanded": "bold", "measured": "", "target": "",
    "alarm": "bold reverse", "ghost": "dim", "chosen": "reverse", "ground": "dim", "thing": "", "key": "bold",
    "safe": "bold", "live": "bold reverse",
}  # fmt: skip

# for terminals with no more than sixteen colours, where the nearest of them would say the wrong thing
_BASIC = {
    "rest": "white", "dim": "white", "frame": "bright_black", "title": "bold bright_white",
    "commanded": "bold yellow", "measured": "cyan", "target": "magenta", "alarm": "bold bright_red",
    "ghost": "bright_black", "chosen": "black on bright_white", "ground": "bright_black", "thing": "green", "key": "bold white",
    "safe": "black on green", "live": "bold white on red",
}  # fmt: skip

_GROUNDS = {"dusk": "#0d1612", "noon": "#f7f3e6", "plain": None}


def _styles(roles: dict[str, str], ground: str | None) -> tuple[Style, ...]:
    base = Style.parse(f"on {ground}") if ground else Style.null()
    return tuple(base + Style.parse(roles[name]) for name in ROLES)


STYLES: dict[str, tuple[Style, ...]] = {
    "dusk": _styles(_DUSK, _GROUNDS["dusk"]),
    "noon": _styles(_NOON, _GROUNDS["noon"]),
    "plain": _styles(_PLAIN, _GROUNDS["plain"]),
    "basic": _styles(_BASIC, "black"),
}
"""For each theme the style of each role, in the order of `ROLES`; "basic" stands in for dusk in sixteen colours."""

THEMES = (
    Theme(
        "dusk", primary="#f0a63a", secondary="#49c5b6", accent="#b9a2e8", foreground="#e4dcc8", background="#0d1612",
        surface="#14201a", panel="#1b2a22", warning="#f0a63a", error="#ff7b66", success="#9fb58c", dark=True,
    ),
    Theme(
        "noon", primary="#9a4f00", secondary="#00695e", accent="#6440a8", foreground="#1d241f", background="#f7f3e6",
        surface="#efe9d6", panel="#e5dec8", warning="#9a4f00", error="#b3200a", success="#3f6b3a", dark=False,
    ),
    Theme(
        "plain", primary="#ffffff", secondary="#ffffff", accent="#ffffff", foreground="#ffffff", background="#000000",
        surface="#000000", panel="#000000", warning="#ffffff", error="#ffffff", success="#ffffff", dark=True,
    ),
)  # fmt: skip


def next_theme(name: str) -> str:
    """Give the theme after this one."""
    names = [theme.name for theme in THEMES]
    return names[(names.index(name) + 1) % len(names)]
