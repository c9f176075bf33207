"""Tuning a loop: the loop, the experiment, the gain sets, their responses, and the proposals of helpers."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from pivrex.rig.edit import set_key
from pivrex.session.messages import BeginMotion, Hold, Push
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.gain_help import ToFind, gain_job
from pivrex.tui.jobs.responses import Question, response_job
from pivrex.tui.panels.panel import Panel, View
from pivrex.tuning import LOOPS, OPEN, BalanceLoop, Experiment, Gains, Loop, StepResponses, loops_of
from pivrex.tuning.search import GOALS

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["LoopTuning"]

SETTINGS: dict[str, tuple[str, ...]] = {
    "heading": (
        *(f"correction.{key}" for key in ("hold", "p", "i", "d", "i_limit", "i_leak_time", "output_limit", "rate_filter", "capture_below")),
        "correction.rate.p", "correction.rate.i", "control.wheels",
    ),
    "wheel": tuple(f"control.{key}" for key in ("wheels", "p", "i", "d", "i_limit", "speed_filter", "compensate")),
    "rate": ("balance.rate.p", "balance.rate.i", "balance.rate.output_limit", "balance.back_emf", "tilt.blend", "tilt.bias_time"),
    "lean": ("balance.lean.p", "balance.lean.i", "balance.lean.output_limit", "tilt.blend", "tilt.bias_time", "tilt.rest_lean",
             "balance.falls_at"),
    "speed": ("balance.speed.p", "balance.speed.i", "balance.speed.i_limit", "balance.speed.output_limit", "balance.speed.speed_filter",
              "tilt.blend"),
    "place": ("balance.place.p", "balance.place.i", "balance.place.output_limit", "balance.reach", "balance.turn.p", "balance.turn.i",
              "balance.turn.output_limit"),
}  # fmt: skip
STEERING = ("p", "i", "d", "rate")
NO_CORRECTION = ("limits.fit",)


class LoopTuning(Panel):
    """The data of Heading's panels. It draws only the sentence that there is no loop.

    Attributes
    ----------
    loop : Loop
    kind : str
        The experiment.
    goal : str
        What gains should be proposed for.
    kept, proposed : Gains or None
    names, answers
        The gain sets that were answered, and what. While ``stale``, they are of the gains before.
    help : Job
        Finds gains.
    """

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.loop, self.kind = self._first()
        self.goal = "quick"
        self.proposed: Gains | None = None
        self.help = gain_job()
        self.with_p_alone = False
        self.kept: Gains | None = None
        self._changes: dict[str, object] | None = None
        """What a helper proposes for other loops too."""
        self._responses = response_job()
        self._asked: tuple[int, str, str, tuple[Gains, ...]] | None = None
        self._of = self.model.file.path
        self.names: tuple[str, ...] = ()
        self.responses: StepResponses | None = None
        self._named: dict[tuple[Gains, ...], tuple[str, ...]] = {}

    def _first(self) -> tuple[Loop, str]:
        """Return the loop and experiment that are shown first."""
        return (LOOPS["lean"], "push") if self.model.rig.balance is not None else (LOOPS["heading"], "step")

    @property
    def corrects(self) -> bool:
        """Whether this rig has the loop that is shown, as it is."""
        rig = self.model.rig
        if self.loop.name == "heading":
            return "correction" in self.model.line.stages
        return self.loop.of(rig) is not None and (self.loop.name != "wheel" or rig.control is not None)

    def columns(self) -> list[list[str]]:
        if not self.corrects:
            return [list(NO_CORRECTION)]
        if self.loop.name == "steering":
            steered = self.model.rig.steered
            wheel = self.model.wheel_name if self.model.wheel_name in steered else steered[0]
            return [[f"steering.wheels.{wheel}.{key}" for key in STEERING if key != "rate" or self._limited(wheel)]]
        control = self.model.rig.control is not None
        return [[s for s in SETTINGS[self.loop.name] if s != "control.wheels" or control]]

    def _limited(self, wheel: str) -> bool:
        steering = self.model.rig.steering
        return steering is not None and steering.wheels[wheel].rate_rad_s is not None

    def sets(self) -> list[tuple[str, Gains]]:
        """Return the gain sets that are shown, each with its name."""
        loop = self.loop
        now = loop.gains(self.model.rig)
        found = [("now", now)]
        before = self.model.before
        if before is not None and loop.of(before.rig) is not None and loop.gains(before.rig) != now:
            found.append(("before", loop.gains(before.rig)))
        if self.with_p_alone and loop.name == "wheel":
            found += [("feedforward", Gains(0.0, 0.0, 0.0)), ("open", OPEN)]
        elif self.with_p_alone:
            found.append(("P alone", Gains(now.p, 0.0, 0.0)))
        if self.kept is not None and self.kept != now:
            found.append(("kept", self.kept))
        if self.proposed is not None and self.proposed != now:
            found.append(("proposed", self.proposed))
        return found

    @property
    def experiment(self) -> Experiment:
        """The present experiment."""
        return self.loop.experiment(self.model.rig, self.kind)

    def update(self) -> None:
        """Ask for responses after a change, and take the new ones."""
        path = self.model.file.path
        if path != self._of:  # the kept or proposed gains were another robot's
            self._of, self.kept, self.proposed, self.responses = path, None, None, None
            self._stop_helping()
            self.loop, self.kind = self._first()
        if self.loop.of(self.model.rig) is None:
            self._choose(LOOPS["heading"])
        self._take_help()
        if not self.corrects:
            return
        sets = self.sets()
        gains = tuple(g for _, g in sets)
        now = (self.model.serial, self.loop.name, self.kind, gains)
        if now != self._asked:
            self._asked = now
            self._named = {gains: tuple(n for n, _ in sets)}
            self._responses.ask(Question(self.model.rig, self.loop.name, self.experiment, gains))
        for question, responses in self._responses.poll():
            if question.sets in self._named and question.loop == self.loop.name:
                self.responses, self.names = responses, self._named[question.sets]

    @property
    def stale(self) -> bool:
        """Whether the answers are older than what is shown: new ones are being computed."""
        return self._responses.goes_on

    def _take_help(self) -> None:
        """Take what the helper says."""
        for _, found in self.help.poll():
            self.proposed, self._changes = found.gains or self.proposed, found.changes
            self.model.say(found.text + ("; + takes them" if found.gains is not None else ""), alarm=found.failed)
        if self.help.problem:
            self.model.say(self.help.problem, alarm=True)
            self.help.forget()

    def cancel(self) -> None:
        self._stop_helping()

    def _stop_helping(self) -> None:
        if self.help.goes_on:
            self.help.stop()
            self.model.say("the search is stopped")

    def close(self) -> None:
        self.help.stop()
        self._responses.close()

    def depends(self) -> tuple[object, ...]:
        shown = (
            self.kind,
            self.goal,
            self.kept,
            self.proposed,
            self.with_p_alone,
            self.names,
            self.responses,
            self.loop,
        )
        return (
            *shown,
            self.stale,
            self.model.serial,
            self.model.before,
            self.help.goes_on,
            self.help.share,
            self.help.said,
        )

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        why = "has no gyro" if self.model.rig.gyro is None else "has a gyro, but no table [correction]"
        picture.text(2, 1, self.loop.name, "title")
        if self.loop.name == "wheel":
            picture.text(
                2,
                3,
                f"{self.model.rig.name} has no table [control]: drive is the share of top speed.",
                "rest",
                width - 3,
            )
            picture.text(
                2, 4, 'Write [control] with wheels = "pid" into the rig; N goes on to the next loop.', "rest", width - 3
            )
            return picture
        picture.text(2, 3, f"{self.model.rig.name} {why}: nothing can hold its heading.", "rest", width - 3)
        if self.model.rig.gyro is not None:
            picture.text(2, 4, "Y adds the table with usual gains, and holds the heading.", "rest", width - 3)
        return picture

    # --- acting ---

    def _choose(self, loop: Loop) -> None:
        if loop is not self.loop:
            self._stop_helping()
            self.loop, self.kind, self.responses = loop, loop.kinds[0], None
            self.kept = self.proposed = self._changes = None

    def act_next_loop(self) -> None:
        loops = loops_of(self.model.rig) or [LOOPS["heading"]]
        at = loops.index(self.loop) if self.loop in loops else -1
        self._choose(loops[(at + 1) % len(loops)])

    def act_goal(self) -> None:
        goals = list(GOALS)
        self.goal = goals[(goals.index(self.goal) + 1) % len(goals)]
        self.model.say(f"goal {self.goal}: {GOALS[self.goal]}")

    def act_relay(self) -> None:
        self._ask_help("relay")

    def act_lqr(self) -> None:
        if self.model.rig.balance is None:
            self.model.say("LQR is for a robot that balances; this one has no table [balance]")
        elif not isinstance(self.loop, BalanceLoop):
            self.model.say("N goes on to a loop of the balance; LQR finds gains for all of them")
        else:
            self._ask_help("lqr")

    def act_placement(self) -> None:
        self._ask_help("placement")

    def act_search(self) -> None:
        if self.help.goes_on:
            self._stop_helping()
        else:
            self._ask_help("search")

    def _ask_help(self, kind: str) -> None:
        if not self.corrects:
            return
        self.help.ask(ToFind(kind, self.model.rig, self.loop.name, self.goal))

    def act_take_proposal(self) -> None:
        if self.proposed is None:
            self.model.say("nothing is proposed: R makes the relay experiment, S searches")
            return
        changes = self._changes or self.loop.changes(self.model.rig, self.proposed)

        def put(document: TOMLDocument) -> None:
            for key, value in changes.items():
                set_key(document, key, value)

        if self.model.edit(f"{self.loop.name} gains", put):
            self.proposed = self._changes = None

    def act_next_experiment(self) -> None:
        kinds = self.loop.kinds
        self.kind = kinds[(kinds.index(self.kind) + 1) % len(kinds)]
        self.responses = None

    def act_p_alone(self) -> None:
        self.with_p_alone = not self.with_p_alone

    def act_keep_response(self) -> None:
        now = self.loop.gains(self.model.rig)
        self.kept = None if self.kept == now else now
        self.model.say("this response is kept to compare with" if self.kept else "the kept response is forgotten")

    def act_carry_out(self) -> None:
        if not self.corrects:
            return
        experiment = self.experiment
        if self.kind == "push":
            if self.loop.name == "heading":
                self.model.ask(Hold(True))
            self.model.ask(Push(*self.loop.impulse(self.model.rig, experiment).tolist()))
            return
        motion = replace(
            self.loop.move(self.model.line, experiment),
            time_s=max(experiment.seconds, 20.0 if self.kind in ("turn", "straight") else 0.0),
        )
        self.model.ask(BeginMotion(motion, experiment.title))
