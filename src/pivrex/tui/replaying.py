"""A run that is open on the screen as a robot is: its Ticks, its rig, its floor, in the place of what is driven now."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from pivrex.errors import RigError, RunError
from pivrex.rig import Folder, RigFile
from pivrex.runs.run import Run
from pivrex.session import messages as ask
from pivrex.session.client import SessionClient
from pivrex.session.replaying import ReplayClient
from pivrex.tui.editing import Editing
from pivrex.tui.tick_history import History

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["NOT_NOW", "Replaying"]

NOT_NOW = "this is a run that was kept: nothing drives in it and nothing of it changes; L leads back to the robot"

DRIVE = (
    ask.KeyDown, ask.GoOn, ask.GoLive, ask.PutBack, ask.Push, ask.Hold, ask.ZeroGyro, ask.StartPeriod, ask.MakeReady, ask.BeginMove,
    ask.Record, ask.KeepRun, ask.ChooseSource, ask.Probe, ask.StepLevel, ask.UseRobot, ask.TakeMark, ask.Believe, ask.MoveStandIn,
)  # fmt: skip
"""What a person asks of a robot; of one in the past it cannot be had."""


@dataclass(frozen=True)
class _Live:
    """What is driven now, while a run is open."""

    client: SessionClient
    file: RigFile
    folder: Folder
    wheel: int


class Replaying(Editing):
    """For the screen's model: a run may be open in the place of what is driven now."""

    client: SessionClient | ReplayClient
    folder: Folder
    trail: list[tuple[float, float]]
    ghost: list[tuple[float, float]]
    wheel: int
    _history: History
    _run: int
    _since_trail: int
    _held: str
    _live: _Live | None = None
    _warned = 0
    """How many of the run's warnings were said."""

    @property
    def replay(self) -> ReplayClient | None:
        """The run that is open; None while what is driven now is shown."""
        return self.client if isinstance(self.client, ReplayClient) else None

    def open_run(self, path: Path) -> bool:
        """Open a run, at its first Tick; the robot is stopped meanwhile. Tells whether it could be read."""
        try:
            run = Run(path)
            run.row(run.first)
            rig = RigFile(run.rig_file(run.first))
        except RunError as problem:
            self.say(str(problem), alarm=True)
            return False
        except RigError as problem:
            self.say(f"{path.name}: {problem.mistakes[0]}", alarm=True)
            return False
        if self._live is None:
            assert isinstance(self.client, SessionClient) or self.replay is None
            self._live = _Live(self.client, self.file, self.folder, self.wheel)  # type: ignore[arg-type]
        live = self._live
        live.client.send(ask.Stop(f"a run of {run.facts.robot} plays again"))
        self.client = ReplayClient(run, live.client)
        settings = live.folder.settings.model_copy(update={"field": run.floor})
        self.folder = replace(live.folder, settings=settings)
        self._show(rig)
        seconds = self.client.replay.length_s  # reads the last piece, and warns of it
        warned = f"; {run.warnings[0]}" if run.warnings else ""
        self._warned = len(run.warnings)
        self.say(f"{run.name}: {seconds:.1f} s of {run.facts.robot}{warned}", alarm=bool(warned))
        return True

    def leave_run(self) -> None:
        """Go back to what is driven now."""
        live, self._live = self._live, None
        if live is None:
            return
        self.client, self.folder = live.client, live.folder
        self._held = live.client.status.held  # why it stands was said when the run was opened
        self._show(live.file)
        self.wheel = live.wheel
        self.say("back at the robot: g lets it move again")

    def _show(self, file: RigFile) -> None:
        self.file, self.before, self.wheel = file, None, 0
        self._history = History(0)
        self.trail, self.ghost, self._since_trail = [], [], 0
        client = self.replay
        self._run = client.times_put_back(client.begins) if client is not None else self.client.status.runs
        self._use_rig()

    def follow_replay(self) -> None:
        """Take the rig that made the Tick which the replay has reached, and after a jump forget what was shown."""
        client = self.replay
        if client is None:
            return
        run, at = client.run, client.replay.at
        if len(run.warnings) > self._warned:
            self._warned = len(run.warnings)
            self.say(run.warnings[-1], alarm=True)
        path = run.rig_file(at)
        if path != self.file.path:
            with contextlib.suppress(RigError, RunError):
                file, wheel = RigFile(path), self.wheel
                self.file, self.wheel = file, wheel
                self._use_rig()
        if client.jumped:
            self._history = History(len(self.line.layout))
            self._run, self.ghost, self._since_trail = client.times_put_back(client.begins), [], 0
            self.trail = client.trail()

    def refuses(self, request: object) -> bool:
        """Tell whether a request means a robot that can be driven, and none is; it is said then."""
        if self.replay is None or not isinstance(request, DRIVE):
            return False
        self.say(NOT_NOW)
        return True

    def _changed_by(self, key: str, change: Callable[[], None], say: bool = False) -> bool:
        if self.replay is not None:
            self.say(NOT_NOW)
            return False
        return super()._changed_by(key, change, say)

    def _walk(self, word: str, step: object) -> None:
        if self.replay is not None:
            self.say(NOT_NOW)
        else:
            super()._walk(word, step)
