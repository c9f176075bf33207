"""What lies over a view for a moment: help, and the list of sources."""

from __future__ import annotations

from pivrex.tui.commands import COMMANDS
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.views.view import View

__all__ = ["draw_help", "draw_rigs", "draw_sources", "draw_tour"]


def _panel(title: str, width: int, height: int) -> Picture:
    picture = Picture(width, height)
    picture.text(0, 0, "╭" + "─" * (width - 2) + "╮", "title")
    picture.down(0, 1, height - 1, "│", "title")
    picture.down(width - 1, 1, height - 1, "│", "title")
    picture.text(0, height - 1, "╰" + "─" * (width - 2) + "╯", "title")
    picture.text(2, 0, f" {title} ", "key")
    return picture


TOUR = (
    ("it drives", "a recorded driver steers; amber is commanded, teal is measured"),
    ("w a s d", "take over, or drag a stick; o lists gamepads too, b the other robots"),
    ("2  3", "Shaping, Chassis: ↑ ↓ select, ← → change, u takes back; 5 returns"),
    ("n  Enter", "why: a wheel derived from the stick, in a row; Enter shows it stage by stage"),
    ("Esc", "stops the robot from anywhere; g goes on. ? explains the view you are in"),
)


def draw_tour(width: int) -> Picture:
    """Five lines for the first start."""
    wide = min(width - 4, 91)
    picture = _panel("what to try    any key closes this", wide, len(TOUR) + 2)
    for y, (sign, text) in enumerate(TOUR, 1):
        picture.text(2, y, sign, "key")
        picture.text(13, y, text, "rest", wide - 15)
    return picture


def draw_help(view: View, width: int, height: int, first: int = 0) -> Picture:
    """Explain a view on that view: its signs, then its keys. ``first`` is the first line shown."""
    lines: list[tuple[str, str, str]] = [(sign, text, "measured") for sign, text in view.help_lines()]
    lines.append(("", "", "rest"))
    for command in COMMANDS:
        if command.keys and command.acts_in(view.name_):
            lines.append((command.shown, f"{command.title}: {command.help}", "key"))
    lines.append(("w a s d", "drive by keys, the left stick; i j k l the right one, q and e the triggers", "key"))
    wide = min(width - 4, 132)
    rows = height - 2
    first = max(0, min(first, len(lines) - rows))
    picture = _panel(
        f"{view.name_}: what is to be seen, and the keys    ? closes" + ("   ↑↓ more" if len(lines) > rows else ""),
        wide,
        min(height, len(lines) + 2),
    )
    for y, (sign, text, named) in enumerate(lines[first : first + rows], 1):
        picture.text(2, y, sign, named)
        picture.text(12, y, text, "rest", wide - 14)
    return picture


def draw_rigs(model: ScreenModel, chosen: int, width: int) -> Picture:
    """List the robots of the workspace; the one that is open is marked."""
    rigs = model.folder.rigs()
    wide = min(width - 4, 60)
    picture = _panel("which robot?  ↑↓ Enter    b closes", wide, len(rigs) + 2)
    for y, path in enumerate(rigs, 1):
        here = y - 1 == chosen
        picture.text(2, y, "▸" if here else " ", "commanded")
        picture.text(4, y, f" {path.stem} ", "chosen" if here else "rest", wide - 20)
        if path.resolve() == model.file.path.resolve():
            picture.right(wide - 2, y, "open", "commanded")
    return picture


def draw_sources(model: ScreenModel, chosen: int, width: int) -> Picture:
    """List what may drive; the one that drives is marked."""
    status = model.status
    lines: list[tuple[str, str, str]] = []
    for source in status.sources:
        drives = "drives" if source.name == status.source else ""
        wrong = f"no {', '.join(source.lacks)}" if source.lacks else source.waits
        lines.append((source.title, f"! {wrong}" if wrong else drives, "alarm" if wrong else "commanded"))
    wide = min(width - 4, 88)
    picture = _panel("who drives?  ↑↓ Enter    o closes", wide, len(lines) + 4)
    for y, (title, note, named) in enumerate(lines, 1):
        here = y - 1 == chosen
        picture.text(2, y, "▸" if here else " ", "commanded")
        room = max(wide // 3, wide - len(note) - 9)
        picture.text(4, y, f" {title} ", "chosen" if here else "rest", room)
        picture.text(wide - 2 - min(len(note), wide - room - 8), y, note, named, wide - room - 8)
    known = "stand-in gamepads: " + (
        f"pivrex remote --pad --port {status.pad_port}" if status.pad_port else "Ctrl+P, then stand-in gamepad"
    )
    picture.text(4, len(lines) + 2, known, "dim", wide - 6)
    return picture
