"""A run that is open on the screen: its Ticks, its rig and its floor take the place of the present ones."""

from __future__ import annotations

import contextlib
from collections import deque
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from pivrex.errors import RigError, RunError
from pivrex.line import Line
from pivrex.rig import Folder, RigFile
from pivrex.runs.run import Run
from pivrex.session import messages as ask
from pivrex.session.client import SessionClient
from pivrex.session.replaying import ReplayClient
from pivrex.tui.tick_history import History, Trace

__all__ = ["DRIVE", "NOT_NOW", "OpenRun"]

NOT_NOW = "this is a kept run: nothing drives or changes in it; L goes back to the robot"

DRIVE = (
    ask.KeyDown, ask.GoOn, ask.GoLive, ask.PutBack, ask.Push, ask.Hold, ask.ZeroGyro, ask.StartPeriod, ask.MakeReady, ask.BeginMotion,
    ask.Record, ask.KeepRun, ask.ChooseSource, ask.Probe, ask.StepLevel, ask.UseRobot, ask.TakeMark, ask.Believe, ask.MoveSimulated,
)  # fmt: skip
"""What a person asks of a robot; of one in the past it cannot be had."""


@dataclass(frozen=True)
class _Live:
    """The present drive, while a run is open."""

    client: SessionClient
    file: RigFile
    folder: Folder
    wheel: int


class Shows(Protocol):
    """The part of the model that a run needs."""

    client: SessionClient | ReplayClient
    file: RigFile
    line: Line
    before: Line | None
    folder: Folder
    wheel: int
    trace: Trace
    held_before: str
    skips: deque[tuple[float, int]]

    @property
    def replay(self) -> ReplayClient | None: ...

    def say(self, text: str, alarm: bool = False) -> None: ...

    def use_rig(self) -> None: ...


class OpenRun:
    """A run that may be open in a model in the place of what is driven now."""

    def __init__(self, model: Shows) -> None:
        self._of = model
        self._live: _Live | None = None
        self._warned = 0
        """How many of the run's warnings were said."""

    def open(self, path: Path) -> bool:
        """Open a run, at its first Tick; the robot is stopped meanwhile. Returns whether it could be read."""
        try:
            run = Run(path)
            run.row(run.first)
            rig = RigFile(run.rig_file(run.first))
        except RunError as problem:
            self._of.say(str(problem), alarm=True)
            return False
        except RigError as problem:
            self._of.say(f"{path.name}: {problem.mistakes[0]}", alarm=True)
            return False
        if self._live is None:
            assert isinstance(self._of.client, SessionClient) or self._of.replay is None
            self._live = _Live(self._of.client, self._of.file, self._of.folder, self._of.wheel)  # type: ignore[arg-type]
        live = self._live
        live.client.send(ask.Stop(f"a run of {run.facts.robot} plays again"))
        self._of.client = ReplayClient(run, live.client)
        settings = live.folder.settings.model_copy(update={"field": run.floor})
        self._of.folder = replace(live.folder, settings=settings)
        self._show(rig)
        seconds = self._of.client.replay.length_s  # reads the last piece, and warns of it
        warned = f"; {run.warnings[0]}" if run.warnings else ""
        self._warned = len(run.warnings)
        self._of.say(f"{run.name}: {seconds:.1f} s of {run.facts.robot}{warned}", alarm=bool(warned))
        return True

    def leave(self) -> None:
        """Go back to what is driven now."""
        live, self._live = self._live, None
        if live is None:
            return
        self._of.client, self._of.folder = live.client, live.folder
        self._of.held_before = live.client.status.held  # why it stands was said when the run was opened
        self._show(live.file)
        self._of.wheel = live.wheel
        self._of.say("back at the robot: g lets it move again")

    def _show(self, file: RigFile) -> None:
        self._of.file, self._of.before, self._of.wheel = file, None, 0
        self._of.trace.history = History(0)
        self._of.skips.clear()
        client = self._of.replay
        runs = client.times_put_back(client.begins) if client is not None else self._of.client.status.runs
        self._of.trace.begin(runs, [])
        self._of.use_rig()

    def follow(self) -> None:
        """Take the rig that made the Tick which the replay has reached, and after a jump forget what was shown."""
        client = self._of.replay
        if client is None:
            return
        run, at = client.run, client.replay.at
        if len(run.warnings) > self._warned:
            self._warned = len(run.warnings)
            self._of.say(run.warnings[-1], alarm=True)
        path = run.rig_file(at)
        if path != self._of.file.path:
            with contextlib.suppress(RigError, RunError):
                file, wheel = RigFile(path), self._of.wheel
                self._of.file, self._of.wheel = file, wheel
                self._of.use_rig()
        if client.jumped:
            self._of.trace.history = History(len(self._of.line.layout))
            self._of.trace.begin(client.times_put_back(client.begins), client.trail())
