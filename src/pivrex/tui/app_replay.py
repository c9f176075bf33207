"""Keys of a replay: play, pause, single ticks, and jumps to events."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from pivrex.tui.canvas import Canvas
from pivrex.tui.commands import Command, Commands
from pivrex.tui.draw.replay_line import ReplayLine, draw_replay_line
from pivrex.tui.model import ScreenModel

if TYPE_CHECKING:
    from textual.app import App

    from pivrex.runs.replay import Replay

    _Base = App[int]
else:
    _Base = object

__all__ = ["REPLAY_COMMANDS", "ReplayActs"]

REPLAY_COMMANDS = (
    Command("replay_play", "play", "The run plays, or pauses; at its end it begins again.", ("space",), "Space", foot=1),
    Command("replay_back", "a tick back", "Goes a tick back, and pauses.", ("left",)),
    Command("replay_on", "tick", "Goes on by a tick, and pauses.", ("right",), "← →", foot=2),
    Command("replay_far_back", "a second back", "Goes a second back.", ("shift+left",)),
    Command("replay_far_on", "second", "Goes on by a second.", ("shift+right",), "shift ← →", foot=3),
    Command("replay_before", "what was before", "Jumps to the previous stop, bump, limit or step.", ("comma",)),
    Command("replay_next", "what happened", "Jumps to the next stop, bump, limit, mark, period or step of a routine.",
            ("full_stop",), ", .", foot=2),
    Command("replay_slower", "slower", "Plays more slowly.", ("left_square_bracket",)),
    Command("replay_faster", "speed", "Plays faster.", ("right_square_bracket",), "[ ]", foot=3),
    Command("replay_begin", "beginning", "Goes to the first tick.", ("home",)),
    Command("replay_end", "end", "Goes to the last tick.", ("end",)),
    Command("replay_leave", "leave the run", "Goes back to the robot that is driven now.", ("L", "shift+l", "upper_l"), foot=1),
)  # fmt: skip
"""They go before all others with the same keys while a run is open."""


WAYS: dict[str, Callable[[Replay], None]] = {
    "replay_play": lambda replay: replay.play(not replay.playing),
    "replay_back": lambda replay: replay.step(-1),
    "replay_on": lambda replay: replay.step(1),
    "replay_far_back": lambda replay: replay.step(-round(1 / replay.run.dt_s)),
    "replay_far_on": lambda replay: replay.step(round(1 / replay.run.dt_s)),
    "replay_slower": lambda replay: replay.faster(-1),
    "replay_faster": lambda replay: replay.faster(1),
    "replay_begin": lambda replay: replay.jump(replay.run.first),
    "replay_end": lambda replay: replay.jump(replay.last),
}
"""What each does with the run."""

NEXT_TO = frozenset(
    ("stop", "next_wheel", "ladder", "previous_setting", "next_setting", "rigs", "export", "messages", "copy", "theme", "help", "palette",
     "quit", "sums", "zoom", "follow", "still",
     *(f"view_{name}" for name in ("driver", "shaping", "chassis", "heading", "field", "routine", "runs")))
)  # fmt: skip
"""What else means something in a run of the past: looking, and leaving it for a robot."""


class ReplayActs(_Base):
    """For the application: acts on the run that its model has open."""

    model: ScreenModel
    commands: Commands
    _parts: dict[str, Canvas]

    @property
    def _replay(self) -> Replay:
        client = self.model.replay
        assert client is not None
        return client.replay

    def show_replay(self) -> None:
        """Show or hide the time line, and let the commands of a run count or not."""
        client = self.model.replay
        self.commands.before, self.commands.only = (
            (REPLAY_COMMANDS, NEXT_TO) if client is not None else ((), frozenset())
        )
        part = self._parts["replay"]
        part.display = client is not None
        if client is None:
            return
        replay = client.replay
        data = ReplayLine(
            replay.run.name,
            replay.run.first,
            replay.last,
            replay.at,
            replay.run.dt_s,
            replay.playing,
            replay.speed,
            replay.run.events,
        )
        part.show(draw_replay_line(data, self.size.width))

    def act_replay(self, name: str) -> None:
        """Do one of `REPLAY_COMMANDS`."""
        if name == "replay_leave":
            self.model.run.leave()
        elif name in ("replay_before", "replay_next"):
            self._to_event(1 if name == "replay_next" else -1)
        else:
            WAYS[name](self._replay)

    def jump_to(self, row: int) -> None:
        """Go to a row of the run."""
        if self.model.replay is not None:
            self._replay.jump(row)

    def _to_event(self, way: int) -> None:
        found = self._replay.next_event(way)
        if found is None:
            self.model.say("nothing happened " + ("after this" if way > 0 else "before this"))
        else:
            self._replay.jump(found.row)
            self.model.say(f"{found.kind}: {found.text}")
