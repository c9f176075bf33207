"""The possible actions of a control, in the order in which a person would look for them; and when each is possible."""

from __future__ import annotations

from pivrex.errors import UnitError
from pivrex.rig.actions import Action, read_action
from pivrex.rig.attachments import PLACES, reach_of
from pivrex.rig.patch_mistakes import unfit
from pivrex.rig.tables import RigTables

__all__ = ["offered", "times_of"]

_OF_KIND = {
    "motor": (("60 %", "runs while it is held"), ("-60 %", "runs the other way"), ("follows", "as far as a stick is pushed")),
    "position": (("to {high}", "goes there"), ("to {low}", "goes there"), ("60 %", "moves while it is held"),
                 ("-60 %", "moves the other way"), ("by 5 deg", "a step"), ("by -5 deg", "a step back"), ("follows", "as a stick is pushed")),
    "lift": (("to {high}", "goes there"), ("to {low}", "goes there"), ("60 %", "moves while it is held"),
             ("-60 %", "moves the other way"), ("by 20 mm", "a step"), ("by -20 mm", "a step back"), ("follows", "as a stick is pushed")),
    "servo": (("to {high}", "goes there"), ("to {low}", "goes there"), ("60 %", "moves while it is held"),
              ("-60 %", "moves the other way"), ("follows", "as a stick is pushed")),
    "switch": (("on", "while it is held"), ("toggle", "on by one press, off by the next"), ("off", "while it is held")),
}  # fmt: skip

_ALWAYS = (
    ("stop", "stops the robot"), ("brake", "brakes while it is held"), ("coast", "no drive while it is held"),
    ("slow 40 %", "slower while it is held"), ("faster level", "the next speed level"), ("slower level", "the one before"),
    ("forward 50 %", "forward while it is held"), ("back 50 %", "back while it is held"), ("turn left 50 %", "turns on the spot"),
    ("turn right 50 %", "turns on the spot"), ("pivot left 50 %", "about its left side"), ("pivot right 50 %", "about its right side"),
    ("slide left 50 %", "sideways, without turning"), ("slide right 50 %", "sideways, without turning"),
    ("other frame", "between field's and robot's"), ("set heading", "the present direction becomes the field's forward"),
    ("next point", "the next turning point"), ("hold the wheels", "steered wheels inwards"),
    ("reverse", "a throttle that goes one way drives back"),
    ("hold heading", "the gyro holds it; again releases it"), ("zero the gyro", "its bias is measured"),
    ("snap every 45 deg", "turns to the nearest while it is held"), ("keep the line", "drives on along it while it is held"),
    ("next routine", "chooses the next, before a match"), ("previous routine", "chooses the one before"),
    ("record", "begins or ends a recording"), ("shut down", "the robot switches itself off"),
)  # fmt: skip


def offered(rig: RigTables) -> list[tuple[str, str]]:
    """Return what a button of this rig may do, in the words of its file, and what that means: attachments first."""
    found: list[tuple[str, str]] = []
    for name, a in rig.attachments.items():
        if a.kind == "switch" and a.shows:
            continue
        low, high = (
            (reach_of(a).written(v, 1) for v in (reach_of(a).low, reach_of(a).high)) if a.kind in PLACES else ("", "")
        )
        found += [(f"{name} {words.format(low=low, high=high)}", what) for words, what in _OF_KIND[a.kind]]
    levels = [v.name for v in rig.speed_levels.levels]
    found += [(text, what) for text, what in _ALWAYS if _fits(rig, text, levels)]
    return found + [(f"level {name}", "this speed level") for name in levels if len(levels) > 1]


def _fits(rig: RigTables, text: str, levels: list[str]) -> bool:
    try:
        return not unfit(rig, read_action(text, rig.attachments, levels))
    except UnitError:
        return False


def times_of(action: Action) -> list[tuple[str, str]]:
    """Return when an action may be done, as a file says it ("" for left out), and what that means; the usual first."""
    if action.verb == "follow":
        return [("", "as far as it is pushed")]
    if action.lasts:
        return [("", "held: while it is held"), ("toggle", "on by one press, off by the next")]
    return [
        ("", "press: once each time it is pressed"),
        ("press 2", "on the second press in a row"),
        ("press 3", "on the third"),
    ]
