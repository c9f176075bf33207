"""The step responses of gain sets in one chart, with figures, and the terms of the output."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from pivrex.scene.chart import Series, chart, span_of
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.loop_tuning import LoopTuning
from pivrex.tui.panels.panel import Panel
from pivrex.tuning import OPEN, StepResponses

__all__ = ["ResponsePanel", "draw_figures", "draw_responses", "draw_terms", "figure_rows"]

LOOKS = (("now", "measured", 0.0), ("before", "ghost", 0.9), ("P alone", "rest", 0.5), ("kept", "other", 0.9),
         ("proposed", "commanded", 0.0), ("feedforward", "rest", 0.9), ("open", "target", 0.9))  # fmt: skip
"""The gain sets: what each is called, its role, and the length of its dashes."""


GAIN_WIDTH = 7
GAINS = ("P", "I", "D")
FIGURES = {
    "push": ("peak time", "peak", "settling time", "steady-state error", "control effort"),
    "straight": ("time", "cross-track error", "settling time", "steady-state error", "control effort"),
}
"""What the figures of an experiment are called."""
STEP_FIGURES = ("rise time", "overshoot", "settling time", "steady-state error", "control effort")


class ResponsePanel(Panel):
    """Draws a loop that is tuned by one of the functions below; what these draw depends on the same things."""

    def __init__(self, tuning: LoopTuning, drawn: Callable[[LoopTuning, Picture], None]) -> None:
        super().__init__(tuning.view)
        self._tuning, self._drawn = tuning, drawn

    def depends(self) -> tuple[object, ...]:
        return self._tuning.depends()

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        self._drawn(self._tuning, picture)
        return picture


def draw_responses(shown: LoopTuning, picture: Picture) -> None:
    """Draw all responses in one chart."""
    width, height = picture.width, picture.height
    experiment = shown.experiment
    body = "realistic physics" if shown.model.rig.has_realistic_physics else "ideal physics"
    title = (
        f"{shown.loop.name}: {experiment.title}, {body}"
        if shown.loop.name != "heading"
        else f"{experiment.title}, {body}"
    )
    if shown.responses is None:
        picture.text(1, 0, title, "title")
        picture.text(10, 2, "computing …", "dim")
        return
    a = shown.responses
    looks = {name: (role, dash) for name, role, dash in LOOKS}
    t = np.concatenate(([0.0], a.t_s))

    def whole(values: np.ndarray, first: float = 0.0) -> np.ndarray:
        return np.concatenate(([first], values))

    if shown.kind == "straight":
        unit, scale, values = "cm cross-track error, left up", 100.0, a.sideways_m
    else:
        unit, scale, values = shown.loop.unit, shown.loop.scale, a.value
    roles = {n: "ghost" if shown.stale else looks[n][0] for n in shown.names}
    series = [
        Series(n, whole(values[k]) * scale, roles[n], looks[n][1]) for k, n in reversed(list(enumerate(shown.names)))
    ]
    target = Series("target", whole(a.target[0], np.nan) * scale, "target", 0.9)
    if shown.kind != "straight":
        series.insert(0, target)
    scene = chart(title, t, series, span_of(series, 2.0), (unit, "s"), (width, height), ("target", "measured"))
    picture.place(print_scene(scene, width, height), 0, 0)
    for k, name in enumerate(shown.names):
        if a.unstable[k]:
            fell = f"falls after {a.fell_s[k]:.1f} s" if np.isfinite(a.fell_s[k]) else "unstable"
            picture.text(12, 1 + k, f"! {name}: {fell}", "alarm")
    if shown.stale:
        picture.right(width - 1, 1, "computing the new ones … ", "dim")
    if shown.help.goes_on:
        bar = int(shown.help.share * 24)
        text = f" {'█' * bar}{'░' * (24 - bar)} {shown.help.said or 'begins'}; S or Esc stops it "
        picture.text(11, height - 2, text, "chosen", width - 12)


def figure_rows(shown: LoopTuning) -> int:
    """Return how many rows `draw_figures` needs."""
    return 3 + len(shown.sets())


def draw_figures(shown: LoopTuning, picture: Picture) -> None:
    """Draw the figures of each set, one below the other."""
    width = picture.width
    heads: tuple[str, ...] = (*GAINS, *FIGURES.get(shown.kind, STEP_FIGURES))
    name_w = 12
    each = max(9, (width - name_w - len(GAINS) * GAIN_WIDTH - 2) // (len(heads) - len(GAINS)))
    ends = [
        name_w + (k + 1) * GAIN_WIDTH
        if k < len(GAINS)
        else name_w + len(GAINS) * GAIN_WIDTH + (k + 1 - len(GAINS)) * each
        for k in range(len(heads))
    ]
    heads = tuple(head for head, end in zip(heads, ends, strict=True) if end < width)
    picture.across(0, 0, width, "─")
    picture.text(1, 0, f" step responses, goal {shown.goal} ", "title")
    for head, end in zip(heads, ends, strict=False):
        first, sign, last = head.partition("-") if "-" in head else head.rpartition(" ")
        for row, word in enumerate((first + sign.strip(), last), 1):
            picture.right(end, row, word, "dim")
    a, sets = shown.responses, shown.sets()
    looks = {name: role for name, role, _ in LOOKS}
    for row, (name, gains) in enumerate(sets, 3):
        picture.text(1, row, name, looks[name])
        values = (
            ["–"] * 3 if gains == OPEN else [f"{gains.p:.4g}{shown.loop.p_unit}", f"{gains.i:.4g}", f"{gains.d:.3g}"]
        )
        if a is not None and name in shown.names:
            values += _figures(shown, a, shown.names.index(name))
        for k, value in enumerate(values[: len(heads)]):
            old = shown.stale and k >= len(GAINS)
            picture.right(ends[k], row, value, "dim" if old else "alarm" if value.startswith("!") else "rest")


def _figures(shown: LoopTuning, a: StepResponses, k: int) -> list[str]:
    f, loop = a.figures, shown.loop
    unit = loop.unit.partition(" ")[0]
    effort = f"{f.effort[k] * loop.gives_scale:.0f} {loop.gives.partition(' ')[0]}"
    if a.unstable[k]:
        return ["! falls" if np.isfinite(a.fell_s[k]) else "! unstable", "", "", "", effort]

    def time(value: float) -> str:
        return f"{value:.2f} s" if np.isfinite(value) else "! never"

    if shown.kind == "straight":
        first, second = time(float(a.done_s[k])), f"{np.abs(a.sideways_m[k]).max() * 100:.1f} cm"
    else:
        first, second = time(float(f.rise_s[k])), f"{f.overshoot[k] * loop.scale:.1f} {unit}"
    last = f"{number(float(f.final[k]) * loop.scale, 2, 5)} {unit}"
    return [first, second, time(float(f.settle_s[k])), last, effort]


def draw_terms(shown: LoopTuning, picture: Picture) -> None:
    """Draw terms of the output over time, of the current gains."""
    width, height = picture.width, picture.height
    if shown.responses is None:
        return
    a = shown.responses
    t = a.t_s
    looks = {"p": ("P", "target", 0.0), "i": ("I", "other", 0.0), "d": ("D", "rest", 0.9), "rate_p": ("rate P", "ghost", 0.0),
             "rate_i": ("rate I", "ghost", 0.9), "static": ("friction", "ghost", 0.0), "speed": ("speed", "measured", 0.9),
             "acceleration": ("acceleration", "ghost", 0.9), "output": ("output", "commanded", 0.0)}  # fmt: skip
    scale = shown.loop.gives_scale
    series = [Series(looks[n][0], v[0] * scale, looks[n][1], looks[n][2]) for n, v in a.parts.items()]
    scene = chart("terms of the output", t, series, span_of(series, 10.0), (shown.loop.gives, "s"), (width, height))
    picture.place(print_scene(scene, width, height), 0, 0)
