"""Heading: what several gain sets answer, laid over each other; below it figures and gains, beside it what happens now."""

from __future__ import annotations

import numpy as np

from pivrex.session.messages import BeginMove, Hold, Push
from pivrex.tui.commands import Command
from pivrex.tui.draw.lines import Series, draw_lines, span_of
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.views.heading.live import draw_live, draw_strip
from pivrex.tui.views.heading.work import Beside, Question, Reckoning
from pivrex.tui.views.settings import SETTINGS_COMMANDS, SettingsView
from pivrex.tuning import EXPERIMENTS, Answers, Gains, gains_of
from pivrex.tuning.experiment import move_of, usual

__all__ = ["HEADING_COMMANDS", "HeadingView", "heading_bars", "heading_exports"]

SETTINGS = (
    ("correction.hold", "hold at the start"),
    ("correction.p", "P"),
    ("correction.i", "I"),
    ("correction.d", "D"),
    ("correction.clamp", "I at most"),
    ("correction.forget", "I forgets in"),
    ("correction.largest", "gives at most"),
    ("correction.filter", "rate averaged"),
    ("correction.settled", "caught below"),
    ("correction.rate.p", "inner loop P"),
    ("correction.rate.i", "inner loop I"),
    ("control.wheels", "wheels by"),
)
NO_CORRECTION = (("limits.fit", "too much"),)
LOOKS = (("now", "measured", 1), ("before", "ghost", 2), ("P alone", "target", 2), ("kept", "thing", 2))
"""The gain sets: what each is called, its role, and how broken its line is."""

HEADING_COMMANDS = (
    *SETTINGS_COMMANDS,
    Command("next_experiment", "experiment", "Goes on to the next experiment: step, knock, turn, straight.", ("v",), foot=4),
    Command("p_alone", "P alone", "Lays what P alone answers beside it, or takes it away.", ("y",), foot=4),
    Command("keep_answer", "keep this answer", "Keeps the answer of the present gains to compare with; again lets it go.",
            ("full_stop", "."), ".", foot=5),
    Command("carry_out", "carry out", "Makes the experiment now, with the robot that is commanded; a stick that is touched ends it.",
            ("c",), foot=4),
)  # fmt: skip


class HeadingView(SettingsView):
    """Answers at the left, what happens now at the right."""

    begin: type[Reckoning] = Beside

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.kind = "step"
        self.beside_p_alone = False
        self.kept: Gains | None = None
        self._work: Reckoning | None = None
        self._asked: tuple[int, str, tuple[Gains, ...]] | None = None
        self.names: tuple[str, ...] = ()
        self.answers: Answers | None = None
        self._named: dict[tuple[Gains, ...], tuple[str, ...]] = {}

    @property
    def corrects(self) -> bool:
        """Whether this rig has a correction."""
        return "correction" in self.model.line.stages

    def columns(self) -> list[list[tuple[str, str]]]:
        if not self.corrects:
            return [list(NO_CORRECTION)]
        return [[s for s in SETTINGS if s[0] != "control.wheels" or self.model.rig.control is not None]]

    # --- what is reckoned ---

    def sets(self) -> list[tuple[str, Gains]]:
        """Give the gain sets that are shown, each with its name."""
        now = gains_of(self.model.rig)
        found = [("now", now)]
        before = self.model.before
        if before is not None and "correction" in before.stages and gains_of(before.rig) != now:
            found.append(("before", gains_of(before.rig)))
        if self.beside_p_alone:
            found.append(("P alone", Gains(now.p, 0.0, 0.0)))
        if self.kept is not None and self.kept != now:
            found.append(("kept", self.kept))
        return found

    def update(self) -> None:
        """Ask for answers where something has changed, and take those that have come."""
        if not self.corrects:
            return
        sets = self.sets()
        gains = tuple(g for _, g in sets)
        now = (self.model.serial, self.kind, gains)
        if self._work is None:
            self._work = self.begin()
        if now != self._asked:
            self._asked = now
            self._named = {gains: tuple(n for n, _ in sets)}
            self._work.ask(Question(self.model.rig, usual(self.model.rig, self.kind), gains))
        found = self._work.take()
        if found is not None and found[0].sets in self._named:
            self.answers, self.names = found[1], self._named[found[0].sets]

    def close(self) -> None:
        if self._work is not None:
            self._work.close()
            self._work = None

    # --- drawing ---

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        self.sliders = []
        if not self.corrects:
            self._draw_none(picture, width)
            return picture
        side = max(40, min(62, width * 2 // 5)) if width >= 78 else 0
        left = width - side
        settings = self.columns()[0]
        rows = len(settings)
        figures = 2 + len(self.sets())
        chart = max(6, (height - figures) * 3 // 5) if height >= 18 else height - figures
        self._draw_answers(picture, left - 1, chart)
        self._draw_figures(picture, 0, chart, left - 1)
        terms = height - chart - figures
        if terms >= 5:
            self._draw_terms(picture, chart + figures, left - 1, terms)
        if side:
            picture.down(left - 1, 0, height)
            x, room = left + 1, side - 2
            live = min(17, height - rows - 1) if height - rows - 1 >= 7 else 0
            if live:
                picture.place(draw_live(self.model, room, live), x, 0)
            strip = height - rows - live - 1
            if strip >= 9:
                picture.place(draw_strip(self.model, room, strip), x, live)
            self.draw_settings(picture, settings[: height - live], x, height - min(rows, height - live), room)
        return picture

    def _draw_none(self, picture: Picture, width: int) -> None:
        why = "has no gyro" if self.model.rig.gyro is None else "has a gyro, but no table [correction]"
        picture.text(2, 1, "heading", "title")
        picture.text(2, 3, f"{self.model.rig.name} {why}: nothing can hold its heading.", "rest", width - 3)
        if self.model.rig.gyro is not None:
            picture.text(2, 4, "z adds the table with usual gains, and holds the heading.", "rest", width - 3)

    def _draw_answers(self, picture: Picture, width: int, height: int) -> None:
        experiment = usual(self.model.rig, self.kind)
        body = "real body" if self.model.rig.has_real_body else "perfect body"
        title = f"{experiment.title}, {body}"
        if self.answers is None:
            picture.text(1, 0, title, "title")
            picture.text(10, 2, "reckoning …", "dim")
            return
        a = self.answers
        looks = {name: (role, every) for name, role, every in LOOKS}
        t = np.concatenate(([0.0], a.t_s))

        def whole(values: np.ndarray, first: float = 0.0) -> np.ndarray:
            return np.concatenate(([first], values))

        if self.kind == "straight":
            unit, scale, values = "cm aside, left up", 100.0, a.aside_m
        else:
            unit, scale, values = "deg", float(np.degrees(1)), a.heading
        series = [Series(n, whole(values[k]) * scale, *looks[n]) for k, n in reversed(list(enumerate(self.names)))]
        target = Series("target", whole(a.target[0], np.nan) * scale, "target", 3)
        if self.kind != "straight":
            series.insert(0, target)
        picture.place(
            draw_lines(title, t, series, span_of(series, 2.0), unit, width, height, ("0 s", f"{t[-1]:.1f} s")), 0, 0
        )
        for k, name in enumerate(self.names):
            if a.unstable[k]:
                picture.text(12, 1 + k, f"! {name}: unstable", "alarm")

    def _draw_figures(self, picture: Picture, x: int, y: int, width: int) -> None:
        """Draw the figures of each set, one below the other."""
        knock = self.kind == "push"
        heads = (
            "P",
            "I",
            "D",
            "farthest" if knock else "rise",
            "turned" if knock else "beyond",
            "settled",
            "left over",
            "effort",
        )
        if self.kind == "straight":
            heads = ("P", "I", "D", "time", "aside", "settled", "left over", "effort")
        name_w = 9
        each = max(8, (width - name_w - 2) // len(heads))
        shown = heads[: (width - name_w - 2) // each]
        picture.across(y, x, x + width, "─")
        picture.text(x + 1, y, " answers ", "title")
        for k, head in enumerate(shown):
            picture.right(x + name_w + (k + 1) * each, y + 1, head, "dim")
        a, sets = self.answers, self.sets()
        looks = {name: role for name, role, _ in LOOKS}
        for row, (name, gains) in enumerate(sets, y + 2):
            picture.text(x + 1, row, name, looks[name])
            values = [f"{gains.p:g} /s", f"{gains.i:g}", f"{gains.d:g}"]
            if a is not None and name in self.names:
                values += self._figures(a, self.names.index(name))
            for k, value in enumerate(values[: len(shown)]):
                picture.right(x + name_w + (k + 1) * each, row, value, "alarm" if value.startswith("!") else "rest")

    def _figures(self, a: Answers, k: int) -> list[str]:
        f = a.figures
        if a.unstable[k]:
            return ["! unstable", "", "", "", f"{np.degrees(f.effort[k]):.0f} deg/s"]

        def time(value: float) -> str:
            return f"{value:.2f} s" if np.isfinite(value) else "! never"

        if self.kind == "straight":
            first, second = time(float(a.done_s[k])), f"{np.abs(a.aside_m[k]).max() * 100:.1f} cm"
        else:
            first, second = time(float(f.rise_s[k])), f"{np.degrees(f.overshoot[k]):.1f} deg"
        last = f"{number(float(np.degrees(f.final[k])), 2, 5)} deg"
        return [first, second, time(float(f.settle_s[k])), last, f"{np.degrees(f.effort[k]):.0f} deg/s"]

    def _draw_terms(self, picture: Picture, y: int, width: int, height: int) -> None:
        """Draw what each part gave over time, of the present gains."""
        if self.answers is None:
            return
        a = self.answers
        t = a.t_s
        looks = {"p": ("P", "target", 1), "i": ("I", "thing", 2), "d": ("D", "rest", 3), "rate_p": ("rate P", "ghost", 2),
                 "rate_i": ("rate I", "ghost", 3), "given": ("given", "commanded", 1)}  # fmt: skip
        series = [Series(looks[n][0], np.degrees(v[0]), looks[n][1], looks[n][2]) for n, v in a.parts.items()]
        picture.place(
            draw_lines("what each part gave", t, series, span_of(series, 10.0), "deg/s", width, height, ("0 s", f"{t[-1]:.1f} s")),
            0, y,
        )  # fmt: skip

    # --- acting ---

    def act_next_experiment(self) -> None:
        self.kind = EXPERIMENTS[(EXPERIMENTS.index(self.kind) + 1) % len(EXPERIMENTS)]
        self.answers = None

    def act_p_alone(self) -> None:
        self.beside_p_alone = not self.beside_p_alone

    def act_keep_answer(self) -> None:
        now = gains_of(self.model.rig)
        self.kept = None if self.kept == now else now
        self.model.say("this answer is kept to compare with" if self.kept else "the kept answer is let go")

    def act_carry_out(self) -> None:
        if not self.corrects:
            return
        experiment = usual(self.model.rig, self.kind)
        if self.kind == "push":
            self.model.ask(Hold(True))
            _, left, turn = experiment.impulse(self.model.rig).tolist()
            self.model.ask(Push(0.0, left, turn))
            return
        self.model.ask(BeginMove(move_of(self.model.line, experiment), experiment.title))

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("━ now", "what the present gains answer on the stand-in; ╍ before your last change, kept, or P alone"),
            ("target", "the heading that is asked for, dashed; of a straight drive the line is 0"),
            ("beyond", "how far past the target it swings; settled: it stays within 5 % from then on"),
            ("left over", "what is missing at the end; effort: how much turn the loop gave, root mean square"),
            ("P I D", "P answers the error, I what stays of it, D brakes on the difference of the rates"),
            ("compass", "full ray: the gyro; broken ray: the target; mark on the rim: what is true, on the stand-in"),
            ("z", "holds the heading while you do not turn; touching the turn lets it go"),
            ("f F", "knock the stand-in from the right, or from the left"),
        ]


def heading_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """The error and what is given: the instrument of this view's cell."""
    if "correction" not in model.line.stages:
        return (("no correction", 0.0, "", "dim"),)
    error = float(np.degrees(model.value("correction", "error")))
    held = bool(np.isfinite(model.value("correction", "target")))
    on = model.value("correction", "on") == 1
    if not held:
        return (("heading", 0.0, "held when let go" if on else "not held", "measured" if on else "dim"),)
    return (("off", -error / 10, turning(error, 1, "deg"), "alarm" if abs(error) > 10 else "measured"),)


def heading_exports(model: ScreenModel) -> list[list[str]]:
    """What several gain sets answer to a step, and to a knock."""
    return [["response", str(model.file.path)]] if model.rig.correction is not None else []
