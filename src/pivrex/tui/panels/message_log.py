"""What was said last, both ways, and what was refused with its reason."""

from __future__ import annotations

from pivrex.devices.health import Said
from pivrex.session.report import Report, SourceReport
from pivrex.tui.draw.picture import Picture

__all__ = ["draw_messages"]


def draw_messages(
    picture: Picture, x: int, y: int, width: int, height: int, source: SourceReport, report: Report | None
) -> None:
    """Draw what was said last, both ways, and what was refused with its reason."""
    picture.across(y, x, x + width)
    now = report.at_s if report is not None else 0.0
    half = width // 2 if width >= 120 else width
    others = [s for s in report.sources if s.said] if report is not None else []
    link = report.link if report is not None else None
    # a source that is read at every tick sends no messages: then it is the others that are heard
    speakers = [source] if source.health is not None else others
    title = f" said by {source.name} " if source.health is not None else " said by all that send messages "
    picture.text(x + 2, y, title, "title")
    said = [m for s in [*speakers, *([link] if link is not None and link is not source else [])] for m in s.said]
    said.sort(key=lambda s: s.at_s)
    refused = sorted((m for s in speakers for m in s.bad), key=lambda s: s.at_s)
    rows = height - 1
    if half == width and refused:
        said = [*said[-(rows - 1) :], refused[-1]] if rows > 1 else [refused[-1]]
    if not said:
        words = "nothing yet" if others or source.health is not None else "nobody: no remote has been heard yet"
        picture.text(x + 2, y + 1, words, "dim")
    for i, message in enumerate(said[-rows:]):
        _message(picture, x + 1, y + 1 + i, half - 2, message, now)
    if half == width:
        return
    picture.down(x + half - 1, y + 1, y + height)
    tallies = [s.health for s in speakers if s.health is not None]
    kinds = dict.fromkeys(k for h in tallies for k in h.faults)
    counts = "  ".join(f"{sum(h.faults.get(k, 0) for h in tallies)} {k}" for k in kinds)
    gone = sum(h.missed for h in tallies)
    missed = f"  {gone} missed" if gone else ""
    picture.text(x + half + 1, y, " refused ", "title")
    if counts or missed:
        picture.text(x + half + 11, y, f" {counts}{missed} ", "alarm", width - half - 13)
    if not refused:
        picture.text(x + half + 1, y + 1, "nothing", "dim")
    for i, message in enumerate(refused[-rows:]):
        _message(picture, x + half, y + 1 + i, width - half - 1, message, now)


def _message(picture: Picture, x: int, y: int, width: int, message: Said, now: float) -> None:
    age = max(0.0, now - message.at_s)
    picture.right(x + 8, y, f"{age:.2f} s" if age < 100 else "long", "dim")
    picture.text(x + 9, y, "→" if message.out else "!" if message.fault else "←", "alarm" if message.fault else "frame")
    if not message.fault:
        picture.text(x + 11, y, message.text, "commanded" if message.out else "rest", width - 11)
        return
    # the reason first: what is wrong matters more than all of what was said
    end = picture.text(x + 11, y, f"{message.fault}: {message.reason}", "alarm", width - 11)
    picture.text(end + 2, y, message.text, "ghost", max(0, x + width - end - 2))
