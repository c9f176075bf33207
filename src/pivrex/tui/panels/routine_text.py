"""The text of a routine: Textual's editor, with the language's colours, and each mistake below its line."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from textwrap import wrap
from typing import ClassVar

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.binding import Binding, BindingType
from textual.document._document import Location
from textual.document._document_navigator import DocumentNavigator
from textual.document._wrapped_document import WrappedDocument
from textual.geometry import Offset
from textual.strip import Strip
from textual.widgets import TextArea
from textual.widgets.text_area import TextAreaTheme

from pivrex.routine.forms import KEYWORDS, LATER_WORDS
from pivrex.routine.mistakes import TextMistake
from pivrex.scene.marks import ROLES
from pivrex.tui.keys import do_bound
from pivrex.tui.themes import style_of

__all__ = ["RoutineText"]

_UNIT = r"(?:wheel turns?|counts?|(?:mm|cm|m|in|ft|deg|rad)(?:/s)?\b|m?s\b|V\b|%)"
_PARTS = re.compile(
    rf'(?P<comment>#.*$)|(?P<string>"[^"\n]*")|(?P<number>\d+(?:\.\d+)?\s*{_UNIT}?)|(?P<word>[^\W\d]\w*)'
)


MAX_DRAWN = 2000


class NotedDocument(WrappedDocument):
    """A document with rows below some of its lines that belong to none of its text."""

    notes: ClassVar[dict[int, list[str]]] = {}

    def put(self, notes: dict[int, list[str]]) -> None:
        """Show these rows, by the line that they stand below, from 0."""
        self.notes = notes  # type: ignore[misc]
        self._weave()

    def wrap(self, width: int, tab_width: int | None = None) -> None:
        super().wrap(width, tab_width)
        self._weave()

    def wrap_range(self, start: Location, old_end: Location, new_end: Location) -> None:
        self.wrap(self._width, self._tab_width)

    def _weave(self) -> None:
        self._offset_to_line_info, self._line_index_to_offsets = [], []
        for line, offsets in enumerate(self._wrap_offsets):
            first = len(self._offset_to_line_info)
            sections = len(offsets) + 1
            self._line_index_to_offsets.append(list(range(first, first + sections)))
            rows = sections + len(self.notes.get(line, ()))
            self._offset_to_line_info += [(line, k) for k in range(rows)]

    @property
    def height(self) -> int:
        return len(self._offset_to_line_info)

    def note_at(self, y: int) -> tuple[int, str] | None:
        """Return the line that a row of the display stands below and what it says; None for a row of text."""
        if not 0 <= y < len(self._offset_to_line_info):
            return None
        line, section = self._offset_to_line_info[y]
        sections = len(self._wrap_offsets[line]) + 1
        rows = self.notes.get(line, [])
        return (line, rows[section - sections]) if section >= sections and section - sections < len(rows) else None

    def offset_to_location(self, offset: Offset) -> Location:
        x, y = offset
        y = max(0, min(y, len(self._offset_to_line_info) - 1))
        while y > 0 and self.note_at(y) is not None:
            y -= 1
        return super().offset_to_location(Offset(x, y))


class RoutineText(TextArea):
    """The editor. It takes the focus only while someone types; the view says when."""

    DEFAULT_CSS = """
    RoutineText, RoutineText:focus { border: none; padding: 0; background: $background; color: $foreground; }
    RoutineText { scrollbar-size-vertical: 1; scrollbar-color: $panel; scrollbar-background: $background; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("tab", "complete", show=False, priority=True),
        Binding("ctrl+z", "undo", show=False),
        Binding("ctrl+y", "redo", show=False),
        Binding("ctrl+f", "find", show=False, priority=True),
    ]

    def __init__(self, ask_find: Callable[[], None]) -> None:
        self._ask_find = ask_find
        self._mistakes: tuple[TextMistake, ...] = ()
        self._looks: dict[str, Style] = {}
        self._drawn: dict[object, Strip] = {}
        super().__init__(soft_wrap=True, show_line_numbers=True, tab_behavior="focus", id="routine-text")
        self.can_focus = False
        self._own: dict[str, set[str]] = {}
        self.driven_line = 0
        """The line that drives the robot now, from 1; 0 for none."""
        self.values: dict[int, str] = {}
        """What stands at the end of lines, from 1: the values that they showed last."""

    # --- the document with its notes ---

    def _set_document(self, text: str, language: str | None) -> None:
        super()._set_document(text, language)
        self.wrapped_document = NotedDocument(self.document, tab_width=self.indent_width)
        self.navigator = DocumentNavigator(self.wrapped_document)
        self._rewrap_and_refresh_virtual_size()

    @property
    def _noted(self) -> NotedDocument:
        assert isinstance(self.wrapped_document, NotedDocument)
        return self.wrapped_document

    def say(self, mistakes: Sequence[TextMistake]) -> None:
        """Show mistakes and warnings below their lines."""
        if tuple(mistakes) == self._mistakes and self._noted.notes:
            return
        self._mistakes = tuple(mistakes)
        self._place_notes()

    def _place_notes(self) -> None:
        width = max(24, self.wrap_width or self.size.width)
        notes: dict[int, list[str]] = {}
        for m in self._mistakes:
            if m.line - 1 < self.document.line_count:
                notes.setdefault(m.line - 1, []).extend(_rows(m, width))
        self._noted.put(notes)
        self._refresh_size()
        self._build_highlight_map()
        self._recompute_cursor_offset()  # type: ignore[no-untyped-call]
        self.refresh()

    def on_resize(self) -> None:
        self._place_notes()

    # --- colours ---

    def colour(self, theme: str) -> None:
        """Take the colours of a theme of the program."""
        name = f"pivrex-{theme}"
        if self.theme == name:
            return
        styles = {role: style_of(theme, i) for i, role in enumerate(ROLES)}
        self.register_theme(
            TextAreaTheme(
                name=name,
                base_style=styles["rest"],
                gutter_style=styles["dim"],
                cursor_style=Style(reverse=True),
                cursor_line_style=Style(bold=True),
                cursor_line_gutter_style=styles["key"],
                selection_style=Style(reverse=True),
                syntax_styles={
                    "comment": styles["dim"], "string": styles["measured"], "number": styles["commanded"],
                    "keyword": styles["rest"], "own": styles["target"], "skip": styles["ghost"],
                    "mistake": styles["alarm"] + Style(underline=True), "driven": styles["chosen"],
                },
            )
        )  # fmt: skip
        self.theme = name
        self._looks = styles
        self._build_highlight_map()

    def _build_highlight_map(self) -> None:
        self._line_cache.clear()
        found = self._highlights
        found.clear()
        for row in range(self.document.line_count):
            text = self.document.get_line(row)
            if re.match(r"\s*skip\b", text):
                found[row].append((0, len(text.encode()), "skip"))
                continue
            for part in _PARTS.finditer(text):
                kind = part.lastgroup or ""
                if kind == "word":
                    kind = (
                        "keyword"
                        if part[0] in KEYWORDS or (part[0] in LATER_WORDS and not text[: part.start()].strip())
                        else "own"
                    )
                begin = len(text[: part.start()].encode())
                found[row].append((begin, begin + len(part[0].encode()), kind))
        for m in self._mistakes:
            if m.line - 1 < self.document.line_count and not m.warning:
                text = self.document.get_line(m.line - 1)
                begin, end = m.column - 1, min(len(text), m.column - 1 + m.length)
                found[m.line - 1].append((len(text[:begin].encode()), len(text[:end].encode()), "mistake"))

    def _render_line(self, y: int) -> Strip:
        at = self.scroll_offset.y + y
        note, info, styles = self._noted.note_at(at), self._noted._offset_to_line_info, self._looks
        if not styles or (note is None and at >= len(info)):
            return super()._render_line(y)
        if note is not None:
            return self._note(*note)
        line, section = info[at]
        start, end = self.selection
        if start != end or line in (self.cursor_location[0], self.driven_line - 1):
            return self._with_value(self._with_sign(super()._render_line(y), at), at)
        # a key changes one line: the others are as they were
        text, parts = self.document.get_line(line), tuple(self._highlights.get(line, ()))
        breaks = tuple(self.wrapped_document.get_offsets(line))
        key = (line, section, text, parts, breaks, self.size.width, self.gutter_width, self.theme,
               self.values.get(line + 1))  # fmt: skip
        strip = self._drawn.get(key)
        if strip is None:
            if len(self._drawn) > MAX_DRAWN:
                self._drawn.clear()
            strip = self._drawn[key] = self._with_value(super()._render_line(y), at)
        return strip

    def _note(self, line: int, said: str) -> Strip:
        """Draw a row below a line."""
        warning = all(m.warning for m in self._mistakes if m.line == line + 1)
        row, width = " " * self.gutter_width + said, self.scrollable_content_region.width
        named = self._looks["target" if warning else "alarm"]
        return Strip([Segment(row[:width], named)]).adjust_cell_length(width, self._looks["rest"])

    def _with_sign(self, strip: Strip, at: int) -> Strip:
        """Mark the line that the cursor stands on, and the one that drives, before their numbers."""
        info, styles = self._noted._offset_to_line_info, self._looks
        if not styles or at >= len(info):
            return strip
        line, section = info[at]
        if section == 0 and line == self.driven_line - 1:
            return Strip(
                [Segment("▸" * self.gutter_width, styles["live"]), *strip.crop(self.gutter_width)], strip.cell_length
            )
        if section == 0 and line == self.cursor_location[0]:
            number = f"{line + 1:>{self.gutter_width - 2}} "
            return Strip([Segment(number, styles["chosen"]), *strip.crop(len(number))], strip.cell_length)
        return strip

    def show(self, values: dict[int, str]) -> None:
        """Let these values stand at the end of lines."""
        if values != self.values:
            self.values = values
            self._line_cache.clear()
            self.refresh()

    def _with_value(self, strip: Strip, at: int) -> Strip:
        """Write what a line showed at its end, where there is room next to its text."""
        line, section = self._noted._offset_to_line_info[at]
        said, width = self.values.get(line + 1, ""), self.scrollable_content_region.width
        end = self.gutter_width + len(self.document.get_line(line).expandtabs(4)) + 1
        if not said or section or end + len(said) + 1 > width:
            return strip
        before = width - len(said) - 1
        row = strip.adjust_cell_length(width, self._looks["rest"]).crop(0, before)
        return Strip([*row, Segment(said, self._looks["measured"]), Segment(" ", self._looks["rest"])], width)

    # --- keys ---

    def names(self, words: set[str]) -> None:
        """Take the names that may be completed next to the language's words."""
        self._own = {"names": words}

    async def on_key(self, event: events.Key) -> None:
        await do_bound(self, event)

    def action_complete(self) -> None:
        """Complete the word before the cursor; without one, indent to the next stop."""
        row, column = self.cursor_location
        before = self.document.get_line(row)[:column]
        word = re.search(r"[^\W\d]\w*$", before)
        if word is None:
            self.insert(" " * (4 - column % 4))
            return
        known = sorted(
            w for w in KEYWORDS | LATER_WORDS | self._own.get("names", set()) if w.startswith(word[0]) and w != word[0]
        )
        if known:
            alike = known[0]
            for other in known[1:]:
                while not other.startswith(alike):
                    alike = alike[:-1]
            self.insert(alike[len(word[0]) :] or (known[0][len(word[0]) :] if len(known) == 1 else ""))

    def action_find(self) -> None:
        """Ask for what should be found."""
        self._ask_find()

    def find(self, what: str) -> bool:
        """Select the next place where something stands, from the cursor on and then from the top; False if there is none."""
        text, (row, column) = self.text, self.cursor_location
        lines = text.split("\n")
        at = sum(len(line) + 1 for line in lines[:row]) + column
        lower, wanted = text.lower(), what.lower()
        found = lower.find(wanted, at)
        found = found if found >= 0 else lower.find(wanted)
        if not wanted or found < 0:
            return False
        begin = (text.count("\n", 0, found), found - (text.rfind("\n", 0, found) + 1))
        end = (begin[0], begin[1] + len(wanted))
        self.move_cursor(begin)
        self.move_cursor(end, select=True)
        return True

    def to_line(self, number: int) -> None:
        """Go to a line, from 1."""
        row = max(0, min(self.document.line_count - 1, number - 1))
        if self.cursor_location[0] != row:
            self.move_cursor((row, len(self.document.get_line(row)) - len(self.document.get_line(row).lstrip())))

    def take_text(self, text: str) -> None:
        """Put another text in place of all, so that undo brings back what stood there."""
        row, column = self.cursor_location
        self.replace(text, (0, 0), self.document.end, maintain_selection_offset=False)
        row = min(row, self.document.line_count - 1)
        self.move_cursor((row, min(column, len(self.document.get_line(row)))))


def _rows(m: TextMistake, width: int) -> list[str]:
    """Write a mistake below its line: carets, and next to or below them what is wrong."""
    sign = "! " if not m.warning else "· "
    carets = "^" * max(1, min(m.length, width - m.column + 1))
    note = " " * (m.column - 1) + carets + " " + sign + m.what
    if len(note) <= width:
        return [note]
    return [" " * (m.column - 1) + carets, *wrap(sign + m.what, max(20, width - 2), subsequent_indent="  ")]
