"""The geometry of the wheels: the rows of the wheel matrix, its inverse, and the motions that are impossible."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import atan2, cos, degrees, hypot, sin
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["Contact", "Geometry", "geometry_of", "impossible_motion", "wheel_matrix"]

Floats = NDArray[np.float64]

RANK = 1e-9
"""Motions weaker than this compared with the strongest are none: rounding, not geometry."""


class Contact(NamedTuple):
    """Where a wheel touches the ground, in m and rad as `pivrex.rig.chassis.Wheel` has it."""

    x_m: float
    y_m: float
    drive_rad: float
    rollers_rad: float | None
    steered: bool


@dataclass(frozen=True, eq=False)
class Geometry:
    """The linear maps of a chassis with W wheels, N rows and P plain wheels that are not steered.

    A wheel that is not steered has one row, its surface speed; a steered one has two, the velocity of its hub
    forward and left. A twist is (forward m/s, left m/s, turn rad/s).

    Attributes
    ----------
    rows : (N, 3) float64
        Components from the twist.
    of_wheel : (N,) int
        The wheel of each row.
    forward : (3, N) float64
        The twist from the components: the best fit, and in what it leaves open the least side slip.
    slip, slip_upside_down : (P, 3) float64
        How fast each plain wheel slides sideways, to its left, from the twist; and on its back.
    of_plain : (P,) int
        The wheel of each row of ``slip``.
    clean, clean_upside_down : (3, 3) float64
        A twist without what would drag tyres: where plain and steered wheels could do any motion, but all plain ones that
        are not steered roll along one direction, as on a car, moving across it is left out, and the robot moves sideways only
        as its turning needs. Else the identity.
    loose : (3, L) float64
        Motions that no wheel drives or holds.
    weakest : float
        The weakest motion that wheels drive, as a share of the strongest; turning is measured at the reach.
    weakest_motion : (3,) float64
        That motion.
    reach_m : float
        How far the farthest wheel is from the centre.
    rows_upside_down, forward_upside_down : like ``rows`` and ``forward``
        For the robot lying on its back, with the twist as the driver sees it: forward towards its nose, left as
        seen from above.
    """

    rows: Floats
    of_wheel: NDArray[np.intp]
    forward: Floats
    slip: Floats
    slip_upside_down: Floats
    of_plain: NDArray[np.intp]
    clean: Floats
    clean_upside_down: Floats
    loose: Floats
    weakest: float
    weakest_motion: Floats
    reach_m: float
    rows_upside_down: Floats
    forward_upside_down: Floats

    def followed(self, twist: Floats) -> Floats:
        """Return what the chassis makes of a twist, B + (3,), without dragging a tyre: forward after inverse, F·(H·twist)."""
        return np.einsum("kj,...j->...k", self.follow, twist)

    @property
    def follow(self) -> Floats:
        """The map behind `followed`, (3, 3)."""
        return self.forward @ self.rows @ self.clean

    @property
    def drags(self) -> bool:
        """Whether something would drive the robot across the direction in which its plain wheels roll."""
        return not np.array_equal(self.clean, np.eye(3))

    def can(self, motion: Floats) -> bool:
        """Return whether the chassis can follow a twist, to a millionth."""
        wanted = np.asarray(motion, float)
        return bool(
            np.allclose(self.followed(wanted), wanted, rtol=0, atol=1e-6 * max(1.0, float(np.abs(wanted).max())))
        )

    @property
    def moves_in_plane(self) -> bool:
        """Whether it can do every motion: forward, left and turning, each by itself."""
        return self.can(np.array([0.0, 1.0, 0.0])) and self.can(np.array([1.0, 0.0, 0.0]))


def wheel_matrix(places: Floats, drive: Floats, roller_axis: Floats | None = None) -> Floats:
    """Return H with wheel surface speeds s = H·twist.

    Parameters
    ----------
    places : (W, 2) float64
        Where each wheel touches the ground, x forward and y left, in m.
    drive : (W, 2) float64
        Unit vectors along which each wheel rolls.
    roller_axis : (W, 2) float64, optional
        Unit vectors of the rollers' axes where they touch the ground; ``drive`` for plain wheels.

    Returns
    -------
    (W, 3) float64

    Notes
    -----
    On a body with twist (vx, vy, ω) the hub moves with u = (vx - ω·y, vy + ω·x), and the surface speed is
    s = (u·a)/(d·a). (Lynch & Park, Modern Robotics, ch. 13; Muir & Neuman 1987.)
    """
    axis = drive if roller_axis is None else roller_axis
    x, y = places[:, 0], places[:, 1]
    along = (drive * axis).sum(axis=1)
    return np.stack([axis[:, 0], axis[:, 1], axis[:, 1] * x - axis[:, 0] * y], axis=1) / along[:, None]


@lru_cache(maxsize=64)
def geometry_of(contacts: tuple[Contact, ...]) -> Geometry:
    """Derive the maps from where the wheels touch the ground.

    Notes
    -----
    Forward: first the twist that fits the rows best (least squares, t0 = H⁺s); in what those rows leave open, the null
    space N of H, the twist with the least side slip of the plain wheels: with S the matrix of side speeds,
    t = t0 - N·(S·N)⁺·S·t0. Both steps are linear, so they make one matrix (Campion et al. 1996). A steered wheel that
    stands at angle θ and rolls at s gives the two components (s·cos θ, s·sin θ): its drive and its side row together,
    turned into the robot's directions, so that one constant matrix serves all steering angles.

    On its back the robot's left is its right seen from above and a wheel driven forward rolls backward; the rollers
    that touch the ground then are those on the other side of the wheel, whose axes are mirrored in its drive
    direction. With M = diag(1, -1, -1): s = -H'·M·t, where H' has the mirrored rollers. (Own derivation: the contact
    velocity of the same wheel turned half round the body's x axis.)
    """
    rows, of_wheel, slip, of_plain = _rows(contacts, 1.0)
    upside_down, _, _, _ = _rows(contacts, -1.0)
    reach = max((hypot(c.x_m, c.y_m) for c in contacts), default=0.0)
    scale = np.array([1.0, 1.0, 1.0 / reach if reach > 0 else 1.0])
    forward, loose, sizes, motions = _invert(rows, slip, scale)
    turned = np.array([1.0, -1.0, -1.0])
    forward_upside_down, *_ = _invert(upside_down, slip, scale)
    # wheels that leave something undriven cannot be made to drag anything by asking for it; among wheels with rollers a
    # a plain wheel is dragged sideways, and the scrub shows it
    drives_all = np.allclose(forward @ rows, np.eye(3), rtol=0, atol=1e-9)
    like_a_car = drives_all and all(c.rollers_rad is None for c in contacts)
    clean = _without_dragging(slip) if like_a_car else np.eye(3)
    return Geometry(
        rows=rows,
        of_wheel=of_wheel,
        forward=forward,
        slip=slip,
        slip_upside_down=slip * turned + 0.0,
        of_plain=of_plain,
        clean=clean,
        clean_upside_down=clean * np.outer(turned, turned) + 0.0,
        loose=loose,
        weakest=float(sizes.min() / sizes.max()) if sizes.size else 0.0,
        weakest_motion=motions[int(np.argmin(sizes))] if sizes.size else np.array([0.0, 0.0, 1.0]),
        reach_m=reach,
        rows_upside_down=-upside_down * turned + 0.0,
        forward_upside_down=-forward_upside_down * turned[:, None] + 0.0,
    )


def _rows(contacts: tuple[Contact, ...], side: float) -> tuple[Floats, NDArray[np.intp], Floats, NDArray[np.intp]]:
    """Return rows, their wheels, side rows and theirs; ``side`` is -1 for rollers on the upper side of the wheel."""
    rows: list[Floats] = []
    of_wheel: list[int] = []
    slip: list[Floats] = []
    of_plain: list[int] = []
    for i, contact in enumerate(contacts):
        place = np.array([[contact.x_m, contact.y_m]])
        if contact.steered:
            rows += [wheel_matrix(place, np.array([[1.0, 0.0]]))[0], wheel_matrix(place, np.array([[0.0, 1.0]]))[0]]
            of_wheel += [i, i]
            continue
        drive = _unit(contact.drive_rad)
        axis = drive if contact.rollers_rad is None else _unit(contact.drive_rad + side * contact.rollers_rad)
        rows.append(wheel_matrix(place, drive, axis)[0])
        of_wheel.append(i)
        if contact.rollers_rad is None:
            slip.append(wheel_matrix(place, np.stack([-drive[:, 1], drive[:, 0]], axis=1))[0])
            of_plain.append(i)
    needs, slides = np.array(rows).reshape(-1, 3), np.array(slip).reshape(-1, 3)
    needs[np.abs(needs) < 1e-15] = 0.0
    slides[np.abs(slides) < 1e-15] = 0.0
    return needs, np.array(of_wheel, np.intp), slides, np.array(of_plain, np.intp)


def _without_dragging(slip: Floats) -> Floats:
    """Return the map of a twist to what of it drags no plain wheel; see `Geometry`.

    Notes
    -----
    With p the unit vector across the wheels and d along them, moving keeps its part along d; across, it is the v that makes
    the side slips S·(v·p, ω) least: v = -(a·b)/(a·a)·ω with a = S·p and b the last column of S. (Own derivation.)
    """
    if not slip.size:
        return np.eye(3)
    _, sizes, directions = np.linalg.svd(slip[:, :2])
    if (sizes > RANK).sum() != 1:
        return np.eye(3)  # they roll in several directions, and drag whatever the robot does
    across, along = directions
    a, b = slip[:, :2] @ across, slip[:, 2]
    clean = np.eye(3)
    clean[:2, :2] = np.outer(along, along)
    clean[:2, 2] = across * -(a @ b) / (a @ a)
    clean[np.abs(clean) < 1e-12] = 0.0
    return clean


def _unit(angle_rad: float) -> Floats:
    return np.array([[cos(angle_rad), sin(angle_rad)]])


def _invert(rows: Floats, slip: Floats, scale: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Return the forward matrix, the loose motions, and the sizes and directions of the motions that wheels drive."""
    if not rows.size:
        return np.zeros((3, 0)), np.eye(3), np.zeros(0), np.zeros((0, 3))
    even, even_slip = rows * scale, slip * scale
    _, sizes, directions = np.linalg.svd(even)
    rank = int((sizes > RANK * sizes.max()).sum())
    fit = np.asarray(np.linalg.pinv(even, rcond=RANK), np.float64)
    null = directions[rank:].T
    loose = null
    if null.size and slip.size:
        held = even_slip @ null
        fit = fit - null @ np.linalg.pinv(held, rcond=RANK) @ even_slip @ fit
        _, held_sizes, held_directions = np.linalg.svd(held)
        held_rank = int((held_sizes > RANK * max(1.0, float(held_sizes.max()))).sum())
        loose = null @ held_directions[held_rank:].T
    forward = fit * scale[:, None]
    # rounding of the decompositions would show as a robot that creeps sideways by 1e-17 m
    forward[np.abs(forward) < 1e-12] = 0.0
    return forward, loose * scale[:, None], sizes[:rank], directions[:rank] * scale


def impossible_motion(twist: Floats) -> str:
    """Name a motion in words."""
    forward, left, turn = (float(v) for v in twist)
    most = max(abs(forward), abs(left), abs(turn))
    if abs(turn) > 1e-6 * most:
        x, y = -left / turn, forward / turn
        if hypot(x, y) < 1e-6:
            return "turning"
        return f"turning about the point x {x * 1000:+.0f} mm, y {y * 1000:+.0f} mm"
    if abs(left) < 1e-6 * most:
        return "moving forward"
    if abs(forward) < 1e-6 * most:
        return "moving sideways"
    return f"moving at {degrees(atan2(left, forward)):+.0f} deg from straight ahead"
