"""What may move: every pair of a state and an event, against a table written by hand from what a person is promised."""

from __future__ import annotations

import threading
import unittest
from itertools import product
from pathlib import Path
from typing import Any, get_args
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from pivrex.diagnosis.moves import MotorMove
from pivrex.line import Line
from pivrex.rig import Rig, read_text
from pivrex.session.board import Board
from pivrex.session.building import Background, Built, build
from pivrex.session.core import Session
from pivrex.session.messages import (
    ChooseSource,
    GoLive,
    GoOn,
    KeepRun,
    KeyDown,
    Leave,
    MoveSimulated,
    Probe,
    PutBack,
    Record,
    Request,
    SetUp,
    Stop,
    UseRig,
    UseRobot,
    WatchSources,
)
from pivrex.session.moving import EFFECTS, Event, Moving, Refused, State
from pivrex.session.probing import Probing
from pivrex.session.request_handlers import HANDLERS
from pivrex.session.status import Status
from tests.support import PLAIN, ROOT, WATERING, TempCase, plain_rig, wait_for
from tests.test_lost_sources import free_port
from tests.test_session import FakePad

# state             stop      go on      go live    lose       find       probe      probe the robot  probed
PROMISED = """
safe           | stopped | same       | live     | safe, lost | same     | probing | refused       | same
safe, lost     | stopped | same       | refused  | same       | safe     | probing | refused       | same
stopped        | same    | safe       | live     | same       | same     | probing | refused       | same
probing        | stopped | refused    | refused  | same       | same     | same    | refused       | stopped
live           | stopped | same       | same     | live, lost | same     | probing | live, probing | same
live, lost     | stopped | same       | same     | same       | live     | probing | live, probing | same
live, probing  | stopped | refused    | refused  | same       | same     | probing | same          | live, waiting
live, waiting  | stopped | live       | live     | same       | same     | probing | live, probing | same
"""
EVENTS = (
    Event.STOP, Event.GO_ON, Event.GO_LIVE, Event.LOSE, Event.FIND, Event.PROBE, Event.PROBE_ROBOT, Event.PROBED,
)  # fmt: skip


def promised() -> dict[tuple[State, Event], str]:
    found = {}
    for line in PROMISED.strip().splitlines():
        state, *cells = (cell.strip() for cell in line.split("|"))
        for event, cell in zip(EVENTS, cells, strict=True):
            found[State(state), event] = cell
    return found


def begun(state: State) -> Moving:
    """Stand in a state as one comes into it."""
    lost = "the radio is silent" if state in (State.LOST, State.LIVE_LOST) else ""
    held = "why" if state in (State.STOPPED, State.PROBING, State.LIVE_PROBING, State.LIVE_WAITING) else ""
    return Moving(state, held, lost)


class PairTest(unittest.TestCase):
    def test_every_pair_does_what_is_promised(self) -> None:
        table = promised()
        self.assertEqual(set(table), set(product(State, Event)))
        for (state, event), cell in table.items():
            with self.subTest(state=state, event=event):
                before = begun(state)
                after = before.after(event, "new")
                if cell == "refused":
                    self.assertEqual(after, before)
                    self.assertTrue(before.refusal(event))
                else:
                    self.assertEqual(before.refusal(event), "")
                    self.assertEqual(after.state, state if cell == "same" else State(cell))

    def test_the_page_on_the_architecture_shows_this_table(self) -> None:
        page = (ROOT / "docs" / "architecture.md").read_text("utf-8")
        shown = {}
        for line in page.splitlines():
            cells = [c.strip() for c in line.strip("|").split("|")]
            if line.startswith("| **") and len(cells) == 1 + len(EVENTS):
                state = State(cells[0].strip("*"))
                shown.update({(state, event): cell for event, cell in zip(EVENTS, cells[1:], strict=True)})
        self.assertEqual(shown, promised())

    def test_the_first_reason_of_a_stop_stands_and_a_stop_ends_live(self) -> None:
        first = Moving(State.LIVE).after(Event.STOP, "first")
        self.assertEqual((first.held, first.live, first.line_drives), ("first", False, False))
        self.assertEqual(first.after(Event.STOP, "second").held, "first")
        waiting = Moving(State.LIVE).after(Event.PROBE_ROBOT, "a probe").after(Event.PROBED)
        self.assertEqual((waiting.held, waiting.live), ("a probe", True))
        self.assertEqual(waiting.after(Event.STOP, "Esc"), Moving(State.STOPPED, "Esc"))

    def test_what_is_lost_while_stopped_is_still_lost_when_the_person_goes_on(self) -> None:
        stopped = Moving().after(Event.STOP, "Esc").after(Event.LOSE, "the radio is silent")
        self.assertEqual((stopped.state, stopped.held), (State.STOPPED, "Esc"))
        on = stopped.after(Event.GO_ON)
        self.assertEqual((on.state, on.held, on.lost), (State.LOST, "", "the radio is silent"))
        self.assertFalse(on.line_drives)
        self.assertEqual(on.after(Event.FIND), Moving())
        self.assertEqual(stopped.after(Event.GO_LIVE).state, State.LIVE_LOST)

    def test_who_moves_in_which_state(self) -> None:
        line = {s for s in State if begun(s).line_drives}
        robot = {s for s in State if begun(s).robot_drives}
        self.assertEqual(line, {State.SAFE, State.LIVE})
        self.assertEqual(robot, {State.LIVE, State.LIVE_PROBING})
        self.assertEqual({s for s in State if begun(s).probing}, {State.PROBING, State.LIVE_PROBING})

    @given(st.lists(st.sampled_from(Event)))
    def test_whatever_happens(self, events: list[Event]) -> None:
        now, lost = Moving(), False
        for event in events:
            before, now = now, now.after(event, f"because of {event}")
            refused = isinstance(EFFECTS[before.state][event], Refused)
            if not refused:
                lost = event is Event.LOSE or (lost and event is not Event.FIND)
            self.assertEqual(bool(now.lost), lost)
            self.assertFalse(now.line_drives and (now.held or now.lost or now.probing))
            # a robot on a link never begins to move without the person's own word
            if now.robot_drives and not before.robot_drives:
                self.assertTrue(before.live or event is Event.GO_LIVE)
            if now.live and not before.live:
                self.assertIs(event, Event.GO_LIVE)
            if event is Event.STOP:
                self.assertEqual((now.state, now.robot_drives), (State.STOPPED, False))
            self.assertEqual(bool(now.held), not (now.line_drives or now.state in (State.LOST, State.LIVE_LOST)))


class BuilderTest(unittest.TestCase):
    """A rig that is changed is built in the background."""

    def test_ticks_go_on_with_the_rig_before_until_the_new_one_is_there(self) -> None:
        builder, go = Background(), threading.Event()
        session = Session(SetUp(plain_rig(), None), builder)
        self.addCleanup(session.close, 9.0)
        with mock.patch("pivrex.session.core.build", lambda *words: go.wait(20) and build(*words)):
            session.handle(UseRig(plain_rig(('name = "Plain"', 'name = "Other"')), 7), 0.1)
            for i in range(5):
                session.tick(0.2 + i)
            self.assertEqual((session.status.serial, session.line.rig.name), (0, "Plain"))
            go.set()
            wait_for(lambda: session.tick(9.0) is not None and session.status.serial == 7)
        self.assertEqual(session.line.rig.name, "Other")

    def test_what_means_the_new_rig_waits_for_it_and_a_stop_does_not(self) -> None:
        """Another robot is opened with its own recording: that lacks what the law before reads."""
        builder, go = Background(), threading.Event()
        tank = plain_rig(('kind = "arcade"', 'kind = "tank"'))
        session = Session(SetUp(tank, None, (WATERING,)), builder)
        self.addCleanup(session.close, 9.0)
        session.tick(0.0)
        with mock.patch("pivrex.session.core.build", lambda *words: go.wait(20) and build(*words)):
            for request in (UseRig(plain_rig(), 1), PutBack(), ChooseSource("recording watering"), Stop("Esc")):
                session.handle(request, 0.1)
            session.tick(0.2)
            self.assertEqual((session.status.source, session.status.runs, session.status.held), ("keys", 0, "Esc"))
            go.set()
            wait_for(lambda: session.tick(0.3) is not None and session.status.serial == 1)
        self.assertEqual((session.status.source, session.status.runs), ("recording watering", 1))
        self.assertIn("now driving", session.status.note)

    def test_of_what_waits_only_the_newest_counts(self) -> None:
        builder, go, made = Background(), threading.Event(), []

        def work(n: int) -> Built:
            go.wait(20)
            made.append(n)
            return build(plain_rig(), None, None, n)

        builder.ask(lambda: work(1))
        wait_for(lambda: builder._waiting is None)
        for n in (2, 3, 4):
            builder.ask(lambda n=n: work(n))  # type: ignore[misc]
        go.set()
        wait_for(lambda: len(made) == 2)
        found: list[int] = []
        wait_for(lambda: found.extend([b.serial] if (b := builder.take()) else []) or 4 in found)  # type: ignore[func-returns-value]
        self.assertEqual(made, [1, 4])
        self.assertIsNone(builder.take())

    def test_what_goes_wrong_beside_comes_out_in_the_tick_and_stops_the_robot(self) -> None:
        builder = Background()
        session = Session(SetUp(plain_rig(), None), builder)
        self.addCleanup(session.close, 9.0)

        def wrong() -> Built:
            raise ValueError("no such thing")

        builder.ask(wrong)

        def ticks() -> bool:
            try:
                session.tick(0.0)
            except ValueError as problem:
                session.fail(problem)
            return bool(session.status.held)

        with self.assertLogs("pivrex.session.core", "ERROR"):
            wait_for(ticks)
        self.assertIn("no such thing", session.status.held)


class FakeLink:
    """A robot on a link that keeps what it was told."""

    title, fault, state, hash = "robot", "", 1, ""

    def __init__(self, line: Line) -> None:
        self.drives = False
        self.told = line.resting()
        self.drove: list[bool] = []
        self._sensed = np.zeros(len(line.stages["sensed"].columns))

    def poll(self, now_s: float, budget_s: float) -> None: ...

    def problem(self, now_s: float) -> str:
        return ""

    def alone_for(self, now_s: float) -> float:
        return 0.0

    def sense(self) -> np.ndarray:
        return self._sensed

    def truth(self) -> np.ndarray:
        return np.full(4, np.nan)

    def command(self, told: np.ndarray, dt_s: float) -> None:
        self.told = told
        self.drove.append(self.drives)

    def goes_on(self, line: Line, link: object) -> bool:
        return False

    def close(self) -> None: ...


class ToldTest(unittest.TestCase):
    """What the machine says is what a robot on a link is told, tick by tick."""

    def setUp(self) -> None:
        self.session = Session(SetUp(plain_rig(), None))
        self.addCleanup(self.session.close, 9.0)
        self.link = FakeLink(self.session.line)
        self.session.robots.link = self.link  # type: ignore[assignment]
        self.session.tick(0.0)

    def be(self, state: State) -> None:
        self.session.board.set(moving=begun(state))

    def test_it_is_told_to_drive_in_two_states_only(self) -> None:
        self.assertEqual(self.link.drove, [False])
        self.session.inputs.keys.set_mode("held")
        self.session.handle(KeyDown("w"), 0.0)
        for state in State:
            if state in (State.PROBING, State.LIVE_PROBING):
                continue  # a probe needs its moves, see below
            with self.subTest(state=state):
                self.be(state)
                lost = self.session.status.lost
                listen = self.session.inputs.listen

                def still_lost(now_s: float, lost: str = lost, listen: Any = listen) -> None:
                    listen(now_s)
                    self.session.inputs.lost = lost

                with mock.patch.object(self.session.inputs, "listen", still_lost):
                    row = self.session.tick(1.0)
                self.assertEqual(self.session.status.moving, begun(state))
                self.assertEqual(self.link.drove[-1], state is State.LIVE)
                moves = row[self.session.line.layout.at("outputs", "left_fraction")] != 0
                self.assertEqual(bool(moves), state in (State.SAFE, State.LIVE))

    def test_a_probe_drives_it_while_live_and_rests_it_when_it_is_over(self) -> None:
        self.session.handle(Probe(3, (MotorMove(0, 0.5, 0.05),)), 0.0)
        self.session.tick(0.1)
        self.assertFalse(self.link.drove[-1])
        self.assertIn("go live first", self.session.status.note)
        self.be(State.LIVE)
        self.session.handle(Probe(4, (MotorMove(0, 0.5, 0.05),)), 0.0)
        self.session.tick(0.2)
        self.assertEqual((self.link.drove[-1], float(self.link.told[0])), (True, 0.5))
        for i in range(60):
            self.session.tick(0.3 + i)
        self.assertEqual(self.session.status.moving.state, State.LIVE_WAITING)
        self.assertFalse(self.link.drove[-1])
        first = self.link.drove.index(True)
        # in the very tick in which the probe is over no one is told to drive any more
        self.assertEqual(self.link.drove[first:], sorted(self.link.drove[first:], reverse=True))
        self.assertEqual(self.session.status.probed.number if self.session.status.probed else 0, 4)

    def test_an_exception_rests_it_at_once(self) -> None:
        self.be(State.LIVE)
        self.session.tick(0.1)
        self.assertTrue(self.link.drove[-1])
        with self.assertLogs("pivrex.session.core", "ERROR"):
            self.session.fail(ZeroDivisionError("oh"))
        self.assertFalse(self.link.drove[-1])
        np.testing.assert_array_equal(self.link.told, self.session.line.resting())

    def test_one_that_is_not_heard_cannot_go_live(self) -> None:
        with mock.patch.object(self.link, "problem", lambda _now: "no robot answers"):
            self.session.tick(0.1)
            self.session.handle(GoLive(), 0.2)
        self.assertEqual(self.session.status.note, "not live: no robot answers")
        self.assertFalse(self.session.status.live)

    def test_a_rig_that_changes_in_the_middle_of_a_probe_stops_it_before_it_is_built(self) -> None:
        self.be(State.LIVE)
        self.session.handle(Probe(4, (MotorMove(0, 0.5, 9.0),)), 0.0)
        self.session.tick(0.1)
        with mock.patch.object(self.session._builder, "ask"):
            self.session.handle(UseRig(plain_rig(), 1), 0.2)
        self.assertEqual(self.session.status.held, "the rig was changed in the middle of a probe")
        self.session.tick(0.3)
        self.assertFalse(self.link.drove[-1])

    def test_a_rig_that_reads_what_the_driver_lacks_stops(self) -> None:
        pad = FakePad()
        pad.has = frozenset(("left_x", "left_y"))
        self.session.robots.link = None
        self.session.pads_are({"pad 1": pad})
        self.session.handle(ChooseSource("pad 1"), 0.1)
        self.session.tick(0.2)
        self.session.handle(UseRig(plain_rig(('kind = "arcade"', 'kind = "split arcade"')), 1), 0.3)
        self.session.tick(0.4)
        self.assertIn("pad 1 has no right_x", self.session.status.held)
        self.assertEqual(self.session.status.source, "keys")

    def test_what_a_robot_says_ends_live_only_where_it_matters(self) -> None:
        with mock.patch.object(self.link, "problem", lambda _now: "it is silent"):
            self.session.tick(0.1)
            self.assertEqual(self.session.status.held, "")  # no one has gone live: nothing to end
            self.be(State.LIVE)
            self.session.tick(0.2)
            self.assertEqual(self.session.status.held, "it is silent")
        self.link.state = 2
        with mock.patch.object(self.link, "alone_for", lambda _now: 9.0):
            self.be(State.LIVE_WAITING)
            self.link.drives = False
            self.session.tick(0.3)
            self.assertTrue(self.session.status.live)  # it is told to rest, so it may say that it rests
            self.be(State.LIVE)
            self.session.tick(0.4)
            self.session.tick(0.5)
            self.assertIn("left alone", self.session.status.held)

    def test_put_back_it_stands_on_its_wheels_on_the_floor(self) -> None:
        self.session.robots.link = None
        for what in ("lift", "turn over"):
            self.session.handle(MoveSimulated(what), 0.0)
        self.assertEqual((self.session.status.lifted, self.session.status.upside_down), (True, True))
        self.session.handle(PutBack(), 0.1)
        self.assertEqual((self.session.status.lifted, self.session.status.upside_down), (False, False))
        self.assertEqual(self.session.status.runs, 1)

    def test_a_rig_whose_link_is_another_hangs_up_and_ends_live(self) -> None:
        self.be(State.LIVE)
        self.session.handle(UseRig(plain_rig(), 1), 0.1)
        self.session.tick(0.2)
        self.assertEqual(self.session.status.held, "the rig's link is another now")
        self.assertEqual((self.session.status.robot, self.session.status.linked), ("simulator", "off"))

    def test_what_was_shut_down_is_forgotten_with_another_robot(self) -> None:
        self.session.robots.shut_down()
        self.session.stop("shut down by a button")
        self.session.handle(UseRobot(False), 0.1)
        self.session.tick(0.2)
        self.session.handle(GoOn(), 0.3)
        self.assertEqual(self.session.status.held, "")

    def test_another_source_finds_the_hands_at_rest(self) -> None:
        self.session.robots.link = None
        self.session.inputs.keys.set_mode("latched")
        self.session.handle(KeyDown("w"), 0.0)
        self.session.handle(ChooseSource("sticks"), 0.1)
        self.session.handle(ChooseSource("keys"), 0.2)
        row = self.session.tick(0.3)
        self.assertEqual(float(row[self.session.line.layout.at("axes", "forward")]), 0.0)

    def test_a_rig_without_the_source_that_drives_falls_back_to_the_keys(self) -> None:
        own = '[sources.box]\nkind = "numbers"\ncolumns = ["left_x", "left_y"]\nsilent_after = "1 s"\n'
        own += f'wire = {{ kind = "udp", port = {free_port()} }}\n'
        session = Session(SetUp(read_text(PLAIN + own, Path("t.toml"), Rig), None))
        self.addCleanup(session.close, 9.0)
        session.handle(ChooseSource("box"), 0.0)
        session.tick(0.1)
        self.assertEqual(session.status.source, "box")
        session.handle(UseRig(plain_rig(), 1), 0.2)
        session.tick(0.3)
        self.assertEqual(
            (session.status.source, [s.name for s in session.status.sources]), ("keys", ["keys", "sticks"])
        )

    def test_a_recording_plays_at_the_rate_of_the_rig_that_came_later(self) -> None:
        session = Session(SetUp(plain_rig(), None, (WATERING,), "recording watering"))
        self.addCleanup(session.close, 9.0)
        fast = session.inputs.driver
        session.handle(UseRig(read_text('rate = "30 Hz"\n' + PLAIN, Path("t.toml"), Rig), 1), 0.1)
        session.tick(0.2)
        self.assertIsNot(session.inputs.driver, fast)
        # an equal number of ticks is twice as far in the recording
        for _ in range(120):
            session.tick(0.3)
        at_30 = session.inputs.driver._player.reading.t_s  # type: ignore[attr-defined]
        for _ in range(121):
            fast.advance()  # type: ignore[attr-defined]
        self.assertAlmostEqual(at_30, 2 * fast._player.reading.t_s, delta=0.1)  # type: ignore[attr-defined]

    def test_what_plays_goes_on_without_a_source_beside_it_and_is_not_taken_over_by_one(self) -> None:
        own = '[sources.box]\nkind = "numbers"\ncolumns = ["left_x", "button_0"]\nsilent_after = "1 s"\n'
        own += (
            f'wire = {{ kind = "udp", port = {free_port()} }}\n[[bindings]]\nchannel = "button_0"\ndoes = "slow 50 %"\n'
        )
        own += 'source = "box"\n[axes.left_x]\nsource = "box"\n'
        text = PLAIN.replace("[law]", own + "[law]")
        session = Session(SetUp(read_text(text, Path("t.toml"), Rig), None, (WATERING,), "recording watering"))
        self.addCleanup(session.close, 9.0)
        session.tick(0.1)
        self.assertIn("nothing was heard", session.inputs.guards["box"].reason)
        self.assertEqual(session.status.lost, "")
        session.inputs.readings = {"box": {"button_0": 1.0}, "keys": {}}
        self.assertEqual(session.inputs.pressed(), "")  # it is listened to next to the driver
        session.handle(ChooseSource("keys"), 0.2)
        session.tick(0.3)
        self.assertIn("nothing was heard", session.status.lost)  # by hand its axis is missed

    def test_eyes_keep_what_they_saw_first(self) -> None:
        board = Board(Status())
        probing = Probing(board)
        probing.begin(5, (MotorMove(0, 0.5, 0.1),), self.session.line)
        seen = np.zeros(4)
        probing.entry(seen, "")
        probing.entry(seen, "left rolls forward")
        while probing.entry(seen, "") is not None:
            pass
        self.assertEqual(board.status.probed.eyes if board.status.probed else "", "left rolls forward")

    def test_a_stop_brings_latched_keys_to_rest(self) -> None:
        self.session.robots.link = None
        self.session.inputs.keys.set_mode("latched")
        self.session.handle(KeyDown("w"), 0.0)
        self.session.tick(0.1)
        self.session.handle(Stop("Esc"), 0.2)
        self.session.tick(0.3)
        self.session.handle(GoOn(), 0.4)
        row = self.session.tick(0.5)
        self.assertEqual(self.session.status.held, "")
        self.assertEqual(float(row[self.session.line.layout.at("outputs", "left_fraction")]), 0.0)

    def test_a_tick_that_finds_its_own_numbers_wrong_rests_the_robot_at_once(self) -> None:
        self.be(State.LIVE)
        outputs = self.session.line.layout.stage("outputs")
        step = self.session.line.step

        def broken(*words: Any) -> Any:
            state, row = step(*words)
            row[outputs] = np.inf
            return state, row

        with mock.patch.object(self.session.line, "step", broken):
            self.session.tick(1.0)
        self.assertEqual((self.link.drove[-1], self.session.status.moving.state), (False, State.STOPPED))
        np.testing.assert_array_equal(self.link.told, self.session.line.resting())


class RecordingTest(TempCase):
    def test_it_ends_with_another_source_and_is_not_made_of_a_recording(self) -> None:
        session = Session(SetUp(plain_rig(), None, (WATERING,), "recording watering", inputs=self.folder))
        self.addCleanup(session.close, 9.0)
        session.tick(0.0)
        session.handle(Record(), 0.1)
        self.assertIn("plays already", session.status.note)
        self.assertEqual(session.status.recording, "")
        session.handle(ChooseSource("keys"), 0.2)
        session.handle(Record(), 0.3)
        session.tick(0.4)
        name = session.status.recording
        self.assertTrue(name.startswith("keys-"))
        session.handle(ChooseSource("sticks"), 0.5)
        session.tick(0.6)
        self.assertEqual(session.status.recording, "")
        wait_for(lambda: session.tick(0.7) is not None and f"recorded inputs/{name}" in session.status.note)

    def test_nobody_watches_a_recording_unless_it_drives(self) -> None:
        session = Session(SetUp(plain_rig(), None, (WATERING,)))
        self.addCleanup(session.close, 9.0)
        session.handle(WatchSources(True), 0.0)
        for source, more in (("keys", []), ("recording watering", ["recording watering"])):
            session.handle(ChooseSource(source), 0.0)
            for _ in range(4):
                session.tick(0.1)
            assert session.report is not None
            self.assertEqual([s.name for s in session.report.sources], ["keys", "sticks", *more])

    def test_a_probe_of_a_motor_that_is_not_there(self) -> None:
        session = Session(SetUp(plain_rig(), None))
        self.addCleanup(session.close, 9.0)
        session.handle(Probe(1, (MotorMove(9, 0.5, 1.0),)), 0.0)
        self.assertIn("another motor now", session.status.note)
        self.assertEqual((session.status.probing, session.status.held), (0, ""))


class RequestTest(unittest.TestCase):
    def test_every_request_is_answered(self) -> None:
        # Leave ends the process, not the session
        # the loop takes leave itself, and what is kept is the keeper's
        self.assertEqual(set(HANDLERS), set(get_args(Request)) - {Leave, KeepRun})


class PureTest(unittest.TestCase):
    def test_it_knows_nothing_but_itself(self) -> None:
        text = Path(ROOT / "src" / "pivrex" / "session" / "moving.py").read_text("utf-8")
        self.assertNotIn("import pivrex", text)
        self.assertNotIn("from pivrex", text)
