"""What stands on the pages of a report: at its time, at its place, next to the right run."""

from __future__ import annotations

import itertools
import shutil
from dataclasses import replace
from datetime import timedelta
from unittest import mock

import numpy as np

from pivrex.export.paper import PAPERS, Page
from pivrex.export.report import page_size, pages_of
from pivrex.line.layout import Floats
from pivrex.runs.comparing import compare
from pivrex.runs.events import Event
from pivrex.runs.facts import read_facts, write_facts
from pivrex.runs.run import Run
from pivrex.runs.track import TRACK
from pivrex.scene.marks import Caption, Label, Line
from pivrex.scene.scene import Scene
from pivrex.tui.draw.cells import draw_pages
from tests.kept import BEGAN, FIRST, SECOND, keep_two
from tests.support import TempCase


def said(page: Page) -> list[list[str]]:
    """The texts of a page, row by row, each row from the left."""
    rows: dict[float, list[tuple[float, str]]] = {}
    for one in page.texts:
        rows.setdefault(one.row, []).append((one.column, one.text))
    return [[text for _, text in sorted(row)] for _, row in sorted(rows.items())]


def titled(page: Page, title: str) -> Scene:
    """The chart with a title."""
    return next(s for s, *_ in page.scenes if any(isinstance(m, Caption) and m.text == title for m in s.all_marks()))


class PagesTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.place = self.demo()
        with mock.patch("pivrex.runs.writing.PIECE_S", 1.0):
            keep_two(self.place, Event(3.0, 180, "bump", "it stands against something"))

    def run_of(self, name: str) -> Run:
        return Run(self.place / "runs" / name)

    def lines(self, page: Page, title: str) -> dict[str, Floats]:
        """The lines of a chart by their roles, (N, 2)."""
        found = [
            m
            for m in titled(page, title).all_marks()
            if isinstance(m, Line) and m.role in ("commanded", "measured", "alarm")
        ]
        return {line.role: line.points for line in found}

    def test_times_count_from_the_first_tick_that_is_there_still(self) -> None:
        for path in (self.place / "runs" / SECOND).glob("t*-0000000.csv*"):
            path.unlink()
        run = self.run_of(SECOND)
        self.assertEqual(run.first, 60)
        first, second = pages_of(run)
        lines = self.lines(first, "forward speed")
        self.assertAlmostEqual(float(lines["commanded"][0, 0]), 0.0, delta=0.2)
        self.assertEqual(lines["alarm"][:, 0].tolist(), [2.0, 2.0])
        self.assertTrue(any(row[-3:] == ["2.0 s", "bump", "it stands against something"] for row in said(second)))
        floor = first.scenes[0][0]
        self.assertIn("bump 2.0 s", [m.text for m in floor.marks if isinstance(m, Label)])

    def test_each_curve_is_what_its_name_says(self) -> None:
        run = self.run_of(SECOND)
        first, _ = pages_of(run)
        layout, rows = run.line(0).layout, np.array(run.rows(0, 300))[:291:10]
        for label, name, column, scale in (
            ("forward speed", "commanded", ("motion", "forward"), 1.0),
            ("forward speed", "measured", ("odometry", "forward"), 60.0),
            ("heading", "measured", ("truth", "heading"), np.degrees(1)),
            ("heading", "commanded", ("odometry", "heading"), np.degrees(1)),
        ):
            line = self.lines(first, label)[name]
            np.testing.assert_allclose(line[:, 0], np.arange(0, 300, 10) / 60, atol=1e-9)
            np.testing.assert_allclose(line[:, 1], rows[:, layout.at(*column)] * scale, atol=1e-3, err_msg=name)

    def test_two_runs_are_lined_up_and_part_where_they_do(self) -> None:
        one, other = self.run_of(FIRST), self.run_of(SECOND)
        found = compare(one, other)
        assert found.parting is not None
        at = found.parting.rows[0]
        moved = replace(found, zero=(60, 120), parting=replace(found.parting, rows=(at, at + 60)))
        first, _ = pages_of(one, moved)
        lines = self.lines(first, "forward speed")
        for named, begins in (("measured", -1.0), ("commanded", -2.0)):
            known = lines[named][np.isfinite(lines[named][:, 1])]
            self.assertAlmostEqual(float(known[0, 0]), begins, delta=0.05)
        self.assertEqual(lines["alarm"][:, 0].tolist(), [found.parting.t_s] * 2)
        floor = first.scenes[0][0]
        spot = next(m for m in floor.marks if isinstance(m, Label) and m.text == "first difference")
        row = found.parting.rows[0]
        layout = one.line(0).layout
        true = one.row(-(-row // 10) * 10)[[layout.at("truth", "x"), layout.at("truth", "y")]]
        np.testing.assert_allclose(spot.point, true, atol=1e-4)
        starts = [m for m in floor.marks if isinstance(m, Label) and m.text == "start"]
        self.assertEqual(len(starts), 1)  # both begin at one place

    def test_runs_that_begin_elsewhere_have_a_start_each(self) -> None:
        one, other = self.run_of(FIRST), self.run_of(SECOND)
        other.track[:, [TRACK.index("x_m"), TRACK.index("y_m")]] += 0.5
        first, _ = pages_of(one, compare(one, other))
        starts = [m.point for m in first.scenes[0][0].marks if isinstance(m, Label) and m.text == "start"]
        np.testing.assert_allclose(starts[1] - starts[0], [0.5, 0.5], atol=1e-6)

    def test_the_last_alike_was_driven_by_the_same_driver_and_changes_count_from_the_last_of_all(self) -> None:
        between = "20300504-200000-plover"
        shutil.copytree(self.place / "runs" / FIRST, self.place / "runs" / between)
        facts = read_facts(self.place / "runs" / between)
        by_hand = replace(
            facts, began=BEGAN + timedelta(hours=11), drivers=("keys",), figures={**facts.figures, "distance_m": 77.0}
        )
        write_facts(self.place / "runs" / between, by_hand)
        before = read_facts(self.place / "runs" / FIRST)
        write_facts(self.place / "runs" / FIRST, replace(before, figures={**before.figures, "distance_m": 55.0}))
        _, second = pages_of(self.run_of(SECOND))
        way = next(row for row in said(second) if row[0] == "distance")
        self.assertEqual(way[2], "55.00 m")
        self.assertIn(f"changed since {between}", [one.text for one in second.texts])

    def test_pages_hold_all_that_is_on_them(self) -> None:
        one, other = self.run_of(FIRST), self.run_of(SECOND)
        for paper in PAPERS:
            columns, rows = page_size(paper)
            for pages in (pages_of(other, None, columns, rows), pages_of(one, compare(one, other), columns, rows)):
                self.assertEqual(len(pages), 2)
                for page in pages:
                    for text in page.texts:
                        self.assertLessEqual(text.column + len(text.text) * text.size, columns, text)
                        self.assertLess(text.row, rows - 1, text)
                    places = [(c, r, p.margins, p) for _, p, c, r in page.scenes]
                    for column, row, margins, placing in places:
                        self.assertLessEqual(column + margins.left + placing.columns + margins.right, columns)
                        self.assertLessEqual(row + margins.top + placing.rows + margins.bottom, rows - 1)
                    self.assertEqual(len({(r, c) for c, r, _, _ in places}), len(places))

    def test_tables_do_not_lie_on_each_other(self) -> None:
        for page in (
            *pages_of(self.run_of(SECOND)),
            *pages_of(self.run_of(FIRST), compare(self.run_of(FIRST), self.run_of(SECOND))),
        ):
            for row, texts in itertools.groupby(
                sorted(page.texts, key=lambda t: (t.row, t.column)), key=lambda t: t.row
            ):
                for left, right in itertools.pairwise(list(texts)):
                    self.assertLess(left.column + len(left.text) * left.size, right.column + 0.01, (row, left, right))

    def test_the_screen_shows_what_paper_would(self) -> None:
        pages = pages_of(self.run_of(SECOND), None, 100)
        text = "\n".join(draw_pages(pages, 100).rows())
        for word in (
            "Plover: " + SECOND,
            "bench A",
            "forward speed",
            "battery",
            "figures",
            "settings that shaped it",
            "page 2 of 2",
        ):
            self.assertIn(word, text)
