import unittest
from collections.abc import Callable

from hypothesis import given
from hypothesis import strategies as st

from pivrex.devices.keys import DRIVE_KEYS, TIMED_S, Keyboard
from pivrex.devices.pads import Pad, Pads
from pivrex.devices.recorded import RecordedDriver
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.simulated_pad import PadRemote, PadServer, pad_sentence, read_pad_sentence
from pivrex.devices.sticks import ScreenSticks
from pivrex.errors import RecordingError
from pivrex.formats.player import Player, due_tick
from pivrex.formats.recording import Recording
from pivrex.rig.channels import BUTTONS, CHANNELS, STICKS, describe_channel, is_one_sided, stick_of
from tests.support import WATERING, TempCase, wait_for


class ChannelTest(unittest.TestCase):
    def test_the_standard_layout(self) -> None:
        # W3C Gamepad: 4 axes, 17 buttons, 6 and 7 the lower front ones
        self.assertEqual(STICKS, ("left_x", "left_y", "right_x", "right_y"))
        self.assertEqual(len(BUTTONS), 17)
        self.assertEqual(list(BUTTONS)[6:8], ["left_trigger", "right_trigger"])
        for channel in CHANNELS:
            self.assertTrue(describe_channel(channel))
        self.assertTrue(is_one_sided("left_trigger") and not is_one_sided("left_x"))
        self.assertEqual(stick_of("right_y"), "right")


class KeyboardTest(unittest.TestCase):
    def test_held_keys_drive_while_they_are_down(self) -> None:
        keys = Keyboard()
        keys.set_mode("held")
        keys.press("w", 0.0)
        keys.press("a", 0.1)
        self.assertEqual((keys.read(60)["left_y"], keys.read(60)["left_x"]), (-1.0, -1.0))
        keys.press("d", 0.2)  # opposite keys cancel
        self.assertEqual(keys.read(0.2)["left_x"], 0.0)
        keys.release("w")
        self.assertEqual(keys.read(0.2)["left_y"], 0.0)

    def test_latched_keys_step_and_stay(self) -> None:
        keys = Keyboard()
        for wanted in (-0.25, -0.5, -0.75, -1.0, -1.0):
            keys.press("w", 0.0)
            self.assertEqual(keys.read(99)["left_y"], wanted)
        keys.press("s", 0.0)
        self.assertEqual(keys.read(99)["left_y"], -0.75)
        keys.release("w")  # a terminal that cannot report it never says so; one that does changes nothing
        self.assertEqual(keys.read(99)["left_y"], -0.75)
        keys.rest()
        self.assertEqual(keys.read(99)["left_y"], 0.0)

    def test_timed_keys_run_out_and_repeats_prolong_them(self) -> None:
        keys = Keyboard()
        keys.set_mode("timed")
        keys.press("w", 10.0)
        self.assertEqual(keys.read(10.0 + TIMED_S - 0.01)["left_y"], -1.0)
        keys.press("w", 10.5)
        self.assertEqual(keys.read(10.5 + TIMED_S - 0.01)["left_y"], -1.0)
        self.assertEqual(keys.read(10.5 + TIMED_S + 0.01)["left_y"], 0.0)

    def test_triggers_step_round(self) -> None:
        keys = Keyboard()
        seen = []
        for _ in range(5):
            keys.press("e", 0)
            seen.append(keys.read(0)["right_trigger"])
        self.assertEqual(seen, [0.25, 0.5, 0.75, 1.0, 0.0])

    def test_changing_the_way_lets_go(self) -> None:
        keys = Keyboard()
        keys.press("w", 0)
        keys.set_mode("timed")
        self.assertFalse(any(keys.read(0).values()))

    @given(
        st.lists(st.tuples(st.sampled_from([*DRIVE_KEYS, "x"]), st.booleans(), st.floats(0, 5)), max_size=40),
        st.sampled_from(["held", "latched", "timed"]),
    )
    def test_readings_stay_in_range(self, events: list[tuple[str, bool, float]], mode: str) -> None:
        keys = Keyboard()
        keys.set_mode(mode)  # type: ignore[arg-type]
        for key, down, at in events:
            if down:
                keys.press(key, at)
            else:
                keys.release(key)
        for channel, value in keys.read(5).items():
            self.assertTrue((0 if is_one_sided(channel) else -1) <= value <= 1)


class DrawnSticksTest(unittest.TestCase):
    def test_they_go_where_they_are_dragged_and_spring_back(self) -> None:
        sticks = ScreenSticks()
        sticks.move({"left_x": 0.3, "left_y": -7.0, "nonsense": 1.0, "right_x": float("nan")})
        self.assertEqual(
            (sticks.read(0)["left_x"], sticks.read(0)["left_y"], sticks.read(0)["right_x"]), (0.3, -1.0, 0.0)
        )
        sticks.rest()
        self.assertFalse(any(sticks.read(0).values()))


class RecordingTest(TempCase):
    def read(self, text: str) -> list[dict[str, float]]:
        recording = Recording(self.write("r.csv", text))
        return [dict(r.raw, t=r.t_s) for r in recording.readings()]

    def refuse(self, text: str, line: int, said: str) -> None:
        with self.subTest(said), self.assertRaises(RecordingError) as caught:
            self.read(text)
        self.assertEqual(caught.exception.line, line, str(caught.exception))
        self.assertIn(said, str(caught.exception))

    def test_holes_keep_the_reading_above(self) -> None:
        rows = self.read("t,left_y,other\n5,-0.5,x\n5.1,,y\n5.5,0.25\n\n")
        self.assertEqual([r["left_y"] for r in rows], [-0.5, -0.5, 0.25])
        self.assertAlmostEqual(rows[2]["t"], 0.5)

    def test_a_table_of_ticks_is_a_recording_too(self) -> None:
        rows = self.read("clock.tick,clock.t_s,raw.left_y,sensed.x_m\n0,0,-0.5,1\n")
        self.assertEqual(rows[0]["left_y"], -0.5)

    def test_every_way_to_be_wrong_has_its_line(self) -> None:
        self.refuse("", 1, "is empty")
        self.refuse("\n\n", 1, "is empty")
        self.refuse("left_y\n1\n", 1, "has no column t")
        self.refuse("t,left_y,left_y\n0,1,1\n", 1, "twice")
        self.refuse("t,left_y\n", 1, "no reading")
        self.refuse("t,left_y\n0,1\n0,1\n", 3, "t is 0 s again")
        self.refuse("t,left_y\n0,1\n2,1\n1,1\n", 4, "t is 1 s after 2 s")
        self.refuse("t,left_y\n0,1\nx,1\n", 3, "t is 'x', but should be a number")
        self.refuse("t,left_y\n0,1\n,1\n", 3, "t is empty")
        self.refuse("t,left_y\n0,\n", 2, "left_y is empty")
        self.refuse("t,left_y\n0,away\n", 2, "left_y is 'away'")
        self.refuse("t,left_y\n0,nan\n", 2, "should be a finite number")
        self.refuse("t,left_y\n0,1,2\n", 2, "has 3 cells")
        self.refuse("t,left_y\n0,1\n1e9,1\n", 3, "jumps by 1e+09 s")

    def test_files_that_are_no_text(self) -> None:
        path = self.folder / "b.csv"
        path.write_bytes(b"t,left_y\n0,1\n\xff\xfe\xfa,1\n")
        with self.assertRaises(RecordingError):
            list(Recording(path).readings())
        with self.assertRaisesRegex(RecordingError, "cannot be read"):
            Recording(self.folder / "none.csv")

    def test_missing_sticks_are_named_and_missing_buttons_rest(self) -> None:
        recording = Recording(self.write("r.csv", "t,left_y\n0,1\n"))
        with self.assertRaisesRegex(RecordingError, "has no column left_x, which the rig reads; it has left_y"):
            recording.require((("chosen", "left_y"), ("chosen", "left_x"), ("chosen", "button_5")))
        recording.require((("chosen", "left_y"), ("chosen", "button_5")))

    @given(st.binary(max_size=300))
    def test_random_bytes_are_refused_in_a_sentence_or_played(self, data: bytes) -> None:
        path = self.folder / "random.csv"
        path.write_bytes(b"t,left_y\n" + data)
        try:
            for reading in Recording(path).readings():
                self.assertIn("left_y", reading.raw)
        except RecordingError as problem:
            self.assertTrue(str(problem).startswith(str(path)))


class PlayerTest(TempCase):
    def test_the_last_reading_is_held(self) -> None:
        recording = Recording(self.write("r.csv", "t,left_y\n0,0.1\n0.25,0.2\n0.3,0.3\n1,0.4\n"))
        player = Player(recording, 0.1)
        values = [player.advance().raw["left_y"] for _ in range(12)]
        self.assertEqual(values, [0.1, 0.1, 0.1, 0.3, 0.3, 0.3, 0.3, 0.3, 0.3, 0.3, 0.4, 0.4])
        self.assertTrue(player.ended)
        player.rewind()
        self.assertEqual(player.advance().raw["left_y"], 0.1)

    def test_rounded_times_fall_on_their_tick(self) -> None:
        # 60 Hz written with milliseconds: each reading has its own tick all the same
        self.assertEqual([due_tick(round(i / 60, 3), 1 / 60) for i in range(600)], list(range(600)))

    def test_the_demo_recording_plays_whole(self) -> None:
        driver = RecordedDriver(Recording(WATERING), 1 / 60)
        ticks = 0
        while not driver.ended:
            driver.advance()
            ticks += 1
            self.assertLess(ticks, 10_000)
        self.assertEqual(driver.lost, "")
        self.assertGreater(ticks, 2000)

    def test_a_bad_line_makes_the_driver_lost_and_not_the_program(self) -> None:
        driver = RecordedDriver(Recording(self.write("r.csv", "t,left_y\n0,1\n0.1,1\n0.2,x\n")), 0.1)
        for _ in range(5):
            driver.advance()
        self.assertIn("r.csv:4", driver.lost)


class SentenceTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        # exclusive or of 'A' 0x41, ',' 0x2C and '1' 0x31 is 0x5C
        self.assertEqual(frame("A,1"), b"$A,1*5C\r\n")
        self.assertEqual(unframe(b"$A,1*5c\r\n"), "A,1")

    def test_refusals(self) -> None:
        for line in (b"", b"$", b"A,1*5C", b"$A,1*5D\r\n", b"$A,1", b"\xff\xff", b"$A,1*ZZ"):
            with self.subTest(line), self.assertRaises(ValueError):
                unframe(line)

    @given(st.binary(max_size=80))
    def test_random_bytes_move_nothing(self, line: bytes) -> None:
        with self.assertRaises(ValueError):
            read_pad_sentence(line)

    @given(
        st.dictionaries(st.sampled_from(STICKS), st.floats(-1, 1)),
        st.sets(st.sampled_from(["button_0", "button_5", "button_16"])),
    )
    def test_pads_read_what_was_written(self, sticks: dict[str, float], buttons: set[str]) -> None:
        readings = read_pad_sentence(pad_sentence({**sticks, **dict.fromkeys(buttons, 1.0)}))
        for channel in STICKS:
            self.assertAlmostEqual(readings[channel], sticks.get(channel, 0.0), places=4)
        self.assertEqual({b for b, v in readings.items() if b.startswith("button") and v}, buttons)

    def test_absurd_numbers_are_refused(self) -> None:
        for body in (
            "PIVPAD,2,0,0,0,0,0,0",
            "PIVPAD,nan,0,0,0,0,0,0",
            "PIVPAD,0,0,0,0,-1,0,0",
            "PIVPAD,0,0,0,0,0,0,zz",
            "OTHER,1",
        ):
            with self.subTest(body), self.assertRaises(ValueError):
                read_pad_sentence(frame(body))


class VirtualPadTest(unittest.TestCase):
    """The real SDL, with virtual joysticks moved over the real local socket."""

    def setUp(self) -> None:
        self.pads = Pads()
        self.addCleanup(self.pads.close)
        self.server = PadServer(self.pads.sdl)
        self.addCleanup(self.server.close)

    def update(self) -> list[Pad]:
        self.server.update()
        return self.pads.update()

    def wait(self, what: Callable[[], object]) -> None:
        wait_for(lambda: (self.update(), what())[1], 5)

    def test_it_appears_moves_and_is_unplugged(self) -> None:
        self.assertEqual(self.update(), [])
        remote = PadRemote(self.server.port, self.server.token)
        self.wait(lambda: len(self.pads.update()) == 1)
        (pad,) = self.pads.update()
        self.assertEqual((pad.name, pad.kind, pad.lost), ("pad 1", "gamepad", ""))
        remote.move(left_y=-0.5, right_x=0.25, right_trigger=0.75, button_5=1.0)
        self.wait(lambda: pad.read(0)["left_y"] < -0.4)
        readings = pad.read(0)
        self.assertAlmostEqual(readings["left_y"], -0.5, places=3)
        self.assertAlmostEqual(readings["right_x"], 0.25, places=3)
        self.assertAlmostEqual(readings["right_trigger"], 0.75, places=2)
        self.assertEqual((readings["button_5"], readings["button_4"]), (1.0, 0.0))
        self.assertEqual(readings["left_x"], 0.0)
        remote.unplug()
        self.wait(lambda: not self.pads.update())
        self.assertEqual(pad.lost, "pad 1 was unplugged")

    def test_several_at_once_keep_their_names(self) -> None:
        first, second = PadRemote(self.server.port, self.server.token), PadRemote(self.server.port, self.server.token)
        self.wait(lambda: len(self.pads.update()) == 2)
        second.move(left_y=1.0)
        pads = self.pads.update()
        self.wait(lambda: sorted(round(p.read(0)["left_y"]) for p in pads) == [0, 1])
        first.unplug()
        self.wait(lambda: [p.name for p in self.pads.update()] == ["pad 2"])
        third = PadRemote(self.server.port, self.server.token)
        self.wait(lambda: {p.name for p in self.pads.update()} == {"pad 1", "pad 2"})
        for remote in (second, third):
            remote.unplug()

    def test_they_are_known_again_and_two_alike_are_told_apart(self) -> None:
        first, second = PadRemote(self.server.port, self.server.token), PadRemote(self.server.port, self.server.token)
        self.wait(lambda: len(self.pads.update()) == 2)
        one, two = self.pads.update()
        self.assertEqual(two.identity, f"{one.identity} #2")
        for remote in (first, second):
            remote.unplug()
        self.wait(lambda: not self.pads.update())
        # a rig that names one of them finds it by its identity, in whatever port it comes back
        self.pads.names = {two.identity: "boom pad"}
        again = [PadRemote(self.server.port, self.server.token), PadRemote(self.server.port, self.server.token)]
        self.wait(lambda: [p.name for p in self.pads.update()] == ["pad 1", "boom pad"])
        for remote in again:
            remote.unplug()

    def test_a_lesser_device_says_what_it_lacks(self) -> None:
        sdl = self.pads.sdl
        index = sdl.SDL_JoystickAttachVirtual(sdl.SDL_JOYSTICK_TYPE_GAMECONTROLLER, 2, 4, 0)
        (pad,) = self.pads.update()
        self.assertTrue({"left_x", "left_y"} <= pad.channels())
        self.assertNotIn("right_x", pad.channels())
        sdl.SDL_JoystickDetachVirtual(index)
        self.pads.update()

    def test_damaged_sentences_are_counted_and_move_nothing(self) -> None:
        remote = PadRemote(self.server.port, self.server.token)
        self.wait(lambda: len(self.pads.update()) == 1)
        (pad,) = self.pads.update()
        remote._socket.sendall(b"$PIVPAD,1,1,1,1,1,1,0*00\r\nrubbish\r\n" + b"x" * 5000)
        self.wait(lambda: self.server.bad == 2)
        self.assertEqual(pad.read(0)["left_x"], 0.0)
        remote.unplug()
        self.wait(lambda: not self.pads.update())
