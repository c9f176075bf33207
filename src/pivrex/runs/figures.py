"""The figures of a run, added up batch by batch while it is kept: a long run needs no more memory than a short one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line import Line
from pivrex.line.layout import Floats, plain
from pivrex.rig.field import Field

__all__ = ["FIGURES", "Figure", "Figures"]

LONGEST_LAG_S = 0.5
MOVES_M_S = 0.01
"""A wheel with a smaller command counts as at rest."""

LOSES_M_S = 1e-3
"""What the limits take from a wheel counts from here."""

SLIDES_M_S = 0.08
"""A tyre that is dragged faster than this is said to slide."""


@dataclass(frozen=True)
class Figure:
    """A figure: its key, its name for people, its unit, the digits that matter, and whether less is better (None: neither)."""

    key: str
    title: str
    unit: str
    digits: int
    less: bool | None = None


FIGURES = (
    Figure("driven_s", "driven", "s", 1),
    Figure("distance_m", "distance", "m", 2),
    Figure("top_speed_m_s", "top speed", "m/s", 2),
    Figure("lag_s", "lag of the wheels", "s", 3, True),
    Figure("limited_s", "at a limit", "s", 1, True),
    Figure("lost_m", "lost to limits", "m", 2, True),
    Figure("bumps", "bumps", "", 0, True),
    Figure("blocked_s", "in contact", "s", 1, True),
    Figure("slides_s", "tyres slide", "s", 1, True),
    Figure("slipped_m", "distance lost to slip", "m", 2, True),
    Figure("slip_top_m_s", "fastest slide", "m/s", 2, True),
    Figure("battery_low_V", "lowest battery", "V", 2, False),
    Figure("battery_mean_V", "battery", "V", 2, False),
    Figure("held_deg", "heading error while held", "deg", 2, True),
    Figure("end_zone_m", "final zone distance", "m", 3, True),
    Figure("end_off_m", "final pose error", "m", 3, True),
    Figure("end_off_deg", "final heading error", "deg", 1, True),
)
"""All of them, a row each, in their order. One that cannot be said of a run is left out of it."""


class Figures:
    """Adds up Ticks of a line; another line may go on where one ended. ``floor`` has the places that a robot should reach."""

    def __init__(self, line: Line, floor: Field | None = None) -> None:
        self._zones = np.array([(z.x_m, z.y_m) for z in floor.zones] if floor is not None else []).reshape(-1, 2)
        self._sums = {
            "driven_s": 0.0,
            "distance_m": 0.0,
            "limited_s": 0.0,
            "lost_m": 0.0,
            "bumps": 0.0,
            "blocked_s": 0.0,
        }
        self._tops: dict[str, float] = {}
        self._lows: dict[str, float] = {}
        self._means: dict[str, tuple[float, int]] = {}
        self._ends: dict[str, float] = {}
        self._blocked = False
        self._misfit = np.zeros(0)
        self.use(line)

    def use(self, line: Line) -> None:
        """Go on with the Ticks of another line."""
        self._line, layout = line, line.layout
        wheels = [plain(w) for w in line.wheels]

        def these(stage: str, names: list[str]) -> list[int]:
            return [layout.at(stage, n) for n in names if layout.has(stage, n)]

        self._commanded = list(range(line.speeds.start, line.speeds.stop))
        self._measured = these("sensed", [f"{w}_speed" for w in wheels])
        self._lost = these("limits", [f"{w}_lost" for w in wheels])
        self._slip = these("truth", [f"{w}_slip" for w in wheels])
        self._moved = these("odometry", ["forward", "left"])
        self._battery = (these("sensed", ["battery"]) or these("truth", ["battery"]))[:1]
        lags = max(1, round(LONGEST_LAG_S / line.dt_s))
        if len(self._misfit) != lags + 1:
            self._misfit = np.zeros(lags + 1)
        self._carried = np.empty((0, len(line.layout)))

    def add(self, rows: Floats) -> None:
        """Take the next Ticks, (N, K)."""
        if not len(rows):
            return
        dt_s, layout, sums = self._line.dt_s, self._line.layout, self._sums
        commanded = np.abs(rows[:, self._commanded])
        sums["driven_s"] += dt_s * float((commanded > MOVES_M_S).any(axis=1).sum())
        if len(self._moved) == 2:
            moved = np.hypot(*rows[:, self._moved].T)
            moved = moved[np.isfinite(moved)]
            sums["distance_m"] += float(moved.sum())
            self._top("top_speed_m_s", moved / dt_s)
        if self._lost:
            lost = np.abs(np.nan_to_num(rows[:, self._lost])).max(axis=1)
            sums["limited_s"] += dt_s * float((lost > LOSES_M_S).sum())
            sums["lost_m"] += dt_s * float(lost.sum())
        blocked = rows[:, layout.at("truth", "blocked")] == 1
        sums["bumps"] += float((blocked & ~np.concatenate(([self._blocked], blocked[:-1]))).sum())
        sums["blocked_s"] += dt_s * float(blocked.sum())
        self._blocked = bool(blocked[-1])
        if self._slip:
            slip = rows[:, self._slip].max(axis=1)
            if np.isfinite(slip).any():
                sums["slides_s"] = sums.get("slides_s", 0.0) + dt_s * float((slip > SLIDES_M_S).sum())
                self._top("slip_top_m_s", slip[np.isfinite(slip)])
                sums["slipped_m"] = sums.get("slipped_m", 0.0) + self._slipped(rows, slip)
        if self._battery:
            volts = rows[:, self._battery[0]]
            volts = volts[np.isfinite(volts)]
            if len(volts):
                self._lows["battery_low_V"] = min(self._lows.get("battery_low_V", np.inf), float(volts.min()))
                self._mean("battery_mean_V", volts)
        if layout.has("correction", "error"):
            held = rows[rows[:, layout.at("correction", "on")] == 1, layout.at("correction", "error")]
            self._mean("held_deg", np.degrees(held[np.isfinite(held)]) ** 2)
        self._end(rows[-1])
        self._add_lags(rows)

    def _slipped(self, rows: Floats, slip: Floats) -> float:
        """Return how much farther the wheels rolled than the robot went in Ticks in which a tyre slides, in m."""
        both = np.concatenate((self._carried[-1:], rows))
        places = both[:, self._line.layout.these("truth", ("x", "y"))]
        went = np.hypot(*np.diff(places, axis=0).T)
        rolled = np.hypot(*both[1:, self._moved].T) if len(self._moved) == 2 else went
        # the wheels' measurements in a Tick are the distances of the tick before
        more = np.clip(rolled[1:] - went[:-1], 0.0, None)
        slides = slip[-len(more) :] > SLIDES_M_S if len(more) else np.zeros(0, bool)
        return float(np.nansum(more[slides]))

    def _top(self, name: str, values: Floats) -> None:
        if len(values):
            self._tops[name] = max(self._tops.get(name, 0.0), float(values.max()))

    def _mean(self, name: str, values: Floats) -> None:
        total, count = self._means.get(name, (0.0, 0))
        self._means[name] = total + float(values.sum()), count + len(values)

    def _end(self, row: Floats) -> None:
        """How far the estimated pose is from the true one at the newest Tick, and how far it is from a place that it should reach."""
        layout = self._line.layout
        true = row[layout.these("truth", ("x", "y", "heading"))]
        estimated = (
            row[layout.these("odometry", ("x", "y", "heading"))] if layout.has("odometry", "x") else np.full(3, np.nan)
        )
        off = estimated - true
        self._ends = {}
        if np.isfinite(off).all():
            turned = (float(np.degrees(off[2])) + 180) % 360 - 180
            self._ends = {"end_off_m": float(np.hypot(off[0], off[1])), "end_off_deg": abs(turned)}
        there = true if np.isfinite(true).all() else estimated
        if len(self._zones) and np.isfinite(there).all():
            self._ends["end_zone_m"] = float(np.hypot(*(self._zones - there[:2]).T).min())

    def _add_lags(self, rows: Floats) -> None:
        """Add up, for each lag in ticks, how badly what wheels are commanded then fits what they do now (least squares)."""
        if len(self._measured) != len(self._commanded):
            return
        lags = len(self._misfit)
        both = np.concatenate((self._carried, rows))
        first = len(self._carried)
        measured, commanded = both[:, self._measured], both[:, self._commanded]
        for lag in range(lags):
            begin = max(first, lags)
            if begin < len(both):
                apart = measured[begin:] - commanded[begin - lag : len(both) - lag]
                self._misfit[lag] += float(np.nansum(apart * apart))
        self._carried = both[-lags:].copy()  # not a window on all of it

    def values(self) -> dict[str, float]:
        """Return those that can be said by now, by their keys in the order of `FIGURES`."""
        found = dict(self._sums) | self._tops | self._lows | self._ends
        for name, (total, count) in self._means.items():
            if count:
                found[name] = float(np.sqrt(total / count)) if name == "held_deg" else total / count
        lag = self._lag_s()
        if lag is not None:
            found["lag_s"] = lag
        return {f.key: found[f.key] for f in FIGURES if f.key in found}

    def _lag_s(self) -> float | None:
        """The lag that fits best, between ticks by the parabola through the best and its neighbours; None if none stands out."""
        misfit = self._misfit
        best = int(np.argmin(misfit))
        if misfit.max() <= 0 or misfit[best] > 0.5 * misfit.max() or best == len(misfit) - 1:
            return None
        if best == 0:
            return 0.0
        before, here, after = misfit[best - 1 : best + 2]
        bend = before - 2 * here + after
        return float(self._line.dt_s * (best + (0.5 * (before - after) / bend if bend > 0 else 0.0)))
