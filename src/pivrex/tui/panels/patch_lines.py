"""What channels do, and the lines from channels to it."""

from __future__ import annotations

import numpy as np

from pivrex.rig.patches import Patch
from pivrex.session.report import SourceReport
from pivrex.tui.draw.picture import Dots, Picture
from pivrex.tui.keys import key_name
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.channel_bars import PRESSED

__all__ = ["draw_patches", "draw_wires"]


def draw_patches(
    picture: Picture, x: int, y: int, width: int, height: int, patches: list[Patch], chosen: int, source: SourceReport,
    model: ScreenModel, learning: bool,
) -> dict[int, int]:  # fmt: skip
    """List what channels do; gives the row of each patch that is shown."""
    picture.text(x + 1, y, "what they do", "title")
    for hint in ("↑↓ select  v control  = choose", "v control  = choose", "= choose"):
        if width >= len(hint) + 17:
            picture.right(x + width - 1, y, hint, "dim")
            break
    rows = height - 2
    keys = {button: key_name(key) for key, button in model.button_keys.items()}
    first = max(0, min(chosen - rows // 2, len(patches) - rows))
    step = 2 if rows > 2 * len(patches) else 1
    places = {}
    for i, patch in enumerate(patches[first : first + rows], first):
        row = y + 2 + (i - first) * step
        here = i == chosen
        places[i] = row
        picture.spot(x, row, width, "patch", str(i))
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
        key = keys.get(patch.channel, "") if patch.action is not None and patch.source in ("chosen", "keys") else ""
        if key:
            picture.right(x + width - 1, row, key, "key")
        if here and learning:
            picture.text(at + 1, row, "now its control ...", "target", max(0, x + width - at - 2))
        elif not listens(patch, source, model):
            who = patch.source if patch.source != "chosen" else model.status.source
            picture.text(at + 1, row, f"{patch.channel} of {who}", "dim", max(0, x + width - at - 3 - len(key)))
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
