"""The sources of a rig: a wire, a reader, the sender that is heard, and the meaning of silence."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping

from pivrex.devices.decode.letters import ANSWER, FramedLettersReader, LettersReader
from pivrex.devices.decode.message import Message, Reader
from pivrex.devices.decode.readers import reader_of
from pivrex.devices.decode.sentences import SentenceReader
from pivrex.devices.health import Tally
from pivrex.devices.pace import Pace
from pivrex.devices.seal_book import SealBook
from pivrex.devices.source import LETTERS, TAKES_OVER
from pivrex.devices.transports.base import BUDGET_S, Chunk
from pivrex.devices.transports.opening import open_transport
from pivrex.devices.transports.tcp import Tcp
from pivrex.rig.patches import letter_groups, stop_channels
from pivrex.rig.rig import Rig
from pivrex.rig.sources import FramesSource, GamepadSource, LettersSource, NumbersSource, PacketsSource, PinsSource
from pivrex.rig.transports import transport_title

__all__ = ["RemoteSource", "remotes_of"]

OTHER_SILENT_S = 1.0
"""A sender that is never lost by its silence gives way to another after so long."""

SETTLE_S = 0.3
"""For so long a connection is listened to before its letters count: one that repeats what is held down is found out."""

SETTLING = "just connected"

VETTED_S = 0.05
"""Letters of a new connection wait for so long: what says something else meanwhile is another program, whose first letter may be bound."""

IDLE_S = 10.0
"""A connection that is not heard and has sent nothing that counts for so long is closed."""

MAX_CANDIDATES = 16

MAX_ANSWERS = 16
"""How many answers wait for a slow line; then the oldest is left out."""


class RemoteSource:
    """A remote on a wire.

    One sender is heard at a time. The place is taken by saying something good, and only while it is free: before anyone has
    spoken, and after the one that was heard has been declared lost. Who takes it is listened to from rest only. What others
    say meanwhile is counted as foreign; what is no good message takes no place.

    Attributes
    ----------
    lost : str
        Why it cannot be read any more; empty while it can. Before the first message it is lost too: nothing was heard.
    """

    def __init__(self, rig: Rig, name: str, book: SealBook) -> None:
        spec = rig.sources[name]
        assert not isinstance(spec, GamepadSource | PinsSource)
        self.name, self.kind, self.spec = name, spec.kind, spec
        self.can = LETTERS if isinstance(spec, LettersSource) else TAKES_OVER
        self.title = f"{name}, {transport_title(spec.wire)}"
        self.wire = open_transport(spec.wire)
        self._groups, self._stops = letter_groups(rig, spec), stop_channels(rig, name)
        self._said_stop = False
        self.secret = rig.secret
        self._seal = book.seal(rig.secret, name) if rig.secret else None
        self.tally = Tally()
        self.lost = "nothing was heard yet"
        self.heard = False
        """Whether it was ever heard."""
        self.said = 0
        """Bytes that came at the last poll."""
        self._pace = Pace()
        self._reader = self._new_reader()
        self._candidates: dict[str, tuple[float, Reader]] = {}
        self._waiting: dict[str, list[Chunk]] = {}
        """What connections have said that are not vetted yet, see `VETTED_S`."""
        self._vetted: set[str] = set()
        self._sender = ""
        self._spoke = False
        """Whether the one in the place has said something good since it took it."""
        self._changed = False
        self._last_s = float("-inf")
        self._since_s = float("-inf")
        self._opened = 0
        self.held = ""
        """Why nothing moves now, whatever it says; the session says so."""
        self._answers: deque[tuple[bytes, str]] = deque(maxlen=MAX_ANSWERS)
        """What is still to be said back, each with whom to."""

    def _new_reader(self) -> Reader:
        reader = reader_of(self.spec, self._groups, self._seal)
        if isinstance(reader, SentenceReader):
            reader.stops = self._stops
        return reader

    def use(self, rig: Rig) -> None:
        """Take the groups of letters and the stop letters of a changed rig."""
        self._groups, self._stops = letter_groups(rig, self.spec), stop_channels(rig, self.name)
        if isinstance(self._reader, LettersReader | FramedLettersReader):
            self._reader.groups_are(self._groups)
        if isinstance(self._reader, SentenceReader):
            self._reader.stops = self._stops

    def says_stop(self) -> bool:
        """Return whether a sealed stop has come since this was asked last that counts for nothing else: an old session's, or one
        that was there before. Only motion must be new.
        """
        said, self._said_stop = self._said_stop, False
        return said

    @property
    def sealed(self) -> bool:
        """Whether what it says counts only with the rig's key."""
        return bool(self.secret) and (isinstance(self.spec, PacketsSource) or getattr(self.spec, "framed", False))

    def channels(self) -> frozenset[str]:
        """Return the channels that it has."""
        return frozenset(self.spec.channels())

    def poll(self, now_s: float, budget_s: float = BUDGET_S) -> None:
        """Take what has come, as far as there is time, and notice silence. Call it once a tick."""
        chunks = self.wire.poll(now_s, budget_s / 2)
        self.said = sum(len(c.data) for c in chunks)
        if self.wire.opened != self._opened:
            self._opened = self.wire.opened
            self._begin("", now_s)
            if isinstance(self.spec, NumbersSource) and self.spec.hello_bytes:
                self.wire.send(self.spec.hello_bytes)
        self._look_at_connections(now_s)
        if isinstance(self.wire, Tcp) and isinstance(self._reader, LettersReader):
            chunks = self._only_letters(self._reader, chunks, now_s)
        if chunks:
            self._take(chunks, budget_s / 2)
        self._look(now_s)
        waits = self.wire.senders is None and not self.wire.whole_messages  # a line that is still busy is free soon
        while self._answers and (self.wire.answer(*self._answers[0]) or not waits):
            self._answers.popleft()

    # --- what has come ---

    def _only_letters(self, reader: LettersReader, chunks: list[Chunk], now_s: float) -> list[Chunk]:
        """Close connections that send anything but letters of the rig, and return the letters of the others once they are checked."""
        found: list[Chunk] = []
        for chunk in chunks:
            strange = reader.strange(chunk.data)
            if strange:
                self.wire.drop(chunk.sender)
                self._waiting.pop(chunk.sender, None)
                found = [c for c in found if c.sender != chunk.sender]
                if chunk.sender == self._sender:
                    self._reader.forget()
                refused = reader.refused(chunk.data, strange)
                self.tally.add(
                    refused._replace(reason="connection closed: it sent what is no letter of this rig"), chunk.at_s
                )
            elif chunk.sender in self._vetted:
                found.append(chunk)
            else:
                self._waiting.setdefault(chunk.sender, []).append(chunk)
        senders = self.wire.senders or ()
        self._vetted &= set(senders)
        for sender, said in list(self._waiting.items()):
            if sender not in senders:
                del self._waiting[sender]
            elif now_s - said[0].at_s >= VETTED_S:
                found += [c._replace(at_s=now_s) for c in self._waiting.pop(sender)]
                self._vetted.add(sender)
        return found

    def _take(self, chunks: list[Chunk], budget_s: float) -> None:
        """Read the newest of what has come; the rest is counted only. No sender can crowd out another."""
        if self.wire.whole_messages and not isinstance(self.spec, FramesSource):
            # a datagram is whole: add a missing line end
            chunks = [c if c.data.endswith(b"\n") else c._replace(data=c.data + b"\n") for c in chunks]
        by_sender: dict[str, list[Chunk]] = {}
        for chunk in chunks:
            by_sender.setdefault(chunk.sender, []).append(chunk)
        if not self._free:
            for sender in [s for s in by_sender if not self._is_heard(s)]:
                self._refuse(by_sender.pop(sender))
        if not by_sender:
            return
        pace = self._pace
        share = max(1, pace.most(budget_s) // len(by_sender))
        pace.begin()
        count = 0
        for sender, said in by_sender.items():
            for chunk in self._newest(sender, said, share):
                count += self._listen(chunk)
            if pace.over(budget_s):
                break
        pace.end(count)

    def _newest(self, sender: str, chunks: list[Chunk], most: int) -> list[Chunk]:
        """Return the newest of what a sender has said, ``most`` messages; the others are counted and dropped."""
        reader, left, kept = self._reader, most, 0
        for chunk in reversed(chunks):
            if left <= 0:
                break
            kept += 1
            left -= max(1, reader.count(chunk.data))
        dropped = sum(max(1, reader.count(c.data)) for c in chunks[: len(chunks) - kept])
        chunks = chunks[len(chunks) - kept :]
        heard = self._is_heard(sender)
        if left < 0:  # of the oldest of these only the end
            first = chunks[0]
            whole = reader.count(first.data)
            of = reader if heard else self._new_reader()
            data = of.newest(first.data, max(1, whole + left))
            dropped += whole - reader.count(data)
            chunks[0] = first._replace(data=data)
        if dropped > 0:
            if heard:
                reader.left_out(dropped)
            example = Message(chunks[0].data[:240], None, "too much", f"{dropped} were left out; the newest count")
            self.tally.add_unread("too much", dropped, chunks[-1].at_s, example)
        return chunks

    def _is_heard(self, sender: str) -> bool:
        return sender == self._sender and (self._spoke or self.wire.senders is not None or not self.wire.whole_messages)

    def _listen(self, chunk: Chunk) -> int:
        """Read what someone says who is heard or may take the place; returns how many messages that was."""
        if self._is_heard(chunk.sender):
            return self._hear(chunk)
        if self._free:
            return self._try(chunk)
        self._refuse([chunk])  # another sender has just taken the place
        return 0

    def _hear(self, chunk: Chunk) -> int:
        """Read what the one says that is heard; returns how many messages that was."""
        count = 0
        self._tell_why(self._reader)
        for message in self._reader.feed(chunk.data, chunk.at_s):
            count += 1
            self._said_stop |= message.stops
            self.tally.add(message, chunk.at_s)
            self._answer(message, chunk.sender)
            if message.readings is not None:
                self._last_s, self.heard, self._spoke = chunk.at_s, True, True
        return count

    def _refuse(self, chunks: list[Chunk]) -> None:
        """Count what another says while one is heard."""
        last = chunks[-1]
        count = sum(max(1, self._reader.count(c.data)) for c in chunks)
        said = Message(last.data[:240], None, "foreign", f"from {last.sender}, while {self._sender} is heard")
        self.tally.add_unread("foreign", count, last.at_s, said)

    def _try(self, chunk: Chunk) -> int:
        """Listen to one that may take the place, which is free; only a good message takes it."""
        since_s, reader = self._candidates.get(chunk.sender) or (chunk.at_s, self._new_reader())
        count, good = 0, False
        self._tell_why(reader)
        for message in reader.feed(chunk.data, chunk.at_s):
            count += 1
            self._said_stop |= message.stops
            good |= message.readings is not None
            self.tally.add(message, chunk.at_s)
            self._answer(message, chunk.sender)
        if good:
            self._candidates.pop(chunk.sender, None)
            self._begin(chunk.sender, chunk.at_s, reader)
            self._last_s, self.heard, self._spoke = chunk.at_s, True, True
        elif self.wire.senders is not None:  # of a stream the rest is still to come
            while len(self._candidates) >= MAX_CANDIDATES:
                del self._candidates[next(iter(self._candidates))]
            self._candidates[chunk.sender] = since_s, reader
        return count

    def _tell_why(self, reader: Reader) -> None:
        """Tell a reader of letters why they do nothing now."""
        if isinstance(reader, LettersReader | FramedLettersReader):
            settles = self.lost == SETTLING
            reader.but(f"{SETTLING}: it does not count yet" if settles else self.held, settles)

    def _answer(self, message: Message, sender: str) -> None:
        """Reply with the effect of a letter, if the rig wants that; an echo gets no reply."""
        if isinstance(self.spec, LettersSource) and self.spec.echo and message.data != ANSWER:
            said = f"{ANSWER.decode()} {message.text} {message.does or message.reason}\r\n"
            self._answers.append((said.encode("utf-8"), sender))

    # --- who is heard ---

    @property
    def _free(self) -> bool:
        """Whether the place can be taken."""
        return not self._spoke or self._quiet

    def _begin(self, sender: str, now_s: float, reader: Reader | None = None) -> None:
        """Hear a sender from now on. One that follows another is not listened to before it has been at rest."""
        self._changed |= bool(self._sender) and sender != self._sender
        self._reader = reader or self._new_reader()
        self._sender, self._since_s, self._last_s, self._spoke = sender, now_s, float("-inf"), False
        self._quiet = False
        if isinstance(self.wire, Tcp):
            self.wire.holder = sender

    def _look_at_connections(self, now_s: float) -> None:
        """The first connection has the place until another sends something; silent ones are closed."""
        senders = self.wire.senders
        if senders is None:
            return
        for name in [n for n in self._candidates if n not in senders]:
            del self._candidates[name]
        if self._sender not in senders and senders:
            self._begin(senders[0], now_s)
        for name in senders:
            if name != self._sender:
                since_s, _ = self._candidates.setdefault(name, (now_s, self._new_reader()))
                if now_s - since_s > IDLE_S:
                    self.wire.drop(name)
                    del self._candidates[name]

    def _look(self, now_s: float) -> None:
        """Report why it is lost, or that it is not."""
        spec, before = self.spec, self.lost
        silent = now_s - self._last_s
        silent_s, senders = spec.silent_s, self.wire.senders
        event = spec.NATURE == "event" and not self.wire.whole_messages
        if event:
            silent = now_s - max(self._last_s, self._since_s)  # a connection is someone, also before the first letter
        self._quiet = silent > max(silent_s or 0.0, OTHER_SILENT_S)
        if not self.wire.is_open:
            self.lost = self.wire.problem
        elif senders is not None and self._sender not in senders:
            self.lost = "the connection is gone" if self._sender else "no one has connected yet"
        elif self._changed:
            self.lost = "another sender is heard now"
        elif event and now_s - self._since_s < SETTLE_S:
            # one that has just come may be held down already: it is listened to for a moment first
            self.lost = SETTLING
        elif silent == float("inf"):
            # a lost source returns when it sends, not when its wire opens
            self.lost = before if before and self.heard else "nothing was heard yet"
        elif silent_s is not None and silent > silent_s and spec.idle == "lost":
            self.lost = f"silent for {silent_s * 1e3:.0f} ms"
        else:
            self.lost = ""
        if self.lost and not self._changed and self.lost != SETTLING:
            self._spoke = False  # declared lost: the place is free
        self._changed = False
        if self.lost and not before:
            self._reader.forget()
            self._last_s = float("-inf")

    def read(self, now_s: float) -> Mapping[str, float]:
        """Return the readings of this instant; none while it is lost, or silent where silence means neutral."""
        if self.lost:
            return {}
        spec = self.spec
        if spec.silent_s is not None and spec.idle == "neutral" and now_s - self._last_s > spec.silent_s:
            return {}
        return self._reader.current(now_s)

    def end_letters(self) -> None:
        """End what letters have begun: the robot was stopped."""
        if isinstance(self._reader, LettersReader | FramedLettersReader):
            self._reader.end()

    def close(self) -> None:
        """Let the wire go."""
        self.wire.close()


def remotes_of(rig: Rig, before: Mapping[str, RemoteSource], book: SealBook) -> dict[str, RemoteSource]:
    """Open every source of a rig that has a wire, except the one that its board reads; sources in ``before`` with the same description
    continue. The ``book`` keeps the newest sealed numbers.
    """
    found = {}
    for name, spec in rig.sources.items():
        if isinstance(spec, GamepadSource | PinsSource):
            continue
        if rig.board.mode == "alone" and name == rig.board.source:
            continue  # the board reads it
        old = before.get(name)
        same = old is not None and old.spec.model_copy(update={"axes": {}}) == spec.model_copy(update={"axes": {}})
        if old is not None and same and old.secret == rig.secret:
            old.use(rig)
            found[name] = old
        else:
            if old is not None:
                old.close()  # its port must be free first
            found[name] = RemoteSource(rig, name, book)
    return found
