"""Jobs: work that takes too long for a frame, done in background processes."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.jobs.job import Job, Progress

__all__ = ["Job", "Progress"]
__getattr__ = showing(__name__, job="Job Progress")
