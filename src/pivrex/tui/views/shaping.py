"""Shaping: a response curve for each function with its live point, the stick's gate, and settings in place."""

from __future__ import annotations

from collections.abc import Iterable

from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel, Place, Rect, Rule, View
from pivrex.tui.panels.response_curve import MIRRORED, ResponseCurve, level_of
from pivrex.tui.panels.settings_list import SETTINGS_COMMANDS, Settings, SettingsColumn
from pivrex.tui.panels.speed_level_list import SpeedLevelList
from pivrex.tui.panels.stick_gate import StickGate
from pivrex.tui.panels.wheel_bars import StickStrip

__all__ = ["SHAPING_COMMANDS", "ShapingView", "shaping_bars"]

SHAPING_COMMANDS = (
    *SETTINGS_COMMANDS,
    Command(
        "speed_levels",
        "speed levels",
        "Lists the speed levels: changes, makes, renames, duplicates or deletes one.",
        ("v",),
        foot=6,
    ),
)

PER_FUNCTION = ("dead_band", "curve", "scale", "slew_up", "slew_down")
OVERALL = ("law.kind", "shaping.measure", "shaping.after_dead_band", "shaping.overall", "limits.fit")


LOWEST = 5
"""Rows: a curve that is lower says nothing."""


class ShapingView(View):
    """Curves, gate and settings. What the keys act on is marked by ▸."""

    HELP = """
    ━          the response curve: the stick to the right, the requested motion up; 1 is the speed next to the title
    ╌          thin: the response before your last change
    ○ ●        where the stick is on the curve, and what the slew rate lets through now
    ┆          the dead band; at the right its outline, for both axes of the stick
    dead band  inside it nothing happens; outside, motion begins from zero or with a jump
    curve      0 % is straight, 100 % is the cube: gentle near the centre
    scale      what is left at full stick: only this function slower
    slew up    how fast it may grow: 2.5 /s is full speed in 0.4 s; slew down: how fast it may shrink
    overall scale  makes every motion slower
    speed level  [ and ] choose the speed level; each has a share for moving and one for turning
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.settings = Settings(self, self._columns)
        self.panels = (self.settings, SpeedLevelList(self))
        self._gate, self._strip, self._rule = StickGate(self), StickStrip(self), Rule(self)
        self._of_functions: list[tuple[Panel, Panel]] = []

    def _columns(self) -> list[list[str]]:
        """Return the settings of each column: one for each function, then what counts for all."""
        model = self.model
        columns = [[f"{model.rig.shaping.key(f)}.{key}" for key in PER_FUNCTION] for f in model.line.functions]
        rest = list(OVERALL)
        if model.rig.law.kind == "planar":
            rest.insert(3, "shaping.direction")
        level = level_of(model)
        here = f"speed_levels.levels.{level}"
        if model.file.get(here) is not None:
            rest += [f"{here}.moving", f"{here}.turning"]
        return [*columns, rest]

    def places(self, width: int, height: int) -> Iterable[Place]:
        columns = self._columns()
        panel, upper = width // len(columns), max(0, height - max(len(c) for c in columns) - 1)
        while len(self._of_functions) < len(columns):
            i = len(self._of_functions)
            self._of_functions.append((ResponseCurve(self, i), SettingsColumn(self.settings, i)))
        for i, (curve, settings) in enumerate(self._of_functions[: len(columns)]):
            last, x = i == len(columns) - 1, i * panel
            w = width - x if last else panel - 1
            if upper >= LOWEST:
                gate = self._strip if self.model.rig.is_bench else self._gate  # motors on a bench share no stick
                yield (
                    (gate if last else curve),
                    Rect(x, 0, w, upper if gate is self._gate or not last else min(upper, 16)),
                )
            if i:
                yield self._rule, Rect(x - 1, 0, 1, height)
            yield settings, Rect(x, upper, w, height - upper)


def shaping_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """Each function before and after shaping: the instrument of this view's cell."""
    return tuple((f, *_shaped(model, f), "commanded") for f in model.line.functions)


def _shaped(model: ScreenModel, function: str) -> tuple[float, str]:
    """Return a function's bar and its numbers; left and right are words, and their bars go that way."""
    before, after = model.value("axes", function), model.value("rate", function)
    whole = len(model.line.functions) < 3  # where there are more, what comes out of shaping must do
    if function in MIRRORED:
        word = turning(after, 2, "").partition(" ")[2]
        return -after, f"{abs(before):4.2f}→" * whole + f"{abs(after):4.2f} {word:<5}"
    return after, f"{number(before, 2, 5)}→" * whole + number(after, 2, 5)
