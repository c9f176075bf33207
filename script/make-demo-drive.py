#!/usr/bin/env python3
"""Drive Plover round the greenhouse as a person would, and keep what the stick said as the demo's recording.

A driver looks at a point a little ahead and pushes the stick towards it, with a hand that lags and trembles; the
recording holds only the raw readings, so that the demo computes everything else afresh.
"""

from __future__ import annotations

import math
import random
from pathlib import Path

import numpy as np

from pivrex.devices.robot import StandInRobot
from pivrex.line import Line
from pivrex.rig import read_rig, read_workspace_file

HOME = Path(__file__).parent.parent / "src" / "pivrex" / "demo"
COLUMNS = ("left_x", "left_y", "right_x", "right_y", "left_trigger", "right_trigger", "button_4", "button_5")
# x, y in m, then how long to stay there in s, then the button pressed on leaving
ROUTE = [
    (0.50, 2.30, 0, ""), (0.47, 3.02, 1.2, ""), (0.75, 2.20, 0, ""), (1.30, 2.10, 0, ""), (1.80, 2.08, 1.0, ""),
    (2.35, 2.30, 0, ""), (2.65, 2.75, 0, ""), (2.75, 3.30, 0, ""), (3.30, 3.45, 0, ""), (3.70, 3.40, 0.8, "button_5"),
    (4.30, 3.40, 0, ""), (4.60, 2.90, 0, ""), (4.55, 2.25, 0, "button_4"), (4.10, 1.98, 0, ""), (3.60, 1.92, 1.0, ""),
    (3.10, 1.75, 0, ""), (2.65, 1.30, 0, ""), (2.70, 0.70, 0, ""), (3.20, 0.55, 0, ""), (3.80, 0.55, 0.6, "button_5"),
    (4.40, 0.60, 0, ""), (4.65, 0.30, 0, ""),
]  # fmt: skip
ROUTE_BACK = [
    (4.2, 0.45, 0, ""), (3.2, 0.42, 0, ""), (2.0, 0.45, 0, "button_4"), (1.2, 0.50, 0, ""), (0.70, 0.55, 0.8, ""),
]  # fmt: skip


def main() -> None:
    rig = read_rig(HOME / "rigs" / "plover.toml")
    line = Line(rig)
    robot = StandInRobot(rig, read_workspace_file(HOME / "workspace.toml").field)
    state, chance = line.start(), random.Random(7)
    hand = {"left_x": 0.0, "left_y": 0.0}
    rows, route = [], [*ROUTE, *ROUTE_BACK]
    stay, pressed, quiet = 0.8, ("", 0), 1.0
    while route or quiet > 0:
        x, y, heading = robot.state.pose
        want = {"left_x": 0.0, "left_y": 0.0}
        if stay > 0:
            stay -= line.dt_s
        elif route:
            px, py, pause, button = route[0]
            away = math.hypot(px - x, py - y)
            error = math.remainder(math.atan2(py - y, px - x) - heading, 2 * math.pi)
            if away < (0.10 if pause else 0.22):
                route.pop(0)
                stay, pressed = pause, (button, 9) if button else pressed
            else:
                want["left_y"] = -(max(0.0, math.cos(error)) ** 2) * min(0.95, 0.45 + away)
                want["left_x"] = -max(-0.95, min(0.95, 1.7 * error))
        else:
            quiet -= line.dt_s
        for axis, wanted in want.items():
            hand[axis] += (wanted - hand[axis]) * line.dt_s / 0.09
        raw = dict.fromkeys(COLUMNS, 0.0)
        raw["left_x"] = hand["left_x"] - 0.008 + chance.gauss(0, 0.006)
        raw["left_y"] = hand["left_y"] + 0.012 + chance.gauss(0, 0.006)
        raw["right_x"], raw["right_y"] = 0.004 + chance.gauss(0, 0.003), -0.006 + chance.gauss(0, 0.003)
        if pressed[1] > 0:
            raw[pressed[0]] = 1.0
            pressed = (pressed[0], pressed[1] - 1)
        # a gamepad's stick has steps
        raw = {c: round(max(-1.0, min(1.0, v)) * 127) / 127 for c, v in raw.items()}
        rows.append((state.tick * line.dt_s, *(raw[c] for c in COLUMNS)))
        state, row = line.step(state, np.array([round(raw[c], 4) for c in line.channels]), robot.sense())
        robot.command(line.told(row), line.dt_s)
        if robot.state.blocked:
            raise SystemExit(f"ran into something at {x:.2f}, {y:.2f}, going for {route[:1]}")
        if len(rows) > 8000:
            raise SystemExit(f"lost at {x:.2f}, {y:.2f}, going for {route[:1]}")
    text = ["t," + ",".join(COLUMNS)]
    text += [f"{t:.4f}," + ",".join(f"{v:.4g}" for v in values) for t, *values in rows]
    (HOME / "inputs" / "watering.csv").write_text("\n".join(text) + "\n")
    print(f"{len(rows)} readings, {rows[-1][0]:.1f} s, ends at {robot.state.pose}")


if __name__ == "__main__":
    main()
