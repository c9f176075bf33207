"""Heading: what several gain sets answer, laid over each other; below it figures and gains, beside it what happens now."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from pivrex.rig.edit import set_key
from pivrex.session.messages import BeginMove, Hold, Push
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.gain_help import ToFind, gain_job
from pivrex.tui.jobs.responses import Question, response_job
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.heading_live import draw_live, draw_strip
from pivrex.tui.panels.settings_list import SETTINGS_COMMANDS, SettingsView
from pivrex.tui.panels.step_response import draw_answers, draw_figures, draw_terms
from pivrex.tuning import LOOPS, OPEN, Answers, Experiment, Gains, Loop, loops_of
from pivrex.tuning.search import GOALS

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["HEADING_COMMANDS", "HeadingView", "heading_bars", "heading_exports"]

SETTINGS: dict[str, tuple[tuple[str, str], ...]] = {"heading": (
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
), "wheel": (
    ("control.wheels", "wheels by"),
    ("control.p", "P"),
    ("control.i", "I"),
    ("control.d", "D"),
    ("control.clamp", "I at most"),
    ("control.filter", "speed averaged"),
    ("control.compensate", "battery reckoned in"),
)}  # fmt: skip
STEERING = (("p", "P"), ("i", "I"), ("d", "D"), ("rate", "turns at most"))
NO_CORRECTION = (("limits.fit", "too much"),)
HEADING_COMMANDS = (
    *SETTINGS_COMMANDS,
    Command("next_experiment", "experiment", "Goes on to the next experiment: step, knock, turn, straight.", ("v",), foot=4),
    Command("p_alone", "P alone", "Lays what P alone answers beside it, of a wheel feedforward alone and neither; again takes them away.",
        ("y",), foot=4),
    Command("keep_answer", "keep this answer", "Keeps the answer of the present gains to compare with; again lets it go.",
            ("full_stop", "."), ".", foot=5),
    Command("carry_out", "carry out", "Makes the experiment now, with the robot that is commanded; a stick that is touched ends it.",
            ("c",), foot=4),
    Command("next_loop", "loop", "Goes on to the next loop: heading, wheel speed, steered wheel.", ("N", "shift+n", "upper_n"), foot=5),
    Command("relay", "relay experiment", "Makes the loop swing by a switch, and proposes gains from its gain and period at the limit.",
            ("R", "shift+r", "upper_r"), foot=6),
    Command("search", "search", "Searches gains on many stand-ins under several conditions; again stops it.",
            ("S", "shift+s", "upper_s"), foot=6),
    Command("placement", "placement trial", "Drives the same drive with the gyro firm, loose and by a motor: drift and noise.",
            ("T", "shift+t", "upper_t")),
    Command("goal", "goal", "Changes what gains shall be proposed for: quick, calm or sure.", ("G", "shift+g", "upper_g")),
    Command("take_proposal", "take the proposal", "Writes the proposed gains to the rig.", ("plus", "+"), "+", foot=6),
)  # fmt: skip


class HeadingView(SettingsView):
    """Answers at the left, what happens now at the right."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.loop: Loop = LOOPS["heading"]
        self.kind = "step"
        self.goal = "quick"
        self.proposed: Gains | None = None
        self.help = gain_job()
        self.beside_p_alone = False
        self.kept: Gains | None = None
        self._responses = response_job()
        self._asked: tuple[int, str, str, tuple[Gains, ...]] | None = None
        self._of = model.file.path
        self.names: tuple[str, ...] = ()
        self.answers: Answers | None = None
        self._named: dict[tuple[Gains, ...], tuple[str, ...]] = {}

    @property
    def corrects(self) -> bool:
        """Whether this rig has the loop that is shown, as it is."""
        rig = self.model.rig
        if self.loop.name == "heading":
            return "correction" in self.model.line.stages
        return self.loop.of(rig) is not None and (self.loop.name != "wheel" or rig.control is not None)

    def columns(self) -> list[list[tuple[str, str]]]:
        if not self.corrects:
            return [list(NO_CORRECTION)]
        if self.loop.name == "steering":
            steered = self.model.rig.steered
            wheel = self.model.wheel_name if self.model.wheel_name in steered else steered[0]
            return [
                [
                    (f"steering.wheels.{wheel}.{key}", name)
                    for key, name in STEERING
                    if key != "rate" or self._limited(wheel)
                ]
            ]
        control = self.model.rig.control is not None
        return [[s for s in SETTINGS[self.loop.name] if s[0] != "control.wheels" or control]]

    def _limited(self, wheel: str) -> bool:
        steering = self.model.rig.steering
        return steering is not None and steering.wheels[wheel].rate_rad_s is not None

    # --- what is reckoned ---

    def sets(self) -> list[tuple[str, Gains]]:
        """Give the gain sets that are shown, each with its name."""
        loop = self.loop
        now = loop.gains(self.model.rig)
        found = [("now", now)]
        before = self.model.before
        if before is not None and loop.of(before.rig) is not None and loop.gains(before.rig) != now:
            found.append(("before", loop.gains(before.rig)))
        if self.beside_p_alone and loop.name == "wheel":
            found += [("feedforward", Gains(0.0, 0.0, 0.0)), ("open", OPEN)]
        elif self.beside_p_alone:
            found.append(("P alone", Gains(now.p, 0.0, 0.0)))
        if self.kept is not None and self.kept != now:
            found.append(("kept", self.kept))
        if self.proposed is not None and self.proposed != now:
            found.append(("proposed", self.proposed))
        return found

    @property
    def experiment(self) -> Experiment:
        """What is tried."""
        return self.loop.experiment(self.model.rig, self.kind)

    def update(self) -> None:
        """Ask for answers where something has changed, and take those that have come."""
        path = self.model.file.path
        if path != self._of:  # what was kept or proposed was another robot's
            self._of, self.kept, self.proposed, self.answers = path, None, None, None
            self._stop_helping()
        if self.loop.of(self.model.rig) is None:
            self._choose(LOOPS["heading"])
        self._take_help()
        if not self.corrects:
            return
        sets = self.sets()
        gains = tuple(g for _, g in sets)
        now = (self.model.serial, self.loop.name, self.kind, gains)
        if now != self._asked:
            self._asked = now
            self._named = {gains: tuple(n for n, _ in sets)}
            self._responses.ask(Question(self.model.rig, self.loop.name, self.experiment, gains))
        for question, answers in self._responses.poll():
            if question.sets in self._named and question.loop == self.loop.name:
                self.answers, self.names = answers, self._named[question.sets]

    def _take_help(self) -> None:
        """Take what the helper says."""
        for _, found in self.help.poll():
            self.proposed = found.gains or self.proposed
            self.model.say(found.text + ("; + takes them" if found.gains is not None else ""), alarm=found.failed)
        if self.help.problem:
            self.model.say(self.help.problem, alarm=True)
            self.help.forget()

    def cancel(self) -> None:
        self._stop_helping()

    def _stop_helping(self) -> None:
        if self.help.goes_on:
            self.help.stop()
            self.model.say("the search is stopped")

    def close(self) -> None:
        self.help.stop()
        self._responses.close()

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
        draw_answers(self, picture, left - 1, chart)
        draw_figures(self, picture, 0, chart, left - 1)
        terms = height - chart - figures
        if terms >= 5:
            draw_terms(self, picture, chart + figures, left - 1, terms)
        if side:
            picture.down(left - 1, 0, height)
            x, room = left + 1, side - 2
            live = min(17, height - rows - 1) if height - rows - 1 >= 4 else 0
            if live:
                picture.place(draw_live(self.model, room, live), x, 0)
            strip = height - rows - live - 1
            if strip >= 9:
                picture.place(draw_strip(self.model, room, strip), x, live)
            self.draw_settings(picture, settings[: height - live], x, height - min(rows, height - live), room)
        return picture

    def _draw_none(self, picture: Picture, width: int) -> None:
        why = "has no gyro" if self.model.rig.gyro is None else "has a gyro, but no table [correction]"
        picture.text(2, 1, self.loop.name, "title")
        if self.loop.name == "wheel":
            picture.text(
                2,
                3,
                f"{self.model.rig.name} has no table [control]: drive is the share of top speed.",
                "rest",
                width - 3,
            )
            picture.text(
                2, 4, 'Write [control] with wheels = "pid" into the rig; N goes on to the next loop.', "rest", width - 3
            )
            return
        picture.text(2, 3, f"{self.model.rig.name} {why}: nothing can hold its heading.", "rest", width - 3)
        if self.model.rig.gyro is not None:
            picture.text(2, 4, "z adds the table with usual gains, and holds the heading.", "rest", width - 3)

    # --- acting ---

    def _choose(self, loop: Loop) -> None:
        if loop is not self.loop:
            self._stop_helping()
            self.loop, self.kind, self.answers = loop, "step", None
            self.kept = self.proposed = None

    def act_next_loop(self) -> None:
        loops = loops_of(self.model.rig) or [LOOPS["heading"]]
        at = loops.index(self.loop) if self.loop in loops else -1
        self._choose(loops[(at + 1) % len(loops)])

    def act_goal(self) -> None:
        goals = list(GOALS)
        self.goal = goals[(goals.index(self.goal) + 1) % len(goals)]
        self.model.say(f"goal {self.goal}: {GOALS[self.goal]}")

    def act_relay(self) -> None:
        self._ask_help("relay")

    def act_placement(self) -> None:
        self._ask_help("placement")

    def act_search(self) -> None:
        if self.help.goes_on:
            self._stop_helping()
        else:
            self._ask_help("search")

    def _ask_help(self, kind: str) -> None:
        if not self.corrects:
            return
        self.help.ask(ToFind(kind, self.model.rig, self.loop.name, self.goal))

    def act_take_proposal(self) -> None:
        if self.proposed is None:
            self.model.say("nothing is proposed: R makes the relay experiment, S searches")
            return
        changes = self.loop.changes(self.model.rig, self.proposed)

        def put(document: TOMLDocument) -> None:
            for key, value in changes.items():
                set_key(document, key, value)

        if self.model.edit(f"{self.loop.name} gains", put):
            self.proposed = None

    def act_next_experiment(self) -> None:
        kinds = self.loop.kinds
        self.kind = kinds[(kinds.index(self.kind) + 1) % len(kinds)]
        self.answers = None

    def act_p_alone(self) -> None:
        self.beside_p_alone = not self.beside_p_alone

    def act_keep_answer(self) -> None:
        now = self.loop.gains(self.model.rig)
        self.kept = None if self.kept == now else now
        self.model.say("this answer is kept to compare with" if self.kept else "the kept answer is let go")

    def act_carry_out(self) -> None:
        if not self.corrects:
            return
        experiment = self.experiment
        if self.kind == "push":
            if self.loop.name == "heading":
                self.model.ask(Hold(True))
            self.model.ask(Push(*self.loop.impulse(self.model.rig, experiment).tolist()))
            return
        move = replace(
            self.loop.move(self.model.line, experiment),
            longest_s=max(experiment.seconds, 20.0 if self.kind in ("turn", "straight") else 0.0),
        )
        self.model.ask(BeginMove(move, experiment.title))

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("━ now", "what the present gains answer on the stand-in; ╍ before your last change, kept, or P alone"),
            ("target", "the heading that is asked for, dashed; of a straight drive the line is 0"),
            ("beyond", "how far past the target it swings; settled: it stays within 5 % from then on"),
            ("left over", "what is missing at the end; effort: how much turn the loop gave, root mean square"),
            ("P I D", "P answers the error, I what stays of it, D brakes on the difference of the rates"),
            ("compass", "full ray: the gyro; broken ray: the target; mark on the rim: what is true, on the stand-in"),
            ("z", "holds the heading while you do not turn; touching the turn lets it go"),
            (
                "R S",
                "helpers: the relay experiment, and a search under charge, grip, load and noise; + takes what they propose",
            ),
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
