"""The language of routines: what can be said, what is found wrong with it and where, and that no text makes it fall over."""

import re
import unittest
from math import isclose, pi, sqrt

from hypothesis import given, settings
from hypothesis import strategies as st

from pivrex.rig import Rig, open_folder, read_rig
from pivrex.routine import check_text, play
from pivrex.routine.files import program_of, rig_said, shared_next_to
from pivrex.routine.forms import FORMS, FUNCTIONS, KEYWORDS, LATER_WORDS, READINGS
from pivrex.routine.kinds import UNITS
from pivrex.routine.nodes import Node, Quantity
from pivrex.routine.parsing import Unread, parse_line
from pivrex.routine.program import Assign, MotionStep
from pivrex.routine.reading import read_lines
from pivrex.routine.values import FaultError, Seen, value_of
from tests.chassis import demo_path, ideal
from tests.support import DEMO, ROOT, TempCase

PLOVER, COOT, BITTERN = (read_rig(demo_path(n)) for n in ("plover", "coot", "bittern"))
NOTHING = Seen({}, lambda _: float("nan"), lambda _name, _state: False)


def wrong(text: str, rig: Rig = PLOVER) -> list[tuple[int, int, str]]:
    """What keeps a text from being played: line, column, and what is said."""
    return [(m.line, m.column, m.what) for m in check_text(text, rig).wrong]


def warned(text: str, rig: Rig = PLOVER) -> list[tuple[int, str]]:
    return [(m.line, m.what) for m in check_text(text, rig).mistakes if m.warning]


def value(text: str) -> float:
    """What an expression is worth, in SI."""
    read = parse_line(f"wait {text}")
    assert isinstance(read, Node), read
    return value_of(read["time"], NOTHING)


class FormTest(unittest.TestCase):
    def test_every_form_has_an_example_that_is_read_as_it(self) -> None:
        forms = set()
        for form in FORMS:
            read = parse_line(form.example)
            self.assertIsInstance(read, Node, f"{form.example}: {read}")
            assert isinstance(read, Node)
            forms.add(read.form)
            self.assertTrue(set(form.example.split()) & (KEYWORDS | LATER_WORDS), form.example)
        self.assertEqual(len(forms), len(FORMS), "an example for each form, and one only")

    def test_what_may_stand_in_front_of_a_block_is_one_word_more(self) -> None:
        for text in ("else:", "repeat 3 times:", "if front below 3 cm:"):
            self.assertIsInstance(parse_line(text), Node, text)

    def test_units_are_what_the_world_takes_them_for(self) -> None:
        # the international inch and foot; a turn is 360 degrees
        for text, si in (
            ("0.8 m", 0.8), ("35 cm", 0.35), ("120 mm", 0.12), ("12 in", 0.3048), ("2 ft", 0.6096), ("90 deg", pi / 2),
            ("1.5 s", 1.5), ("600 ms", 0.6), ("2 min", 120), ("40 %", 0.4), ("300 mm/s", 0.3), ("10 in/s", 0.254),
            ("180 deg/s", pi), ("600 counts", 600), ("2.5 wheel turns", 2.5), ("1 wheel turn", 1), ("7.4 V", 7.4), (".5 m", 0.5),
        ):  # fmt: skip
            self.assertTrue(isclose(value(text), si), text)
        said = {u for form in FORMS for u in UNITS if f" {u}" in form.example}
        self.assertGreater(len(said), 6)

    def test_arithmetic(self) -> None:
        for text, si in (
            ("2 * 3 + 4", 10), ("2 + 3 * 4", 14), ("(2 + 3) * 4", 20), ("10 - 4 - 3", 3), ("24 / 4 / 2", 3), ("-3 + 5", 2),
            ("- (2 + 3)", -5), ("2 * -3", -6), ("least(3, 1, 2)", 1), ("most(3, 1, 2)", 3), ("size(-4)", 4),
            ("root(9)", 3), ("1 m - 35 cm", 0.65), ("0.5 * 90 deg", pi / 4), ("root(2 m * 8 m)", 4),
        ):  # fmt: skip
            self.assertTrue(isclose(value(text), si), text)
        self.assertIn("root", FUNCTIONS)

    @settings(max_examples=60, deadline=None)
    @given(st.recursive(
        st.integers(1, 99).map(str),
        lambda inner: st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"), max_leaves=8,
    ))  # fmt: skip
    def test_numbers_are_computed_as_python_does(self, text: str) -> None:
        try:
            expected = eval(text)
        except ZeroDivisionError:
            with self.assertRaises(FaultError):
                value(text)
            return
        self.assertTrue(isclose(value(text), expected, rel_tol=1e-9, abs_tol=1e-9), text)

    def test_one_and_the_same_in_other_clothes(self) -> None:
        plain = "for plover\nstart at 0 m, 0 m\nrepeat 2 times\n    drive ahead 1 m\nturn left 90 deg\n"
        program = check_text(plain, PLOVER).program
        assert program is not None
        for other in (
            plain.replace("\n", "\r\n"), "\ufeff" + plain, plain.replace("    ", "\t"), plain.replace("    ", "  "),
            plain.replace("\n", "  # why\n"), plain.replace("drive ", "drive \t "), "\n\n" + plain,
            plain.replace("1 m", "100 cm"), plain.replace("turn left", "turn   left"),
        ):  # fmt: skip
            made = check_text(other, PLOVER).program
            assert made is not None, other
            self.assertEqual(made.codes, program.codes, repr(other))
            self.assertEqual(made.start, program.start)

    def test_names_of_any_alphabet(self) -> None:
        self.assertEqual(
            wrong(
                "let größe be 1 m\ndrive ahead größe\nown move 移動 with шаг 1 m\n    drive ahead шаг\ndo 移動 with шаг 2 m"
            ),
            [],
        )

    def test_a_line_is_skipped_whatever_it_says(self) -> None:
        checked = check_text(
            "skip drive ahed 3 parsecs\nskip repeat 3 times\n    drive nowhere\ndrive ahead 1 m", PLOVER
        )
        self.assertEqual([m for m in checked.mistakes if not m.warning and m.line != 3], [])
        made = check_text("drive ahead 1 m\nskip turn left 90 deg\ndrive back 1 m", PLOVER).program
        assert made is not None
        self.assertEqual([s.shape for s in made.codes[""] if isinstance(s, MotionStep)], ["straight", "straight"])

    def test_a_comment_sign_within_quotes_is_none(self) -> None:
        lines, found = read_lines('use moves from "a#b" # c')
        self.assertEqual((lines[0].text, found), ('use moves from "a#b"', []))

    def test_the_rig_that_a_text_says(self) -> None:
        self.assertEqual(rig_said("# x\n\nfor avocet # y\n"), "avocet")
        self.assertEqual(rig_said("drive ahead 1 m"), "")


class MistakeTest(unittest.TestCase):
    def one(self, text: str, line: int, column: int, said: str, rig: Rig = PLOVER) -> None:
        found = wrong(text, rig)
        self.assertTrue(any(m[:2] == (line, column) and said in m[2] for m in found), f"{text!r}: {found}")

    def test_each_is_told_with_its_place_and_what_would_be_right(self) -> None:
        for text, column, said in (
            ("drive ahed 1 m", 7, 'nearest is "ahead"'),
            ("driv ahead 1 m", 1, '"driv" is no step, nearest is "drive"'),
            ("ahead 1 m", 1, "every step begins with its verb"),
            ("drive ahead 1 parsec", 15, '"parsec" is no unit'),
            ("turn left 90 degrees", 14, 'nearest is "deg"'),
            ("drive ahead 1 m at", 19, "ends too soon"),
            ("drive ahead 1 m $", 17, 'has "$", which means nothing here'),
            ("drive ahead", 1, "says no end"),
            ("drive ahead 1 s at 3 m/s until front", 37, "ends too soon"),
            (
                "drive ahead 90 deg",
                13,
                "how far is a length or a time or encoder counts or wheel turns, but this is an angle",
            ),
            ("drive ahead -1 m", 13, "must be more than 0"),
            ("drive ahead 1 m at 140 %", 20, "is more than full"),
            ("drive ahead 1 m at 40 % at 30 %", 28, 'says "at" twice'),
            ("drive left 1 m", 1, "cannot go sideways"),
            ("drive along 45 deg for 1 m", 1, "cannot go sideways"),
            ("turn left 1 V", 11, "how far it turns is an angle"),
            ("pivot left 90 deg about the right side", 1, 'write "pivot back left'),
            ("wheels middle 40 % for 1 s", 8, 'a name or "left" or "right" should stand'),
            ('wheels "lef" 40 % for 1 s', 8, 'nearest is "left"'),
            ("wheels left 40 %, left 30 % for 1 s", 19, "says a wheel twice"),
            ("wheels left 0 %, right 0 % for 5 cm", 32, "no wheel turns, so none comes so far"),
            ("wait 3", 6, "how long is a time, but this is a plain number; give it its unit"),
            ("wait for pump", 10, '"pump" is a switch'),
            ("wait until front below 30 deg", 12, "compares a length with an angle"),
            ("wait until frnt is heard", 12, 'has no sensor "frnt", nearest is "front"'),
            ("wait until 3 m is heard", 12, "only a sensor or an attachment"),
            ("move boom to 3 deg", 6, 'has no attachment "boom"'),
            ("move spout to 120 deg", 15, "0 to 90 deg"),
            ("move spout to 3 counts", 15, "no encoder that counts"),
            ("move spout to 30 deg at most 1 s", 30, 'write "and wait"'),
            ("switch spout on", 8, '"spout" is a servo: use move'),
            ("run pump at 40 %", 5, '"pump" is a switch'),
            ("zero fan", 6, 'has no attachment "fan"'),
            ("let x be 1 m", 5, "something of the robot"),
            ("let stop be 1 m", 5, "is a word of the language"),
            ("let a be 1 m + 2 s", 14, "a length and a time: no one can add these"),
            ("let a be b", 10, 'nothing is called "b"'),
            ("let a be 3 / 0", 14, "divides by 0"),
            ("let a be root(3 m)", 10, "no one can take the root of a length"),
            ("let a be sin(3)", 10, 'there is no "sin( )"'),
            ("let a be least(3 m, 2 s)", 10, "measure different things"),
            ("do pour", 4, 'there is no own move "pour"'),
            ("give 3", 1, "belongs into an own move"),
            ("repeat 0 times\n    wait 1 s", 8, "whole number from 1"),
            ("repeat 3 times", 1, "has no block"),
            ("else\n    wait 1 s", 1, "stands alone"),
            ("drive ahead 9999999 m", 13, "larger than any number"),
            ("start at 1, 2 m", 10, "x is a length, but this is a plain number"),
            ("for plovr", 5, "this routine is for plovr, but the open rig is Plover"),
            ('use moves from "nowhere"', 16, 'there is no file "nowhere"'),
        ):
            self.one(text, 1, column, said)

    def test_places_in_blocks_and_below(self) -> None:
        self.one("drive ahead 1 m\n\nrepeat 2 times\n    turn left 90\n", 4, 15, "give it its unit")
        self.one("    drive ahead 1 m", 1, 5, "is indented")
        self.one("drive ahead 1 m\n    drive back 1 m", 2, 5, "has no block")
        self.one("wait 1 s\nfor plover", 2, 1, "belongs to the top")
        self.one("let a be 1 m\nlet a be 2 s", 2, 5, '"a" was a length before, and is a time here')
        self.one("own move a with far 1 m\n    drive ahead far\ndo a with fr 2 m", 3, 11, 'nearest is "far"')
        self.one(
            "own move a with far 1 m\n    drive ahead far\ndo a with far 2 s",
            3,
            15,
            '"far" is a length, but this is a time',
        )
        self.one("own move a\n    give 1 m\n    give 2 s\ndo a", 3, 10, "gave a length before")
        self.one("own move a\n    wait 1 s\nown move a\n    wait 2 s\ndo a", 3, 10, "already, in line 1")
        self.one(
            "at once until all end\n    drive ahead 1 m\n    turn left 90 deg",
            3,
            5,
            "and so does line 2 at the same time",
        )
        self.one(
            "at once ending together\n    drive ahead 1 m\n    wait until front is heard", 3, 5, "cannot be slowed"
        )
        self.one("choose by 3\n    when 1\n        wait 1 s\n    when 1\n        wait 2 s", 4, 10, "a second time")
        self.one("choose by 3 m\n    when 1\n        wait 1 s", 2, 10, "the value of this choice is a length")

    def test_all_of_them_at_once(self) -> None:
        text = (DEMO / "routines" / "mistakes.txt").read_text("utf-8")
        lines = [m[0] for m in wrong(text)]
        self.assertEqual(lines, [3, 5, 6, 7, 8, 9, 10, 11, 12])

    def test_a_file_of_own_moves_is_for_others(self) -> None:
        self.assertEqual(warned("own move a\n    wait 1 s\n\nown move b\n    wait 1 s"), [])

    def test_what_is_no_mistake_but_worth_a_word(self) -> None:
        for text, line, said in (
            ("wait 1 s\nstop\nwait 2 s", 3, 'is never reached: line 2 "stop"'),
            ("own move a\n    wait 1 s\nwait 1 s", 1, 'nothing does "a"'),
            ("let a be front", 1, "may have sensed nothing"),
            ("choose by 3\n    when 1\n        wait 1 s", 1, 'no "otherwise"'),
            ("repeat until front below 3 cm\n    let a be 1 m", 1, "may go on for ever"),
            ("own move a\n    do a\ndo a", 1, "does itself again"),
            ("drive ahead 1 m at 9 m/s", 1, "more than this robot's full"),
            ("if front is heard\n    stop\nelse\n    stop\nwait 1 s", 5, "is never reached"),
            ("", 1, "has no step yet"),
        ):
            self.assertTrue(any(m[0] == line and said in m[1] for m in warned(text)), f"{text!r}: {warned(text)}")

    def test_what_will_not_fit_into_the_time(self) -> None:
        def late(text: str, limit_s: float, rig: Rig = PLOVER) -> list[int]:
            return [
                m.line
                for m in check_text(text, rig, limit_s=limit_s).mistakes
                if m.warning and "will not fit" in m.what
            ]

        # 4 m at 0.5 m/s with a rise of 1 m/s²: 8 s and half a second of it twice as slow
        four = "drive ahead 4 m at 0.5 m/s"
        self.assertEqual((late(four, 8.4), late(four, 8.6)), ([1], []))
        self.assertEqual(late("wait 2 s\nrepeat 3 times\n    wait 1 s\nwait 1 s", 5.5), [4])
        self.assertEqual(late("do a with far 2 s\nown move a with far 9 s\n    wait far\ndo a", 10.5), [4])
        # decided by what is sensed: at least the shorter way; until something is true: no time at least
        self.assertEqual(late("if post is heard\n    wait 3 s\nelse\n    wait 5 s\nwait 1 s", 3.5), [5])
        self.assertEqual(late("if post is heard\n    wait 30 s\nwait 1 s", 3.5), [])
        self.assertEqual(late("drive ahead 9 m until post is heard\nwait until post is heard", 3.5), [])
        self.assertEqual(
            late(
                "at once until all end\n    wait 3 s\n    wait 5 s\nat once until one ends\n    wait 3 s\n    wait 5 s",
                7.5,
            ),
            [4],
        )
        self.assertEqual(late("wait 5 s\nstop\nwait 5 s", 7), [])

    def test_what_one_chassis_cannot_another_can(self) -> None:
        for text in ("drive left 1 m", "drive along 45 deg for 1 m", "drive to 1 m, 1 m facing 90 deg"):
            self.assertEqual(wrong(text, BITTERN), [], text)
        self.assertEqual(wrong("move boom to 60 deg and wait at most 2 s, else stop", COOT), [])

    def test_a_caret_stands_below_the_place(self) -> None:
        mistake = check_text("drive ahed 1 m", PLOVER).wrong[0]
        self.assertEqual(mistake.caret("drive ahed 1 m"), ("drive ahed 1 m", "      ^^^^"))


class SharedTest(TempCase):
    def test_moves_of_another_file(self) -> None:
        (self.folder / "ours.txt").write_text("own move nudge with far 2 cm\n    drive ahead far\n")
        path = self.folder / "main.txt"
        path.write_text("use moves from ours\ndo nudge\ndo nudge with far 3 cm\n")
        program = program_of(path, PLOVER)
        self.assertIn("nudge", program.codes)
        self.assertEqual(program.codes["nudge"][0].where.file, "ours")
        (self.folder / "ours.txt").write_text("own move nudge with far 2 cm\n    drive ahed far\n")
        found = check_text(path.read_text(), PLOVER, "main", shared_next_to(path)).wrong
        self.assertEqual((found[0].line, "ours:2" in found[0].what), (1, True))

    def test_only_files_beside_it(self) -> None:
        (self.folder / "in").mkdir()
        (self.folder / "out.txt").write_text("own move a\n    wait 1 s\n")
        read = shared_next_to(self.folder / "in" / "main.txt")
        for name in ("../out", "/etc/passwd", "out", "\x00", "."):
            self.assertIsNone(read(name), name)

    def test_the_demo_is_right(self) -> None:
        for name in ("plover", "bittern", "avocet"):
            rig = read_rig(demo_path(name))
            program = program_of(DEMO / "routines" / f"greenhouse-{name}.txt", rig)
            self.assertEqual((program.rig, program.start), (name, (0.5, 0.5, pi / 2)))
        program_of(DEMO / "routines" / "practice.txt", PLOVER)


WORDS = [*sorted(KEYWORDS), "skip", "front", "post", "spout", "pump", "pour", "a", "90", "1.5", "m", "deg", "s", "%", "counts",
                            "wheel turns", "(", ")", "+", "-", "*", "/", "<", ">=", ",", '"', '"x"', "#", ":", "\t", "\n", "\n    ",
                            "\n        ", "\r\n", "0", "ü", *READINGS]  # fmt: skip


class FuzzTest(unittest.TestCase):
    def survives(self, text: str) -> None:
        """Nothing is raised, and every mistake lies within the text."""
        for rig in (PLOVER, BITTERN):
            checked = check_text(text, rig)
            rows = [*read_lines(text)[0]]
            self.assertIsNotNone(rows)
            count = max(1, text.count("\n") + text.count("\r") + 1)
            for m in checked.mistakes:
                self.assertTrue(1 <= m.line <= count + 1, m)
                self.assertGreaterEqual(m.column, 1)
                self.assertTrue(m.what and "\n" not in m.what, m)
            self.assertEqual(checked.program is None, bool(checked.wrong))

    @settings(max_examples=150, deadline=None)
    @given(st.lists(st.sampled_from(WORDS), max_size=40))
    def test_any_words(self, words: list[str]) -> None:
        self.survives(" ".join(words))

    @settings(max_examples=150, deadline=None)
    @given(
        st.lists(st.sampled_from([f.example for f in FORMS]), min_size=1, max_size=8),
        st.lists(st.integers(0, 3), min_size=8, max_size=8),
    )
    def test_any_lines_in_any_blocks(self, lines: list[str], indents: list[int]) -> None:
        self.survives("\n".join("    " * n + line for line, n in zip(lines, indents, strict=False)))

    @settings(max_examples=100, deadline=None)
    @given(st.binary(max_size=200))
    def test_any_bytes(self, data: bytes) -> None:
        self.survives(data.decode("utf-8", "surrogateescape"))
        self.survives(data.decode("latin-1"))

    @settings(max_examples=100, deadline=None)
    @given(st.sampled_from([f.example for f in FORMS]), st.integers(0, 60), st.sampled_from(WORDS), st.booleans())
    def test_any_line_with_a_slip(self, line: str, at: int, word: str, instead: bool) -> None:
        at = min(at, len(line))
        self.survives(line[:at] + word + line[at + instead * 3 :])

    def test_what_is_long_or_deep(self) -> None:
        for text in (
            "(" * 5000, "let a be " + "(" * 140 + "1" + ")" * 140, "let a be " + "-" * 200 + "1", "not " * 70,
            "wait " + "9" * 290, "drive ahead 1 m\n" * 6000, "".join("    " * n + "repeat 2 times\n" for n in range(40)),
            "let a be " + " + ".join(["1"] * 70), "if " + " and ".join(["front is heard"] * 15), "x" * 100_000,
        ):  # fmt: skip
            self.survives(text)
            self.assertIsInstance(parse_line(text), Node | Unread)

    def test_an_assignment_is_worth_what_it_says(self) -> None:
        program = check_text("let a be root(2 m * 8 m) / 2", PLOVER).program
        assert program is not None
        step = program.codes[""][0]
        assert isinstance(step, Assign) and not isinstance(step.value, Quantity)
        self.assertEqual(value_of(step.value, NOTHING), sqrt(16) / 2)


class PageTest(unittest.TestCase):
    PAGE = (ROOT / "docs" / "routine-language.md").read_text("utf-8")

    def test_every_form_stands_there_with_its_example(self) -> None:
        for form in FORMS:
            row = f"| `{form.form.replace('|', chr(92) + '|')}` | `{form.example}` | {form.says} |"
            self.assertIn(row, self.PAGE)
            self.assertIn(f"### {form.part}", self.PAGE)
        for name in (*READINGS, *(f"{f}( )" for f in FUNCTIONS)):
            self.assertIn(f"| `{name}` |", self.PAGE)

    def test_its_routines_are_right_and_come_to_their_end(self) -> None:
        found = re.findall(r"```routine (\w+)\n(.*?)```", self.PAGE, re.DOTALL)
        self.assertEqual(len(found), 4)
        for name, text in found:
            rig = ideal(name)
            checked = check_text(text, rig)
            self.assertEqual([m for m in checked.mistakes if not m.warning], [], text)
            assert checked.program is not None
            made = play(checked.program, rig, open_folder(DEMO).settings.field)
            self.assertEqual((made.ended, made.why), ("finished", ""), text)

    def test_what_it_says_of_conditions_and_options_can_be_said(self) -> None:
        rows = re.findall(r"^\| (`[^|]*`) \| [^|]* \|$", self.PAGE, re.MULTILINE)
        for row in rows:
            for said in re.findall(r"`([^`]+)`", row):
                read = parse_line(f"wait until {said}") if said[0].islower() and " is " in said else None
                self.assertNotIsInstance(read, Unread, said)
