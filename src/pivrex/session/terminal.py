"""Restores the terminal of a screen that was killed."""

from __future__ import annotations

import contextlib
import os
import sys

__all__ = ["Terminal"]

# leave the other screen; show the cursor; no mouse, focus or paste reports; plain keys; lines wrap
RESET = "\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l\x1b[?1015l\x1b[?1016l\x1b[?1004l\x1b[?2004l\x1b[<u\x1b[?7h\x1b[0m"


class Terminal:
    """Remembers how the terminal was before the screen took it. Does nothing where there is none, or on Windows."""

    def __init__(self) -> None:
        self._descriptor = -1
        if sys.platform == "win32":
            return
        import termios

        with contextlib.suppress(OSError, termios.error):
            self._descriptor = os.open("/dev/tty", os.O_RDWR | os.O_NOCTTY)
            self._before = termios.tcgetattr(self._descriptor)

    def restore(self) -> None:
        """Bring it back. The caller must ignore SIGTTOU: by now a shell may be in front."""
        if sys.platform == "win32" or self._descriptor < 0:
            return
        import termios

        with contextlib.suppress(OSError, termios.error):
            os.write(self._descriptor, RESET.encode("ascii"))
            termios.tcsetattr(self._descriptor, termios.TCSANOW, self._before)
