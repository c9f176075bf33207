"""The application: theme, screen and wiring. What it shows comes from the model, what it draws from the views."""

from __future__ import annotations

import asyncio
import logging
import sys
from collections.abc import Iterable
from typing import ClassVar

from textual import events
from textual.app import App, ComposeResult, SystemCommand
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.widgets import ContentSwitcher

from pivrex.devices.keys import DRIVE_KEYS, KeysMode
from pivrex.errors import SaveError
from pivrex.line.why import Rung, ladder, sentence
from pivrex.session.messages import (
    AttachPads,
    ChooseSource,
    GoLive,
    GoOn,
    KeyDown,
    KeyUp,
    LetGo,
    MoveStandIn,
    PutBack,
    Record,
    SetKeysMode,
    StepLevel,
    Stop,
    UseRobot,
)
from pivrex.session.places import log_file
from pivrex.tui import chrome
from pivrex.tui.canvas import Canvas
from pivrex.tui.commands import COMMANDS, command_for
from pivrex.tui.draw.bar import draw_foot, draw_ladder, draw_why
from pivrex.tui.draw.picture import Picture
from pivrex.tui.entry import ValueEntry
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlay import draw_help, draw_rigs, draw_sources, draw_tour
from pivrex.tui.palette import Palette
from pivrex.tui.releases import ASK, KeyReleased, install
from pivrex.tui.themes import THEMES, next_theme
from pivrex.tui.views.chassis import ChassisView
from pivrex.tui.views.driver import DriverView
from pivrex.tui.views.field import FieldView
from pivrex.tui.views.settings import SettingsView
from pivrex.tui.views.shaping import ShapingView
from pivrex.tui.views.view import View

__all__ = ["PivrexApp"]

FRAMES_PER_S = 25.0
LOOK_OUTSIDE_S = 0.5
SMALLEST = (60, 16)

log = logging.getLogger(__name__)


class PivrexApp(App[int]):
    """One workspace on the screen."""

    CSS = """
    Screen { layout: vertical; background: $background; }
    ValueEntry { background: transparent; }
    SearchIcon { display: none; }
    #head { height: 1; }
    #line { height: 3; }
    ContentSwitcher { height: 1fr; }
    #ladder { height: 15; display: none; }
    #why, #foot { height: 1; }
    #small { display: none; }
    .small #head, .small #line, .small ContentSwitcher, .small #why, .small #foot, .small #ladder { display: none; }
    .small #small { display: block; height: 1fr; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "stop_first", priority=True, show=False, id="stop"),
        Binding("ctrl+c", "stop_first", priority=True, show=False, id="stop-too"),
    ]

    def __init__(self, model: ScreenModel, view: str = "field", tour: bool = False, theme: str = "dusk") -> None:
        install()
        super().__init__()
        for one in THEMES:
            self.register_theme(one)
        self.theme = theme
        self.model = model
        self.views: dict[str, View] = {
            v.name_: v for v in (DriverView(model), ShapingView(model), ChassisView(model), FieldView(model))
        }
        self._parts = {name: Canvas(id=name) for name in ("head", "line", "ladder", "why", "foot", "small")}
        self._open = view
        self._overlay = "tour" if tour and view == "field" else ""
        self._at = 0  # the chosen entry or first line of the overlay
        self._rung = 0
        self._rungs: list[Rung] = []
        self._ladder_open = False
        self._reports_releases = self._reports_focus = False
        self._gone = False

    def compose(self) -> ComposeResult:
        yield self._parts["head"]
        yield self._parts["line"]
        with ContentSwitcher(initial=self._open):
            yield from self.views.values()
        for name in ("ladder", "why", "foot", "small"):
            yield self._parts[name]

    def on_mount(self) -> None:
        driver = self._driver
        if driver is not None and not self.is_headless:
            driver.write(ASK)
            driver.flush()
        self.set_interval(1 / FRAMES_PER_S, self.frame)
        self.set_interval(LOOK_OUTSIDE_S, self.model.look_outside)

    @property
    def view(self) -> View:
        """The open view."""
        return self.views[self._open]

    # --- frames ---

    def frame(self) -> None:
        """Take what is new and draw it; also the heartbeat that keeps the session from stopping."""
        model = self.model
        model.client.beat()
        model.pull()
        model.fade()
        if not model.client.alive and not self._gone:
            self._gone = True
            model.say(
                "the session's process is gone; the robot was told to rest. Ctrl+Q leaves, the log has more", True
            )
        self.draw()

    def draw(self) -> None:
        """Draw everything that is to be seen."""
        width, height = self.size
        small = width < SMALLEST[0] or height < SMALLEST[1]
        if small != self.screen_stack[0].has_class("small"):
            self.screen_stack[0].set_class(small, "small")
        model = self.model
        if small:
            self._parts["small"].show(chrome.small_screen(model, width, height))
            return
        self._parts["head"].show(chrome.head(model, width, self._focus_word()))
        self._parts["line"].show(chrome.line(model, self._open, width))
        view = self.view
        if view.size.width and view.size.height:  # one that has just been opened has no place yet
            picture = view.draw(view.size.width, view.size.height)
            self._lay_over(picture)
            view.show(picture)
        row = model.row
        if row is None:
            why = "why: no tick yet"
        else:
            why = sentence(model.line, row, model.wheel_name)
            if self._ladder_open:
                self._rungs = ladder(model.line, row, model.wheel_name)
                self._rung = min(self._rung, len(self._rungs) - 1)
                rows = self._parts["ladder"].size.height
                self._parts["ladder"].show(draw_ladder(self._rungs, self._rung, model.wheel_name, width, rows))
        self._parts["why"].show(draw_why(why, width))
        keys = sorted(
            (c for c in COMMANDS if c.foot and c.acts_in(self._open) and c.available(model)), key=lambda c: c.foot
        )
        self._parts["foot"].show(
            draw_foot([(c.shown, c.title) for c in keys], model.message, model.message_alarm, width)
        )

    def _lay_over(self, picture: Picture) -> None:
        if self._overlay == "help":
            picture.place(draw_help(self.view, picture.width, picture.height, self._at), 2, 0)
        elif self._overlay == "sources":
            self._at = min(self._at, len(self.model.status.sources) - 1)
            picture.place(draw_sources(self.model, self._at, picture.width), 2, 0)
        elif self._overlay == "rigs":
            self._at = min(self._at, len(self.model.folder.rigs()) - 1)
            picture.place(draw_rigs(self.model, self._at, picture.width), 2, 0)
        elif self._overlay == "tour":
            tour = draw_tour(picture.width)
            picture.place(tour, 2, max(0, picture.height - tour.height - 2))

    def _focus_word(self) -> str:
        return "" if self._reports_focus else "focus not reported"

    # --- keys and mouse ---

    def on_key(self, event: events.Key) -> None:
        """Hand a key to its command. While live, a key that means nothing here stops the robot."""
        if len(self.screen_stack) > 1:
            return
        event.stop()
        event.prevent_default()
        key = event.key
        if self._overlay == "tour":
            self._overlay = ""
        if self._overlay and self._overlay_key(key):
            return
        if key in DRIVE_KEYS:
            self.model.ask(KeyDown(key))
            return
        if not self._overlay and not self._ladder_open and self.view.take_key(key):
            self.draw()
            return
        command = command_for(key, self._open)
        if command is None or not command.available(self.model):
            if self.model.status.live:
                self.model.ask(Stop(f"the key {key}, which means nothing here, was pressed"))
            elif command is not None:
                self.model.say(f"{command.title}: not now")
            return
        self.act(command.name)

    def act(self, name: str) -> None:
        """Do a command: the open view's own, or the app's."""
        action = (
            getattr(self.view, f"act_{name}", None) if not self._ladder_open or not name.endswith("_setting") else None
        )
        (action or getattr(self, f"act_{name}"))()
        self.draw()

    def _overlay_key(self, key: str) -> bool:
        if key in ("up", "down"):
            self._at = max(0, self._at + (1 if key == "down" else -1))
        elif key == "enter" and self._overlay == "sources":
            sources = self.model.status.sources
            self.model.ask(ChooseSource(sources[min(self._at, len(sources) - 1)].name))
            self._overlay = ""
        elif key == "enter" and self._overlay == "rigs":
            rigs = self.model.folder.rigs()
            if self.model.open_rig(rigs[min(self._at, len(rigs) - 1)]):
                self._overlay = ""
        else:
            return False
        self.draw()
        return True

    def on_canvas_pointed(self, message: Canvas.Pointed) -> None:
        """Hand the mouse to the open view."""
        message.stop()
        if self._overlay == "tour":
            self._overlay = ""
        if message.canvas is self.view and not self._overlay:
            self.view.point(message.x, message.y, message.phase)
            self.draw()
        elif message.canvas.id == "line" and message.phase == "press":
            self.act(f"view_{chrome.cell_at(self.size.width, message.x)}")

    def on_key_released(self, message: KeyReleased) -> None:
        if message.key.lower() in DRIVE_KEYS:
            self.model.ask(KeyUp(message.key.lower()))

    def on_releases_reported(self) -> None:
        self._reports_releases = True
        self.model.ask(SetKeysMode("held"))

    def on_focus_reported(self) -> None:
        self._reports_focus = True

    def on_app_focus(self) -> None:
        self._reports_focus = True

    def on_app_blur(self) -> None:
        """The window lost the focus: keys that come up now are not seen."""
        self._reports_focus = True
        self.model.ask(Stop("the window lost the focus") if self.model.status.live else LetGo())

    # --- commands ---

    def action_stop_first(self) -> None:
        """Esc: stop before anything else, then close what lies over the view."""
        self.act_stop()
        self.view.cancel()
        self._overlay = ""
        while len(self.screen_stack) > 1:
            self.pop_screen()

    def act_stop(self) -> None:
        self.model.ask(Stop("Esc"))

    def act_go_on(self) -> None:
        self.model.ask(GoOn())

    def act_go_live(self) -> None:
        self.model.ask(GoLive())

    def _show(self, name: str) -> None:
        self._open = name
        self.screen_stack[0].query_one(ContentSwitcher).current = name

    def act_view_driver(self) -> None:
        self._show("driver")

    def act_view_shaping(self) -> None:
        self._show("shaping")

    def act_view_chassis(self) -> None:
        self._show("chassis")

    def act_view_field(self) -> None:
        self._show("field")

    def act_sources(self) -> None:
        names = [s.name for s in self.model.status.sources]
        self._at = names.index(self.model.status.source) if self.model.status.source in names else 0
        self._overlay = "" if self._overlay == "sources" else "sources"

    def act_rigs(self) -> None:
        paths = [path.resolve() for path in self.model.folder.rigs()]
        here = self.model.file.path.resolve()
        self._at = paths.index(here) if here in paths else 0
        self._overlay = "" if self._overlay == "rigs" else "rigs"

    def act_help(self) -> None:
        self._overlay, self._at = ("" if self._overlay == "help" else "help"), 0

    def act_next_wheel(self) -> None:
        self.model.wheel = (self.model.wheel + 1) % len(self.model.line.wheels)

    def act_ladder(self) -> None:
        """Open the why; opened, Enter goes to the setting of the chosen rung."""
        if self._ladder_open and self._rungs and self._rungs[self._rung].setting:
            self._go_to(self._rungs[self._rung].setting)
        self._ladder_open = not self._ladder_open
        self._parts["ladder"].display = self._ladder_open

    def _go_to(self, key: str) -> None:
        for view in self.views.values():
            if view.has(key):
                self._show(view.name_)
                view.select(key)
                return
        self.model.say(f"{key} stands in {self.model.file.path.name}")

    def act_previous_setting(self) -> None:
        self._rung = max(0, self._rung - 1)

    def act_next_setting(self) -> None:
        self._rung += 1

    def act_type_value(self) -> None:
        view = self.view
        if isinstance(view, SettingsView | DriverView):
            self.push_screen(ValueEntry(view))

    def act_add_binding(self) -> None:
        if isinstance(self.view, DriverView):
            self.view.begin_new()
            self.push_screen(ValueEntry(self.view))

    def act_undo(self) -> None:
        self.model.undo()

    def act_redo(self) -> None:
        self.model.redo()

    def act_put_back(self) -> None:
        self.model.ask(PutBack())

    def act_level_up(self) -> None:
        self.model.ask(StepLevel(1))

    def act_level_down(self) -> None:
        self.model.ask(StepLevel(-1))

    def act_let_go(self) -> None:
        self.model.ask(LetGo())

    def act_keys_mode(self) -> None:
        modes: list[KeysMode] = ["latched", "timed"]
        if self._reports_releases:
            modes.append("held")
        mode = modes[(modes.index(self.model.status.keys_mode) + 1) % len(modes)]
        self.model.ask(SetKeysMode(mode))
        self.model.say(f"keys: {mode}")

    def act_turn_over(self) -> None:
        self.model.ask(MoveStandIn("turn over"))

    def act_calibrate_steering(self) -> None:
        self.model.calibrate_steering()

    def act_record(self) -> None:
        self.model.ask(Record())

    def act_robot(self) -> None:
        self.model.ask(UseRobot(self.model.status.linked == "off"))

    def act_attach_pads(self) -> None:
        self.model.ask(AttachPads())

    def act_theme(self) -> None:
        self.theme = next_theme(self.theme)
        self.model.say(f"theme {self.theme}")

    def act_palette(self) -> None:
        if not isinstance(self.screen, Palette):
            self.push_screen(Palette())  # without an id: one that is closing may still be there

    def action_command_palette(self) -> None:
        """Textual's own key for the palette leads here too."""
        self.act_palette()

    def act_export(self) -> None:
        self.run_worker(self._export(), group="export", exclusive=True)

    def act_quit(self) -> None:
        self.exit(0)

    async def _export(self) -> None:
        """Draw in a process of its own, so that the screen and its heartbeat go on."""
        model = self.model
        rig = str(model.file.path)
        try:
            drawings = {
                "driver": lambda: [["patches", rig]],
                "field": lambda: [["path", rig, str(model.save_path())]],
                "shaping": lambda: [["curve", rig]],
                "chassis": lambda: [["chassis", rig], ["envelope", rig]],
            }[self._open]()
        except SaveError as problem:
            model.say(str(problem), alarm=True)
            return
        saved = []
        for words in drawings:
            files = [model.export_name(words[0], suffix) for suffix in (".svg", ".pdf")]
            model.say("drawing ...")
            wrong = await self._draw_on_paper([*words, *(word for file in files for word in ("-o", str(file)))])
            if wrong:
                model.say(wrong, alarm=True)
                return
            saved.append(files[0].name)
        model.say(f"saved exports/{' and '.join(saved)}, and .pdf")

    @staticmethod
    async def _draw_on_paper(words: list[str]) -> str:
        """Export; gives what went wrong, empty if nothing did."""
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            "pivrex",
            "export",
            *words,
            stdout=asyncio.subprocess.DEVNULL,
            stderr=asyncio.subprocess.PIPE,
        )
        _, said = await process.communicate()
        return (said.decode("utf-8", "replace").strip() or "the export failed") if process.returncode else ""

    def _handle_exception(self, error: Exception) -> None:
        """A fault of the program: a sentence for the person, the traceback for the log."""
        if self.is_headless:
            super()._handle_exception(error)
            return
        log.critical("the screen had to close", exc_info=error)
        said = f"Pivrex had to close ({type(error).__name__}: {error}). The robot was told to rest."
        self.exit(1, return_code=1, message=f"{said} {log_file()} has more.")

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Give the palette's entries: the same rows as the keys."""
        for command in COMMANDS:
            if command.name != "palette" and command.acts_in(self._open):
                key = f"  ({command.shown})" if command.shown else ""
                yield SystemCommand(command.title + key, command.help, lambda name=command.name: self.act(name))
