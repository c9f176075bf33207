"""Commands as data: keys, foot, help and palette are made from these rows and from those of the views."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from pivrex.session import messages as ask
from pivrex.session.messages import Request
from pivrex.session.periods import Period
from pivrex.tui.keys import key_name
from pivrex.tui.model import ScreenModel

__all__ = ["COMMON", "PUSHES", "Command", "Commands", "Owner"]


def _always(_model: ScreenModel) -> bool:
    return True


@dataclass(frozen=True)
class Command:
    """Something a person can do.

    Attributes
    ----------
    name : str
        Its id: ``act_NAME`` of the app or of the open view does it, and the settings file gives it other keys by it.
    title : str
        A few words for foot and palette.
    help : str
        A sentence for ``?``.
    keys : tuple of str
        As Textual names them; the first is shown.
    shown : str
        How the key is written for people, where it is not simply the first.
    view : str
        The view in which it acts; empty for everywhere.
    foot : int
        Its rank in the foot, 0 to leave it out.
    available : callable
    needs : str
        A clause that says why it is not available.
    asks : Request or None
        What it asks of the session, if that is all that it does: it needs no ``act_NAME`` then.
    """

    name: str
    title: str
    help: str
    keys: tuple[str, ...]
    shown: str = ""
    view: str = ""
    foot: int = 0
    available: Callable[[ScreenModel], bool] = _always
    needs: str = "not now"
    asks: Request | None = None

    @property
    def key(self) -> str:
        """Its key for people; empty if it has none."""
        return self.shown or (key_name(self.keys[0]) if self.keys else "")


class Owner(Protocol):
    """The part of a view's row that the commands need."""

    @property
    def name(self) -> str: ...

    @property
    def digit(self) -> str: ...

    @property
    def help(self) -> str: ...

    @property
    def commands(self) -> tuple[Command, ...]: ...

    @property
    def needs_chassis(self) -> bool: ...


COMMON = (
    Command("stop", "stop", "Stops the robot from anywhere, at once.", ("escape",), foot=1, asks=ask.Stop("Esc")),
    Command("go_on", "go on", "Lets the simulated robot drive again after a stop, once the sticks are let go.", ("g",), foot=2,
            available=lambda m: bool(m.status.held), needs="the robot is not stopped", asks=ask.GoOn()),
    Command("go_live", "go live", "Lets the robot on the link move. Let go of the sticks first; any key that does nothing stops it.",
            ("ctrl+l",), foot=12, available=lambda m: not m.status.live, needs="it is live already", asks=ask.GoLive()),
    Command("sources", "source", "Lists the sources that can drive; choose one.", ("o",), foot=3),
    Command("next_wheel", "next wheel", "Shows the why of the next wheel.", ("n",), foot=4),
    Command("ladder", "why, stage by stage", "Opens the why as a ladder with a row for each stage; again closes it.", ("enter",), foot=5),
    Command("previous_setting", "select", "Selects the setting above, or the rung above while the ladder is open.",
            ("up",), "↑↓", foot=6),
    Command("next_setting", "select down", "Selects the setting below, or the rung below while the ladder is open.", ("down",)),
    Command("rigs", "robot", "Lists the robots of this workspace, and opens another.", ("b",), foot=3),
    Command("undo", "undo", "Undoes the last change of the rig.", ("u",), foot=9, available=lambda m: m.file.can_undo,
            needs="nothing is changed yet"),
    Command("redo", "redo", "Redoes the last change that you undid.", ("U", "shift+u", "upper_u"), foot=10,
            available=lambda m: m.file.can_redo, needs="you have undone nothing"),
    Command("changes", "list of changes", "Lists the changes of the rig, or of the open routine or path, and goes back to any of them.",
            ("ctrl+u",)),
    Command("put_back", "back to start", "Puts the simulated robot back at its start; the trail stays as a ghost.", ("r",), foot=11,
            asks=ask.PutBack()),
    Command("hold_heading", "hold heading", "Turns the heading hold on or off: the gyro holds it while you do not turn.",
            ("Y", "shift+y", "upper_y"), foot=7,
            available=lambda m: m.rig.gyro is not None, needs="this robot has no gyro"),
    Command("body", "body", "Changes the physics of the simulated robot: realistic, with mass, slip and faults, or ideal.",
            ("B", "shift+b", "upper_b")),
    Command("zero_gyro", "zero the gyro", "Measures the gyro's bias while the robot stands still, and subtracts it.",
            ("Z", "shift+z", "upper_z"), available=lambda m: m.rig.correction is not None,
            needs="this robot has no heading loop", asks=ask.ZeroGyro()),
    Command("level_down", "slower level", "Chooses the next slower speed level.", ("left_square_bracket",),
            available=lambda m: len(m.rig.speed_levels.levels) > 1, needs="this robot has one speed level", asks=ask.StepLevel(-1)),
    Command("level_up", "level", "Chooses the next faster speed level.", ("right_square_bracket",), "[ ]", foot=13,
            available=lambda m: len(m.rig.speed_levels.levels) > 1, needs="this robot has one speed level", asks=ask.StepLevel(1)),
    Command("let_go", "keys to rest", "Brings latched keys back to rest.", ("space",), foot=14,
            available=lambda m: m.status.source == "keys", needs="the keys do not drive", asks=ask.LetGo()),
    Command("keys_mode", "key mode", "Changes how keys drive: latched, for a short time, or while held, where the terminal can tell.", ("m",)),
    Command("key_window", "window for keys", "Opens a small window in which keys drive while you hold them; "
            "again closes it.", ()),
    Command("match", "match", "Gets ready for a match and shows what is chosen; nothing moves until you press it again.",
            ("M", "shift+m", "upper_m"), foot=8),
    Command("leave_match", "leave the match", "Ends the match: the robot may be driven.", ("L", "shift+l", "upper_l"), foot=3,
            available=lambda m: m.status.match.period is not Period.OFF, needs="there is no match"),
    Command("record", "record", "Records the source that drives, to be played again; again ends the recording.", ("p",), foot=12,
            asks=ask.Record()),
    Command("keep_run", "keep", "Keeps the last minutes as a run; during a run that is kept, marks this moment.",
            ("asterisk", "*"), "*", foot=12, asks=ask.KeepRun()),
    Command("robot", "robot on the link", "Changes between the simulated robot and the robot behind the link.", ("h",), foot=13,
            available=lambda m: m.rig.link is not None or m.status.linked != "off", needs="this rig has no link"),
    Command("export", "export", "Saves the drawing of this view as SVG and PDF into the workspace's exports.", ("x",), foot=15),
    Command("turn_over", "turn it over", "Turns the simulated robot on its back, or back on its wheels, to test its upside-down sensor.",
            (), available=lambda m: m.rig.upside_down is not None,
            needs="this robot has no upside-down sensor", asks=ask.MoveSimulated("turn over")),
    Command("set_up", "set it up", "Sets a robot that balances upright; a hand holds it until it stands by itself.", ("I", "shift+i", "upper_i"),
            foot=3, available=lambda m: m.rig.balance is not None and not m.status.upright,
            needs="it is upright, or cannot balance", asks=ask.MoveSimulated("set up")),
    Command("lay_down", "lay it down", "Lays the simulated robot that balances on its frame.", (),
            available=lambda m: m.rig.balance is not None, needs="this robot does not balance", asks=ask.MoveSimulated("lay down")),
    Command("attach_pads", "simulated gamepad", "Listens for simulated gamepads, moved by pivrex remote --pad.", (), asks=ask.AttachPads()),
    Command("messages", "messages", "Lists all messages with their times, and the warnings of the open rig.",
            ("exclamation_mark", "!"), foot=16),
    Command("edit_file", "edit the rig's file", "Opens the rig in your own editor (VISUAL or EDITOR), at the line of what is selected; "
            "the robot rests meanwhile.", ("E", "shift+e", "upper_e")),
    Command("pins", "pin a value", "Pins a reading, a column of the Tick or a sum of them to a strip below every view, or unpins it.",
            ("ampersand", "&"), "&"),
    Command("copy", "copy", "Copies what is selected, and the why, for another program.", ("X", "shift+x", "upper_x")),
    Command("sums", "bench sums", "Opens the bench sums: divider, echo, counts, gear, PWM, battery, turn, filled from the rig.",
            ("number_sign", "#"), "#", foot=17),
    Command("board", "board", "Writes the program of the robot's own board from the rig, and shows its size, its pins and how to load it.",
            ("at", "@"), "@"),
    Command("new_robot", "a robot of your own", "Makes a robot: wheels, law, outputs and sources chosen from drawings.", ()),
    Command("theme", "theme", "Changes between dusk, noon and plain.", ("t",)),
    Command("first_hour", "first hour", "Lists nine short tasks to learn with; begins one, shows its hint or its answer, or leaves it.",
            ("ctrl+t",), foot=17),
    Command("help", "help", "Explains the open view and its keys.", ("question_mark", "?"), foot=16),
    Command("glossary", "what is this?", "Explains the selected setting with this robot's numbers, and lists all terms.",
            ("Q", "shift+q", "upper_q"), foot=15),
    Command("palette", "palette", "Finds any command by its name.", ("ctrl+p",)),
    Command("quit", "quit", "Stops the robot and leaves.", ("ctrl+q",), foot=17),
)  # fmt: skip


PUSHES = (
    Command("push_left", "push", "Pushes the simulated robot's front to the left, as a collision does; one that balances forward.",
            ("f",),
            available=lambda m: m.rig.has_realistic_physics, needs="it needs realistic physics: B"),
    Command("push_right", "push to the right", "Pushes the simulated robot's front to the right; one that balances back.",
            ("F", "shift+f", "upper_f"),
            available=lambda m: m.rig.has_realistic_physics, needs="it needs realistic physics: B"),
)  # fmt: skip
"""In the views that show what comes of a push."""


SHOWS_THE_PAST = ("runs",)
"""The views whose own commands mean something while a run is open."""


class Commands:
    """All commands: those that act everywhere, those that open views, and those of the views.

    Parameters
    ----------
    views : sequence of Owner
    keys : mapping of str to tuple of str
        Keys that a person gave to commands, by name.
    """

    def __init__(self, views: Sequence[Owner], keys: Mapping[str, tuple[str, ...]] | None = None) -> None:
        self.needs_chassis = {v.name for v in views if v.needs_chassis}
        opening = [Command(f"view_{v.name}", v.name, v.help, (v.digit,)) for v in views]
        own = [replace(c, view=v.name) for v in views for c in v.commands]
        chosen = keys or {}
        self.all = tuple(
            replace(c, keys=chosen[c.name], shown="") if c.name in chosen else c
            for c in (*COMMON[:3], *opening, *COMMON[3:], *own)
        )
        self.before: tuple[Command, ...] = ()
        """Those that count now before all others of the same keys: what is open in the place of a robot has its own."""
        self.only: frozenset[str] = frozenset()
        """Where those count: the names of all others that mean something next to them."""

    def acting(self, view: str) -> list[Command]:
        """Return those that act in a view."""
        taken = {key for c in self.before for key in c.keys}
        others = [c for c in self.all if c.view in ("", view) and not taken & set(c.keys)]
        return [
            *self.before,
            *(c for c in others if not self.before or c.name in self.only or c.view == view in SHOWS_THE_PAST),
        ]

    def everywhere(self, view: str) -> list[tuple[Command, str]]:
        """Return all: first those that act in the open view, then those of the others, each with its view to be opened."""
        others = [(c, c.view) for c in self.all if c.view not in ("", view) and not self.before]
        return [(c, "") for c in self.acting(view)] + others

    def named(self, name: str, view: str = "") -> Command:
        """Return a command by its name, of a view if it has one there."""
        found = [c for c in (*self.before, *self.all) if c.name == name]
        return next((c for c in found if c.view in ("", view)), found[0])

    def of_key(self, key: str, view: str) -> Command | None:
        """Find the command of a key in a view: there is at most one."""
        return next((c for c in self.acting(view) if key in c.keys), None)

    def foot(self, view: str, model: ScreenModel) -> list[tuple[str, str, str]]:
        """Return name, key and title of those that matter now."""
        off = model.rig.is_bench and view in self.needs_chassis
        acting = (c for c in self.acting(view) if c.foot and c.available(model) and not (off and c.view == view))
        ranked = sorted(acting, key=lambda c: c.foot)
        return [(c.name, c.key, c.title) for c in ranked]
