"""Three themes: dusk, noon for a bright hall, and plain, which needs no colour. A sign has one meaning everywhere."""

from __future__ import annotations

from functools import cache

from rich.color import Color, blend_rgb
from rich.style import Style
from textual.theme import Theme

from pivrex.scene.marks import ROLES
from pivrex.scene.palette import DARK, LIGHT
from pivrex.tui.draw.picture import TEXT

__all__ = ["FEW", "STROKES", "TEXTURES", "THEMES", "colour_of", "next_theme", "style_of"]

FEW = " 16"
"""Behind the name of a theme: as it is where there are no more than sixteen colours."""

_BOLD = ("title", "commanded", "measured", "alarm", "key")


def _looks(colours: dict[str, str], chosen: str, safe: str, live: str) -> dict[str, str]:
    """Return the styles of a theme: of each role its colour, of three their grounds too."""
    styles = {name: ("bold " if name in _BOLD else "") + colour for name, colour in colours.items() if name}
    return styles | {"chosen": chosen, "safe": f"bold {safe}", "live": f"bold {live}"}


_DUSK = _looks(DARK, "bold #0d1612 on #e4dcc8", "#0d1612 on #9fb58c", "#0d1612 on #ff7b66")
_NOON = _looks(LIGHT, "bold #f7f3e6 on #1d241f", "#f7f3e6 on #3f6b3a", "#ffffff on #b3200a")
_PLAIN = {
    "rest": "", "dim": "", "frame": "dim", "title": "bold", "commanded": "bold", "measured": "", "target": "",
    "alarm": "bold reverse", "ghost": "dim", "chosen": "reverse", "groove": "", "other": "", "key": "bold",
    "safe": "bold", "live": "bold reverse",
}  # fmt: skip

# for terminals with no more than sixteen colours, where the nearest of them would say the wrong thing
_DUSK_16 = {
    "rest": "white", "dim": "white", "frame": "bright_black", "title": "bold bright_white",
    "commanded": "bold bright_yellow", "measured": "bright_cyan", "target": "bright_magenta", "alarm": "bold bright_red",
    "ghost": "bright_black", "chosen": "black on bright_white", "groove": "black", "other": "bright_green",
    "key": "bold bright_white", "safe": "black on green", "live": "bold bright_white on red",
}  # fmt: skip
_NOON_16 = {
    # no bold black: many terminals make grey of it
    "rest": "black", "dim": "black", "frame": "bright_black", "title": "black",
    "commanded": "bold red", "measured": "blue", "target": "magenta", "alarm": "bold bright_white on red",
    "ghost": "bright_black", "chosen": "bright_white on black", "groove": "bright_white", "other": "green",
    "key": "blue", "safe": "bright_white on green", "live": "bold bright_white on red",
}  # fmt: skip

_DUSK_AREAS_16 = {
    "floor": "black", "bench": "blue", "hull": "bright_black", "nose": "yellow", "tyre": "black", "gap": "yellow",
    "limit": "red", "band": "bright_black", "command fill": "yellow", "measure fill": "cyan", "wall": "white", "rim": "bright_white",
    "bench rim": "bright_blue", "grid": "bright_black", "trail": "cyan", "old trail": "bright_black",
}  # fmt: skip
_NOON_AREAS_16 = {
    "floor": "bright_white", "bench": "green", "hull": "white", "nose": "yellow", "tyre": "black", "gap": "yellow",
    "limit": "red", "band": "white", "command fill": "yellow", "measure fill": "cyan", "wall": "black", "rim": "black",
    "bench rim": "green", "grid": "white", "trail": "cyan", "old trail": "white",
}  # fmt: skip

TEXTURES = {
    "floor": " ", "bench": "▒", "hull": "░", "nose": "▓", "tyre": "█", "gap": "╱", "limit": "▒", "band": "░",
    "command fill": "▓", "measure fill": "░",
}  # fmt: skip
"""What fills an area where it has no colour."""

STROKES = {"measured": "•", "trail": "•", "old trail": "·", "ghost": "·", "target": "∘"}
"""What a line is made of where it has no colour; others keep their blocks."""

_LOOKS: dict[str, tuple[dict[str, str], str]] = {
    "dusk": (_DUSK, DARK[""]),
    "noon": (_NOON, LIGHT[""]),
    "plain": (_PLAIN, ""),
    "dusk 16": (_DUSK_AREAS_16 | _DUSK_16, "black"),
    "noon 16": (_NOON_AREAS_16 | _NOON_16, "bright_white"),
    "plain 16": (_PLAIN, ""),
}
"""For each theme the style of each role, and the colour that lies behind all."""


@cache
def _colour(theme: str, role: int) -> Color | None:
    """Return the colour of a role as an area."""
    looks, behind = _LOOKS.get(theme, _LOOKS["dusk"])
    style = Style.parse(looks.get(ROLES[role]) or behind or "none")
    return style.color


def colour_of(theme: str, role: int) -> tuple[int, int, int]:
    """Return the colour of a role in a picture, red, green and blue from 0 to 255."""
    colour = _colour(theme, role)
    triplet = colour.get_truecolor() if colour is not None else (0, 0, 0)
    return triplet[0], triplet[1], triplet[2]


@cache
def style_of(theme: str, role: int, ground: int = 0, blend: int = TEXT) -> Style:
    """Return the style of a cell: its role and its ground by their numbers in `ROLES`, and their blend (see `Picture`)."""
    looks = _LOOKS.get(theme, _LOOKS["dusk"])[0]
    over, under = _colour(theme, role), _colour(theme, ground)
    if blend == TEXT or over is None or under is None:
        base = Style(bgcolor=under) if under is not None else Style.null()
        return base + Style.parse(looks.get(ROLES[role], ""))
    inside, outside = blend >> 4, blend & 15
    if over.triplet is None or under.triplet is None:  # named colours have nothing between them
        drawn, behind = (over if share >= 4 else under for share in (inside, outside))
        return Style(color=drawn, bgcolor=behind)
    drawn, behind = (Color.from_triplet(blend_rgb(under.triplet, over.triplet, k / 8)) for k in (inside, outside))
    return Style(color=drawn, bgcolor=behind)


def _named(ground: str, ink: str) -> dict[str, str]:
    """The named colours that the library's widgets need from a theme."""
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
    """Return the theme after this one."""
    names = ("dusk", "noon", "plain")
    return names[(names.index(name) + 1) % len(names)]
