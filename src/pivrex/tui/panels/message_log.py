"""The newest messages in both directions, and refused ones with the reason."""

from __future__ import annotations

from pivrex.devices.health import Said
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.source_list import SourceList

__all__ = ["MessageLog"]


class MessageLog(Panel):
    """Below each other, or where there is room what was refused next to it."""

    def __init__(self, sources: SourceList) -> None:
        super().__init__(sources.view)
        self._sources = sources

    def draw(self, width: int, height: int) -> Picture:
        picture, source, report = Picture(width, height), self._sources.source(), self.model.client.report
        if source is None:
            return picture
        picture.across(0, 0, width)
        now = report.at_s if report is not None else 0.0
        half = width // 2 if width >= 120 else width
        others = [s for s in report.sources if s.said] if report is not None else []
        link = report.link if report is not None else None
        # a source that is read at every tick sends no messages: then it is the others that are heard
        speakers = [source] if source.health is not None else others
        title = f" messages of {source.name} " if source.health is not None else " messages of all sources "
        picture.text(2, 0, title, "title")
        said = [m for s in [*speakers, *([link] if link is not None and link is not source else [])] for m in s.said]
        said.sort(key=lambda s: s.at_s)
        refused = sorted((m for s in speakers for m in s.bad), key=lambda s: s.at_s)
        rows = height - 1
        if half == width and refused:
            said = [*said[-(rows - 1) :], refused[-1]] if rows > 1 else [refused[-1]]
        if not said:
            words = "nothing yet" if others or source.health is not None else "none yet: no remote has sent a message"
            picture.text(2, 1, words, "dim")
        for i, message in enumerate(said[-rows:]):
            _message(picture, 1, 1 + i, half - 2, message, now)
        if half == width:
            return picture
        picture.down(half - 1, 1, height)
        tallies = [s.health for s in speakers if s.health is not None]
        kinds = dict.fromkeys(k for h in tallies for k in h.faults)
        counts = "  ".join(f"{sum(h.faults.get(k, 0) for h in tallies)} {k}" for k in kinds)
        gone = sum(h.missed for h in tallies)
        missed = f"  {gone} missed" if gone else ""
        picture.text(half + 1, 0, " refused ", "title")
        if counts or missed:
            picture.text(half + 11, 0, f" {counts}{missed} ", "alarm", width - half - 13)
        if not refused:
            picture.text(half + 1, 1, "nothing", "dim")
        for i, message in enumerate(refused[-rows:]):
            _message(picture, half, 1 + i, width - half - 1, message, now)
        return picture


def _message(picture: Picture, x: int, y: int, width: int, message: Said, now: float) -> None:
    age = max(0.0, now - message.at_s)
    picture.right(x + 8, y, f"{age:.2f} s" if age < 100 else "long", "dim")
    picture.text(x + 9, y, "→" if message.out else "!" if message.fault else "←", "alarm" if message.fault else "frame")
    if not message.fault:
        end = picture.text(x + 11, y, message.text, "commanded" if message.out else "rest", width - 11)
        picture.text(end + 2, y, message.does, "target", max(0, x + width - end - 2))
        return
    # the reason first: it matters more than the message
    end = picture.text(x + 11, y, f"{message.fault}: {message.reason}", "alarm", width - 11)
    picture.text(end + 2, y, message.text, "ghost", max(0, x + width - end - 2))
