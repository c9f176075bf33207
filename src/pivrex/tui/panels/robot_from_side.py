"""The robot from the side with its lean, and the state of the loops that keep it upright."""

from __future__ import annotations

from math import degrees, isfinite

import numpy as np

from pivrex.line.balance import EMPTY, FALLEN, NAMES, STANDS, UNTRUSTED, WAITS
from pivrex.line.layout import Floats, plain
from pivrex.line.tilt import LIES
from pivrex.scene.chart import Series, chart
from pivrex.scene.side import SideData, side_scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import centred_bar, number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.wheel_bars import since_started, strip_depends

__all__ = ["BalanceNow", "LeanStrip", "RobotFromSide", "leans"]

LEANS_RAD = 0.02
"""A robot that stands on more than one axle is drawn from the side while it leans by more than this."""

SHORT = {
    WAITS: "hold it upright and still",
    FALLEN: "it fell: drive off; I sets it up",
    UNTRUSTED: "the tilt sensor is wrong: drive off",
    EMPTY: "battery empty: drive off",
}
"""Why a robot that balances does not stand, and what helps."""

WIDE = 52
"""Where it is narrower the drawing has no title."""

SECONDS, MEAN_S = 8.0, 0.4

SCALES = {
    "place": ("m", 1.0, 0.5),
    "speed": ("m/s", 1.0, 0.0),
    "lean": ("deg", degrees(1), 0.0),
    "rate": ("deg/s", degrees(1), 0.0),
}


def leans(model: ScreenModel) -> bool:
    """Return whether a robot is worth a look from the side: one that balances, or that tips."""
    return model.rig.balance is not None or abs(np.nan_to_num(model.value("truth", "lean"))) > LEANS_RAD


def _side_data(model: ScreenModel) -> SideData:
    rig, balances = model.rig, model.rig.balance is not None
    true = model.value("truth", "lean")
    wheel = rig.chassis.wheels[0]
    travel = model.value("sensed", f"{plain(wheel.name)}_travel")
    stands = model.value("balance", "state") == STANDS
    full = rig.full_forward_m_s
    return SideData(
        lean=true if isfinite(true) else model.value("tilt", "lean"),
        wanted=model.value("balance", "lean_setpoint") if stands else float("nan"),
        rolled=travel / wheel.radius_m,
        speed=model.value("balance", "speed_measured") / full if stands else float("nan"),
        requested=model.value("balance", "speed_setpoint") / full if stands else float("nan"),
        off=balances and not stands,
    )


class RobotFromSide(Panel):
    """The robot from the side."""

    def draw(self, width: int, height: int) -> Picture:
        model = self.model
        data = _side_data(model)
        picture = Picture(width, height)
        picture.place(print_scene(side_scene(model.rig, data), width, height), 0, 0)
        at = picture.text(1, 0, "from the side", "title") + 1 if width >= WIDE else 0
        lean = degrees(data.lean)
        picture.text(at + 1, 0, f"lean {number(lean, 1)} deg", "measured", width - at - 1)
        if isfinite(data.wanted):
            picture.right(width - 1, 0, f"target {number(degrees(data.wanted), 1)} deg", "target")
        state, fault = model.value("balance", "state"), model.value("tilt", "fault")
        if state in SHORT and state != STANDS:
            said = f"the tilt sensor is wrong: {LIES[fault]}" if fault in LIES else SHORT[state]
            picture.text(1, height - 1, f"! {said}", "alarm", width - 2)
        elif model.rig.balance is None:
            picture.text(1, height - 1, f"! it tips {'forward' if lean > 0 else 'back'}", "alarm", width - 2)
        return picture


class BalanceNow(Panel):
    """The robot from the side, and below it each loop of the cascade: setpoint, measured value and output."""

    def draw(self, width: int, height: int) -> Picture:
        model = self.model
        picture = Picture(width, height)
        rows = len(NAMES) + 3
        above = max(0, height - rows)
        if above >= 6:
            picture.place(RobotFromSide(self.view).draw(width, above), 0, 0)
        y = above if above >= 6 else 0
        for x, head in ((20, "setpoint"), (32, "measured"), (47, "output")):
            if x <= width - 2:
                picture.right(x, y, head, "dim")
        y += 1
        outs = {
            "place": ("m/s", 1.0),
            "speed": ("deg", degrees(1)),
            "lean": ("deg/s", degrees(1)),
            "rate": ("% drive", -100.0),
        }
        for name in NAMES:
            if y >= height:
                break
            unit, scale, _ = SCALES[name]
            out, out_scale = outs[name]
            setpoint, measured, output = (
                model.value("balance", f"{name}_{n}") for n in ("setpoint", "measured", "output")
            )
            digits = 2 if scale == 1.0 else 1
            picture.text(1, y, name, "title")
            picture.right(20, y, f"{number(setpoint * scale, digits)} {unit}", "target")
            picture.right(32, y, f"{number(measured * scale, digits)} {unit}", "measured")
            if width > 48:
                picture.right(47, y, f"{number(output * out_scale, digits)} {out}", "commanded")
            y += 1
        if y < height:
            drive = model.value("balance", "upright")
            full = abs(drive) > 0.9995
            picture.text(1, y, "drive", "title")
            if width >= 40:
                centred_bar(picture, 10, y, (width - 28) // 2 * 2 + 1, drive, "alarm" if full else "commanded")
            picture.right(width - 1, y, f"{'! ' * full}{number(drive * 100, 0)} %", "alarm" if full else "commanded")
        return picture


class LeanStrip(Panel):
    """The lean over the last seconds: what the filter says, its target, and what the accelerometers say by themselves."""

    def depends(self) -> tuple[object, ...]:
        return strip_depends(self.model)

    def draw(self, width: int, height: int) -> Picture:
        picture, model = Picture(width, height), self.model
        rows, ago = since_started(model)
        if len(ago) < 2 or height < 6:
            return picture
        layout = model.line.layout

        def of(stage: str, name: str) -> Floats:
            found: Floats = np.degrees(rows[:, layout.at(stage, name)])
            return found

        # what accelerometers say by themselves is mostly noise: its mean shows where the filter goes in the end
        many = max(1, min(round(MEAN_S / model.line.dt_s), len(rows)))
        weight = np.nan_to_num(of("tilt", "by_weight"))
        summed = np.concatenate((np.zeros(1), np.cumsum(weight)))
        first = np.maximum(np.arange(1, len(weight) + 1) - many, 0)
        mean = (summed[1:] - summed[first]) / (np.arange(1, len(weight) + 1) - first)
        lines = [
            Series("by weight", mean, "ghost"),
            Series("target", of("balance", "lean_setpoint"), "target", 0.9),
            Series("lean", of("tilt", "lean"), "measured"),
        ]
        most = max(float(np.nanmax(np.abs(s.values))) for s in lines[1:])
        edge = next(e for e in (3.0, 6.0, 12.0, 24.0, 48.0, 100.0) if most <= e or e == 100.0)
        scene = chart("last seconds", ago, lines, (-edge, edge), ("deg", "s"), (width, height), ("lean", "target"),
                      (-SECONDS, 0.0))  # fmt: skip
        picture.place(print_scene(scene, width, height), 0, 0)
        return picture
