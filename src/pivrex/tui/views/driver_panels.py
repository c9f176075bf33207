"""What the view Driver draws: sources, channels, patches with their lines, messages."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.devices.health import Said
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.patches import Patch
from pivrex.session.report import Report, SourceReport
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Dots, Picture
from pivrex.tui.model import ScreenModel

__all__ = ["draw_channels", "draw_messages", "draw_patches", "draw_sources", "draw_wires", "shown_channels"]

PRESSED = 0.5


def draw_sources(
    picture: Picture, sources: list[SourceReport], selected: str, model: ScreenModel, width: int, height: int
) -> list[tuple[int, int, int, str]]:
    """List the sources with their health; gives first row, last row, right end and name of each."""
    places = []
    full = width < 60
    room = (height - 2) // max(1, len(sources))
    y = 0
    if full:
        picture.text(1, 0, "sources", "title")
        picture.right(width - 1, 0, "←→ select  y drives", "dim")
        y = 2
    names = [s.name for s in sources]
    rows = height - 1 if not full else len(sources)
    first = max(0, min(names.index(selected) - rows // 2, len(sources) - rows)) if selected in names else 0
    for source in sources[first : first + max(1, rows)]:
        if y >= height:
            break
        here = source.name == selected
        picture.text(0, y, "▸" if here else " ", "commanded")
        picture.text(2, y, source.name, "chosen" if here else "title", width - 14 if full else 16)
        word, named = _state(source, model)
        begin = y
        if full:
            picture.right(width - 1, y, word, named)
            for line in _health(source)[: max(0, min(room, 4) - 1)]:
                y += 1
                picture.text(4, y, line, "dim", width - 5)
            y += 2 if room > 3 else 1
        else:
            picture.text(19, y, word, named)
            picture.text(28, y, "  ".join(_health(source)), "dim", width - 29)
            y += 1
        places.append((begin, y - 1, width, source.name))
    return places


def _state(source: SourceReport, model: ScreenModel) -> tuple[str, str]:
    if source.waits:
        return ("! lost" if "let go" not in source.waits else "! let go"), "alarm"
    if source.name == model.status.source:
        return "drives", "commanded"
    return ("heard" if source.health is not None or source.kind == "link" else "there"), "measured"


def _health(source: SourceReport) -> list[str]:
    """Say in a line or two how a source is."""
    if source.waits:
        return [source.waits.removeprefix(f"{source.name} ")]
    health = source.health
    if health is None:
        return [f"event  {source.identity or (source.kind if source.kind != source.name else 'on this screen')}"]
    if source.nature == "event":
        bad = sum(health.faults.values())
        return [f"event  {health.good} {source.kind}  {bad} refused"]
    age = f"{health.age_s * 1e3:4.0f} ms" if isfinite(health.age_s) and health.age_s < 10 else " long"
    return [
        f"{health.rate_hz:3.0f} Hz  loss {health.loss * 100:2.0f} %  age {age}",
        f"{source.nature}  jitter {health.jitter_s * 1e3:4.1f} ms",
    ]


def shown_channels(source: SourceReport, patches: list[Patch], drives: bool, room: int) -> list[str]:
    """Choose the channels that are drawn: those with sticks or patches first, in the order of the layout."""
    patched = {
        p.channel for p in patches if p.source in (source.name, source.kind) or (drives and p.source == "chosen")
    }
    there = [c for c in CHANNELS if c in source.readings or c in patched]
    there += sorted(c for c in source.readings if c not in CHANNELS)
    wanted = [
        c for c in there if not is_one_sided(c) or c in patched or c.endswith("trigger") or c.startswith("letter ")
    ]
    wanted += [c for c in there if c not in wanted and source.readings.get(c)]
    wanted = wanted[:room]
    return [c for c in there if c in wanted]


def draw_channels(
    picture: Picture,
    x: int,
    y: int,
    width: int,
    height: int,
    source: SourceReport,
    channels: list[str],
    model: ScreenModel,
) -> dict[str, int]:
    """Draw each channel with its travel, noise and calibration; gives the row of each."""
    picture.text(x + 1, y, f"channels of {source.name}", "title", width - 2)
    names = max([len(c) for c in channels] or [0])
    numbers = 16
    bar = width - names - numbers - 5
    if width > 44:
        picture.right(x + width - 1, y, "now    trembles", "dim")
    step = 2 if height > 2 * len(channels) + 3 else 1
    places = {}
    for i, channel in enumerate(channels):
        row = y + 2 + i * step if height > len(channels) + 3 else y + 1 + i
        if row >= y + height:
            break
        places[channel] = row
        value = source.readings.get(channel)
        travel = source.travel.get(channel)
        one_sided = channel in CHANNELS and is_one_sided(channel)
        button = channel.startswith(("button_", "letter "))
        pressed = value is not None and value >= PRESSED
        picture.text(x + 2, row, channel.removeprefix("letter "), "commanded" if button and pressed else "rest")
        at = x + names + 4
        if button:
            picture.text(at, row, "■ pressed" if pressed else "□", "commanded" if pressed else "frame")
            continue
        if bar >= 8:
            _bar(picture, at, row, bar, one_sided, value, travel, model.rig.axis_of(source.name, channel))
        picture.right(x + width - 8, row, number(value if value is not None else float("nan"), 3, 7), "measured")
        if travel is not None:
            picture.right(x + width - 1, row, f"±{travel.noise / 2:.3f}", "dim")
    return places


def _bar(
    picture: Picture, x: int, y: int, width: int, one_sided: bool, value: float | None, travel: object, axis: object
) -> None:
    low = 0.0 if one_sided else -1.0

    def cell(v: float) -> int:
        return x + round((min(max(v, low), 1.0) - low) / (1.0 - low) * (width - 1))

    picture.across(y, x, x + width, "╌", "frame")
    if travel is not None:
        a, b = cell(travel.low), cell(travel.high)  # type: ignore[attr-defined]
        picture.text(a, y, "━" * (b - a + 1), "ghost")
    centre = axis.centre  # type: ignore[attr-defined]
    picture.text(cell(axis.minimum), y, "├", "target")  # type: ignore[attr-defined]
    picture.text(cell(axis.maximum), y, "┤", "target")  # type: ignore[attr-defined]
    if centre is not None:
        for end in centre:
            picture.text(cell(end), y, "╎", "target")
    elif not one_sided:
        picture.text(cell(0.0), y, "┼", "frame")
    if value is not None and isfinite(value):
        picture.text(cell(value), y, "●", "commanded")


def draw_patches(
    picture: Picture, x: int, y: int, width: int, height: int, patches: list[Patch], chosen: int, source: SourceReport,
    model: ScreenModel, learning: bool,
) -> dict[int, int]:  # fmt: skip
    """List what channels do; gives the row of each patch that is shown."""
    picture.text(x + 1, y, "what they do", "title")
    if width > 36:
        picture.right(x + width - 1, y, "↑↓ select  v patch", "dim")
    rows = height - 2
    first = max(0, min(chosen - rows // 2, len(patches) - rows))
    step = 2 if rows > 2 * len(patches) else 1
    places = {}
    for i, patch in enumerate(patches[first : first + rows], first):
        row = y + 2 + (i - first) * step
        here = i == chosen
        places[i] = row
        picture.text(x, row, "▸" if here else " ", "commanded")
        active = acts(patch, source, model)
        named = "chosen" if here else "commanded" if active else "rest"
        words = (
            patch.function
            if patch.action is not None or not patch.key.startswith("law.")
            else f"{patch.function} (law {model.rig.law.kind})"
        )
        binding = patch.binding
        if binding is not None and binding.when not in ("", "held"):
            words += f", {binding.when}"
        if binding is not None and binding.with_:
            words += f", with {binding.with_}"
        at = picture.text(x + 2, row, f"{words} ", named, width - 3)
        if here and learning:
            picture.text(at + 1, row, "now its control ...", "target", max(0, x + width - at - 2))
        elif not listens(patch, source, model):
            who = patch.source if patch.source != "chosen" else model.status.source
            picture.text(at + 1, row, f"{patch.channel} of {who}", "dim", max(0, x + width - at - 2))
    return places


def listens(patch: Patch, source: SourceReport, model: ScreenModel) -> bool:
    """Tell whether a patch listens to this source now."""
    return patch.source in (source.name, source.kind) or (
        patch.source == "chosen" and source.name == model.status.source
    )


def acts(patch: Patch, source: SourceReport, model: ScreenModel) -> bool:
    """Tell whether what is patched acts now."""
    if patch.key.startswith("law.") and model.row is not None:
        return model.value("band", patch.function) != 0
    if not listens(patch, source, model):
        return False
    value = source.readings.get(patch.channel, 0.0)
    if patch.action is not None and patch.action.verb == "follow":
        return abs(value) > (patch.binding.edge if patch.binding is not None else 0.0)
    return value >= PRESSED


def draw_wires(
    picture: Picture, x: int, y: int, width: int, height: int, channels: dict[str, int], spots: dict[int, int],
    patches: list[Patch], chosen: int, source: SourceReport, model: ScreenModel,
) -> None:  # fmt: skip
    """Draw the lines from channels to what they do."""
    dots = Dots(width, height)
    idle, active, here = dots.layer("frame"), dots.layer("commanded"), dots.layer("title")
    t = np.linspace(0.0, 1.0, 40)
    ease = t * t * (3 - 2 * t)
    for i, row in spots.items():
        patch = patches[i]
        if patch.channel not in channels or not listens(patch, source, model):
            continue
        a, b = (channels[patch.channel] - y) * 4 + 1.5, (row - y) * 4 + 1.5
        layer = active if acts(patch, source, model) else here if i == chosen else idle
        dots.path(layer, 1 + t * (width * 2 - 3), a + (b - a) * ease)
    dots.onto(picture, x, y)


def draw_messages(
    picture: Picture, x: int, y: int, width: int, height: int, source: SourceReport, report: Report | None
) -> None:
    """Draw what was said last, both ways, and what was refused with its reason."""
    picture.across(y, x, x + width)
    now = report.at_s if report is not None else 0.0
    half = width // 2 if width >= 120 else width
    others = [s for s in report.sources if s.said] if report is not None else []
    link = report.link if report is not None else None
    # a source that is read at every tick sends no messages: then it is the others that are heard
    speakers = [source] if source.health is not None else others
    title = f" said by {source.name} " if source.health is not None else " said by all that send messages "
    picture.text(x + 2, y, title, "title")
    said = [m for s in [*speakers, *([link] if link is not None and link is not source else [])] for m in s.said]
    said.sort(key=lambda s: s.at_s)
    refused = sorted((m for s in speakers for m in s.bad), key=lambda s: s.at_s)
    rows = height - 1
    if half == width and refused:
        said = [*said[-(rows - 1) :], refused[-1]] if rows > 1 else [refused[-1]]
    if not said:
        words = "nothing yet" if others or source.health is not None else "nobody: no remote has been heard yet"
        picture.text(x + 2, y + 1, words, "dim")
    for i, message in enumerate(said[-rows:]):
        _message(picture, x + 1, y + 1 + i, half - 2, message, now)
    if half == width:
        return
    picture.down(x + half - 1, y + 1, y + height)
    tallies = [s.health for s in speakers if s.health is not None]
    kinds = dict.fromkeys(k for h in tallies for k in h.faults)
    counts = "  ".join(f"{sum(h.faults.get(k, 0) for h in tallies)} {k}" for k in kinds)
    gone = sum(h.missed for h in tallies)
    missed = f"  {gone} missed" if gone else ""
    picture.text(x + half + 1, y, " refused ", "title")
    if counts or missed:
        picture.text(x + half + 11, y, f" {counts}{missed} ", "alarm", width - half - 13)
    if not refused:
        picture.text(x + half + 1, y + 1, "nothing", "dim")
    for i, message in enumerate(refused[-rows:]):
        _message(picture, x + half, y + 1 + i, width - half - 1, message, now)


def _message(picture: Picture, x: int, y: int, width: int, message: Said, now: float) -> None:
    age = max(0.0, now - message.at_s)
    picture.right(x + 8, y, f"{age:.2f} s" if age < 100 else "long", "dim")
    picture.text(x + 9, y, "→" if message.out else "!" if message.fault else "←", "alarm" if message.fault else "frame")
    if not message.fault:
        picture.text(x + 11, y, message.text, "commanded" if message.out else "rest", width - 11)
        return
    # the reason first: what is wrong matters more than all of what was said
    end = picture.text(x + 11, y, f"{message.fault}: {message.reason}", "alarm", width - 11)
    picture.text(end + 2, y, message.text, "ghost", max(0, x + width - end - 2))
