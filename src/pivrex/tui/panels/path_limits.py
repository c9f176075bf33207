"""The limits of a path: its top speed, acceleration and turn, and its slow zones; changed on the screen."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from pivrex.errors import UnitError
from pivrex.path.points import Path
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.path_editor import PathEditor
from pivrex.units import format_quantity

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["PathLimits"]

LIMITS = {
    "speed": ("top speed", "speed", "m/s"),
    "acceleration": ("acceleration", "acceleration", "m/s/s"),
    "turn": ("turn", "turn rate", "deg/s"),
}
KEY = "A"
ZONE = "X, Y, RADIUS, SPEED, such as 2.50 m, 2.00 m, 0.40 m, 0.2 m/s"


class PathLimits(Panel):
    """The lists of the open path's limits, as overlays."""

    def __init__(self, paths: PathEditor) -> None:
        super().__init__(paths.view)
        self._paths = paths

    def act_path_limits(self) -> None:
        def choices() -> list[Choice]:
            path = self._paths.document.content
            if path is None:
                return []
            rows = [Choice(key, f"{title}: {_said(path, key)}") for key, (title, _, _) in LIMITS.items()]
            rows += [Choice(f"zone {k}", f"slow zone {k + 1}", _zone(path, k)) for k in range(len(path.slow))]
            return [*rows, Choice("new", f"a new slow zone at point {self._paths.document.mark + 1}")]

        def take(said: str) -> None:
            path, word = self._paths.document.content, said.rpartition(" ")[2]
            if path is None:
                return
            if said in LIMITS:
                shown = "" if _said(path, said) == RIGS else _said(path, said)
                self._later(
                    LIMITS[said][0],
                    shown,
                    f"such as {EXAMPLES[said]}; empty for the rig's",
                    lambda text: self._put(said, text),
                )
            elif said == "new":
                point = path.points[self._paths.document.mark]
                shown = f"{point.x_m:.2f} m, {point.y_m:.2f} m, 0.40 m, 0.2 m/s"
                self._later("slow zone", shown, ZONE, lambda text: self._put_zone(len(path.slow), text))
            elif said.startswith("delete zone"):
                self._take_zone(int(word))
            elif said.startswith("zone"):
                self._later("slow zone", _zone(path, int(word)), ZONE, lambda text: self._put_zone(int(word), text))

        if self._paths.document.content is not None:
            self.view.choose(
                "what slows it down",
                choices,
                "speed",
                KEY,
                take,
                lambda: "Enter changes it, Delete deletes a zone",
                KEYS,
            )

    def _later(self, what: str, shown: str, allowed: str, take: Callable[[str], None]) -> None:
        # the list may still be closing
        self.view.canvas.call_later(self.view.ask, what, shown, allowed, take)

    def _edit(self, what: str, change: Callable[[TOMLDocument], None]) -> None:
        problem = self._paths.document.edit(what, change)
        if problem:
            raise UnitError(problem)
        self.model.say(f"{what}; u undoes it")

    def _put(self, key: str, text: str) -> None:
        def change(document: TOMLDocument) -> None:
            if text.strip():
                document[key] = text.strip()
            else:
                document.pop(key, None)

        self._edit(LIMITS[key][0], change)

    def _put_zone(self, at: int, text: str) -> None:
        words = [w.strip() for w in text.split(",")]
        if len(words) != 4:
            raise UnitError(f"write {ZONE}")
        zone = dict(zip(("x", "y", "radius", "speed"), words, strict=True))

        def change(document: TOMLDocument) -> None:
            import tomlkit

            zones = document.setdefault("slow", tomlkit.aot())
            if at < len(zones):
                zones[at].update(zone)
            else:
                zones.append(tomlkit.item(zone))

        self._edit("slow zone", change)

    def _take_zone(self, at: int) -> None:
        try:
            self._edit("slow zone deleted", lambda document: document["slow"].pop(at))
        except UnitError as problem:
            self.model.say(str(problem), alarm=True)


RIGS = "the rig's"
EXAMPLES = {"speed": "0.6 m/s", "acceleration": "1 m/s/s", "turn": "120 deg/s"}
KEYS = {"delete": "delete {}", "backspace": "delete {}"}


def _said(path: Path, key: str) -> str:
    value = {"speed": path.speed_m_s, "acceleration": path.acceleration_m_s2, "turn": path.turn_rad_s}[key]
    return RIGS if value is None else format_quantity(value, *LIMITS[key][1:], 4)


def _zone(path: Path, k: int) -> str:
    z = path.slow[k]
    return f"{z.x_m:.2f} m, {z.y_m:.2f} m, {z.radius_m:.2f} m, {z.speed_m_s:g} m/s"
