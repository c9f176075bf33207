"""Orders to the match clock from another computer: a wire on which each order counts once."""

from __future__ import annotations

from pivrex.devices.decode.lines import Lines
from pivrex.devices.decode.order import RANGE, read_number
from pivrex.devices.pace import Pace
from pivrex.devices.seal import Seal
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.transports.opening import open_transport
from pivrex.rig.transports import SerialTransport, TcpTransport, UdpTransport, transport_title

__all__ = ["KIND", "ORDERS", "MatchWire", "order_of"]

KIND = "PIVMAT"

ORDERS = ("ready", "match", "alone", "driven", "leave", "stop")
"""What may be ordered: everything ready at the start, the whole match, one period of it, none of it, and rest."""

MAX_SENDERS = 16


def order_of(order: str, number: int, sign: object = None) -> bytes:
    """Write an order as it goes over the wire: ``$PIVMAT,SEQ,ORDER*hh``; ``sign`` seals its body."""
    body = f"{KIND},{number if sign else number % RANGE},{order}"
    return frame(sign(body) if callable(sign) else body)


class MatchWire:
    """The wire of a match clock.

    Attributes
    ----------
    heard : int
        Orders that counted.
    damaged : int
        Sentences that were none, or no orders.
    complaint : str
        What was wrong with the last of those.
    """

    def __init__(self, spec: SerialTransport | UdpTransport | TcpTransport) -> None:
        self._wire = open_transport(spec)
        self._title = transport_title(spec)
        self._seal: Seal | None = None
        self._lines: dict[str, Lines] = {}
        self._newest: dict[str, int] = {}
        self._pace = Pace()
        self.heard = self.damaged = 0
        self.complaint = ""

    @property
    def says(self) -> str:
        """Where orders may come from, or why none can."""
        return f"{self._title}: {self._wire.problem}" if self._wire.problem else self._title

    def use(self, seal: Seal | None) -> None:
        """Take only what is sealed with a rig's key; None for a rig that has none."""
        self._seal = seal

    def poll(self, now_s: float, budget_s: float) -> list[str]:
        """Return the orders that have come, each once. When more comes than there is time to read, the newest count."""
        found: list[str] = []
        chunks = self._wire.poll(now_s, budget_s / 2)
        pace, left = self._pace, self._pace.most(budget_s / 2)
        if len(chunks) > left:
            self._refuse(f"{len(chunks) - left} messages at once were left out")
        chunks = chunks[-left:]
        pace.begin()
        count = 0
        for chunk in chunks:
            data = chunk.data if not self._wire.whole_messages or chunk.data.endswith(b"\n") else chunk.data + b"\n"
            lines = self._lines_of(chunk.sender)
            if lines.count(data) > left:
                self._refuse(f"{lines.count(data) - left} lines at once were left out")
                data = lines.newest(data, left)
            for line, too_long in lines.feed(data):
                count += 1
                order = "" if too_long else self._read(line, chunk.sender)
                if order:
                    self.heard += 1
                    found.append(order)
        pace.end(count)
        return found

    def _lines_of(self, sender: str) -> Lines:
        if sender not in self._lines:
            if len(self._lines) >= MAX_SENDERS:
                self._forget(next(iter(self._lines)))
            self._lines[sender] = Lines()
        return self._lines[sender]

    def _refuse(self, complaint: str) -> None:
        self.damaged += 1
        self.complaint = complaint

    def _forget(self, sender: str) -> None:
        self._lines.pop(sender, None)
        self._newest.pop(sender, None)

    def _read(self, line: bytes, sender: str) -> str:
        """Return the order of a sentence; empty for one that does not count."""
        try:
            body, session = unframe(line), 0
            if self._seal is not None:
                body, session = self._seal.open(body)
            kind, number, order = _words(body)
            seq = read_number(number, self._seal)
            if kind != KIND or order not in ORDERS:
                raise ValueError(f'"{order[:12]}" is no order; there are {", ".join(ORDERS)}')
        except ValueError as problem:
            self._refuse(str(problem))
            return ""
        repeated = self._seal is not None and (session, seq) == self._seal.newest
        if self._is_new(seq, session, sender):
            return order
        # who can seal may stop, whichever session it is; only what moves something must be new
        return order if order == "stop" and self._seal is not None and not repeated else ""

    def _is_new(self, number: int, session: int, sender: str) -> bool:
        if self._seal is not None:
            new = (session, number) > self._seal.newest
            if new:
                self._seal.newest = (session, number)
            return new
        newest = self._newest.get(sender)
        new = newest is None or 0 < (number - newest) % RANGE < RANGE // 2
        if new:
            self._newest[sender] = number
        return new

    def close(self) -> None:
        """Let the wire go."""
        self._wire.close()


def _words(body: str) -> tuple[str, str, str]:
    kind, _, rest = body.partition(",")
    number, comma, order = rest.partition(",")
    if not comma or "," in order:
        raise ValueError(f"an order is {KIND},SEQ,ORDER")
    return kind, number, order
