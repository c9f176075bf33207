"""Field: the greenhouse from above, commanded next to measured for each wheel, pose, sensors and the last seconds."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from pivrex.errors import RigError
from pivrex.line.layout import plain
from pivrex.rig.written import written
from pivrex.session.messages import TakeMark
from pivrex.tui.commands import PUSHES, Command
from pivrex.tui.draw.parts import number
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.attachment_rows import AttachmentBars
from pivrex.tui.panels.field_instruments import FieldInstruments
from pivrex.tui.panels.field_map import FieldMap
from pivrex.tui.panels.field_numbers import FieldNumbers
from pivrex.tui.panels.file_list import FileList, Kind
from pivrex.tui.panels.panel import Place, Rect, View
from pivrex.tui.panels.path_editor import PATH_COMMANDS, PathEditor
from pivrex.tui.panels.path_limits import PathLimits
from pivrex.tui.panels.robot_from_side import RobotFromSide, leans
from pivrex.tui.panels.screen_sticks import STICKS_H, STICKS_W, ScreenSticks
from pivrex.tui.panels.wheel_bars import WheelBars, WheelStrips

__all__ = ["FIELD_COMMANDS", "FieldView", "field_bars", "field_exports"]


class FieldView(View):
    """The map at the left; at the right the instruments with two sticks below them, or the path that is open."""

    NEEDS_CHASSIS = True
    HELP = """
    ▀ ▄     each wheel's commanded speed in amber, above, and its measured speed in teal; in the strips the area between is the difference
    trail   where the robot went, older parts are fainter; dashed grey: the drive before. Amber: where the commands of the last
            3 seconds would have taken it
    wedge   the amber end of the robot is its front
    dials   the motion: forward is up, a turn is an arc; and the compass, whose mark on the rim is the true heading. N shows all numbers
    !       a wheel is above its limit; the why says how much is lost
    dashed  teal: the estimated pose, by wheels and gyro; lilac: its standard deviation, twice. H sets it, J corrects it by a wall
    coral   wheels that slip, and a robot that touches something
    4.3 N   the load on each wheel, with realistic physics; f and F push the robot, and so does the mouse
    path ◆  P opens a path: amber, coral where the robot would touch something; teal: where the simulated robot went, grey: the run
            before. Letters say what limits the speed there; the words stand next to it
    sticks  drag one with the mouse: it drives while you hold it and springs back
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.paths = PathEditor(self)
        self._map = FieldMap(self, self.paths)
        self._wheels, self._strips, self._sticks = WheelBars(self), WheelStrips(self), ScreenSticks(self)
        self._attachments, self._instruments = AttachmentBars(self), FieldInstruments(self)
        self._numbers, self._all_numbers = FieldNumbers(self), False
        self._side = RobotFromSide(self)
        kind = Kind("floor", "floors", ".toml", lambda _: written(model.folder.settings.field))
        self.floors = FileList(self, kind, self._lay_out)
        self.panels = (self.paths, PathLimits(self.paths), self._map, self._wheels, self._sticks)

    def act_floors(self) -> None:
        """List the floors of the workspace; the chosen one is used."""
        model = self.model
        here = model.folder.path / "floors" / f"{model.floor}.toml" if model.floor else None
        own = Choice("own", f"{model.folder.settings.name or 'the workspace'}: its own field", "" if here else "open")
        self.floors.choose(here, "K", own, lambda: model.lay_out(""))

    def _lay_out(self, path: Path) -> None:
        try:
            self.model.lay_out(path.stem)
        except RigError as problem:
            self.model.say(str(problem), alarm=True)

    def act_numbers(self) -> None:
        """Show all numbers where the instruments are, or these again."""
        self._all_numbers = not self._all_numbers

    def places(self, width: int, height: int) -> Iterable[Place]:
        side = max(38, min(64, width * 2 // 5)) if width >= 78 else 0
        yield self._map, Rect(0, 0, width - side, height)
        x, w = width - side + 1, side - 2
        if side and self.paths.open:
            yield self.paths, Rect(x, 0, w, height)
        elif side and self._all_numbers:
            yield self._numbers, Rect(x, 0, w, height)
        elif side:
            y = self._wheels.rows(height)
            yield self._wheels, Rect(x, 0, w, y)
            attachments = len(self.model.rig.attachments)
            if attachments and height - y > attachments + 14:
                yield self._attachments, Rect(x, y + 1, w, attachments)
                y += attachments
                y += 1
            y += 1
            shown = self._instruments.rows(height - y)
            yield self._instruments, Rect(x, y, w, shown)
            y += shown
            sticks = height - y >= STICKS_H + 4 and w >= STICKS_W
            room = Rect(x, y + 1, w, height - y - 1 - (STICKS_H + 1 if sticks else 0))
            yield self._side if leans(self.model) and room.height >= 8 else self._strips, room
            if sticks:
                yield self._sticks, Rect(x, height - STICKS_H, w, STICKS_H)


FIELD_COMMANDS = (
    Command("zoom", "nearer", "Zooms: the whole field, or a window of 2 m or 1 m that follows the robot.", ("z",), foot=6),
    Command("numbers", "all numbers", "Shows all numbers where the instruments are: pose, estimate, what the body does, raw sensors.",
            ("N", "shift+n", "upper_n"), foot=7),
    Command("believe", "here", "Sets the estimated pose: of the simulated robot where it truly is, of a real one to the field's start.",
            ("H", "shift+h", "upper_h"), foot=9),
    Command("mark", "by a mark", "Corrects the estimated pose by a wall that the robot touches squarely, or by a range to one; shows the "
            "measured value, the estimated value and the gain.", ("J", "shift+j", "upper_j"), foot=12,
            asks=TakeMark()),
    *PATH_COMMANDS,
    Command("floors", "floor", "Lists the floors of this workspace: lays out, makes, renames, duplicates or deletes one.",
            ("K", "shift+k", "upper_k"), foot=12),
    *PUSHES,
)  # fmt: skip


def field_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """Each wheel's commanded and measured speed: the instrument of this view's cell."""
    return tuple(
        (w, model.commanded(w) / float(top), f"{number(model.value('sensed', f'{plain(w)}_speed'))} m/s", "measured")
        for w, top in zip(model.line.wheels, model.line.top_m_s, strict=True)
    )


def field_exports(model: ScreenModel) -> list[list[str]]:
    """The path that is open, and how it is followed; else the one that was driven, which is saved first."""
    if model.drawing is not None:
        by = [str(model.drawing), "--rig", str(model.file.path)]
        return [["plan", *by], ["following", *by]]
    return [["path", str(model.file.path), str(model.save_path())]]
