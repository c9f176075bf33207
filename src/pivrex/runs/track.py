"""The track of a run: a few columns of every few Ticks, for small pictures and overviews."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.formats.ticks import tick_lines
from pivrex.line import Line
from pivrex.line.layout import Floats, plain

__all__ = ["TRACK", "TRACK_HEADER", "Track"]

TRACK_HZ = 6.0

TRACK = (
    "row", "t_s", "x_m", "y_m", "heading_rad", "estimated_x_m", "estimated_y_m", "estimated_heading_rad",
    "commanded_m_s", "measured_m_s", "commanded_turn_rad_s", "measured_turn_rad_s", "battery_V", "lost_m_s", "blocked", "line",
)  # fmt: skip
"""Its columns: the true pose and the estimated one, the commanded motion and the measured one, the lowest battery since the line
before, what the limits take from the wheel that loses most, whether the robot stands against something, the routine's line.
"""

OLD_TRACK = tuple(
    name.replace("estimated_", "believed_").replace("commanded_", "asked_").replace("measured_", "felt_")
    for name in TRACK
)
"""What the columns were called before: such runs are read for one version."""

BATTERY = TRACK.index("battery_V") - 1
"""Among what is taken of a Tick, which has no row number."""

TRACK_HEADER = (",".join(TRACK) + "\n").encode()


class Track:
    """Takes Ticks as they come and gives the lines of their track."""

    def __init__(self, line: Line) -> None:
        self.use(line)

    def use(self, line: Line) -> None:
        """Go on with the Ticks of another line."""
        self._line, layout = line, line.layout
        self._every = max(1, round(1 / (line.dt_s * TRACK_HZ)))

        def at(stage: str, name: str) -> int:
            return layout.at(stage, name) if layout.has(stage, name) else -1

        battery = at("sensed", "battery") if layout.has("sensed", "battery") else at("truth", "battery")
        self._places = np.array(
            [at("clock", "t"), *(at("truth", n) for n in ("x", "y", "heading")),
             *(at("odometry", n) for n in ("x", "y", "heading")), at("motion", "forward"), at("odometry", "forward"),
             at("motion", "turn"), at("odometry", "turn"), battery, -1, at("truth", "blocked"), at("routine", "line")]
        )  # fmt: skip
        self._lowest = np.inf
        """Of the battery, since the last line."""
        self._lost = [layout.at("limits", f"{plain(w)}_lost") for w in line.wheels]

    def lines(self, rows: Floats, first: int) -> bytes:
        """Return the lines of Ticks, (N, K), the first of which is row ``first`` of the run."""
        chosen = np.arange((-first) % self._every, len(rows), self._every)
        lowest = self._lows(rows, chosen)
        if not len(chosen):
            return b""
        rows = rows[chosen]
        found = np.where(self._places >= 0, rows[:, self._places], np.nan)
        found[:, [8, 10]] /= self._line.dt_s  # the odometry gives a tick's displacement
        found[:, BATTERY] = lowest
        found[:, 12] = np.abs(np.nan_to_num(rows[:, self._lost])).max(axis=1)
        return tick_lines(np.column_stack((first + chosen, np.round(found, 5))))

    def _lows(self, rows: Floats, chosen: NDArray[np.intp]) -> Floats:
        """Return the lowest battery up to each chosen row since the one before: a sag is shorter than a line."""
        place = self._places[BATTERY]
        volts = rows[:, place] if place >= 0 else np.full(len(rows), np.nan)
        found = np.full(len(chosen), np.nan)
        begin = 0
        for k, at in enumerate(chosen):
            here = volts[begin : at + 1]
            low = float(np.fmin.reduce(here, initial=self._lowest))
            found[k] = low if np.isfinite(low) else np.nan
            begin, self._lowest = int(at) + 1, np.inf
        self._lowest = float(np.fmin.reduce(volts[begin:], initial=self._lowest))
        return found
