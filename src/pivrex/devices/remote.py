"""Sources of a rig's own: a wire, a reader, who is heard, and what silence means."""

from __future__ import annotations

from collections.abc import Mapping

from pivrex.devices.decode.letters import LettersReader
from pivrex.devices.decode.message import Message, shown
from pivrex.devices.decode.readers import reader_of
from pivrex.devices.health import Tally
from pivrex.devices.source import LETTERS, TAKES_OVER
from pivrex.devices.transports.opening import open_transport
from pivrex.devices.transports.tcp import Tcp
from pivrex.devices.transports.udp import Udp as UdpSocket
from pivrex.rig.actions import read_action, split_time
from pivrex.rig.rig import Rig
from pivrex.rig.sources import GamepadSource, LettersSource, NumbersSource
from pivrex.rig.transports import transport_title

__all__ = ["RemoteSource", "remotes_of"]

OTHER_SILENT_S = 1.0
"""A sender of events that has been quiet for this long gives way to another."""

SETTLE_S = 0.3
"""For so long a connection is listened to before its letters count: one that repeats what is held down is found out."""


class RemoteSource:
    """A remote on a wire.

    One sender is heard at a time: the first to say something good, until it has been lost or quiet. What others say
    meanwhile is counted as foreign.

    Attributes
    ----------
    lost : str
        Why it cannot be read any more; empty while it can. Before the first message it is lost too: nobody has spoken.
    """

    def __init__(self, rig: Rig, name: str) -> None:
        spec = rig.sources[name]
        assert not isinstance(spec, GamepadSource)
        self.name, self.kind, self.spec = name, spec.kind, spec
        self.can = LETTERS if isinstance(spec, LettersSource) else TAKES_OVER
        self.title = f"{name}, {transport_title(spec.wire)}"
        self.wire = open_transport(spec.wire)
        self._reader = reader_of(spec, _groups(rig, spec))
        self.tally = Tally()
        self.lost = "nobody has spoken yet"
        self.heard = False
        """Whether it was ever heard."""
        self._sender = ""
        self._last_s = float("-inf")
        self._since_s = float("-inf")
        self._opened = 0

    def groups_are(self, groups: dict[str, str]) -> None:
        """Take what letters end each other, of a changed rig."""
        if isinstance(self._reader, LettersReader):
            self._reader.groups = groups

    def channels(self) -> frozenset[str]:
        """Give the channels that it has."""
        return frozenset(self.spec.channels())

    def poll(self, now_s: float) -> None:
        """Take what has come, and notice silence. Call it once a tick."""
        chunks = self.wire.poll(now_s)
        if self.wire.opened != self._opened:
            self._opened = self.wire.opened
            self._begin("", now_s)
            if isinstance(self.spec, NumbersSource) and self.spec.hello_bytes:
                self.wire.send(self.spec.hello_bytes)
        if isinstance(self.wire, Tcp) and self._sender not in self.wire.senders and self.wire.senders:
            self._begin(self.wire.senders[0], now_s)
        for data, sender, at_s in chunks:
            if sender != self._sender and self._taken(at_s):
                self.tally.add(
                    Message(shown(data), None, "foreign", f"from {sender}, while {self._sender} is heard"), at_s
                )
                continue
            if sender != self._sender:
                self._begin(sender, at_s)
            # a datagram is whole: what has no end gets one
            whole = data + b"\n" if self.wire.whole_messages and not data.endswith(b"\n") else data
            for message in self._reader.feed(whole, at_s):
                self.tally.add(message, at_s)
                if message.readings is not None:
                    self._last_s, self.heard = at_s, True
        self._look(now_s)

    def _begin(self, sender: str, now_s: float) -> None:
        """Hear a sender from now on."""
        self._reader.forget()
        self._sender, self._since_s, self._last_s = sender, now_s, float("-inf")

    def _taken(self, now_s: float) -> bool:
        """Tell whether the sender that is heard still holds its place."""
        if isinstance(self.wire, Tcp):
            return self._sender in self.wire.senders
        return not self.lost and now_s - self._last_s < (self.spec.silent_s or OTHER_SILENT_S)

    def _look(self, now_s: float) -> None:
        """Say why it is lost, or that it is not."""
        before, silent = self.lost, now_s - self._last_s
        connected = not isinstance(self.wire, UdpSocket)
        if not self.wire.is_open:
            self.lost = self.wire.problem
        elif isinstance(self.wire, Tcp) and self._sender not in self.wire.senders:
            self.lost = "the connection is gone" if self._sender else "nobody has connected yet"
        elif self.spec.NATURE == "event" and connected:
            # one that has just come may be held down already: it is listened to for a moment first
            self.lost = "just connected" if now_s - self._since_s < SETTLE_S else ""
        elif silent == float("inf"):
            # what was lost comes back by speaking, not by an open wire
            self.lost = before if before and self.heard else "nobody has spoken yet"
        elif self.spec.silent_s is not None and silent > self.spec.silent_s and self.spec.idle == "lost":
            self.lost = f"silent for {self.spec.silent_s * 1e3:.0f} ms"
        else:
            self.lost = ""
        if self.lost and not before:
            self._reader.forget()
            self._last_s = float("-inf")

    def read(self, now_s: float) -> Mapping[str, float]:
        """Give the readings of this instant; none while it is lost, or silent where silence means neutral."""
        if self.lost:
            return {}
        spec = self.spec
        if spec.silent_s is not None and spec.idle == "neutral" and now_s - self._last_s > spec.silent_s:
            return {}
        return self._reader.current(now_s)

    def close(self) -> None:
        """Let the wire go."""
        self.wire.close()


def _groups(rig: Rig, spec: object) -> dict[str, str]:
    if not isinstance(spec, LettersSource):
        return {}
    levels = [v.name for v in rig.speed_levels.levels]
    return {c: read_action(split_time(text)[0], rig.attachments, levels).group for c, text in spec.letters.items()}


def remotes_of(rig: Rig, before: Mapping[str, RemoteSource]) -> dict[str, RemoteSource]:
    """Open every source of a rig that has a wire; those ``before`` that are described alike go on."""
    found = {}
    for name, spec in rig.sources.items():
        if isinstance(spec, GamepadSource):
            continue
        old = before.get(name)
        same = old is not None and old.spec.model_copy(update={"axes": {}}) == spec.model_copy(update={"axes": {}})
        if old is not None and same:
            old.groups_are(_groups(rig, spec))
            found[name] = old
        else:
            if old is not None:
                old.close()  # its port must be free first
            found[name] = RemoteSource(rig, name)
    return found
