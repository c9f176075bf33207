import math
import os
import pickle
import signal
import threading
import time
import unittest
from multiprocessing.shared_memory import SharedMemory
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np

from pivrex.devices.simulated_pad import PadRemote, read_port_file
from pivrex.devices.source import TAKES_OVER
from pivrex.line import Line
from pivrex.rig import open_folder, read_rig
from pivrex.session.client import SessionClient
from pivrex.session.clock import Clock
from pivrex.session.core import Session
from pivrex.session.messages import (
    AttachPads,
    ChooseSource,
    GoLive,
    GoOn,
    KeyDown,
    KeyUp,
    LetGo,
    MoveSticks,
    PutBack,
    SetKeysMode,
    SetUp,
    StepLevel,
    Stop,
    UseRig,
)
from pivrex.session.places import runtime_folder
from pivrex.session.ring_size import NUMBERS, RING_BYTES, SLOTS
from pivrex.session.shared import Ring, Row
from tests.chassis import PLANAR, Wheel, rig_of
from tests.support import PLOVER, WATERING, TempCase, plain_rig, wait_for


class ClockTest(unittest.TestCase):
    def test_ticks_that_are_too_late_are_skipped_and_counted(self) -> None:
        now = 0.0

        def sleeps(seconds: float) -> None:
            nonlocal now
            now += seconds

        with mock.patch("pivrex.session.clock.time", SimpleNamespace(perf_counter=lambda: now, sleep=sleeps)):
            clock = Clock(0.02)
            clock.wait()
            sleeps(0.075)  # to 95 ms: those due at 40 and 60 ms are left out, that of 80 ms is 15 ms late
            late = clock.wait()
            self.assertEqual((clock.skipped, round(late, 9)), (2, 0.015))
            # no burst afterwards: the next one is in the future again
            clock.wait()
            self.assertAlmostEqual(now, 0.1)


class RingTest(unittest.TestCase):
    def setUp(self) -> None:
        self.ring = Ring(SharedMemory(create=True, size=RING_BYTES))
        self.addCleanup(self.ring.close, unlink=True)

    def write(self, count: int, width: int = 5) -> None:
        for _ in range(count):
            n = self.ring.written
            self.ring.write(Row(1, 2, 0.1, 0.2, np.full(width, float(n))))

    def test_rows_come_as_they_went(self) -> None:
        self.write(3)
        count, rows = self.ring.since(0)
        self.assertEqual((count, len(rows)), (3, 3))
        self.assertEqual((rows[2].serial, rows[2].run, rows[2].late_s, rows[2].values.tolist()), (1, 2, 0.1, [2.0] * 5))
        self.assertEqual(self.ring.since(3), (3, []))

    def test_a_reader_that_slept_gets_the_newest(self) -> None:
        self.write(SLOTS + 50)
        _, rows = self.ring.since(0)
        self.assertLess(len(rows), SLOTS)
        self.assertEqual([r.values[0] for r in rows[-2:]], [SLOTS + 48, SLOTS + 49])

    def test_rows_of_any_width_stand_in_it(self) -> None:
        chance = np.random.default_rng(3)
        widths = chance.integers(1, 2000, 900)
        for width in widths.tolist():
            self.write(1, width)
        count, rows = self.ring.since(0)
        self.assertEqual(count, 900)
        self.assertGreater(len(rows), 300)  # wide ones leave room for fewer
        for n, row in zip(range(900 - len(rows), 900), rows, strict=True):
            self.assertEqual(row.values.tolist(), [float(n)] * int(widths[n]))
        with self.assertRaisesRegex(ValueError, "wider than the ring"):
            self.write(1, NUMBERS)
        self.assertEqual(self.ring.written, 900)

    def test_no_torn_rows_while_it_is_written(self) -> None:
        upside_down = threading.Event()

        def writer() -> None:
            while not upside_down.is_set():
                self.write(20, 200)

        thread = threading.Thread(target=writer)
        thread.start()
        seen = 0
        try:
            end = time.monotonic() + 1.5
            while time.monotonic() < end:
                seen, rows = self.ring.since(seen)
                for row in rows:
                    self.assertTrue((row.values == row.values[0]).all())
        finally:
            upside_down.set()
            thread.join()

    def test_heartbeat(self) -> None:
        self.ring.beat()
        self.assertEqual(self.ring.beats, 1)


class CoreTest(TempCase):
    """The session without its process, ticked by hand."""

    def setUp(self) -> None:
        super().setUp()
        self.session = Session(SetUp(read_rig(PLOVER), None, (WATERING,), "keys"))
        self.now = 0.0

    def ask(self, *requests: object) -> None:
        for request in requests:
            self.session.handle(request, self.now)  # type: ignore[arg-type]

    def tick(self, count: int = 1) -> np.ndarray:
        for _ in range(count):
            self.now += 1 / 60
            row = self.session.tick(self.now)
        return row

    def get(self, row: np.ndarray, stage: str, name: str) -> float:
        return float(row[self.session.line.layout.at(stage, name)])

    def drive(self) -> np.ndarray:
        self.ask(SetKeysMode("held"), KeyDown("w"))
        return self.tick(60)

    def assert_at_rest(self, row: np.ndarray) -> None:
        for wheel in ("left", "right"):
            self.assertEqual(self.get(row, "outputs", f"{wheel}_duty"), 0)

    def test_keys_drive_and_let_go(self) -> None:
        self.assertGreater(self.get(self.drive(), "sensed", "left_speed"), 0.3)
        self.ask(KeyUp("w"))
        self.assert_at_rest(self.tick(60))

    def test_a_stop_stops_at_once_and_holds(self) -> None:
        self.drive()
        self.ask(Stop("Esc"))
        self.assert_at_rest(self.tick())
        self.assertEqual(self.session.status.held, "Esc")
        self.ask(KeyDown("w"))
        self.assert_at_rest(self.tick(30))

    def test_going_on_needs_sticks_at_rest(self) -> None:
        self.drive()
        self.ask(Stop("Esc"), KeyDown("w"))
        self.tick()
        self.ask(GoOn())
        self.assertEqual(self.session.status.held, "Esc")
        self.assertIn("let go first: forward reads +1.00", self.session.status.note)
        self.ask(KeyUp("w"))
        self.tick()
        self.ask(GoOn())
        self.assertEqual(self.session.status.held, "")

    def test_going_live_needs_sticks_at_rest_and_no_recording(self) -> None:
        self.ask(GoLive())
        self.assertFalse(self.session.status.live)  # before the first tick nothing is known
        self.drive()
        self.ask(GoLive())
        self.assertFalse(self.session.status.live)
        self.ask(KeyUp("w"))
        self.tick(60)
        self.ask(GoLive())
        self.assertTrue(self.session.status.live)
        self.ask(Stop("the window lost the focus"))
        self.assertFalse(self.session.status.live)
        self.ask(ChooseSource("recording watering"))
        self.tick(2)
        self.ask(GoLive())
        self.assertFalse(self.session.status.live)
        self.assertIn("cannot drive live", self.session.status.note)

    def test_another_source_while_live_stops(self) -> None:
        self.tick()
        self.ask(GoLive(), MoveSticks({"left_y": -1.0}))
        self.assertIn("sticks moved while keys was driving live", self.session.status.held)
        self.assert_at_rest(self.tick())

    def test_the_hand_takes_over_from_the_recording(self) -> None:
        self.ask(ChooseSource("recording watering"))
        self.tick(120)
        self.ask(KeyDown("w"))
        self.assertEqual(self.session.status.source, "keys")
        self.ask(MoveSticks({"left_x": 0.5}))
        self.assertEqual(self.session.status.source, "sticks")
        self.ask(LetGo())
        self.assert_at_rest(self.tick(60))

    def test_a_recording_stands_still_while_stopped_and_begins_again_at_its_end(self) -> None:
        self.ask(ChooseSource("recording watering"))
        before = self.tick(100)
        self.ask(Stop("Esc"))
        held = self.tick(100)
        self.assertEqual(self.get(held, "raw", "left_y"), self.get(before, "raw", "left_y"))
        self.ask(GoOn())
        for _ in range(2600):
            self.tick()
            if self.session.status.runs:
                break
        self.assertEqual(self.session.status.runs, 1)
        self.assertEqual(self.get(self.tick(), "clock", "tick"), 1)

    def test_a_lost_pad_stops_the_robot_and_says_so(self) -> None:
        pad = FakePad()
        self.session.pads_are({"pad 1": pad})
        self.ask(ChooseSource("pad 1"))
        pad.at["left_y"] = -1.0
        self.assertGreater(self.get(self.tick(60), "outputs", "left_duty"), 100)
        pad.lost = "pad 1 was unplugged"
        self.session.pads_are({})
        self.assert_at_rest(self.tick())
        self.assertEqual(self.session.status.lost, "pad 1 was unplugged, and it was driving")
        # plugged in again with the stick pushed: it does not start by itself
        again = FakePad()
        again.at["left_y"] = -1.0
        self.session.pads_are({"pad 1": again})
        self.assert_at_rest(self.tick(30))
        self.assertEqual(self.session.status.lost, "pad 1 is heard again; let go first: forward reads +1.00")
        # let go, it drives again
        again.at["left_y"] = 0.0
        self.tick()
        self.assertEqual(self.session.status.lost, "")
        again.at["left_y"] = -1.0
        self.assertGreater(self.get(self.tick(60), "outputs", "left_duty"), 100)

    def test_a_pad_that_lacks_a_channel_is_refused(self) -> None:
        pad = FakePad()
        pad.has = frozenset({"left_x"})
        self.session.pads_are({"pad 1": pad})
        self.ask(ChooseSource("pad 1"))
        self.assertEqual(self.session.status.source, "keys")
        self.assertIn("has no left_y, which the law arcade reads", self.session.status.note)
        info = next(s for s in self.session.status.sources if s.name == "pad 1")
        self.assertEqual(info.lacks, ("left_y",))

    def test_a_button_of_a_pad_takes_over_from_the_recording(self) -> None:
        pad = FakePad()
        self.session.pads_are({"pad 1": pad})
        self.ask(ChooseSource("recording watering"))
        self.tick(5)
        self.assertEqual(self.session.status.source, "recording watering")
        pad.at["button_0"] = 1.0
        self.tick()
        self.assertEqual(self.session.status.source, "pad 1")

    def test_an_axis_may_listen_to_its_own_kind_of_source(self) -> None:
        rig = plain_rig(("[law]", '[axes.left_x]\nsource = "sticks"\n[law]'))
        self.session = Session(SetUp(rig, None))
        self.ask(SetKeysMode("held"), KeyDown("w"))
        self.session.inputs.sticks.move({"left_x": -1.0})  # the drawn stick turns while the keys drive
        row = self.tick()
        self.assertEqual(self.get(row, "axes", "forward"), 1.0)
        self.assertEqual(self.get(row, "axes", "turn"), 1.0)

    def test_losing_what_an_axis_always_listens_to_stops(self) -> None:
        rig = plain_rig(("[law]", '[axes.left_x]\nsource = "gamepad"\n[law]'))
        self.session = Session(SetUp(rig, None))
        pad = FakePad()
        self.session.pads_are({"pad 1": pad})
        self.tick()
        pad.lost = "pad 1 was unplugged"
        self.session.pads_are({})
        row = self.tick()
        self.assertEqual(self.get(row, "outputs", "left_fraction"), 0)
        self.assertIn("pad 1 was unplugged", self.session.status.lost)

    def test_a_recording_that_lacks_what_the_rig_reads_does_not_drive(self) -> None:
        path = self.write("half.csv", "t,left_y\n0,-1\n")
        session = Session(SetUp(read_rig(PLOVER), None, (path,), "recording half"))
        self.assertEqual(session.status.source, "keys")
        self.assertIn("has no left_x", session.status.note)

    def test_a_fault_at_every_tick_fills_no_log(self) -> None:
        with self.assertLogs("pivrex.session.core", "ERROR") as logs:
            for _ in range(5):
                self.session.fail(ValueError("again"))
        self.assertEqual(len(logs.records), 1)

    def test_speed_levels_by_key(self) -> None:
        self.ask(StepLevel(-1))
        self.assertEqual(self.get(self.tick(), "law", "level"), 0)

    def test_a_changed_rig_goes_on_where_the_robot_is(self) -> None:
        self.drive()
        before = self.tick()
        rig = plain_rig()
        self.ask(UseRig(rig, 7))
        row = self.tick()
        self.assertEqual(self.session.status.serial, 7)
        self.assertEqual(len(row), len(Line(rig).layout))
        # 0.65 m/s for two ticks at most
        self.assertAlmostEqual(
            self.get(row, "truth", "x"), before[Line(read_rig(PLOVER)).layout.at("truth", "x")], delta=0.05
        )

    def test_put_back(self) -> None:
        self.drive()
        self.ask(PutBack())
        self.assertEqual(self.get(self.tick(), "truth", "x"), 0.0)

    def test_an_exception_ends_in_the_safe_action(self) -> None:
        self.drive()
        with self.assertLogs("pivrex.session.core", "ERROR"):
            self.session.fail(ZeroDivisionError("boom"))
        self.assertIn("something went wrong inside (ZeroDivisionError: boom)", self.session.status.held)
        self.assert_at_rest(self.tick())

    def test_a_bad_recording_is_told_and_left_out(self) -> None:
        bad = self.write("bad.csv", "t,left_y\n")
        session = Session(SetUp(read_rig(PLOVER), None, (bad,), "recording bad"))
        self.assertEqual(session.status.source, "keys")
        self.assertIn("no reading", session.status.note)

    def test_a_recording_that_breaks_on_the_way_stops(self) -> None:
        path = self.write("breaks.csv", "t,left_x,left_y\n0,0,-1\n1,0,-1\n1.1,oops,0\n")
        self.session = Session(SetUp(read_rig(PLOVER), None, (path,), "recording breaks"))
        row = self.tick(200)
        self.assert_at_rest(row)
        self.assertIn("breaks.csv:4: left_x is 'oops'", self.session.status.held)

    def test_messages_survive_the_way_between_processes(self) -> None:
        for message in (SetUp(read_rig(PLOVER), None), UseRig(plain_rig(), 1), self.session.status, AttachPads()):
            self.assertEqual(pickle.loads(pickle.dumps(message)), message)


class FakePad:
    name, kind, title = "pad 1", "gamepad", "pad 1"
    can = TAKES_OVER

    def __init__(self) -> None:
        self.at = dict.fromkeys(("left_x", "left_y", "right_x", "right_y"), 0.0)
        self.has = frozenset(self.at)
        self.lost = ""

    def channels(self) -> frozenset[str]:
        return self.has

    def read(self, now_s: float) -> dict[str, float]:
        return self.at


class ProcessTest(TempCase):
    """The real process, spawned."""

    def start(self, source: str = "keys", pads: bool = False) -> SessionClient:
        folder = open_folder(self.demo())
        client = SessionClient()
        self.addCleanup(client.close)
        client.set_up(
            SetUp(
                read_rig(PLOVER),
                folder.settings.field,
                tuple(folder.recordings()),
                source,
                listen_for_pads=pads,
                gamepads=pads,
            )
        )
        wait_for(lambda: (client.poll(), client.status.sources)[1])
        return client

    def newest(self, client: SessionClient) -> Row:
        rows: list[Row] = []

        def some() -> bool:
            rows.extend(client.rows())
            return bool(rows)

        wait_for(some)
        return rows[-1]

    def test_it_ticks_drives_and_ends_with_its_screen(self) -> None:
        client = self.start()
        layout = Line(read_rig(PLOVER)).layout
        client.send(SetKeysMode("held"))
        client.send(KeyDown("w"))
        wait_for(lambda: self.newest(client).values[layout.at("sensed", "left_speed")] > 0.3)
        self.assertTrue(client.alive)
        pid = client.process_id
        client.close()
        wait_for(lambda: not Path(f"/proc/{pid}").exists(), 15)

    def test_a_rig_whose_ticks_are_wide(self) -> None:
        around: list[Wheel] = [(math.cos(a), math.sin(a), 0.0, None, True) for a in np.linspace(0, 6, 12).tolist()]
        rig = rig_of(around, PLANAR)
        width = len(Line(rig).layout)
        self.assertGreater(width, 283)  # such a rig once ended the session
        client = SessionClient()
        self.addCleanup(client.close)
        client.set_up(SetUp(rig, None, gamepads=False))
        wait_for(lambda: (client.poll(), client.status.sources)[1])
        client.send(SetKeysMode("held"))
        client.send(KeyDown("w"))
        at = Line(rig).layout.at("steering", "w11_speed")
        wait_for(lambda: self.newest(client).values[at] > 0.3)
        self.assertEqual(len(self.newest(client).values), width)
        self.assertEqual((client.poll(), client.status.held)[1], "")

    def test_the_simulated_robot_waits_for_a_silent_screen(self) -> None:
        """A laptop that is busy ends nothing on the simulated robot: it waits, goes on where it was, and says so."""
        client = self.start("recording watering")

        def seen() -> str:
            client.beat()
            client.poll()
            return client.status.note

        def stands() -> bool:
            client.rows()
            time.sleep(0.3)
            return not client.rows()

        client.beat()
        newest = self.newest(client)
        wait_for(stands, 20)
        client.poll()
        self.assertEqual(client.status.held, "")
        wait_for(lambda: "too busy" in seen(), 20, lambda: str(client.status))
        self.assertRegex(client.status.note, r"waited for \d+\.\d s: this computer was too busy")
        wait_for(lambda: seen() and self.newest(client).values[0] > newest.values[0])  # it goes on from where it was
        self.assertEqual(client.status.held, "")

    def test_a_killed_screen_ends_the_session(self) -> None:
        # the client's end of the wire is closed by the system, as after signal 9
        client = self.start()
        pid = client.process_id
        client._wire.close()
        wait_for(lambda: not Path(f"/proc/{pid}").exists() or not client._process.is_alive(), 15)

    def test_a_killed_session_is_noticed(self) -> None:
        client = self.start()
        os.kill(client.process_id, signal.SIGKILL)
        wait_for(lambda: not client.alive, 15)
        client.send(Stop("Esc"))  # and asking it is harmless

    def test_a_virtual_pad_comes_drives_and_is_unplugged(self) -> None:
        client = self.start(pads=True)
        wait_for(lambda: (client.poll(), client.status.pad_port)[1])
        remote = PadRemote(*read_port_file(runtime_folder()))
        wait_for(lambda: (client.poll(), any(s.kind == "gamepad" for s in client.status.sources))[1])
        client.send(ChooseSource("pad 1"))
        remote.move(left_y=-1.0)
        layout = Line(read_rig(PLOVER)).layout
        wait_for(lambda: self.newest(client).values[layout.at("sensed", "left_speed")] > 0.3)
        remote.unplug()
        wait_for(lambda: (client.poll(), "unplugged" in client.status.lost)[1])
        wait_for(lambda: self.newest(client).values[layout.at("outputs", "left_duty")] == 0)
