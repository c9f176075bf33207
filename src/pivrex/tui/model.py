"""The model: the state that the screen works on. It owns the rig file, the session and what came from it."""

from __future__ import annotations

import contextlib
import time
from collections import deque
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from pivrex.diagnosis.changes import put_changes
from pivrex.errors import PivrexError, RigError, SaveError
from pivrex.line import Line
from pivrex.rig import Folder, Rig, RigFile
from pivrex.rig.nudge import Setting, setting_at
from pivrex.session.client import SessionClient
from pivrex.session.messages import ChooseSource, MoveStandIn, Probe, PutBack, Request, SetUp, Stop, UseRig
from pivrex.session.status import Status

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

    from pivrex.diagnosis.moves import Move
    from pivrex.rig.sources import Link

__all__ = ["ScreenModel"]

Floats = NDArray[np.float64]

KEPT = 1200
"""Ticks that the screen keeps for its strips: 20 s at 60 Hz."""

SHORT_S, LONG_S = 8.0, 20.0
"""How long a message stands, and one about a mistake."""

SKIPS_S = 10.0

ONE_GO_S = 5.0
"""Nudges of one setting with less than this between them are one go."""

TRAIL_EVERY = 3
"""A point of the trail for every so many ticks."""


class _History:
    """The newest rows, without moving all of them for each new one."""

    def __init__(self, width: int) -> None:
        self.width = width
        self._rows = np.empty((4 * KEPT, width))
        self._end = 0

    @property
    def rows(self) -> Floats:
        return self._rows[max(0, self._end - KEPT) : self._end]

    def add(self, new: list[Floats]) -> None:
        if self._end + len(new) > len(self._rows):
            kept = self.rows.copy()
            self._rows[: len(kept)] = kept
            self._end = len(kept)
        self._rows[self._end : self._end + len(new)] = new
        self._end += len(new)


class ScreenModel:
    """One workspace with its open rig and its running session.

    Attributes
    ----------
    history : (N, K) float64
        The newest Ticks of the rig in use, oldest first.
    trail, ghost : list of (x, y)
        Where the robot has been since it was put at its start, and the time before.
    wheel : int
        The wheel that the why is about.
    message : str
        The last thing worth saying; ``message_alarm`` if it is a mistake.
    """

    def __init__(self, folder: Folder, rig_path: Path, client: SessionClient) -> None:
        self.folder = folder
        self.file = RigFile(rig_path)
        self.client = client
        self.line = Line(self.rig)
        self.before: Line | None = None
        self.wheel = 0
        self.message = ""
        self.message_alarm = False
        self._said_at = 0.0
        self.trail: list[tuple[float, float]] = []
        self.ghost: list[tuple[float, float]] = []
        self._changed = ("", 0.0)
        self._skips: deque[tuple[float, int]] = deque()
        self._serial = 0
        self._probes = 0
        self._pointing = False
        self._run = 0
        self._notes = 0
        self._held = self._lost = ""
        self._since_trail = 0
        self._history = _History(len(self.line.layout))
        self.work_s = 0.0

    def open_session(
        self,
        source: str,
        listen_for_pads: bool,
        gamepads: bool = True,
        fault: str = "",
        seed: int = 0,
        link: Link | None = None,
    ) -> None:
        """Tell the session what to run."""
        recordings = tuple(self.folder.recordings())
        self.client.set_up(
            SetUp(
                rig=self.rig,
                field=self.folder.settings.field,
                recordings=recordings,
                source=source,
                listen_for_pads=listen_for_pads,
                gamepads=gamepads,
                fault=fault,
                seed=seed,
                inputs=self.folder.path / "inputs",
                link=link,
            )
        )

    @property
    def rig(self) -> Rig:
        """The rig in use."""
        return self.file.rig

    @property
    def serial(self) -> int:
        """Counts the rigs that were in use; every change makes another."""
        return self._serial

    @property
    def status(self) -> Status:
        """What the session last said."""
        return self.client.status

    @property
    def history(self) -> Floats:
        """The newest Ticks."""
        return self._history.rows

    @property
    def row(self) -> Floats | None:
        """The newest Tick, or None before the first."""
        rows = self._history.rows
        return rows[-1] if len(rows) else None

    @property
    def wheel_name(self) -> str:
        """The wheel that the why is about."""
        return self.line.wheels[self.wheel % len(self.line.wheels)]

    def value(self, stage: str, name: str) -> float:
        """Give a value of the newest Tick; NaN before the first, and where this rig has no such value."""
        row, layout = self.row, self.line.layout
        return float(row[layout.at(stage, name)]) if row is not None and layout.has(stage, name) else float("nan")

    def commanded(self, wheel: str) -> float:
        """Give the surface speed that a wheel is given in the newest Tick, in m/s; NaN before the first."""
        row, line = self.row, self.line
        return float(row[line.speeds.start + line.wheels.index(wheel)]) if row is not None else float("nan")

    @property
    def skipped(self) -> int:
        """How many ticks were skipped in the last `SKIPS_S` seconds."""
        return self._skips[-1][1] - self._skips[0][1] if self._skips else 0

    def ask(self, request: Request) -> None:
        """Ask the session for something."""
        self.client.send(request)

    def pull(self) -> bool:
        """Take what the session made since the last call; tells whether anything is new."""
        news = self.client.poll()
        if self.status.notes != self._notes:
            self._notes = self.status.notes
            self.say(self.status.note)
        if self.status.held != self._held:
            self._held = self.status.held
            if self._held:
                self.say(f"stopped: {self._held}", alarm=True)
            else:
                self.say("the robot may move again")
        if self.status.lost != self._lost:
            self._lost = self.status.lost
            self.say(f"stopped: {self._lost}" if self._lost else "it is heard again", alarm=bool(self._lost))
        now = time.monotonic()
        self._skips.append((now, self.client.skipped))
        while self._skips[0][0] < now - SKIPS_S:
            self._skips.popleft()
        rows = self.client.rows()
        fresh = [row for row in rows if row.serial == self._serial]
        for row in fresh:
            if row.run != self._run:
                self._run = row.run
                self.ghost, self.trail = self.trail, []
            self._since_trail += 1
            if self._since_trail >= TRAIL_EVERY or not self.trail:
                self._since_trail = 0
                layout = self.line.layout
                x, y = (float(row.values[layout.at("truth", name)]) for name in ("x", "y"))
                self.trail.append((x, y))
        if fresh:
            self.work_s = fresh[-1].work_s
            self._history.add([row.values for row in fresh[-KEPT:]])
        return news or bool(fresh)

    def say(self, text: str, alarm: bool = False) -> None:
        """Put a sentence where the person looks."""
        self.message, self.message_alarm = text, alarm
        self._said_at = time.monotonic()

    def fade(self) -> None:
        """Take a message away that has stood long enough; why the robot is stopped stays."""
        if self.message and time.monotonic() - self._said_at > (LONG_S if self.message_alarm else SHORT_S):
            why = self._held or self._lost
            self.message, self.message_alarm = (f"stopped: {why}", True) if why else ("", False)

    # --- the rig ---

    def setting(self, key: str) -> Setting:
        """Give a setting by its key."""
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
        # a choice that this rig cannot have is said and passed over
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

    def edit(self, what: str, change: Callable[[TOMLDocument], None], join: bool = False) -> bool:
        """Change several things of the rig as one step; tells whether the rig is another now."""
        return self._changed_by(what, lambda: self.file.edit(what, change, join), say=not join)

    def undo(self) -> None:
        """Take the last change back."""
        self._walk("undone", self.file.undo)

    def redo(self) -> None:
        """Bring the last undone change back."""
        self._walk("done again", self.file.redo)

    def look_outside(self) -> None:
        """Notice a rig that was edited outside."""
        before = self.file.rig
        try:
            found = self.file.look_outside()
        except (PivrexError, OSError) as problem:
            self.say(str(problem), alarm=True)
            return
        if found:
            self.say(found, alarm=bool(self.file.problem))
        if self.file.rig is not before:
            self._use_rig()

    def _change(self, key: str, value: object, join: bool = False) -> bool:
        return self._changed_by(key, lambda: self.file.put(key, value, join))

    def _changed_by(self, key: str, change: Callable[[], None], say: bool = False) -> bool:
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
        self._use_rig()
        if say and not self.message_alarm:
            self.say(key)
        return True

    def _walk(self, word: str, step: object) -> None:
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
        self._use_rig()
        if what:
            self.say(f"{word}: {what}")

    def _use_rig(self) -> None:
        self.line = Line(self.rig)
        self._serial += 1
        if self._history.width != len(self.line.layout):
            self._history = _History(len(self.line.layout))
        self.wheel %= len(self.line.wheels)
        self.ask(UseRig(self.rig, self._serial))

    def open_rig(self, path: Path) -> bool:
        """Open another rig of the workspace; tells whether it could be read."""
        try:
            file = RigFile(path)
        except RigError as problem:
            self.say("; ".join(problem.lines()), alarm=True)
            return False
        self.file, self.before, self.wheel = file, None, 0
        self._history = _History(0)
        self._use_rig()
        self.ask(PutBack())
        recording = self.folder.demo_recording(path)
        driving = next((s for s in self.status.sources if s.name == self.status.source), None)
        if recording is not None and driving is not None and driving.kind == "recording":
            self.ask(ChooseSource(f"recording {recording.stem}"))
        self.say(f"{self.rig.name}: {self.rig.about or self.rig.chassis.shape}")
        return True

    def calibrate_steering(self) -> None:
        """Ask for steered wheels that point straight ahead; the second time read their sensors and write the offsets."""
        from pivrex.diagnosis.offsets import offset_changes

        if not self._pointing or self.row is None:
            self._pointing = True
            # stopped, because motors that hold an angle would turn the wheels back
            self.ask(Stop("point all steered wheels straight ahead, then press f again to read them"))
            self.ask(MoveStandIn("point ahead"))
            return
        self._pointing = False
        changes = offset_changes(self.rig, self.row[self.line.layout.stage("sensed")])
        if not changes:
            self.say("the steering's offsets are right already")
        elif self.edit("steering read straight ahead", lambda d: put_changes(d, changes)):
            self.say("; ".join(str(c).partition("wheels.")[2] for c in changes))

    def probe(self, moves: tuple[Move, ...]) -> int:
        """Ask for a probe; gives the number that marks its answer."""
        self._probes += 1
        self.ask(Probe(self._probes, moves))
        return self._probes

    def save_path(self) -> Path:
        """Keep where the robot has been as a CSV beside the exports; raises `SaveError`."""
        from pivrex.files import write_atomically

        dt_s = self.line.dt_s * TRAIL_EVERY
        rows = [f"{i * dt_s:.4f},{x:.6f},{y:.6f}" for i, (x, y) in enumerate(self.trail)]
        path = self.export_name("path", ".csv")
        write_atomically(path, "\n".join(["clock.t_s,truth.x_m,truth.y_m", *rows]) + "\n")
        return path

    def export_name(self, what: str, suffix: str) -> Path:
        """Give a dated path in the workspace's ``exports`` that nothing has yet, its folder made."""
        from pivrex.files import free_name

        folder = self.folder.path / "exports"
        with contextlib.suppress(OSError):
            folder.mkdir(exist_ok=True)
        return free_name(folder, f"{self.file.path.stem}-{what}-{datetime.now():%Y%m%d-%H%M%S}", suffix)
