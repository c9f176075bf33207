#!/usr/bin/env python3
"""Drive the demo robots round the greenhouse as a person would, and keep what the sticks said as the demo's recordings.

A driver looks at a point a little ahead and pushes the stick towards it, with a hand that lags and trembles; the
recordings hold only the raw readings, so that the demo computes everything else afresh.
"""

from __future__ import annotations

import math
import random
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from pivrex.line import Line
from pivrex.line.beginning import begun, start_of
from pivrex.rig import read_rig, read_workspace_file
from pivrex.sim import Rollout, simulator_of

HOME = Path(__file__).parent.parent / "src" / "pivrex" / "demo"
STICKS = ("left_x", "left_y", "right_x", "right_y")
COLUMNS = (*STICKS, "left_trigger", "right_trigger", "button_4", "button_5")
MORE = ("button_2", "button_3", "button_8", "button_9")
SPIN = "spin"


@dataclass(frozen=True)
class Stop:
    """Where to go (m), how to stand there (deg, None for as it comes), how long to stay (s), what to press on leaving.

    ``turn`` is how far the turning stick is pushed while it stays; left is +.
    """

    x: float
    y: float
    stay: float = 0.0
    press: str = ""
    heading: float | str | None = None
    turn: float = 0.0


def plain(*rows: tuple[float, float, float, str]) -> list[Stop]:
    return [Stop(*row) for row in rows]


WATERING = plain(
    (0.50, 2.30, 0, ""), (0.47, 3.02, 1.2, ""), (0.75, 2.20, 0, ""), (1.30, 2.10, 0, ""), (1.80, 2.08, 1.0, ""),
    (2.35, 2.30, 0, ""), (2.65, 2.75, 0, ""), (2.75, 3.30, 0, ""), (3.30, 3.45, 0, ""), (3.70, 3.40, 0.8, "button_5"),
    (4.30, 3.40, 0, ""), (4.60, 2.90, 0, ""), (4.55, 2.25, 0, "button_4"), (4.10, 1.98, 0, ""), (3.60, 1.92, 1.0, ""),
    (3.10, 1.75, 0, ""), (2.65, 1.30, 0, ""), (2.70, 0.70, 0, ""), (3.20, 0.55, 0, ""), (3.80, 0.55, 0.6, "button_5"),
    (4.40, 0.60, 0, ""), (4.65, 0.30, 0, ""),
    (4.2, 0.45, 0, ""), (3.2, 0.42, 0, ""), (2.0, 0.45, 0, "button_4"), (1.2, 0.50, 0, ""), (0.70, 0.55, 0.8, ""),
)  # fmt: skip
# hard turns between straight runs: what two sides of two wheels do well, and where their tyres scrub
HAULING = plain(
    (0.50, 1.90, 0, ""), (0.48, 2.95, 1.0, ""), (0.60, 2.20, 0, "button_5"), (1.20, 2.00, 0, ""), (2.20, 1.98, 0.4, ""),
    (2.62, 2.45, 0, ""), (2.68, 3.30, 0, ""), (3.40, 3.42, 0.8, ""), (4.40, 3.40, 0, ""), (4.60, 2.60, 0, ""),
    (4.55, 1.20, 0, ""), (4.50, 0.60, 0.8, ""), (3.20, 0.50, 0, ""), (1.60, 0.50, 0.5, ""), (0.80, 0.50, 0.8, ""),
)  # fmt: skip
# strafes along the benches with its front to them, then along the other row with its front to that
STRAFING = [
    Stop(0.50, 1.6, heading=90), Stop(0.47, 2.95, 0.8, heading=90), Stop(0.62, 2.30, heading=90),
    Stop(1.00, 2.28, heading=90), Stop(2.30, 2.28, 0.5, heading=90), Stop(3.05, 2.30, 0, "button_5", heading=90),
    Stop(4.20, 2.28, 0.5, heading=90), Stop(4.62, 2.00, heading=-90), Stop(4.25, 1.68, 0, "button_4", heading=-90),
    Stop(3.00, 1.68, 0.5, heading=-90), Stop(2.30, 1.68, heading=-90), Stop(1.00, 1.68, 0.5, heading=-90),
    Stop(0.55, 1.40, heading=-90), Stop(0.55, 0.60, 0.8, heading=90),
]  # fmt: skip
# straight lines across the floor while it spins
SPINNING = [
    Stop(0.55, 2.00, heading=90), Stop(0.80, 2.00, 0.4), Stop(2.35, 2.00, heading=SPIN), Stop(2.65, 2.40, heading=SPIN),
    Stop(2.65, 3.40, heading=SPIN), Stop(4.45, 3.40, 0.5, heading=SPIN), Stop(4.60, 2.00, heading=SPIN),
    Stop(4.55, 0.55, 0.4, "button_5", heading=SPIN), Stop(2.65, 0.55, heading=SPIN), Stop(0.60, 0.55, 0.8, heading=SPIN),
    Stop(0.55, 0.55, 0.8, heading=90),
]  # fmt: skip
# goes any way without turning, then swings about the tip of its boom above a bench, then holds its ground
SWINGING = [
    Stop(0.50, 2.00, heading=90), Stop(0.47, 2.90, 0.8, heading=90), Stop(0.70, 2.00, heading=0),
    Stop(1.70, 2.12, 0.3, "button_3", heading=90), Stop(1.70, 2.12, 1.2, "", heading=None, turn=0.55),
    Stop(1.70, 2.12, 1.6, "button_3", heading=None, turn=-0.5), Stop(1.70, 2.12, 0.5, "button_3", heading=None),
    Stop(2.20, 2.30, heading=90), Stop(3.10, 2.32, 0, "button_5", heading=90), Stop(4.50, 2.20, 0.2, "", heading=0),
    Stop(4.55, 3.20, 0.4, heading=180), Stop(4.58, 1.00, heading=-90), Stop(4.40, 0.55, 0.4, "button_4", heading=180),
    Stop(2.60, 0.50, heading=90), Stop(0.80, 0.55, 0.4, "button_2", heading=90), Stop(0.80, 0.55, 1.0, "", heading=None),
]  # fmt: skip
# long straights and soft turns: to speed up it must lean first
BALANCING = plain(
    (0.50, 1.60, 0, ""), (0.60, 2.00, 1.0, ""), (1.10, 2.00, 0, ""), (2.20, 2.00, 0.6, ""), (2.62, 1.40, 0, ""),
    (3.00, 0.60, 0, ""), (4.20, 0.55, 1.0, ""), (4.55, 1.20, 0, ""), (4.10, 1.98, 0, ""), (3.30, 1.98, 0.8, ""),
)  # fmt: skip
DRIVES = {
    "plover": ("watering", WATERING),
    "coot": ("hauling", HAULING),
    "bittern": ("strafing", STRAFING),
    "dunlin": ("spinning", SPINNING),
    "avocet": ("swinging", SWINGING),
    "stilt": ("balancing", BALANCING),
}


def main() -> None:
    for name in sys.argv[1:] or DRIVES:
        drive(name, *DRIVES[name])


def drive(rig_name: str, recording: str, stops: list[Stop]) -> None:  # noqa: C901, PLR0912, PLR0915 - one drive from its first stop to its last
    rig = read_rig(HOME / "rigs" / f"{rig_name}.toml")
    line = Line(rig)
    field = read_workspace_file(HOME / "workspace.toml").field
    rollout = Rollout(line, simulator_of(rig, field), begun(line, start_of(field)))
    chance = random.Random(7)
    law = rig.law.kind
    columns = COLUMNS if rig_name in ("plover", "stilt") else (*COLUMNS, *MORE)
    hand = (
        {"left_x": 0.0, "left_y": 0.0}
        if law == "arcade"
        else {"left_x": 0.0, "left_y": 0.0, "right_x": 0.0, "right_y": 0.0}
    )
    rows, route, said = [], list(stops), line.rest()
    stay, pressed, quiet, turning = 0.8, ("button_8", 9) if law == "planar" else ("", 0), 1.0, 0.0
    while route or quiet > 0:
        x, y, heading = rollout.robot.pose.tolist()
        want = dict.fromkeys(hand, 0.0)
        if stay > 0:
            stay -= line.dt_s
            if "right_x" in hand:
                want["right_x"] = -turning
        elif route:
            there = route[0]
            away = math.hypot(there.x - x, there.y - y)
            near = 0.10 if there.stay else 0.22
            settled = True
            if isinstance(there.heading, int | float) and law == "planar":
                settled = abs(math.remainder(math.radians(there.heading) - heading, 2 * math.pi)) < 0.12
            if (there.heading is None and law == "planar") or (away < near and (settled or not there.stay)):
                route.pop(0)
                stay, pressed, turning = there.stay, (there.press, 9) if there.press else pressed, there.turn
            else:
                push(want, law, there, x, y, heading, away)
        else:
            quiet -= line.dt_s
        for axis, wanted in want.items():
            hand[axis] += (wanted - hand[axis]) * line.dt_s / 0.09
        raw = dict.fromkeys(columns, 0.0)
        raw["left_x"] = hand["left_x"] - 0.008 + chance.gauss(0, 0.006)
        raw["left_y"] = hand["left_y"] + 0.012 + chance.gauss(0, 0.006)
        raw["right_x"] = hand.get("right_x", 0.0) + 0.004 + chance.gauss(0, 0.003)
        raw["right_y"] = hand.get("right_y", 0.0) - 0.006 + chance.gauss(0, 0.003)
        if pressed[1] > 0 and len(rows) > 5:  # nothing counts as pressed before it was seen released
            raw[pressed[0]] = 1.0
            pressed = (pressed[0], pressed[1] - 1)
        # a gamepad's stick has steps
        raw = {c: round(max(-1.0, min(1.0, v)) * 127) / 127 for c, v in raw.items()}
        if float(rollout.state.tick) % rig.asks_every == 0:
            rows.append((float(rollout.state.tick) * line.dt_s, *(raw[c] for c in columns)))
            said = np.array([round(raw.get(c, 0.0), 4) for c in line.channels])
        rollout.tick(said)
        if rollout.robot.blocked:
            raise SystemExit(f"{rig_name} ran into something at {x:.2f}, {y:.2f}, going for {route[:1]}")
        if len(rows) > 8000:
            raise SystemExit(f"{rig_name} is lost at {x:.2f}, {y:.2f}, going for {route[:1]}")
    text = ["t," + ",".join(columns)]
    text += [f"{t:.4f}," + ",".join(f"{v:.4g}" for v in values) for t, *values in rows]
    (HOME / "inputs" / f"{recording}.csv").write_text("\n".join(text) + "\n")
    print(f"{rig_name}: {len(rows)} readings, {rows[-1][0]:.1f} s, ends at {rollout.robot.pose.round(3).tolist()}")


def push(want: dict[str, float], law: str, there: Stop, x: float, y: float, heading: float, away: float) -> None:
    """Push the sticks towards a stop."""
    ahead = math.atan2(there.y - y, there.x - x)
    if law == "planar":
        # the field's forward was set at the start, where the robot looked up the field: away is up, left is left
        share = min(0.95, 0.45 + away) if away > 0.06 else 0.0
        if there.stay and away < 0.25:
            share = 0.35 + away
        want["left_y"], want["left_x"] = -share * math.sin(ahead), share * math.cos(ahead)
        if there.heading == SPIN:
            want["right_x"] = -0.8
        elif isinstance(there.heading, int | float):
            error = math.remainder(math.radians(there.heading) - heading, 2 * math.pi)
            want["right_x"] = -max(-0.9, min(0.9, 1.1 * error + math.copysign(0.12, error) * (abs(error) > 0.05)))
        return
    error = math.remainder(ahead - heading, 2 * math.pi)
    forward = (max(0.0, math.cos(error)) ** 2) * min(0.95, 0.45 + away)
    turn = max(-0.95, min(0.95, 1.7 * error))
    if law == "arcade":
        want["left_y"], want["left_x"] = -forward, -turn
    else:
        scale = 0.33
        want["left_y"], want["right_y"] = -(forward - scale * turn), -(forward + scale * turn)


if __name__ == "__main__":
    main()
