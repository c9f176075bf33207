"""What stands on the pages of a report: at its time, at its place, beside the right run."""

from __future__ import annotations

import shutil
from dataclasses import replace
from datetime import timedelta
from typing import Any
from unittest import mock

import numpy as np

from pivrex.export.report import pages_of
from pivrex.runs.comparing import compare
from pivrex.runs.facts import read_facts, write_facts
from pivrex.runs.happenings import Event
from pivrex.runs.run import Run
from tests.kept import BEGAN, FIRST, SECOND, keep_two
from tests.support import TempCase


def said(page: Any) -> list[list[str]]:
    """The cells of all tables of a page, row by row."""
    found = []
    for sheet in page.axes:
        for table in sheet.tables:
            cells = table.get_celld()
            rows = 1 + max(row for row, _ in cells)
            found += [[cells[r, c].get_text().get_text() for c in range(len(cells) // rows)] for r in range(rows)]
    return found


class PagesTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.place = self.demo()
        with mock.patch("pivrex.runs.writing.PIECE_S", 1.0):
            keep_two(self.place, Event(3.0, 180, "bump", "it stands against something"))

    def run_of(self, name: str) -> Run:
        return Run(self.place / "runs" / name)

    def lines(self, page: Any, label: str) -> dict[str, Any]:
        """The lines of a drawing over time by their names; those without one are where something happened."""
        sheet = next(s for s in page.axes if s.get_ylabel() == label)
        return {line.get_label(): line for line in sheet.lines}

    def test_times_count_from_the_first_tick_that_is_there_still(self) -> None:
        for path in (self.place / "runs" / SECOND).glob("t*-0000000.csv*"):
            path.unlink()
        run = self.run_of(SECOND)
        self.assertEqual(run.first, 60)
        first, second = pages_of(run)
        lines = self.lines(first, "speed ahead in m/s")
        self.assertAlmostEqual(float(lines["asked"].get_xdata()[0]), 0.0, delta=0.2)
        marks = [line for name, line in lines.items() if name.startswith("_")]
        self.assertEqual([float(line.get_xdata()[0]) for line in marks], [2.0])
        self.assertIn(["2.0 s", "▲ bump", "it stands against something"], said(second))

    def test_each_curve_is_what_its_name_says(self) -> None:
        run = self.run_of(SECOND)
        first, _ = pages_of(run)
        layout, rows = run.line(0).layout, np.array(run.rows(0, 300))[:291:10]
        for label, name, column, scale in (
            ("speed ahead in m/s", "asked", ("motion", "forward"), 1.0),
            ("speed ahead in m/s", "measured", ("odometry", "forward"), 60.0),
            ("heading in deg", "true", ("truth", "heading"), np.degrees(1)),
            ("heading in deg", "believed", ("odometry", "heading"), np.degrees(1)),
        ):
            line = self.lines(first, label)[name]
            np.testing.assert_allclose(line.get_xdata(), np.arange(0, 300, 10) / 60, atol=1e-9)
            np.testing.assert_allclose(line.get_ydata(), rows[:, layout.at(*column)] * scale, atol=1e-3, err_msg=name)

    def test_two_runs_are_lined_up_and_part_where_they_do(self) -> None:
        one, other = self.run_of(FIRST), self.run_of(SECOND)
        found = compare(one, other)
        assert found.parting is not None
        at = found.parting.rows[0]
        moved = replace(found, zero=(60, 120), parting=replace(found.parting, rows=(at, at + 60)))
        first, _ = pages_of(one, moved)
        lines = self.lines(first, "speed ahead in m/s")
        for name, begins in ((FIRST, -1.0), (SECOND, -2.0)):
            self.assertAlmostEqual(float(lines[name].get_xdata()[0]), begins)
        marks = [line for name, line in lines.items() if name.startswith("_")]
        self.assertEqual([float(line.get_xdata()[0]) for line in marks], [found.parting.t_s])
        floor = next(s for s in first.axes if any(line.get_label() == "they part" for line in s.lines))
        spot = next(line for line in floor.lines if line.get_label() == "they part")
        row = found.parting.rows[0]
        layout = one.line(0).layout
        true = one.row(-(-row // 10) * 10)[[layout.at("truth", "x"), layout.at("truth", "y")]]
        np.testing.assert_allclose([spot.get_xdata()[0], spot.get_ydata()[0]], true, atol=1e-4)

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
        way = next(row for row in said(second) if row[0] == "way")
        self.assertEqual(way[2], "55.00 m")
        titles = [sheet.get_title(loc="left") for sheet in second.axes]
        self.assertIn(f"changed since {between}", titles)
