"""What the Field view's commands do to its path."""

from __future__ import annotations

from pivrex.tui.commands import Command
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.path_editor import PathMode
from pivrex.tui.view import View

__all__ = ["PATH_COMMANDS", "PathActs"]


class PathActs(View):
    """A view with a path."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.paths = PathMode(self, model)

    def act_path(self) -> None:
        """Open the path that is drawn here, or close it."""
        self.paths.toggle()
        self._tell()

    def _tell(self) -> None:
        self.model.drawing = self.paths.desk.file if self.paths.open else None

    def act_path_choose(self) -> None:
        self.paths.choose()

    def act_path_next(self) -> None:
        self.paths.walk(1)

    def act_path_previous(self) -> None:
        self.paths.walk(-1)

    def act_path_add(self) -> None:
        self.paths.add()

    def act_path_remove(self) -> None:
        self.paths.remove()

    def act_path_type(self) -> None:
        self.paths.ask_where()

    def act_path_stop(self) -> None:
        self.paths.stop_there()

    def act_path_look(self) -> None:
        self.paths.look()

    def act_path_reverse(self) -> None:
        self.paths.reverse()

    def act_path_mirror(self) -> None:
        self.paths.mirror()

    def act_path_drive(self) -> None:
        self.paths.drive()

    def act_path_corrections(self) -> None:
        self.paths.switch(1)

    def act_path_planned(self) -> None:
        self.paths.switch(0)

    def act_path_move(self) -> None:
        self.model.say("the arrows move the chosen point by 5 cm, with shift by 1 cm; so does dragging it")

    def take_key(self, key: str) -> bool:
        return self.paths.open and self.paths.take_key(key)

    def update(self) -> None:
        if self.paths.open:
            self.paths.update()
            self._tell()

    def close(self) -> None:
        self.paths.close()


def _drawing(model: ScreenModel) -> bool:
    return model.drawing is not None


PATH_COMMANDS = (
    Command("path", "path", "Opens a path on the field, to be drawn, looked at and driven; again closes it.", ("P", "shift+p", "upper_p"),
            foot=4),
    Command("path_choose", "which path", "Lists the paths of this workspace, and begins a new one.", ("c",), foot=2, available=_drawing),
    Command("path_next", "next point", "Chooses the path's next point.", ("full_stop", "."), ". ,", foot=2, available=_drawing),
    Command("path_previous", "point before", "Chooses the path's point before.", ("comma", ","), ",", available=_drawing),
    Command("path_move", "move", "Moves the chosen point by 5 cm, with shift by 1 cm; so does dragging it. The other keys of a list "
            "are the path's too while it is open.", (), "←↑↓→", foot=2, available=_drawing),
    Command("path_add", "add", "Adds a point half way to the next; a click on the floor adds one there.", ("plus", "+"), "+", foot=2,
            available=_drawing),
    Command("path_remove", "remove", "Takes the chosen point away.", ("minus", "-"), "-", foot=2, available=_drawing),
    Command("path_type", "type it", "Asks for the chosen point's place and direction, such as 1.20 m, 0.75 m, 90 deg.", ("y",), foot=2,
            available=_drawing),
    Command("path_stop", "stop there", "Lets the robot come to rest at the chosen point, or no more.", ("T", "shift+t", "upper_t"),
            available=_drawing),
    Command("path_reverse", "the other way", "Runs the path the other way.", ("v",), available=_drawing),
    Command("path_look", "look", "Asks which way the robot looks along the path.", ("G", "shift+g", "upper_g"), available=_drawing),
    Command("path_mirror", "mirror", "Mirrors the path, for the other side of the floor.", ("V", "shift+v", "upper_v"), foot=2,
            available=_drawing),
    Command("path_corrections", "corrections off", "Tries it without the corrections, or with them again; the run before stays as a ghost.",
            ("C", "shift+c", "upper_c"), foot=2, available=_drawing),
    Command("path_planned", "planned off", "Tries it without the planned motion, by corrections alone, or with it again.",
            ("O", "shift+o", "upper_o"), available=_drawing),
    Command("path_drive", "drive it", "Lets the robot drive the path, alone, by the clock.", ("D", "shift+d", "upper_d"), foot=2,
            available=_drawing),
)  # fmt: skip
