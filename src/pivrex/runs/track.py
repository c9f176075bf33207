"""The track of a run: a few columns of every few Ticks, for small pictures and for what shows the whole of it at once."""

from __future__ import annotations

import numpy as np

from pivrex.formats.ticks import tick_lines
from pivrex.line import Line
from pivrex.line.layout import Floats, plain

__all__ = ["TRACK", "TRACK_HEADER", "Track"]

TRACK_HZ = 6.0

TRACK = (
    "row", "t_s", "x_m", "y_m", "heading_rad", "believed_x_m", "believed_y_m", "believed_heading_rad",
    "asked_m_s", "felt_m_s", "asked_turn_rad_s", "felt_turn_rad_s", "battery_V", "lost_m_s", "blocked", "line",
)  # fmt: skip
"""Its columns: the true pose and the one that is believed, the motion that is asked for and the one that the wheels feel, the
battery, what the limits take from the wheel that loses most, whether the robot stands against something, the routine's line.
"""

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
        self._lost = [layout.at("limits", f"{plain(w)}_lost") for w in line.wheels]

    def lines(self, rows: Floats, first: int) -> bytes:
        """Return the lines of Ticks, (N, K), the first of which is row ``first`` of the run."""
        chosen = np.arange((-first) % self._every, len(rows), self._every)
        if not len(chosen):
            return b""
        rows = rows[chosen]
        found = np.where(self._places >= 0, rows[:, self._places], np.nan)
        found[:, [8, 10]] /= self._line.dt_s  # the odometry gives a tick's displacement
        found[:, 12] = np.abs(np.nan_to_num(rows[:, self._lost])).max(axis=1)
        return tick_lines(np.column_stack((first + chosen, np.round(found, 5))))
