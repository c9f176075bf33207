"""Which key of the keyboard presses which button of a gamepad, where the rig uses it."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from pivrex.rig import Rig
from pivrex.rig.channels import CHANNELS
from pivrex.rig.patches import patches_of

__all__ = ["keys_of_buttons"]

KEYS = tuple(f"f{i}" for i in range(1, 13))


def keys_of_buttons(rig: Rig, own: Mapping[str, str], taken: Collection[str] = ()) -> dict[str, str]:
    """Give the button of each key: F1 to F12 for those that the rig uses, in the order of the layout.

    Parameters
    ----------
    rig : Rig
    own : mapping of str to str
        Keys that the person gave to buttons, by button; these go before.
    taken : collection of str
        Keys that mean something else.
    """
    used = set()
    for patch in patches_of(rig):
        if patch.source in ("chosen", "keys"):
            used |= {patch.channel, patch.binding.with_ if patch.binding is not None else ""}
    buttons = [c for c in CHANNELS if c in used and c.startswith("button_")]
    found = {own[b]: b for b in buttons if b in own}
    free = [k for k in KEYS if k not in own.values() and k not in taken]
    return found | dict(zip(free, (b for b in buttons if b not in own), strict=False))
