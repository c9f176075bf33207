"""`pivrex remote`: simulates every kind of remote, from typed lines, keys, a script or a recording."""

from __future__ import annotations

import contextlib
import queue
import signal
import sys
import threading
import time
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Protocol

from pivrex.cli.remote_end import FarEnd, far_end
from pivrex.cli.remote_match import HOW as DESK_HOW
from pivrex.cli.remote_match import Desk
from pivrex.cli.simulator import stick_as_numbers
from pivrex.devices.encode import frame_of, letters_of, line_of, packet_of
from pivrex.devices.keys import DRIVE_KEYS, Keyboard
from pivrex.devices.seal import sealed
from pivrex.devices.simulated_pad import PadRemote, read_port_file
from pivrex.errors import PivrexError, ReadError
from pivrex.files import read_persons
from pivrex.formats.recording import Recording
from pivrex.lower import reason
from pivrex.rig import Rig
from pivrex.rig.channels import STICKS, is_one_sided
from pivrex.rig.field import Match
from pivrex.rig.sources import (
    FramesSource,
    GamepadSource,
    LettersSource,
    NumbersSource,
    PacketsSource,
    PinsSource,
    RigSource,
)
from pivrex.session.places import runtime_folder

__all__ = ["be_a_desk", "be_a_pad", "be_a_remote"]

HOW = """\
What to type:
  left_y -0.6          a stick, trigger or button, and where to (away and left are negative)
  left_y -1 left_x 0.2 several at once
  press button_5       press and let go
  send F               a letter (of a remote that sends letters)
  rest                 let go of everything
  wait 0.5             wait so many seconds
  silent 0.5           say nothing for so many seconds
  damage 3             send the next three with a broken check
  again                send the last one once more
  behind 5             go back by so many sequence numbers
  unplug               pull the plug and end (as the end of input does)"""

LARGEST_SCRIPT = 10_000_000

KEYS = "w a s d, i j k l, q e drive step by step; Space lets go; x ends"


class Remote(Protocol):
    """A remote whose controls are moved from here."""

    def move(self, **readings: float) -> None:
        """Move channels; the others stay."""
        ...

    def tick(self) -> None:
        """Report what is to be said now."""
        ...

    def obey(self, words: list[str]) -> bool:
        """Do what only this remote can; returns whether the words are such."""
        ...

    def unplug(self) -> None:
        """Pull the plug."""
        ...


def be_a_pad(port: int, play: Path | None, script: Path | None = None, keys: bool = False) -> None:
    """Plug a gamepad into a running Pivrex and work its sticks; raises `PivrexError` if none listens."""
    try:
        listens_at, token = read_port_file(runtime_folder())
    except PivrexError:
        raise PivrexError("no Pivrex of yours has said where it listens; start it with --pad") from None
    try:
        pad = PadRemote(port or listens_at, token)
    except OSError as problem:
        raise PivrexError(
            f"no Pivrex listens for simulated gamepads on port {port or 'it left'}: {reason(problem)}; start it with --pad"
        ) from None
    if sys.stdin.isatty():
        print("a simulated gamepad, plugged in.")
    _work(_Pad(pad), play, script, keys)


def be_a_remote(
    rig: Rig, name: str, at: Path | None, rate_hz: float, play: Path | None, script: Path | None, keys: bool
) -> None:
    """Be the remote of a rig's source.

    Raises
    ------
    PivrexError
        If the rig has no such source, or no one is at the other end.
    """
    spec = rig.sources.get(name)
    if spec is None:
        known = ", ".join(f'"{n}"' for n in rig.sources) or "none"
        raise PivrexError(f'{rig.name} has no source "{name}"; it has {known}')
    if isinstance(spec, GamepadSource):
        raise PivrexError(f"{name} is a gamepad; to simulate one say pivrex remote --pad")
    if isinstance(spec, PinsSource):
        spec = stick_as_numbers(rig, name)
    end = far_end(spec.wire, at)
    if sys.stdin.isatty():
        print(f"{name}, {spec.kind}, into {end.title}.")
    _work(_Wired(spec, end, rate_hz, rig.secret), play, script, keys)


def be_a_desk(settings: Match, rig: Rig | None, at: Path | None, script: Path | None) -> None:
    """Return the orders of a match into the wire that a workspace names; those of a ``rig`` with a key are sealed.

    Raises
    ------
    PivrexError
        If it names none, or no one is at the other end.
    """
    if settings.wire is None:
        raise PivrexError("workspace.toml: [match] has no wire; say where orders come from, such as wire = "
                          '{ kind = "udp", port = 5830 }')  # fmt: skip
    end = far_end(settings.wire, at)
    if sys.stdin.isatty():
        print(f"the desk of a match, into {end.title}.")
    _work(Desk(end, rig.secret if rig is not None else b""), None, script, False)


class _Pad:
    def __init__(self, pad: PadRemote) -> None:
        self._pad = pad

    def move(self, **readings: float) -> None:
        self._pad.move(**readings)

    def tick(self) -> None:
        """A gamepad says something only when it is moved."""

    def obey(self, words: list[str]) -> bool:
        return False

    def unplug(self) -> None:
        self._pad.unplug()


class _Wired:
    """A remote on a wire. Streams talk at a rate; letters when one is sent."""

    def __init__(self, spec: RigSource, end: FarEnd, rate_hz: float, key: bytes) -> None:
        self.spec, self._end, self._period_s = spec, end, 1.0 / rate_hz
        # a later start has a higher session number; a microcontroller counts how often it was switched on
        self._sign = partial(sealed, key, session=int(time.time())) if key else None
        self.sealed = bool(key)
        self._readings: dict[str, float] = {}
        self.seq = 0
        self.damaged = 0
        self.silent_until = 0.0
        self._last = b""
        self._due = time.monotonic()

    def move(self, **readings: float) -> None:
        self._readings.update(readings)

    def letter(self, text: str) -> None:
        """Send a letter."""
        assert isinstance(self.spec, LettersSource)
        self.seq += 1
        self._last = letters_of(self.spec, text, self.seq, self._sign)
        self._end.send(self._last)

    def obey(self, words: list[str]) -> bool:
        match words:
            case ["send", letters] if isinstance(self.spec, LettersSource):
                self.letter(letters)
            case ["silent", seconds] if _is_number(seconds):
                self.silent_until = time.monotonic() + float(seconds)
                _wait(self, float(seconds))
            case ["damage", count] if count.isdecimal():
                self.damaged = int(count)
            case ["again"]:
                self._end.send(self._last)
            case ["behind", count] if count.isdecimal():
                self.seq = max(-1, self.seq - int(count)) if self.sealed else self.seq - int(count)
            case _:
                return False
        return True

    def tick(self) -> None:
        now = time.monotonic()
        heard = self._end.heard()
        if heard and isinstance(self.spec, LettersSource):
            print(heard.decode("utf-8", "replace").replace("\r\n", "\n"), end="", flush=True)
        if isinstance(self.spec, LettersSource) or now < max(self._due, self.silent_until):
            return
        self._due = max(self._due + self._period_s, now)
        self._last = self._said()
        data = self._last
        if self.damaged:
            self.damaged -= 1
            middle = len(data) // 2
            data = data[:middle] + bytes([data[middle] ^ 1]) + data[middle + 1 :]
        self._end.send(data)

    def _said(self) -> bytes:
        self.seq += 1
        match self.spec:
            case NumbersSource():
                return line_of(self.spec, self._readings)
            case PacketsSource():
                return packet_of(self.spec, self._readings, self.seq, self._sign)
            case FramesSource():
                return frame_of(self.spec, self._readings)
        raise AssertionError(self.spec.kind)

    def unplug(self) -> None:
        self._end.close()


def _work(remote: Remote, play: Path | None, script: Path | None, keys: bool) -> None:
    """Move the remote's controls until the end of what says so."""
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))  # so that its serial line is closed
    with contextlib.closing(_Plug(remote)):
        if play is not None:
            _play(remote, play)
        elif keys:
            _by_keys(remote)
        elif script is not None:
            try:
                lines = read_persons(script, LARGEST_SCRIPT).splitlines()
            except ReadError as problem:
                raise PivrexError(str(problem)) from None
            _by_lines(remote, enumerate(lines, 1))
        else:
            if sys.stdin.isatty():
                print(DESK_HOW if isinstance(remote, Desk) else HOW)
            _by_lines(remote, _typed(remote))


class _Plug:
    def __init__(self, remote: Remote) -> None:
        self._remote = remote

    def close(self) -> None:
        self._remote.unplug()


def _wait(remote: Remote, seconds: float) -> None:
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0:
        remote.tick()
        time.sleep(min(0.004, left))
    remote.tick()


def _typed(remote: Remote) -> Iterator[tuple[int, str]]:
    """Return lines as they are typed, while the remote goes on talking."""
    lines: queue.Queue[str | None] = queue.Queue()

    def read() -> None:
        for line in sys.stdin:
            lines.put(line)
        lines.put(None)

    threading.Thread(target=read, daemon=True).start()
    number = 0
    while True:
        try:
            line = lines.get_nowait()
        except queue.Empty:
            _wait(remote, 0.01)
            continue
        if line is None:
            return
        number += 1
        yield number, line


def _play(remote: Remote, path: Path) -> None:
    start = time.monotonic()
    for reading in Recording(path).readings():
        _wait(remote, max(0.0, start + reading.t_s - time.monotonic()))
        remote.move(**{c.rpartition(".")[2]: v for c, v in reading.raw.items()})


def _by_lines(remote: Remote, lines: Iterator[tuple[int, str]] | enumerate[str]) -> None:
    for number, line in lines:
        if not _obey(remote, line.split("#")[0].split(), number):
            return


def _by_keys(remote: Remote) -> None:
    """Drive by single keys, as on the screen of Pivrex."""
    try:
        import termios
        import tty
    except ImportError:
        raise PivrexError("this system cannot read single keys; type lines instead") from None
    if not sys.stdin.isatty():
        raise PivrexError("keys need a terminal; for scripts there is --script")
    import os
    import select

    print(KEYS)
    keyboard = Keyboard()
    before = termios.tcgetattr(0)
    tty.setcbreak(0)
    try:
        while True:
            _wait(remote, 0.004)
            if not select.select([0], [], [], 0)[0]:
                continue
            key = os.read(0, 1).decode("ascii", "replace")
            if isinstance(remote, _Wired) and isinstance(remote.spec, LettersSource):
                if key == "\x04":
                    return
                remote.letter(key)
            elif key == "x":
                return
            elif key == " ":
                keyboard.rest()
            elif key in DRIVE_KEYS:
                keyboard.press(key, time.monotonic())
            remote.move(**keyboard.read(time.monotonic()))
    finally:
        termios.tcsetattr(0, termios.TCSADRAIN, before)


def _obey(remote: Remote, words: list[str], number: int) -> bool:
    """Do one line; returns whether to go on."""
    if remote.obey(words):
        return True
    match words:
        case []:
            return True
        case ["unplug"]:
            return False
        case ["rest"]:
            remote.move(**dict.fromkeys((*STICKS, *(c for c in _channels(remote))), 0.0))
        case ["wait", seconds] if _is_number(seconds):
            _wait(remote, min(60.0, max(0.0, float(seconds))))
        case ["press", button] if button in _channels(remote) and (is_one_sided(button) or isinstance(remote, _Wired)):
            remote.move(**{button: 1.0})
            _wait(remote, 0.1)
            remote.move(**{button: 0.0})
        case _ if (
            len(words) % 2 == 0
            and all(c in _channels(remote) for c in words[::2])
            and all(map(_is_number, words[1::2]))
        ):
            low = {c: 0.0 if is_one_sided(c) else -1.0 for c in words[::2]}
            remote.move(**{c: max(low[c], min(1.0, float(v))) for c, v in zip(words[::2], words[1::2], strict=True)})
        case _:
            print(f"line {number}: {' '.join(words)!r} is not understood", file=sys.stderr)
    return True


def _channels(remote: Remote) -> tuple[str, ...]:
    from pivrex.rig.channels import CHANNELS

    if isinstance(remote, Desk):
        return ()
    return remote.spec.channels() if isinstance(remote, _Wired) else CHANNELS


def _is_number(text: str) -> bool:
    try:
        return abs(float(text)) < 1e9
    except ValueError:
        return False
