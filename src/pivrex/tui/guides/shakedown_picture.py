"""The picture of the shakedown's guide: the known facts, the next step, the correction to write."""

from __future__ import annotations

from math import log2

import numpy as np
from numpy.typing import NDArray

from pivrex.diagnosis.smallest import MOST
from pivrex.diagnosis.steps import Step
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.guides.shakedown_guide import ShakedownGuide
from pivrex.tui.panels.panel import Panel, View

__all__ = ["ShakedownPanel", "draw_guide"]


class ShakedownPanel(Panel):
    """The guide while it is open, where the view's numbers would be.

    Attributes
    ----------
    used : int
        How many rows were written.
    """

    used = 0

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.guide: ShakedownGuide | None = None

    def act_shakedown(self) -> None:
        """Open or close the guide."""
        self.guide = ShakedownGuide(self.model) if self.guide is None else None

    def update(self) -> None:
        if self.guide is not None:
            self.guide.update()

    def draw(self, width: int, height: int) -> Picture:
        picture = draw_guide(self.guide, width, height) if self.guide is not None else Picture(width, height)
        written = np.flatnonzero((picture.chars != " ").any(axis=1))
        self.used = int(written[-1]) + 1 if len(written) else 0
        return picture

    def take_key(self, key: str) -> bool:
        return self.guide is not None and self.guide.take_key(key)

    def press(self, what: str, value: str) -> bool:
        if self.guide is None or what not in ("answer", "go on"):
            return False
        self.guide.click(int(value or 0) if what == "answer" else None)
        return True


UNKNOWN = "not known yet"


def draw_guide(guide: ShakedownGuide, width: int, height: int) -> Picture:
    """Draw the guide where the view's numbers would be."""
    picture = Picture(width, height)
    at = picture.text(0, 0, "shakedown", "title")
    picture.text(at + 2, 0, "c closes  Esc stops", "dim")
    y = 1
    if guide.model.practice:
        said = "Practice: the faults are made up. Changes go into a copy"
        if guide.down is None:
            said += (
                f"; {guide.model.practice} stays as it is. "
                "Routines, paths, exports and runs marked with * are kept when you leave"
            )
        said += "."
        y = _say(picture, said, y, "target")
    if guide.problem:
        y = _say(picture, f"! {guide.problem}", y, "alarm")
    if guide.sweep is not None:
        _draw_sweep(guide, picture, y + 1)
    elif guide.down is None:
        y = _say(picture, "Finds swapped plugs, reversed motors and encoders that count backward, by short slow probes. Who looks?"
                      if guide.model.rig.is_bench else
                      "Finds swapped plugs, reversed motors, encoders that count backward and a gyro that is "
                      "upside down, by short slow probes. Where does the robot stand, and who looks?", y + 1, "rest")  # fmt: skip
        _draw_choices(guide, picture, y + 1)
    else:
        _draw_hypotheses(guide, picture, y)
    return picture


def _say(picture: Picture, text: str, y: int, named: str) -> int:
    for line in wrapped(text, picture.width - 1):
        picture.text(0, y, line, named)
        y += 1
    return y


def _draw_choices(guide: ShakedownGuide, picture: Picture, y: int) -> int:
    choices = guide.choices()
    room = max(1, picture.height - y)
    first = max(0, min(guide.at - room // 2, len(choices) - room))
    for i, text in enumerate(choices[first : first + room], first):
        here = i == guide.at
        picture.spot(0, y, picture.width, "answer", str(i))
        picture.text(0, y, "▸" if here else " ", "commanded")
        picture.text(2, y, f" {text} ", "chosen" if here else "rest", picture.width - 2)
        y += 1
    return y


def _draw_hypotheses(guide: ShakedownGuide, picture: Picture, y: int) -> None:
    down, step = guide.down, guide.step
    assert down is not None and step is not None
    left = down.left
    open_ = f"{left:,} explanation{'s' if left != 1 else ''} left"
    at = picture.text(0, y, open_, "alarm" if not left else "measured" if left == 1 else "target")
    _draw_left(picture, at + 2, y, picture.width - at - 3, left, down.at_first)
    probes = f"{down.probes} probe{'s' if down.probes != 1 else ''}"
    picture.right(picture.width, 0, probes, "dim")
    y = _draw_known(guide, picture, y + 2)
    y = _draw_step(guide, picture, step, y + 1)
    rest = picture.height - y - 2
    if rest >= 2 and guide.heard:
        picture.text(0, y + 1, "so far", "dim")
        for row, text in enumerate(guide.heard[-rest:], y + 2):
            picture.text(2, row, text, "dim", picture.width - 2)


def _draw_left(picture: Picture, x: int, y: int, width: int, left: int, first: int) -> None:
    """Draw how far the explanations have come down from all to one, each halving as long as any other."""
    if width < 8 or first < 2:
        return
    share = log2(max(1, left)) / log2(first)
    picture.fill(x, y, width, "measure fill")
    picture.fill(x, y, round(share * width), "band")


def _expected(guide: ShakedownGuide, step: Step) -> str:
    """Return what a probe is expected to leave of what is still possible."""
    left = guide.down.left if guide.down is not None else 1
    after = max(1, round(left / 2**step.bits))
    return f"about {after:,} of {left:,} will be left"


def _draw_known(guide: ShakedownGuide, picture: Picture, y: int) -> int:
    assert guide.down is not None
    known = guide.down.known()
    wires = guide.down.hypotheses.possible()
    ports = max(4, *(len(k.port) for k in known))
    names = max(len(n) for n in guide.down.bench.names)
    roomy = picture.height - y > 3 * len(known) + 16
    picture.text(2, y, f"{'port':<{ports}}  {'turns':<{names}}  output         encoder", "dim", picture.width - 2)
    for p, one in enumerate(known):
        y += 1
        probing = guide.number and guide.step is not None and guide.step.port == p
        picture.text(0, y, "▸" if probing else " ", "commanded")
        motors = int(wires[p].any(axis=(1, 2, 3)).sum())
        motor = one.motor or (f"one of {motors}" if motors else "! nothing fits")
        sign = {1: "forward", -1: "reversed", None: UNKNOWN}[one.sign] if one.motor else UNKNOWN
        counts = {1: "up", -1: "down", None: UNKNOWN}[one.encoder] if one.motor else UNKNOWN
        named = "rest" if one.motor and one.sign else "alarm" if not motors else "target"
        picture.text(2, y, f"{one.port:<{ports}}  {motor:<{names}}  {sign:<13}  {counts}", named, picture.width - 2)
        if roomy:
            y += 1
            picture.text(4 + ports, y, _said_of(guide, p, wires), "dim", picture.width - 5 - ports)
    if guide.down.bench.has_gyro:
        gyros = np.flatnonzero(wires.any(axis=(0, 1, 2, 3)))
        said = UNKNOWN if len(gyros) != 1 else "heading rises to the left" if gyros[0] == 0 else "upside down"
        y += 1
        picture.text(2, y, f"{'gyro':<{ports}}  {said}", "rest" if len(gyros) == 1 else "target")
    return y + 1


def _said_of(guide: ShakedownGuide, port: int, wires: NDArray[np.bool_]) -> str:
    """Return what a port may still turn, and how."""
    assert guide.down is not None
    possible = np.flatnonzero(wires[port].any(axis=(1, 2, 3)))
    names = [guide.down.bench.names[m] for m in possible]
    if len(names) > 1:
        return "may turn " + ", ".join(names)
    return f"turns {names[0]}, no other" if names else "no wiring explains all that was seen"


def _draw_step(guide: ShakedownGuide, picture: Picture, step: Step, y: int) -> int:  # noqa: PLR0911 - a case for each kind of step
    if guide.number:
        return _say(picture, f"{step.text} Look.", y, "commanded")
    if step.kind == "probe" and guide.runs and step.asks != "sensors":
        question = "What moved?" if step.asks == "motion" else "What did the numbers do?"
        y = _say(
            picture, f"Port {_port(guide, step)}: {question} ↑↓ Enter, Backspace removes the last answer", y, "key"
        )
        y = _say(picture, _hint(guide, step), y, "measured")
        return _draw_choices(guide, picture, y)
    if step.kind == "contradiction":
        y = _say(picture, "! " + step.text, y, "alarm")
        y = _say(picture, "Remove one with ↑↓ Enter:", y, "key")
        return _draw_choices(guide, picture, y)
    if step.kind == "done" and guide.down is not None and guide.down.left == 1:
        return _draw_correction(guide, picture, y, "the rig is right as it is: nothing is crossed")
    if step.kind == "done":
        return _say(picture, step.text, y, "alarm")
    y = _say(picture, step.text, y, "rest")
    if step.kind == "probe":
        asks = {
            "sensors": "the sensors look",
            "motion": "you say what moved",
            "reading": "you say what the numbers did",
        }
        return _say(picture, f"Enter sends it: {asks[step.asks]}; {_expected(guide, step)}", y, "key")
    return _say(picture, "Enter when it is done", y, "key")


def _hint(guide: ShakedownGuide, step: Step) -> str:
    """On the simulated robot, what eyes would have seen; for the numbers, what they did."""
    probed = guide.model.status.probed
    if guide.down is None or probed is None:
        return ""
    if step.asks == "motion":
        swung = _swung(guide, step) if guide.down.place == "floor" else ""
        return f"to the eye: {probed.eyes or 'nothing moves'}{swung}"
    run = guide.runs[step.seen_in]
    sizes = guide.down.bench.changes(run.before, run.after)
    moved = [
        f"{name} {v:+.3f} {'rad' if guide.down.bench.steers(k) else 'm'}".replace("-", "−")
        for k, (name, v) in enumerate(zip(guide.down.bench.names, sizes, strict=True))
        if abs(v) > 0.004
    ]
    gyro = guide.down.bench.heading_change(run.before, run.after)
    return f"counted: {', '.join(moved) or 'nothing'}; heading {np.degrees(gyro):+.1f} deg".replace("-", "−")


def _swung(guide: ShakedownGuide, step: Step) -> str:
    """Which way the body turned, as the simulated robot's true pose has it."""
    assert guide.down is not None
    run = guide.runs[step.seen_in]
    layout = guide.model.line.layout
    at = layout.at("truth", "heading") - layout.stage("sensed").start  # a run has the truth after the sensed values
    turned = float(run.after[at] - run.before[at])
    return "" if abs(turned) < 0.004 else f"; its nose swings {'left' if turned > 0 else 'right'}"


def _port(guide: ShakedownGuide, step: Step) -> str:
    return guide.down.bench.ports[step.port] if guide.down is not None else ""


def _draw_correction(guide: ShakedownGuide, picture: Picture, y: int, none: str) -> int:
    changes = guide.changes
    if not changes:
        y = _say(picture, none, y, "measured")
        return _say(picture, "Enter finds the smallest duty of each motor", y, "key")
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
    if guide.written:
        y = _say(picture, guide.written, y + 1, "measured")
        return _say(picture, "Enter finds the smallest duty of each motor", y, "key")
    return _say(picture, "Enter writes this to the rig", y + 1, "key")


def _draw_sweep(guide: ShakedownGuide, picture: Picture, y: int) -> None:
    sweep = guide.sweep
    assert sweep is not None
    y = _say(
        picture,
        f"The smallest duty: each motor gets slowly more, up to {MOST * 100:.0f} %, until its wheel moves.",
        y,
        "rest",
    )
    names = max(len(n) for n in sweep.bench.names)
    y += 1
    bench = sweep.rig.is_bench
    picture.text(2, y, f"{'motor':<{names}}  {'duty' if bench else 'wheels up  on the floor'}", "dim")
    for name in sweep.bench.names:
        y += 1
        here = bool(guide.number) and name == guide.sweeping
        picture.text(0, y, "▸" if here else " ", "commanded")
        shown = []
        for place in ("up",) if bench else ("up", "floor"):
            if (name, place) in sweep.found:
                duty = sweep.found[name, place]
                shown.append("did not move" if duty is None else f"{duty * 100:.1f} %")
            else:
                shown.append("…" if here and place == guide.sweep_place else UNKNOWN)
        picture.text(2, y, f"{name:<{names}}  " + "  ".join(f"{s:<9}" for s in shown), "rest")
    y += 2
    if guide.number:
        _say(picture, "Enter if you see it move first", y, "key")
    elif sweep.next(guide.sweep_place) is not None:
        where = "Put it on a block, wheels up" if guide.sweep_place == "up" else "Put it on the floor"
        where = "Let the motors turn freely" if bench else where
        _say(picture, f"{where}; Enter begins", y, "key")
    else:
        _draw_correction(guide, picture, y, "the rig has these values already")
