"""Helpers to navigate the schema of a person's file."""

from __future__ import annotations

from typing import Any, get_args

from pydantic import BaseModel
from pydantic.fields import FieldInfo

__all__ = ["Loc", "field_at", "walk"]

Loc = tuple[str | int, ...]
"""Where something stands: keys, and places in lists from 0."""


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for part in get_args(annotation) for m in _models_in(part)]


def walk(model: type[BaseModel], loc: Loc) -> list[type[BaseModel]]:
    """Find the models that may describe the table at ``loc``, stepping into what containers hold."""
    models: list[type[BaseModel]] = [model]
    skip = False
    for part in loc:
        if isinstance(part, int) or skip:
            skip = False
            continue
        inner: list[type[BaseModel]] = []
        for one in models:
            for name, field in one.model_fields.items():
                if (field.alias or name) == part:
                    inner.extend(_models_in(field.annotation))
                    # a table of named tables: the next part is a person's own name, not a key
                    skip = "dict" in str(field.annotation)
        models = inner
    return models


def field_at(model: type[BaseModel], loc: Loc, kind: object = None) -> FieldInfo | None:
    """Find the field of ``model`` at a path such as ("shaping", "forward", "dead_band"), in the table of a kind where there are
    several; None if there is none.
    """
    found = walk(model, loc[:-1])
    found.sort(key=lambda m: "kind" not in m.model_fields or kind not in get_args(m.model_fields["kind"].annotation))
    for one in found:
        for name, field in one.model_fields.items():
            if (field.alias or name) == loc[-1]:
                return field
    return None
