"""The state of each attachment: commanded and reached, limits, safe state, and who moves it."""

from __future__ import annotations

from math import isfinite

from pivrex.line.attachments import reached
from pivrex.line.layout import plain
from pivrex.rig.attachments import (
    ENCODED,
    Attachment,
    Encoded,
    MotorAttachment,
    Reach,
    ServoAttachment,
    SwitchAttachment,
    has_shaft,
    reach_of,
)
from pivrex.rig.patches import patches_of
from pivrex.tui.draw.attachment_bar import Standing
from pivrex.tui.draw.parts import RPM
from pivrex.tui.keys import key_name
from pivrex.tui.model import ScreenModel

__all__ = ["standing_of"]


def standing_of(model: ScreenModel) -> list[Standing]:
    """Return the state of each attachment of the open rig."""
    keys = {button: key_name(key) for key, button in model.button_keys.items()}
    movers: dict[str, list[str]] = {}
    for patch in patches_of(model.rig):
        if patch.action is not None and patch.source != "session":
            key = f" ({keys[patch.channel]})" if patch.channel in keys and patch.source in ("chosen", "keys") else ""
            movers.setdefault(patch.action.target, []).append(patch.channel.removeprefix("letter ") + key)
    found = []
    for name, attachment in model.rig.attachments.items():
        by = ", ".join(dict.fromkeys(movers.get(name, ()))) or "nothing moves it: + binds a control"
        if isinstance(attachment, SwitchAttachment) and attachment.shows:
            by = f"shows {attachment.shows}"
        found.append(_standing(model, name, attachment, by))
    return found


def _standing(model: ScreenModel, name: str, a: Attachment, by: str) -> Standing:
    target = model.value("attachments", f"{plain(name)}_target")
    match a:
        case Encoded() | ServoAttachment():
            reach = reach_of(a)
            span = reach.high - reach.low
            is_at = model.value("attachments", reached(plain(name), a.kind)) if a.kind in ENCODED else float("nan")
            safe = {"stop": "no drive", "hold": "held"}[a.safe] if isinstance(a, Encoded) else (
                f"to {_place(reach, a.safe_rad)}" if a.safe_rad is not None else "stays"
            )  # fmt: skip
            stands = is_at if isfinite(is_at) else target
            return Standing(
                name, a.kind, _place(reach, target), _place(reach, is_at) if isfinite(is_at) else "", _place(reach, reach.low),
                _place(reach, reach.high), (target - reach.low) / span, (is_at - reach.low) / span, safe, by,
                stands if reach.unit == "rad" else float("nan"), isfinite(is_at) and abs(is_at - target) > 0.6 * reach.near,
            )  # fmt: skip
        case MotorAttachment():
            drive = model.value("attachments", f"{plain(name)}_drive")
            share = f"{drive * 100:+.0f} %".replace("-", "−") if isfinite(drive) else "–"
            most = f"{a.largest * 100:.0f} %"
            turns = model.value("attachments", f"{plain(name)}_speed") if has_shaft(a) else float("nan")
            speed = f"{turns * RPM:+.0f} rpm".replace("-", "−") if isfinite(turns) else ""
            return Standing(
                name, a.kind, share, speed, f"−{most}", most, (drive + 1) / 2, (turns / a.top_speed_rad_s + 1) / 2, "no drive", by,
                float("nan"),
                isfinite(drive) and abs(drive) > 0.005,
            )  # fmt: skip
    on = target >= 0.5
    safe = "as it shows" if a.shows else a.safe
    return Standing(
        name, a.kind, "on" if on else "off", "", "off", "on", float(on), float("nan"), safe, by, float("nan"), on
    )


def _place(reach: Reach, at: float) -> str:
    return reach.written(at).replace("-", "−") if isfinite(at) else "–"
