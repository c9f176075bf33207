"""Keys: how to write them for people, which press buttons of a gamepad, which a person gave to commands."""

from __future__ import annotations

import tomllib
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from pivrex.devices.keys import DRIVE_KEYS
from pivrex.errors import Mistake, ReadError, SettingsError
from pivrex.files import read_persons
from pivrex.lower import reason
from pivrex.rig import Rig
from pivrex.rig.channels import CHANNELS
from pivrex.rig.patches import patches_of

if TYPE_CHECKING:
    from textual import events
    from textual.widget import Widget
__all__ = ["do_bound", "key_name", "keys_of_buttons", "read_keys", "wants_pictures"]

_NAMES = {
    "escape": "Esc", "enter": "Enter", "space": "Space", "backspace": "Backspace", "delete": "Del", "tab": "Tab", "up": "↑",
    "down": "↓", "left": "←", "right": "→", "home": "Home", "end": "End", "pageup": "PgUp", "pagedown": "PgDn",
    "left_square_bracket": "[", "right_square_bracket": "]", "equals_sign": "=", "plus": "+", "minus": "-",
    "question_mark": "?", "exclamation_mark": "!", "comma": ",", "full_stop": ".", "slash": "/",
    "number_sign": "#", "asterisk": "*", "at": "@",
}  # fmt: skip


def key_name(key: str) -> str:
    """Write a key for people: "Ctrl+L", "⇧←", "Esc"."""
    *held, last = key.split("+") if key != "+" else [key]
    whole = (held and len(last) == 1) or (last[0] == "f" and last[1:].isdecimal())
    last = _NAMES.get(last, last.upper() if whole else last)
    marks = {"ctrl": "Ctrl+", "shift": "⇧", "alt": "Alt+"}
    return "".join(marks.get(h, h + "+") for h in held) + last


async def do_bound(widget: Widget, event: events.Key) -> None:
    """Do what a key is bound to in a widget at once. Left to bubble it would be done after letters that were typed behind it."""
    for binding in widget._bindings.key_to_bindings.get(event.key, ()):
        event.stop()
        event.prevent_default()
        await widget.run_action(binding.action)
        return


# --- buttons ---

KEYS = tuple(f"f{i}" for i in range(1, 13))


def keys_of_buttons(
    rig: Rig, own: Mapping[str, str], taken: Collection[str] = (), before: Mapping[str, str] = {}
) -> dict[str, str]:
    """Return the button of each key: F1 to F12 for those that the rig uses, in the order of the layout.

    Parameters
    ----------
    rig : Rig
    own : mapping of str to str
        Keys that the person gave to buttons, by button; these go before.
    taken : collection of str
        Keys that mean something else.
    before : mapping of str to str
        What this returned for the rig before its last change: keys keep their buttons.
    """
    used = set()
    for patch in patches_of(rig):
        if patch.source in ("chosen", "keys"):
            used |= {patch.channel, patch.binding.with_ if patch.binding is not None else ""}
    buttons = [c for c in CHANNELS if c in used and c.startswith("button_")]
    found = {own[b]: b for b in buttons if b in own}
    found |= {k: b for k, b in before.items() if b in buttons and b not in own and k not in found}
    free = [k for k in KEYS if k not in found and k not in own.values() and k not in taken]
    return found | dict(zip(free, (b for b in buttons if b not in found.values()), strict=False))


# --- a person's own keys ---

_SPELT = {"esc": "escape", "[": "left_square_bracket", "]": "right_square_bracket", "=": "equals_sign", "+": "plus",
          "-": "minus", "?": "question_mark", ",": "comma", ".": "full_stop", "/": "slash"}  # fmt: skip

_OLD_IDS = {
    "keep_answer": "keep_response",
    "take_away": "delete_run",
    "bring_back": "restore_run",
    "write_learnt": "write_learned",
}
"""Commands that had other ids in version 0.1; the old ones count for one version."""

LARGEST_FILE = 100_000

ALWAYS_STOP = ("escape", "ctrl+c")


class Keyed(Protocol):
    """A command, as far as its keys go."""

    @property
    def name(self) -> str: ...
    @property
    def view(self) -> str: ...
    @property
    def keys(self) -> tuple[str, ...]: ...


def read_keys(path: Path, commands: Sequence[Keyed]) -> dict[str, tuple[str, ...]]:
    """Read the keys that a person gave to commands; none if there is no such file.

    The file has a table ``[keys]`` with a command's id and a key, or a list of keys: ``go_live = "ctrl+g"``.

    Raises
    ------
    SettingsError
        With every mistake in the file.
    """
    text = _text(path)
    found: dict[str, tuple[str, ...]] = {}
    wrong: list[tuple[str, str]] = []
    buttons = [c for c in CHANNELS if c.startswith("button_")]
    known = [*(c.name for c in commands), *buttons]
    for written, value in _table(path, text).items():
        name = _OLD_IDS.get(written, written)
        keys = [value] if isinstance(value, str) else value
        if name not in known:
            wrong.append((name, f"is no command; the commands are {', '.join(dict.fromkeys(known))}"))
        elif not isinstance(keys, list) or not all(isinstance(k, str) and k for k in keys):
            wrong.append((name, "should be a key in quotes, or a list of them"))
        else:
            found[name] = _spelt(keys)
            wrong += [(name, f"is {key_name(k)}, which drives") for k in found[name] if k in DRIVE_KEYS]
            wrong += [(name, f"is {key_name(k)}, which always stops") for k in found[name] if k in ALWAYS_STOP]
    wrong += _taken(commands, found)
    if wrong:
        lines = [row.split("=")[0].strip().strip('"') for row in text.splitlines()]
        at = {name: lines.index(name) + 1 if name in lines else 0 for name, _ in wrong}
        raise SettingsError(path, [Mistake(at[name], f"keys.{name}", what) for name, what in wrong])
    if "stop" in found:
        found["stop"] = ("escape", *found["stop"])  # another key may stop too
    return found


def _text(path: Path) -> str:
    if not path.exists():
        return ""
    try:
        return read_persons(path, LARGEST_FILE)
    except ReadError as problem:
        raise SettingsError(path, [Mistake(problem.line, "", problem.reason)]) from None


def wants_pictures(path: Path) -> bool:
    """Return whether drawings may be shown in pixels: yes, unless the file says ``pixels = false`` in its table ``[screen]``.

    Raises
    ------
    SettingsError
    """
    text = _text(path)
    try:
        table = tomllib.loads(text).get("screen", {})
    except (ValueError, RecursionError) as problem:
        raise SettingsError(path, [Mistake(0, "", f"is not TOML: {reason(problem)}")]) from None
    wanted = table.get("pixels", True) if isinstance(table, dict) else None
    if not isinstance(wanted, bool):
        line = next(
            (k for k, row in enumerate(text.splitlines(), 1) if row.strip().startswith(("pixels", "screen"))), 0
        )
        raise SettingsError(path, [Mistake(line, "screen.pixels", "should be true or false")])
    return wanted


def _table(path: Path, text: str) -> dict[str, object]:
    try:
        table = tomllib.loads(text).get("keys", {})
    except (ValueError, RecursionError) as problem:
        raise SettingsError(path, [Mistake(0, "", f"is not TOML: {reason(problem)}")]) from None
    if not isinstance(table, dict):
        raise SettingsError(path, [Mistake(0, "keys", "is no table; it gives commands their keys")])
    return table


def _spelt(keys: list[str]) -> tuple[str, ...]:
    """As Textual spells them: "Ctrl+G" is "ctrl+g", "[" has a name; a single letter keeps its case."""
    return tuple(_SPELT.get(k.lower(), k if len(k) == 1 else k.lower()) for k in keys)


def _taken(commands: Sequence[Keyed], found: dict[str, tuple[str, ...]]) -> list[tuple[str, str]]:
    """Return which keys would mean two things in one view."""
    wrong = []
    pressed = {key: name for name, keys in found.items() if name in CHANNELS for key in keys}
    for name, keys in found.items():
        if name in CHANNELS:
            taken = [c for c in commands if set(keys) & set(found.get(c.name, c.keys))]
            wrong += [(name, f"is {key_name(keys[0])}, which {c.name} has already") for c in taken[:1]]
            wrong += [
                (name, f"is {key_name(k)}, which presses {pressed[k]} already") for k in keys if pressed[k] != name
            ]
            continue
        places = {c.view for c in commands if c.name == name}
        for other in commands:
            meets = other.name != name and ("" in places or other.view == "" or other.view in places)
            for key in set(keys) & set(found.get(other.name, other.keys)):
                if meets and key not in ALWAYS_STOP:
                    wrong.append((name, f"is {key_name(key)}, which {other.name} has already"))
    return list(dict.fromkeys(wrong))
