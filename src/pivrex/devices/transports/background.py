"""Runs a slow action in a thread of its own."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

__all__ = ["Background"]


class Background:
    """A slow action in a thread of its own: `done` says whether it has ended, `result` returns its value or raises its error."""

    def __init__(self, work: Callable[[], Any]) -> None:
        self._work, self._result, self._problem = work, None, None
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            self._result = self._work()
        except Exception as problem:
            self._problem = problem  # type: ignore[assignment]

    @property
    def done(self) -> bool:
        return not self._thread.is_alive()

    def result(self) -> Any:
        if self._problem is not None:
            raise OSError(str(self._problem)) from self._problem
        return self._result
