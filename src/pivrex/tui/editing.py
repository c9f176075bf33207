"""The open rig on the screen: nudged, dragged, typed, undone, and watched for changes by other programs."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from datetime import datetime
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from pivrex.errors import Mistake, PivrexError, RigError, SaveError, UnitError
from pivrex.glossary import title_of
from pivrex.line import Line
from pivrex.rig import Rig, RigFile
from pivrex.rig.base import place_of
from pivrex.rig.edit import set_key
from pivrex.rig.mirrored import far_wheel, mirrored_key
from pivrex.rig.nudge import Setting, setting_at
from pivrex.rig.place import find_places
from pivrex.tuning.balancing import falls_after_s

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["EditMessage", "Editing"]

SHORT_S, LONG_S = 8.0, 20.0
"""How long a message stands, and one about a mistake."""

MAX_SAID = 400
"""How many messages are kept."""

ONE_GO_S = 5.0
"""Nudges of one setting with less than this between them are one go."""


class EditMessage(NamedTuple):
    """A message: when it was said, as "14:03:22", how often in a row, and whether it is something wrong."""

    at: str
    text: str
    alarm: bool
    times: int = 1


class Editing:
    """An open rig file on the screen, and the messages about it.

    Attributes
    ----------
    file : RigFile
    line : Line
        Of the rig in use.
    before : Line or None
        Before the last change, for ghosts.
    message : str
        The last thing worth saying; ``message_alarm`` if it is a mistake.
    """

    def __init__(self, rig_path: Path) -> None:
        self.file = RigFile(rig_path)
        self.file.accepts = self._stands_with
        self._insists: Rig | None = None
        """The rig that was not taken, because its robot would fall: it is if it is asked for again."""
        self.line = Line(self.rig)
        self.before: Line | None = None
        self.message = ""
        self.message_alarm = False
        self.said: deque[EditMessage] = deque(maxlen=MAX_SAID)
        """What was said, oldest first."""
        self._said_at = 0.0
        self._changed = ("", 0.0)
        self._serial = 0

    @property
    def rig(self) -> Rig:
        """The rig in use."""
        return self.file.rig

    def _stands_with(self, rig: Rig) -> None:
        """Raise `RigError` once for a likely slip: gains with which a robot that balances falls by itself, or a wheel far outside its body."""
        before = self.rig
        if rig == self._insists:
            return
        far = "" if rig.chassis == before.chassis else far_wheel(rig)
        if far:
            self._insists = rig
            raise RigError(self.file.path, [Mistake(0, "chassis.wheels", f"{far}; set it once more to take it anyway")])
        if rig.balance is None or (rig.balance, rig.tilt) == (before.balance, before.tilt):
            return
        fell = falls_after_s(rig)
        if isfinite(fell):
            self._insists = rig
            what = f"with this it falls after {fell:.1f} s, by itself; set it once more to take it anyway"
            raise RigError(self.file.path, [Mistake(0, "balance", what)])

    @property
    def serial(self) -> int:
        """Counts the rigs that were in use; every change makes another."""
        return self._serial

    def say(self, text: str, alarm: bool = False, topic: str = "") -> None:
        """Put a sentence where the person looks. One that begins with the same ``topic`` as the last one takes its place."""
        self.message, self.message_alarm = text, alarm
        self._said_at = time.monotonic()
        at, last = f"{datetime.now():%H:%M:%S}", self.said[-1] if self.said else None
        same = last is not None and (last.text == text or (bool(topic) and last.text.startswith(topic)))
        if last is not None and same and last.alarm == alarm:
            self.said[-1] = last._replace(at=at, times=last.times + 1, text=text)
        elif text:
            self.said.append(EditMessage(at, text, alarm))

    def fade(self, stays: str) -> None:
        """Delete a message after its time; ``stays`` is a mistake that remains."""
        if self.message and time.monotonic() - self._said_at > (LONG_S if self.message_alarm else SHORT_S):
            self.message, self.message_alarm = stays, bool(stays)

    # --- its settings ---

    def line_of(self, key: str) -> int:
        """Return the line of the file at which a setting stands, from 1: the nearest table's where the file leaves it out."""
        places = find_places(self.file.text)
        loc = place_of(self.rig, key)
        return next((places[loc[:n]] for n in range(len(loc), 0, -1) if loc[:n] in places), 1)

    def setting(self, key: str) -> Setting:
        """Return a setting by its key."""
        return setting_at(key)

    def shown(self, key: str) -> str:
        """Write a setting's value with its unit."""
        return self.setting(key).shown(self.rig, self.file.get(key))

    def nudge(self, key: str, steps: int) -> None:
        """Change a setting by fine steps, or a choice to the next."""
        setting = self.setting(key)
        if not setting.choices:
            self._change(key, setting.stepped(self.rig, self.file.get(key), steps))
            return
        # skip a choice that this rig cannot have, with a message
        way, refused = (1 if steps > 0 else -1), ""
        for step in range(steps, steps + way * (len(setting.choices) - 1), way):
            if self._change(key, setting.stepped(self.rig, self.file.get(key), step)):
                if refused:
                    self.say(f"passed over: {refused}", alarm=True)
                return
            refused = refused or self.message.removeprefix("not changed: ")

    def drag(self, key: str, share: float, going_on: bool) -> None:
        """Set a setting to a share of its slider; ``going_on`` joins it to the drag before, for undo."""
        setting = self.setting(key)
        self._change(key, setting.at_share(self.rig, self.file.get(key), share, setting.largest()), going_on)

    def type_in(self, key: str, text: str) -> None:
        """Set a setting to what a person typed; raises `UnitError`."""
        self._change(key, self.setting(key).typed(self.file.get(key), text.strip()))

    def choose(self, key: str, choice: str) -> None:
        """Set a setting to one of its choices."""
        self._change(key, self.setting(key).chosen(choice))

    def edit(self, what: str, change: Callable[[TOMLDocument], None], join: bool = False) -> bool:
        """Change several things of the rig as one step; returns whether the rig has changed."""
        return self._changed_by(what, lambda: self.file.edit(what, change, join), say=not join)

    def undo(self) -> None:
        """Undo the last change."""
        self._walk("undone", self.file.undo)

    def redo(self) -> None:
        """Redo the last undone change."""
        self._walk("done again", self.file.redo)

    def go_to(self, at: int) -> None:
        """Go to the state of the rig after a number of changes."""
        self._walk("gone to", lambda: self.file.go_to(at))

    def look_outside(self) -> None:
        """Notice a rig that was changed by another program."""
        before = self.file.rig
        try:
            found = self.file.look_outside()
        except (PivrexError, OSError) as problem:
            self.say(str(problem), alarm=True)
            return
        if found:
            self.say(found, alarm=bool(self.file.problem))
            self.file.news = ""
        if self.file.rig is not before:
            self.use_rig()

    @property
    def going_on(self) -> bool:
        """Whether a setting is being nudged or dragged just now."""
        return time.monotonic() - self._changed[1] < 1.0

    def _change(self, key: str, value: object, join: bool = False) -> bool:
        mirrored = mirrored_key(self.rig, key, value)
        if mirrored is None:
            return self._changed_by(key, lambda: self.file.put(key, value, join))

        def both(document: TOMLDocument) -> None:
            set_key(document, key, value)
            set_key(document, *mirrored)

        return self._changed_by(key, lambda: self.file.edit(f"{key} = {value}", both, join))

    def _changed_by(self, key: str, change: Callable[[], None], say: bool = False) -> bool:
        if self.refuses():
            self.say(self.refuses())
            return False
        before = self.line
        try:
            change()
        except RigError as problem:
            self.say("not changed: " + "; ".join(str(m) for m in problem.mistakes), alarm=True)
            return False
        except SaveError as problem:
            self.say(str(problem), alarm=True)
        if self.file.rig is before.rig:
            return False
        # the ghost is the curve as it was before this setting was taken in hand
        now = time.monotonic()
        going_on = key == self._changed[0] and now - self._changed[1] < ONE_GO_S
        if not going_on:
            self.before = before
        self._changed = (key, now)
        self.use_rig()
        if self.file.news and not self.message_alarm:
            self.say(self.file.news)
        elif say and not self.message_alarm:
            self.say(key)
        self.file.news = ""
        return True

    def _walk(self, word: str, step: object) -> None:
        if self.refuses():
            self.say(self.refuses())
            return
        before = self.line
        try:
            what = step()  # type: ignore[operator]
        except SaveError as problem:
            self.say(str(problem), alarm=True)
            what = ""
        if self.file.rig is before.rig:
            self.say(self.message if self.message_alarm else "nothing there", alarm=self.message_alarm)
            return
        self.before, self._changed = before, ("", 0.0)
        self.use_rig()
        if what:
            self.say(f"{word}: {self._there_again(str(what), word)}")

    def _there_again(self, what: str, word: str) -> str:
        """Return what a step back or forward has brought back."""
        key, is_value, _ = what.partition(" = ")
        if is_value and self.file.get(key) is not None and (said := self._value_now(key)):
            return said
        if word == "undone":
            for end, now in ((" deleted, with its bindings", "and its bindings are there again"), (" deleted", "is there again"),
                             (" removed", "is there again"), (" added", "is gone again")):  # fmt: skip
                if what.endswith(end):
                    return f"{what.removesuffix(end)} {now}"
        return what

    def _value_now(self, key: str) -> str:
        try:
            return f"{title_of(key)} is {self.shown(key)} again"
        except (KeyError, ValueError, UnitError):
            return ""

    def refuses(self) -> str:
        """Return why the rig cannot change now; empty if it can."""
        return ""

    def use_rig(self) -> None:
        """Go on with what the file holds now."""
        self.line = Line(self.rig)
        self._serial += 1
