"""The list of sources with their health; one of them is selected."""

from __future__ import annotations

from math import isfinite

from pivrex.session.messages import ChooseSource, WatchSources
from pivrex.session.report import SourceReport
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel, View

__all__ = ["SourceList"]


class SourceList(Panel):
    """Sources below each other: with a line or two about the health of each, or where it is low in a row each."""

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._selected = ""

    def opened(self) -> None:
        self.model.ask(WatchSources(True))

    def closed(self) -> None:
        self.model.ask(WatchSources(False))

    def sources(self) -> list[SourceReport]:
        """Return the sources, the robot's link last."""
        report = self.model.client.report
        if report is None:
            return []
        return [*report.sources, *([report.link] if report.link is not None else [])]

    def source(self) -> SourceReport | None:
        """Return the selected source; the one that drives until another is selected."""
        name, found = self._selected or self.model.status.source, self.sources()
        return next((s for s in found if s.name == name), found[0] if found else None)

    def _walk(self, steps: int) -> None:
        names, source = [s.name for s in self.sources()], self.source()
        if source is not None:
            self._selected = names[(names.index(source.name) + steps) % len(names)]

    def act_previous_source(self) -> None:
        self._walk(-1)

    def act_next_source(self) -> None:
        self._walk(1)

    def act_drive(self) -> None:
        source = self.source()
        if source is not None:
            self.model.ask(ChooseSource(source.name))

    def press(self, what: str, value: str) -> bool:
        if what == "source":
            self._selected = value
        return what == "source"

    def draw(self, width: int, height: int) -> Picture:
        picture, sources, model = Picture(width, height), self.sources(), self.model
        source = self.source()
        selected = source.name if source is not None else ""
        full = width < 60
        room = (height - 2) // max(1, len(sources))
        y = 0
        if full:
            picture.text(1, 0, "sources", "title")
            picture.right(width - 1, 0, "←→ select  y drives", "dim")
            y = 2
        names = [s.name for s in sources]
        rows = height - 1 if not full else len(sources)
        first = max(0, min(names.index(selected) - rows // 2, len(sources) - rows)) if selected in names else 0
        for source in sources[first : first + max(1, rows)]:
            if y >= height:
                break
            here = source.name == selected
            picture.text(0, y, "▸" if here else " ", "commanded")
            picture.text(2, y, source.name, "chosen" if here else "title", width - 14 if full else 16)
            word, named = _state(source, model)
            begin = y
            if full:
                picture.right(width - 1, y, word, named)
                for line in _health(source)[: max(0, min(room, 4) - 1)]:
                    y += 1
                    picture.text(4, y, line, "dim", width - 5)
                y += 2 if room > 3 else 1
            else:
                picture.text(19, y, word, named)
                picture.text(28, y, "  ".join(_health(source)), "dim", width - 29)
                y += 1
            picture.spot(0, begin, width, "source", source.name, y - begin)
        return picture


def _state(source: SourceReport, model: ScreenModel) -> tuple[str, str]:
    if source.waits:
        return ("! lost" if "let go" not in source.waits else "! let go"), "alarm"
    if source.name == model.status.source:
        return "drives", "commanded"
    if source.can.joins:
        return "acts", "measured"
    return ("heard" if source.health is not None or source.kind == "link" else "there"), "measured"


def _health(source: SourceReport) -> list[str]:
    """Return in a line or two how a source is."""
    if source.waits:
        return [source.waits.removeprefix(f"{source.name} ")]
    health = source.health
    if health is None:
        return [f"event  {source.identity or (source.kind if source.kind != source.name else 'on this screen')}"]
    seal = ", sealed" if source.sealed else ""
    if source.nature == "event":
        bad = sum(health.faults.values())
        kind = source.kind.removesuffix("s") if health.good == 1 else source.kind
        return [f"event{seal}  {health.good} {kind}  {bad} refused"]
    age = f"{health.age_s * 1e3:4.0f} ms" if isfinite(health.age_s) and health.age_s < 10 else " long"
    return [
        f"{health.rate_hz:3.0f} Hz  loss {health.loss * 100:2.0f} %  age {age}",
        f"{source.nature}{seal}  jitter {health.jitter_s * 1e3:4.1f} ms",
    ]
