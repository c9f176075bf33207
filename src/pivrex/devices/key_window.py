"""A small window with the keyboard, in a process of its own: real presses and releases where the terminal reports none.

It is started as ``python -m pivrex.devices.key_window``. Lines of JSON on its standard input say what it shows; what it writes on
its standard output are lines: ``down KEY``, ``up KEY``, ``focus 1``, ``focus 0`` and, twenty times a second, ``beat``. Keys have
the names that `pivrex.tui` gives them. It ends when its input does, so it never outlives the screen.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import queue
import sys
import threading
import time
from collections.abc import Mapping
from typing import Any

__all__ = ["BEAT_S", "KeysDown", "has_display", "main"]

BEAT_S = 0.05
"""How often it says that it is there."""

WIDTH, HEIGHT = 520, 190
CAPS = ("q", "w", "e", "a", "s", "d", "i", "j", "k", "l")
_PLACES = {
    "q": (0, 0),
    "w": (1, 0),
    "e": (2, 0),
    "a": (0, 1),
    "s": (1, 1),
    "d": (2, 1),
    "i": (7, 0),
    "j": (6, 1),
    "k": (7, 1),
    "l": (8, 1),
}
GROUND, TEXT, DIM = (16, 22, 20), (236, 230, 210), (150, 160, 150)
_LOOKS = {"LIVE": (255, 120, 90), "safe": (150, 190, 140), "STOPPED": (255, 120, 90)}

_NAMED = {
    "escape": "escape", "space": "space", "return": "enter", "backspace": "backspace", "tab": "tab", "delete": "delete",
    "up": "up", "down": "down", "left": "left", "right": "right", "home": "home", "end": "end",
    "pageup": "pageup", "pagedown": "pagedown",
}  # fmt: skip


def has_display(env: Mapping[str, str] | None = None) -> bool:
    """Return whether this computer can show a window."""
    env = os.environ if env is None else env
    return sys.platform in ("darwin", "win32") or bool(env.get("DISPLAY") or env.get("WAYLAND_DISPLAY"))


class KeysDown:
    """The keys that are down, as events of a window say it: each press and release once, and all come up with the focus."""

    def __init__(self) -> None:
        self._down: dict[int, str] = {}

    def __iter__(self) -> Any:
        return iter(self._down.values())

    def press(self, code: int, name: str) -> list[str]:
        """Take a press of a key by its code; returns what is to be said. A key that is down repeats, which says nothing."""
        if not name or code in self._down:
            return []
        self._down[code] = name
        return [f"down {name}"]

    def release(self, code: int) -> list[str]:
        """Take a release. The key has the name with which it went down, whatever else is down now."""
        name = self._down.pop(code, "")
        return [f"up {name}"] if name else []

    def focus(self, there: bool) -> list[str]:
        """Take a change of the focus: without it the window sees no releases."""
        ups = [] if there else [f"up {name}" for name in self._down.values()]
        if not there:
            self._down.clear()
        return [*ups, f"focus {int(there)}"]


def key_named(sdl_name: str, shift: bool, ctrl: bool) -> str:
    """Return the screen's name of a key from SDL's, such as ``W``, ``Escape`` or ``F1``; empty for one that has none."""
    name = sdl_name.lower()
    if len(name) == 1 and name.isalpha():
        name = name.upper() if shift and not ctrl else name
    elif len(name) > 1 and not (name in _NAMED or (name[0] == "f" and name[1:].isdecimal())):
        return ""
    name = _NAMED.get(name, name)
    return f"ctrl+{name.lower()}" if ctrl else name


def drawn(shown: Mapping[str, str], down: set[str]) -> bytes:
    """Draw the window: WIDTH · HEIGHT points of red, green, blue."""
    from PIL import Image, ImageDraw, ImageFont

    image = Image.new("RGB", (WIDTH, HEIGHT), GROUND)
    draw = ImageDraw.Draw(image)
    large, small = ImageFont.load_default(26), ImageFont.load_default(15)
    state = shown.get("state", "")
    draw.text((14, 8), state, _LOOKS.get(state, TEXT), large)
    draw.text((150, 18), f"{shown.get('rig', '')}   {shown.get('drives', '')}", TEXT, small)
    draw.text((14, 46), shown.get("why", ""), _LOOKS["STOPPED"] if shown.get("why") else DIM, small)
    for key, (column, row) in _PLACES.items():
        x, y = 100 + column * 36, 74 + row * 36
        on = key in down
        draw.rounded_rectangle((x, y, x + 30, y + 30), 5, TEXT if on else GROUND, TEXT if on else DIM)
        draw.text((x + 15, y + 15), key, GROUND if on else TEXT, small, anchor="mm")
    draw.text((14, HEIGHT - 28), "Esc stops   Space lets go   keys drive while this window is in front", DIM, small)
    return image.tobytes()


class _Window:
    """SDL's window with what is drawn in it."""

    def __init__(self) -> None:
        os.environ.pop("SDL_VIDEODRIVER", None)  # the video driver for gamepads shows nothing
        import sdl2

        self._sdl = sdl2
        if sdl2.SDL_Init(sdl2.SDL_INIT_VIDEO) != 0:
            raise OSError(sdl2.SDL_GetError().decode("utf-8", "replace") or "SDL shows no window")
        middle = sdl2.SDL_WINDOWPOS_CENTERED
        self._window = sdl2.SDL_CreateWindow(b"Pivrex keys", middle, middle, WIDTH, HEIGHT, sdl2.SDL_WINDOW_SHOWN)
        if not self._window:
            raise OSError(sdl2.SDL_GetError().decode("utf-8", "replace"))
        sdl2.SDL_RaiseWindow(self._window)
        self.keys = KeysDown()
        self.is_closed = False
        self._event = sdl2.SDL_Event()

    def said(self) -> list[str]:
        """Take what has happened since the last time."""
        sdl, event, found = self._sdl, self._event, []
        while sdl.SDL_PollEvent(ctypes.byref(event)):
            if event.type == sdl.SDL_KEYDOWN and not event.key.repeat:
                sym = event.key.keysym
                name = (sdl.SDL_GetKeyName(sym.sym) or b"").decode("utf-8", "replace")
                found += self.keys.press(
                    sym.scancode, key_named(name, bool(sym.mod & sdl.KMOD_SHIFT), bool(sym.mod & sdl.KMOD_CTRL))
                )
            elif event.type == sdl.SDL_KEYUP:
                found += self.keys.release(event.key.keysym.scancode)
            elif event.type == sdl.SDL_WINDOWEVENT and event.window.event == sdl.SDL_WINDOWEVENT_FOCUS_GAINED:
                found += self.keys.focus(True)
            elif event.type == sdl.SDL_WINDOWEVENT and event.window.event == sdl.SDL_WINDOWEVENT_FOCUS_LOST:
                found += self.keys.focus(False)
            elif event.type == sdl.SDL_QUIT:
                self.is_closed = True
        return found

    def show(self, shown: Mapping[str, str]) -> None:
        """Draw it again; without Pillow its title says the most."""
        sdl = self._sdl
        title = f"{shown.get('state', '')} {shown.get('rig', '')}: {shown.get('drives', '')}, Esc stops"
        sdl.SDL_SetWindowTitle(self._window, title.encode())
        try:
            points = drawn(shown, set(self.keys))
        except ImportError:
            return
        room = ctypes.create_string_buffer(points, len(points))
        picture = sdl.SDL_CreateRGBSurfaceFrom(room, WIDTH, HEIGHT, 24, 3 * WIDTH, 0x0000FF, 0x00FF00, 0xFF0000, 0)
        sdl.SDL_BlitSurface(picture, None, sdl.SDL_GetWindowSurface(self._window), None)
        sdl.SDL_UpdateWindowSurface(self._window)
        sdl.SDL_FreeSurface(picture)

    def close(self) -> None:
        self._sdl.SDL_DestroyWindow(self._window)
        self._sdl.SDL_Quit()


def _say(lines: list[str]) -> None:
    sys.stdout.write("".join(f"{line}\n" for line in lines))
    sys.stdout.flush()


def main() -> int:
    """Show the window until its input ends or a person closes it."""
    said: queue.Queue[str | None] = queue.Queue()

    def listen() -> None:
        for line in sys.stdin:
            said.put(line)
        said.put(None)

    threading.Thread(target=listen, daemon=True).start()
    with contextlib.suppress(ImportError):
        drawn({}, set())  # what draws takes a moment to load: not while keys wait
    try:
        window = _Window()
    except (OSError, ImportError) as problem:
        _say([f"problem {problem}"])
        return 1
    shown: dict[str, str] = {}
    beat_s, before = 0.0, None
    while not window.is_closed:
        lines = window.said()
        while not said.empty():
            line = said.get()
            if line is None:
                window.close()
                return 0
            shown = json.loads(line)
        now = time.monotonic()
        if now - beat_s >= BEAT_S:
            beat_s = now
            lines.append("beat")
        if lines:
            _say(lines)
        looks = (shown, tuple(window.keys))
        if looks != before:
            before = looks
            window.show(shown)
        time.sleep(0.004)
    window.close()
    return 0


if __name__ == "__main__":
    try:
        sys.exit(main())
    except BrokenPipeError:  # the screen has gone
        os._exit(0)
