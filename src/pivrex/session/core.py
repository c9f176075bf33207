"""One session, without its process: sources in, one line, one robot, and every way to stop."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.keys import Keyboard
from pivrex.devices.recording import RecordedDriver, Recording
from pivrex.devices.robot import StandInRobot
from pivrex.devices.source import Source
from pivrex.devices.sticks import DrawnSticks
from pivrex.diagnosis.moves import Move, Runner
from pivrex.errors import RecordingError
from pivrex.line import Line, LineState
from pivrex.line.outputs import encode
from pivrex.rig import Rig
from pivrex.session.messages import (
    AttachPads,
    ChooseSource,
    EndMove,
    GoLive,
    GoOn,
    Handle,
    KeyDown,
    KeyUp,
    LetGo,
    MoveSticks,
    Probe,
    Probed,
    PutBack,
    Request,
    SetKeysMode,
    SetUp,
    SourceInfo,
    Status,
    StepLevel,
    Stop,
    UseRig,
)
from pivrex.sim.wiring import faulty

__all__ = ["Session"]

Floats = NDArray[np.float64]

log = logging.getLogger(__name__)

TAKE_OVER = 0.5
"""A button of a gamepad pressed this far takes over from a recording."""


class Session:
    """Sources, a line and a robot, ticked from outside.

    Every stop goes through `_hold`, which also ends *live*. While held the robot is told to rest at every tick.
    """

    def __init__(self, setup: SetUp) -> None:
        self._setup = setup
        self._line = Line(setup.rig)
        self._wiring = faulty(setup.rig, setup.fault, setup.seed) if setup.fault else None
        self._robot = StandInRobot(setup.rig, setup.field, wiring=self._wiring)
        self._runner: Runner | None = None
        self._eyes = ""
        self._state = self._line.start()
        self._neutral = self._resting()
        self._keys, self._sticks = Keyboard(), DrawnSticks()
        self._sources: dict[str, Source] = {"keys": self._keys, "sticks": self._sticks}
        self._row: Floats | None = None
        self._fault = ""
        self._pads_wanted = setup.listen_for_pads
        self.status = Status(robot=self._robot.title)
        for path in setup.recordings:
            self._add_recording(path)
        self._set(source="keys")
        if setup.source in self._sources:
            self._choose(setup.source)
        self._list_sources()

    @property
    def line(self) -> Line:
        """The line in use."""
        return self._line

    @property
    def dt_s(self) -> float:
        """The time of one tick."""
        return self._line.dt_s

    @property
    def wants_pads(self) -> bool:
        """Whether stand-in gamepads were asked for."""
        return self._pads_wanted

    def tell_pad_port(self, port: int) -> None:
        """Take the port where stand-in gamepads may connect."""
        self._set(pad_port=port)
        self._note(f"stand-in gamepads may connect: pivrex remote --pad --port {port}")

    def handle(self, request: Request, now_s: float) -> None:
        """Do what the screen asks."""
        match request:
            case Stop(reason):
                self._hold(reason)
            case GoOn():
                self._go_on()
            case GoLive():
                self._go_live()
            case KeyDown(key):
                self._take_over(self._keys)
                self._keys.press(key, now_s)
            case KeyUp(key):
                self._keys.release(key)
            case SetKeysMode(mode):
                self._keys.set_mode(mode)
                self._set(keys_mode=mode)
                self._list_sources()
            case MoveSticks(readings):
                if any(readings.values()):
                    self._take_over(self._sticks)
                self._sticks.move(readings)
            case LetGo():
                self._keys.rest()
                self._sticks.rest()
            case ChooseSource(name):
                self._choose(name)
            case StepLevel(steps):
                self._state = self._line.choose_level(self._state, steps)
            case PutBack():
                self._put_back()
            case UseRig(rig, serial):
                self._use(rig, serial)
            case AttachPads():
                self._pads_wanted = True
            case Probe(number, moves):
                self._begin_probe(number, moves)
            case EndMove():
                if self._runner is not None:
                    self._runner.end_move()
            case Handle(what):
                self._handle_robot(what)

    def pads_are(self, pads: Mapping[str, Source]) -> None:
        """Take the gamepads that are there now; a lost one that drives stops the robot."""
        known = {name for name, source in self._sources.items() if source.kind == "gamepad"}
        if known == set(pads) and all(self._sources[name] is pads[name] for name in known):
            return
        driving = self._sources.get(self.status.source)
        gone = [name for name in known if pads.get(name) is not self._sources[name]]
        for name in gone:
            lost = self._sources.pop(name)
            self._note(lost.lost or f"{name} is gone")
            listened = False
            if lost is driving or listened:
                self._hold(f"{lost.lost or f'{name} is gone'}, and it was driving")
            if lost is driving:
                self._rest_on_keys()
        for name, pad in pads.items():
            if name not in self._sources:
                self._sources[name] = pad
                self._note(f"{pad.title} is there; press one of its buttons to take over")
        self._list_sources()

    def tick(self, now_s: float) -> Floats:
        """Make one tick: sense, read, run the line, tell the robot. Gives the Tick's row."""
        source = self._sources[self.status.source]
        if isinstance(source, RecordedDriver) and not self.status.held:
            self._advance(source)
        raw = self._gather(now_s)
        sensed = self._robot.sense()
        self._state, row = self._line.step(self._state, raw, sensed, bool(self.status.held))
        if self._runner is not None:
            self._probe(self._runner, sensed, row)
        if not np.isfinite(row[self._line.layout.stage("outputs")]).all():
            self._hold("the line gave a number that is not finite")
            self._robot.command(self._neutral, self._line.dt_s)
        else:
            self._robot.command(self._line.told(row), self._line.dt_s)
        self._row = row
        return row

    def fail(self, problem: BaseException) -> None:
        """Stop after an exception in a tick: the robot is told to rest by the shortest path."""
        self._robot.command(self._neutral, self._line.dt_s)
        reason = f"something went wrong inside ({type(problem).__name__}: {problem}); the log has more"
        if reason != self._fault:  # one that comes back at every tick fills no log
            log.error("a tick failed", exc_info=problem)
        self._fault = reason
        self._hold(reason)
        self._state = self._line.start()

    def rest(self) -> None:
        """Tell the robot to rest; the first and the last thing that it is told."""
        self._robot.command(self._neutral, self._line.dt_s)

    # --- sources ---

    def _add_recording(self, path: Path) -> None:
        try:
            recording = Recording(path)
            driver = RecordedDriver(recording, self._line.dt_s)
        except RecordingError as problem:
            self._note(str(problem))
            return
        self._sources[driver.name] = driver

    def _advance(self, driver: RecordedDriver) -> None:
        if driver.ended:
            driver.rewind()
            self._state = self._line.start()
            self._put_back()
        driver.advance()
        if driver.lost:
            self._hold(driver.lost)
            self._rest_on_keys()

    def _gather(self, now_s: float) -> Floats:
        """Put all channels of this instant into one row. A reading that is not there is NaN, which counts as rest."""
        chosen = self._sources[self.status.source].read(now_s)
        self._look_for_take_over(now_s)
        raw = np.array([chosen.get(c, 0.0 if c.startswith("button_") else np.nan) for _, c in self._line.inputs])
        return raw

    def _look_for_take_over(self, now_s: float) -> None:
        """A pressed button of a gamepad takes over from a recording."""
        if self._sources[self.status.source].kind != "recording" or self.status.live:
            return
        for name, source in self._sources.items():
            if source.kind == "gamepad":
                readings = source.read(now_s)
                if any(v >= TAKE_OVER for c, v in readings.items() if c.startswith("button_")):
                    self._choose(name)
                    return

    def _take_over(self, source: Source) -> None:
        """Driving by hand on the screen takes over at once; while live the source is chosen deliberately."""
        if self.status.source != source.name:
            if self.status.live:
                self._hold(f"{source.name} moved while {self.status.source} was driving live")
            else:
                self._choose(source.name)

    def _choose(self, name: str) -> None:
        source = self._sources.get(name)
        if source is None:
            self._note(f"there is no source {name} any more")
            return
        lacks = self._lacks(source)
        if lacks:
            self._note(f"{source.title} has no {', '.join(lacks)}, which the law {self._line.rig.law.kind} reads")
            return
        if name == self.status.source:
            return
        self._keys.rest()
        self._sticks.rest()
        if self.status.live:
            self._hold(f"the source was changed to {source.title}")
        self._set(source=name)
        self._note(f"now driving: {source.title}")

    def _rest_on_keys(self) -> None:
        """Fall back to a source that is always there and at rest."""
        self._keys.rest()
        self._set(source="keys")

    def _lacks(self, source: Source) -> tuple[str, ...]:
        there = source.channels()
        needed = self._line.inputs[: len(self._line.functions)]
        return tuple(channel for kind, channel in needed if channel not in there and kind in ("chosen", source.kind))

    def _list_sources(self) -> None:
        self._set(sources=tuple(SourceInfo(s.name, s.kind, s.title, self._lacks(s)) for s in self._sources.values()))

    # --- probes ---

    def _resting(self) -> Floats:
        """What all motor drivers are told to rest."""
        return encode(self._line.outputs, np.zeros(len(self._line.outputs.smallest)))

    def _begin_probe(self, number: int, moves: tuple[Move, ...]) -> None:
        """Hold the line, and send to single motors what a probe says."""
        self._keys.rest()
        self._sticks.rest()
        if any(move.port >= len(self._line.outputs.smallest) for move in moves):
            self._note("the rig has changed; this probe means another motor now")
            return
        self._runner, self._eyes = Runner(moves, self._line.dt_s), ""
        self._set(probing=number, held="only the shakedown moves it", live=False)

    def _probe(self, runner: Runner, sensed: Floats, row: Floats) -> None:
        """Put what the probe sends into the Tick, in the outputs' place."""
        told = runner.step(sensed)
        if told is None:
            self._runner = None
            self._set(probing=0, probed=Probed(self.status.probing, tuple(runner.runs), self._eyes))
            return
        if not runner.runs:
            self._eyes = self._robot.seen() or self._eyes
        drive = np.zeros(len(self._line.outputs.smallest))
        drive[told[0]] = told[1]
        self._line.told(row)[:] = encode(self._line.outputs, drive)

    def _handle_robot(self, what: str) -> None:
        if what in ("lift", "lower"):
            self._robot.lift(what == "lift")
        elif what == "turn over":
            self._robot.turn_over()
        elif what == "point ahead":
            self._robot.point_ahead()
        self._set(lifted=self._robot.state.lifted, over=self._robot.state.over)

    # --- moving and stopping ---

    def _hold(self, reason: str) -> None:
        if self._runner is not None:
            self._runner = None
            self._set(probing=0, held="")
        self._keys.rest()
        self._sticks.rest()
        if not self.status.held or self.status.live:
            self._set(held=reason, live=False)

    def _neutral_problem(self) -> str:
        """Say what is not at rest, from the newest Tick; empty if all is."""
        if self._row is None:
            return "no reading has come yet"
        layout = self._line.layout
        for function in self._line.functions:
            value = self._row[layout.at("band", function)]
            if value != 0:
                return f"let go first: {function} reads {value:+.2f}"
        return ""

    def _go_on(self) -> None:
        if not self.status.held:
            return
        recorded = self._sources[self.status.source].kind == "recording"
        problem = "" if recorded else self._neutral_problem()
        if problem:
            self._note(problem)
        else:
            self._set(held="")

    def _go_live(self) -> None:
        problem = self._neutral_problem()
        if self.status.live:
            return
        if self._sources[self.status.source].kind == "recording":
            problem = "a recording cannot drive live; choose another source first"
        if problem:
            self._note(f"not live: {problem}")
        else:
            self._set(live=True, held="")

    def _put_back(self) -> None:
        self._robot.put_back()
        self._set(runs=self.status.runs + 1, lifted=False, over=False)

    def _use(self, rig: Rig, serial: int) -> None:
        """Go on with a changed rig: the robot stays where it is, the level and what fits of the rates too."""
        if self._runner is not None:
            self._hold("the rig was changed in the middle of a probe")
        line = Line(rig)
        before = self._state
        self._robot = StandInRobot(rig, self._setup.field, self._robot.state, self._wiring)
        state = line.start()
        moved_on: LineState = state._replace(
            tick=before.tick,
            level=np.minimum(before.level, len(line.levels) - 1.0),
            rate=before.rate if line.functions == self._line.functions else state.rate,
        )
        other_rate = line.dt_s != self._line.dt_s
        self._line, self._state, self._row = line, moved_on, None
        self._neutral = self._resting()
        if other_rate:
            self._reopen_recordings()
        self._set(serial=serial)
        self._list_sources()
        lacks = self._lacks(self._sources[self.status.source])
        if lacks:
            self._hold(f"{self.status.source} has no {', '.join(lacks)}, which the law {rig.law.kind} reads")
            self._rest_on_keys()

    def _reopen_recordings(self) -> None:
        for name in [n for n, s in self._sources.items() if s.kind == "recording"]:
            del self._sources[name]
        for path in self._setup.recordings:
            self._add_recording(path)
        if self.status.source not in self._sources:
            self._rest_on_keys()

    def _note(self, text: str) -> None:
        self._set(note=text, notes=self.status.notes + 1)

    def _set(self, **changes: object) -> None:
        self.status = replace(self.status, **changes)  # type: ignore[arg-type]
