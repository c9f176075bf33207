"""Reads a rig or workspace file and finds every mistake, each with its line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from copy import deepcopy
from dataclasses import replace
from difflib import get_close_matches
from pathlib import Path
from typing import Any, TypeVar, get_args

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from pivrex.errors import Mistake, PivrexError, ReadError, RigError
from pivrex.files import read_persons
from pivrex.rig.base import Table
from pivrex.rig.field import Field, Workspace
from pivrex.rig.place import find_places
from pivrex.rig.quantities import quoted
from pivrex.rig.recovery import follows, recover
from pivrex.rig.renamed import with_new_keys, with_new_places
from pivrex.rig.rig import Rig
from pivrex.rig.schema import Loc, field_at, walk
from pivrex.rig.secret import key_mistake, read_key

__all__ = ["read_floor", "read_rig", "read_table", "read_text", "read_workspace_file", "rig_text", "with_lines"]

T = TypeVar("T", bound=Table)

LARGEST_FILE = 1_000_000
"""Bytes; a rig of this size is not a rig."""

DEEPEST = 12
"""Parts of a key."""

LARGEST_INTEGER = 10**18


def read_rig(path: Path) -> Rig:
    """Read a rig.

    Raises
    ------
    RigError
        With every mistake in the file (only the first when it is not TOML).
    """
    return read_text(rig_text(path), path, Rig)


def read_workspace_file(path: Path) -> Workspace:
    """Read ``workspace.toml``; raises `RigError` like `read_rig`."""
    return read_text(rig_text(path), path, Workspace)


def read_floor(path: Path) -> Field:
    """Read a floor of its own; raises `RigError` like `read_rig`."""
    return read_text(rig_text(path), path, Field)


def read_text(text: str, path: Path, model: type[T]) -> T:
    """Read TOML ``text`` as ``model``; ``path`` is for messages, and next to it stands a rig's key. Raises `RigError` like
    `read_rig`.
    """
    data = read_table(text, path)
    instance, found = _checked(with_new_keys(data) if model is Rig else data, model)
    if isinstance(instance, Rig) and "key" in instance.model_fields_set and not instance.key:
        found[("key",)] = (
            'is "", which seals nothing; leave the key out for a rig without one, or make one with pivrex key'
        )
    if isinstance(instance, Rig) and instance.key:
        try:
            instance = instance.with_secret(read_key(path.parent / instance.key))  # type: ignore[assignment]
        except ReadError as problem:
            found[("key",)] = key_mistake(problem.reason, instance.key)
        except PivrexError as problem:
            found[("key",)] = key_mistake(str(problem), instance.key)
    if found or instance is None:
        places = with_new_places(find_places(text))
        raise RigError(path, [Mistake(_line(loc, places), _dotted(loc), what) for loc, what in found.items()])
    return instance


def _checked(data: dict[str, Any], model: type[T]) -> tuple[T | None, dict[Loc, str]]:
    """Check what a file says; returns what it is, as far as its mistakes let it be, and all mistakes with where they stand.

    A wrong key hides the checks between keys. It is taken out, or an example put in its place, so that they speak too; what
    they then say about a table with an example in it does not count.
    """
    found: dict[Loc, str] = {}
    tainted: set[Loc] = set()
    for _round in range(40):
        try:
            return model.model_validate(data), found
        except ValidationError as problem:
            data = deepcopy(data)
            recovered, doubtful = False, set(tainted)
            for error in problem.errors(include_url=False):
                loc = _in_file(error["loc"], data)
                if error["type"].startswith("union_tag_invalid"):
                    loc = (*loc, "kind")
                if not follows(loc, doubtful):
                    found.setdefault(loc, _sentence(error, loc, model))
                recovered |= recover(data, loc, error, model, tainted)
            if not recovered:
                break
    return None, found


def rig_text(path: Path) -> str:
    """Return the text of a rig or workspace file; raises `RigError` if it cannot be read."""
    try:
        return read_persons(path, LARGEST_FILE)
    except ReadError as problem:
        raise RigError(path, [Mistake(problem.line, "", problem.reason)]) from None


def read_table(text: str, path: Path) -> dict[str, Any]:
    """Return what the TOML ``text`` of the file at ``path`` holds, whatever its keys; raises `RigError`."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as problem:
        raise RigError(path, [_not_toml(str(problem), text)]) from None
    except RecursionError:
        raise RigError(path, [Mistake(_deepest(text), "", "is nested too deeply to be a rig")]) from None
    except ValueError:  # Python reads no integer of more than some thousand digits
        at = re.search(r"\d{1000}", text)
        line = text.count("\n", 0, at.start()) + 1 if at else 0
        raise RigError(path, [Mistake(line, "", "has a number with thousands of digits")]) from None
    for loc, value in _walk_data(data):
        if len(loc) > DEEPEST:
            raise RigError(path, [Mistake(_deepest(text), "", f"has a key of more than {DEEPEST} parts; no rig has")])
        if isinstance(value, int) and abs(value) > LARGEST_INTEGER:
            line = _line(loc, find_places(text))
            raise RigError(path, [Mistake(line, _dotted(loc), f"is a number of {len(str(abs(value)))} digits")])
    return data


def _deepest(text: str) -> int:
    """Return the first line that goes deeper than a rig may; 0 if that is done in many lines."""
    rows = enumerate(text.splitlines(), 1)
    return next((i for i, row in rows if max(row.count("."), row.count("["), row.count("{")) >= DEEPEST), 0)


def _walk_data(data: dict[str, Any]) -> Iterator[tuple[Loc, Any]]:
    """Return every value with where it stands, without going deeper than a rig may."""
    waiting: list[tuple[Loc, Any]] = [((), data)]
    while waiting:
        loc, value = waiting.pop()
        yield loc, value
        if len(loc) <= DEEPEST:
            inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
            waiting.extend(((*loc, key), one) for key, one in inside)


def _not_toml(message: str, text: str) -> Mistake:
    at = re.search(r"\(at (?:line (\d+), column (\d+)|end of document)\)", message)
    what = re.sub(r"\s*\(at .*\)$", "", message)
    line, column = (int(at[1]), at[2]) if at and at[1] else (len(text.splitlines()) or 1, None)
    where = f" at column {column}" if column else " at the end of the file" if at else ""
    return Mistake(line, "", f"is not TOML{where}: {what[:1].lower()}{what[1:]}")


def _in_file(loc: Loc, data: Any) -> Loc:
    """Drop what pydantic adds to a path (the tag of a union) and keep what the file can hold."""
    kept: list[str | int] = []
    at = data
    for i, part in enumerate(loc):
        last = i == len(loc) - 1
        if isinstance(at, dict):
            if not last and at.get("kind") == part and not (isinstance(at.get(part), dict) and loc[i + 1] in at[part]):
                continue  # the tag of a table that has a key of the same name
            at = at.get(part)
        elif isinstance(at, list) and isinstance(part, int):
            at = at[part] if part < len(at) else None
        elif not last:
            continue
        kept.append(part)
    return tuple(kept)


def _sentence(error: ErrorDetails, loc: Loc, model: type[BaseModel]) -> str:  # noqa: C901, PLR0911 - a case for each kind of mistake that the schema finds
    kind, given, context = error["type"], error["input"], error.get("ctx", {})
    if kind == "mistake":
        return str(context["what"])
    if kind == "missing":
        return "is missing; " + _wanted(model, loc, given)
    if kind == "extra_forbidden":
        return _unknown(model, loc)
    if kind in ("literal_error", "union_tag_invalid"):
        expected = str(context.get("expected") or context.get("expected_tags")).replace("'", '"')
        shown = quoted(context.get("tag", given))
        return f"is {shown}, but should be one of {expected.replace(' or ', ', ')}"
    if kind == "union_tag_not_found":
        if not isinstance(given, dict):
            return f"is {quoted(given)}, but should be a table"
        return f"has no kind; give it one of {_kinds(model, loc)}"
    if kind == "string_pattern_mismatch" or "String should match" in error["msg"]:
        return f"is {quoted(given)}; a name has letters, digits, spaces, - and _, begins with a letter and has at most 24 of them"
    plain = {
        "bool": "true or false",
        "string": "text in quotes",
        "int": "a whole number",
        "float": "a number",
        "tuple": "a list",
        "dict": "a table",
        "model": "a table",
    }
    for word, wanted in plain.items():
        if kind.startswith(word):
            if isinstance(given, dict | list):
                return f"is {'a table' if isinstance(given, dict) else 'a list'}, but should be {wanted}"
            return f"is {quoted(given)}, but should be {wanted}"
    if kind in ("too_short", "too_long"):
        return f"has {context.get('actual_length')} entries, but should have {context.get('min_length', context.get('max_length'))}"
    if kind in ("greater_than_equal", "less_than_equal"):
        word = "at least" if "ge" in context else "at most"
        return f"is {quoted(given)}, but must be {word} {context.get('ge', context.get('le'))}"
    return f"is {quoted(given)}: {error['msg']}"


def _kinds(model: type[BaseModel], loc: Loc) -> str:
    """List the kinds of table that may stand at ``loc``."""
    found = [get_args(m.model_fields["kind"].annotation) for m in walk(model, loc) if "kind" in m.model_fields]
    return ", ".join(f'"{kind[0]}"' for kind in found if kind)


def _unknown(model: type[BaseModel], loc: Loc) -> str:
    known = [f.alias or n for m in walk(model, loc[:-1]) for n, f in m.model_fields.items()]
    if loc[-1] in known:
        return "is no key of a table of this kind"
    near = get_close_matches(str(loc[-1]), known, 1, 0.5)
    hint = f'did you mean "{near[0]}"?' if near else f"known here are {', '.join(dict.fromkeys(known))}"
    return f"is no key that Pivrex knows; {hint}"


def _wanted(model: type[BaseModel], loc: Loc, table: object = None) -> str:
    field = field_at(model, loc, table.get("kind") if isinstance(table, dict) else None)
    if field is None or not field.description:
        return "it is needed here"
    example = f", such as {_toml(field.examples[0])}" if field.examples else ""
    return field.description[0].lower() + field.description[1:].rstrip(".") + example


def _toml(value: object) -> str:
    return "[" + ", ".join(_toml(v) for v in value) + "]" if isinstance(value, list) else quoted(value)


def _line(loc: Loc, places: dict[Loc, int]) -> int:
    for depth in range(len(loc), 0, -1):
        if loc[:depth] in places:
            return places[loc[:depth]]
    return 1 if loc else 0


def with_lines(text: str, mistakes: list[Mistake]) -> list[Mistake]:
    """Return mistakes of a rig, known by their keys, with the lines of its text where these stand."""
    places = find_places(text)
    keys = [tuple(int(p) if p.isdigit() else p for p in m.key.split(".")) for m in mistakes]
    return [replace(m, line=_line(key, places)) for m, key in zip(mistakes, keys, strict=True)]


def _dotted(loc: Loc) -> str:
    """Write a path for people: entries of lists count from 1."""
    return ".".join(str(part + 1) if isinstance(part, int) else part for part in loc)
