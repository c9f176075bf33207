"""Commands as data: keys, foot, help and palette are all made from these rows."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pivrex.tui.desk import Desk

__all__ = ["COMMANDS", "Command", "command_for"]


def _always(_desk: Desk) -> bool:
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
        The view in which it acts; empty for everywhere.
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
    available: Callable[[Desk], bool] = _always


COMMANDS = (
    Command("stop", "stop", "Stops the robot from anywhere, at once.", ("escape",), "Esc", foot=1),
    Command("go_on", "go on", "Lets the stand-in drive again after a stop, once the sticks are let go.", ("g",), "g", foot=2,
            available=lambda d: bool(d.status.held)),
    Command("go_live", "go live", "Lets a robot on a link move. Needs sticks at rest; any key without a meaning then stops it.",
            ("ctrl+l",), "Ctrl+L", foot=12, available=lambda d: not d.status.live),
    Command("view_shaping", "shaping", "Opens Shaping: what happens to the stick before it means a motion.", ("2",), "2"),
    Command("view_field", "field", "Opens Field: the robot from above, wheels and sensors.", ("5",), "5"),
    Command("sources", "source", "Lists what may drive, and lets you choose.", ("o",), "o", foot=3),
    Command("next_wheel", "next wheel", "The why goes on to the next wheel.", ("n",), "n", foot=4),
    Command("ladder", "why, stage by stage", "Opens the why as a ladder, a row a stage; again closes it.", ("enter",), "Enter", foot=5),
    Command("previous_setting", "select", "Selects the setting above, or the rung above while the ladder is open.", ("up",), "↑↓", foot=6),
    Command("next_setting", "select down", "Selects the setting below, or the rung below while the ladder is open.", ("down",), "↓"),
    Command("nudge_down", "nudge", "Makes the selected setting a fine step less.", ("left",), "←→", "shaping", foot=7),
    Command("nudge_up", "nudge up", "Makes the selected setting a fine step more.", ("right",), "→", "shaping"),
    Command("nudge_down_coarse", "nudge down far", "Makes it five steps less.", ("shift+left",), "⇧←", "shaping"),
    Command("nudge_up_coarse", "nudge up far", "Makes it five steps more.", ("shift+right",), "⇧→", "shaping"),
    Command("type_value", "type", "Types a number with its unit for the selected setting.",
            ("equals_sign", "="), "=", "shaping", foot=8),
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
    Command("export", "export", "Saves the drawing of this view as SVG and PDF into the workspace's exports.", ("x",), "x", foot=15),
    Command("attach_pads", "stand-in gamepad", "Listens for stand-in gamepads, moved by pivrex remote --pad.", (), ""),
    Command("theme", "theme", "Changes between dusk, noon and plain.", ("t",), "t"),
    Command("help", "help", "Explains the open view, on that view.", ("question_mark", "?"), "?", foot=16),
    Command("palette", "palette", "Finds any command by its name.", ("ctrl+p",), "Ctrl+P"),
    Command("quit", "quit", "Stops the robot and leaves.", ("ctrl+q",), "Ctrl+Q", foot=17),
)  # fmt: skip


def command_for(key: str, view: str) -> Command | None:
    """Find the command of a key in a view."""
    for command in COMMANDS:
        if key in command.keys and command.view in ("", view):
            return command
    return None
