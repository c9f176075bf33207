"""Three themes: dusk, noon for a bright hall, and plain, which needs no colour. One meaning to a sign everywhere."""

from __future__ import annotations

from functools import cache

from rich.style import Style
from textual.theme import Theme

from pivrex.tui.draw.picture import GROUNDS, ROLES

__all__ = ["FEW", "TEXTURES", "THEMES", "next_theme", "style_of"]

FEW = " 16"
"""Behind the name of a theme: as it is where there are no more than sixteen colours."""

_DUSK = {
    "rest": "#e8e0cc", "dim": "#a3b09f", "frame": "#5d6f61", "title": "bold #f2ead6",
    "commanded": "bold #f0a63a", "measured": "bold #49c5b6", "target": "#c3aef0", "alarm": "bold #ff7b66",
    "ghost": "#7f8a7b", "chosen": "bold #0d1612 on #e4dcc8", "ground": "#4f6356", "thing": "#9db06f", "groove": "#0d1612",
    "key": "bold #d8c690", "safe": "bold #0d1612 on #9fb58c", "live": "bold #0d1612 on #ff7b66",
}  # fmt: skip
_NOON = {
    "rest": "#1d241f", "dim": "#4c564d", "frame": "#8c9486", "title": "bold #10150f",
    "commanded": "bold #9a4f00", "measured": "bold #00695e", "target": "#6440a8", "alarm": "bold #b3200a",
    "ghost": "#7b8176", "chosen": "bold #f7f3e6 on #1d241f", "ground": "#b0b49f", "thing": "#5c7032", "groove": "#f7f3e6",
    "key": "bold #6b5200", "safe": "bold #f7f3e6 on #3f6b3a", "live": "bold #ffffff on #b3200a",
}  # fmt: skip
_PLAIN = {
    "rest": "", "dim": "", "frame": "dim", "title": "bold", "commanded": "bold", "measured": "", "target": "",
    "alarm": "bold reverse", "ghost": "dim", "chosen": "reverse", "ground": "dim", "thing": "", "groove": "", "key": "bold",
    "safe": "bold", "live": "bold reverse",
}  # fmt: skip

# for terminals with no more than sixteen colours, where the nearest of them would say the wrong thing
_DUSK_16 = {
    "rest": "white", "dim": "white", "frame": "bright_black", "title": "bold bright_white",
    "commanded": "bold bright_yellow", "measured": "bright_cyan", "target": "bright_magenta", "alarm": "bold bright_red",
    "ghost": "bright_black", "chosen": "black on bright_white", "ground": "bright_black", "thing": "bright_green", "groove": "black",
    "key": "bold bright_white", "safe": "black on green", "live": "bold bright_white on red",
}  # fmt: skip
_NOON_16 = {
    # no bold black: many terminals make grey of it
    "rest": "black", "dim": "black", "frame": "bright_black", "title": "black",
    "commanded": "bold red", "measured": "blue", "target": "magenta", "alarm": "bold bright_white on red",
    "ghost": "bright_black", "chosen": "bright_white on black", "ground": "bright_black", "thing": "green", "groove": "bright_white",
    "key": "blue", "safe": "bright_white on green", "live": "bold bright_white on red",
}  # fmt: skip

_DUSK_AREAS = {
    "floor": "#15231c", "bench": "#46552c", "hull": "#4a6155", "nose": "#c98319", "tyre": "#a3b0a5", "gap": "#6b4a12",
    "limit": "#6e2a20", "band": "#2c2740", "command fill": "#a86d14", "measure fill": "#1f6f67",
}  # fmt: skip
_NOON_AREAS = {
    "floor": "#ece7d4", "bench": "#b9c48d", "hull": "#cdd1c2", "nose": "#e09a3c", "tyre": "#5f675e", "gap": "#f0cf8e",
    "limit": "#f0b0a2", "band": "#dcd2ee", "command fill": "#e8b060", "measure fill": "#7cc7bd",
}  # fmt: skip
_DUSK_AREAS_16 = {
    "floor": "black", "bench": "green", "hull": "white", "nose": "yellow", "tyre": "bright_white", "gap": "yellow",
    "limit": "red", "band": "bright_black", "command fill": "yellow", "measure fill": "cyan",
}  # fmt: skip
_NOON_AREAS_16 = {
    "floor": "bright_white", "bench": "green", "hull": "white", "nose": "yellow", "tyre": "black", "gap": "yellow",
    "limit": "red", "band": "white", "command fill": "yellow", "measure fill": "cyan",
}  # fmt: skip

TEXTURES = {
    "floor": " ", "bench": "▒", "hull": "░", "nose": "▓", "tyre": "█", "gap": "╱", "limit": "▒", "band": "░",
    "command fill": "▓", "measure fill": "░",
}  # fmt: skip
"""What fills an area where it has no colour."""

_LOOKS: dict[str, tuple[dict[str, str], dict[str, str], str]] = {
    "dusk": (_DUSK, _DUSK_AREAS, "#0d1612"),
    "noon": (_NOON, _NOON_AREAS, "#f7f3e6"),
    "plain": (_PLAIN, {}, ""),
    "dusk 16": (_DUSK_16, _DUSK_AREAS_16, "black"),
    "noon 16": (_NOON_16, _NOON_AREAS_16, "bright_white"),
    "plain 16": (_PLAIN, {}, ""),
}
"""For each theme the style of each role, the colour of each area, and what lies behind all."""


@cache
def style_of(theme: str, role: int, ground: int = 0) -> Style:
    """Give the style of a role, by its number in `ROLES`, on a ground, by its number in `GROUNDS`."""
    roles, areas, behind = _LOOKS.get(theme, _LOOKS["dusk"])
    name = ROLES[role]
    under = areas.get(GROUNDS[ground], behind)
    base = Style.parse(f"on {under}") if under else Style.null()
    return base + Style.parse(roles.get(name) or areas.get(name, ""))


def _named(ground: str, ink: str) -> dict[str, str]:
    """What widgets of the library ask of a theme of named colours."""
    return {
        "ansi-background": ground, "ansi-foreground": ink, "border-blurred": ink, "block-cursor-foreground": ground,
        "block-cursor-background": ink, "input-cursor-background": ink, "input-cursor-foreground": ground,
        "input-cursor-text-style": "none", "input-selection-background": ink, "input-selection-foreground": ground,
        "screen-selection-background": ink, "screen-selection-foreground": ground,
    }  # fmt: skip


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
        # what lies over brings its own ground: the selected row is the other way round
        "plain", primary="ansi_white", secondary="ansi_white", accent="ansi_white", foreground="ansi_white",
        background="ansi_black", surface="ansi_black", panel="ansi_black", boost="ansi_black",
        warning="ansi_white", error="ansi_white", success="ansi_white", dark=True, ansi=True, variables=_named("ansi_black", "ansi_white"),
    ),
    Theme(
        "dusk 16", primary="ansi_bright_yellow", secondary="ansi_bright_cyan", accent="ansi_bright_magenta",
        foreground="ansi_white", background="ansi_black", surface="ansi_black", panel="ansi_black", boost="ansi_black",
        warning="ansi_bright_yellow", error="ansi_bright_red", success="ansi_green", dark=True, ansi=True,
        variables=_named("ansi_black", "ansi_white"),
    ),
    Theme(
        "noon 16", primary="ansi_red", secondary="ansi_blue", accent="ansi_magenta",
        foreground="ansi_black", background="ansi_bright_white", surface="ansi_bright_white", panel="ansi_bright_white",
        boost="ansi_bright_white", warning="ansi_red", error="ansi_red", success="ansi_green", dark=False, ansi=True,
        variables=_named("ansi_bright_white", "ansi_black"),
    ),
)  # fmt: skip


def next_theme(name: str) -> str:
    """Give the theme after this one."""
    names = ("dusk", "noon", "plain")
    return names[(names.index(name) + 1) % len(names)]
