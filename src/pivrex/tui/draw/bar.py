"""The frame that every view shares: head, line, why and foot, as pictures."""

from __future__ import annotations

from dataclasses import dataclass

from pivrex.line.why import Rung
from pivrex.tui.draw.parts import centred_bar
from pivrex.tui.draw.picture import Picture

__all__ = ["LEAD", "Cell", "HeadData", "draw_foot", "draw_head", "draw_ladder", "draw_line", "draw_why", "state_word"]


@dataclass(frozen=True)
class HeadData:
    """The data of the head."""

    rig: str
    law: str
    clock_s: float
    live: bool
    held: str
    source: str
    link: str
    tick_ms: float
    skipped: int
    level: str
    focus: str
    frame: str = "robot frame"
    alarm: str = ""
    recording: str = ""
    match: str = ""
    past: str = ""
    warnings: int = 0
    watches: str = ""
    upright: bool = False


def state_word(live: bool, held: str, watches: str = "", upright: bool = False) -> tuple[str, str]:
    """Return in a word, and in which role, whether a robot may move: the same wherever it stands."""
    if watches == "unheard":  # it may drive all the same
        return " ! BOARD UNHEARD ", "alarm"
    if held and upright:  # one that balances is not without drive
        return " ! STANDS STILL ", "alarm"
    if watches and not live:
        return (" ! BOARD RESTS ", "alarm") if held else (" BOARD DRIVES ", "live")
    return (" ! STOPPED ", "alarm") if held else (" LIVE ", "live") if live else (" safe ", "safe")


def draw_head(data: HeadData, width: int) -> Picture:
    """Draw the head; parts that do not fit are left out, the least needed first. The state never is."""
    picture = Picture(width, 1)
    state, named = state_word(data.live, data.held, data.watches, data.upright)
    minutes, seconds = divmod(max(0.0, data.clock_s), 60)
    parts = [
        (0, f" {data.rig} ", "title"),
        (0, state, named),
        (1, f"{int(minutes):02d}:{seconds:04.1f}", "rest"),
        (0, data.past, "target"),
        (0, data.match, "chosen"),
        (2, data.source, "commanded"),
        (1, "● recording" if data.recording else "", "alarm"),
        (5, f"to {data.link}", "dim"),
        (4, data.law, "rest"),
        (0, f"! {data.alarm}" if data.alarm else "", "alarm"),
        (2, f"! {data.warnings} warning{'s' * (data.warnings > 1)}" if data.warnings else "", "alarm"),
        (3, data.frame, "commanded" if data.frame != "robot frame" else "dim"),
        (3, f"level {data.level}" if data.level else "", "rest"),
        (6, _tick(data), "dim"),
        (8, data.focus, "dim"),
    ]
    parts = [p for p in parts if p[1]]
    while sum(len(text) + 3 for _, text, _ in parts) - 3 > width and max(p[0] for p in parts) > 0:
        parts.remove(max(parts, key=lambda p: p[0]))
    x = 0
    for i, (_, text, role) in enumerate(parts):
        if i > 1:
            picture.text(x + 1, 0, "·", "frame")
            x += 3
        if text.endswith(("warning", "warnings")):
            picture.spot(x, 0, len(text), "command", "messages")
        x = picture.text(x, 0, text, role)
    return picture


@dataclass(frozen=True)
class Cell:
    """A cell of the line: a view with a tiny live instrument.

    ``bars`` are (name, fraction of full, number with unit, role).
    """

    digit: str
    name: str
    open: bool
    bars: tuple[tuple[str, float, str, str], ...]


LEAD = 2
"""Where the first cell of the line begins."""


def draw_line(cells: list[Cell], width: int) -> Picture:
    """Draw the line: the way of the data from left to right. The open cell opens downwards into the view."""
    picture = Picture(width, 3)
    lead = LEAD
    picture.text(0, 1, "─▸", "frame")
    gap = 3 if width >= 100 else 1
    each = (width - lead - gap * (len(cells) - 1)) // len(cells)
    picture.across(2, 0, width)
    x = lead
    for i, cell in enumerate(cells):
        last = i == len(cells) - 1
        w = width - x if last else each
        rim = "title" if cell.open else "frame"
        picture.text(x, 0, "╭" + "─" * (w - 2) + "╮", rim)
        picture.text(x, 1, "│", rim)
        picture.text(x + w - 1, 1, "│", rim)
        if cell.open:
            picture.text(x, 2, "╯" + " " * (w - 2) + "╰", rim)
            if x == 0:
                picture.text(x, 2, "│", rim)
            if last:
                picture.text(x + w - 1, 2, "│", rim)
        else:
            picture.text(x, 2, "┴" + "─" * (w - 2) + "┴", "frame")
        roomy = w >= len(cell.name) + 7
        at = (
            picture.text(x + 2, 0, f" {cell.digit} ", "key")
            if roomy
            else picture.text(x + 1, 0, f"{cell.digit} ", "key")
        )
        named = f"{cell.name} " if roomy else cell.name[: max(0, w - 3)]
        picture.text(at, 0, named, "title" if cell.open else "dim")
        _fill(picture, cell, x + 2, w - 4)
        picture.spot(x, 0, w + (0 if last else gap), "command", f"view_{cell.name}", height=3)
        if not last:
            picture.text(x + w, 1, "──▸" if gap > 1 else "▸", "frame")
        x += w + gap
    return picture


def _fill(picture: Picture, cell: Cell, x: int, width: int) -> None:
    bars = list(cell.bars)
    # as many as fit whole; their little bars go first
    while bars and max(len(name) + len(text) for name, _, text, _ in bars) + (3 if len(bars) > 1 else 1) > width // len(
        bars
    ):
        bars.pop()
    if not bars:
        # not even one with its name: then its number, or its bar
        if cell.bars and len(cell.bars[0][2]) <= width:
            picture.text(x, 1, cell.bars[0][2], cell.bars[0][3])
        return
    each = width // len(bars)
    for i, (name, fraction, text, role) in enumerate(bars):
        left = x + i * each
        bar = each - len(name) - len(text) - 4
        picture.text(left, 1, name, "dim")
        if bar >= 5:
            centred_bar(picture, left + len(name) + 1, 1, bar if bar % 2 else bar - 1, fraction, role)
        tight = len(name) + len(text) + 3 > each
        picture.right(left + each - (0 if tight else 2), 1, text, role)


def draw_why(text: str, width: int) -> Picture:
    """Draw the why in a row; one that is too long loses its middle."""
    picture = Picture(width, 1)
    parts = text.split(" → ")
    for dropped in range(len(parts) - 1):
        first = (len(parts) - dropped + 1) // 2
        kept = parts if not dropped else [*parts[:first], "…", *parts[first + dropped :]]
        text = " → ".join(kept)
        if len(text) <= width - 2:
            break
    name, colon, rest = text.partition(":")
    at = picture.text(1, 0, name + colon, "key")
    picture.text(at, 0, rest, "alarm" if "!" in rest else "rest", width - at - 1)
    return picture


def draw_ladder(rungs: list[Rung], chosen: int, wheel: str, width: int, height: int) -> Picture:
    """Draw the why as a ladder, a row a stage, around the chosen rung."""
    picture = Picture(width, height)
    picture.across(0, 0, width)
    picture.text(2, 0, f" why {wheel}, stage by stage ", "key")
    picture.right(width - 2, 0, " ↑↓ walk  Enter goes to its setting  n next wheel ", "dim")
    rows = height - 1
    first = max(0, min(chosen - rows // 2, len(rungs) - rows))
    for i, rung in enumerate(rungs[first : first + rows]):
        y, here = i + 1, first + i == chosen
        picture.spot(0, y, width, "rung", str(first + i))
        picture.text(1, y, "▸" if here else " ", "commanded")
        picture.text(3, y, f"{rung.stage:<8}", "title" if here else "dim")
        text, arrow, result = rung.text.rpartition(" → ")
        # the result is the point of a rung: shorten its inputs first
        at = picture.text(12, y, text, "rest", max(8, width - 17 - len(result)))
        at = picture.text(at, y, f" {arrow.strip()} ", "frame")
        at = picture.text(at, y, result.replace("-", "−"), "commanded")
        if rung.note:
            picture.text(at + 2, y, rung.note, "alarm" if rung.note.startswith("!") else "target")
        if rung.setting and at + len(rung.note) + len(rung.setting) + 8 < width:
            picture.right(width - 2, y, rung.setting, "dim")
    return picture


ALWAYS = ("help", "quit")


def draw_foot(keys: list[tuple[str, str, str]], message: str, alarm: bool, width: int) -> Picture:
    """Draw the keys that matter here, as many as fit next to the message.

    ``keys`` are the name of a command, its key and its title. Help and quit are always among them.
    """
    picture = Picture(width, 1)
    room = width
    if message:
        text = ("! " if alarm else "") + message
        shown = min(len(text), max(width // 2, width - 40))
        picture.text(width - shown - 1, 0, text, "alarm" if alarm else "target", shown)
        room = width - shown - 3
    always = [k for k in keys if k[0] in ALWAYS]
    left = room - sum(len(key) + len(title) + 3 for _, key, title in always)
    fit, x = [], 1
    for command, key, title in (k for k in keys if k[0] not in ALWAYS):
        x += len(key) + len(title) + 3
        if x - 2 > left:
            break
        fit.append((command, key, title))
    x = 1
    for command, key, title in (*fit, *always):
        if x + len(key) + len(title) + 1 > room:
            break
        picture.spot(x, 0, len(key) + len(title) + 1, "command", command)
        x = picture.text(x, 0, key, "key")
        x = picture.text(x + 1, 0, title, "dim") + 2
    return picture


def _tick(data: HeadData) -> str:
    """Return how long a tick takes; nothing where none is computed, as in a replay."""
    if not data.tick_ms:
        return ""
    return f"tick {data.tick_ms:4.2f} ms" + (f", {data.skipped} skipped" if data.skipped else "")
