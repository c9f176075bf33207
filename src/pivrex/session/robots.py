"""The robot that gets commands: the simulated robot, or the one on a link."""

from __future__ import annotations

from pivrex.board.watched import WatchedBoard
from pivrex.devices.link import RobotLink
from pivrex.devices.robot import SimulatedRobot
from pivrex.errors import RigError, RoutineError
from pivrex.line.layout import Floats
from pivrex.rig.sources import SHOWN
from pivrex.rig.transports import Link
from pivrex.session.board import Board
from pivrex.session.building import Built

__all__ = ["Robots"]

RESTARTS = "the battery sagged too far: the robot's electronics start again, and for a second no one answers"

TOO_LATE = (
    "a robot that balances cannot wait for a laptop: drive comes over a link 20 to 50 ms late, and by then it falls. Its own board drives "
    'it (board.mode = "alone"), and the laptop is a stick there'
)

IN_HAND = "a robot that balances falls while its motors are tried one by one: lift it first"

ALONE_S = 0.1
"""For so long after the command to drive a robot may still say that it rests: the answer is on its way."""


class Robots:
    """Both robots of a session, one of which is commanded.

    Attributes
    ----------
    simulator : StandInRobot
    link : RobotLink or None
        None while the simulated robot is commanded.
    neutral : (V,) float64
        What tells a robot of this rig to rest.
    """

    def __init__(self, board: Board, built: Built, asked: Link | None) -> None:
        self._board, self._line, self._at, self._task = board, built.line, built.at, built.task
        self._asked = asked
        """The link that the command line asks for, whatever the rig says."""
        self.simulator, self._found = SimulatedRobot(built.model), built.found
        self.link: RobotLink | None = None
        self.neutral = built.neutral
        self._complaint = ""
        self._shut_down = False
        board.set(robot=self.simulator.title)

    @property
    def commanded(self) -> RobotLink | SimulatedRobot:
        """The robot that is commanded."""
        return self.link or self.simulator

    @property
    def watched(self) -> WatchedBoard | None:
        """The board that drives by itself, if one is on the link."""
        return self.link if isinstance(self.link, WatchedBoard) else None

    @property
    def drives_a_real_one(self) -> bool:
        """Whether a robot behind a link moves now."""
        return self.link is not None and self.link.drives

    # --- each tick ---

    def poll(self, now_s: float, expected: bool, budget_s: float) -> str:
        """Take what the robot says, as far as there is time. ``expected``: it is live. Returns why that must end, empty if it
        need not.
        """
        link, board = self.link, self._board
        if link is None:
            return RESTARTS if self.simulator.restarts else ""
        link.poll(now_s, budget_s)
        problem = link.problem(now_s)
        if (problem or "heard") != board.status.linked:
            board.set(linked=problem or "heard")
        if link.fault != self._complaint:
            self._complaint = link.fault
            board.note(f"the robot complains: {link.fault}")
        if problem:
            return problem if expected and self.watched is None else ""  # a board that drives by itself continues
        if link.state == 2 and link.drives and link.alone_for(now_s) > ALONE_S:
            return "the robot was left alone for a moment and rests"
        return ""

    def command(self, commands: Floats, drives: bool) -> None:
        """Command the robot for the coming tick; one on a link drives only if ``drives``."""
        if self.link is not None:
            self.link.drives = drives
        self.commanded.command(commands, self._line.dt_s)

    def rest(self) -> None:
        """Command the robot to rest: its first and its last command."""
        self.command(self.neutral, False)

    # --- which one ---

    def use(self, built: Built) -> str:
        """Continue with a changed rig; the simulated robot stays where it is. Returns why a live robot must stop for it."""
        self._line, self.neutral, self._at = built.line, built.neutral, built.at
        self._task = built.task
        self.simulator, self._found = SimulatedRobot(built.model, self.simulator.state), built.found
        where = self._asked or built.line.rig.link
        if self.link is None or self.link.goes_on(built.line, where):
            return ""
        self.change(False)
        self.change(where is not None)
        return "the rig's link is another now"

    def change(self, on_link: bool) -> str:
        """Command the robot behind the rig's link, or the simulated robot. Returns why a live robot must stop for it."""
        where = self._asked or self._line.rig.link
        if on_link and where is None:
            self._board.note("this rig has no link; add a table [link] to it, or start with --link")
            return ""
        if on_link == (self.link is not None):
            return ""
        if self.link is not None:
            self.link.close()
        alone = self._line.rig.board.mode == "alone"
        self.link = None
        if on_link and where is not None:
            try:
                self.link = (
                    WatchedBoard(self._line, where, self._at, self._task) if alone else RobotLink(self._line, where)
                )
            except RigError as problem:
                self._board.note(f"not watched: {problem.mistakes[0]}")
            except RoutineError as problem:
                self._board.note(f"not watched: the board's routine {problem.lines()[0]}")
        self._shut_down = False
        self._board.set(
            robot=self.commanded.title,
            linked="no robot answers" if self.link else "off",
            watching=self.watched is not None,
        )
        return "another robot is commanded"

    def shut_down(self) -> None:
        """Close the link, because a button requested it."""
        if self.link is not None:
            self.link.close()
            self._shut_down = True

    def open_again(self) -> bool:
        """After a shut-down, open the link again; returns whether that was needed."""
        if not self._shut_down:
            return False
        self.link = None
        self.change(True)
        self._board.note("the link is opened again; once the robot answers, press the key again")
        return True

    def shown(self, what: str) -> float:
        """The values that lamps can show; see `pivrex.rig.sources.SHOWN`."""
        status = self._board.status
        heard = self.link is None or status.linked == "heard"
        return float((status.moving.line_drives, heard, bool(status.recording))[SHOWN.index(what)])

    def not_heard(self) -> str:
        """Return why the robot cannot go live; empty if it can."""
        linked = self._board.status.linked
        return linked if self.link is not None and linked != "heard" else ""

    def too_late(self) -> str:
        """Return why this robot is not driven over its link at all; empty if it may be."""
        return TOO_LATE if self.link is not None and self._line.rig.balance is not None else ""

    def not_in_hand(self) -> str:
        """Return why its motors must not be tried one by one now; empty if they may be."""
        balances = self.link is None and self._line.rig.balance is not None
        return IN_HAND if balances and not self._board.status.lifted else ""

    # --- by hand ---

    def put_at(self, pose: Floats, seed: int, attached: tuple[float, ...] | None = None) -> None:
        """Put the simulated robot somewhere, x and y in m, heading in rad; a real robot is put there by hand."""
        if self.link is None:
            self.simulator.put_at(pose, seed, self._found, attached)
            self._board.set(runs=self._board.status.runs + 1, lifted=False, upside_down=False)

    def put_back(self) -> None:
        """Put the simulated robot back at its start."""
        if self.link is not None:
            self._board.note("a real robot is put back by hand")
        self.simulator.put_back()
        self._board.set(runs=self._board.status.runs + 1, lifted=False, upside_down=False)

    def move_by_hand(self, what: str) -> None:
        """Take the simulated robot in hand; see `pivrex.session.messages.MoveSimulated`."""
        if self.link is not None:
            return  # a real robot is handled by hand
        if self.simulator.balances:
            self.simulator.take(what)
        elif what in ("lift", "lower"):
            self.simulator.lift(what == "lift")
        elif what == "turn over":
            self.simulator.turn_over()
        elif what == "point ahead":
            self.simulator.point_ahead()
        state = self.simulator.state
        self._board.set(lifted=bool(state.lifted), upside_down=bool(state.upside_down))

    def push(self, forward_Ns: float, left_Ns: float, turn_Nms: float) -> None:  # noqa: N803 - newton seconds
        """Push the simulated robot; a real robot is pushed by hand."""
        if self.link is not None:
            self._board.note("a real robot is pushed by hand")
        elif not self._line.rig.has_realistic_physics:
            self._board.note("ideal physics have no mass: the robot cannot be pushed; B changes to realistic ones")
        else:
            self.simulator.push(forward_Ns, left_Ns, turn_Nms)

    def close(self) -> None:
        """Close the link; the robot has been commanded to rest."""
        if self.link is not None:
            self.link.close()
