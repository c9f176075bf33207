"""The rig reference, made from the schema so that it cannot lag behind it."""

from __future__ import annotations

from typing import Any, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from pivrex.rig.channels import CHANNELS, describe_channel
from pivrex.rig.controls import LAWS
from pivrex.rig.field import Workspace
from pivrex.rig.nudge import marks_of
from pivrex.rig.outputs import Output
from pivrex.rig.quantities import Quantity, quoted
from pivrex.rig.rig import Rig
from pivrex.units import KINDS

__all__ = ["write_reference"]


def write_reference() -> str:
    """Give ``docs/rig-reference.md`` as text."""
    parts = [_HEAD, *_tables("", Rig, {"the whole file"}), _channels(), _laws(), _units()]
    parts += ["# workspace.toml\n\nThe field, and what opens first.\n", *_tables("", Workspace, set())]
    return "\n".join(parts).rstrip() + "\n"


_HEAD = """\
# Rig reference

A rig is a TOML file that you edit by hand; Pivrex keeps your comments and your order when it saves. Quantities
carry their unit: `"32 mm"`, `"1.3 m/s"`, `"45 deg"`. `pivrex check FILE` prints every mistake in it.
This page is made from the program's own schema.
"""


def _tables(path: str, model: type[BaseModel], seen: set[str]) -> list[str]:
    rows, deeper = [], []
    for name, field in model.model_fields.items():
        key = field.alias or name
        inner = [m for m in _models(field.annotation) if m.__name__ not in seen]
        place = f"{path}.{key}" if path else key
        if len(inner) > 1:
            deeper.append(_outputs(place))
        elif inner:
            origin = get_origin(field.annotation)
            shown = f"{place}.NAME" if origin is dict else place
            many = origin is tuple
            twin = next((d for d in deeper if d.startswith(f"<!--{inner[0].__name__}-->")), None)
            heading = f"## `[[{shown}]]`" if many else f"## `[{shown}]`"
            if twin is None:
                text = "\n".join(_tables(shown, inner[0], seen))
                deeper.append(f"<!--{inner[0].__name__}-->{heading}\n\n{field.description}\n\n{text}")
            else:
                deeper.append(f"{heading}\n\n{field.description} The keys are the same as above.\n")
        else:
            rows.append(_row(key, field))
    head = ["| key | meaning | example | if left out |", "|---|---|---|---|"] if rows else []
    return ["\n".join([*head, *rows, ""]), *[_uncommented(d) for d in deeper]]


def _row(key: str, field: FieldInfo) -> str:
    quantity = next((m for m in marks_of(field) if isinstance(m, Quantity)), None)
    allowed = ""
    if quantity is not None and quantity.sentence():
        allowed = f" ({quantity.sentence()})"
    choices = [f"`{quoted(v)}`" for v in get_args(field.annotation) if isinstance(v, str)]
    if len(choices) > 1:
        allowed = f" One of {', '.join(choices)}."
    example = f"`{_toml(field.examples[0])}`" if field.examples else ""
    return f"| `{key}` | {field.description}{allowed} | {example} | {_default(field, quantity)} |"


def _default(field: FieldInfo, quantity: Quantity | None) -> str:
    if field.is_required():
        return "**needed**"
    default = field.default
    if default is None or default in ("", ()):
        return ""
    if quantity is not None:
        return f"`{quoted(quantity.written(default)) if quantity.kind != 'number' else quantity.written(default)}`"
    return f"`{_toml(default)}`"


def _outputs(place: str) -> str:
    parts = [
        f"## `[{place}]`\n\nWhat the motor driver wants to be told. The kind decides which other keys there are.\n"
    ]
    for model in _models(Output):
        kind = get_args(model.model_fields["kind"].annotation)[0]
        rows = [_row(f.alias or n, f) for n, f in model.model_fields.items() if n != "kind"]
        head = "| key | meaning | example | if left out |\n|---|---|---|---|\n"
        parts.append(f'### `kind = "{kind}"`\n\n{model.__doc__}\n\n{head}' + "\n".join(rows) + "\n")
    return "\n".join(parts)


def _channels() -> str:
    rows = "\n".join(f"| `{c}` | {describe_channel(c)} |" for c in CHANNELS)
    return f"## Channels\n\nNamed by position, after the W3C Gamepad standard layout.\n\n| channel | where |\n|---|---|\n{rows}\n"


def _laws() -> str:
    rows = "\n".join(
        f"| `{law}` | " + ", ".join(f"{role} reads `{axis}`" for role, axis in axes.items()) + " |"
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


def _uncommented(text: str) -> str:
    return text.split("-->", 1)[1] if text.startswith("<!--") else text
