"""What the screen shows and works on: the open rig, the running session and its results."""

from __future__ import annotations

import contextlib
import time
from collections import deque
from dataclasses import replace
from datetime import datetime
from math import degrees, isfinite
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import RigError
from pivrex.rig import Folder, RigFile
from pivrex.session.client import SessionClient
from pivrex.session.messages import (
    ChooseRoutine,
    ChooseSource,
    LayOut,
    Probe,
    PutBack,
    Request,
    SetUp,
    UseMoves,
    UseRig,
)
from pivrex.session.periods import Period
from pivrex.session.places import config_folder
from pivrex.session.replaying import ReplayClient
from pivrex.session.status import SourceInfo, Status
from pivrex.tui.documents.workspace_documents import WorkspaceDocuments
from pivrex.tui.editing import Editing
from pivrex.tui.keys import keys_of_buttons
from pivrex.tui.replaying import DRIVE, NOT_NOW, OpenRun
from pivrex.tui.tick_history import TRAIL_EVERY, History, ShownCurves, Trace

if TYPE_CHECKING:
    from pivrex.diagnosis.moves import MotorMove
    from pivrex.document import Document
    from pivrex.rig.transports import Link
    from pivrex.routine.program import Program

__all__ = ["ScreenModel"]

Floats = NDArray[np.float64]

SKIPS_S = 10.0


class ScreenModel(Editing):
    """What the screen shows and works on: one workspace with its open rig, its running session and what came from it.

    Attributes
    ----------
    history : (N, K) float64
        The newest Ticks of the rig in use, oldest first.
    trace : Trace
        The newest Ticks, and where the robot has been.
    curves : ShownCurves
        What the routine that drives showed.
    run : OpenRun
        The run that may be open in the place of what is driven now.
    wheel : int
        The wheel that the why is about.
    """

    def __init__(self, folder: Folder, rig_path: Path, client: SessionClient) -> None:
        super().__init__(rig_path)
        self.folder = self._whole = folder
        self.floor = ""
        """The floor in use; empty for the workspace's own field."""
        self.client: SessionClient | ReplayClient = client
        self.wheel = 0
        self.drawing: Path | None = None
        """The path that is open on the field; None if none is."""
        self.report_words: tuple[str, ...] = ()
        """The words behind `pivrex export` for what is selected of the runs."""
        self.trace = Trace()
        self.run = OpenRun(self)
        self.skips: deque[tuple[float, int]] = deque()
        self._probes = 0
        self._notes = 0
        self.curves = ShownCurves()
        self.held_before = self._lost = ""
        """Why it stood at the last look, and what was lost."""
        self.trace.history = History(len(self.line.layout))
        self._alike = 0
        """The first rig whose Ticks have the layout of the one in use: while that is still being built, they will do."""
        self.work_s = 0.0
        self.warnings: list[str] = []
        """What the open rig is warned of, each with its file and line."""
        self._warned_of = 0
        self.keys_of_buttons: dict[str, str] = {}
        """Keys that the person gave to buttons."""
        self.keys_of_commands: set[str] = set()
        """Keys that mean something already."""
        self._buttons_of, self._button_keys = (Path(), -1), dict[str, str]()
        self.practice = ""
        """Whose copy is open to practise on, with faults in the simulated robot's wiring; empty for no copy."""
        self._chosen: Document[Any] | None = None
        """What the session has as its routine."""
        self._began: list[Document[Any]] = []
        """What drives alone began with these; empty while nothing does."""
        self.stands = ""
        """What stands in the foot as long as it is true, where nothing else is said."""
        self.documents = WorkspaceDocuments(folder)

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
        assert not isinstance(self.client, ReplayClient)
        recordings = tuple(self.folder.recordings())
        self.client.set_up(
            SetUp(
                self.rig, self.folder.settings.field, recordings, source, listen_for_pads, gamepads, fault, seed, link=link,
                inputs=self.folder.path / "inputs", periods=self.folder.settings.match, memory=config_folder() / "heard.txt",
                runs=self.folder.path / "runs", keep=self.folder.settings.keep, task=self.documents.task(self.rig, self.say),
                rig_name=self.file.path.stem, rig_text=self.file.text,
            )
        )  # fmt: skip
        self._send_moves()
        self.look_for_warnings()
        if self.warnings:
            more = f" and {len(self.warnings) - 1} more: ! lists them" if len(self.warnings) > 1 else ""
            self.say(f"warning: {self.warnings[0]}{more}", alarm=True)

    def _send_moves(self) -> None:
        """Let the session have the own moves that buttons may do, where they are others by now."""
        moves = self.documents.moves(self.rig, self.file.path) if self.replay is None else None
        if moves is not None:
            self.ask(UseMoves(moves))

    def lay_out(self, name: str) -> None:
        """Go on on another floor of the workspace, on its own field for an empty name. Raises `RigError`."""
        self.floor, field = name, self._whole.floor(name)
        self.documents.lay_out(name)
        if field != self.folder.settings.field:
            self.folder = replace(self.folder, settings=self.folder.settings.model_copy(update={"field": field}))
            self.ask(LayOut(field))

    def look_for_warnings(self) -> None:
        """Find the warnings about the open rig: the head counts them, ``!`` lists them."""
        from pivrex.devices.worries import warnings_in

        with contextlib.suppress(RigError):  # saved outside in this moment; it is looked at again soon
            found = warnings_in(self.rig, self.file.path)
            self.warnings = [f"{self.file.path.name}:{w.line}: {w}" for w in found]
        self._warned_of = self.serial

    @property
    def drives_alone(self) -> bool:
        """Whether a routine or a path drives now."""
        match = self.status.match
        return match.period is Period.ALONE and not match.ended

    def choose_routine(self, program: Program | None, document: Document[Any] | None = None) -> None:
        """Let the session take a routine or path, as its document has it now."""
        self._chosen = document if document is not None and document.is_open else None
        if self._chosen is not None:
            self._chosen.begin()
        self.ask(ChooseRoutine(program))

    def look_outside(self) -> None:
        """Notice changes by other programs. A robot that drives alone keeps the versions that it began with, and a message says so."""
        if self.replay is None:
            if self.drives_alone:
                self._watch_drive()
                return
            self._began, self.stands = [], ""
            said, wrong = self.documents.look_outside()
            if said:
                self._lay_out_again()
                self.say(said, alarm=wrong)
        super().look_outside()
        self._send_moves()
        # a drive begins with the versions of this moment, not with later changes
        for document in (self.documents.workspace, self.documents.floor):
            document.begin()
        if self._warned_of != self.serial and not self.going_on:
            self.look_for_warnings()

    def _watch_drive(self) -> None:
        """Report changes of the files of a drive alone: they have no effect before it has ended."""
        if not self._began:
            self.file.begin()
            self._began = [self.file, self.documents.workspace, self.documents.floor]
            self._began += [self._chosen] if self._chosen is not None else []
        news = [said for said in (document.since_begun() for document in self._began) if said]
        if news:
            self.stands = news[-1]
            self.say(news[-1], alarm=True)
        elif not any(document.differs for document in self._began):
            self.stands = ""

    def _lay_out_again(self) -> None:
        """Take the workspace's and the floor's files as they are now."""
        settings, workspace = self._whole.settings, self.documents.workspace.content
        if workspace is not None:
            settings = settings.model_copy(update={"field": workspace.field})
        self._whole = replace(self._whole, settings=settings)
        field = (self.documents.floor.content if self.floor else None) or settings.field
        if field != self.folder.settings.field:
            self.folder = replace(self._whole, settings=settings.model_copy(update={"field": field}))
            self.ask(LayOut(field))

    def is_of_another(self, source: SourceInfo) -> bool:
        """Return whether a source is a recording of another robot: named as its driver, begun with its name, or without the
        channels that this one's law reads.
        """
        if not source.can.plays:
            return False
        mine, name, settings = self.file.path.stem, source.name.removeprefix("recording "), self.folder.settings
        if settings.drivers.get(mine, settings.recording) == name:
            return False
        begun = any(name.startswith(f"{p.stem}-") for p in self.folder.rigs() if p.stem != mine)
        return bool(source.lacks) or begun or name in settings.drivers.values()

    @property
    def button_keys(self) -> dict[str, str]:
        """Which key presses which button: F1 the first button that the rig uses, and so on; a person's own keys go before."""
        now = self.file.path, self.serial
        if self._buttons_of != now:
            before = self._button_keys if self._buttons_of[0] == now[0] else {}
            found = keys_of_buttons(self.rig, self.keys_of_buttons, self.keys_of_commands, before)
            self._buttons_of, self._button_keys = now, found
        return self._button_keys

    def gives_key(self, key: str, button: str) -> None:
        """Let a key press a button that the rig is about to use."""
        self._button_keys[key] = button

    @property
    def replay(self) -> ReplayClient | None:
        """The run that is open; None while what is driven now is shown."""
        return self.client if isinstance(self.client, ReplayClient) else None

    @property
    def status(self) -> Status:
        """The newest status of the session."""
        return self.client.status

    @property
    def history(self) -> Floats:
        """The newest Ticks."""
        return self.trace.history.rows

    @property
    def row(self) -> Floats | None:
        """The newest Tick, or None before the first."""
        rows = self.history
        return rows[-1] if len(rows) else None

    @property
    def wheel_name(self) -> str:
        """The wheel that the why is about."""
        return self.line.wheels[self.wheel % len(self.line.wheels)]

    def value(self, stage: str, name: str) -> float:
        """Return a value of the newest Tick; NaN before the first, and where this rig has no such value."""
        row, layout = self.row, self.line.layout
        return float(row[layout.at(stage, name)]) if row is not None and layout.has(stage, name) else float("nan")

    def degrees(self, stage: str, name: str) -> float:
        """Return an angle, or a rate of turn, of the newest Tick in degrees."""
        return degrees(self.value(stage, name))

    def number(self, stage: str, name: str, unknown: int = 0) -> int:
        """Return a whole number of the newest Tick; ``unknown`` before the first, and where there is none."""
        value = self.value(stage, name)
        return int(value) if isfinite(value) else unknown

    def commanded(self, wheel: str) -> float:
        """Return the surface speed that a wheel is commanded in the newest Tick, in m/s; NaN before the first."""
        row, line = self.row, self.line
        return float(row[line.speeds.start + line.wheels.index(wheel)]) if row is not None else float("nan")

    @property
    def skipped(self) -> int:
        """How many ticks were skipped in the last `SKIPS_S` seconds."""
        return self.skips[-1][1] - self.skips[0][1] if self.skips else 0

    def ask(self, request: Request) -> None:
        """Ask the session for something."""
        if self.replay is not None and isinstance(request, DRIVE):
            self.say(NOT_NOW)
        else:
            self.client.send(request)

    def refuses(self) -> str:
        return NOT_NOW if self.replay is not None else ""

    def pull(self) -> bool:
        """Take what the session made since the last call; returns whether anything is new."""
        news = self.client.poll()
        if self.status.notes != self._notes:
            new, self._notes = self.status.notes_since(self._notes), self.status.notes
            for note in new:
                self.say(note)
        for one in self.curves.take(self.status.shown):
            self.say(one.text, topic=f"{one.label}: ")
        if self.status.held != self.held_before:
            self.held_before = self.status.held
            if self.held_before:
                self.say(f"{self.status.stopped}: {self.held_before}", alarm=True)
            else:
                self.say("the robot may move again")
        if self.status.lost != self._lost:
            self._lost = self.status.lost
            said = f"{self.status.stopped}: {self._lost}" if self._lost else "it is heard again"
            self.say(said, alarm=bool(self._lost))
        now = time.monotonic()
        self.skips.append((now, self.client.skipped))
        while self.skips[0][0] < now - SKIPS_S:
            self.skips.popleft()
        self.run.follow()
        rows = self.client.rows()
        fresh = [row for row in rows if row.serial >= self._alike]
        if fresh:
            self.work_s = fresh[-1].work_s
            self.trace.add(fresh, self.line.layout)
        return news or bool(fresh)

    @property
    def rig_name(self) -> str:
        """The name of the file of the robot that is shown."""
        return self.replay.run.facts.rig if self.replay is not None else self.file.path.stem

    def open_rig(self, path: Path) -> bool:
        """Open another rig of the workspace, whatever run was open; returns whether it could be read."""
        self.run.leave()
        try:
            file = RigFile(path)
        except RigError as problem:
            said = (f"{path.name}:{m.line}: {m}" if m.line else f"{path.name} {m}" for m in problem.mistakes)
            self.say("; ".join(said), alarm=True)
            return False
        self.file, self.before, self.wheel = file, None, 0
        self.trace.history = History(0)
        self.use_rig()
        self.ask(PutBack())
        recording = self.folder.demo_recording(path)
        driving = next((s for s in self.status.sources if s.name == self.status.source), None)
        if recording is not None and driving is not None and driving.can.plays:
            self.ask(ChooseSource(f"recording {recording.stem}"))
        self.look_for_warnings()
        count = len(self.warnings)
        warned = f"; {count} warning{'s' * (count > 1)}, ! lists them" if count else ""
        self.say(f"{self.rig.name}: {self.rig.about or self.rig.chassis.shape}{warned}")
        return True

    def probe(self, moves: tuple[MotorMove, ...]) -> int:
        """Ask for a probe; returns the number that marks its answer."""
        self._probes += 1
        self.ask(Probe(self._probes, moves))
        return self._probes

    def save_path(self) -> Path:
        """Keep where the robot has been as a CSV next to the exports; raises `SaveError`."""
        from pivrex.files import write_atomically

        dt_s = self.line.dt_s * TRAIL_EVERY
        rows = [f"{i * dt_s:.4f},{x:.6f},{y:.6f}" for i, (x, y) in enumerate(self.trace.trail)]
        path = self.export_name("path", ".csv")
        write_atomically(path, "\n".join(["clock.t_s,truth.x_m,truth.y_m", *rows]) + "\n")
        return path

    def export_name(self, what: str, suffix: str) -> Path:
        """Return a dated path in the workspace's ``exports`` that nothing has yet, its folder made."""
        from pivrex.files import free_name

        folder = self.folder.path / "exports"
        with contextlib.suppress(OSError):
            folder.mkdir(exist_ok=True)
        return free_name(folder, f"{self.file.path.stem}-{what}-{datetime.now():%Y%m%d-%H%M%S}", suffix)

    def fade(self, stays: str = "") -> None:
        """Delete a message that has stood long enough; why the robot is stopped stays."""
        why = self.held_before or self._lost
        super().fade(stays or (f"{self.status.stopped}: {why}" if why else ""))

    def use_rig(self) -> None:
        before = self.line.layout
        super().use_rig()
        if self.line.layout.titles != before.titles or not self.trace.history.width:
            self.trace.history, self._alike = History(len(self.line.layout)), self.serial
        self.wheel %= len(self.line.wheels)
        task = self.documents.task(self.rig, self.say)
        self.ask(UseRig(self.rig, self._serial, self.file.path.stem, self.file.text, task))
        self._send_moves()
