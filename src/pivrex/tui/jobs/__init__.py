"""Jobs: what takes too long for a frame, done in processes in the background."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.jobs.job import Job, Progress

__all__ = ["Job", "Progress"]
__getattr__ = showing(__name__, job="Job Progress")
