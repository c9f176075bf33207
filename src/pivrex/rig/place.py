"""The line of each key in a TOML text. A TOML parser has already read the text, so it is well-formed."""

from __future__ import annotations

import re

__all__ = ["find_places"]

_TOKEN = re.compile(
    r'"""(?:\\.|[^\\])*?"""'
    r"|'''.*?'''"
    r'|"(?:\\.|[^"\\\n])*"'
    r"|'[^'\n]*'"
    r"|\#[^\n]*"
    r"|\n|[\[\]{},=]"
    r"|[^\s\[\]{},=#\"']+"
    r"|[^\S\n]+",
    re.DOTALL,
)

Place = tuple[str | int, ...]


def find_places(text: str) -> dict[Place, int]:
    r"""Return the line, from 1, of every table and key of ``text``, keyed by its path; entries of arrays by index.

    Examples
    --------
    >>> find_places('[a]\\nb = 1')[("a", "b")]
    2
    """
    return _Scan(text).places


class _Scan:
    def __init__(self, text: str) -> None:
        self.places: dict[Place, int] = {(): 1}
        self._tokens: list[tuple[str, int]] = []
        line = 1
        for match in _TOKEN.finditer(text):
            token = match[0]
            if not token.startswith("#") and (token == "\n" or not token.isspace()):
                self._tokens.append((token, line))
            line += token.count("\n")
        self._at = 0
        self._counts: dict[Place, int] = {}
        self._run()

    def _run(self) -> None:
        table: Place = ()
        while (token := self._peek()) is not None:
            if token == "\n":
                self._at += 1
            elif token == "[":
                table = self._header()
            else:
                self._pair(table)

    def _peek(self, ahead: int = 0) -> str | None:
        at = self._at + ahead
        return self._tokens[at][0] if at < len(self._tokens) else None

    def _take(self) -> tuple[str, int]:
        self._at += 1
        return self._tokens[self._at - 1]

    def _header(self) -> Place:
        line = self._take()[1]
        array = self._peek() == "["
        if array:
            self._take()
        names = []
        while self._peek() not in ("]", None):
            names.append(self._take()[0])
        while self._peek() == "]":
            self._take()
        place = self._resolve(_keys(names))
        if array:
            index = self._counts.get(place, 0)
            self._counts[place] = index + 1
            self.places.setdefault(place, line)
            place = (*place, index)
        self.places[place] = line
        return place

    def _resolve(self, keys: list[str]) -> Place:
        """Follow a header's path; what is an array of tables on the way means its newest entry."""
        place: Place = ()
        for i, key in enumerate(keys):
            place = (*place, key)
            if i < len(keys) - 1 and place in self._counts:
                place = (*place, self._counts[place] - 1)
        return place

    def _pair(self, table: Place) -> None:
        names, line = [], self._tokens[self._at][1]
        while self._peek() not in ("=", "\n", None):
            names.append(self._take()[0])
        place: Place = (*table, *_keys(names))
        for depth in range(len(table) + 1, len(place) + 1):
            self.places.setdefault(place[:depth], line)
        if self._peek() == "=":
            self._take()
            self._value(place)

    def _value(self, place: Place) -> None:
        token = self._peek()
        if token == "[":
            self._take()
            index = 0
            while (inner := self._peek()) not in ("]", None):
                if inner in (",", "\n"):
                    self._take()
                    continue
                self.places[*place, index] = self._tokens[self._at][1]
                self._value((*place, index))
                index += 1
            self._take()
        elif token == "{":
            self._take()
            while (inner := self._peek()) not in ("}", None):
                if inner in (",", "\n"):
                    self._take()
                else:
                    self._pair(place)
            self._take()
        else:
            # a bare value may be several tokens ("1979-05-27 07:32"); it ends where the pair or entry ends
            while self._peek() not in (",", "]", "}", "\n", None):
                self._take()


def _keys(tokens: list[str]) -> list[str]:
    """Join the tokens of a possibly dotted, possibly quoted key and split them at the dots outside quotes."""
    keys = []
    for part in re.findall(r'"(?:\\.|[^"\\])*"|\'[^\']*\'|[^.\s"\']+', " ".join(tokens)):
        keys.append(part[1:-1] if part[0] in "\"'" else part)
    return keys
