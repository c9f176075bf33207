"""Panels and views: a panel is one idea, drawn in a rectangle; a view places panels on its canvas."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from textwrap import dedent
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol, cast

from pivrex.document import Document
from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.overlays.entry import EntryRequest, Typed, ValueEntry

if TYPE_CHECKING:
    from textual.geometry import Size
    from textual.message import Message
    from textual.screen import Screen

__all__ = ["Panel", "Place", "Rect", "Rule", "View"]


class Rect(NamedTuple):
    """Where something is drawn, in cells."""

    x: int
    y: int
    width: int
    height: int

    def holds(self, x: int, y: int) -> bool:
        """Return whether a cell lies in it."""
        return self.x <= x < self.x + self.width and self.y <= y < self.y + self.height


Changes = tuple[Document[Any], Callable[[int], None]]


class Panel:
    """A part of a view. Subclasses say what they can; all else does nothing. ``act_NAME`` does a command of its view."""

    def __init__(self, view: View) -> None:
        self.view, self.model = view, view.model

    def draw(self, width: int, height: int) -> Picture:
        """Draw the present state. Changes nothing of the model; marks in the picture say what can be clicked."""
        return Picture(width, height)

    def depends(self) -> tuple[object, ...] | None:
        """Return all that its picture depends on next to its size, where that is less work than to draw it: the last picture stays
        while each of these is the same thing, or an equal number or text. None draws it in every frame.
        """
        return None

    def opened(self) -> None:
        """Start the work that runs while the view is open."""

    def closed(self) -> None:
        """End the work that runs while the view is open: another one opens."""

    def update(self) -> None:
        """Take new data, once per frame while the view is open: only here, and by keys and mouse, may a panel send the session a request or
        change the rig.
        """

    def take_key(self, key: str) -> bool:
        """Take a key before the commands do, where something asks for one; returns whether it was taken."""
        return False

    def press(self, what: str, value: str) -> bool:
        """Take a click on something that was marked; returns whether that is all. If not, `point` follows."""
        return False

    def point(self, x: int, y: int, phase: str) -> None:
        """Take the mouse at a cell of the panel: "press" in it, and "drag" and "release" of what was pressed there."""

    def cancel(self) -> None:
        """Give up what is waited for: the robot was stopped."""

    def close(self) -> None:
        """Let go of what works in the background: it ends."""

    def changes(self) -> Changes | None:
        """Return the document that is changed here, if it is not the rig, and the function that goes to its state after a number of steps."""
        return None

    # --- settings of the rig ---

    def has(self, key: str) -> bool:
        """Return whether it shows a setting of the rig."""
        return False

    def select(self, key: str) -> None:
        """Select a setting that it has."""

    def setting_keys(self) -> list[str]:
        """Return the keys of the settings that it shows."""
        return []

    def chosen_key(self) -> str:
        """Return the key of the rig at which what is selected here stands; empty if nothing of the rig is."""
        return ""

    def copied(self) -> list[str]:
        """Return what is selected here as lines of text."""
        key = self.chosen_key()
        return [f"{key} = {self.model.file.get(key)}"] if key else []


class Rule(Panel):
    """A line between panels: as wide, or as high, as its rectangle."""

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        if width == 1:
            picture.down(0, 0, height)
        else:
            picture.across(0, 0, width)
        return picture


Place = tuple[Panel, Rect]


class Host(Protocol):
    """The part of the application that a view needs."""

    theme: str

    @property
    def screen_stack(self) -> Sequence[Screen[Any]]: ...

    def push_screen(self, screen: Screen[Any], take: Callable[[Any], None] | None = None) -> Any: ...

    def show_view(self, name: str) -> None: ...


NO_CHASSIS = (
    "{name} is a bench: motors and attachments without a robot. This view needs a robot: give the rig a table [chassis]. "
    "Driver (1), Shaping (2), Chassis (3) and Runs (7) show the bench."
)


class View:
    """Panels on a canvas. Subclasses make the panels, say where they stand, and may have ``act_NAME`` for commands too.
    ``HELP`` says what is to be seen: in each line a sign, two spaces and what it means; lines without a sign go on.

    Attributes
    ----------
    panels : sequence of Panel
        In the order in which they are asked for keys, clicks and settings.
    typing : bool
        Whether a person types in a text: then keys are the text's.
    """

    HELP = ""
    NEEDS_CHASSIS = False

    def __init__(self, model: ScreenModel, name: str) -> None:
        self.model, self.view_name = model, name
        self.panels: Sequence[Panel] = ()
        self.typing = False
        self.canvas = Canvas(id=name, inner=self.inner, heard=self.heard)
        self._stand: list[Place] = []
        self._kept: dict[Panel, tuple[tuple[object, ...], Picture]] = {}
        """The last picture of each panel that says what it depends on, and that."""
        self._held: Place | None = None

    def places(self, width: int, height: int) -> Iterable[Place]:
        """Return the visible panels with their places: each is drawn before the next is computed, which may depend on it."""
        raise NotImplementedError

    def inner(self) -> Iterable[Any]:
        """Return widgets of Textual's own that stand on the canvas."""
        return ()

    def heard(self, message: Message) -> None:
        """Take what these widgets say."""

    @classmethod
    def help_lines(cls) -> list[tuple[str, str]]:
        """Return the signs of the view, each with what it means."""
        rows: list[tuple[str, str]] = []
        for line in dedent(cls.HELP).strip("\n").splitlines():
            sign, _, text = line.partition("  ")
            if not sign:  # it goes on
                sign, said = rows.pop()
                text = f"{said} {text.strip()}"
            rows.append((sign, text.strip()))
        return rows

    # --- its place ---

    @property
    def app(self) -> Host:
        """The application that shows it."""
        return cast(Host, self.canvas.app)

    @property
    def size(self) -> Size:
        """How large it is, in cells."""
        return self.canvas.size

    def lay_over(self, screen: Screen[Any], take: Callable[[Any], None] | None = None) -> None:
        """Open an overlay, unless there is one; ``take`` gets its result."""
        if len(self.app.screen_stack) == 1:
            self.app.push_screen(screen, take)

    def ask(self, what: str, shown: str, allowed: str, take: Callable[[str], None]) -> None:
        """Ask for a value that is typed; see `EntryRequest`."""
        self.lay_over(ValueEntry(EntryRequest(what, shown, allowed, take)))

    def choose(
        self, title: str, choices: Callable[[], list[Choice]], chosen: str, key: str, take: Callable[[str], object],
        hint: Callable[[], str] = str, keys: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        """Let one of several be chosen from a list, which the ``key`` that led here closes again; see `Choices`."""

        def taken(value: str | None) -> None:
            if value is not None:
                take(value)

        self.lay_over(Choices(title, choices, chosen, key, hint, keys), taken)

    # --- what all panels do ---

    @property
    def is_off(self) -> bool:
        """Whether it has nothing to show: it needs a chassis, and the rig is a bench."""
        return self.NEEDS_CHASSIS and self.model.rig.is_bench

    @property
    def _at_work(self) -> Sequence[Panel]:
        return () if self.is_off else self.panels

    def draw(self, width: int, height: int) -> Picture:
        """Draw what there is now."""
        picture = Picture(width, height)
        self._stand = []
        if self.is_off:
            for row, text in enumerate(wrapped(NO_CHASSIS.format(name=self.model.rig.name), max(width - 4, 1)), 1):
                picture.text(2, row, text, "rest")
            return picture
        for panel, (x, y, w, h) in self.places(width, height):
            x, y = max(0, x), max(0, y)  # noqa: PLW2901 - in a window that is too low or too narrow
            at = Rect(x, y, min(w, width - x), min(h, height - y))
            if at.width > 0 and at.height > 0:
                self._stand.append((panel, at))
                picture.place(self._drawn(panel, at), at.x, at.y)
        return picture

    def _drawn(self, panel: Panel, at: Rect) -> Picture:
        depends = panel.depends()
        if depends is None:
            return panel.draw(at.width, at.height)
        depends = (at.width, at.height, *depends)
        kept = self._kept.get(panel)
        if kept is None or not _same(kept[0], depends):
            kept = self._kept[panel] = (depends, panel.draw(at.width, at.height))
        return kept[1]

    def opened(self) -> None:
        """Start the work that runs while the view is open. Textual's own Show and Hide come late, so the app calls these two itself."""
        for panel in self._at_work:
            panel.opened()

    def closed(self) -> None:
        """End the work that runs while the view is open: another one opens."""
        for panel in self.panels:
            panel.closed()

    def update(self) -> None:
        """Take what is new, once a frame while the view is open."""
        for panel in self._at_work:
            panel.update()

    def act(self, name: str) -> Callable[[], None] | None:
        """Return what does a command here; None if nothing does."""
        found = (getattr(p, f"act_{name}", None) for p in (self, *self.panels))
        act = next((a for a in found if a is not None), None)
        return act if act is None or not self.is_off else lambda: self.model.say(f"{self.model.rig.name} is a bench")

    def take_key(self, key: str) -> bool:
        """Take a key before the commands do; returns whether it was taken."""
        return any(panel.take_key(key) for panel in self._at_work)

    def press(self, what: str, value: str) -> bool:
        """Take a click on something that was marked; returns whether that is all."""
        return any(panel.press(what, value) for panel in self._at_work)

    def point(self, x: int, y: int, phase: str) -> None:
        """Take the mouse at a cell: it is the panel's in which it was pressed, until it is let go."""
        if phase == "press":
            self._held = next(((p, at) for p, at in reversed(self._stand) if at.holds(x, y)), None)
        if self._held is not None:
            panel, at = self._held
            panel.point(x - at.x, y - at.y, phase)
        if phase == "release":
            self._held = None

    def cancel(self) -> None:
        """Give up what is waited for: the robot was stopped."""
        for panel in self.panels:
            panel.cancel()

    def close(self) -> None:
        """Let go of what works in the background."""
        for panel in self.panels:
            panel.close()

    def changes(self) -> Changes:
        """Return the document that is changed here, and the function that goes to its state after a number of steps."""
        own = next((found for found in (panel.changes() for panel in self._at_work) if found is not None), None)
        return own or (self.model.file, self.model.go_to)

    @property
    def typed(self) -> Typed | None:
        """The panel that takes a typed value; None if there is none."""
        return next((panel for panel in self._at_work if isinstance(panel, Typed)), None)

    def has(self, key: str) -> bool:
        """Return whether this view shows a setting of the rig."""
        return any(panel.has(key) for panel in self._at_work)

    def select(self, key: str) -> None:
        """Select a setting of the rig, if this view has it."""
        for panel in self.panels:
            panel.select(key)

    def setting_keys(self) -> list[str]:
        """Return the keys of the settings that its panels show."""
        return [key for panel in self.panels for key in panel.setting_keys()]

    def chosen_key(self) -> str:
        """Return the key of the rig at which what is selected here stands; empty if nothing of the rig is."""
        return next((key for key in (panel.chosen_key() for panel in self._at_work) if key), "")

    def copied(self) -> list[str]:
        """Return what is selected here as lines of text."""
        return next((lines for lines in (panel.copied() for panel in self._at_work) if lines), [])


def _same(before: object, now: object) -> bool:
    """Return whether two are the same thing, equal numbers or texts, or tuples of such."""
    if isinstance(before, tuple) and isinstance(now, tuple):
        return len(before) == len(now) and all(map(_same, before, now))
    return before is now or (isinstance(before, int | float | str) and before == now)
