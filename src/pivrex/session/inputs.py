"""The session's inputs: every source, which of them count now, and what the line hears of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.recorded import RecordedDriver
from pivrex.devices.remote import RemoteSource, remotes_of
from pivrex.devices.source import Source
from pivrex.line import Line
from pivrex.rig import Rig
from pivrex.rig.channels import STICKS
from pivrex.session.guard import Guard
from pivrex.session.messages import SourceInfo

__all__ = ["SessionInputs"]

Floats = NDArray[np.float64]

TAKE_OVER = 0.5
"""A button of a gamepad or remote pressed this far takes over from a recording."""


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
    """

    def __init__(self, *always: Source) -> None:
        self.sources: dict[str, Source] = {s.name: s for s in always}
        self.remotes: dict[str, RemoteSource] = {}
        self.guards: dict[str, Guard] = {}
        self.readings: dict[str, Mapping[str, float]] = {}
        self.lost = ""
        self._away: set[str] = set()
        """Gamepads that are lost."""

    def open_remotes(self, rig: Rig) -> None:
        """Open the wires of a rig's own sources; one that is described as before stays open."""
        wanted = remotes_of(rig, self.remotes)
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

    def pads_are(self, pads: Mapping[str, Source], line: Line, chosen: str) -> list[str]:
        """Take the gamepads that are there now; gives what is to be said. One that was in use and is gone stays listed as
        lost until it is back.
        """
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
        return notes

    def listen(self, line: Line, chosen: str, now_s: float) -> bool:
        """Read every source that somebody listens to; tells whether one was lost or came back.

        What is lost or not at rest yet counts for nothing.
        """
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
                if guard.reason and not guard.share and self._moves(source, line, chosen):
                    self.lost = _loss(source, guard)
                if not guard.reason and source.kind == "gamepad":
                    del self.guards[name]
            self.readings[name] = readings
        return changed

    def _moves(self, source: Source, line: Line, chosen: str) -> bool:
        """Tell whether the robot must stop without this source: it drives, or a function of the law is always its own.

        Of one that only has buttons or letters beside it is enough that these come to rest.
        """
        if self.sources[chosen].kind == "recording":
            return False
        names = {source.name, source.kind} | ({"chosen"} if source.name == chosen else set())
        return any(s in names for s, _ in line.inputs.wanted[: len(line.functions)])

    def gather(self, line: Line, chosen: str, shown: Callable[[str], float]) -> Floats:
        """Put all channels of this instant into one row, (R,). A stick that is not there is NaN, which counts as rest.

        ``shown`` gives the session's own states, for lamps.
        """
        found = self.readings
        driver, said = self.sources[chosen], self.readings[chosen]
        columns = driver.columns_for(line) if isinstance(driver, RecordedDriver) else None
        raw = np.empty(len(line.inputs.wanted))
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
            raw[i] = value
        return raw

    def pressed(self, line: Line) -> str:
        """Name a gamepad or remote one of whose buttons is pressed; empty if none is. One that the rig listens to beside
        the driver does not count.
        """
        for name, readings in self.readings.items():
            beside = any(s == name for s, _ in line.inputs.wanted)
            if self.sources[name].kind in ("keys", "sticks", "recording") or beside:
                continue
            if any(v >= TAKE_OVER for c, v in readings.items() if c.startswith("button_")):
                return name
        return ""

    @staticmethod
    def lacks(source: Source, line: Line) -> tuple[str, ...]:
        """Name the channels that the law reads and a source has not."""
        there = source.channels()
        needed = line.inputs.wanted[: len(line.functions)]
        return tuple(c for kind, c in needed if c not in there and kind in ("chosen", source.kind))

    def infos(self, line: Line) -> tuple[SourceInfo, ...]:
        """List what may be chosen."""
        waits = {n: self.guards[n].reason if n in self.guards else s.lost for n, s in self.sources.items()}
        return tuple(SourceInfo(n, s.kind, s.title, self.lacks(s, line), waits[n]) for n, s in self.sources.items())


def _loss(source: Source, guard: Guard) -> str:
    if source.lost:
        said = source.lost if source.lost.startswith(source.name) else f"{source.name}: {source.lost}"
        return f"{said}, and it was driving" if source.kind == "gamepad" else said
    return f"{source.name} is heard again; {guard.reason}"
