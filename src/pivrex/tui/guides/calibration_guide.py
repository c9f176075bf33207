"""The guide of a calibration: says what to do, watches, shows before and after, and writes the rig on one key."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pivrex.diagnosis.calibration import Calibration, Proposal, changes_of
from pivrex.rig.edit import set_key
from pivrex.session.messages import MeasureAgain, Stop
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.source_list import SourceList

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

    from pivrex.session.report import SourceReport
    from pivrex.tui.model import ScreenModel

__all__ = ["CalibrationGuide", "CalibrationPanel"]

REST_FRAMES = 55
"""A phase at rest ends by itself after so many frames: two seconds."""

SETTLE_FRAMES = 12


class CalibrationGuide:
    """One calibration on the screen. Enter goes on; Backspace begins the step again; c ends it."""

    def __init__(self, model: ScreenModel, source: SourceReport) -> None:
        self._model, self.source = model, source.name
        self._calibration = Calibration(tuple(source.readings))
        self._frames = 0
        self._problem = ""
        self._proposals: list[Proposal] = []
        self.done = False
        model.ask(Stop(f"{self.source} is being calibrated"))
        self._again()

    def _again(self) -> None:
        self._model.ask(MeasureAgain(self.source))
        self._frames, self._problem = 0, "watching"  # movements before this step do not count

    def step(self, source: SourceReport | None) -> None:
        """Watch; a phase at rest goes on by itself."""
        self._frames += 1
        phase = self._calibration.phase
        if phase is None or source is None:
            return
        self._problem = self._calibration.problem(source.travel) if self._frames > SETTLE_FRAMES else "watching"
        if phase.kind == "rest" and not self._problem and self._frames >= REST_FRAMES:
            self._take(source)

    def _take(self, source: SourceReport) -> None:
        # as it is now: the source may have been plugged out and in since it was looked at
        self._problem = self._calibration.problem(source.travel)
        if self._problem:
            self._model.say(self._problem, alarm=True)
            return
        self._calibration.take(source.travel)
        if self._calibration.phase is None:
            self._proposals = self._calibration.proposals()
        self._again()

    def key(self, key: str, source: SourceReport | None) -> bool:
        """Take a key; returns whether it meant something."""
        if key == "c":
            self.done = True
        elif key == "backspace":
            self._again()
        elif key == "enter":
            if self._proposals:
                self._write()
            elif source is not None and not self._problem:
                self._take(source)
            else:
                self._model.say(self._problem or "no readings", alarm=True)
        else:
            return False
        return True

    def _write(self) -> None:
        model = self._model
        changes = changes_of(model.rig, self.source, self._proposals)

        def put(document: TOMLDocument) -> None:
            for key, value in changes:
                set_key(document, key, value)

        if model.edit(f"{self.source} calibrated", put):
            model.say(f"written: {len(changes)} numbers; u undoes them, g lets the robot drive")
            self.done = True

    def draw(self, width: int, height: int, source: SourceReport | None) -> Picture:
        """Draw the step, or what is proposed."""
        picture = Picture(width, height)
        phase = self._calibration.phase
        picture.text(1, 0, f"calibrating {self.source}", "title", width - 2)
        if phase is None:
            self._draw_proposals(picture)
            return picture
        count = len(self._calibration.phases)
        picture.text(1, 1, f"step {self._calibration.at + 1} of {count}", "dim")
        y = 3
        for line in wrapped(phase.words, width - 4):
            picture.text(2, y, line, "commanded")
            y += 1
        y += 1
        if phase.kind == "rest":
            share = min(1.0, self._frames / REST_FRAMES)
            wide = max(4, min(36, width - 8))
            picture.text(2, y, "━" * round(share * wide), "measured")
            picture.text(2 + round(share * wide), y, "╌" * (wide - round(share * wide)), "frame")
        elif self._problem:
            for line in wrapped(self._problem, width - 4):
                picture.text(2, y, line, "target")
                y += 1
        else:
            picture.text(2, y, "that will do: Enter goes on", "measured", width - 3)
        if source is None or not source.readings:
            picture.text(2, y + 2, f"! {self.source} says nothing", "alarm", width - 3)
        picture.text(1, height - 1, "Enter goes on  Backspace this step again  c ends", "dim", width - 2)
        return picture

    def _draw_proposals(self, picture: Picture) -> None:
        rig, width = self._model.rig, picture.width
        picture.text(1, 1, "before → after", "dim")
        y = 3
        for p in self._proposals:
            axis = rig.axis_of(self.source, p.channel)
            picture.text(1, y, p.channel, "title")
            if p.reversed != axis.reversed:
                picture.text(16, y, "reversed" if p.reversed else "no longer reversed", "alarm")
            rows = [("ends", f"{axis.minimum:+.3f} {axis.maximum:+.3f}", f"{p.minimum:+.3f} {p.maximum:+.3f}")]
            if p.centre is not None:
                had = f"{axis.centre[0]:+.3f} {axis.centre[1]:+.3f}" if axis.centre else "half way"
                rows.append(("centre", had, f"{p.centre[0]:+.3f} {p.centre[1]:+.3f}"))
            if p.dead_band is not None:
                roles = [r for r, a in rig.law.axes().items() if rig.channel(a) == p.channel]
                if roles:
                    rows.append(
                        ("band", f"{rig.shaping.of(roles[0]).dead_band * 100:.0f} %", f"{p.dead_band * 100:.0f} %")
                    )
            for name, before, after in rows:
                y += 1
                picture.text(2, y, name, "dim")
                picture.text(9, y, before.replace("-", "−"), "ghost")
                picture.text(25, y, "→", "frame")
                picture.text(27, y, after.replace("-", "−"), "commanded", max(0, width - 28))
            if p.dead_band is not None and picture.height > 8 * len(self._proposals) + 4:
                for line in wrapped(p.reason, width - 4):
                    y += 1
                    picture.text(2, y, line, "dim")
            y += 2
        picture.text(1, picture.height - 1, "Enter writes the rig  c leaves it as it is", "key", width - 2)


class CalibrationPanel(Panel):
    """The guide while the selected source is calibrated."""

    def __init__(self, sources: SourceList) -> None:
        super().__init__(sources.view)
        self._sources = sources
        self.guide: CalibrationGuide | None = None

    def act_calibrate(self) -> None:
        source = self._sources.source()
        if source is None or not source.can.calibrates:
            self.model.say("select a gamepad or a remote with sticks first, with ← →")
        elif not source.readings:
            self.model.say(f"{source.name} says nothing yet", alarm=True)
        else:
            self.guide = CalibrationGuide(self.model, source)

    def update(self) -> None:
        source = self._sources.source()
        if self.guide is not None and source is not None:
            self.guide.step(source if source.name == self.guide.source else None)
            if self.guide.done:
                self.guide = None

    def draw(self, width: int, height: int) -> Picture:
        if self.guide is None:
            return Picture(width, height)
        return self.guide.draw(width, height, self._sources.source())

    def take_key(self, key: str) -> bool:
        return self.guide is not None and self.guide.key(key, self._sources.source())

    def press(self, what: str, value: str) -> bool:
        if what == "go on" and self.guide is not None:
            self.guide.key("enter", self._sources.source())
        return what == "go on"

    def cancel(self) -> None:
        self.guide = None
