"""The glossary: every label of a setting has a term, and the key that explains it shows this robot's numbers."""

import ast
import json
import re
import unittest
from pathlib import Path

import numpy as np

import pivrex.tui
from pivrex.glossary import KEYS, TERMS, glossary_text, label_of, term_of, title_of
from pivrex.line.line import Line
from pivrex.line.why import ladder
from pivrex.rig import read_rig
from pivrex.runs.figures import FIGURES as FIGURES_OF_RUNS
from pivrex.tui.panels.loop_tuning import LoopTuning
from pivrex.tui.panels.step_response import FIGURES, GAINS, STEP_FIGURES
from pivrex.tui.views.view_table import VIEWS
from pivrex.tuning import loops_of
from tests.support import DEMO, ROOT, slow
from tests.test_app import AppCase, in_loop
from tests.test_cli import Ran
from tests.test_terminal import TerminalCase

STIFF = re.compile(
    r"\b(anew|beside|reckon\w*|mend\w*|nobody|somebody|no more|hang on|shall|trembles|left over|settled|takes away|so long|so often|beyond)\b",
    re.IGNORECASE,
)
"""Words that the glossary does without: the trade, or plain English, has others."""

LABELS = {*TERMS, *(term.label for term in TERMS.values())} - {""}
"""What `pivrex glossary` finds."""


class TermsTest(unittest.TestCase):
    def test_each_is_a_plain_sentence(self) -> None:
        for term in TERMS.values():
            with self.subTest(term=term.name):
                self.assertTrue(term.says.endswith("."), term.says)
                self.assertLess(len(term.says), 140)
                for text in (term.name, term.says, term.small, term.large):
                    self.assertIsNone(STIFF.search(text), text)
                self.assertTrue((ROOT / "docs" / term.more).is_file(), term.more)

    def test_each_key_has_a_term_that_there_is(self) -> None:
        self.assertEqual({name for name in KEYS.values() if name not in TERMS}, set())
        self.assertEqual(label_of("shaping.turn.dead_band"), "dead band")
        self.assertEqual(label_of("balance.turn.p"), "turn P")
        self.assertEqual(term_of("balance.lean.p").name, "P")
        self.assertEqual(title_of("shaping.turn.dead_band"), "turn: dead band")
        self.assertEqual(title_of("chassis.wheels.2.x"), "wheels: x")
        self.assertEqual(title_of("law.kind"), "law")
        self.assertEqual(title_of("plane.colour"), "plane.colour")
        with self.assertRaisesRegex(KeyError, "chassis.colour has no term"):
            term_of("chassis.colour")

    def test_the_page_is_as_it_is_printed(self) -> None:
        self.assertEqual((ROOT / "docs" / "glossary.md").read_text("utf-8"), glossary_text())

    def test_help_explains_a_view_by_terms(self) -> None:
        drawn = {"lines", "wedge", "dials", "dashed", "coral", "now"}  # words for what a drawing looks like
        signs = [(row.name, sign) for row in VIEWS for sign, _ in row.view.help_lines()]
        self.assertGreater(len(signs), 40)
        words = {(view, re.sub(r"[^A-Za-z -]", "", sign).strip()) for view, sign in signs}
        missing = {(v, w) for v, w in words if re.search("[a-z]{3}", w) and w not in drawn and w not in TERMS}
        self.assertEqual(missing, set())

    def test_figures_of_a_response(self) -> None:
        for name in (*STEP_FIGURES, *(name for names in FIGURES.values() for name in names), *GAINS):
            self.assertIn(name, TERMS)

    def test_figures_of_runs_and_stages_of_ticks(self) -> None:
        for figure in FIGURES_OF_RUNS:
            self.assertIn(figure.title, TERMS)
        for path in sorted((DEMO / "rigs").glob("*.toml")):
            for stage in Line(read_rig(path)).stages:
                self.assertIn(f"{stage} (stage)", TERMS)

    def test_the_numbers_of_a_robot(self) -> None:
        """Against sums by hand."""
        for name, value, said in (
            ("dead band", 0.06, "(0.53 - 0.06) / (1 - 0.06) = 0.50"),
            ("curve", 0.4, "0.60 · 0.5 + 0.40 · 0.125 = 0.35"),
            ("slew up", 2.5, "0.40 s"),
            ("slew up", 0.0, "no limit"),
            ("heading P", 4.0, "= 40 deg"),
            ("integral leak time", 2.0, "after 2 s 37% of an old error is left"),
            ("radius", 0.04, "= 251 mm"),
        ):
            worked = TERMS[name].worked
            assert worked is not None
            self.assertIn(said, worked(value))

    def test_each_rung_of_a_ladder_leads_to_a_term(self) -> None:
        found = set()
        for path in sorted((DEMO / "rigs").glob("*.toml")):
            line = Line(read_rig(path))
            state, raw = line.start(), line.rest()
            raw[: len(line.functions)] = -0.6
            for _ in range(100):
                state, row = line.step(state, raw, np.zeros(len(line.stages["sensed"].columns)))
            found |= {rung.setting for wheel in line.wheels for rung in ladder(line, row, wheel) if rung.setting}
        self.assertGreater(len(found), 40)
        for key in found:
            self.assertIn(label_of(key), LABELS)

    def test_no_view_has_a_label_of_its_own(self) -> None:
        """A pair of a rig's key and words is a label that the glossary does not know."""
        here = Path(pivrex.tui.__file__).parent
        found = []
        for path in (*(here / "views").glob("*.py"), *(here / "panels").glob("*.py")):
            for node in ast.walk(ast.parse(path.read_text("utf-8"))):
                if not isinstance(node, ast.Tuple) or len(node.elts) != 2:
                    continue
                first, second = (e.value if isinstance(e, ast.Constant) else None for e in node.elts)
                if isinstance(first, str) and isinstance(second, str) and re.fullmatch(r"[a-z_]+(\.[a-z_]+)+", first):
                    found.append((path.name, first, second))
        self.assertEqual(found, [])


class LabelsTest(AppCase):
    @in_loop
    async def test_each_setting_of_each_robot_has_a_term(self) -> None:
        async with self.running(view="shaping"):
            model = self.app.model
            seen = set()
            for name in [path.stem for path in sorted((self.home / "rigs").glob("*.toml"))]:
                self.assertTrue(model.open_rig(self.home / "rigs" / f"{name}.toml"), name)
                await self.frames(2)
                for view in self.app.views.values():
                    for panel in view.panels:
                        if isinstance(panel, LoopTuning):  # each of its loops
                            for loop in loops_of(model.rig):
                                panel.loop = loop
                                seen |= {k for column in panel.columns() for k in column}
                    seen |= set(view.setting_keys())
            self.assertGreater(len(seen), 80)
            for key in seen:
                self.assertIn(label_of(key), LABELS, key)

    @in_loop
    async def test_the_key_explains_the_selected_setting(self) -> None:
        async with self.running(view="shaping"):
            await self.press("Q")
            await self.until(lambda: "what is this?" in self.over())
            for said in ("dead band", "too small", "a released stick still makes the robot creep", "(0.53 - 0.06) / (1 - 0.06) = 0.50",
                         "shaping.forward.dead_band = 6 %", "docs/guide.md", "overshoot"):  # fmt: skip
                self.assertIn(said, self.over())
            await self.press("Q")
            await self.press("1", "Q")  # a binding is no setting
            await self.until(lambda: "glossary" in self.over())
            self.assertNotIn("in the rig", self.over())

    @in_loop
    async def test_the_key_explains_the_rung_that_is_chosen(self) -> None:
        async with self.running(view="field"):
            await self.press("enter", "down", "down")
            await self.until(lambda: self.app.why.setting)
            await self.press("Q")
            await self.until(lambda: "a released stick still makes the robot creep" in self.over())

    @in_loop
    async def test_the_palette_finds_settings_and_everyday_words(self) -> None:
        async with self.running(view="field"):
            entries = {e.title: e for e in self.app.get_system_commands(self.app.screen)}
            for word in ("size", "width", "practise", "fault", "dead band", "overall scale"):
                self.assertTrue([t for t in entries if word in t], word)
            entries["curve  (shaping.turn.curve), in Shaping"].callback()
            await self.frames(2)
            view = self.app.view
            self.assertEqual((view.view_name, view.chosen_key()), ("shaping", "shaping.turn.curve"))
            entries["size, length, width, wheels of the robot"].callback()
            await self.frames(2)
            self.assertEqual(self.app.view.view_name, "chassis")
            next(e for t, e in entries.items() if t.startswith("practise")).callback()
            await self.until(lambda: getattr(self.app.view, "guide", None) is not None)


class CommandTest(unittest.TestCase):
    def test_a_short_label_is_found_too(self) -> None:
        self.assertTrue(Ran("glossary", "after band").out.startswith("after dead band"))
        self.assertTrue(Ran("glossary", "P").out.startswith("P: "))  # a name goes before a label

    def test_a_term_is_told_in_the_shell(self) -> None:
        said = Ran("glossary", "Overshoot")
        self.assertEqual(said.code, 0)
        self.assertIn("overshoot: How far the response goes past its target.", said.out)
        self.assertIn("more: docs/guide.md", said.out)
        self.assertEqual(Ran("glossary").out, glossary_text())

    def test_the_old_name_of_a_command_counts_for_one_version(self) -> None:
        said = Ran("stand-in", "nowhere.toml")
        self.assertEqual(said.code, 1)
        self.assertIn("pivrex stand-in is called pivrex simulator now", said.err)
        self.assertIn("nowhere.toml", said.err)

    def test_old_json_keys_count_for_one_version(self) -> None:
        found = json.loads(Ran("sums", "--json").out)
        self.assertEqual(found["renamed"], {"given": "inputs"})
        for one in found["sums"]:
            self.assertEqual(one["given"], one["inputs"])
        found = json.loads(
            Ran(
                "play", str(DEMO / "routines" / "practice.txt"), "--rig", str(DEMO / "rigs" / "plover.toml"), "--json"
            ).out
        )
        self.assertEqual((found["renamed"], found["told"]), ({"told": "messages"}, found["messages"]))

    def test_one_that_there_is_not(self) -> None:
        said = Ran("glossary", "overshot")
        self.assertEqual(said.code, 1)
        self.assertIn('"overshot" is not in the glossary; there is overshoot', said.err)


@slow
class OnScreenTest(TerminalCase):
    def test_a_setting_is_explained_where_it_stands(self) -> None:
        terminal = self.open_demo("--view", "heading")
        terminal.wait("step responses")
        terminal.keys("Down", "Q")
        terminal.wait("what is this?")
        terminal.wait("Proportional gain of the heading loop")
        terminal.wait("in the end it swings")
        terminal.keys("Q")
        terminal.wait("state error")
