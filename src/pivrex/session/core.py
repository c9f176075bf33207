"""One session, without its process: a tick goes from the sources through the line to the robot, and every way to stop."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from functools import partial

import numpy as np

from pivrex.devices.recorded import RecordedDriver
from pivrex.devices.source import Source
from pivrex.line import Entry, Line, LineState
from pivrex.line.balance import STANDS
from pivrex.line.beginning import begun, known_at, set_up, start_of, taken_in_hand
from pivrex.line.layout import Floats
from pivrex.session import messages as ask
from pivrex.session.board import Board
from pivrex.session.building import AtOnce, Builder, Built, Wired, build
from pivrex.session.correcting import Correcting
from pivrex.session.inputs import SessionInputs
from pivrex.session.moving import Event
from pivrex.session.obeying import obey
from pivrex.session.own_moves import OwnMoves
from pivrex.session.probing import HELD, Probing
from pivrex.session.recording import Recordings
from pivrex.session.report import Report
from pivrex.session.request_handlers import AS_STICK, HANDLERS, OF_THE_RIG, ORDERED, WATCHES, WHILE_WATCHING
from pivrex.session.robots import Robots
from pivrex.session.rounds import Rounds
from pivrex.session.status import Status
from pivrex.session.watching import Watching

__all__ = ["Session"]

log = logging.getLogger(__name__)

READING_SHARE = 0.15
"""Of a tick's time, for what remotes send; the robot on a link has as much."""


class Session:
    """Sources, a line and a robot, ticked from outside. Only `pivrex.session.moving` says what may move; while nothing may, the robot is
    commanded to rest in every tick.

    Attributes
    ----------
    board, inputs, robots : Board, SessionInputs, Robots
    """

    def __init__(self, setup: ask.SetUp, builder: Builder | None = None) -> None:
        self._setup, self._rig_requested, self._task = setup, setup.rig, setup.task
        self._builder: Builder = builder or AtOnce()
        self.board = Board(Status())
        self._wired = Wired(setup.rig, setup.rig_name, setup.fault, setup.seed)
        built = build(setup.rig, setup.field, self._wired.wiring, 0, setup.seed, setup.task)
        self._line = built.line
        self._state = begun(self._line, start_of(setup.field))
        self.inputs = SessionInputs(self.board, self._line, setup.recordings, setup.memory)
        self.robots = Robots(self.board, built, setup.link)
        self._rounds = Rounds(self.board, self.inputs, self.robots, setup.field, setup.periods, setup.seed)
        self._match = self._rounds.match
        self._probing = Probing(self.board)
        self._correcting, self.moves = Correcting(self.board), OwnMoves(self.board)
        self._row: Floats | None = None
        """The last Tick of the line in use."""
        self._recordings = Recordings(self.board, self.inputs, setup.inputs)
        self._watching = Watching()
        self._request_serial = 0
        """Of the rig that was asked for last."""
        self._waiting: list[ask.Request] = []
        """What means the rig that is being built."""
        self._fault = ""
        self.stood = STANDS
        """What a robot that balances did in the last tick; see `pivrex.line.balance`."""
        self._pads_wanted = setup.listen_for_pads
        if setup.source in self.inputs.sources:
            self.inputs.choose(setup.source)
        if setup.link is not None:
            self.robots.change(True)
        self.inputs.tell()

    @property
    def status(self) -> Status:
        """The status for the screen."""
        return self.board.status

    @property
    def report(self) -> Report | None:
        """The newest report of the sources."""
        return self._watching.report

    @property
    def line(self) -> Line:
        """The line in use."""
        return self._line

    @property
    def dt_s(self) -> float:
        """The time of one tick."""
        return self._line.dt_s

    @property
    def _t(self) -> float:
        """The clock of the newest Tick, in s."""
        return 0.0 if self._row is None else float(self._row[self._line.layout.at("clock", "t")])

    @property
    def by_hand(self) -> bool:
        """Whether keys or sticks on the screen drive, and no routine does."""
        return self.inputs.driver in (self.inputs.keys, self.inputs.sticks) and not self._match.alone

    @property
    def wants_pads(self) -> bool:
        """Whether simulated gamepads were requested."""
        return self._pads_wanted

    def tell_pad_port(self, port: int) -> None:
        """Take the port where simulated gamepads may connect."""
        self.board.set(pad_port=port)
        self.board.note(f"simulated gamepads may connect: pivrex remote --pad --port {port}")

    def pads_are(self, pads: Mapping[str, Source]) -> None:
        """Take the gamepads that are there now."""
        self.inputs.pads_are(pads)

    # --- a tick ---

    def tick(self, now_s: float) -> Floats:
        """Make one tick: sense, read, run the line, tell the robot. Returns the Tick's row."""
        self._take_rig(now_s)
        self._poll(now_s)
        for order in self._rounds.ordered(now_s, READING_SHARE * self.dt_s):
            self.handle(ORDERED[order], now_s)
        self._listen(now_s)
        line, robot, moving = self._line, self.robots.commanded, self.status.moving
        raw = self.inputs.gather(self.robots.shown, now_s)
        sensed, truth = robot.sense(), robot.truth()
        stop = not moving.line_drives
        match = self._match
        driving = line.source_number(self.inputs.driver_name)
        if match.alone and stop:
            match.end(self.status.held or self.status.lost)
        if match.alone:  # sticks do not count; buttons keep their actions
            raw[: len(line.functions)], driving = line.rest()[: len(line.functions)], 0.0
        entry = self._probe(np.concatenate((sensed, truth))) or match.entry(line, self._row)
        entry = entry or self._correcting.entry(line, self._row, not stop)
        stop = stop or match.rests
        entry = entry or self.moves.entry(line, self._row, not stop)
        self._state = self.moves.before(match.before(self._state))
        if self.status.lifted:
            self._state = taken_in_hand(line, self._state)
        self._state, row = line.step(self._state, raw, sensed, float(stop), driving, truth, entry)
        self._row = row
        commands = self._finite(row)
        self.robots.command(commands, drives=self.status.moving.robot_drives and not match.rests)
        obey(self, row, now_s)
        self._rounds.count(line, self._t)
        self._recordings.add(now_s)
        self._watching.follow(self.inputs, self.robots.link, line.rig, now_s)
        return row

    def _take_rig(self, now_s: float) -> None:
        """Continue with a changed rig once it is built, and carry out the requests that waited for it."""
        built = self._builder.take()
        if built is None:
            return
        self._use(built)
        if built.serial == self._request_serial:
            waiting, self._waiting = self._waiting, []
            for request in waiting:
                self.handle(request, now_s)

    def _poll(self, now_s: float) -> None:
        """Take what has come from remotes and from the robot on a link."""
        budget_s = READING_SHARE * self.dt_s
        said = self.inputs.poll(now_s, budget_s)
        problem = self.robots.poll(now_s, self.status.live, budget_s)
        if said or problem:
            self.stop(problem or said)

    def _listen(self, now_s: float) -> None:
        """Read the sources; who plays goes on by a tick, who is lost stops the robot, who presses a button takes over."""
        inputs = self.inputs
        if isinstance(inputs.driver, RecordedDriver) and not self.status.held:
            self._play(inputs.driver)
        inputs.listen(now_s)
        if inputs.lost != self.status.lost:
            self._move(Event.LOSE if inputs.lost else Event.FIND, inputs.lost)
        if inputs.driver.can.plays and (pressed := inputs.pressed()):
            self.stop_if_live(inputs.choose(pressed))

    def _play(self, driver: RecordedDriver) -> None:
        if driver.ended:
            driver.rewind()
            self.robots.put_back()
            self._state = self._correcting.held_again(self._line, begun(self._line, start_of(self._rounds.field)))
        driver.advance()
        lost = self.inputs.driver.lost
        if lost:
            self.stop(lost)
            self.inputs.rest_on_keys()

    def _begin_again(self, stands_at: Floats | None) -> None:
        """Let the line begin at its first tick, as a match does, at the robot's estimated pose; not at all for None."""
        if stands_at is not None:
            self._correcting.end("ended: a match gets ready")
            self.moves.end("ended: a match gets ready")
            self._state, self._row = begun(self._line, stands_at), None

    def _put_back(self) -> None:
        """Put the simulated robot back at its start, where the belief is then too."""
        self.robots.put_back()
        self._walk(set_up(self._line, known_at(self._line, self._state, start_of(self._rounds.field))))

    def _probe(self, seen: Floats) -> Entry | None:
        """Return what a probe asks for in this tick, if one goes on."""
        if not self._probing.goes_on:
            return None
        entry = self._probing.entry(seen, "" if self.robots.link is not None else self.robots.simulator.seen())
        if entry is None:
            self._move(Event.PROBED)
        return entry

    def _finite(self, row: Floats) -> Floats:
        """Take the robot's commands out of a Tick; a number that is not finite stops it."""
        if np.isfinite(row[self._line.layout.stage("outputs")]).all():
            return self._line.commands(row)
        self.stop("the line gave a number that is not finite")
        return self.robots.neutral

    # --- what may move ---

    def stop(self, reason: str) -> None:
        """Stop whatever moves, until the person goes on."""
        watched = self.robots.watched
        if watched is not None and watched.drives:
            watched.ask("stop", reason)
        self._probing.stop()
        self._correcting.end()
        self.moves.end()
        self._match.end(reason)
        self.inputs.rest_all()
        self._move(Event.STOP, reason)

    def stop_if_live(self, reason: str) -> None:
        """Stop what has gone live for another reason than the one that is now; nothing for an empty reason."""
        if reason and self.status.live:
            self.stop(reason)

    def _move(self, event: Event, reason: str = "") -> bool:
        """Let something happen; returns whether it counts, and says why if it does not."""
        moving = self.status.moving
        refusal = moving.refusal(event)
        if refusal:
            self.board.note(refusal)
            return False
        after = moving.after(event, reason)
        if after != moving:
            self.board.set(moving=after)
        return True

    def fail(self, problem: BaseException) -> None:
        """Stop after an exception in a tick: the robot is commanded to rest by the shortest path."""
        self.rest()
        reason = f"something went wrong inside ({type(problem).__name__}: {problem}); the log has more"
        if reason != self._fault:  # one that comes back at every tick fills no log
            log.error("a tick failed", exc_info=problem)
        self._fault = reason
        self._request_serial, self._waiting = self.status.serial, []
        self.stop(reason)
        self._state = begun(self._line, start_of(self._rounds.field))

    def rest(self) -> None:
        """Command the robot to rest: its first and its last command."""
        self.robots.rest()

    def close(self, now_s: float) -> None:
        """Let go of everything; the robot is commanded to rest."""
        self.rest()
        self._recordings.close(now_s)
        self._rounds.close()
        self.robots.close()
        self.inputs.close()

    # --- requests of the screen ---

    def handle(self, request: ask.Request, now_s: float) -> None:
        """Do what the screen asks; what means a rig that is still being built waits for it."""
        if isinstance(request, OF_THE_RIG) and self._request_serial != self.status.serial:
            self._waiting.append(request)
            return
        answer = HANDLERS.get(type(request))
        watched = self.robots.watched
        if watched is not None and type(request) not in (AS_STICK if watched.drives else WHILE_WATCHING):
            self.board.note(WATCHES)
        elif answer is not None:
            answer(self, request, now_s)

    def _go_on(self) -> None:
        if not self.status.held or self.robots.open_again():
            return
        problem = "" if self.inputs.driver.can.plays else self.inputs.not_at_rest()
        if problem:
            self.board.note(problem)
        else:
            self._move(Event.GO_ON)

    def _go_live(self) -> None:
        if (self.status.live and not self.status.held) or self.robots.open_again():
            return
        problem = self.robots.too_late() or self.robots.not_heard() or self.inputs.not_at_rest()
        if not self.inputs.driver.can.live:
            problem = f"{self.inputs.driver.title} cannot drive live; choose another source first"
        if problem:
            self.board.note(f"not live: {problem}")
        else:
            self._move(Event.GO_LIVE)

    def _take_over(self, source: Source) -> None:
        """Driving by hand on the screen takes over at once; while live the source is chosen deliberately."""
        driver = self.inputs.driver
        if driver is source:
            return
        if self.status.live:
            self.stop(f"{source.name} moved while {driver.name} was driving live")
        else:
            self.inputs.choose(source.name)

    def _press(self, request: ask.KeyDown, now_s: float) -> None:
        if not request.key.startswith("button_"):  # these act in addition to whatever drives
            self._take_over(self.inputs.keys)
        self.inputs.keys.press(request.key, now_s)

    def _move_sticks(self, request: ask.MoveSticks) -> None:
        if any(request.readings.values()):
            self._take_over(self.inputs.sticks)
        self.inputs.sticks.move(request.readings)

    def _begin_move(self, request: ask.BeginMotion) -> None:
        """Let the line make a move alone; who plays a recording makes room for it."""
        if not self.status.moving.line_drives:
            self.board.note("not while the robot is stopped: g lets it move again")
            return
        self.moves.end(f"ended, {request.title} begins")
        if self.inputs.driver.can.plays:
            self.inputs.choose(self.inputs.keys.name)
        self._correcting.begin(self._line, request.motion, request.title)

    def _walk(self, state: LineState) -> None:
        self._state = state

    def _begin_probe(self, request: ask.Probe) -> None:
        """Hold the line, and send to single motors what a probe says."""
        self.inputs.rest_hands()
        event = Event.PROBE if self.robots.link is None else Event.PROBE_ROBOT
        refusal = self.status.moving.refusal(event) or self.robots.not_in_hand()
        refusal = refusal or self._probing.begin(request.number, request.moves, self._line)
        if refusal:
            self.board.note(refusal)
        else:
            self._move(event, HELD)

    def _ask_for_rig(self, request: ask.UseRig) -> None:
        if self._probing.goes_on:
            self.stop("the rig was changed in the middle of a probe")
        self._request_serial, self._rig_requested, self._task = request.serial, request.rig, request.task
        self._wired.open(request.name)
        self._build()

    def _build(self) -> None:
        wiring, serial, seed = self._wired.wiring, self._request_serial, self._setup.seed
        self._builder.ask(partial(build, self._rig_requested, self._rounds.field, wiring, serial, seed, self._task))

    def _lay_out(self, request: ask.LayOut) -> None:
        if self._probing.goes_on:
            self.stop("the floor was changed during a probe")
        self._rounds.field = request.field
        self._build()

    def _use(self, built: Built) -> None:
        """Continue with a changed rig: the robot stays where it is, and every stage keeps the part of its state that still fits."""
        if self._probing.goes_on:
            self.stop("the rig was changed in the middle of a probe")
        line = built.line
        self._state = line.keep(self._line, self._state)
        if line.layout.titles != self._line.layout.titles:
            self._row = None
        self._line = line
        self._match.end("the rig was changed while it ran")
        self.stop_if_live(self.robots.use(built))
        reason = self.inputs.use(line)
        self.board.set(serial=built.serial)
        if reason:
            self.stop(reason)

    def _want_pads(self) -> None:
        self._pads_wanted = True
