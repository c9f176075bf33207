"""The settings file in which a person gives commands other keys."""

from __future__ import annotations

import tomllib
from pathlib import Path

from pivrex.devices.keys import DRIVE_KEYS
from pivrex.errors import Mistake, ReadError, SettingsError
from pivrex.files import read_persons
from pivrex.lower import reason
from pivrex.rig.channels import CHANNELS
from pivrex.tui.commands import Commands
from pivrex.tui.keys import key_name

__all__ = ["read_keys"]

_SPELT = {"esc": "escape", "[": "left_square_bracket", "]": "right_square_bracket", "=": "equals_sign", "+": "plus",
          "-": "minus", "?": "question_mark", ",": "comma", ".": "full_stop", "/": "slash"}  # fmt: skip

LARGEST_FILE = 100_000

ALWAYS_STOP = ("escape", "ctrl+c")


def read_keys(path: Path, commands: Commands) -> dict[str, tuple[str, ...]]:
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
    known = [*(c.name for c in commands.all), *buttons]
    for name, value in _table(path, text).items():
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


def _taken(commands: Commands, found: dict[str, tuple[str, ...]]) -> list[tuple[str, str]]:
    """Say which keys would mean two things in one view."""
    wrong = []
    pressed = {key: name for name, keys in found.items() if name in CHANNELS for key in keys}
    for name, keys in found.items():
        if name in CHANNELS:
            taken = [c for c in commands.all if set(keys) & set(found.get(c.name, c.keys))]
            wrong += [(name, f"is {key_name(keys[0])}, which {c.name} has already") for c in taken[:1]]
            wrong += [
                (name, f"is {key_name(k)}, which presses {pressed[k]} already") for k in keys if pressed[k] != name
            ]
            continue
        places = {c.view for c in commands.all if c.name == name}
        for other in commands.all:
            meets = other.name != name and ("" in places or other.view == "" or other.view in places)
            for key in set(keys) & set(found.get(other.name, other.keys)):
                if meets and key not in ALWAYS_STOP:
                    wrong.append((name, f"is {key_name(key)}, which {other.name} has already"))
    return list(dict.fromkeys(wrong))
