"""The events of a run: what people and Pivrex did, and what the Ticks show."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

import numpy as np

from pivrex.line import Line
from pivrex.line.layout import Floats, plain

__all__ = ["EVENTS_HEADER", "KINDS", "Event", "Watcher", "event_line", "read_events"]

EVENTS_HEADER = "t,row,kind,text\r\n"

KINDS = (
    "fall", "stop", "lost", "bump", "limit", "mark", "live", "safe", "period", "step", "drives", "put back", "rig", "floor", "said", "shown",
)  # fmt: skip
"""All kinds of events, what matters most first."""

LOSES_M_S = 0.02
"""A limit is an event where it takes more than this from a wheel."""

TIPS_RAD = 0.35
"""A robot that stands on its wheels and leans farther than this tips over."""

APART_S = 1.0
"""Limits that follow each other more closely are one event."""


@dataclass(frozen=True)
class Event:
    """Something that happened: what the Tick's clock said, the row of the run, one of `KINDS`, and words."""

    t_s: float
    row: int
    kind: str
    text: str = ""


def event_line(event: Event) -> str:
    """Write it as a line of ``events.csv``."""
    text = io.StringIO()
    csv.writer(text).writerow((f"{event.t_s:.4f}", event.row, event.kind, " ".join(event.text.split())))
    return text.getvalue()


def read_events(text: str) -> list[Event]:
    """Read ``events.csv``; what is cut off or was spoiled by hand is passed over: events are for looking, not for computing."""
    found = []
    for cells in csv.reader(io.StringIO(text), strict=False):
        try:
            t, row, kind, said = cells
            found.append(Event(float(t), int(row), kind, said))
        except ValueError:
            continue
    return found


class Watcher:
    """Finds events in Ticks as they come: bumps, falls, limits, the lines of a routine."""

    def __init__(self, line: Line) -> None:
        self._blocked, self._down, self._step, self._limited_s = False, False, 0, -APART_S
        self.use(line)

    def use(self, line: Line) -> None:
        """Go on with the Ticks of another line."""
        layout = line.layout
        self._t, self._at_blocked = layout.at("clock", "t"), layout.at("truth", "blocked")
        self._wheels = line.wheels
        self._lean = layout.at("truth", "lean") if layout.has("truth", "lean") else None
        self._falls_at = line.rig.balance.falls_at_rad if line.rig.balance is not None else TIPS_RAD
        self._lost = [layout.at("limits", f"{plain(w)}_lost") for w in line.wheels]
        self._line_of = layout.at("routine", "line") if layout.has("routine", "line") else None

    def add(self, rows: Floats, first: int) -> list[Event]:
        """Take the next Ticks, (N, K), the first of which is row ``first`` of the run; returns what happened in them."""
        found = []
        t = rows[:, self._t]
        blocked = rows[:, self._at_blocked] == 1
        for i in np.flatnonzero(blocked & ~np.concatenate(([self._blocked], blocked[:-1]))):
            found.append(Event(float(t[i]), first + int(i), "bump", "it stands against something"))
        self._blocked = bool(blocked[-1]) if len(blocked) else self._blocked
        if self._lean is not None:
            leans = np.nan_to_num(rows[:, self._lean])
            down = np.abs(leans) > self._falls_at
            for i in np.flatnonzero(down & ~np.concatenate(([self._down], down[:-1]))):
                text = f"it falls {'forward' if leans[i] > 0 else 'back'}"
                found.append(Event(float(t[i]), first + int(i), "fall", text))
            self._down = bool(down[-1]) if len(down) else self._down
        lost = np.abs(np.nan_to_num(rows[:, self._lost]))
        for i in np.flatnonzero((lost > LOSES_M_S).any(axis=1)):
            if not 0 <= t[i] - self._limited_s < APART_S:
                worst = int(lost[i].argmax())
                text = f"{self._wheels[worst]} wheel: {lost[i, worst]:.2f} m/s more was requested than it can drive"
                found.append(Event(float(t[i]), first + int(i), "limit", text))
            self._limited_s = float(t[i])
        if self._line_of is not None:
            lines = rows[:, self._line_of]
            for i in np.flatnonzero(lines != np.concatenate(([self._step], lines[:-1]))):
                if lines[i] > 0:
                    found.append(Event(float(t[i]), first + int(i), "step", f"line {lines[i]:.0f}"))
            self._step = int(lines[-1]) if len(lines) and np.isfinite(lines[-1]) else self._step
        return sorted(found, key=lambda e: e.row)
