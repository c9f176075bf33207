"""Commands as data: keys, foot, help and palette are all made from these rows."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pivrex.tui.model import ScreenModel

__all__ = ["COMMANDS", "Command", "command_for"]


def _always(_model: ScreenModel) -> bool:
    return True


@dataclass(frozen=True)
class Command:
    """Something a person can do.

    Attributes
    ----------
    name : str
        The action's name: ``act_NAME`` of the app or of the open view.
    title : str
        A few words for foot and palette.
    help : str
        A sentence for ``?``.
    keys : tuple of str
        As Textual names them; the first is shown.
    shown : str
        How the key is written for people.
    view : str
        The views in which it acts, by name with spaces between; empty for everywhere.
    foot : int
        Its rank in the foot, 0 to leave it out.
    available : callable
    """

    name: str
    title: str
    help: str
    keys: tuple[str, ...]
    shown: str
    view: str = ""
    foot: int = 0
    available: Callable[[ScreenModel], bool] = _always

    def acts_in(self, view: str) -> bool:
        """Tell whether it acts in a view."""
        return not self.view or view in self.view.split()


COMMANDS = (
    Command("stop", "stop", "Stops the robot from anywhere, at once.", ("escape",), "Esc", foot=1),
    Command("go_on", "go on", "Lets the stand-in drive again after a stop, once the sticks are let go.", ("g",), "g", foot=2,
            available=lambda d: bool(d.status.held)),
    Command("go_live", "go live", "Lets a robot on a link move. Needs sticks at rest; any key without a meaning then stops it.",
            ("ctrl+l",), "Ctrl+L", foot=12, available=lambda d: not d.status.live),
    Command("view_driver", "driver", "Opens Driver: sources, each channel live, what is patched to what.", ("1",), "1"),
    Command("view_shaping", "shaping", "Opens Shaping: what happens to the stick before it means a motion.", ("2",), "2"),
    Command("view_chassis", "chassis", "Opens Chassis: the robot from above, each wheel's equation, how fast it can go.", ("3",), "3"),
    Command("view_field", "field", "Opens Field: the robot from above, wheels and sensors.", ("5",), "5"),
    Command("sources", "source", "Lists what may drive, and lets you choose.", ("o",), "o", foot=3),
    Command("next_wheel", "next wheel", "The why goes on to the next wheel.", ("n",), "n", foot=4),
    Command("ladder", "why, stage by stage", "Opens the why as a ladder, a row a stage; again closes it.", ("enter",), "Enter", foot=5),
    Command("previous_setting", "select", "Selects the setting above, or the rung above while the ladder is open.", ("up",), "↑↓", foot=6),
    Command("next_setting", "select down", "Selects the setting below, or the rung below while the ladder is open.", ("down",), "↓"),
    Command("nudge_down", "nudge", "Makes the selected setting a fine step less; in Driver selects the source before.",
            ("left",), "←→", "driver shaping chassis", foot=7),
    Command("nudge_up", "nudge up", "Makes the selected setting a fine step more; in Driver selects the next source.",
            ("right",), "→", "driver shaping chassis"),
    Command("patch", "patch", "Waits for the control that shall do the selected function, and writes it into the rig.",
            ("v",), "v", "driver", foot=4),
    Command("calibrate", "calibrate", "Calibrates the selected source by doing: let go, roll, press, push.", ("c",), "c", "driver", foot=4),
    Command("drive", "let it drive", "Lets the selected source drive.", ("y",), "y", "driver", foot=5),
    Command("nudge_down_coarse", "nudge down far", "Makes it five steps less.", ("shift+left",), "⇧←", "shaping chassis"),
    Command("nudge_up_coarse", "nudge up far", "Makes it five steps more.", ("shift+right",), "⇧→", "shaping chassis"),
    Command("type_value", "type", "Types a number with its unit for the selected setting.",
            ("equals_sign", "="), "=", "driver shaping chassis", foot=8),
    Command("add_binding", "add a binding", "Asks what shall be done, such as slow 40 %, and then for the control that does it.",
            ("plus", "+"), "+", "driver", foot=6),
    Command("remove_binding", "remove the binding", "Takes the selected binding away.", ("backspace", "delete"), "Backspace", "driver"),
    Command("follow", "your motion", "Changes between the robot's motion and one of your own, to see what it asks of the wheels.",
            ("v",), "v", "chassis", foot=8),
    Command("still", "no motion", "Brings your own motion to rest.", ("0",), "0", "chassis"),
    Command("shakedown", "shakedown", "Opens the guide that finds crossed wires, and closes it.", ("c",), "c", "chassis", foot=4),
    Command("add_wheel", "add a wheel", "Adds a wheel like the selected one, with a motor of its own.", ("plus", "+"), "+", "chassis"),
    Command("remove_wheel", "remove the wheel", "Takes the selected wheel away, with its motor.", ("backspace", "delete"), "Backspace",
            "chassis"),
    Command("rigs", "robot", "Lists the robots of this workspace, and opens another.", ("b",), "b", foot=3),
    Command("undo", "undo", "Takes the last change of the rig back.", ("u",), "u", foot=9, available=lambda d: d.file.can_undo),
    Command("redo", "redo", "Brings the last undone change back.", ("U", "shift+u", "upper_u"), "U", foot=10,
            available=lambda d: d.file.can_redo),
    Command("put_back", "back to start", "Puts the stand-in back at its start; the trail stays as a ghost.", ("r",), "r", foot=11),
    Command("level_down", "slower level", "Walks to the next slower speed level.", ("left_square_bracket",), "[",
            available=lambda d: len(d.rig.speed_levels.levels) > 1),
    Command("level_up", "level", "Walks to the next faster speed level.", ("right_square_bracket",), "[ ]", foot=13,
            available=lambda d: len(d.rig.speed_levels.levels) > 1),
    Command("let_go", "keys to rest", "Brings latched keys back to rest.", ("space",), "Space", foot=14,
            available=lambda d: d.status.source == "keys"),
    Command("keys_mode", "way of keys", "Changes how keys drive: latched, for a short time, or held where the terminal can.",
            ("m",), "m"),
    Command("record", "record", "Keeps what the driving source says as a recording that plays again; again ends it.",
            ("p",), "p", foot=12),
    Command("robot", "robot on the link", "Changes between the stand-in and the robot behind the link.", ("h",), "h", foot=13,
            available=lambda d: d.rig.link is not None or d.status.linked != "off"),
    Command("export", "export", "Saves the drawing of this view as SVG and PDF into the workspace's exports.", ("x",), "x", foot=15),
    Command("turn_over", "turn it over", "Turns the stand-in on its back, or back on its wheels, to test which side it thinks is up.",
            (), "", available=lambda d: d.rig.upside_down is not None),
    Command("calibrate_steering", "set the steering",
            "Asks you to point all steered wheels straight ahead; again reads their sensors and writes the offsets.",
            ("f",), "f", "chassis", available=lambda d: d.rig.steering is not None),
    Command("attach_pads", "stand-in gamepad", "Listens for stand-in gamepads, moved by pivrex remote --pad.", (), ""),
    Command("theme", "theme", "Changes between dusk, noon and plain.", ("t",), "t"),
    Command("help", "help", "Explains the open view, on that view.", ("question_mark", "?"), "?", foot=16),
    Command("palette", "palette", "Finds any command by its name.", ("ctrl+p",), "Ctrl+P"),
    Command("quit", "quit", "Stops the robot and leaves.", ("ctrl+q",), "Ctrl+Q", foot=17),
)  # fmt: skip


def command_for(key: str, view: str) -> Command | None:
    """Find the command of a key in a view."""
    for command in COMMANDS:
        if key in command.keys and command.acts_in(view):
            return command
    return None
