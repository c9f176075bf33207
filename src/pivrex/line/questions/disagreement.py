"""A sentence about a difference between wheels and gyro: which of them counts wrongly."""

from __future__ import annotations

from math import degrees, radians
from typing import NamedTuple

__all__ = ["Disagreement", "disagreement"]

STILL_RAD = radians(2)
TURNED_RAD, SHARE = radians(180), 0.08
ODD = 0.5
"""From this share on it is no matter of scale."""


class Disagreement(NamedTuple):
    """The sentence, and whether something is surely wrong: tyres that slide sideways in a turn are no fault."""

    said: str
    wrong: bool


def disagreement(still_rad: float, turning_rad: float, turned_rad: float) -> Disagreement | None:
    """Return what wheels and gyro disagree about; None while they agree.

    Parameters
    ----------
    still_rad : float
        By how much the wheels say more turn than the gyro while they stood.
    turning_rad : float
        By how much more they say, in the direction in which they turned it.
    turned_rad : float
        How far they turned it, either way.
    """
    if abs(still_rad) > STILL_RAD:
        return Disagreement(
            f"the gyro turned {abs(degrees(still_rad)):.0f} deg while the wheels stood: it drifts; zero it", True
        )
    share = turning_rad / turned_rad if turned_rad > 0 else 0.0
    if turned_rad > radians(20) and share > ODD:
        return Disagreement("the wheels turned and the gyro did not: one side counts wrongly, or slides", True)
    if turned_rad > TURNED_RAD and abs(share) > SHARE:
        more = "more" if share > 0 else "less"
        said = (
            f"the wheels say {abs(share) * 100:.0f} % {more} turn than the gyro: tyres are dragged, or the track is off"
        )
        return Disagreement(said, False)
    return None
