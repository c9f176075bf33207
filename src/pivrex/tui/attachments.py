"""What stands of each attachment now: asked and reached, limits, safe state, and who moves it."""

from __future__ import annotations

from math import degrees, isfinite

from pivrex.line.layout import plain
from pivrex.rig.attachments import Attachment, MotorAttachment, PositionAttachment, ServoAttachment, SwitchAttachment
from pivrex.rig.patches import patches_of
from pivrex.tui.draw.attachments import Standing
from pivrex.tui.keys import key_name
from pivrex.tui.model import ScreenModel

__all__ = ["standing_of"]


def standing_of(model: ScreenModel) -> list[Standing]:
    """Give what stands of each attachment of the open rig."""
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
    told = model.value("attachments", f"{plain(name)}_target")
    match a:
        case PositionAttachment() | ServoAttachment():
            span = a.maximum_rad - a.minimum_rad
            is_at = model.value("attachments", f"{plain(name)}_angle") if a.kind == "position" else float("nan")
            safe = {"stop": "no drive", "hold": "held"}[a.safe] if isinstance(a, PositionAttachment) else (
                f"to {_deg(a.safe_rad)}" if a.safe_rad is not None else "stays"
            )  # fmt: skip
            return Standing(
                name, a.kind, _deg(told), _deg(is_at) if isfinite(is_at) else "", _deg(a.minimum_rad), _deg(a.maximum_rad),
                (told - a.minimum_rad) / span, (is_at - a.minimum_rad) / span, safe, by, is_at if isfinite(is_at) else told,
                isfinite(is_at) and abs(is_at - told) > 0.02,
            )  # fmt: skip
        case MotorAttachment():
            drive = model.value("attachments", f"{plain(name)}_drive")
            share = f"{drive * 100:+.0f} %".replace("-", "−") if isfinite(drive) else "–"
            most = f"{a.largest * 100:.0f} %"
            return Standing(
                name, a.kind, share, "", f"−{most}", most, (drive + 1) / 2, float("nan"), "no drive", by, float("nan"),
                isfinite(drive) and abs(drive) > 0.005,
            )  # fmt: skip
    on = told >= 0.5
    safe = "as it shows" if a.shows else a.safe
    return Standing(
        name, a.kind, "on" if on else "off", "", "off", "on", float(on), float("nan"), safe, by, float("nan"), on
    )


def _deg(angle: float | None) -> str:
    return f"{degrees(angle):.0f} deg".replace("-", "−") if angle is not None and isfinite(angle) else "–"
