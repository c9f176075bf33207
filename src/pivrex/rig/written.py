"""Writes a table as TOML again: every number with its SI unit and every bit."""

from __future__ import annotations

from typing import Any

import tomlkit
from pydantic import BaseModel

from pivrex.rig.quantities import Quantity
from pivrex.units import KINDS

__all__ = ["written"]


def written(table: BaseModel) -> str:
    """Write a table, without what has its default, so that it reads back as the same."""
    return tomlkit.dumps(_keys(table))


def _keys(table: BaseModel) -> dict[str, Any]:
    found = {}
    for name, field in type(table).model_fields.items():
        value = getattr(table, name)
        if value is None or value == field.get_default(call_default_factory=True):
            continue
        quantity = next((m for m in field.metadata if isinstance(m, Quantity)), None)
        found[field.alias or name] = _value(value, quantity)
    return found


def _value(value: Any, quantity: Quantity | None) -> Any:
    if isinstance(value, BaseModel):
        return _keys(value)
    if isinstance(value, tuple | list):
        return [_value(one, quantity) for one in value]
    if isinstance(value, dict):
        return {key: _value(one, quantity) for key, one in value.items()}
    if quantity is not None and quantity.kind != "number":
        unit = next((u for u, factor in KINDS[quantity.kind].units.items() if factor == 1.0), "")
        return f"{value!r} {unit}" if unit else value
    return value
