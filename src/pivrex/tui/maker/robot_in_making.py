"""Making a robot: the steps, the choices in each, and the present selection."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from pivrex.errors import PivrexError, RigError, UnitError
from pivrex.files import resolved
from pivrex.rig import Folder, Rig, read_text
from pivrex.rig.field import Workspace
from pivrex.rig.making import begin, check_name, copied, file_of, foreign
from pivrex.rig.new_robot import (
    BENCH,
    EXTRAS,
    LINES,
    OUTPUTS,
    ROBOT_LINE,
    SOURCES,
    WHEELS,
    NewRobot,
    laws_of,
    read_names,
    read_sizes,
)
from pivrex.rig.new_robot_text import written

__all__ = ["Making", "Option"]

OWN = "chosen here"


class Option(NamedTuple):
    """Something that may be chosen: what it is called, what it means, and whether it is among what was chosen."""

    name: str
    what: str
    is_in: bool


class Making:
    """One robot in the making.

    Attributes
    ----------
    robot : NewRobot
    copy : str
        The robot that is copied, by the name of its file; empty for one that is chosen.
    step : str
        "name", "begin", "wheels", "law", "output", "extras", "sources", "port", "robot port" or "write".
    at : int
        The selected option of the step.
    problem : str
        Why the robot cannot be made so; empty if it can.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.robot = NewRobot()
        self.copy = ""
        self.step = "name"
        self.at = 0
        self.typed = ""
        self.problem = ""
        self._law_was_chosen = False
        self.agreed = False
        """Whether the person wants to write into a folder that holds other things."""
        self._fresh = True
        """Whether the next sign takes the place of what stands there."""
        self._made: tuple[tuple[NewRobot, str], Rig | None, str] | None = None

    # --- what there is ---

    def steps(self) -> list[str]:
        """Return the steps that there are now."""
        if self.copy:
            return ["name", "begin", "write"]
        found = [
            "name",
            "begin",
            "wheels",
            *(["sizes"] if self.robot.wheels != BENCH else []),
            "law",
            "output",
            "extras",
        ]
        found += [*(["names"] if self.robot.carried else []), "sources"]
        if any(s in self.robot.sources for s in LINES):
            found.append("port")
        if ROBOT_LINE in self.robot.extras:
            found.append("robot port")
        return [*found, "write"]

    @property
    def types(self) -> bool:
        """Whether something is typed in this step."""
        return self.step in ("name", "sizes", "names", "port", "robot port")

    @property
    def several(self) -> bool:
        """Whether more than one may be chosen in this step."""
        return self.step in ("extras", "sources")

    def options(self) -> list[Option]:
        """Return what may be chosen in this step."""
        w = self.robot
        if self.step == "begin":
            others = Folder(self.folder, Workspace()).rigs()
            own = Option(OWN, "wheels, law, outputs and sources, one after the other", not self.copy)
            return [own, *(Option(p.stem, "a copy of this robot", self.copy == p.stem) for p in others)]
        tables: dict[str, tuple[dict[str, str], tuple[str, ...]]] = {
            "wheels": (WHEELS, (w.wheels,)), "law": (laws_of(w.wheels), (w.law,)), "output": (OUTPUTS, (w.output,)),
            "extras": (EXTRAS, w.extras), "sources": (SOURCES, w.sources),
        }  # fmt: skip
        table, chosen = tables.get(self.step, ({}, ()))
        return [Option(name, what, name in chosen) for name, what in table.items()]

    def answer(self, step: str) -> str:
        """Return what was chosen in a step."""
        w = self.robot
        return {
            "name": w.name,
            "begin": f"a copy of {self.copy}" if self.copy else OWN,
            "wheels": w.wheels,
            "sizes": ", ".join(f"{mm:g} mm" for mm in w.all_sizes),
            "names": ", ".join(w.called(extra) for extra in w.carried),
            "law": w.law,
            "output": w.output,
            "extras": ", ".join(w.extras) or "nothing",
            "sources": ", ".join(w.sources) or "keys and gamepads only",
            "port": w.port,
            "robot port": w.robot_port,
            "write": self.path_shown(),
        }[step]

    @property
    def made_wrong(self) -> str:
        """Why no rig comes of it; empty while one does."""
        return self._made[2] if self._made is not None else ""

    def path_shown(self) -> str:
        """Return the whole path of the file that will be written."""
        return str(resolved(self.folder) / "rigs" / f"{self.robot.name.lower().replace(' ', '-')}.toml")

    # --- choosing ---

    def look_at(self, at: int) -> None:
        """Select an option; where only one may be chosen it is that one."""
        options = self.options()
        if not options:
            return
        self.at = at % len(options)
        if self.several:
            return
        name, w = options[self.at].name, self.robot
        match self.step:
            case "begin":
                self.copy = "" if self.at == 0 else name
            case "wheels":
                law = w.law if w.law in laws_of(name) and self._law_was_chosen else next(iter(laws_of(name)))
                self.robot = replace(w, wheels=name, law=law, sizes=())
            case "law":
                self.robot, self._law_was_chosen = replace(w, law=name), True
            case "output":
                self.robot = replace(w, output=name)

    def mark(self) -> None:
        """Take the selected option in or out, where several may be chosen."""
        if not self.several:
            return
        field = self.step
        name = self.options()[self.at].name
        had: tuple[str, ...] = getattr(self.robot, field)
        known = EXTRAS if field == "extras" else SOURCES
        now = [n for n in known if (n in had) != (n == name)]
        for one, other in (("robot on USB", "robot by radio"), ("stick on a serial line", "letters on a serial line")):
            if name in (one, other) and name in now:  # they would be at the same place
                now = [n for n in now if n == name or n not in (one, other)]
        chosen = tuple(now)
        self.robot = (
            replace(self.robot, extras=chosen, names=()) if field == "extras" else replace(self.robot, sources=chosen)
        )

    def go(self, steps: int) -> bool:
        """Go on or back; returns whether that could be done."""
        if steps > 0 and not self._take_typed():
            return False
        order = self.steps()
        self.step = order[max(0, min(len(order) - 1, order.index(self.step) + steps))]
        self._enter()
        return True

    def go_to(self, step: str) -> None:
        """Go to a step."""
        if step in self.steps() and (not self.types or self._take_typed()):
            self.step = step
            self._enter()

    def _enter(self) -> None:
        self.at = next((i for i, o in enumerate(self.options()) if o.is_in), 0)
        self.typed = self.answer(self.step) if self.types else ""
        self.problem = ""
        self._fresh = True

    def type(self, char: str) -> None:
        """Type a sign; the first one takes the place of what stood there."""
        before = "" if self._fresh else self.typed
        self.typed, self._fresh, self.problem = (before + char)[:120], False, ""

    def rub_out(self) -> None:
        """Remove the last sign."""
        self.typed, self._fresh, self.problem = self.typed[:-1], False, ""

    def _take_typed(self) -> bool:
        if not self.types:
            return True
        try:
            if self.step == "name":
                name = check_name(self.typed or self.robot.name)
                file_of(name, self.folder / "rigs")
                self.robot = replace(self.robot, name=name)
            elif self.step == "sizes":
                typed = self.typed.strip()
                usual = not typed or typed == self.answer("sizes")
                self.robot = self.robot if usual else replace(self.robot, sizes=read_sizes(typed))
            elif self.step == "names":
                self.robot = replace(self.robot, names=read_names(self.typed or self.answer("names"), self.robot))
            else:
                typed, w = self.typed.strip(), self.robot
                self.robot = (
                    replace(w, port=typed or w.port)
                    if self.step == "port"
                    else replace(w, robot_port=typed or w.robot_port)
                )
        except UnitError as problem:
            self.problem = f"the name {problem}" if self.step == "name" else str(problem)
            return False
        except RigError as problem:
            self.problem = f"{problem.path.name} {problem.mistakes[0].what}"
            return False
        return True

    # --- the result ---

    def text(self) -> str:
        """Return the rig as it would be written."""
        if self.copy:
            return copied(self.folder / "rigs" / f"{self.copy}.toml", self.robot.name)
        return written(self.robot)

    def rig(self) -> Rig | None:
        """Return the rig that comes of it; None, and `problem`, if it has mistakes."""
        key = (self.robot, self.copy)
        if self._made is None or self._made[0] != key:
            try:
                self._made = (key, read_text(self.text(), self.folder / self.path_shown(), Rig), "")
            except PivrexError as problem:
                self._made = (key, None, str(problem).splitlines()[0])
        return self._made[1]

    def write(self) -> Path | None:
        """Write it; returns its file, None and `problem` if it cannot be, or if the folder holds other things and no one has agreed."""
        if not self.agreed and (question := foreign(self.folder)):
            self.agreed, self.problem = True, f"{question}: Enter again writes into it"
            return None
        copy = self.folder / "rigs" / f"{self.copy}.toml" if self.copy else None
        try:
            return begin(self.folder, self.robot, copy)
        except (PivrexError, OSError) as problem:
            self.problem = str(problem).splitlines()[0]
            return None
