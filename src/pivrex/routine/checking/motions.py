"""Steps that drive: what this chassis can do, and what a motion must contain."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from pivrex.path import Path
from pivrex.path.plan import plan_of, troubles
from pivrex.routine.checking.scope import Scope
from pivrex.routine.checking.steps import StepChecks
from pivrex.routine.kinds import ANGLE, COUNTS, LENGTH, NUMBER, SPEED, TIME, TURN_RATE, TURNS, Kind
from pivrex.routine.mistakes import nearest
from pivrex.routine.nodes import Expression, Node, Quantity, Span
from pivrex.routine.program import FollowStep, Instruction, MotionStep
from pivrex.routine.reading import Line

__all__ = ["MotionChecks"]


NO_ROBOT = "drives, but {name} is a bench: it has no [chassis]; its attachments can move"


class MotionChecks(StepChecks):
    """Checks and compiles them."""

    def _motion(
        self,
        node: Node,
        scope: Scope,
        shape: str,
        spins: bool,
        amount: Expression | None,
        places: bool = False,
        **parts: Any,
    ) -> list[Instruction]:
        """Make a motion; ``places`` says that it ends by itself, at a place or a heading."""
        o = node.options
        kind = NUMBER
        if self._rig.is_bench:
            self._wrong(NO_ROBOT.format(name=self._rig.name))
            return []
        if amount is not None:
            kind = self._amount(node, scope, shape, spins, amount)
        elif o.until is None and o.most is None and not places:
            self._wrong("says no end: how far, how long, or until what", warning=False)
        if o.until is not None:
            self._condition(o.until, scope)
        speed_kind = NUMBER
        if o.at is not None and shape != "wheels":
            speed_kind = self._must_be(o.at, scope, (TURN_RATE, NUMBER) if spins else (SPEED, NUMBER), "how fast")
            self._speed(o.at, speed_kind, spins)
        elif o.at is not None:
            self._wrong("has its shares already; leave out what stands behind at", o.at.span)
        if o.gyro and not self._words.has_gyro:
            self._wrong(f"{self._rig.name} has no gyro with a correction")
        ways = (LENGTH, TIME) if not spins else (TIME,) if kind == LENGTH else (ANGLE, TIME)
        limit = self._limit(node, scope, ways, "at most")
        return [MotionStep(self._where(), shape, amount=amount, kind=kind, speed=o.at, speed_kind=speed_kind, gyro=o.gyro,
                           until=o.until, limit=limit, **parts)]  # fmt: skip

    def _amount(self, node: Node, scope: Scope, shape: str, spins: bool, amount: Expression) -> Kind:
        """Check how far or how long a motion goes; a turn, or wheels, for a length end by how far the wheels roll."""
        wanted: tuple[Kind, ...] = (ANGLE, TIME, COUNTS, TURNS) if spins else (LENGTH, TIME, COUNTS, TURNS)
        wanted = (*wanted, LENGTH) if shape == "turn" else wanted
        kind = self._must_be(amount, scope, wanted, "how far" if not spins else "how far it turns")
        by_wheels = kind == LENGTH if spins else shape == "wheels" and kind != TIME
        if by_wheels and self._rig.steered:
            self._wrong(
                "ends by how far wheels roll, but the wheels of this rig are steered; say an angle", amount.span
            )
        if by_wheels and node.options.gyro:
            self._wrong("ends by how far the wheels roll; the gyro corrects nothing of it")
        if (kind in (COUNTS, TURNS) or by_wheels) and not self._words.metres_per_count:
            self._wrong("needs encoders that count, but a motor of this rig says no counts_per_turn", amount.span)
        if isinstance(amount, Quantity) and amount.value <= 0:
            self._wrong("must be more than 0; the way it goes is said in words", amount.span)
        return kind

    def _sideways(self, what: str) -> None:
        if not self._words.can_left:
            self._wrong(f"{what}, but {self._rig.name}'s wheels cannot go sideways; turn first, then drive ahead")

    def _do_drive(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        way = node["way"]
        forward, left = {"ahead": (1, 0), "back": (-1, 0), "left": (0, 1), "right": (0, -1)}[way]
        if left:
            self._sideways(f"drives {way}")
        return self._motion(node, scope, "straight", False, node["amount"], values={}, forward=forward, left=left)

    def _do_drive_along(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._must_be(node["direction"], scope, ANGLE, "the direction")
        self._by_field("drives in a direction of the field")
        return self._motion(node, scope, "along", False, node["amount"], values={"direction": node["direction"]})

    def _by_field(self, what: str) -> None:
        self._sideways(what)
        if self._words.can_left and not self._words.by_field:
            self._wrong(f"{what}; that needs law planar, but this rig has law {self._rig.law.kind}")

    def _do_drive_to(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        values = self._place(node, scope)
        facing = values.get("facing")
        if self._words.by_field:
            return self._motion(node, scope, "to", False, None, True, values=values)
        # turns to it, drives there, turns as it should look; the options are the drive's
        place = {"x": values["x"], "y": values["y"]}
        where, gyro = self._where(), node.options.gyro
        first = MotionStep(where, "toward", place, gyro=gyro)
        made: list[Instruction] = [first, *self._motion(node, scope, "to", False, None, True, values=place)]
        if facing is not None:
            made.append(MotionStep(where, "turn to", {"angle": facing}, gyro=gyro))
        return made

    def _do_follow(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name, span = node["name"]
        path = self._path(name, span)
        if path is None:
            return []
        return self._follow(node, scope, path, (), bool(node["here"]))

    def _do_follow_through(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        places = tuple((place.x, place.y) for place in node["places"])
        for x, y in places:
            self._must_be(x, scope, LENGTH, "x")
            self._must_be(y, scope, LENGTH, "y")
        return self._follow(node, scope, None, places, False)

    def _follow(
        self, node: Node, scope: Scope, path: Path | None, places: tuple[tuple[Expression, Expression], ...], here: bool
    ) -> list[Instruction]:
        if node.options.gyro is not None:
            self._wrong("a path is followed by the estimated pose; leave out the gyro")
        made = self._motion(node, scope, "follow", False, None, True, values={})
        if not made:
            return made
        (step,) = made
        assert isinstance(step, MotionStep)
        plain = {n: getattr(step, n) for n in ("speed", "speed_kind", "until", "limit")}
        return [FollowStep(step.where, "follow", {}, **plain, path=path, places=places, here=here)]

    def _path(self, name: str, span: Span) -> Path | None:
        """Take a path by its name, and hold it to the rig."""
        paths = self._paths
        if self._rig.is_bench:
            self._wrong(NO_ROBOT.format(name=self._rig.name), span)
            return None
        if paths is None:
            self._wrong(
                "paths are known by name only in a workspace; say the places: follow 1.2 m, 0.5 m then 2 m, 1 m", span
            )
            return None
        path, why = paths(name)
        if path is None:
            self._wrong(why, span)
            return None
        for hard, what in troubles(plan_of(path, self._rig), self._rig, None, self._floor):
            self._wrong(f'the path "{name}" {what}', span, warning=not hard)
        return path

    def _do_turn(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        return self._motion(
            node, scope, "turn", True, node["amount"], values={}, spin=1 if node["side"] == "left" else -1
        )

    def _do_turn_to(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._must_be(node["angle"], scope, ANGLE, "where it looks")
        return self._motion(node, scope, "turn to", True, None, True, values={"angle": node["angle"]})

    def _do_turn_toward(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        return self._motion(node, scope, "toward", True, None, True, values=self._place(node, scope))

    def _do_pivot(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        stands = 1 if node["about"] == "left" else -1
        spin = 1 if node["side"] == "left" else -1
        forward = stands * spin
        backward = bool(node["back"])
        if backward != (forward < 0):
            right = "back " if forward < 0 else ""
            self._wrong(f'turning {node["side"]} about the {node["about"]} side goes {"back" if forward < 0 else "ahead"}: '
                        f'write "pivot {right}{node["side"]} ..." or the other side')  # fmt: skip
        return self._motion(node, scope, "pivot", True, node["amount"], values={}, spin=spin, left=stands)

    def _do_bend(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._must_be(node["radius"], scope, LENGTH, "the radius")
        radius = node["radius"]
        if isinstance(radius, Quantity) and radius.value <= 0:
            self._wrong("must be more than 0", radius.span)
        back = bool(node["back"])
        side = 1 if node["side"] == "left" else -1
        # an arc to the left ahead turns left; the same arc backwards turns right
        spin = -side if back else side
        o = node.options
        plain = replace(node, options=replace(o, at=None))
        made = self._motion(
            plain, scope, "bend", True, node["amount"], values={"radius": radius}, spin=spin, forward=-1 if back else 1
        )
        if o.at is not None:
            kind = self._must_be(o.at, scope, (SPEED, NUMBER), "how fast")
            self._speed(o.at, kind, False)
            step = made[0]
            assert isinstance(step, MotionStep)
            made = [replace(step, speed=o.at, speed_kind=kind)]
        return made

    def _do_wheels(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        shares = []
        taken: set[int] = set()
        for which, quoted, value, span in node["shares"] or ():
            if quoted or which not in ("left", "right"):
                wheels: tuple[int, ...] = (self._words.wheels.index(which),) if which in self._words.wheels else ()
                if not wheels:
                    names = ", ".join(f'"{w}"' for w in self._words.wheels)
                    self._wrong(
                        f'no wheel is called "{which}"{nearest(which, self._words.wheels)}; there are {names}', span
                    )
            else:
                wheels = self._words.wheels_of(which)
            if taken & set(wheels):
                self._wrong("says a wheel twice", span)
            taken |= set(wheels)
            self._must_be(value, scope, NUMBER, "the share")
            if isinstance(value, Quantity) and abs(value.value) > 1:
                self._wrong("is more than full; a share is written as 40 %", value.span)
            shares.append((wheels, value))
        amount = node["amount"]
        made = self._motion(node, scope, "wheels", False, amount, values={}, shares=tuple(shares))
        stands = all(isinstance(share, Quantity) and share.value == 0 for _, share in shares)
        if amount is not None and stands and any(isinstance(m, MotionStep) and m.kind != TIME for m in made):
            self._wrong("no wheel turns, so none comes so far; say a time, or give one of them a share", amount.span)
        return made
