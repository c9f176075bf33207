"""Files that are none, programs that save at once, keys that are mashed: a clear sentence, nothing lost, and the screen stays."""

import contextlib
import json
import multiprocessing
import os
import random
import shutil
import time
import tomllib
from pathlib import Path
from unittest import mock

from textual import events
from textual.keys import _character_to_key

from pivrex.devices.sticks import ScreenSticks
from pivrex.devices.worries import warnings_in
from pivrex.errors import ChangedOutside, RigError, SaveError
from pivrex.files import alone
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import RigFile, open_folder, read_rig
from pivrex.runs.events import Event
from pivrex.session.client import SessionClient
from pivrex.session.messages import SetUp
from pivrex.session.recorder import Recorder
from pivrex.tui.app import PivrexApp
from tests.kept import keep_two
from tests.local import answered
from tests.support import PLOVER, TempCase, Terminal, often, plain_rig, slow, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_cli import Ran

BROKEN = {
    "Latin-1": 'about = "é"\n'.encode("latin-1"),
    "binary": bytes(range(256)) * 64,
    "5,000 digits": b"rate = " + b"9" * 5000,
    "4,000 digits": b"rate = " + b"9" * 4000,
    "5,000 parts": b".".join([b"a"] * 5000) + b" = 1",
    "nested": b"a = " + b"[" * 5000 + b"]" * 5000,
    "nested tables": b"a = " + b"{b = " * 300 + b"1" + b"}" * 300,
    "two megabytes": b"# " + b"x" * 2_000_000,
}


def put_bad_ones(folder: Path) -> list[Path]:
    """Put what is no rig next to the rigs; gives the paths."""
    rigs = folder / "rigs"
    for name, data in BROKEN.items():
        (rigs / f"x {name}.toml").write_bytes(data)
    (rigs / "x loop.toml").symlink_to("x loop.toml")
    (rigs / "x dangling.toml").symlink_to("nowhere.toml")
    (rigs / "x folder.toml").mkdir()
    os.mkfifo(rigs / "x pipe.toml")
    os.mkfifo(folder / "inputs" / "pipe.csv")
    return [*sorted(rigs.glob("x *.toml")), rigs / "x loop.toml"]


class NoRigTest(TempCase):
    def test_each_is_a_sentence_with_its_place(self) -> None:
        home = self.demo()
        for path in put_bad_ones(home):
            with self.assertRaises(RigError) as caught:
                read_rig(path)
            (mistake,) = caught.exception.mistakes
            self.assertLess(len(str(mistake)), 200)
            ran = Ran("check", str(path))
            self.assertEqual((ran.code, ran.out.startswith(str(path))), (1, True), ran.out[:300])

    def test_warnings_of_a_rig_that_is_saved_as_one_in_the_same_moment(self) -> None:
        path, rig = self.folder / "plover.toml", read_rig(PLOVER)
        for name, data in BROKEN.items():
            path.write_bytes(data)
            try:
                self.assertEqual(warnings_in(rig, path), [], name)
            except RigError as problem:
                self.assertIn(str(path), str(problem), name)

    def test_commands_on_names_that_cannot_be(self) -> None:
        home = self.demo()
        put_bad_ones(home)
        for command in ("describe", "wire", "wheels", "shakedown", "key", "map", "simulator"):
            for name in (str(home / "rigs" / "x loop.toml"), "y" * 5000, str(home / "rigs" / "x pipe.toml"), "a\x00b"):
                words = (command, name, "none.csv") if command == "map" else (command, name)
                ran = Ran(*words)
                self.assertEqual(ran.code, 1, (command, name[:30], ran.err[:200]))
                self.assertNotIn("Traceback", ran.err)
        ran = Ran("simulator", str(PLOVER), "--udp", "0", "--fault", "é")
        self.assertEqual((ran.code, "plain characters" in ran.err), (2, True))

    def test_a_recording_of_twenty_thousand_columns(self) -> None:
        names = [f"c{i}" for i in range(20_000)]
        path = self.write(
            "wide.csv", f"t,left_x,left_y,{','.join(names)}\n" + f"0{',0' * 20_002}\n0.1{',0' * 20_002}\n"
        )
        ran = Ran("map", str(PLOVER), str(path), "-o", str(self.folder / "out.csv"))
        self.assertEqual(ran.code, 0, ran.err[:300])
        path.write_text(path.read_text().replace("c19999", "c0", 1))
        self.assertIn('has the column "c0" twice', Ran("check", str(path)).out)


class OpenRigTest(AppCase):
    """The open rig is saved outside as what is no rig: the one in use stays, and what is changed here goes next to it."""

    @in_loop
    async def test_saved_outside_as_something_else(self) -> None:
        async with self.running(view="shaping"):
            good = self.rig_file.read_bytes()
            for name, data in BROKEN.items():
                self.rig_file.write_bytes(data)
                self.model.look_outside()
                await self.frames()
                self.assertIn("the rig in use stays", self.model.message, name)
                await self.press("right")
                self.assertEqual(self.rig_file.read_bytes(), data, name)  # theirs is not overwritten
                self.rig_file.write_bytes(good)
                self.model.look_outside()
                await self.frames()
            (mine,) = (self.home / "rigs").glob("plover.yours-*.toml")
            read_rig(mine)
            for other in ("loop", "pipe", "folder"):
                self.rig_file.unlink()
                match other:
                    case "loop":
                        self.rig_file.symlink_to(self.rig_file.name)
                    case "pipe":
                        os.mkfifo(self.rig_file)
                    case _:
                        self.rig_file.mkdir()
                self.model.look_outside()
                await self.press("right")
                self.assertTrue(self.app.is_running)
                self.rig_file.rmdir() if other == "folder" else self.rig_file.unlink()
                self.rig_file.write_bytes(good)
                self.model.look_outside()

    @in_loop
    async def test_each_can_be_chosen_in_the_list_of_robots(self) -> None:
        bad = put_bad_ones(self.home)
        async with self.running():
            for path in bad:
                self.assertFalse(self.model.open_rig(path))
                self.assertIn(path.name, self.model.message)
            await self.press("b")
            for _ in bad:
                await self.pilot.press("end", "up", "enter")  # the last is a robot of one's own
                await self.frames()
                await self.press("b")
            self.assertEqual((self.model.rig.name, self.app.is_running), ("Plover", True))


def _nudge(path: Path, key: str, values: list[int], told: str) -> None:
    """Set a key of a rig to one value after another, as a program that has it open."""
    file, asked = RigFile(path), 0
    for value in values:
        while True:
            try:
                file.put(key, f"{value} %")
                break
            except ChangedOutside:
                asked += 1  # the person does it again
            except SaveError:
                continue  # the other one has the folder all the time: on a machine that is busy that may take long
    Path(told).write_text(json.dumps(asked))


class TwoProgramsTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.write("rigs/plover.toml", PLOVER.read_text())

    def test_both_change_other_keys_as_fast_as_they_can(self) -> None:
        """Each writes forty values; none is lost, whoever saves when."""
        seen = set()
        context = multiprocessing.get_context("spawn")
        keys = ("shaping.forward.curve", "shaping.turn.curve")
        both = [
            context.Process(target=_nudge, args=(self.path, key, list(range(1, 41)), str(self.folder / f"{i}.json")))
            for i, key in enumerate(keys)
        ]
        for one in both:
            one.start()
        while any(one.is_alive() for one in both):
            with contextlib.suppress(OSError):
                shaping = tomllib.loads(self.path.read_text("utf-8"))["shaping"]
                seen.add((shaping["forward"].get("curve"), shaping["turn"].get("curve")))
        for one in both:
            one.join()
            self.assertEqual(one.exitcode, 0)
        rig = read_rig(self.path)
        self.assertEqual((rig.shaping.forward.curve, rig.shaping.turn.curve), (0.4, 0.4))
        self.assertGreater(len(seen), 2)

    def test_both_change_the_same_key(self) -> None:
        one, two = RigFile(self.path), RigFile(self.path)
        one.put("shaping.forward.dead_band", "11 %")
        with self.assertRaisesRegex(
            ChangedOutside,
            "shaping.forward.dead_band was just changed by another program, to 11 %; do it again to have 22 %",
        ):
            two.put("shaping.forward.dead_band", "22 %")
        self.assertEqual(
            (two.rig.shaping.forward.dead_band, read_rig(self.path).shaping.forward.dead_band), (0.11, 0.11)
        )
        two.put("shaping.forward.dead_band", "22 %")
        self.assertEqual(read_rig(self.path).shaping.forward.dead_band, 0.22)
        # another key is merged, and told
        one.put("shaping.turn.dead_band", "13 %")
        self.assertIn("changed by another program; taken in", one.news)
        rig = read_rig(self.path)
        self.assertEqual((rig.shaping.forward.dead_band, rig.shaping.turn.dead_band), (0.22, 0.13))
        # an undo does not take back unseen what someone else has just done
        two.put("law.full_forward", "0.5 m/s")
        with self.assertRaisesRegex(ChangedOutside, "do it again to undo that"):
            one.undo()
        self.assertEqual(read_rig(self.path).law.full_forward_m_s, 0.5)

    def test_a_program_that_keeps_the_folder_is_not_waited_for_long(self) -> None:
        with alone(self.path), self.assertRaisesRegex(SaveError, "another program is saving"):
            RigFile(self.path).put("shaping.forward.dead_band", "11 %")


class LeftBehindTest(TempCase):
    def test_swept_at_the_next_start(self) -> None:
        home = self.demo()
        (home / "exports").mkdir()
        old = time.time() - 3600
        gone = [home / "exports" / ".curve.pdf.abc.part", home / "rigs" / ".plover.toml.x.part"]
        gone += [home / "inputs" / "keys-20260101-120000.csv", home / "inputs" / "keys-20260101-120001.csv"]
        stays = [
            home / "inputs" / "keys-20260101-120002.csv",
            home / "inputs" / "mine.csv",
            home / "exports" / ".curve.pdf.new.part",
        ]
        for path, text in zip(
            (*gone, *stays), ("", "", "", "t,left_y\r\n", "t,left_y\r\n0,0\r\n", "t\n", "x"), strict=True
        ):
            path.write_text(text)
            os.utime(path, (old, old))
        os.utime(stays[-1])  # another program may be saving just now
        open_folder(home).sweep()
        self.assertEqual([p.exists() for p in (*gone, *stays)], [False] * 4 + [True] * 3)

    def test_a_recording_that_could_not_begin_or_go_on_leaves_no_empty_file(self) -> None:
        sticks = ScreenSticks()
        no_room = OSError(28, "No space left on device")
        with (
            mock.patch("pivrex.session.recorder.free_name", return_value=Path("/dev/full")),
            mock.patch.object(Path, "unlink") as unlink,
        ):
            with self.assertRaises(OSError), mock.patch.object(Path, "open", lambda *_a, **_k: open("/dev/full", "w")):  # noqa: PTH123
                Recorder(self.folder, sticks, Line(plain_rig()), 0.0)
            unlink.assert_called()
        recorder = Recorder(self.folder, sticks, Line(plain_rig()), 0.0)
        with mock.patch.object(recorder, "_write_what_came", side_effect=no_room):
            recorder.end(1.0)
            recorder.wait()
        self.assertFalse(recorder.path.exists())

    def test_a_killed_recording_has_all_but_the_last_half_second(self) -> None:
        context = multiprocessing.get_context("spawn")
        ours, theirs = context.Pipe()
        one = context.Process(target=_record_for_ever, args=(self.folder, theirs))
        one.start()
        self.addCleanup(one.kill)
        path = Path(ours.recv())
        wait_for(lambda: len(path.read_bytes()) > 2000)
        last_s = ours.recv()
        while ours.poll():
            last_s = ours.recv()
        seen_s = last_s
        while last_s < seen_s + 0.9:  # long enough for it to be written some times more
            last_s = ours.recv()
        one.kill()
        one.join()
        killed_s = last_s
        while ours.poll():
            with contextlib.suppress(EOFError):
                killed_s = ours.recv()
                continue
            break
        rows = path.read_text("ascii").splitlines()
        if not path.read_text("ascii").endswith("\n"):
            rows = rows[:-1]
        self.assertGreater(float(rows[-1].split(",")[0]), killed_s - 0.5 - 0.25)
        self.assertGreater(len(list(Recording(path).readings())), 20)

    def test_no_shared_memory_stays_whoever_is_killed(self) -> None:
        names = Path("/dev/shm")
        client = SessionClient()
        self.addCleanup(client.close)
        name = client._ring.name.lstrip("/")
        client.set_up(SetUp(plain_rig(), None, gamepads=False))
        wait_for(lambda: bool(client.rows()))
        self.assertFalse((names / name).exists())  # as soon as both have it
        # of a program that was killed before its session had it
        left = names / "pivrex-4194303-abcd"
        left.write_bytes(b"x")
        SessionClient().close()
        self.assertFalse(left.exists())
        os.kill(client.process_id, 9)
        wait_for(lambda: not client.alive)
        client.close()
        self.assertFalse((names / name).exists())

    def test_a_start_that_fails_logs_nothing_of_its_own(self) -> None:
        empty = self.folder / "empty"
        empty.mkdir()
        terminal = Terminal(str(empty), env={"PIVREX_HOME": str(self.home)})
        self.addCleanup(terminal.close)
        terminal.wait("ENDED with 1")
        log = self.home / "log" / "pivrex.log"
        self.assertEqual(log.read_text() if log.exists() else "", "")


def _record_for_ever(folder: Path, wire: object) -> None:
    sticks = ScreenSticks()
    began = time.perf_counter()
    recorder = Recorder(folder, sticks, Line(plain_rig()), began)
    wire.send(str(recorder.path))  # type: ignore[attr-defined]
    for i in range(10**6):
        now = time.perf_counter()
        recorder.add({"sticks": {"left_y": i % 100 / 100}}, {"sticks": sticks}, now)
        wire.send(now - began)  # type: ignore[attr-defined]
        time.sleep(0.01)


KEYS = (
    *"abcdefghijklmnoprstuvwyz0123456789=+-?,./[]{}<>;'`~!@#$%^&*()_|\" BFGHLNOPRSTVWZ",
    *(
        "enter",
        "escape",
        "tab",
        "shift+tab",
        "space",
        "backspace",
        "delete",
        "up",
        "down",
        "left",
        "right",
        "home",
        "end",
    ),
    *(
        "pageup",
        "pagedown",
        "f1",
        "f2",
        "f5",
        "ctrl+p",
        "ctrl+l",
        "ctrl+s",
        "ctrl+z",
        "ctrl+y",
        "ctrl+d",
        "shift+left",
        "shift+up",
    ),
)
"""All but those that leave (Ctrl+Q), and those that write a drawing each time, which only cost time (x)."""


class MashCase(AppCase):
    def setUp(self) -> None:
        super().setUp()
        for name in ("pivrex-answers", "pivrex-helper", "pivrex-preview"):
            self.enterContext(answered(name, never=True))  # what works in the background is tried elsewhere

    async def type(self, keys: list[str]) -> None:
        """Send keys as fast as they come, as a terminal does."""
        for key in keys:
            self.app.post_message(
                events.Key(_character_to_key(key) if len(key) == 1 else key, key if len(key) == 1 else None)
            )

    async def mash(self, seed: int, count: int) -> None:
        """Press keys in all views; also while lists and entries open and close. None may end it."""
        shutil.rmtree(self.home / "inputs")
        (self.home / "inputs").mkdir()
        keep_two(self.home, Event(1.0, 60, "bump", "it stands against something"))
        chance = random.Random(seed)
        # the palette offers it, and whoever chooses that means it
        left = mock.patch.object(PivrexApp, "act_quit", lambda app: app.model.say("left"))
        left.start()
        self.addCleanup(left.stop)
        async with self.running(size=(80, 24)):
            for go in range(count // 100):
                keys = ["escape", "escape", "1234567"[go % 7], *(chance.choice(KEYS) for _ in range(97))]
                while keys:
                    some = chance.choice((1, 12, 40, 97))
                    await self.type(keys[:some])
                    keys = keys[some:]
                    await self.pilot.pause()
                    self.assertTrue(self.app.is_running and self.app._exception is None, keys)
                self.app.frame()
                self.kept_is_fresh()
            self.assertTrue(self.app.is_running)
        self.assertEqual(self.app.return_code or 0, 0)
        for path in (self.home / "rigs").glob("*.toml"):
            read_rig(path)


@slow
class MashOneTest(MashCase):
    @in_loop
    async def test_thousands_of_keys(self) -> None:
        await self.mash(20261126, often(10_000, 800))


@slow
class MashTwoTest(MashCase):
    @in_loop
    async def test_thousands_of_others(self) -> None:
        await self.mash(4711, often(10_000, 800))


class QuickKeysTest(MashCase):
    @in_loop
    async def test_enter_twice_in_an_entry_and_escape_at_once_after_the_palette(self) -> None:
        async with self.running(view="shaping"):
            for keys in (["=", "enter", "enter"], ["ctrl+p", "escape"], ["ctrl+p", "escape", "escape"]):
                await self.type(keys)
                for _ in range(4):
                    await self.pilot.pause()
                self.assertTrue(self.app.is_running)
                self.assertEqual(len(self.app.screen_stack), 1, keys)
