"""The key of a rig: a file next to it that only its owner may read."""

from __future__ import annotations

import os
import re
import secrets
from pathlib import Path

import tomlkit

from pivrex.errors import PivrexError
from pivrex.files import read_persons, writing

__all__ = ["key_mistake", "make_key", "others_may_read", "read_key", "without_key"]

KEY_BYTES = 16
LARGEST_FILE = 4096
NOTE = "# The key of a rig. Anyone who has it can drive the robot: do not give it away, and do not put it into git.\n"


def make_key(path: Path) -> bytes:
    """Make a new key at ``path``, with the rights of a secret; raises `SaveError`."""
    key = secrets.token_bytes(KEY_BYTES)
    with writing(path, private=True) as stream:
        stream.write(f"{NOTE}{key.hex()}\n".encode("ascii"))
    return key


def read_key(path: Path) -> bytes:
    """Read a key.

    Raises
    ------
    PivrexError
        If there is none, in words that can stand behind the key's name.
    """
    lines = [line.strip() for line in read_persons(path, LARGEST_FILE).splitlines()]
    digits = [line for line in lines if line and not line.startswith("#")]
    if len(digits) != 1 or not re.fullmatch(rf"[0-9a-fA-F]{{{2 * KEY_BYTES}}}", digits[0]):
        raise PivrexError(f"holds no key of {2 * KEY_BYTES} hexadecimal digits")
    key = bytes.fromhex(digits[0])
    if not any(key):
        raise PivrexError("holds a key of zeros only, which anyone would try first")
    return key


def key_mistake(problem: str, name: str) -> str:
    """Return why a key of a rig cannot be read, and what to do."""
    return f'is "{name}", but that file {problem}; copy it from the one who has it, or make a new one with pivrex key'


def others_may_read(path: Path) -> bool:
    """Return whether others than its owner may read a file, where the system says so."""
    try:
        return os.name == "posix" and bool(path.stat().st_mode & 0o077)
    except OSError:
        return False


def without_key(text: str) -> str:
    """Return a rig's text without the name of its key: it is not copied, so the rig is read without it."""
    if "key" not in text:
        return text
    try:
        document = tomlkit.parse(text)
    except tomlkit.exceptions.TOMLKitError:
        return text
    return tomlkit.dumps(document) if document.pop("key", None) is not None else text
