"""Bench sums over any view: the palette at the left, the drawing with its formula, inputs and results at the right."""

from __future__ import annotations

from textual import events
from textual.app import ComposeResult
from textual.containers import Container
from textual.screen import ModalScreen

from pivrex.errors import UnitError
from pivrex.rig.edit import set_key
from pivrex.sums import SUMS, Result, Sum
from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.sums import draw_sum
from pivrex.tui.keys import key_name
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.closing import LiesOver
from pivrex.tui.overlays.entry import ValueEntry

__all__ = ["Bench"]

PALETTE = 34
DRAWING = 11
COARSE = 10.0


class Bench(LiesOver, ModalScreen[None]):
    """↑ ↓ walk the inputs, ← → nudge them, PgUp and PgDn walk the sums, = types, W writes to the rig."""

    DEFAULT_CSS = """
    Bench { background: transparent; align: left top; }
    Bench Container {
        width: 100%; max-width: 132; height: 34; max-height: 100%; margin: 4 0 1 0; border: round $foreground;
        background: $background; border-title-color: $foreground; border-title-style: bold;
    }
    Bench.ascii Container { border: ascii $foreground; }
    Bench Canvas { width: 100%; height: 100%; }
    """
    means = ("up", "down", "left", "right", "shift+left", "shift+right", "pageup", "pagedown", "equals_sign", "=", "W",
             "shift+w", "upper_w")  # fmt: skip

    def __init__(self, model: ScreenModel, key: str) -> None:
        super().__init__(classes="ascii" if Canvas.ascii_only else None)
        self._model, self.own_key = model, key
        self._at = self._input = 0
        self._values: dict[str, dict[str, float]] = {}
        self._said = ""
        self.canvas = Canvas()

    @property
    def sum(self) -> Sum:
        """The open one."""
        return SUMS[self._at]

    @property
    def values(self) -> dict[str, float]:
        """The present inputs."""
        return self._values.setdefault(self.sum.name, self.sum.filled(self._model.rig))

    def compose(self) -> ComposeResult:
        with Container() as box:
            box.border_title = f"bench sums  {key_name(self.own_key)} closes"
            yield self.canvas

    def on_mount(self) -> None:
        self.set_interval(0.2, self.show)

    def on_resize(self) -> None:
        self.show()

    def show(self) -> None:
        """Draw it."""
        size = self.canvas.size
        if size.width and size.height:
            self.canvas.show(self.drawn(size.width, size.height))

    def on_key(self, event: events.Key) -> None:
        key = event.key
        if key not in self.means:
            super().on_key(event)
            return
        event.stop()
        self._said = ""
        if key in ("pageup", "pagedown"):
            self._at, self._input = (self._at + (1 if key == "pagedown" else -1)) % len(SUMS), 0
        elif key in ("up", "down"):
            self._input = min(max(0, self._input + (1 if key == "down" else -1)), len(self.sum.given) - 1)
        elif key in ("equals_sign", "="):
            self.app.push_screen(ValueEntry(self))
        elif key in ("W", "shift+w", "upper_w"):
            self._write()
        else:
            one = self.sum.given[self._input]
            steps = (COARSE if key.startswith("shift") else 1.0) * (1 if key.endswith("right") else -1)
            self.values[one.key] = one.nudged(self.values[one.key], steps)
        self.show()

    def entry(self) -> tuple[str, str, str]:
        """Return the value that is typed."""
        one = self.sum.given[self._input]
        return one.title, one.shown(self.values[one.key]), f"{one.shown(one.low)} to {one.shown(one.high)}"

    def type_in(self, text: str) -> None:
        """Take what was typed; raises `UnitError`."""
        one = self.sum.given[self._input]
        self.values[one.key] = one.read(text)
        self.show()

    def _write(self) -> None:
        model, one = self._model, self.sum
        writes = one.writes(model.rig, self.values)
        if not writes:
            self._said = "no key of the rig holds this"
            return
        text = "; ".join(f"{k} = {v}" for k, v in writes[:3])

        def change(document: object) -> None:
            for key, value in writes:
                set_key(document, key, value)  # type: ignore[arg-type]

        changed = model.edit(f"bench sum {one.name}", change)
        self._said = f"written: {text}" if changed else model.message or "the rig says so already"

    def on_canvas_pointed(self, message: Canvas.Pointed) -> None:
        """Take the mouse: a sum, or something that goes in."""
        message.stop()
        if message.phase != "press":
            return
        spot = self.canvas.picture.spot_at(message.x, message.y)
        if spot is not None and spot.what == "sum":
            self._at, self._input = int(spot.value), 0
        elif spot is not None and spot.what == "input":
            self._input = int(spot.value)
        self.show()

    # --- drawing ---

    def drawn(self, width: int, height: int) -> Picture:
        """Draw all of it."""
        picture = Picture(width, height)
        side = PALETTE if width >= 84 else 0
        for k, one in enumerate(SUMS if side else ()):
            here = k == self._at
            if here:
                picture.text(1, 1 + 2 * k, "▸", "title")
            picture.text(3, 1 + 2 * k, one.title, "chosen" if here else "rest", side - 4)
            picture.spot(1, 1 + 2 * k, side - 2, "sum", str(k))
        if side:
            picture.text(1, height - 2, "PgUp PgDn another", "dim")
            picture.down(side, 0, height)
        self._right(picture, side + 2 if side else 1, width - side - 3)
        return picture

    def _right(self, picture: Picture, x: int, width: int) -> None:
        one, values = self.sum, self.values
        picture.text(x, 0, one.title, "title")
        results: list[Result] = []
        problem = ""
        try:
            results = one.results(values)
        except UnitError as error:
            problem = str(error)
        high = DRAWING if picture.height >= 24 else 0
        if high and results:
            picture.place(draw_sum(one.name, values, results, width, high - 1), x, 2)
        low = width < 88 and picture.height < 30
        y = 2 + high - low
        for line in one.formula:
            picture.text(x, y, line, "target", width)
            y += 1
        if not low:
            picture.text(x, y, one.source, "dim", width)
            y += 2
        for k, given in enumerate(one.given):
            here = k == self._input
            picture.spot(x, y + k, min(width, 52), "input", str(k))
            picture.text(x, y + k, given.title, "chosen" if here else "rest", 34)
            picture.right(x + 50, y + k, given.shown(values[given.key]), "commanded")
        column = x + 53 if width >= 88 else x
        below = y if column > x else y + len(one.given) + 1 - low
        if problem:
            picture.text(column, below, f"! {problem}", "alarm", width)
        room = picture.height - 2 - below
        if len(results) > room:
            picture.text(column, below + room - 1, f"{len(results) - room + 1} more in a higher window", "dim", width)
        for k, result in enumerate(results[: room if len(results) <= room else room - 1]):
            picture.text(column, below + k, result.title, "rest", 27 if column > x else 34)
            picture.right(
                column + (39 if column > x else 50), below + k, result.shown, "alarm" if result.wrong else "measured"
            )
        wrong = next((r.wrong for r in results if r.wrong), "")
        said = self._said or (
            f"! {wrong}"
            if wrong
            else "← → nudge, ⇧ coarse, = types" + (", W writes into the rig" if self._holds() else "")
        )
        picture.text(x, picture.height - 2, said, "alarm" if wrong and not self._said else "dim", width)

    def _holds(self) -> bool:
        return bool(self.sum.writes(self._model.rig, self.values))
