"""The session's inputs: every source, which of them drives, which counts now, and what the line gets from them."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import numpy as np

from pivrex.devices.keys import Keyboard
from pivrex.devices.recorded import RecordedDriver
from pivrex.devices.remote import RemoteSource, remotes_of
from pivrex.devices.seal import Seal
from pivrex.devices.seal_book import SealBook
from pivrex.devices.source import Source
from pivrex.devices.sticks import ScreenSticks
from pivrex.errors import RecordingError
from pivrex.formats.recording import Recording
from pivrex.line.axes import Axes
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.line.questions.neutral import not_at_rest
from pivrex.rig import Rig
from pivrex.rig.channels import STICKS
from pivrex.rig.sources import GamepadSource
from pivrex.session.board import Board
from pivrex.session.guard import Guard
from pivrex.session.on_board import OnBoard
from pivrex.session.status import SourceInfo

__all__ = ["SessionInputs", "pad_names"]

TAKE_OVER = 0.5
"""A button of a gamepad or remote pressed this far takes over from a source that plays."""

KEYS = "keys"
"""The source that is always there and at rest."""


class SessionInputs:
    """All sources of a session.

    Attributes
    ----------
    sources : dict of str to Source
    remotes : dict of str to RemoteSource
        Those of the rig that have a wire.
    guards : dict of str to Guard
        Of remotes, and of gamepads that are lost or not let go yet.
    readings : dict of str to mapping
        What each source said in this tick, as far as it counts.
    lost : str
        Why the robot must stop: which source that moves it is not listened to; empty if it need not.
    raw : (R,) float64 or None
        What the line heard last.
    on_board : OnBoard or None
        What drives a board that is watched.
    hands : str
        The source that is the stick of such a board once it is live.
    """

    def __init__(self, board: Board, line: Line, recordings: tuple[Path, ...], memory: Path | None = None) -> None:
        self._board, self._line = board, line
        self.keys, self.sticks = Keyboard(), ScreenSticks()
        self.sources: dict[str, Source] = {s.name: s for s in (self.keys, self.sticks)}
        self.remotes: dict[str, RemoteSource] = {}
        self.guards: dict[str, Guard] = {}
        self.readings: dict[str, Mapping[str, float]] = {}
        self.lost = ""
        self.raw: Floats | None = None
        self.on_board: OnBoard | None = None
        self.hands = KEYS
        self._away: set[str] = set()
        """Gamepads that are lost."""
        self._recordings = list(recordings)
        self._book = SealBook(memory)
        board.set(source=KEYS)
        self._open_recordings()
        self._open_remotes()

    @property
    def driver(self) -> Source:
        """The source that drives."""
        return self.sources[self._board.status.source]

    @property
    def driver_name(self) -> str:
        """The source whose calibration counts."""
        driver = self.driver
        return driver.driven_by(self._line) if isinstance(driver, RecordedDriver) else driver.name

    def seal(self, name: str) -> Seal | None:
        """Return the seal of someone who speaks with the rig's key; None for a rig that has none."""
        secret = self._line.rig.secret
        return self._book.seal(secret, name) if secret else None

    # --- which there are ---

    def use(self, line: Line) -> str:
        """Continue with a changed rig's line; returns why the robot must stop for it, empty if it need not."""
        other_rate = line.dt_s != self._line.dt_s
        self._line, self.raw = line, None
        self._open_remotes()
        if other_rate:
            self._open_recordings()
        if self._board.status.source not in self.sources:
            self.rest_on_keys()
        self.tell()
        lacks = self.lacks(self.driver)
        if not lacks:
            return ""
        reason = f"{self.driver.name} has no {', '.join(lacks)}, which the law {line.rig.law.kind} reads"
        self.rest_on_keys()
        return reason

    def _open_remotes(self) -> None:
        """Open the wires of the rig's own sources; one that is described as before stays open."""
        wanted = remotes_of(self._line.rig, self.remotes, self._book)
        for name, remote in self.remotes.items():
            if wanted.get(name) is not remote:
                remote.close()
                self.guards.pop(name, None)
                self.sources.pop(name, None)
        self.remotes = wanted
        self.sources.update(wanted)
        for name, remote in wanted.items():
            if name not in self.guards:
                self.guards[name] = Guard(remote)

    def _open_recordings(self) -> None:
        """Open all recordings at the rig's rate."""
        for name in [n for n, s in self.sources.items() if s.can.plays]:
            del self.sources[name]
        for path in self._recordings:
            self._open(path)

    def add_recording(self, path: Path) -> None:
        """Let a new recording be chosen."""
        self._recordings.append(path)
        self._open(path)
        self.tell()

    def _open(self, path: Path) -> None:
        try:
            driver = RecordedDriver(Recording(path), self._line.dt_s)
        except RecordingError as problem:
            self._board.note(str(problem))
            return
        self.sources[driver.name] = driver

    def pads_are(self, pads: Mapping[str, Source]) -> None:
        """Take the gamepads that are there now. One that was in use and is gone stays listed as lost until it is back."""
        line, chosen = self._line, self._board.status.source
        known = {name: s for name, s in self.sources.items() if s.kind == "gamepad" and name not in self._away}
        notes = []
        for name in [name for name, source in known.items() if pads.get(name) is not source]:
            lost = self.sources[name]
            notes.append(lost.lost or f"{name} is gone")
            if (
                name == chosen
                or name in line.rig.sources
                or any(source == "gamepad" for source, _ in line.inputs.wanted)
            ):
                self._away.add(name)
                guard = self.guards[name] = Guard(lost)
                guard.reason = guard.reason or f"{name} is gone"
            else:
                del self.sources[name]
        for name in [name for name, pad in pads.items() if known.get(name) is not pad]:
            self.sources[name] = pads[name]
            if name in self._away:
                self._away.discard(name)
                self.guards[name].source = pads[name]
                notes.append(f"{pads[name].title} is back; let go of it")
            else:
                notes.append(f"{pads[name].title} is there; press one of its buttons to take over")
        for note in notes:
            self._board.note(note)
        if notes:
            self.tell()

    def tell(self) -> None:
        """Tell the screen what may be chosen."""
        waits = {n: self.guards[n].reason if n in self.guards else s.lost for n, s in self.sources.items()}
        infos = (
            SourceInfo(n, s.kind, s.title, s.can, () if s.can.joins else self.lacks(s), waits[n])
            for n, s in self.sources.items()
        )
        self._board.set(sources=tuple(infos))

    def lacks(self, source: Source) -> tuple[str, ...]:
        """Name the channels that the law reads and a source has not."""
        there, line = source.channels(), self._line
        needed = line.inputs.wanted[: len(line.functions)]
        return tuple(c for kind, c in needed if c not in there and kind in ("chosen", source.kind))

    def watch(self, name: str) -> OnBoard:
        """List what drives a board that is watched, as the one that drives here."""
        self.on_board = OnBoard(name, self._line.rig.sources[name])
        self.sources[name] = self.on_board
        self._board.set(source=name, upright=False)
        self.tell()
        return self.on_board

    def watch_no_longer(self) -> None:
        """Take it off the list."""
        if self.on_board is not None:
            self.sources.pop(self.on_board.name, None)
            self.on_board = None
        self.rest_on_keys()
        self.tell()

    # --- which of them drives ---

    def choose(self, name: str) -> str:
        """Let a source drive, if it can; returns why a live robot must stop for it, empty if none drives that did not."""
        source = self.sources.get(name)
        if source is None:
            self._board.note(f"there is no source {name} any more")
            return ""
        lacks = self.lacks(source)
        if lacks and source.can.joins:
            self._board.note(f"{name} need not be chosen: it already acts together with what drives")
            return ""
        if lacks:
            law = self._line.rig.law.kind
            self._board.note(f"{source.title} has no {', '.join(lacks)}, which the law {law} reads")
            return ""
        if name == self._board.status.source:
            return ""
        self.rest_hands()
        self._board.set(source=name)
        self._board.note(f"now driving: {source.title}")
        return f"the source was changed to {source.title}"

    def rest_hands(self) -> None:
        """Bring keys and sticks on the screen to rest."""
        self.keys.rest()
        self.sticks.rest()

    def rest_all(self) -> None:
        """Bring to rest what lasts here: keys, sticks on the screen, letters that have come."""
        self.rest_hands()
        for remote in self.remotes.values():
            remote.end_letters()

    def rest_on_keys(self) -> None:
        """Fall back to a source that is always there and at rest."""
        self.keys.rest()
        self._board.set(source=KEYS)

    def pressed(self) -> str:
        """Name a source one of whose buttons is pressed and that may take over so; empty if none is. One that the rig
        listens to next to the driver does not count.
        """
        for name, readings in self.readings.items():
            joins = any(s == name for s, _ in self._line.inputs.wanted)
            if joins or not self.sources[name].can.takes_over:
                continue
            if any(v >= TAKE_OVER for c, v in readings.items() if c.startswith("button_")):
                return name
        return ""

    # --- readings ---

    def poll(self, now_s: float, budget_s: float) -> str:
        """Read the messages of remotes within the time budget: sources that send little come first, and leave the rest of the time to those
        that send much. Returns which of them sent a stop; empty for none.
        """
        stopped = ""
        until_s = time.perf_counter() + budget_s
        waiting = sorted(self.remotes.values(), key=lambda remote: remote.said)
        moving = self._board.status.moving
        for i, remote in enumerate(waiting):
            remote.held = "" if moving.line_drives else "the robot is stopped"
            left_s = max(0.0, until_s - time.perf_counter())
            remote.poll(now_s, left_s / (len(waiting) - i))
            stopped = f"{remote.name} said stop, with its seal" if remote.says_stop() else stopped
        self._book.keep(now_s)
        return stopped

    def listen(self, now_s: float) -> None:
        """Read every source that someone listens to. What is lost or not at rest yet counts for nothing."""
        line, chosen = self._line, self._board.status.source
        heard = {chosen, *self.remotes} | {s for s, _ in line.inputs.wanted}
        self.readings, self.lost, changed = {}, "", False
        for name, source in self.sources.items():
            if name not in heard and source.kind not in heard and source.kind != "gamepad":
                continue
            readings: Mapping[str, float] = source.read(now_s) if not source.lost else {}
            guard = self.guards.get(name)
            if guard is not None:
                before = guard.reason
                readings = guard.look(line, readings, name == chosen, now_s)
                changed |= guard.reason != before
                if guard.reason and not guard.share and self._moves(source):
                    self.lost = _loss(source, guard)
                if not guard.reason and source.kind == "gamepad":
                    del self.guards[name]
            self.readings[name] = readings
        if changed:
            self.tell()

    def _moves(self, source: Source) -> bool:
        """Return whether the robot must stop without this source: it drives, or a function of the law is always its own.

        Of one that only has buttons or letters next to it is enough that these come to rest.
        """
        driver, line = self.driver, self._line
        if driver.can.plays:
            return False
        names = {source.name, source.kind} | ({"chosen"} if source is driver else set())
        return any(s in names for s, _ in line.inputs.wanted[: len(line.functions)])

    def gather(self, shown: Callable[[str], float], now_s: float) -> Floats:
        """Put all channels of this instant into one row, (R,). A stick that is not there is NaN, which counts as rest.

        ``shown`` gives the session's own states, for lamps.
        """
        line, driver, found = self._line, self.driver, self.readings
        said = found[driver.name]
        columns = driver.columns_for(line) if isinstance(driver, RecordedDriver) else None
        raw = np.empty(len(line.inputs.wanted))
        pressed = self.keys.buttons(now_s)
        for i, (source, channel) in enumerate(line.inputs.wanted):
            if source == "session":
                raw[i] = shown(channel)
                continue
            if columns is not None:
                value = said.get(columns[i])
            elif source == "chosen":
                value = said.get(channel)
            elif source in found:
                value = found[source].get(channel)
            else:
                value = next((r.get(channel) for n, r in found.items() if self.sources[n].kind == source), None)
            if value is None:
                value = np.nan if channel in STICKS or channel.endswith("_trigger") else 0.0
            if channel in pressed and source in ("chosen", "keys"):
                value = 1.0
            raw[i] = value
        self.raw = raw
        return raw

    def as_stick(self, channels: Sequence[str], now_s: float) -> list[float]:
        """Return what the source that drives reads, as the channels of another source that has no calibration of its own."""
        line, said, pressed = self._line, self.readings[self.driver.name], self.keys.buttons(now_s)
        found = {c: 1.0 if c in pressed else said.get(c, 0.0) for c in channels}
        axes, driver = line.stages["axes"], int(line.source_number(self.driver_name))
        assert isinstance(axes, Axes)
        for k in range(len(axes.functions)):
            source, channel = line.inputs.wanted[k]
            if driver and source == "chosen" and channel in found:
                found[channel] = axes.uncalibrated(k, driver, found[channel])
        return list(found.values())

    def not_at_rest(self) -> str:
        """Return what is not at rest in the newest readings, or lost; empty if the robot may begin to move."""
        if self.raw is None:
            return "no reading has come yet"
        if self.lost:
            return self.lost
        said = not_at_rest(self._line, self.raw, self.driver_name)
        if self.driver is self.keys and self.keys.mode == "latched" and any(self.keys.read(0.0).values()):
            said = said.replace("let go first", "press Space first")
        return said

    def close(self) -> None:
        """Let every wire go."""
        for remote in self.remotes.values():
            remote.close()
        self._book.close()


def _loss(source: Source, guard: Guard) -> str:
    if source.lost:
        said = source.lost if source.lost.startswith(source.name) else f"{source.name}: {source.lost}"
        return f"{said}, and it was driving" if source.kind == "gamepad" else said
    return f"{source.name} is heard again; {guard.reason}"


def pad_names(rig: Rig) -> dict[str, str]:
    """The names that a rig gives to gamepads, by identity."""
    return {s.device: name for name, s in rig.sources.items() if isinstance(s, GamepadSource)}
