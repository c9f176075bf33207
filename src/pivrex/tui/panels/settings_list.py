"""Settings in a view: select, nudge, type, drag or choose one; columns draw them below each other."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from pivrex.glossary import label_of
from pivrex.rig.nudge import COARSE
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import slider as draw_slider
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.panel import Panel, View

__all__ = ["SETTINGS_COMMANDS", "OwnSetting", "Settings", "SettingsColumn"]

VALUES = 12

SETTINGS_COMMANDS = (
    Command("nudge_down", "nudge", "Decreases the selected setting by a fine step.", ("left",), "←→", foot=7),
    Command("nudge_up", "nudge up", "Increases the selected setting by a fine step.", ("right",)),
    Command("nudge_down_coarse", "nudge down far", "Decreases it by five steps.", ("shift+left",)),
    Command("nudge_up_coarse", "nudge up far", "Increases it by five steps.", ("shift+right",)),
    Command(
        "type_value", "type", "Types a number with its unit for the selected setting.", ("equals_sign", "="), foot=8
    ),
)
"""What every view with settings in place can do."""

Columns = list[list[str]]
"""The keys of settings, in columns and in the order in which they are walked; the glossary has their labels."""


@dataclass(frozen=True)
class OwnSetting:
    """A value that you select and change like a setting, but that is not in the rig: its present value, and how it changes."""

    shown: Callable[[], str]
    nudge: Callable[[int], None]
    type_in: Callable[[str], None]
    allowed: str
    choices: tuple[str, ...] = ()


class Settings(Panel):
    """Which settings there are, and which is selected; it is drawn by its columns.

    Parameters
    ----------
    view : View
    columns : callable
        Gives the columns that there are now.
    own : mapping of str to OwnSetting
        What is no setting of the rig, by its key.
    """

    def __init__(self, view: View, columns: Callable[[], Columns], own: Mapping[str, OwnSetting] | None = None) -> None:
        super().__init__(view)
        self.columns, self.own = columns, own or {}
        self._chosen = ""

    @property
    def chosen(self) -> str:
        """The key of the selected setting."""
        keys = [key for column in self.columns() for key in column]
        if self._chosen not in keys:
            self._chosen = keys[0]
        return self._chosen

    def chosen_key(self) -> str:
        return self.chosen

    def setting_keys(self) -> list[str]:
        return [key for column in self.columns() for key in column]

    def copied(self) -> list[str]:
        return [f"{self.chosen} = {self.shown(self.chosen)}"]

    def has(self, key: str) -> bool:
        return any(key in column for column in self.columns())

    def select(self, key: str) -> None:
        if self.has(key):
            self._chosen = key

    def shown(self, key: str) -> str:
        """Write what a setting is now, with its unit."""
        return self.own[key].shown() if key in self.own else self.model.shown(key)

    def choices(self, key: str) -> tuple[str, ...]:
        """Return what a setting may be, if it is one of several."""
        return self.own[key].choices if key in self.own else self.model.setting(key).choices

    # --- acting ---

    def entry(self) -> tuple[str, str, str]:
        """Return what typing a value needs: the setting's key, its value as shown, and what is allowed."""
        key = self.chosen
        if key in self.own:
            allowed = self.own[key].allowed
        else:
            setting = self.model.setting(key)
            allowed = ", ".join(setting.choices) or (
                setting.quantity.sentence(self.shown(key)) if setting.quantity else ""
            )
        return key, self.shown(key), allowed

    def type_in(self, text: str) -> None:
        """Take what was typed for the selected setting; raises `UnitError`."""
        if self.chosen in self.own:
            self.own[self.chosen].type_in(text)
        else:
            self.model.type_in(self.chosen, text)

    def _nudge(self, steps: int) -> None:
        if self.chosen in self.own:
            self.own[self.chosen].nudge(steps)
        else:
            self.model.nudge(self.chosen, steps)

    def _walk(self, steps: int) -> None:
        keys = [key for column in self.columns() for key in column]
        self._chosen = keys[(keys.index(self.chosen) + steps) % len(keys)]

    def act_previous_setting(self) -> None:
        self._walk(-1)

    def act_next_setting(self) -> None:
        self._walk(1)

    def act_nudge_down(self) -> None:
        self._nudge(-1)

    def act_nudge_up(self) -> None:
        self._nudge(1)

    def act_nudge_down_coarse(self) -> None:
        self._nudge(-COARSE)

    def act_nudge_up_coarse(self) -> None:
        self._nudge(COARSE)

    def press(self, what: str, value: str) -> bool:
        if what == "setting":
            self.select(value)
        elif what == "choice":
            key, _, choice = value.partition("=")
            self.select(key)
            if key in self.own:
                self.own[key].type_in(choice)
            else:
                self.model.choose(key, choice)
            return True
        return False


class SettingsColumn(Panel):
    """A column of settings: names at the left, values at the right, a slider between them where there is room.

    Parameters
    ----------
    settings : Settings
    number : int
        Which of its columns.
    title : callable, optional
        Gives what stands above it.
    sliders : bool
        Whether values have sliders.
    """

    def __init__(
        self, settings: Settings, number: int, title: Callable[[], str] | None = None, sliders: bool = True
    ) -> None:
        super().__init__(settings.view)
        self._settings, self._number, self._title, self._has_sliders = settings, number, title, sliders
        self._sliders: list[tuple[str, int, int, int]] = []
        """Key, row, left column, width."""
        self._dragged = ""
        self._drags = 0

    @property
    def rows(self) -> int:
        """How high it is."""
        return len(self._settings.columns()[self._number]) + (self._title is not None)

    def depends(self) -> tuple[object, ...]:
        settings, column = self._settings, self._settings.columns()[self._number]
        own = tuple(settings.shown(key) for key in column if key in settings.own)
        return self.model.serial, settings.chosen, tuple(column), own, self._title() if self._title is not None else ""

    def draw(self, width: int, height: int) -> Picture:
        picture, self._sliders = Picture(width, height), []
        settings, top = self._settings.columns()[self._number], int(self._title is not None)
        if self._title is not None:
            picture.text(0, 0, self._title(), "title", width)
        labels = self._labels(settings)
        names = max(map(len, labels))
        first, shown = self._window(settings, height - top)
        if shown < len(settings):
            arrows = ("↑" if first else "") + ("↓" if first + shown < len(settings) else "")
            picture.text(3, height - 1, f"more: {arrows}", "dim")
        for y, (key, name) in enumerate(list(zip(settings, labels, strict=True))[first : first + shown], top):
            here = key == self._settings.chosen
            picture.spot(0, y, width, "setting", key)
            picture.text(1, y, "▸" if here else " ", "commanded")
            tight = width < names + VALUES + 3
            room = width - 3 - max(len(self._settings.shown(key)) + 2, 6) if tight else None
            picture.text(3, y, name, "title" if here else "dim", room)
            self._value(picture, key, names + 3 + self._has_sliders, y, here)
        return picture

    def _window(self, settings: list[str], room: int) -> tuple[int, int]:
        """Return the first setting that is shown, and how many are: the selected one is among them."""
        if len(settings) <= room:
            return 0, len(settings)
        shown = max(0, room - 1)
        at = settings.index(self._settings.chosen) if self._settings.chosen in settings else 0
        return max(0, min(at - shown // 2, len(settings) - shown)), shown

    def _labels(self, keys: list[str]) -> list[str]:
        """Return what the glossary calls settings; those of a speed level have its name before them."""
        levels = self.model.rig.speed_levels.levels
        return [
            f"{levels[int(key.split('.')[2])].name}: {label_of(key)}"
            if key.startswith("speed_levels.levels.")
            else label_of(key)
            for key in keys
        ]

    def _value(self, picture: Picture, key: str, x: int, y: int, here: bool) -> None:
        width, model, choices = picture.width, self.model, self._settings.choices(key)
        shown = self._settings.shown(key)
        if choices:
            value = shown if key in self._settings.own else model.setting(key).choice(model.rig)
            _draw_choices(picture, key, choices, value, x, y, width - x - self._has_sliders, here)
            return
        if key.endswith(".curve") and model.rig.shaping.of(key.split(".")[-2]).points:
            shown = "table"
        if shown in ("0 /s", "0 %/s"):
            shown = "no limit"
        bar = width - x - VALUES - 2
        if not self._has_sliders:
            picture.text(x, y, f" {shown} ", "chosen" if here else "rest")
            return
        if bar >= 6:
            setting = model.setting(key)
            draw_slider(
                picture, x, y, bar, setting.value(model.rig) / setting.largest(), "commanded" if here else "rest"
            )
            self._sliders.append((key, y, x, bar))
        picture.right(width - 1, y, f" {shown} ", "chosen" if here else "rest")

    def point(self, x: int, y: int, phase: str) -> None:
        if phase == "press":
            here = (key for key, row, left, width in self._sliders if row == y and left - 1 <= x <= left + width)
            self._dragged, self._drags = next(here, ""), 0
            self._settings.select(self._dragged)
        slider = next((s for s in self._sliders if s[0] == self._dragged), None)
        if slider is not None and phase != "release":
            _, _, left, width = slider
            self.model.drag(self._dragged, (x - left) / max(1, width - 1), going_on=self._drags > 0)
            self._drags += 1


def _draw_choices(
    picture: Picture, key: str, choices: tuple[str, ...], value: str, x: int, y: int, room: int, here: bool
) -> None:
    """Draw what a setting may be side by side, each to be clicked; only what it is where there is no room."""
    if sum(len(c) + 2 for c in choices) > room:
        text = f" {value} "
        picture.right(x + room, y, text, "chosen" if here else "rest")
        return
    for choice in choices:
        named = ("chosen" if here else "title") if choice == value else "dim"
        picture.spot(x, y, len(choice) + 2, "choice", f"{key}={choice}")
        x = picture.text(x, y, f" {choice} ", named)
