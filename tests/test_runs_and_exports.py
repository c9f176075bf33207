import csv
import io
import math
import re
import tracemalloc
import unittest
from pathlib import Path

import numpy as np

from pivrex.errors import ExportError, RecordingError, SaveError
from pivrex.export.curve import write_curve
from pivrex.export.path import write_path
from pivrex.export.routine import write_routine
from pivrex.export.table import write_ticks
from pivrex.export.wiring import wiring_rows, write_wiring
from pivrex.formats.recording import Recording
from pivrex.formats.ticks import tick_header, tick_lines
from pivrex.line import Line
from pivrex.rig import open_folder, read_rig
from pivrex.routine import check_text
from pivrex.runs import as_played, play_through
from pivrex.session.client import SessionClient
from pivrex.session.messages import SetUp
from pivrex.session.shared import Row
from tests.support import DEMO, PLOVER, WATERING, TempCase, plain_rig, slow, wait_for


class PlayThroughTest(TempCase):
    def play(self, text: str, every_tick: bool = False) -> list[np.ndarray]:
        return list(play_through(plain_rig(), Recording(self.write("r.csv", text)), None, every_tick))

    def column(self, rows: list[np.ndarray], stage: str, name: str) -> list[float]:
        at = Line(plain_rig()).layout.at(stage, name)
        return [float(r[at]) for r in rows]

    def test_a_row_for_each_reading(self) -> None:
        # 60 Hz; the second and third reading fall to one tick
        rows = self.play("t,left_y,left_x\n0,-0.1,0\n0.1,-0.2,0\n0.101,-0.3,0\n0.5,-0.4,0\n")
        self.assertEqual(self.column(rows, "axes", "forward"), [0.1, 0.2, 0.3, 0.4])
        self.assertEqual(self.column(rows, "clock", "tick"), [0, 6, 6, 30])

    def test_a_row_for_each_tick(self) -> None:
        rows = self.play("t,left_y,left_x\n0,-0.1,0\n0.1,-0.2,0\n", every_tick=True)
        self.assertEqual(self.column(rows, "clock", "tick"), [0, 1, 2, 3, 4, 5, 6])
        self.assertEqual(self.column(rows, "axes", "forward"), [0.1] * 6 + [0.2])

    def test_the_robot_moves_between_the_rows(self) -> None:
        rows = self.play("t,left_y,left_x\n0,-1,0\n1,0,0\n")
        # no lag, 1 m/s for the 60 ticks before the second reading counts
        self.assertAlmostEqual(self.column(rows, "truth", "x")[1], 1.0)

    def test_what_a_recording_sensed_comes_first(self) -> None:
        rows = self.play("t,left_y,left_x,sensed.left_travel_m\n0,-1,0,0.5\n1,0,0,\n")
        np.testing.assert_allclose(self.column(rows, "sensed", "left_travel"), [0.5, 1.0])

    def test_missing_columns(self) -> None:
        with self.assertRaisesRegex(RecordingError, "has no column left_x"):
            self.play("t,left_y\n0,0\n")

    def test_an_hour_needs_no_more_memory_than_a_minute(self) -> None:
        def peak(rows: int) -> int:
            path = self.folder / "long.csv"
            with path.open("w") as stream:
                stream.write("t,left_y,left_x\n")
                for i in range(rows):
                    stream.write(f"{i / 60:.4f},{math.sin(i / 50):.4f},0\n")
            tracemalloc.start()
            for _ in play_through(plain_rig(), Recording(path), None):
                pass
            found = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            return found

        peak(50)  # what is made once
        short, long = peak(1500), peak(6000)
        # all rows together would be another megabyte and a half
        self.assertLess(long, short + 300_000)

    def test_the_table_says_what_the_ticks_hold(self) -> None:
        line = Line(plain_rig())
        self.assertEqual(len(tick_header(line).split(",")), len(line.layout))
        (row,) = self.play("t,left_y,left_x\n0,-0.1234567890123456,0\n")
        cells = tick_lines(row[np.newaxis]).decode("ascii").split(",")
        self.assertEqual(cells[0], "0")
        # every bit is kept, and what is not there is an empty cell
        np.testing.assert_array_equal([float(c) if c.strip() else np.nan for c in cells], row)
        for values, written in (
            ([0.1, np.nan, 1e300, -2.0, 1 / 3], "0.1,,1e+300,-2,0.3333333333333333\n"),
            ([0.1, 2.0, np.nan, -2.0, -0.0], "0.1,2,,-2,-0\n"),
            ([0.1, 2.0, np.nan, 2.0, 0.0], "0.1,2,,2,0\n"),
        ):
            self.assertEqual(tick_lines(np.array([values])), written.encode("ascii"))

    def test_a_long_pause_leaves_no_line(self) -> None:
        # 20 s are 1,200 ticks, more than are computed together
        recording = self.write("r.csv", "t,left_y,left_x\n0,-0.1,0\n20,-0.2,0\n20.1,-0.3,0\n20.2,0,0\n")
        table = self.folder / "out.csv"
        self.assertEqual(write_ticks(plain_rig(), recording, None, table, every_tick=False), 4)
        lines = table.read_text("ascii").splitlines()
        self.assertEqual([line.partition(",")[0] for line in lines[1:]], ["0", "1200", "1206", "1212"])


@slow
class EqualTest(TempCase):
    def test_map_equals_the_ticks_of_the_interface_column_by_column(self) -> None:
        """The session in its real process, against `map` of the same recording."""
        home = self.demo()
        folder = open_folder(home)
        rig = as_played(read_rig(PLOVER))
        client = SessionClient()
        self.addCleanup(client.close)
        client.set_up(SetUp(rig, folder.settings.field, (WATERING,), "recording watering", gamepads=False))
        live: list[Row] = []

        def enough() -> bool:
            live.extend(client.rows())
            return len(live) >= 400

        wait_for(enough, 30)
        table = self.folder / "out.csv"
        write_ticks(rig, WATERING, folder.settings.field, table, every_tick=False)
        with table.open() as stream:
            mapped = list(csv.DictReader(stream))
        layout = Line(rig).layout
        self.assertEqual(list(mapped[0]), list(layout.titles))
        first = int(live[0].values[0])
        self.assertEqual(first, 0)
        for row, line in zip(live, mapped, strict=False):
            for title, value in zip(layout.titles, row.values, strict=True):
                written = float(line[title] or "nan")  # what is not there is an empty cell
                if not (math.isnan(written) and math.isnan(value)):
                    self.assertAlmostEqual(written, value, delta=1e-8 * max(1, abs(value)), msg=title)
        # the robot really drove in what was compared
        self.assertGreater(live[-1].values[layout.at("sensed", "left_travel")], 1.0)


class ExportTest(TempCase):
    def svg_text(self, path: Path) -> list[str]:
        return re.findall(r"<text[^>]*>([^<]+)</text>", path.read_text())

    def pdf_text(self, path: Path) -> bytes:
        return path.read_bytes()

    def test_curve(self) -> None:
        rig = read_rig(PLOVER)
        svg, pdf = self.folder / "c.svg", self.folder / "c.pdf"
        write_curve(rig, svg)
        write_curve(rig, pdf)
        text = " ".join(self.svg_text(svg))
        for word in (
            "Plover",
            "forward: stick in %",
            "requested, in m/s",
            "requested, in deg/s",
            "dead band 6 %",
            "law arcade",
        ):
            self.assertIn(word, text)
        self.assertTrue(pdf.read_bytes().startswith(b"%PDF"))
        before = svg.read_bytes()
        write_curve(rig, svg)
        self.assertEqual(svg.read_bytes(), before)  # the same drawing gives the same bytes
        with self.assertRaisesRegex(ExportError, "it has forward, turn"):
            write_curve(rig, svg, "strafe")

    def test_path(self) -> None:
        svg = self.folder / "p.svg"
        rig = read_rig(PLOVER)
        write_path(rig, open_folder(DEMO).settings.field, WATERING, svg)
        text = " ".join(self.svg_text(svg))
        for word in (
            "Plover on the greenhouse: watering",
            "x to the right, y up",
            "bench A",
            "water butt",
            "start",
            "end",
        ):
            self.assertIn(word, text)

    def test_a_path_from_a_table_of_positions(self) -> None:
        table = self.write("t.csv", "clock.t_s,truth.x_m,truth.y_m\n0,1,1\n1,2,1\n2,2,3\n")
        svg = self.folder / "p.svg"
        write_path(plain_rig(), open_folder(DEMO).settings.field, table, svg)
        self.assertIn("path, 2.0 s, 3.00 m", " ".join(self.svg_text(svg)))
        table.write_text("clock.t_s,truth.x_m,truth.y_m\n0,1,1\n1,x,1\n")
        with self.assertRaisesRegex(RecordingError, "t.csv:3"):
            write_path(plain_rig(), open_folder(DEMO).settings.field, table, svg)

    def test_a_routine(self) -> None:
        rig, field = read_rig(PLOVER), open_folder(DEMO).settings.field
        program = check_text("start at 0.5 m, 0.5 m\ndrive ahead 20 cm\nswitch pump on\nwait 5 s", rig).program
        assert program is not None
        svg = self.folder / "r.svg"
        write_routine(program, rig, field, 3.0, svg)
        said = " ".join(self.svg_text(svg))
        for word in (
            "commanded",
            "reached",
            "motion",
            "pump",
            "bench A",
            "routine, Plover: out of time after 3.0 s",
            "4!",
        ):
            self.assertIn(word, said)
        write_routine(program, rig, field, 3.0, self.folder / "r.pdf")
        self.assertTrue((self.folder / "r.pdf").read_bytes().startswith(b"%PDF"))

    def test_wiring(self) -> None:
        rig = read_rig(PLOVER)
        table = self.folder / "w.csv"
        write_wiring(rig, table)
        rows = list(csv.reader(io.StringIO(table.read_text())))
        self.assertEqual(rows[0][:5], ["motor", "port", "pin", "signal", "drives"])
        self.assertIn(["right", "M2", "7", "direction", "wheel right", "reversed", "1000", "8", "360"], rows)
        pins = wiring_rows(rig)
        self.assertEqual(
            len(pins), 4 + 2 + 4 + 2 + 1 + 5
        )  # and spout and pump, two encoders, a ranger, a gyro, a stick with three buttons
        self.assertEqual(pins[6][:5], ("left", "", "2", "encoder A", "counts"))
        self.assertEqual(pins[11][:5], ("front", "", "13", "echo", "hears it"))
        self.assertEqual(pins[13][:5], ("stick", "", "A0", "left_y", "measures"))
        write_wiring(rig, self.folder / "w.svg")
        self.assertIn("direction", " ".join(self.svg_text(self.folder / "w.svg")))

    def test_what_cannot_be_written(self) -> None:
        with self.assertRaises(SaveError):
            write_curve(read_rig(PLOVER), self.folder / "none" / "c.svg")
        with self.assertRaises(SaveError):
            write_ticks(read_rig(PLOVER), WATERING, None, self.folder / "none" / "t.csv", True)

    def test_a_recording_that_breaks_leaves_the_old_table(self) -> None:
        out = self.write("out.csv", "old")
        bad = self.write("bad.csv", "t,left_y,left_x\n0,0,0\n1,x,0\n")
        with self.assertRaises(RecordingError):
            write_ticks(plain_rig(), bad, None, out, False)
        self.assertEqual(out.read_text(), "old")
        self.assertEqual(sorted(p.name for p in self.folder.iterdir() if p.is_file()), ["bad.csv", "out.csv"])


if __name__ == "__main__":
    unittest.main()
