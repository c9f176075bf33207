"""What many tests need: rigs to change, a workspace of their own, a terminal to drive."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.input_stages import sensed_columns
from pivrex.rig import Rig, read_text

ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src" / "pivrex" / "demo"
PLOVER = DEMO / "rigs" / "plover.toml"
WATERING = DEMO / "inputs" / "watering.csv"

T = TypeVar("T")


def slow(test: T) -> T:
    """Mark a class or method that `script/test --quick` leaves out: it takes seconds, and proves what others show."""
    test.slow = True  # type: ignore[attr-defined]
    return test


def often(count: int, share: int) -> int:
    """Return how often something random is tried: ``count`` times with `script/test --long`, else the first ``share`` of these."""
    return count if os.environ.get("PIVREX_TESTS_LONG") else share


# A rig whose numbers are easy to work by hand: top speed 1 m/s at each wheel, track 0.5 m, no dead band, no rates.
PLAIN = """\
name = "Plain"
lag = "0 s"
[chassis]
kind = "two-sided"
length = "400 mm"
width = "400 mm"
wheels = [
    { name = "left", x = "0 mm", y = "250 mm", radius = "100 mm" },
    { name = "right", x = "0 mm", y = "-250 mm", radius = "100 mm" },
]
[motors.left]
wheels = ["left"]
top_speed = "10 rad/s"
output = { kind = "fraction" }
[motors.right]
wheels = ["right"]
top_speed = "10 rad/s"
output = { kind = "fraction" }
[shaping.forward]
dead_band = 0
[shaping.turn]
dead_band = 0
[shaping.left]
dead_band = 0
[shaping.right]
dead_band = 0
[shaping.ahead]
dead_band = 0
[shaping.back]
dead_band = 0
[law]
kind = "arcade"
"""


def plain_rig(*changes: tuple[str, str]) -> Rig:
    """Read the plain rig with pieces of its text replaced."""
    text = PLAIN
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return read_text(text, Path("test.toml"), Rig)


def nothing_sensed(line: Line) -> NDArray[np.float64]:
    """What the sensors of a robot say that stands at the origin."""
    return np.zeros(len(sensed_columns(line.rig)))


class TempCase(unittest.TestCase):
    """A folder of its own, and a home so that no test touches a person's files."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="pivrex-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.home = self.folder / "home"
        before = os.environ.get("PIVREX_HOME")
        os.environ["PIVREX_HOME"] = str(self.home)

        def restore() -> None:
            if before is None:
                os.environ.pop("PIVREX_HOME", None)
            else:
                os.environ["PIVREX_HOME"] = before

        self.addCleanup(restore)

    def demo(self) -> Path:
        """Copy the demo workspace."""
        target = self.folder / "workspace"
        shutil.copytree(DEMO, target, ignore=shutil.ignore_patterns("__pycache__"))
        return target

    def write(self, name: str, text: str) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
        return path


def wait_for(what: Callable[[], object], seconds: float = 60.0, hint: Callable[[], str] | str = "") -> None:
    """Wait until ``what`` is true; fails with a hint."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if what():
            return
        time.sleep(0.03)
    raise AssertionError(f"not within {seconds:g} s: {hint() if callable(hint) else hint}")


def processes() -> list[tuple[int, int, str]]:
    """List what runs: process, parent, command line."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            parent = int((folder / "stat").read_text().rsplit(")", 1)[1].split()[1])
            words = (folder / "cmdline").read_bytes().replace(b"\0", b" ").decode("utf-8", "replace")
        except (OSError, IndexError):
            continue  # it has just ended
        found.append((int(folder.name), parent, words))
    return sorted(found)


class Terminal:
    """A program in a tmux of its own, driven by keys and read as text."""

    def __init__(
        self, *words: str, size: tuple[int, int] = (160, 47), env: dict[str, str] | None = None, config: str = ""
    ) -> None:
        self._looked_s = 0.0
        self.name = f"pivrex-{uuid.uuid4().hex[:10]}"
        self._config = Path(tempfile.mkdtemp(prefix="pivrex-tmux-"))
        (self._config / "conf").write_text(f"set -g focus-events on\nset -s escape-time 0\n{config}\n")
        env = {"DISPLAY": ":77", **(env or {})}  # there is a display unless a test says otherwise; nothing shows there
        variables = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "LC_ALL": "C.UTF-8", **env}
        variables.pop("TMUX", None)
        self._env = variables
        command = [sys.executable, "-m", "pivrex", *words]
        inner = " ".join(f"'{w}'" for w in command)
        exports = " ".join(f"'{k}={variables[k]}'" for k in ("PYTHONPATH", "LC_ALL", *env))
        home = variables.get("PIVREX_HOME", "")
        self._tmux(
            "new-session", "-d", "-x", str(size[0]), "-y", str(size[1]), "-s", "main",
            f"env PIVREX_HOME='{home}' {exports} {inner}; echo ENDED with $?; sleep 60",
        )  # fmt: skip

    def _tmux(self, *words: str) -> str:
        found = subprocess.run(
            ["tmux", "-L", self.name, "-f", str(self._config / "conf"), *words],
            capture_output=True, text=True, env=self._env, check=False,
        )  # fmt: skip
        return found.stdout

    def keys(self, *names: str) -> None:
        """Send keys by tmux's names."""
        for name in names:
            self._tmux("send-keys", "-t", "main", name)

    def click(self, text: str) -> None:
        """Click on a text on the screen, as tmux with the mouse on passes it to the program."""
        wait_for(lambda: text in self.screen(), 20, lambda: f"{text!r} in\n{self.screen()}")
        rows = self.screen().split("\n")
        y = next(i for i, row in enumerate(rows) if text in row)
        x = rows[y].index(text) + len(text) // 2
        for end in "Mm":  # pressed, and let go
            report = f"\x1b[<0;{x + 1};{y + 1}{end}"
            self._tmux("send-keys", "-t", "main", "-H", *(f"{byte:x}" for byte in report.encode("ascii")))

    def screen(self) -> str:
        """Return what is on the screen, ten times a second at most: to look at it is work for the machine too."""
        time.sleep(max(0.0, self._looked_s + 0.1 - time.monotonic()))
        self._looked_s = time.monotonic()
        return self._tmux("capture-pane", "-p", "-t", "main")

    def flags(self) -> str:
        """Tell, as 0 or 1, whether the other screen is on, and whether the mouse is reported."""
        return self._tmux("display-message", "-p", "-t", "main", "#{alternate_on} #{mouse_any_flag}").strip()

    def row(self, y: int) -> str:
        """Return a row of the screen, counted from the bottom if negative."""
        rows = self.screen().split("\n")[:-1]
        return rows[y] if -len(rows) <= y < len(rows) else ""

    def wait(self, text: str, seconds: float = 60.0) -> None:
        """Wait until a text is on the screen."""
        wait_for(lambda: text in self.screen(), seconds, lambda: f"{text!r} in\n{self.screen()}")

    def go_live(self) -> None:
        """Stop, go on and go live. A machine that stands still for a moment ends what is live: again then."""
        for _ in range(8):
            self.keys("Escape")
            wait_for(lambda: "STOPPED" in self.row(0), 20, self.screen)
            self.keys("g", "Space", "C-l")
            with contextlib.suppress(AssertionError):
                wait_for(lambda: " LIVE " in self.row(0), 3)
                return
        raise AssertionError(self.screen())

    def while_live(self, act: Callable[[], object], reached: Callable[[], object]) -> None:
        """Go live and act until something is reached, with as many tries as `go_live`."""
        for _ in range(8):
            self.go_live()
            act()
            with contextlib.suppress(AssertionError):
                wait_for(reached, 3)
                return
        raise AssertionError(self.screen())

    def resize(self, width: int, height: int) -> None:
        """Resize the window."""
        self._tmux("resize-window", "-t", "main", "-x", str(width), "-y", str(height))

    def pids(self) -> list[int]:
        """Return the processes of the program: screen first, then its children."""
        pane = self._tmux("list-panes", "-t", "main", "-F", "#{pane_pid}").strip()
        rows = processes()
        family, more = {int(pane)}, True
        ordered: list[int] = []
        while more:
            more = False
            for row in rows:
                pid, parent, words = row
                if parent in family and pid not in family:
                    family.add(pid)
                    more = True
                    if "python" in words and not words.startswith("sh "):
                        ordered.append(pid)
        return ordered

    def close(self) -> None:
        """End the tmux and all in it."""
        self._tmux("kill-server")
        shutil.rmtree(self._config, ignore_errors=True)
