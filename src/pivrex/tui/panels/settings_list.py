"""A view with settings in place: one is selected, nudged, typed or dragged."""

from __future__ import annotations

from pivrex.rig.nudge import COARSE
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import slider as draw_slider
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.view import View

__all__ = ["SETTINGS_COMMANDS", "SettingsView", "draw_choices"]

VALUES = 12

SETTINGS_COMMANDS = (
    Command("nudge_down", "nudge", "Makes the selected setting a fine step less.", ("left",), "←→", foot=7),
    Command("nudge_up", "nudge up", "Makes the selected setting a fine step more.", ("right",)),
    Command("nudge_down_coarse", "nudge down far", "Makes it five steps less.", ("shift+left",)),
    Command("nudge_up_coarse", "nudge up far", "Makes it five steps more.", ("shift+right",)),
    Command(
        "type_value", "type", "Types a number with its unit for the selected setting.", ("equals_sign", "="), foot=8
    ),
)
"""What every view with settings in place can do."""


def draw_choices(
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


class SettingsView(View):
    """What the keys act on is marked by ▸. Subclasses say which settings there are, and draw them where they belong."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._chosen = ""
        self.sliders: list[tuple[str, int, int, int]] = []
        """Where sliders are drawn: key, row, left column, width."""
        self.dragged = ""
        self._drags = 0

    def columns(self) -> list[list[tuple[str, str]]]:
        """Give the settings, (key, name), in the order in which they are walked."""
        raise NotImplementedError

    @property
    def chosen(self) -> str:
        """The key of the selected setting."""
        keys = [key for column in self.columns() for key, _ in column]
        if self._chosen not in keys:
            self._chosen = keys[0]
        return self._chosen

    def chosen_key(self) -> str:
        return self.chosen

    def copied(self) -> list[str]:
        return [f"{self.chosen} = {self.model.shown(self.chosen)}"]

    def has(self, key: str) -> bool:
        return any(key == k for column in self.columns() for k, _ in column)

    def select(self, key: str) -> None:
        if self.has(key):
            self._chosen = key

    def draw_settings(self, picture: Picture, settings: list[tuple[str, str]], x: int, y: int, width: int) -> None:
        """Draw settings below each other, names at the left, values at the right."""
        model = self.model
        names = max(len(name) for _, name in settings)
        bar = width - names - VALUES - 6
        for row, (key, name) in enumerate(settings, y):
            here = key == self.chosen
            picture.spot(x, row, width, "setting", key)
            picture.text(x + 1, row, "▸" if here else " ", "commanded")
            tight = bar < 6 and width < names + VALUES + 3
            picture.text(x + 3, row, name, "title" if here else "dim", width - VALUES - 1 if tight else None)
            setting = model.setting(key)
            shown = model.shown(key)
            if key.endswith(".curve") and model.rig.shaping.of(key.split(".")[1]).points:
                shown = "table"
            if shown in ("0 /s", "0 %/s"):
                shown = "no limit"
            at = x + names + 4
            if setting.choices:
                value = str(setting.value(model.rig))
                draw_choices(picture, key, setting.choices, value, at, row, width - names - 5, here)
            elif bar >= 6:
                draw_slider(
                    picture, at, row, bar, setting.value(model.rig) / setting.largest(), "commanded" if here else "rest"
                )
                self.sliders.append((key, row, at, bar))
                picture.right(x + width - 1, row, f" {shown} ", "chosen" if here else "rest")
            else:
                picture.right(x + width - 1, row, f" {shown} ", "chosen" if here else "rest")

    # --- acting ---

    def entry(self) -> tuple[str, str, str]:
        """Give what typing a value needs: the setting's key, its value as shown, and what is allowed."""
        setting = self.model.setting(self.chosen)
        allowed = ", ".join(setting.choices) or (setting.quantity.sentence() if setting.quantity else "")
        return self.chosen, self.model.shown(self.chosen), allowed

    def type_in(self, text: str) -> None:
        """Take what was typed for the selected setting; raises `UnitError`."""
        self.model.type_in(self.chosen, text)

    def _walk(self, steps: int) -> None:
        keys = [key for column in self.columns() for key, _ in column]
        self._chosen = keys[(keys.index(self.chosen) + steps) % len(keys)]

    def act_previous_setting(self) -> None:
        self._walk(-1)

    def act_next_setting(self) -> None:
        self._walk(1)

    def act_nudge_down(self) -> None:
        self.model.nudge(self.chosen, -1)

    def act_nudge_up(self) -> None:
        self.model.nudge(self.chosen, 1)

    def act_nudge_down_coarse(self) -> None:
        self.model.nudge(self.chosen, -COARSE)

    def act_nudge_up_coarse(self) -> None:
        self.model.nudge(self.chosen, COARSE)

    def press(self, what: str, value: str) -> bool:
        if what == "setting":
            self.select(value)
        elif what == "choice":
            key, _, choice = value.partition("=")
            self.select(key)
            self.choose(key, choice)
            return True
        return False

    def choose(self, key: str, choice: str) -> None:
        """Set a setting to one of its choices."""
        self.model.choose(key, choice)

    def point(self, x: int, y: int, phase: str) -> None:
        if phase == "press":
            here = (key for key, row, left, width in self.sliders if row == y and left - 1 <= x <= left + width)
            self.dragged, self._drags = next(here, ""), 0
            self._chosen = self.dragged or self._chosen
        slider = next((s for s in self.sliders if s[0] == self.dragged), None)
        if slider is not None and phase != "release":
            _, _, left, width = slider
            self.model.drag(self.dragged, (x - left) / max(1, width - 1), going_on=self._drags > 0)
            self._drags += 1
