"""Motion of a rigid body in the plane, exactly over one tick."""

from __future__ import annotations

from math import cos, sin

__all__ = ["move"]

Pose = tuple[float, float, float]


def move(pose: Pose, forward: float, left: float, turn: float) -> Pose:
    """Move a pose by a body-frame displacement: pose · exp(displacement) on SE(2).

    Parameters
    ----------
    pose : tuple
        x and y in m, heading in rad (unwrapped).
    forward, left, turn : float
        Twist times time, in m, m and rad.

    Returns
    -------
    tuple
        The pose after it.

    Notes
    -----
    With θ the turn, the body moves by (V·d) where V = [[sin θ/θ, -(1 - cos θ)/θ], [(1 - cos θ)/θ, sin θ/θ]].
    (Lynch & Park, Modern Robotics, ch. 3; exact for a constant twist.) Below 1e-6 rad the ratios are 1 and θ/2.
    """
    x, y, heading = pose
    a, b = (1.0, turn / 2) if abs(turn) < 1e-6 else (sin(turn) / turn, (1 - cos(turn)) / turn)
    ahead, aside = a * forward - b * left, b * forward + a * left
    c, s = cos(heading), sin(heading)
    return x + c * ahead - s * aside, y + s * ahead + c * aside, heading + turn
