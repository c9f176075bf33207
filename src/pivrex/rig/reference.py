"""The rig reference, made from the schema so that it is always current."""

from __future__ import annotations

from typing import Any, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from pivrex.rig.channels import CHANNELS, describe_channel
from pivrex.rig.controls import LAWS, ON_BENCH
from pivrex.rig.field import Field as FloorField
from pivrex.rig.field import Workspace
from pivrex.rig.nudge import marks_of
from pivrex.rig.quantities import Quantity, quoted
from pivrex.rig.rig import Rig
from pivrex.units import KINDS

__all__ = ["write_reference"]


def write_reference(path: type[BaseModel]) -> str:
    """Return ``docs/rig-reference.md`` as text; ``path`` is what a file of ``paths/`` holds."""
    parts = [_HEAD, *_tables("", Rig, {}), _channels(), _laws(), _units()]
    parts += ["# workspace.toml\n\nThe field, and what opens first.\n", *_tables("", Workspace, {})]
    floor = "A floor of its own, as `[field]` of the workspace; a routine or a path names it by its file."
    parts += [f"# floors/*.toml\n\n{floor}\n", *_tables("", FloorField, {})]
    parts += [f"# paths/*.toml\n\n{path.__doc__}\n", *_tables("", path, {})]
    return "\n".join(parts).rstrip() + "\n"


_HEAD = """\
# Rig reference

A rig is a TOML file that you edit by hand; Pivrex keeps your comments and your order when it saves. Quantities
carry their unit: `"32 mm"`, `"1.3 m/s"`, `"45 deg"`. `pivrex check FILE` prints every mistake in it.
This page is made from the program's own schema.
"""


def _tables(path: str, model: type[BaseModel], described: dict[tuple[str, ...], str], skip: str = "") -> list[str]:
    """Describe a table and those in it; what is ``described`` already is only pointed to."""
    rows, deeper = [], []
    for name, field in model.model_fields.items():
        key = field.alias or name
        inner = _models(field.annotation)
        place = f"{path}.{key}" if path else key
        if key == skip:
            continue
        if not inner:
            rows.append(_row(key, field))
            continue
        origin = get_origin(field.annotation)
        shown = f"{place}.NAME" if origin is dict else place
        heading = f"## `[[{shown}]]`" if origin is tuple else f"## `[{shown}]`"
        kinds = tuple(m.__name__ for m in inner)
        if kinds in described:
            deeper.append(f"{heading}\n\n{field.description} The keys are the same as in `[{described[kinds]}]`.\n")
            continue
        described[kinds] = shown
        if len(inner) > 1:
            deeper.append(f"{heading}\n\n{field.description} The kind decides which other keys there are.\n")
            deeper += [_kind(shown, m, described) for m in inner]
        else:
            deeper.append(f"{heading}\n\n{field.description}\n\n" + "\n".join(_tables(shown, inner[0], described)))
    head = ["| key | meaning | example | if left out |", "|---|---|---|---|"] if rows else []
    return ["\n".join([*head, *rows, ""]), *deeper]


def _kind(place: str, model: type[BaseModel], described: dict[tuple[str, ...], str]) -> str:
    kind = get_args(model.model_fields["kind"].annotation)[0]
    return f'### `kind = "{kind}"`\n\n{model.__doc__}\n\n' + "\n".join(_tables(place, model, described, skip="kind"))


def _row(key: str, field: FieldInfo) -> str:
    quantity = next((m for m in marks_of(field) if isinstance(m, Quantity)), None)
    allowed = ""
    like = field.examples[0] if field.examples else ""
    if quantity is not None and quantity.sentence():
        allowed = f" ({quantity.sentence(like)})"
    choices = [f"`{quoted(v)}`" for v in get_args(field.annotation) if isinstance(v, str)]
    if len(choices) > 1:
        allowed = f" One of {', '.join(choices)}."
    example = f"`{_toml(field.examples[0])}`" if field.examples else ""
    return f"| `{key}` | {field.description}{allowed} | {example} | {_default(field, quantity)} |"


def _default(field: FieldInfo, quantity: Quantity | None) -> str:
    if field.is_required():
        return "**needed**"
    default = field.get_default(call_default_factory=True)
    if default is None or default == {} or default in ("", ()):
        return ""
    if quantity is not None:
        said = quantity.written(default, field.examples[0] if field.examples else "")
        return f"`{quoted(said) if quantity.kind != 'number' else said}`"
    return f"`{_toml(default)}`"


def _channels() -> str:
    rows = "\n".join(f"| `{c}` | {describe_channel(c)} |" for c in CHANNELS)
    return f"## Channels\n\nNamed by position, after the W3C Gamepad standard layout.\n\n| channel | where |\n|---|---|\n{rows}\n"


def _laws() -> str:
    each = f"on a bench: the motors in order read {', '.join(f'`{c}`' for c in ON_BENCH)}"
    rows = "\n".join(
        f"| `{law}` | " + (", ".join(f"{role} reads `{axis}`" for role, axis in axes.items()) or each) + " |"
        for law, axes in LAWS.items()
    )
    return f"## Laws\n\n| law | its functions, and what they read unless the rig says otherwise |\n|---|---|\n{rows}\n"


def _units() -> str:
    rows = "\n".join(
        f'| {k.name} | {", ".join(f"`{u}`" for u in k.units)}{" or a bare number" if k.bare else ""} | `"{k.example}"` |'
        for k in KINDS.values()
    )
    return f"## Units\n\n| quantity | units | example |\n|---|---|---|\n{rows}\n"


def _models(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for part in get_args(annotation) for m in _models(part)]


def _toml(value: object) -> str:
    if isinstance(value, list | tuple):
        return "[" + ", ".join(_toml(v) for v in value) + "]"
    return quoted(value)
