"""Continues after a mistake: a wrong key is left out, or an example takes its place, so that other checks can run."""

from __future__ import annotations

from difflib import get_close_matches
from typing import Any

from pydantic import BaseModel
from pydantic_core import ErrorDetails

from pivrex.rig.schema import Loc, field_at

__all__ = ["follows", "recover"]


def follows(loc: Loc, tainted: set[Loc]) -> bool:
    """Return whether a mistake may come only of an example that was put in: it is about a key of the same table, or about
    wheels of which one is made up.
    """
    if loc in tainted or loc[:-1] in tainted:
        return True
    made_up = [t for t in tainted if t[:2] == ("chassis", "wheels")]
    if not made_up or loc[:1] == ("chassis",):
        return False
    nameless = any(t[-1] == "name" for t in made_up)
    return loc[-1:] == ("wheels",) or (nameless and (loc == ("motors",) or "wheels" in loc))


def recover(data: Any, loc: Loc, error: ErrorDetails, model: type[BaseModel], tainted: set[Loc]) -> bool:
    """Take a wrong key out of ``data``, or put an example in its place if it is needed; False if neither helps."""
    at = data
    for part in loc[:-1]:
        try:
            at = at[part]
        except (KeyError, IndexError, TypeError):
            return False
    last = loc[-1] if loc else ""
    if isinstance(at, list) and isinstance(last, int) and last < len(at):
        tainted.add(loc[:-1])
        at.pop(last)
        return True
    return bool(loc) and isinstance(at, dict) and _recover_table(at, loc, error, model, tainted)


def _recover_table(
    at: dict[Any, Any], loc: Loc, error: ErrorDetails, model: type[BaseModel], tainted: set[Loc]
) -> bool:
    last, context = loc[-1], error.get("ctx", {})
    tags = str(context.get("expected") or context.get("expected_tags") or "").split("'")[1::2]
    field = field_at(model, loc, at.get("kind"))
    if last == "kind" and tags:
        near = get_close_matches(str(at.get("kind")), tags, 1, 0.0)
        at["kind"] = near[0]
        tainted |= {loc[:-1], *((*loc[:-1], k) for k in at)}
        return True
    if field is None or not field.is_required():
        return at.pop(last, None) is not None
    example = field.examples[0] if field.examples else tags[0] if tags else None
    if last == "port" and example is not None:
        example = 1024 + len(tainted)  # nor two of one port
    if last == "name" and isinstance(example, str):
        example = f"nameless {len(tainted) + 1}"  # two tables of one name would be another mistake
    if example is None or at.get(last) == example:
        return False
    at[last] = example
    tainted.add(loc)
    if loc[:-1]:
        tainted.add(loc[:-1])
    return True
