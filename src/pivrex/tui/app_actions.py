"""Commands that act in every view: ``act_NAME`` carries out the command NAME."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from textual.app import SuspendNotSupported
from textual.screen import Screen

from pivrex.devices.key_window import has_display
from pivrex.devices.keys import KeysMode
from pivrex.errors import PivrexError, SaveError, UnitError
from pivrex.files import resolved
from pivrex.lower import reason
from pivrex.routine.pins import MAX_PINS, named_pin, read_pin
from pivrex.session.messages import ChooseSource, Hold, Push, SetKeysMode, Stop, UseRobot
from pivrex.session.periods import Period
from pivrex.tui.commands import Commands
from pivrex.tui.jobs.job import Job
from pivrex.tui.jobs.paper import Drawing
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.overlays.entry import EntryRequest, ValueEntry
from pivrex.tui.overlays.help import help_sheet
from pivrex.tui.overlays.message_list import message_sheet
from pivrex.tui.own_editor import editor_words
from pivrex.tui.panels.match_clock import MatchClock
from pivrex.tui.panels.panel import View
from pivrex.tui.panels.why_ladder import WhyLadder
from pivrex.tui.themes import next_theme
from pivrex.tui.views.routine import RoutineView
from pivrex.tui.views.view_row import ViewRow
from pivrex.tuning import LOOPS

if TYPE_CHECKING:
    from textual.app import App

    _Base = App[int]
else:
    _Base = object

__all__ = ["AppActions"]

KEY_WINDOW = "window for keys"
"""In the list of sources: no source, but a keyboard for the source keys."""

NEW = "+"
"""Chosen instead of a robot: a new one."""

EDIT = "edit "
"""Before a robot that should be opened in the person's editor."""


class AppActions(_Base):
    """For the application: it has a model, its commands, its views as rows, and one of them open."""

    model: ScreenModel
    commands: Commands
    rows: dict[str, ViewRow]
    views: dict[str, View]
    _open: str
    why: WhyLadder
    paper: Job[tuple[Drawing, ...], str]
    _reports_releases: bool
    act_key_window: Callable[[], None]
    _steps = _bells = 0
    """What was taken of the match: routines that buttons chose, and bells."""

    @property
    def view(self) -> View:
        """The open view."""
        raise NotImplementedError

    @property
    def look(self) -> str:
        """The theme by the name that people know."""
        raise NotImplementedError

    def look_is(self, name: str) -> None:
        """Take a theme."""
        raise NotImplementedError

    def act(self, name: str) -> None:
        """Do a command."""
        raise NotImplementedError

    def act_sources(self) -> None:
        status = self.model.status
        window = [Choice(KEY_WINDOW, "a window for held keys", "opens, and sees keys come up")] if has_display() else []

        def choices() -> list[Choice]:
            now = self.model.status
            return [
                Choice(
                    s.name,
                    s.title,
                    _said(s.lacks, s.waits)
                    or ("drives" if s.name == now.source else "acts together with the driver" if s.can.joins else ""),
                    bool(s.lacks or s.waits),
                )
                for s in now.sources
                if s.name == now.source or not self.model.is_of_another(s)
            ] + window

        def pads() -> str:
            port = self.model.status.pad_port
            return "simulated gamepads: " + (
                f"pivrex remote --pad --port {port}" if port else "Ctrl+P, then simulated gamepad"
            )

        def take(name: str | None) -> None:
            if name == KEY_WINDOW:
                self.act_key_window()
            elif name is not None:
                self.model.ask(ChooseSource(name))

        self._lay_over(Choices("who drives?", choices, status.source, self._key_of("sources"), pads), take)

    def act_rigs(self) -> None:
        here = str(resolved(self.model.file.path))

        def choices() -> list[Choice]:
            paths = [resolved(path) for path in self.model.folder.rigs()]
            listed = [Choice(str(p), p.stem, "open" if str(p) == here else "") for p in paths]
            return [*listed, Choice(NEW, "a robot of your own ...", "wheels, law, outputs, sources from drawings")]

        def take(path: str | None) -> None:
            if path in (NEW, EDIT + NEW):
                self.act_new_robot()
            elif path is not None and path.startswith(EDIT):
                self.edit(Path(path.removeprefix(EDIT)))
            elif path is not None:
                # by its name in the folder; a file that has gone meanwhile gives a message
                there = {str(resolved(p)): p for p in self.model.folder.rigs()}
                self.model.open_rig(there.get(path, Path(path)))

        self._lay_over(
            Choices(
                "which robot?",
                choices,
                here,
                self._key_of("rigs"),
                lambda: "+ makes one, e edits its file",
                {"plus": NEW, "+": NEW, "e": EDIT + "{}"},
            ),
            take,
        )

    def act_help(self) -> None:
        commands = self.commands.acting(self._open)
        self._lay_over(help_sheet(self._open, self.view.help_lines(), commands, self._key_of("help")))

    def act_glossary(self) -> None:
        from pivrex.tui.overlays.glossary_sheet import glossary_sheet  # the first screen need not wait for it

        key = self.why.setting if self.why.open else self.view.chosen_key()
        self._lay_over(glossary_sheet(self.model, key, self._key_of("glossary")))

    def _key_of(self, name: str) -> str:
        """The key that a command has now."""
        return next((c.keys[0] for c in self.commands.all if c.name == name and c.keys), "")

    def _lay_over(self, screen: Screen[Any], take: Callable[[Any], None] | None = None) -> None:
        if len(self.screen_stack) == 1:
            self.push_screen(screen, take)

    def act_next_wheel(self) -> None:
        self.model.wheel = (self.model.wheel + 1) % len(self.model.line.wheels)

    def act_type_value(self) -> None:
        if self.view.typed is not None:
            self._lay_over(ValueEntry(self.view.typed))

    def act_undo(self) -> None:
        self.model.undo()

    def act_redo(self) -> None:
        self.model.redo()

    def act_changes(self) -> None:
        """List the changes of the rig, the routine or the path, newest first; choose one to go to."""
        document, go_to = self.view.changes()

        def choices() -> list[Choice]:
            steps = list(enumerate(document.steps, 1))[::-1]
            listed = [Choice(str(n), s.what, f"{s.at}{', undone' * (n > document.at)}") for n, s in steps]
            return [*listed, Choice("0", f"{document.path.name} as it was opened", "")]

        title = f"{document.path.name} as it was after which change?"
        self.view.choose(title, choices, str(document.at), self._key_of("changes"), lambda at: go_to(int(at)))

    def act_keys_mode(self) -> None:
        modes: list[KeysMode] = ["latched", "timed"]
        if self._reports_releases:
            modes.append("held")
        mode = modes[(modes.index(self.model.status.keys_mode) + 1) % len(modes)]
        self.model.ask(SetKeysMode(mode))
        self.model.say(f"keys: {mode}")

    def act_hold_heading(self) -> None:
        model = self.model
        if model.rig.correction is None:
            if model.edit("a correction by the gyro", lambda d: d.update({"correction": {"hold": "on"}})):
                model.say("the rig has a table [correction] now; the heading is held")
            return
        on = not model.status.holding
        model.ask(Hold(on))
        model.say("the heading is held while you do not turn" if on else "the heading is no longer held")

    def act_push_left(self) -> None:
        self._push(1.0)

    def act_push_right(self) -> None:
        self._push(-1.0)

    def _push(self, way: float) -> None:
        """Push the robot: sideways at its front, or forward and back one that balances."""
        loop = LOOPS["heading" if self.model.rig.balance is None else "lean"]
        impulse = way * loop.impulse(self.model.rig, loop.experiment(self.model.rig, "push"))
        self.model.ask(Push(*impulse.tolist()))

    def act_body(self) -> None:
        kind = "ideal" if self.model.rig.has_realistic_physics else "realistic"
        if self.model.rig.balance is not None:
            self.model.say("a robot that balances has a mass that falls: its physics stay realistic")
            return
        if self.model.rig.body is None:
            self.model.edit("realistic physics", lambda d: d.update({"body": {"kind": kind}}))
        else:
            self.model.choose("body.kind", kind)
        self.model.say(f"the physics of the simulated robot are {kind} now")

    def act_match(self) -> None:
        self.clock.ready()
        if self.model.status.match.period is Period.OFF:
            self.act("view_routine")  # show the chosen program before it starts

    def follow_match(self) -> None:
        """Ring the bell when the match says so, and choose the routine that a button requests."""
        match = self.model.status.match
        if self.model.replay is not None:
            return
        steps, rings = match.steps - self._steps, match.bells > self._bells
        self._steps, self._bells = match.steps, match.bells
        if rings:
            self.bell()
        if steps:
            self.clock.walk(steps)

    def act_leave_match(self) -> None:
        self.clock.leave()

    @property
    def clock(self) -> MatchClock:
        """The commands that start and end a match."""
        view = self.views["routine"]
        assert isinstance(view, RoutineView)
        return view.clock

    def act_robot(self) -> None:
        self.model.ask(UseRobot(self.model.status.linked == "off"))

    def act_messages(self) -> None:
        model = self.model
        self._lay_over(message_sheet(lambda: list(model.said), lambda: model.warnings, self._key_of("messages")))

    def act_pins(self) -> None:
        """List the pinned values, to change or remove them, or ask for the first."""
        pins = self.model.documents.pins(self.model.rig_name)
        if not pins:
            self._type_pin("")
            return

        def choices() -> list[Choice]:
            more = [Choice(NEW, "another ...", "a reading, a column or a sum")] if len(pins) < MAX_PINS else []
            return [*(Choice(name, name, text) for name, text in pins.items()), *more]

        def take(name: str | None) -> None:
            if name is not None:
                self._type_pin("" if name == NEW else name)

        self._lay_over(
            Choices("pinned", choices, "", self._key_of("pins"), lambda: "Enter changes or deletes it"), take
        )

    def _type_pin(self, name: str) -> None:
        pins, model = self.model.documents.pins(self.model.rig_name), self.model

        def take(typed: str) -> None:
            new, text = named_pin(typed)
            if text:
                read_pin(new, text, model.line)
            kept = {n: t for n, t in pins.items() if n not in (name, new)}
            after = {**kept, new: text} if text else kept
            if not after and not name:
                return
            try:
                model.documents.pin(model.rig_name, after, f"pinned {new}" if text else f"{name} is no longer pinned")
            except PivrexError as problem:
                raise UnitError(str(problem)) from None
            model.say(f"{new} is pinned" if text else f"{name} is no longer pinned")

        shown = "" if not name else pins[name] if name == pins[name] else f"{name} = {pins[name]}"
        allowed = "front, limits.left_lost, or gap = front - 30 cm" + ("; empty deletes it" if name else "")
        self._lay_over(ValueEntry(EntryRequest("pin", shown, allowed, take)))

    def act_copy(self) -> None:
        """Copy the open ladder, or what is selected with the why."""
        lines = self.view.copied() + self.why.text()
        if not lines:
            self.model.say("nothing to copy yet: select a value, or start the robot")
            return
        self.copy_to_clipboard("\n".join(lines))
        self.model.say(
            f"copied, where the terminal lets it: {lines[0]}"
            + (f", and {len(lines) - 1} more lines" * (len(lines) > 1))
        )

    def act_edit_file(self) -> None:
        """Open the rig in the person's editor, and come back; the robot rests meanwhile."""
        self.edit(self.model.file.path)

    def edit(self, path: Path) -> None:
        """Open a rig of the workspace in the person's editor: the open one at the line of what is selected."""
        model = self.model
        key = self.view.chosen_key() if resolved(path) == resolved(model.file.path) else ""
        words = editor_words(path, model.line_of(key) if key else 1)
        if not words:
            model.say("no editor was found: set EDITOR to yours", alarm=True)
            return
        model.ask(Stop(f"{path.name} is being edited"))
        try:
            with self.suspend():
                code = subprocess.run(words, check=False).returncode
        except SuspendNotSupported:
            model.say(f"this terminal cannot be lent to an editor; the rig is {path}", alarm=True)
            return
        except OSError as problem:
            model.say(f"{words[0]}: {reason(problem)}", alarm=True)
            return
        model.look_outside()
        if code:
            model.say(f"{words[0]} ended with {code}", alarm=True)
        elif not model.message_alarm:
            model.say(f"back from {words[0]}; let go of all, then g drives on")

    def act_new_robot(self) -> None:
        from pivrex.tui.maker.maker_overlay import Maker  # the first screen need not wait for it

        self._lay_over(Maker(self.model.folder.path), self._made)

    def _made(self, path: Path | None) -> None:
        if path is not None and self.model.open_rig(path):
            self.model.say(f"{path.name} is made and open; 1 calibrates and binds, 3 shows its wheels")

    def act_sums(self) -> None:
        from pivrex.tui.overlays.bench import Bench  # the first screen need not wait for it

        self._lay_over(Bench(self.model, self._key_of("sums")))

    def act_board(self) -> None:
        from pivrex.tui.overlays.board_sheet import BoardWriting, board_sheet  # nor for this

        writing = BoardWriting(self.model)
        self._lay_over(board_sheet(writing, self._key_of("board")), writing.close)

    def act_theme(self) -> None:
        self.look_is(next_theme(self.look))
        self.model.say(f"theme {self.look}")

    def act_export(self) -> None:
        model, view = self.model, self.rows[self._open]
        try:
            drawings = view.exports(model)
        except SaveError as problem:
            model.say(str(problem), alarm=True)
            return
        if not drawings:
            model.say(f"there is nothing of {view.name} to export")
            return
        model.say("drawing ...")
        files = [[str(model.export_name(words[0], suffix)) for suffix in (".svg", ".pdf")] for words in drawings]
        self.paper.ask(tuple((*words, "-o", svg, "-o", pdf) for words, (svg, pdf) in zip(drawings, files, strict=True)))

    def take_exports(self) -> None:
        """Report what was drawn on paper."""
        for _, saved in self.paper.poll():
            self.model.say(saved)
        if self.paper.problem:
            self.model.say(self.paper.problem, alarm=True)
            self.paper.forget()


def _said(lacks: tuple[str, ...], waits: str) -> str:
    return f"no {', '.join(lacks)}" if lacks else waits
