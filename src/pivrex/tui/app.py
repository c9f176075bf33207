"""The application: connects everything. The model holds what it shows; the views draw it."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterable, Mapping, Sequence
from functools import partial
from typing import Any, ClassVar

from textual import events
from textual.app import App, ComposeResult, SystemCommand
from textual.binding import Binding, BindingType
from textual.screen import Screen
from textual.widgets import ContentSwitcher

from pivrex.devices.key_window import has_display
from pivrex.devices.keys import DRIVE_KEYS
from pivrex.devices.terminal import Pictures
from pivrex.rig.channels import CHANNELS
from pivrex.session.messages import KeyDown, SetKeysMode, Stop
from pivrex.session.places import log_file
from pivrex.tui import chrome
from pivrex.tui.app_actions import AppActions
from pivrex.tui.app_replay import ReplayActs
from pivrex.tui.canvas import Canvas
from pivrex.tui.commands import Commands
from pivrex.tui.draw.bar import draw_foot
from pivrex.tui.draw.cells import draws_dots
from pivrex.tui.first_hour import FirstHour, FirstHourActs
from pivrex.tui.jobs.paper import paper_job
from pivrex.tui.keys import key_name
from pivrex.tui.keys_in_order import KeysInOrder
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choices
from pivrex.tui.overlays.closing import moves
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.overlays.palette import Palette, more_entries
from pivrex.tui.panels.panel import View
from pivrex.tui.panels.pin_strip import PinStrip
from pivrex.tui.panels.why_ladder import WhyLadder
from pivrex.tui.releases import ask_terminal, install
from pivrex.tui.remembering import Remembering
from pivrex.tui.replaying import NOT_NOW
from pivrex.tui.stills import NO_PICTURES, Stills, write_only_changes
from pivrex.tui.themes import THEMES
from pivrex.tui.views.view_row import ViewRow
from pivrex.tui.views.view_table import VIEWS
from pivrex.tui.window_keys import WindowKeys

__all__ = ["PivrexApp"]

FRAMES_PER_S, STILL_FRAMES = 25.0, 5  # while nothing moves, one of so many is drawn
PAUSE = 3.0  # after a drawing, of the time that it took: a slow computer draws less often, and has time for the rest
LOOK_OUTSIDE_S, REMEMBER_S = 0.5, 3.0
SMALLEST = (60, 16)
log = logging.getLogger(__name__)


class PivrexApp(KeysInOrder, WindowKeys, Remembering, ReplayActs, FirstHourActs, AppActions, App[int]):
    """One workspace on the screen.

    Parameters
    ----------
    model : ScreenModel
    view : str
        The view that is open at first.
    newcomer : bool
        Whether the first hour is offered.
    theme : str
    views : sequence of ViewRow
    keys : mapping
        Keys that the person gave to commands; see `pivrex.tui.keys`.
    pictures : Pictures
        What the terminal can show in pixels.
    """

    CSS = """
    Screen { layout: vertical; background: $background; }
    ValueEntry, Choices, Sheet, Bench { background: transparent; }
    SearchIcon { display: none; }
    #head { height: 1; }
    #line { height: 3; }
    ContentSwitcher { height: 1fr; }
    #ladder { height: 15; display: none; }
    #why, #foot { height: 1; }
    #replay { height: 3; display: none; }
    #pins, #task { height: 1; display: none; }
    #small { display: none; }
    .small Canvas, .small ContentSwitcher { display: none; }
    .small #small { display: block; height: 1fr; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "stop_first", priority=True, show=False, id="stop"),
        Binding("ctrl+c", "stop_first('Ctrl+C')", priority=True, show=False, id="stop-too"),
    ]

    def __init__(
        self,
        model: ScreenModel,
        view: str = "field",
        newcomer: bool = False,
        theme: str = "dusk",
        views: Sequence[ViewRow] = VIEWS,
        keys: Mapping[str, tuple[str, ...]] | None = None,
        pictures: Pictures = NO_PICTURES,
    ) -> None:
        install()
        if pictures.kind == "sixel":
            write_only_changes()
        super().__init__()
        for one in THEMES:
            self.register_theme(one)
        self.look_is(theme)
        self.model = model
        self.rows = {row.name: row for row in views}
        self.views: dict[str, View] = {row.name: row.view(model, row.name) for row in views}
        self.commands = Commands(views, keys)
        model.keys_of_buttons = {c: k[0] for c, k in (keys or {}).items() if c in CHANNELS and k}
        model.keys_of_commands = {key for c in self.commands.all for key in c.keys}
        self._early = []
        self._parts = {
            name: Canvas(id=name)
            for name in ("head", "line", "task", "pins", "replay", "ladder", "why", "foot", "small")
        }
        self._open, self._started = view, False
        self.newcomer, self.hour = newcomer, FirstHour(model)
        self.why = WhyLadder(model)
        self.pins = PinStrip(model)
        self._gone, self._undrawn, self._due = "", 0, 0.0
        self.paper = paper_job()
        self._stills = Stills(self, pictures)

    def compose(self) -> ComposeResult:
        yield self._parts["head"]
        yield self._parts["line"]
        with ContentSwitcher(initial=self._open):
            yield from (view.canvas for view in self.views.values())
        for name in ("task", "pins", "replay", "ladder", "why", "foot", "small"):
            yield self._parts[name]

    def on_mount(self) -> None:
        driver = self._driver
        if driver is not None and not self.is_headless:
            ask_terminal(driver)
            if not has_display():  # a key that keeps driving after it came up is the worse fault
                self.model.ask(SetKeysMode("timed"))
        self.view.opened()
        if draws_dots():
            self.model.say("the library that draws cannot be loaded: drawings are dots")
        self.set_interval(1 / FRAMES_PER_S, lambda: self.frame(paced=True))
        self.set_interval(LOOK_OUTSIDE_S, self.model.look_outside)
        self.set_interval(REMEMBER_S, self.remember)

    def on_unmount(self) -> None:
        self._stills.clear()
        self.remember()
        for view in self.views.values():
            view.close()
        self.paper.close()
        if self.window is not None:
            self.window.close()

    @property
    def view(self) -> View:
        """The open view."""
        return self.views[self._open]

    def frame(self, paced: bool = False) -> None:
        """Take what is new and draw it; if ``paced``, less often while nothing moves, and on a slow computer."""
        self.advance()
        self._undrawn += 1
        began = time.monotonic()
        moves = not self.model.trace.is_still(self.model.line) and began >= self._due
        if not paced or moves or self._undrawn >= STILL_FRAMES or not self._started:
            self.draw()
            self._due = time.monotonic() + PAUSE * (time.monotonic() - began)

    def advance(self) -> None:
        """Take what is new; also the heartbeat that keeps the session from stopping."""
        model = self.model
        model.client.beat()
        model.pull()
        model.fade(self._gone or model.stands)
        if not model.client.alive and not self._gone:
            is_real = model.status.linked != "off"
            rests = "the robot's own watchdog rests it" if is_real else "the simulated robot went with it"
            self._gone = f"the session no longer answers; {rests}. Ctrl+Q leaves"
            model.say(self._gone, alarm=True)
        self.follow_match()
        self.view.update()
        self.follow_hour()
        self.tend_window()
        self.take_exports()

    def draw(self) -> None:
        """Draw everything visible; changes nothing but the screen."""
        width, height = self.size
        self._undrawn = 0
        if not self.screen_stack:
            return  # a last frame while the program leaves
        small = width < SMALLEST[0] or height < SMALLEST[1]
        if small != self.screen_stack[0].has_class("small"):
            self.screen_stack[0].set_class(small, "small")
        model, parts = self.model, self._parts
        self._started |= model.row is not None or not model.client.alive
        if small:
            parts["small"].show(chrome.small_screen(model, width, height))
            return
        parts["head"].show(chrome.head(model, width, self._reports_focus))
        self.show_replay()
        self._draw_pins(width, height)
        self.show_hour(width, height)
        parts["line"].show(chrome.line(model, list(self.rows.values()), self._open, width))
        self._draw_view()
        if self.why.open:
            parts["ladder"].show(self.why.draw(width, parts["ladder"].size.height))
        parts["why"].show(self.why.draw_sentence(width))
        parts["foot"].show(draw_foot(self.commands.foot(self._open, model), model.message, model.message_alarm, width))

    def _draw_pins(self, width: int, height: int) -> None:
        part, high = self._parts["pins"], self.pins.height(height)
        part.display = high > 0
        if high:
            part.styles.height = high
            part.show(self.pins.draw(width, high))

    def _draw_view(self) -> None:
        view = self.view
        if not all(view.size):  # one that has just been opened has no place yet
            return
        picture = view.draw(*view.size) if self._started else chrome.starting(*view.size)
        view.canvas.show(picture)
        self._stills.look(view.canvas, self.theme, len(self.screen_stack) == 1, time.monotonic())

    # --- keys and mouse ---

    def views_have_keys(self) -> bool:
        # an overlay, or the text that you type in, has its own keys
        return len(self.screen_stack) == 1 and not self.view.typing

    def closes_by(self, key: str) -> bool:
        return key == "enter" and isinstance(self.screen, ValueEntry)

    def push_screen(self, screen: Any, *rest: Any, **more: Any) -> Any:
        """Lay a screen over; keys that come before it can take them wait."""
        if isinstance(screen, ValueEntry | Palette | Choices):
            self.hold_keys(screen)
        return super().push_screen(screen, *rest, **more)

    def obey(self, event: events.Key) -> None:
        """Hand a key to its command. While live, a key that means nothing here stops the robot."""
        key, self.newcomer = event.key, self.newcomer and not self._started
        if not self._started and key != "ctrl+q":
            return  # it was typed before there was anything to see
        if any(key in c.keys for c in self.commands.before):
            self.act(self.commands.of_key(key, self._open).name)  # type: ignore[union-attr]
            return
        if key in DRIVE_KEYS:
            self.model.ask(KeyDown(key))
            return
        if self.model.replay is not None and self.commands.of_key(key, self._open) is None:
            self.model.say(NOT_NOW)
            return
        if not self.why.open and self.view.take_key(key):
            self.draw()
            return
        if key in self.button_keys:
            self.model.ask(KeyDown(self.button_keys[key]))
            return
        command = self.commands.of_key(key, self._open)
        if command is None:
            self.means_nothing(key)
        elif not command.available(self.model):
            self.means_nothing(key)
            if not self.model.status.live:
                self.model.say(f"{command.title}: {command.needs}")
        else:
            self.act(command.name)

    def means_nothing(self, key: str) -> None:
        """Take a key that does nothing here: while live it stops the robot, for a hand in panic is right."""
        if self.model.status.live:
            self.model.ask(Stop(f"the key {key}, which means nothing here, was pressed"))

    def act(self, name: str) -> None:
        """Do a command: open a view, the open view's own, or the app's."""
        if name.removeprefix("view_") in self.rows:
            self.show_view(name.removeprefix("view_"))
        else:
            walks_rungs = self.why.open and name in ("previous_setting", "next_setting")
            action = None if walks_rungs else self.view.act(name)
            request = self.commands.named(name, self._open).asks
            if request is not None:
                self.model.ask(request)
            elif name.startswith("replay_"):
                self.act_replay(name)
            else:
                (action or getattr(self, f"act_{name}"))()
        self.draw()

    def on_canvas_pointed(self, message: Canvas.Pointed) -> None:
        """Hand the mouse to what it points at: a command, a rung, or the open view."""
        message.stop()
        canvas, self.newcomer = message.canvas, False
        spot = canvas.picture.spot_at(message.x, message.y) if message.phase == "press" else None
        if spot is not None and spot.what == "command":
            # the picture may be a frame older than the open view
            command = next((c for c in self.commands.acting(self._open) if c.name == spot.value), None)
            if command is not None and command.available(self.model):
                self.act(command.name)
            return
        if spot is not None and spot.what == "replay":
            self.jump_to(int(spot.value))
        elif spot is not None and spot.what == "rung":
            if self.why.choose(int(spot.value)):
                self.act_ladder()
        elif canvas is self.view.canvas and not (spot is not None and self.view.press(spot.what, spot.value)):
            self.view.point(message.x, message.y, message.phase)
        self.draw()

    def action_stop_first(self, key: str = "Esc") -> None:
        """Esc: stop first, then close the overlays; if nothing moves, only close the top one."""
        if key == "Esc" and len(self.screen_stack) > 1 and not moves(self.model):
            self.pop_screen()
            return
        self.model.ask(Stop(key))
        self.view.cancel()
        while len(self.screen_stack) > 1:
            self.pop_screen()

    def show_view(self, name: str) -> None:
        """Open a view."""
        if name != self._open:
            self.view.closed()
            self._open = name
            self.view.opened()
        self.screen_stack[0].query_one(ContentSwitcher).current = name

    def act_ladder(self) -> None:
        """Open the why; opened, Enter goes to the setting of the chosen rung."""
        setting = self.why.toggle()
        if setting:
            self._go_to(setting)
        self._parts["ladder"].display = self.why.open

    def _go_to(self, key: str) -> None:
        for name, view in self.views.items():
            if view.has(key):
                self.show_view(name)
                view.select(key)
                return
        name = key_name(next(iter(self.commands.named("edit_file").keys), ""))
        self.model.say(
            f"{key} stands in {self.model.file.path.name}, line {self.model.line_of(key)}; {name} opens it there"
        )

    def act_previous_setting(self) -> None:
        self.why.walk(-1)

    def act_next_setting(self) -> None:
        self.why.walk(1)

    def act_palette(self) -> None:
        if not isinstance(self.screen, Palette):
            self.push_screen(Palette())  # without an id: one that is closing may still be there

    action_command_palette = act_palette
    """Textual's own key for the palette leads there too."""

    def act_quit(self) -> None:
        self.exit(0)

    def _handle_exception(self, error: Exception) -> None:
        """A fault of the program: a sentence for the person, the traceback for the log."""
        if self.is_headless:
            super()._handle_exception(error)
            return
        log.critical("the screen had to close", exc_info=error)
        said = f"Pivrex had to close ({type(error).__name__}: {error}). The robot is commanded to rest."
        self.exit(1, return_code=1, message=f"{said} {log_file()} has more.")

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Return the palette's entries: the same rows as the keys."""
        for command, view in self.commands.everywhere(self._open):
            if command.name != "palette":
                where = (f"  ({command.key})" if command.key else "") + (f", in {view.capitalize()}" if view else "")
                does = partial(self.act_in, view, command.name)
                yield SystemCommand(command.title + where, command.help, does)
        yield from more_entries(self.act_in, self.show_view, self.views, self._go_to)

    def act_in(self, view: str, name: str) -> None:
        """Do a command of a view, which opens for it; an empty one stands for the open view."""
        if view:
            self.show_view(view)
        command = self.commands.named(name, self._open)
        if command.available(self.model):
            self.act(name)
        else:
            self.model.say(f"{command.title}: {command.needs}")
