"""Key releases: the part of the kitty keyboard protocol that Textual's parser leaves out.

The terminal is asked for event types (progressive enhancement flag 2) next to the flags that Textual sets, and which
flags it took on. Its sequences are ``CSI code ; modifiers : type u`` with type 1 press, 2 repeat, 3 release.
Source: the published description of the protocol, "Progressive enhancement" and "Event types".
"""

from __future__ import annotations

import asyncio
import re
import signal
from collections.abc import Iterable

from textual import events
from textual._xterm_parser import XTermParser
from textual.driver import Driver
from textual.keys import Keys
from textual.message import Message

__all__ = ["FocusReported", "KeyReleased", "ReleaseParser", "ReleasesReported", "ask_terminal", "install"]

ASK = "\x1b[=2;2u\x1b[?u\x1b[?1004$p"
"""Set flag 2 and leave the others; then ask which are set, and whether focus (mode 1004) is known."""

EVENT_TYPES = 2

_TYPED = re.compile(r"\x1b\[([\d:]*);(\d*):(\d)((?:;[\d:]*)?)([u~ABCDEFHPQRS])")
_FOCUS = re.compile(r"\x1b\[\?1004;(\d)\$y")
_FLAGS = re.compile(r"\x1b\[\?(\d+)u")


class KeyReleased(Message):
    """A key came up."""

    def __init__(self, key: str) -> None:
        super().__init__()
        self.key = key


class ReleasesReported(Message):
    """The terminal reports releases from now on."""

    key = ""


class FocusReported(Message):
    """The terminal says when its window loses the focus."""

    key = ""


class ReleaseParser(XTermParser):
    """Textual's parser, with event types."""

    def _sequence_to_key_events(self, sequence: str, alt: bool = False) -> Iterable[events.Key]:
        if match := _FLAGS.fullmatch(sequence):
            if int(match[1]) & EVENT_TYPES:
                yield ReleasesReported()  # type: ignore[misc] # the caller only hands it on
            else:
                yield events.Key(Keys.Ignore, sequence)
            return
        if match := _FOCUS.fullmatch(sequence):
            # 0 is an unknown mode, 4 one that stays off
            if match[1] in "123":
                yield FocusReported()  # type: ignore[misc]
            else:
                yield events.Key(Keys.Ignore, sequence)
            return
        if match := _TYPED.fullmatch(sequence):
            code, modifiers, kind, text, end = match.groups()
            plain = f"\x1b[{code};{modifiers}{text}{end}"
            for key in super()._sequence_to_key_events(plain, alt):
                if kind == "3":
                    yield KeyReleased(key.key)  # type: ignore[misc]
                else:
                    yield key
            return
        yield from super()._sequence_to_key_events(sequence, alt)


def install() -> None:
    """Let Textual's driver for terminals use this parser. It looks the name up when its input thread starts."""
    try:
        from textual.drivers import linux_driver
    except ImportError:  # a system without terminals of this kind
        return
    setattr(linux_driver, "XTermParser", ReleaseParser)  # noqa: B010 - it is no public name, so no checker knows it


def ask_terminal(driver: Driver) -> None:
    """Ask the terminal what it reports, and again when the program goes on after a stop from outside (SIGSTOP, SIGCONT).

    Textual does not notice such a stop: it would read the keys twice from then on, and the program would not end.
    """

    def go_on() -> None:
        if driver._auto_restart:  # else an editor has the terminal
            driver.suspend_application_mode()
            driver.resume_application_mode()
            ask_terminal(driver)

    driver.write(ASK)
    driver.flush()
    if hasattr(signal, "SIGCONT"):
        asyncio.get_running_loop().add_signal_handler(signal.SIGCONT, go_on)
