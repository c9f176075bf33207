"""Each changed setting by itself: from when on it acts on what a driver, a routine or a path did, and which stop hides it."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from pivrex.line import Line
from pivrex.rig import open_folder, read_text
from pivrex.rig.rig import Rig
from pivrex.routine import play
from pivrex.routine.files import program_of
from pivrex.runs.comparing import compare
from pivrex.runs.facts import Facts
from pivrex.runs.run import Run
from pivrex.runs.through import keep_rows
from tests.chassis import demo_path
from tests.support import DEMO, TempCase

BEGAN = datetime(2030, 5, 4, tzinfo=UTC)
FIELD = open_folder(DEMO).settings.field


class EffectsTest(TempCase):
    def kept(self, name: str, text: str, rows: np.ndarray) -> Run:
        rig = read_text(text, demo_path("coot"), Rig)
        facts = Facts(rig.name, "rig", BEGAN, 60.0)
        return keep_rows(self.folder / name, facts, Line(rig), text, FIELD, list(rows))

    def played(self, name: str, text: str, routine: str, seconds: float) -> Run:
        rig = read_text(text, demo_path("coot"), Rig)
        program = program_of(DEMO / "routines" / f"{routine}.txt", rig)
        return self.kept(name, text, play(program, rig, FIELD, seconds, 1).rows)

    def check(self, robot: str, routine: str, seconds: float, old: str, new: str, stage: str, key: str) -> None:
        """Play a routine with a rig and with one changed setting of it: that setting is found, at the tick and in the stage."""
        text = demo_path(robot).read_text("utf-8")
        changed = text.replace(old, new)
        self.assertNotEqual(changed, text)
        one, other = (self.played(n, t, routine, seconds) for n, t in (("a", text), ("b", changed)))
        found = compare(one, other)
        assert found.parting is not None and found.parting.change is not None
        self.assertEqual((found.parting.stage, found.parting.change.key), (stage, key))
        self.assertEqual(found.effects[0].t_s, found.parting.t_s)

    def test_how_a_path_is_followed(self) -> None:
        gain = "[following.along_track]\np = 5.0\n[following] "
        self.check("coot", "round", 5.0, "[following] ", gain, "following", "following.along_track.p")

    def test_how_a_move_of_a_routine_turns(self) -> None:
        old, new = 'p = "10 /s"', 'p = "7 /s"'
        self.check("plover", "greenhouse-plover", 8.0, old, new, "correction", "correction.p")

    def test_what_a_stop_hides_acts_when_it_is_over(self) -> None:
        text = demo_path("plover").read_text("utf-8")
        changed = text.replace("bits = 8", "bits = 10")
        made = []
        for said in (text, changed):
            line = Line(read_text(said, demo_path("plover"), Rig))
            state, rows = line.start(), []
            raw = line.rest()
            raw[list(line.functions).index("forward")] = 0.7
            nothing = np.zeros(len(line.stages["sensed"].columns))
            for tick in range(120):
                state, row = line.step(state, raw, nothing, stop=float(tick < 60))
                rows.append(row)
            made.append(np.array(rows))
        one, other = self.kept("a", text, made[0]), self.kept("b", changed, made[1])
        found = compare(one, other)
        acts = [e for e in found.effects if e.change.key.endswith("bits")]
        self.assertEqual({e.stage for e in acts}, {"outputs"})
        self.assertEqual({round(e.t_s * 60) for e in acts}, {60})
