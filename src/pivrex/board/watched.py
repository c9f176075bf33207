"""The link to a board that drives by itself: this computer watches, may stop it, and may be its stick."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence

from pivrex.board.steps import Task
from pivrex.board.watching import BY_BUTTON, BY_LAPTOP, BY_ROUTINE, STOPPED, WHY, BoardTick, Rebuilder
from pivrex.devices.decode.message import Message
from pivrex.devices.decode.sentences import SentenceError, opened
from pivrex.devices.health import Said
from pivrex.devices.link import RobotLink
from pivrex.devices.sentence import frame
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig.transports import Link

__all__ = ["ONLY_LISTENS", "WatchedBoard"]

AGAIN_S = 0.1
"""What a board has not done yet is said again after so long."""

MIN_S = 0.005
"""How much time at least goes into the ticks of a board each time, else this computer would fall behind."""

STICK_S = 0.019
"""The sticks here are said at most so often."""

BEGINS_S = 1.5
"""A routine that has not begun after so long does not."""

NUMBERS = 1 << 32

UNSEALED = (b"$PIVTIC,", b"$PIVALL,")
"""A board has no time to seal what it tells of its ticks; it moves nothing here."""


ONLY_LISTENS = (
    "the radio has the board's one serial line, so this computer only listens: stop it with its stick or its switch"
)


class WatchedBoard(RobotLink):
    """A board that drives by itself, behind a link. ``at`` is where it stands at the beginning, (3,), ``task`` the routine that it has.

    Attributes
    ----------
    channels : tuple of str
        What a stick of this board reads, in the order of the message.
    only_listens : bool
        Whether its radio has the one serial line, so that nothing can be said to it.
    notes : deque of str
        What is to be said once.
    """

    def __init__(self, line: Line, link: Link, at: Floats | None = None, task: Task | None = None) -> None:
        super().__init__(line, link)
        self._line = line
        self._rebuilder = Rebuilder(line, at, task)
        self.hash = self._rebuilder.hash
        self.channels = self._rebuilder.alone.channels
        self.only_listens = self._rebuilder.alone.wiring.shares_port
        self.title = (
            f"board, alone,{'' if self._rebuilder.alone.each else ' ticks not shown,'} {self.title.partition(', ')[2]}"
        )
        if self.only_listens:
            self._seal = None  # its greeting is for whoever listens
        self.notes: deque[str] = deque(filter(None, [self._rebuilder.alone.watched]), maxlen=20)
        self._made: deque[BoardTick] = deque(maxlen=1200)
        self._why = -1
        self._newest = 0
        self._asks = ""
        self._asked_s = self._first_asked_s = float("-inf")
        self._differs = 0
        self._obeys = False
        self._seq = int(time.time() * 100) % NUMBERS  # above those of a session before
        self._stick_s = float("-inf")
        self._stopped_for = ""

    # --- telemetry ---

    def poll(self, now_s: float, budget_s: float = 0.0) -> None:
        """Take all that has come: a tick that is left out is missing to those after it."""
        for chunk in self.wire.poll(now_s):
            data = chunk.data + b"\n" if self.wire.whole_messages and not chunk.data.endswith(b"\n") else chunk.data
            for line, too_long in self._lines.feed(data):
                message = self._read(line, too_long, chunk.at_s)
                if message is not None:
                    self.tally.add(message, chunk.at_s)
        self._take(self._rebuilder.make(max(budget_s, MIN_S)))

    def _look_at_session(self, body: str, session: int, at_s: float) -> None:
        if body.startswith("PIVHEY,"):
            self._session = (
                session  # a board may be switched on again while it is heard; nothing on this side moves because of it
            )

    def _read(self, line: bytes, too_long: bool, at_s: float) -> Message | None:
        if not line.startswith(UNSEALED):
            return super()._read(line, too_long, at_s)
        try:
            body, _ = opened(line, too_long, None, "PIV")
            return self._understand(line, body.split(","), at_s)
        except SentenceError as problem:
            return Message(line, None, problem.fault, str(problem))
        except ValueError as problem:
            return Message(line, None, "damaged", str(problem))

    def _understand(self, line: bytes, words: list[str], at_s: float) -> Message:
        if words[0] == "PIVHEY" and len(words) >= 3:
            self._obeys = words[3:4] != ["alone"]
            self.greeted = words[2][:16]
        elif words[0] == "PIVTIC":
            telemetry = self._rebuilder.alone.each > 0 and self.greeted == self.hash
            if len(words) != 5 and (telemetry or len(words) != 3):
                raise ValueError("a tick without its fields")
            if telemetry:
                self._rebuilder.take_tick(words)
            self._newest, self._why, self._heard_s = int(words[1]), int(words[2]), at_s
        elif words[0] == "PIVALL":
            if self.greeted == self.hash:
                self._rebuilder.take_state(words)
        else:
            return super()._understand(line, words, at_s)
        return Message(line, {})

    def _take(self, ticks: list[BoardTick]) -> None:
        for tick in ticks:
            self._made.append(tick)
            if tick.routine:
                self.notes.append(tick.routine)
            if tick.same:
                self._differs = 0
                continue
            self._differs += 1
            if self._differs == 1:
                at_s = tick.number * self._line.dt_s
                self.notes.append(
                    f"at {at_s:.2f} s the board's result differs from what this computer makes of the same readings"
                )

    def take(self) -> list[Floats]:
        """Return the Ticks that it has made since this was asked last."""
        rows = [tick.row for tick in self._made]
        self._made.clear()
        return rows

    def problem(self, now_s: float) -> str:
        """Return why it cannot be watched now; empty if it can."""
        silent, longest = now_s - self._heard_s, self._link.quiet_after_s
        bad = self.tally.newest_fault
        said = {
            self.wire.problem: not self.wire.is_open,
            'the robot\'s program obeys a laptop, but the rig says mode = "alone"; write it again with pivrex board': self._obeys,
            f"the board has an older rig ({self.greeted}, here {self.hash}): write its program again": self._is_other,
            f"the board is silent for {longest * 1e3:.0f} ms": silent > longest and self._heard_s > 0,
            f"what the board says is damaged: {bad}" if bad else "no board is heard": silent > longest,
            "the board has not greeted yet": not self.greeted,
            "the board's results differ from this computer's": self._differs > 0,
        }
        return next((words for words, counts in said.items() if counts), "")

    @property
    def _is_other(self) -> bool:
        """Whether the board's program is that of another line."""
        return bool(self.greeted) and self.greeted != self.hash

    @property
    def is_stopped(self) -> bool:
        """Whether it was stopped, from here or by a button."""
        return self._why in (STOPPED, BY_BUTTON)

    def why(self, now_s: float) -> str:
        """Return why it rests, or why that is not known; empty while it drives."""
        stopped_for = (
            f"this computer stopped it ({self._stopped_for}); g lets it move again"
            if self._why == STOPPED and self._stopped_for
            else ""
        )
        return (
            self.problem(now_s)
            or stopped_for
            or WHY.get(self._why, "nothing has come from it yet").format(source=self._line.rig.board.source)
        )

    @property
    def missed(self) -> int:
        """How many of its ticks never came."""
        return self._rebuilder.missed

    @property
    def obeys(self) -> bool:
        """Whether the sticks here drive it."""
        return self._why == BY_LAPTOP

    # --- requests ---

    def ask(self, what: str, reason: str = "") -> str:
        """Ask it to "stop" for a reason, to "go" on, or to "run" its routine. Return why that cannot be; empty if it can."""
        if self.only_listens:
            return ONLY_LISTENS
        if what == "run" and self._rebuilder.alone.routine is None:
            return "the board has no routine: name one in the rig's [board] routine, and write its program again"
        if what == "run" and self.is_stopped:
            return "the board is stopped: g lets it move again"
        self.drives &= what == "go"
        self._stopped_for = reason if what == "stop" else ""
        self._asks, self._asked_s, self._first_asked_s = what, float("-inf"), time.perf_counter()
        return ""

    def command(self, telemetry: Floats, dt_s: float) -> None:
        """Report what it is asked, again and again until it has done so; ask for its state while that is not known."""
        drives_routine = self._why == BY_ROUTINE
        if (self._asks, self.is_stopped) in (("stop", True), ("go", False)) or (self._asks, drives_routine) == (
            "run",
            True,
        ):
            self._asks = ""
        asks = self._asks or ("" if self._rebuilder.synced or not self._rebuilder.alone.each else "all")
        now = time.perf_counter()
        if asks == "run" and now - self._first_asked_s > BEGINS_S:
            self._asks = asks = ""
            self.notes.append("the board does not begin its routine: its gyro or an encoder says nothing yet")
        if not asks or self.only_listens or now - self._asked_s < AGAIN_S:
            return
        self._asked_s = now
        self._say(asks, now)

    def simulator(self, readings: Sequence[float]) -> None:
        """Tell it what its stick reads here, as if that were its own: ``readings`` of `channels`, in [-1, 1]. It forgets them after 0.25 s.

        While something is asked of it that goes first.
        """
        now = time.perf_counter()
        if self._asks or now - self._stick_s < STICK_S:
            return
        self._stick_s = now
        self._say(",".join(["stick", *(str(round(1000 * min(1.0, max(-1.0, v)))) for v in readings)]), now)

    def _say(self, asks: str, now_s: float) -> None:
        self._seq = (self._seq + 1) % NUMBERS
        # a board with an older rig is stopped too: it knows its own hash only
        body = f"PIVBID,{self._seq},{self._newest},{self.greeted or self.hash},{asks}"
        sign = self._sign
        if self.wire.send(frame(sign(body) if sign is not None else body), asks == "stop"):
            self.sent = Said(now_s, body, out=True)

    def goes_on(self, line: Line, link: Link | None) -> bool:
        return False  # another line has another memory

    def close(self) -> None:
        """Close the link; the board drives on."""
        self.wire.close()
