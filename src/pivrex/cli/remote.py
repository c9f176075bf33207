"""`pivrex remote --pad`: a stand-in gamepad, moved by typed lines or by a recording."""

from __future__ import annotations

import contextlib
import sys
import time
from pathlib import Path

from pivrex.devices.pad_stand_in import PadRemote, port_file
from pivrex.devices.recording import Recording
from pivrex.errors import PivrexError
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.session.places import runtime_folder

__all__ = ["be_a_pad"]

HOW = """\
a stand-in gamepad, plugged in. What to type:
  left_y -0.6          a stick or trigger, and where to (-1 to 1, away and left are negative)
  left_y -1 left_x 0.2 several at once
  press button_5       press and let go
  rest                 let go of everything
  wait 0.5             wait so many seconds
  unplug               pull the plug and end (as the end of input does)"""


def be_a_pad(port: int, play: Path | None) -> None:
    """Plug a gamepad into a running Pivrex and work its sticks; raises `PivrexError` if none listens."""
    try:
        pad = PadRemote(port or _found_port())
    except OSError as problem:
        raise PivrexError(
            f"no Pivrex listens for stand-in gamepads on port {port or 'it left'}: {problem}; start it with --pad"
        ) from None
    with contextlib.closing(_Plug(pad)):
        if play is not None:
            _play(pad, play)
            return
        if sys.stdin.isatty():
            print(HOW)
        for number, line in enumerate(sys.stdin, 1):
            if not _obey(pad, line.split(), number):
                return


class _Plug:
    def __init__(self, pad: PadRemote) -> None:
        self._pad = pad

    def close(self) -> None:
        self._pad.unplug()


def _found_port() -> int:
    try:
        return int(port_file(runtime_folder()).read_text("ascii"))
    except (OSError, ValueError):
        raise PivrexError("no Pivrex has said where it listens; start it with --pad, or give --port") from None


def _play(pad: PadRemote, path: Path) -> None:
    start = time.monotonic()
    for reading in Recording(path).readings():
        time.sleep(max(0.0, start + reading.t_s - time.monotonic()))
        pad.move(**reading.raw)


def _obey(pad: PadRemote, words: list[str], number: int) -> bool:
    """Do one line; tells whether to go on."""
    match words:
        case []:
            return True
        case ["unplug"]:
            return False
        case ["rest"]:
            pad.move(**dict.fromkeys(CHANNELS, 0.0))
        case ["wait", seconds] if _is_number(seconds):
            time.sleep(min(60.0, max(0.0, float(seconds))))
        case ["press", button] if button in CHANNELS and is_one_sided(button):
            pad.move(**{button: 1.0})
            time.sleep(0.1)
            pad.move(**{button: 0.0})
        case _ if len(words) % 2 == 0 and all(c in CHANNELS for c in words[::2]) and all(map(_is_number, words[1::2])):
            low = {c: 0.0 if is_one_sided(c) else -1.0 for c in words[::2]}
            pad.move(**{c: max(low[c], min(1.0, float(v))) for c, v in zip(words[::2], words[1::2], strict=True)})
        case _:
            print(f"line {number}: {' '.join(words)!r} is not understood", file=sys.stderr)
    return True


def _is_number(text: str) -> bool:
    try:
        return abs(float(text)) < 1e9
    except ValueError:
        return False
