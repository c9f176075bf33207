"""Simulates the effect of settings: this takes seconds, and no frame may wait for it."""

from __future__ import annotations

from collections.abc import Mapping

from pivrex.rig import Rig
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tuning.setting_trials import Compared, compare_cosine, compare_lead, compare_straight

__all__ = ["Worth", "compare"]

Compares = Mapping[str, Compared | None]

STANDS = 15
"""Frames for which a rig must have stood as it is: while one is dragged there is no use in comparing."""


def compare(rig: Rig, _report: Progress | None = None) -> dict[str, Compared | None]:
    """Compare each of a rig's settings that straighten its way, on and off."""
    return {"straight": compare_straight(rig), "lead": compare_lead(rig), "cosine": compare_cosine(rig)}


class Worth:
    """Comparisons of the rig in use.

    Attributes
    ----------
    of_rig : mapping
        What is known of the rig in use; empty until it has been compared.
    """

    def __init__(self) -> None:
        self._serial = -1
        self._stood = 0
        self._job: Job[Rig, Compares] = Job("pivrex-compare", compare, patient=False)
        self.of_rig: Compares = {}

    def update(self, rig: Rig, serial: int) -> None:
        """Once a frame: ask for what is not known yet, and take what is."""
        if serial != self._serial:
            self._job.stop()
            self._serial, self._stood, self.of_rig = serial, 0, {}
        if rig.law.kind != "planar":
            return
        self._stood += 1
        if self._stood == STANDS:
            self._job.ask(rig)
        for _, found in self._job.poll():
            self.of_rig = found

    def close(self) -> None:
        """Cancel the running work."""
        self._job.stop()
