"""Heading: the step responses of several gain sets in one chart, their figures and gains, and the present state of the loop."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import turning
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.heading_live import HeadingNow, HeadingStrip
from pivrex.tui.panels.loop_tuning import LoopTuning
from pivrex.tui.panels.panel import Place, Rect, Rule, View
from pivrex.tui.panels.robot_from_side import BalanceNow, LeanStrip
from pivrex.tui.panels.settings_list import SETTINGS_COMMANDS, Settings, SettingsColumn
from pivrex.tui.panels.step_response import ResponsePanel, draw_figures, draw_responses, draw_terms, figure_rows
from pivrex.tuning import BalanceLoop

__all__ = ["HEADING_COMMANDS", "HeadingView", "heading_bars", "heading_exports"]

HEADING_COMMANDS = (
    *SETTINGS_COMMANDS,
    Command("next_experiment", "experiment", "Shows the next experiment: step, push, turn, straight drive.", ("v",), foot=4),
    Command("p_alone", "P alone", "Adds the response with P alone, of a wheel feedforward alone and neither; again hides them.",
        ("y",), foot=4),
    Command("keep_response", "keep this response", "Keeps this step response to compare with; again forgets it.",
            ("full_stop", "."), ".", foot=5),
    Command("carry_out", "carry out", "Runs the experiment on the robot now; touch a stick to end it.",
            ("c",), foot=4),
    Command("next_loop", "loop", "Shows the next loop: heading, wheel speed, steered wheel.", ("N", "shift+n", "upper_n"), foot=5),
    Command("relay", "relay experiment", "Makes the loop oscillate with a relay, and proposes gains from the ultimate gain and period.",
            ("R", "shift+r", "upper_r"), foot=6),
    Command("search", "search", "Searches gains on many simulated robots under several conditions; again stops it.",
            ("S", "shift+s", "upper_s"), foot=6),
    Command("lqr", "LQR", "Finds gains for all loops of a robot that balances at once, from its linear theory.", ("percent_sign", "%"), "%",
            available=lambda m: m.rig.balance is not None, needs="this robot does not balance"),
    Command("placement", "placement trial", "Compares the gyro mounted firmly, loosely and next to a motor: drift and noise.",
            ("T", "shift+t", "upper_t")),
    Command("goal", "goal", "Changes what gains are proposed for: quick, calm or robust.", ("G", "shift+g", "upper_g")),
    Command("take_proposal", "take the proposal", "Writes the proposed gains to the rig.", ("plus", "+"), "+", foot=6),
)  # fmt: skip


class HeadingView(View):
    """Step responses at the left, what happens now at the right."""

    NEEDS_CHASSIS = True
    HELP = """
    ━ now      the response with the current gains, simulated; ╍ before your last change, kept, or P alone
    target     the setpoint, dashed; in a straight drive it is 0
    overshoot  how far it goes past the target; settling time: from then on it stays within 5 % of the step
    error      steady-state error: what is missing at the end; control effort: root mean square of the output
    P I D      P acts on the error, I on the error that stays, D damps
    compass    arrow: the gyro; dashed: the target; mark on the rim: the true heading of the simulated robot
    Y          holds the heading while you do not turn
    R S        find gains: the relay experiment, and a search over battery, grip, load and noise; + takes the proposal
    f F        push the simulated robot from the right, or from the left
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.tuning = LoopTuning(self)
        self.settings = Settings(self, self.tuning.columns)
        self.panels = (self.tuning, self.settings)
        self._chart, self._figures = (ResponsePanel(self.tuning, drawn) for drawn in (draw_responses, draw_figures))
        self._terms = ResponsePanel(self.tuning, draw_terms)
        self._now, self._strip, self._rule = HeadingNow(self), HeadingStrip(self), Rule(self)
        self._balance, self._lean = BalanceNow(self), LeanStrip(self)
        self._column = SettingsColumn(self.settings, 0)

    def places(self, width: int, height: int) -> Iterable[Place]:
        if not self.tuning.corrects:
            yield self.tuning, Rect(0, 0, width, height)
            return
        side = max(40, min(62, width * 2 // 5)) if width >= 78 else 0
        left = width - side
        rows, figures = self._column.rows, figure_rows(self.tuning)
        chart = max(6, (height - figures) * 3 // 5) if height >= 18 else height - figures
        terms = height - chart - figures
        yield self._chart, Rect(0, 0, left - 1, chart)
        yield self._figures, Rect(0, chart, left - 1, figures)
        if terms >= 5:
            yield self._terms, Rect(0, chart + figures, left - 1, terms)
        if side:
            yield self._rule, Rect(left - 1, 0, 1, height)
            x, room = left + 1, side - 2
            live = min(17, height - rows - 1) if height - rows - 1 >= 4 else 0
            strip = height - rows - live - 1
            balance = isinstance(self.tuning.loop, BalanceLoop)
            yield self._balance if balance else self._now, Rect(x, 0, room, live)
            if strip >= 9:
                yield self._lean if balance else self._strip, Rect(x, live, room, strip)
            yield self._column, Rect(x, height - min(rows, height - live), room, min(rows, height - live))


def heading_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """The error and the control output: the instrument of this view's cell."""
    if "correction" not in model.line.stages:
        return (("no correction", 0.0, "", "dim"),)
    error = model.degrees("correction", "error")
    held = bool(np.isfinite(model.value("correction", "target")))
    on = model.value("correction", "on") == 1
    if not held:
        return (("heading", 0.0, "held when let go" if on else "not held", "measured" if on else "dim"),)
    return (("off", -error / 10, turning(error, 1, "deg"), "alarm" if abs(error) > 10 else "measured"),)


def heading_exports(model: ScreenModel) -> list[list[str]]:
    """The responses of several gain sets to a step and to a push."""
    return [["response", str(model.file.path)]] if model.rig.correction is not None else []
