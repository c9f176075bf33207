"""The session's `Status` as it is kept with a run: its changes, their names for a person, and how to restore it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, replace
from functools import cache
from typing import Any, get_type_hints

from pydantic import TypeAdapter, ValidationError

from pivrex.session.periods import Period
from pivrex.session.status import Status

__all__ = ["changes", "happened", "rebuilt"]

NOT_KEPT = ("probed", "pad_port", "keeping", "kept_from_s", "cannot_keep", "notes_before")
"""What says nothing of the drive."""


@cache
def _kinds() -> dict[str, TypeAdapter[Any]]:
    hints = get_type_hints(Status)
    return {f.name: TypeAdapter(hints[f.name]) for f in fields(Status) if f.name not in NOT_KEPT}


def changes(before: Status | None, after: Status) -> dict[str, Any]:
    """Return what of a status is another than before, as JSON can hold it; all of it where there was none."""
    return {
        name: kind.dump_python(getattr(after, name), mode="json")
        for name, kind in _kinds().items()
        if before is None or getattr(before, name) != getattr(after, name)
    }


def rebuilt(before: Status, changed: Mapping[str, Any]) -> Status:
    """Return the status after changes; values of another version that this one cannot read do not change it."""
    found = {}
    for name, kind in _kinds().items():
        if name in changed:
            try:
                found[name] = kind.validate_python(changed[name], strict=False)
            except ValidationError:
                continue
    return replace(before, **found)


def happened(before: Status, after: Status) -> list[tuple[str, str]]:
    """Return what happened between two statuses: kinds of events and their words."""
    found = []
    if after.held != before.held:
        found.append(("stop", after.held) if after.held else ("safe", "the robot may move again"))
    if after.lost != before.lost:
        found.append(("lost", after.lost) if after.lost else ("safe", "it is heard again"))
    if after.live != before.live:
        found.append(("live", "live") if after.live else ("safe", "no longer live"))
    if after.match.period != before.match.period:
        found.append(("period", _period(after)))
    elif after.match.ended and after.match.ended != before.match.ended:
        found.append(
            ("period", f"the routine has {after.match.ended}" + (f": {after.match.why}" * bool(after.match.why)))
        )
    if after.source != before.source:
        found.append(("drives", _title(after)))
    if after.runs != before.runs:
        found.append(("put back", "the robot was put at its start"))
    if after.serial != before.serial:
        found.append(("rig", "the rig was changed"))
    new = after.notes_since(before.notes)
    found += [("said", note) for note in new if note not in (after.held, after.lost)]
    found += [("shown", one.text) for one in after.shown if one not in before.shown]
    return found


def _title(status: Status) -> str:
    return next((s.title for s in status.sources if s.name == status.source), status.source)


def _period(status: Status) -> str:
    match = status.match
    if match.period is Period.ALONE and match.routine:
        return f"alone: {match.routine}"
    return str(match.period)
