"""One session, without its process: sources in, one line, one robot, and every way to stop."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.keys import Keyboard
from pivrex.devices.link import RobotLink
from pivrex.devices.recorded import RecordedDriver
from pivrex.devices.robot import StandInRobot
from pivrex.devices.source import Source
from pivrex.devices.sticks import DrawnSticks
from pivrex.diagnosis.moves import Move, Runner
from pivrex.errors import RecordingError
from pivrex.formats.recording import Recording
from pivrex.line import Entry, Line
from pivrex.line.questions.neutral import not_at_rest
from pivrex.rig import Rig
from pivrex.rig.sources import SHOWN, GamepadSource
from pivrex.session.inputs import SessionInputs
from pivrex.session.messages import (
    AttachPads,
    ChooseSource,
    EndMove,
    GoLive,
    GoOn,
    KeyDown,
    KeyUp,
    LetGo,
    MeasureAnew,
    MoveStandIn,
    MoveSticks,
    Probe,
    Probed,
    PutBack,
    Record,
    Request,
    SetKeysMode,
    SetUp,
    Status,
    StepLevel,
    Stop,
    UseRig,
    UseRobot,
    WatchSources,
)
from pivrex.session.recorder import Recorder
from pivrex.session.report import Report, Watch, link_report
from pivrex.sim.wiring import faulty

__all__ = ["Session"]

Floats = NDArray[np.float64]

log = logging.getLogger(__name__)

REPORT_EVERY = 4
"""A report to the view Driver for every so many ticks."""

ALONE_S = 0.1
"""For so long after it was told to drive a robot may still say that it rests: the answer is on its way."""


class Session:
    """Sources, a line and a robot, ticked from outside.

    Every stop that a person must end goes through `_hold`, which also ends *live*. A source that is lost stops the robot
    until it is back and let go; see `Guard`. While stopped the robot is told to rest at every tick.
    """

    def __init__(self, setup: SetUp) -> None:
        self._setup = setup
        self._line = Line(setup.rig)
        self._wiring = faulty(setup.rig, setup.fault, setup.seed) if setup.fault else None
        self._stand_in = StandInRobot(setup.rig, setup.field, wiring=self._wiring)
        self._link: RobotLink | None = None
        self._runner: Runner | None = None
        self._eyes = ""
        self._state = self._line.start()
        self._neutral = self._line.resting()
        self._keys, self._sticks = Keyboard(), DrawnSticks()
        self.inputs = SessionInputs(self._keys, self._sticks)
        """Every source."""
        self._recorder: Recorder | None = None
        self._watching = False
        self._watches: dict[str, Watch] = {}
        self.report: Report | None = None
        self._ticks = 0
        self._raw: Floats | None = None
        self._row: Floats | None = None
        self._fault = ""
        self._complaint = ""
        self._shut_down = False
        self._pads_wanted = setup.listen_for_pads
        self.status = Status(robot=self._stand_in.title)
        for path in setup.recordings:
            self._add_recording(path)
        self.inputs.open_remotes(setup.rig)
        self._set(source="keys")
        if setup.source in self.inputs.sources:
            self._choose(setup.source)
        if setup.link is not None:
            self._use_robot(True)
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
    def pad_names(self) -> dict[str, str]:
        """The names that the rig gives to gamepads, by identity."""
        return {s.device: name for name, s in self._line.rig.sources.items() if isinstance(s, GamepadSource)}

    @property
    def commands_a_robot(self) -> bool:
        """Whether a robot behind a link moves now."""
        return self._link is not None and self._link.drives

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
            case MoveStandIn(what):
                self._handle_robot(what)
            case Record():
                self._toggle_recording(now_s)
            case WatchSources(on):
                self._watching = on
                self._watches.clear()
            case MeasureAnew(name):
                self._watches.pop(name, None)
            case UseRobot(on_link):
                self._use_robot(on_link)

    def pads_are(self, pads: Mapping[str, Source]) -> None:
        """Take the gamepads that are there now. One that was in use and is gone stays listed as lost until it is back."""
        notes = self.inputs.pads_are(pads, self._line, self.status.source)
        for note in notes:
            self._note(note)
        if notes:
            self._list_sources()

    def tick(self, now_s: float) -> Floats:
        """Make one tick: sense, read, run the line, tell the robot. Gives the Tick's row."""
        for remote in self.inputs.remotes.values():
            remote.poll(now_s)
        robot = self._link or self._stand_in
        if self._link is not None:
            self._link.poll(now_s)
            self._watch_link(self._link, now_s)
        source = self.inputs.sources[self.status.source]
        if isinstance(source, RecordedDriver) and not self.status.held:
            self._advance(source)
        if self.inputs.listen(self._line, self.status.source, now_s):
            self._list_sources()
        if self.inputs.lost != self.status.lost:
            self._set(lost=self.inputs.lost)
        if source.kind == "recording" and not self.status.live and (pressed := self.inputs.pressed(self._line)):
            self._choose(pressed)
        raw = self._raw = self.inputs.gather(self._line, self.status.source, self._shown)
        sensed = robot.sense()
        stop = bool(self.status.held or self.status.lost)
        driving, truth = self._line.source_number(self._driving()), robot.truth()
        entry = self._probe(self._runner, np.concatenate((sensed, truth))) if self._runner is not None else None
        self._state, row = self._line.step(self._state, raw, sensed, float(stop), driving, truth, entry)
        told = self._line.told(row)
        if not np.isfinite(row[self._line.layout.stage("outputs")]).all():
            self._hold("the line gave a number that is not finite")
            told = self._neutral
        if self._link is not None:
            self._link.drives = self.status.live and (self._runner is not None or not stop)
        robot.command(told, self._line.dt_s)
        self._row = row
        self._obey(row, now_s)
        if self._recorder is not None:
            self._record(now_s)
        self._ticks += 1
        if self._watching:
            self._look(now_s)
        return row

    def _driving(self) -> str:
        """Give the source whose calibration counts."""
        source = self.inputs.sources[self.status.source]
        if isinstance(source, RecordedDriver):
            return source.driven_by(self._line)
        return source.name

    def fail(self, problem: BaseException) -> None:
        """Stop after an exception in a tick: the robot is told to rest by the shortest path."""
        self.rest()
        reason = f"something went wrong inside ({type(problem).__name__}: {problem}); the log has more"
        if reason != self._fault:  # one that comes back at every tick fills no log
            log.error("a tick failed", exc_info=problem)
        self._fault = reason
        self._hold(reason)
        self._state = self._line.start()

    def rest(self) -> None:
        """Tell the robot to rest; the first and the last thing that it is told."""
        if self._link is not None:
            self._link.drives = False
        (self._link or self._stand_in).command(self._neutral, self._line.dt_s)

    def close(self, now_s: float) -> None:
        """Let go of everything; the robot is told to rest."""
        self.rest()
        if self._recorder is not None:
            self._end_recording(now_s)
        if self._link is not None:
            self._link.close()
        for remote in self.inputs.remotes.values():
            remote.close()

    # --- sources ---

    def _add_recording(self, path: Path) -> None:
        try:
            recording = Recording(path)
            driver = RecordedDriver(recording, self._line.dt_s)
        except RecordingError as problem:
            self._note(str(problem))
            return
        self.inputs.sources[driver.name] = driver

    def _advance(self, driver: RecordedDriver) -> None:
        if driver.ended:
            driver.rewind()
            self._state = self._line.start()
            self._put_back()
        driver.advance()
        if driver.lost:
            self._hold(driver.lost)
            self._rest_on_keys()

    def _shown(self, what: str) -> float:
        """What lamps may show; see `pivrex.rig.sources.SHOWN`."""
        status = self.status
        states = (
            not status.held and not status.lost,
            self._link is None or status.linked == "heard",
            bool(status.recording),
        )
        return float(states[SHOWN.index(what)])

    def _take_over(self, source: Source) -> None:
        """Driving by hand on the screen takes over at once; while live the source is chosen deliberately."""
        if self.status.source != source.name:
            if self.status.live:
                self._hold(f"{source.name} moved while {self.status.source} was driving live")
            else:
                self._choose(source.name)

    def _choose(self, name: str) -> None:
        source = self.inputs.sources.get(name)
        if source is None:
            self._note(f"there is no source {name} any more")
            return
        lacks = self.inputs.lacks(source, self._line)
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

    def _list_sources(self) -> None:
        self._set(sources=self.inputs.infos(self._line))

    # --- the robot behind a link ---

    def _use_robot(self, on_link: bool) -> None:
        """Command the robot behind the rig's link, or the stand-in."""
        where = self._setup.link or self._line.rig.link
        if on_link and where is None:
            self._note("this rig has no link; add a table [link] to it, or start with --link")
            return
        if on_link == (self._link is not None):
            return
        if self._link is not None:
            self._link.close()
        self._link = None
        if self.status.live:
            self._hold("another robot is commanded")
        if on_link and where is not None:
            self._link = RobotLink(self._line, where)
        self._shut_down = False
        self._set(robot=(self._link or self._stand_in).title, linked="no robot answers" if self._link else "off")

    def _watch_link(self, link: RobotLink, now_s: float) -> None:
        problem = link.problem(now_s)
        if (problem or "heard") != self.status.linked:
            self._set(linked=problem or "heard")
        if link.fault != self._complaint:
            self._complaint = link.fault
            self._note(f"the robot complains: {link.fault}")
        if problem and (self.status.live or self._runner is not None):
            self._hold(problem)
        elif link.state == 2 and link.drives and link.alone_for(now_s) > ALONE_S:
            self._hold("the robot was left alone for a moment and rests")

    def _obey(self, row: Floats, now_s: float) -> None:
        """Do what buttons ask of the session."""
        layout = self._line.layout

        def says(name: str) -> bool:
            return layout.has("bindings", name) and bool(row[layout.at("bindings", name)])

        if says("stop"):
            self._hold("a button said stop")
        if says("record"):
            self._toggle_recording(now_s)
        if says("shut_down"):
            self._hold("shut down by a button")
            if self._link is not None:
                self._link.close()
                self._shut_down = True

    # --- recording ---

    def _toggle_recording(self, now_s: float) -> None:
        if self._recorder is not None:
            self._end_recording(now_s)
            return
        if self._setup.inputs is None:
            self._note("there is no workspace to record into")
            return
        source = self.inputs.sources[self.status.source]
        if source.kind == "recording":
            self._note("a recording drives already; choose another source, or take over with w")
            return
        try:
            self._recorder = Recorder(self._setup.inputs, source, self._line, now_s)
        except OSError as problem:
            self._note(f"cannot record: {(problem.strerror or str(problem)).lower()}")
            return
        self._set(recording=self._recorder.path.name)
        self._note(f"recording {source.name} into inputs/{self._recorder.path.name}")

    def _record(self, now_s: float) -> None:
        assert self._recorder is not None
        if self.status.source != self._recorder.source:
            self._end_recording(now_s)
            return
        try:
            self._recorder.add(self.inputs.readings, self.inputs.sources, now_s)
        except OSError as problem:
            self._note(f"recording ended: {(problem.strerror or str(problem)).lower()}")
            self._recorder = None
            self._set(recording="")

    def _end_recording(self, now_s: float) -> None:
        recorder, self._recorder = self._recorder, None
        if recorder is None:
            return
        self._set(recording="")
        try:
            recorder.close(now_s)
        except OSError as problem:
            self._note(f"the recording may lack its end: {(problem.strerror or str(problem)).lower()}")
        self._add_recording(recorder.path)
        self._list_sources()
        self._note(f"recorded inputs/{recorder.path.name}; it can be chosen as a source")

    # --- reports ---

    def _look(self, now_s: float) -> None:
        """Follow every source for the view Driver, and report now and then."""
        for name, source in self.inputs.sources.items():
            if source.kind != "recording" or name == self.status.source:
                readings = source.read(now_s) if not source.lost else {}
                self._watches.setdefault(name, Watch(source)).add(readings)
        if self._ticks % REPORT_EVERY == 0:
            reports = [
                self._watches[n].report(source, self._line.rig, self.inputs.guards.get(n), now_s)
                for n, source in self.inputs.sources.items()
                if n in self._watches and (source.kind != "recording" or n == self.status.source)
            ]
            link = link_report(self._link, now_s) if self._link is not None else None
            self.report = Report(now_s, tuple(reports), link)

    # --- probes ---

    def _begin_probe(self, number: int, moves: tuple[Move, ...]) -> None:
        """Hold the line, and send to single motors what a probe says."""
        self._keys.rest()
        self._sticks.rest()
        if self._link is not None and not self.status.live:
            self._note("this would move a real robot: go live first, with Ctrl+L")
            return
        if any(move.port >= len(self._line.outputs.motors) for move in moves):
            self._note("the rig has changed; this probe means another motor now")
            return
        self._runner, self._eyes = Runner(moves, self._line.dt_s), ""
        self._set(probing=number, held="only the shakedown moves it", live=self._link is not None)

    def _probe(self, runner: Runner, seen: Floats) -> Entry | None:
        """Give what the probe asks for in this tick; None once it is over."""
        told = runner.step(seen)
        if told is None:
            self._runner = None
            self._set(probing=0, probed=Probed(self.status.probing, tuple(runner.runs), self._eyes))
            return None
        if not runner.runs:
            self._eyes = ("" if self._link is not None else self._stand_in.seen()) or self._eyes
        return Entry(probe=np.array([told[0] + 1.0, told[1]]))

    def _handle_robot(self, what: str) -> None:
        if self._link is not None:
            return  # a real robot is handled by hand
        if what in ("lift", "lower"):
            self._stand_in.lift(what == "lift")
        elif what == "turn over":
            self._stand_in.turn_over()
        elif what == "point ahead":
            self._stand_in.point_ahead()
        self._set(lifted=self._stand_in.state.lifted, upside_down=self._stand_in.state.upside_down)

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
        """Say what is not at rest in the newest readings; empty if all is."""
        if self._raw is None:
            return "no reading has come yet"
        return self.status.lost or not_at_rest(self._line, self._raw, self._driving())

    def _open_again(self) -> bool:
        """After a shut-down, open the link again; tells whether that was needed."""
        if not self._shut_down:
            return False
        self._link = None
        self._use_robot(True)
        self._note("the link is opened again; once the robot answers, press the key again")
        return True

    def _go_on(self) -> None:
        if not self.status.held or self._open_again():
            return
        recorded = self.inputs.sources[self.status.source].kind == "recording"
        problem = "" if recorded else self._neutral_problem()
        if problem:
            self._note(problem)
        else:
            self._set(held="")

    def _go_live(self) -> None:
        if self.status.live or self._open_again():
            return
        problem = self._neutral_problem()
        if self._link is not None and self.status.linked != "heard":
            problem = self.status.linked
        if self.inputs.sources[self.status.source].kind == "recording":
            problem = "a recording cannot drive live; choose another source first"
        if problem:
            self._note(f"not live: {problem}")
        else:
            self._set(live=True, held="")

    def _put_back(self) -> None:
        if self._link is not None:
            self._note("a real robot is put back by hand")
        self._stand_in.put_back()
        self._set(runs=self.status.runs + 1, lifted=False, upside_down=False)

    def _use(self, rig: Rig, serial: int) -> None:
        """Go on with a changed rig: the robot stays where it is, and every stage keeps of its state what still fits."""
        if self._runner is not None:
            self._hold("the rig was changed in the middle of a probe")
        line = Line(rig)
        self._stand_in = StandInRobot(rig, self._setup.field, self._stand_in.state, self._wiring)
        state = line.keep(self._line, self._state)
        other_rate = line.dt_s != self._line.dt_s
        self._line, self._state, self._row, self._raw = line, state, None, None
        self._neutral = line.resting()
        self.inputs.open_remotes(rig)
        if self._link is not None and not self._link.fits(line, self._setup.link or rig.link):
            if self.status.live:
                self._hold("the rig's link is another now")
            self._use_robot(False)
            self._use_robot((self._setup.link or rig.link) is not None)
        if self.status.source not in self.inputs.sources:
            self._rest_on_keys()
        if other_rate:
            self._reopen_recordings()
        self._set(serial=serial)
        self._list_sources()
        lacks = self.inputs.lacks(self.inputs.sources[self.status.source], self._line)
        if lacks:
            self._hold(f"{self.status.source} has no {', '.join(lacks)}, which the law {rig.law.kind} reads")
            self._rest_on_keys()

    def _reopen_recordings(self) -> None:
        for name in [n for n, s in self.inputs.sources.items() if s.kind == "recording"]:
            del self.inputs.sources[name]
        for path in self._setup.recordings:
            self._add_recording(path)
        if self.status.source not in self.inputs.sources:
            self._rest_on_keys()

    def _note(self, text: str) -> None:
        self._set(note=text, notes=self.status.notes + 1)

    def _set(self, **changes: object) -> None:
        self.status = replace(self.status, **changes)  # type: ignore[arg-type]
