"""Key releases, and who has the keyboard: the terminal, or a small window that sees presses and releases."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from textual import events
from textual.keys import _character_to_key
from textual.message import Message

from pivrex.devices.key_window import has_display
from pivrex.devices.keys import DRIVE_KEYS, KeysMode
from pivrex.session.messages import KeyUp, LetGo, SetKeysMode, Stop
from pivrex.tui.draw.bar import state_word
from pivrex.tui.model import ScreenModel
from pivrex.tui.releases import KeyReleased

if TYPE_CHECKING:
    from textual.app import App

    _Base = App[int]
else:
    _Base = object

__all__ = ["SILENT_S", "KeyWindow", "WindowKeys", "WindowSaid"]

COMES_S = 0.3
"""After the terminal lost the focus the window may still get it within this time."""

SILENT_S = 0.25
"""A window that has said nothing for so long holds no key."""


class KeyWindow:
    """One window, in a process of its own.

    Attributes
    ----------
    has_focus : bool
        Whether it is in front: then it has the keyboard.
    problem : str
        Why it is gone; empty if a person closed it, or while it is there.

    Parameters
    ----------
    heard : callable
        Is called with each line that the window says but its beats, and with "closed" when it has gone; in a thread of its own.
    """

    def __init__(self, heard: Callable[[str], object]) -> None:
        env = {k: v for k, v in os.environ.items() if k != "SDL_VIDEODRIVER"}
        self._process = subprocess.Popen(
            [sys.executable, "-m", "pivrex.devices.key_window"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, text=True, env=env,
        )  # fmt: skip
        self._heard, self._shown = heard, ""
        self._beat_s = time.monotonic() + 5.0  # it needs a moment to open
        self.has_focus, self.problem, self.is_open = False, "", True
        threading.Thread(target=self._listen, daemon=True).start()

    @property
    def process_id(self) -> int:
        """Its process."""
        return self._process.pid

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            self._beat_s = time.monotonic()
            word, _, rest = line.strip().partition(" ")
            if word == "problem":
                self.problem = rest
            elif word != "beat":
                if word == "focus":
                    self.has_focus = rest == "1"
                self._heard(line.strip())
        self.is_open = self.has_focus = False
        self._heard("closed")

    @property
    def is_silent(self) -> bool:
        """Whether it hangs: it is open, and its heartbeat is missing."""
        return self.is_open and time.monotonic() - self._beat_s > SILENT_S

    def show(self, shown: dict[str, str]) -> None:
        """Let it show what there is now: "state", "rig", "drives" and "why"."""
        line = json.dumps(shown)
        if line == self._shown or not self.is_open:
            return
        self._shown = line
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(line + "\n")
            self._process.stdin.flush()
        except (BrokenPipeError, OSError, ValueError):
            self.is_open = False

    def close(self, at_once: bool = False) -> None:
        """End it."""
        self.has_focus = False
        if at_once:
            self._process.kill()
        elif self._process.stdin is not None:
            try:
                self._process.stdin.close()
            except OSError:
                self._process.kill()
        try:
            self._process.wait(1.0)
        except subprocess.TimeoutExpired:
            self._process.kill()


class WindowSaid(Message):
    """A line that the window for keys said."""

    def __init__(self, line: str) -> None:
        super().__init__()
        self.line = line


class WindowKeys(_Base):
    """For the application. Losing the keyboard rests the robot, and stops a live one; going over from the terminal to the window for
    keys is no loss.
    """

    model: ScreenModel
    _waits: bool
    views_have_keys: Callable[[], bool]
    obey: Callable[[events.Key], None]
    action_stop_first: Callable[[str], None]
    window: KeyWindow | None = None
    _reports_releases = _reports_focus = _window_drives = False
    _mode_before: KeysMode = "latched"

    # --- the terminal's ---

    @property
    def button_keys(self) -> dict[str, str]:
        """Which key presses which button of the open rig."""
        return self.model.button_keys

    def on_key_released(self, message: KeyReleased) -> None:
        key = self.button_keys.get(message.key, message.key.lower())
        if key in DRIVE_KEYS or key in self.button_keys.values():
            self.model.ask(KeyUp(key))

    def on_releases_reported(self) -> None:
        self._reports_releases = True
        self.model.ask(SetKeysMode("held"))

    def on_focus_reported(self) -> None:
        self._reports_focus = True

    def on_app_focus(self) -> None:
        self._reports_focus = True

    def on_app_blur(self) -> None:
        """The terminal lost the focus: keys that come up now are not seen there."""
        self._reports_focus = True
        if self.window is None or not self.window.is_open:
            self._keyboard_lost("the window lost the focus")
        elif not self.window.has_focus:
            self.model.ask(LetGo())
            self.set_timer(COMES_S, self._look_for_window)

    def _look_for_window(self) -> None:
        if not self.app_focus and (self.window is None or not self.window.has_focus):
            self._keyboard_lost("the window lost the focus")

    def _keyboard_lost(self, why: str) -> None:
        self.model.ask(Stop(why) if self.model.status.live else LetGo())

    # --- the window's ---

    def act_key_window(self) -> None:
        """Open the window for keys, or close it."""
        if self.window is not None and self.window.is_open:
            self.window.close()
        elif not has_display():
            self.model.say("no window for keys: there is no display here", alarm=True)
        else:
            self.window = KeyWindow(lambda line: self.post_message(WindowSaid(line)))
            self.model.say("a window for keys opens: keys drive while it is in front")

    def on_window_said(self, message: WindowSaid) -> None:
        word, _, key = message.line.partition(" ")
        if word == "down":
            self._pressed(key)
        elif word == "up":
            self.on_key_released(KeyReleased(key))
        elif message.line == "focus 1":
            self._window_entered()
        elif message.line == "focus 0":
            self._window_left("the window for keys lost the focus")
        elif word == "closed":
            problem = self.window.problem if self.window is not None else ""
            self._window_left("the window for keys was closed")
            if problem:
                self.model.say(f"no window for keys: {problem}", alarm=True)

    def _pressed(self, key: str) -> None:
        """Take a press in the window as one here; one that drives only while the views have the keys, for its release comes at once."""
        event = events.Key(_character_to_key(key) if len(key) == 1 else key, key if len(key) == 1 else None)
        if key == "escape":
            self.action_stop_first("Esc")
        elif key not in DRIVE_KEYS and key not in self.button_keys:
            self.post_message(event)
        elif self.views_have_keys() and not self._waits:
            self.obey(event)

    def _window_entered(self) -> None:
        if not self._window_drives:
            self._window_drives, mode = True, self.model.status.keys_mode
            self._mode_before = mode if mode != "held" else self._mode_before
            self.model.ask(SetKeysMode("held"))

    def _window_left(self, why: str) -> None:
        if self._window_drives:
            self._window_drives = False
            self.model.ask(SetKeysMode("held" if self._reports_releases else self._mode_before))
            self._keyboard_lost(why)

    def tend_window(self) -> None:
        """Update the window, once per frame, and notice that it hangs."""
        window, model = self.window, self.model
        if window is None or not window.is_open:
            return
        if window.is_silent:
            self._window_left("the window for keys does not answer")
            return
        if window.has_focus:  # also one that answers again
            self._window_entered()
        status = model.status
        why = status.held or status.lost
        state, _ = state_word(status.live, why, status.watches, status.upright)
        title = next((s.title for s in status.sources if s.name == status.source), status.source)
        window.show({"state": state.strip(" !"), "rig": model.rig.name, "drives": title, "why": why})
