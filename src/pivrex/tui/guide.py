"""The shakedown's guide: asks, sends probes, takes answers, shows what is known, and writes the correction."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pivrex.diagnosis.changes import Change, put_changes
from pivrex.diagnosis.correction import corrections
from pivrex.diagnosis.hypotheses import Answer
from pivrex.diagnosis.moves import Move, Run
from pivrex.diagnosis.shakedown import Place, Shakedown
from pivrex.diagnosis.smallest import MOST, Sweep
from pivrex.diagnosis.steps import Option, Step
from pivrex.errors import PivrexError
from pivrex.session.messages import EndMove, MoveStandIn, PutBack, Stop
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel

__all__ = ["Guide"]

BEGINNINGS: tuple[tuple[str, Place, Literal["sensors", "person"]], ...] = (
    ("on the floor, half a metre free around it; the sensors say what moved", "floor", "sensors"),
    ("on a block, wheels up; the sensors say what moved", "up", "sensors"),
    ("on the floor; I say what I saw", "floor", "person"),
    ("on a block, wheels up; I say what I saw", "up", "person"),
)

HELD = "only the shakedown moves it"

UNHEARD_FRAMES = 50
"""A probe that the session has not begun by then was stopped before it could."""

WAIT_FRAMES = 8
"""Frames until the sensors show what a hand has done."""


class Guide:
    """One shakedown on the screen. Enter goes on; ↑ ↓ choose; Backspace takes the last answer back."""

    def __init__(self, model: ScreenModel) -> None:
        self._model = model
        self._rig = model.rig
        self._down: Shakedown | None = None
        self._step: Step | None = None
        self._at = 0
        self._number = 0
        self._begun, self._asked = False, 0
        self._runs: tuple[Run, ...] = ()
        self._goes_on = False
        self._wait = 0
        self._after_wait = ""
        self._heard: list[str] = []
        self._changes: list[Change] = []
        self._problem = ""
        self._written = ""
        self._sweep: Sweep | None = None
        self._sweep_place: Literal["up", "floor"] = "up"
        self._sweeping = ""

    # --- what goes on between frames ---

    def _update(self) -> None:
        if self._rig is not self._model.rig and not self._written:
            self.__init__(self._model)  # type: ignore[misc]
            self._problem = "the rig was changed, so the shakedown begins anew"
            return
        if self._wait:
            self._wait -= 1
            if not self._wait:
                self._waited()
            return
        status = self._model.status
        if self._number and status.probed is not None and status.probed.number == self._number:
            self._number, self._runs = 0, status.probed.runs
            self._came_back()
        elif self._number and status.probing == self._number:
            self._begun, self._asked = True, 0
        elif self._number:
            self._asked += 1
            if self._begun or self._asked > UNHEARD_FRAMES:
                self._number, self._goes_on = 0, False
                self._problem = "the probe was stopped; Enter sends it again"

    def _waited(self) -> None:
        row = self._model.row
        if self._down is not None and row is not None and self._after_wait == "ahead":
            self._down.ahead(row[self._model.line.layout.stage("sensed")])
            self._heard.append("the steered wheels' sensors were read straight ahead")
        self._after_wait = ""
        self._look_further()

    def _came_back(self) -> None:
        if self._sweep is not None:
            self._sweep.take(self._sweeping, self._sweep_place, abs(self._runs[0].duty))
            self._next_ramp()
            return
        assert self._down is not None and self._step is not None
        if self._step.asks == "sensors":
            run = self._runs[self._step.seen_in]
            self._heard.append(self._down.see(self._step, run.before, run.after))
            self._look_further()
            if self._goes_on and self._step is not None and self._step.kind == "probe" and self._step.asks == "sensors":
                self._send()

    def _look_further(self) -> None:
        assert self._down is not None
        self._step, self._at, self._runs = self._down.next(), 0, ()
        if self._step.kind == "done" and self._down.solution() is not None:
            try:
                self._changes = corrections(self._down)
            except PivrexError as problem:
                self._problem = str(problem)
        if self._step.kind == "contradiction":
            self._goes_on = False

    def _send(self) -> None:
        assert self._step is not None
        self._problem = ""
        self._probe(self._step.moves)

    def _probe(self, moves: tuple[Move, ...]) -> None:
        self._number, self._begun, self._asked = self._model.probe(moves), False, 0

    # --- keys ---

    def take_key(self, key: str) -> bool:
        """Take a key that the guide knows; tells whether it did."""
        if key in ("up", "down"):
            count = len(self._choices())
            if count:
                self._at = (self._at + (1 if key == "down" else -1)) % count
            return True
        if key == "backspace":
            self._take_back()
            return True
        if key == "enter":
            self._enter()
            return True
        return False

    def _choices(self) -> list[str]:
        if self._down is None and self._sweep is None:
            return [text for text, _, _ in BEGINNINGS]
        if self._sweep is None and self._step is not None:
            if self._step.kind == "contradiction":
                return [a.said for a in self._clash()]
            if self._runs and self._step.asks != "sensors":
                return [o.text for o in self._step.options]
        return []

    def _clash(self) -> list[Answer]:
        return self._down.hypotheses.contradiction() if self._down is not None else []

    def _enter(self) -> None:
        if self._number and self._sweep is not None:
            self._model.ask(EndMove())
            return
        if self._number or self._wait:
            return
        if self._sweep is not None:
            self._enter_sweep()
        elif self._down is None:
            self._begin()
        elif self._step is not None:
            self._enter_step(self._step)

    def _begin(self) -> None:
        _, place, by = BEGINNINGS[self._at]
        self._down = Shakedown(self._model.rig, place, by)
        self._model.ask(Stop(HELD))
        self._model.ask(PutBack())  # the stand-in may have driven against something meanwhile
        self._model.ask(MoveStandIn("lift" if place == "up" else "lower"))
        self._look_further()

    def _enter_step(self, step: Step) -> None:
        assert self._down is not None
        if step.kind == "ahead":
            self._model.ask(MoveStandIn("point ahead"))
            self._wait, self._after_wait = WAIT_FRAMES, "ahead"
        elif step.kind == "floor":
            self._model.ask(MoveStandIn("lower"))
            self._down.on_floor()
            self._look_further()
        elif step.kind == "contradiction":
            clash = self._clash()
            taken = clash[self._at % len(clash)]
            self._down.hypotheses.withdraw(taken)
            self._heard.append(f"taken back: {taken.said}")
            self._look_further()
        elif step.kind == "probe" and self._runs and step.asks != "sensors":
            self._answer(step, step.options[self._at])
        elif step.kind == "probe":
            self._goes_on = step.asks == "sensors"
            self._send()
        elif self._changes and not self._written:
            self._write(self._changes, "what the shakedown found")
        else:
            self._begin_sweep()

    def _answer(self, step: Step, option: Option) -> None:
        assert self._down is not None
        run = self._runs[step.seen_in]
        self._heard.append(self._down.say(step, option, run.before, run.after))
        self._look_further()

    def _take_back(self) -> None:
        if self._down is not None and self._down.hypotheses.answers and not self._number and not self._written:
            last = self._down.hypotheses.answers[-1]
            self._down.hypotheses.withdraw(last)
            self._heard.append(f"taken back: {last.said}")
            self._goes_on, self._changes = False, []
            self._look_further()

    def _write(self, changes: list[Change], what: str) -> None:
        self._written = "being written"
        done = self._model.edit(what, lambda document: put_changes(document, changes))
        self._written = f"written to {self._model.file.path.name}; u takes it back" if done else ""
        self._rig = self._model.rig

    # --- the smallest duty ---

    def _begin_sweep(self) -> None:
        self._sweep, self._sweep_place, self._written = Sweep(self._model.rig), "up", ""
        self._rig, self._changes = self._model.rig, []

    def _enter_sweep(self) -> None:
        assert self._sweep is not None
        if self._sweep.next(self._sweep_place) is not None:
            self._model.ask(MoveStandIn("lift" if self._sweep_place == "up" else "lower"))
            self._next_ramp()
        elif self._sweep.changes() and not self._written:
            self._write(self._sweep.changes(), "the smallest duties found")

    def _next_ramp(self) -> None:
        assert self._sweep is not None
        ramp = self._sweep.next(self._sweep_place)
        if ramp is not None:
            self._sweeping, moves = ramp
            self._probe(moves)
        elif self._sweep_place == "up":
            self._sweep_place = "floor"

    # --- drawing ---

    def draw(self, width: int, height: int) -> Picture:
        """Draw the guide where the view's numbers would be."""
        self._update()
        picture = Picture(width, height)
        at = picture.text(0, 0, "shakedown", "title")
        picture.text(at + 2, 0, "c closes  Esc stops", "dim")
        y = 1
        if self._problem:
            y = self._say(picture, f"! {self._problem}", y, "alarm")
        if self._sweep is not None:
            self._draw_sweep(picture, y + 1)
        elif self._down is None:
            y = self._say(picture, "Finds swapped plugs, reversed motors, encoders that count backward and a gyro that is "
                          "upside down, by short slow probes. Where does the robot stand, and who looks?", y + 1, "rest")  # fmt: skip
            self._draw_choices(picture, y + 1)
        else:
            self._draw_hypotheses(picture, y)
        return picture

    def _say(self, picture: Picture, text: str, y: int, named: str) -> int:
        for line in wrapped(text, picture.width - 1):
            picture.text(0, y, line, named)
            y += 1
        return y

    def _draw_choices(self, picture: Picture, y: int) -> int:
        choices = self._choices()
        room = max(1, picture.height - y)
        first = max(0, min(self._at - room // 2, len(choices) - room))
        for i, text in enumerate(choices[first : first + room], first):
            here = i == self._at
            picture.text(0, y, "▸" if here else " ", "commanded")
            picture.text(2, y, f" {text} ", "chosen" if here else "rest", picture.width - 2)
            y += 1
        return y

    def _draw_hypotheses(self, picture: Picture, y: int) -> None:
        down, step = self._down, self._step
        assert down is not None and step is not None
        left = down.left
        open_ = f"{left:,} explanation{'s' if left != 1 else ''} left" + (
            f", {down.bits_left():.1f} bits" if left > 1 else ""
        )
        picture.text(0, y, open_, "alarm" if not left else "measured" if left == 1 else "target")
        probes = f"{down.probes} probe{'s' if down.probes != 1 else ''} so far"
        picture.right(picture.width, 0, probes, "dim")
        y = self._draw_known(picture, y + 2)
        y = self._draw_step(picture, step, y + 1)
        rest = picture.height - y - 2
        if rest >= 2 and self._heard:
            picture.text(0, y + 1, "so far", "dim")
            for row, text in enumerate(self._heard[-rest:], y + 2):
                picture.text(2, row, text, "dim", picture.width - 2)

    def _draw_known(self, picture: Picture, y: int) -> int:
        assert self._down is not None
        known = self._down.known()
        wires = self._down.hypotheses.possible()
        ports = max(4, *(len(k.port) for k in known))
        names = max(len(n) for n in self._down.bench.names)
        picture.text(2, y, f"{'port':<{ports}}  {'turns':<{names}}  output     encoder", "dim", picture.width - 2)
        for p, one in enumerate(known):
            y += 1
            probing = self._number and self._step is not None and self._step.port == p
            picture.text(0, y, "▸" if probing else " ", "commanded")
            motors = int(wires[p].any(axis=(1, 2, 3)).sum())
            motor = one.motor or (f"one of {motors}" if motors else "! nothing fits")
            sign = {1: "forward", -1: "reversed", None: "open"}[one.sign] if one.motor else "open"
            counts = {1: "up", -1: "down", None: "open"}[one.encoder] if one.motor else "open"
            named = "rest" if one.motor and one.sign else "alarm" if not motors else "target"
            picture.text(2, y, f"{one.port:<{ports}}  {motor:<{names}}  {sign:<9}  {counts}", named, picture.width - 2)
        if self._down.bench.has_gyro:
            gyros = np.flatnonzero(wires.any(axis=(0, 1, 2, 3)))
            said = "open" if len(gyros) != 1 else "heading rises to the left" if gyros[0] == 0 else "upside down"
            y += 1
            picture.text(2, y, f"{'gyro':<{ports}}  {said}", "rest" if len(gyros) == 1 else "target")
        return y + 1

    def _draw_step(self, picture: Picture, step: Step, y: int) -> int:
        if self._number:
            return self._say(picture, f"{step.text} Look.", y, "commanded")
        if step.kind == "probe" and self._runs and step.asks != "sensors":
            question = "What moved?" if step.asks == "motion" else "What did the numbers do?"
            y = self._say(
                picture,
                f"Port {self._port(step)}: {question} ↑↓ Enter, Backspace takes the last answer back",
                y,
                "key",
            )
            y = self._say(picture, self._hint(step), y, "measured")
            return self._draw_choices(picture, y)
        if step.kind == "contradiction":
            y = self._say(picture, "! " + step.text, y, "alarm")
            y = self._say(picture, "Take one back with ↑↓ Enter:", y, "key")
            return self._draw_choices(picture, y)
        if step.kind == "done" and self._down is not None and self._down.left == 1:
            return self._draw_correction(picture, y, "the rig is right as it is: nothing is crossed")
        if step.kind == "done":
            return self._say(picture, step.text, y, "alarm")
        y = self._say(picture, step.text, y, "rest")
        if step.kind == "probe":
            asks = {
                "sensors": "the sensors look",
                "motion": "you say what moved",
                "reading": "you say what the numbers did",
            }
            return self._say(
                picture, f"Enter sends it: {asks[step.asks]}; expected to tell {step.bits:.1f} bits", y, "key"
            )
        return self._say(picture, "Enter when it is so", y, "key")

    def _hint(self, step: Step) -> str:
        """On the stand-in, what eyes would have seen; for the numbers, what they did."""
        probed = self._model.status.probed
        if self._down is None or probed is None:
            return ""
        if step.asks == "motion":
            swung = self._swung(step) if self._down.place == "floor" else ""
            return f"to the eye: {probed.eyes or 'nothing moves'}{swung}"
        run = self._runs[step.seen_in]
        sizes = self._down.bench.changes(run.before, run.after)
        moved = [
            f"{name} {v:+.3f} {'rad' if self._down.bench.steers(k) else 'm'}".replace("-", "−")
            for k, (name, v) in enumerate(zip(self._down.bench.names, sizes, strict=True))
            if abs(v) > 0.004
        ]
        gyro = self._down.bench.heading_change(run.before, run.after)
        return f"counted: {', '.join(moved) or 'nothing'}; heading {np.degrees(gyro):+.1f} deg".replace("-", "−")

    def _swung(self, step: Step) -> str:
        """Which way the body turned, as the stand-in's true pose has it."""
        assert self._down is not None
        run = self._runs[step.seen_in]
        layout = self._model.line.layout
        at = (
            layout.at("truth", "heading") - layout.stage("sensed").start
        )  # a run has what is true behind what was sensed
        turned = float(run.after[at] - run.before[at])
        return "" if abs(turned) < 0.004 else f"; its nose swings {'left' if turned > 0 else 'right'}"

    def _port(self, step: Step) -> str:
        return self._down.bench.ports[step.port] if self._down is not None else ""

    def _draw_correction(self, picture: Picture, y: int, none: str) -> int:
        changes = self._changes
        if not changes:
            y = self._say(picture, none, y, "measured")
            return self._say(picture, "Enter finds the smallest duty of each motor", y, "key")
        names = min(max(len(c.key) for c in changes), picture.width - 26)
        picture.text(0, y, f"{'in the rig':<{names}}  {'before':<10} after", "dim")
        room = picture.height - y - 4
        for change in changes[:room]:
            y += 1
            key, before, after = str(change).replace(": ", " → ", 1).split(" → ")
            picture.text(0, y, key[-names:], "rest")
            picture.text(names + 2, y, before, "ghost")
            picture.text(names + 13, y, after, "measured")
        if len(changes) > room:
            y += 1
            picture.text(0, y, f"and {len(changes) - room} more", "dim")
        if self._written:
            y = self._say(picture, self._written, y + 1, "measured")
            return self._say(picture, "Enter finds the smallest duty of each motor", y, "key")
        return self._say(picture, "Enter writes this to the rig", y + 1, "key")

    def _draw_sweep(self, picture: Picture, y: int) -> None:
        sweep = self._sweep
        assert sweep is not None
        y = self._say(
            picture,
            f"The smallest duty: each motor gets slowly more, up to {MOST * 100:.0f} %, until its wheel moves.",
            y,
            "rest",
        )
        names = max(len(n) for n in sweep.bench.names)
        y += 1
        picture.text(2, y, f"{'motor':<{names}}  wheels up  on the floor", "dim")
        for name in sweep.bench.names:
            y += 1
            here = bool(self._number) and name == self._sweeping
            picture.text(0, y, "▸" if here else " ", "commanded")
            shown = []
            for place in ("up", "floor"):
                if (name, place) in sweep.found:
                    duty = sweep.found[name, place]
                    shown.append("did not move" if duty is None else f"{duty * 100:.1f} %")
                else:
                    shown.append("…" if here and place == self._sweep_place else "open")
            picture.text(2, y, f"{name:<{names}}  {shown[0]:<9}  {shown[1]}", "rest")
        y += 2
        if self._number:
            self._say(picture, "Enter if you see it move first", y, "key")
        elif sweep.next(self._sweep_place) is not None:
            where = "Put it on a block, wheels up" if self._sweep_place == "up" else "Put it on the floor"
            self._say(picture, f"{where}; Enter begins", y, "key")
        else:
            if not self._written:
                self._changes = sweep.changes()
            self._draw_correction(picture, y, "the rig has these values already")
