"""The units of values and conditions of a routine, and whether they are possible."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pivrex.rig.attachments import PLACES
from pivrex.routine.checking.scope import Finder, Scope
from pivrex.routine.forms import FUNCTIONS
from pivrex.routine.kinds import NUMBER, Kind, divided, named, times
from pivrex.routine.mistakes import nearest
from pivrex.routine.nodes import Call, Compare, Condition, Expression, Group, IsState, Not, Quantity, Variable

__all__ = ["ValueChecks"]


class ValueChecks(Finder):
    """Checks expressions and conditions."""

    def _must_be(self, value: Expression, scope: Scope, wanted: Kind | tuple[Kind, ...], what: str) -> Kind:
        """Return the kind of a value, which must be one of those."""
        kinds = wanted if isinstance(wanted, tuple) and not isinstance(wanted, Kind) else (wanted,)
        kind = self._kind(value, scope)
        if kind is None:
            return kinds[0]
        if kind not in kinds:
            said = " or ".join(named(k) for k in kinds)
            unit = "; give it its unit" if kind == NUMBER else ""
            self._wrong(f"{what} is {said}, but this is {named(kind)}{unit}", value.span)
        return kind

    def _kind(self, value: Expression, scope: Scope) -> Kind | None:  # noqa: PLR0911 - a case for each sign
        """Return the kind of a value; None once something in it is wrong, which has been said then."""
        match value:
            case Quantity():
                return value.kind
            case Variable():
                return self._kind_of_name(value, scope)
            case Call():
                return self._kind_of_call(value, scope)
        a, b = self._kind(value.a, scope), self._kind(value.b, scope)
        if value.sign == "neg":
            return a
        if a is None or b is None:
            return None
        if value.sign in ("+", "-"):
            if a != b:
                verb = "add" if value.sign == "+" else "take away"
                self._wrong(f"{named(a)} and {named(b)}: no one can {verb} these", value.at)
                return None
            return a
        if value.sign == "*":
            return times(a, b)
        if isinstance(value.b, Quantity) and value.b.value == 0:
            self._wrong("divides by 0", value.b.span)
        return divided(a, b)

    def _kind_of_name(self, value: Variable, scope: Scope) -> Kind | None:
        name = value.name
        if name in scope.kinds:
            return scope.kinds[name]
        if name in self._words.readings:
            return self._words.readings[name]
        if name in self._words.attachments:
            self._wrong(
                f'"{name}" is {"a switch" if self._words.attachments[name] == "switch" else "a motor"}, it has no value',
                value.span,
            )
            return None
        known = [*scope.kinds, *self._words.readings]
        self._wrong(f'nothing is called "{name}"{nearest(name, known)}; known are {", ".join(known)}', value.span)
        return None

    def _kind_of_call(self, value: Call, scope: Scope) -> Kind | None:  # noqa: PLR0911 - a case for each mistake
        kinds = [self._kind(a, scope) for a in value.args]
        if value.name not in FUNCTIONS:
            self._wrong(
                f'there is no "{value.name}( )"{nearest(value.name, FUNCTIONS)}; there are {", ".join(FUNCTIONS)}',
                value.span,
            )
            return None
        if value.name in ("size", "root") and len(kinds) != 1:
            self._wrong(f'"{value.name}" takes one value', value.span)
            return None
        if any(k is None for k in kinds):
            return None
        first = kinds[0]
        assert first is not None
        if any(k != first for k in kinds):
            self._wrong(
                "its values measure different things: " + ", ".join(named(k) for k in kinds if k is not None),
                value.span,
            )
            return None
        if value.name == "root":
            if any(p % 2 for p in first):
                self._wrong(f"no one can take the root of {named(first)}", value.span)
                return None
            return Kind(*(p // 2 for p in first))
        return first

    def _condition(self, cond: Condition, scope: Scope) -> None:
        match cond:
            case Not():
                self._condition(cond.of, scope)
            case Group():
                self._condition(cond.a, scope)
                self._condition(cond.b, scope)
            case Compare():
                a, b = self._kind(cond.a, scope), self._kind(cond.b, scope)
                if a is not None and b is not None and a != b:
                    self._wrong(f"compares {named(a)} with {named(b)}", cond.span)
            case IsState():
                self._state(cond)

    def _state(self, cond: IsState) -> None:
        if not isinstance(cond.of, Variable):
            self._wrong(f'only a sensor or an attachment can be "{cond.state}"', cond.span)
            return
        name, words = cond.of.name, self._words
        wanted: Mapping[str, Any] = {
            "heard": words.sensors, "silent": words.sensors,
            "there": {n for n, k in words.attachments.items() if k in PLACES},
            "on": {n for n, k in words.attachments.items() if k == "switch"},
            "off": {n for n, k in words.attachments.items() if k == "switch"},
        }[cond.state]  # type: ignore[assignment] # fmt: skip
        if name not in wanted:
            what = {"heard": "sensor", "silent": "sensor", "there": "attachment that moves to a position"}.get(
                cond.state, "switch"
            )
            known = ", ".join(wanted) or "none"
            self._wrong(f'{self._rig.name} has no {what} "{name}"{nearest(name, wanted)}; it has {known}', cond.of.span)
