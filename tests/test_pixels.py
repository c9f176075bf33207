"""Pixels: the same places as on cells and on paper, what terminals are sent, and when drawings are shown so."""

import base64
import contextlib
import io
import math
import os
import pty
import re
import select
import subprocess
import sys
import time
import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

import numpy as np
from PIL import Image
from rich.console import Console
from rich.segment import Segment
from textual._compositor import ChopsUpdate
from textual.geometry import Region, Size
from textual.strip import Strip

from pivrex.devices.terminal import ASK_PICTURES, Pictures, pictures_here, pictures_of
from pivrex.errors import SettingsError
from pivrex.export.paper import LETTER, LINE, Page, save_pages
from pivrex.rig import read_rig
from pivrex.scene.marks import role
from pivrex.scene.palette import LIGHT
from pivrex.scene.robot import add_robot, chassis_box
from pivrex.scene.scene import Box, Margins, Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.pixels import kitty_gone, kitty_shown, pixel_image, sixels
from pivrex.tui.keys import wants_pictures
from pivrex.tui.stills import STILL_S, Stills, write_only_changes
from pivrex.tui.themes import colour_of
from tests.chassis import demo_path
from tests.support import TempCase, slow
from tests.test_scene import middle

CELL = (8, 17)
KITTY, SIXEL = Pictures("kitty", CELL, ""), Pictures("sixel", CELL, "")
WHO_SIXEL, WHO = "\x1b[?63;1;2;4;6c", "\x1b[?62;22c"


def dusk(number: int) -> tuple[int, int, int]:
    return colour_of("dusk", number)


class AgreeTest(TempCase):
    def test_a_wheels_centre_is_at_one_place_on_cells_on_paper_and_in_pixels(self) -> None:
        columns, rows = 80, 40
        for name in ("avocet", "bittern"):
            rig = read_rig(demo_path(name))
            for k, wheel in enumerate(rig.chassis.wheels):
                scene = Scene(chassis_box(rig), margins=Margins(3, 1, 2, 1))
                sliding = [n == k for n in range(len(rig.chassis.wheels))]
                add_robot(scene, rig, (0.0, 0.0, math.pi / 2), sliding=sliding, detail=True)
                at = scene.placing(columns, rows, 1.0, 2.0).points((-wheel.y_m, wheel.x_m)) / (1.0, 2.0) + (3, 1)

                cells = np.array(middle(print_scene(scene, columns, rows), "limit"))
                np.testing.assert_allclose(cells, at, atol=0.5, err_msg=f"{name} {k} on cells")

                image = np.asarray(pixel_image(scene, columns, rows, CELL, dusk)).astype(int)
                coral = np.abs(image - dusk(role("limit"))).sum(axis=2) < 12
                y, x = np.argwhere(coral).mean(axis=0)
                np.testing.assert_allclose(
                    (3 + x / CELL[0], 1 + y / CELL[1]), at, atol=0.5, err_msg=f"{name} {k} in pixels"
                )

                page = Page(columns, rows)
                page.scene(scene, 0, 0, columns, rows)
                save_pages([page], self.folder / "page.svg")
                (path,) = re.findall(r'<g id="limit">\s*<path d="([^"]+)"', (self.folder / "page.svg").read_text())
                points = np.array(re.findall(r"[ML] ([\d.]+) ([\d.]+)", path), float)
                on_paper = (points.min(axis=0) + points.max(axis=0)) / 2 / (LETTER, LINE)
                # a letter of paper has other proportions than a cell: what is equal up and across lies elsewhere up
                want = scene.placing(columns, rows, LETTER, LINE).points((-wheel.y_m, wheel.x_m)) / (LETTER, LINE) + (
                    3,
                    1,
                )
                np.testing.assert_allclose(on_paper, want, atol=0.05, err_msg=f"{name} {k} on paper")
                np.testing.assert_allclose(on_paper[0], at[0], atol=1.0 + abs(at[0] - 40) * 0.15)

    def test_paper_draws_in_order_in_the_light_colours_and_keeps_text_as_text(self) -> None:
        scene = Scene(Box(0.0, 0.0, 10.0, 10.0), margins=Margins(0, 1, 0, 1))
        scene.line([(0, 5), (10, 5)], "commanded", 0.5)
        scene.area([(2, 2), (8, 2), (8, 8), (2, 8)], "bench")
        scene.label((5.0, 5.0), "in the middle & all", "title")
        scene.caption("speed $ m/s", "dim")
        page = Page(60, 30)
        page.scene(scene, 2, 2, 50, 24)
        page.table(2, 27, "", ("key", "is"), [("shaping.forward.curve", "35 %")], 40)
        for file in ("a.svg", "b.svg"):
            save_pages([page], self.folder / file)
        text = (self.folder / "a.svg").read_text()
        self.assertEqual(text, (self.folder / "b.svg").read_text())
        self.assertLess(text.index('id="commanded-line"'), text.index('id="bench"'))
        self.assertIn(LIGHT["bench"], text)
        self.assertEqual(text.count("clip-path="), 3)  # the line, its edge and the area: nothing leaves the box
        for words in ("in the middle &amp; all", "speed $ m/s", "35 %"):
            self.assertIn(words, text)
        save_pages([page, page], self.folder / "c.pdf")
        self.assertEqual(len(re.findall(rb"/Type /Page\b", (self.folder / "c.pdf").read_bytes())), 2)
        self.assertEqual([p.name for p in save_pages([page, page], self.folder / "d.svg")], ["d.svg", "d-2.svg"])


def shown_by_sixels(text: str) -> np.ndarray:
    """Decode sixels as the manual has them: (H, W, 4), what was not drawn transparent."""
    body = re.fullmatch(r'\x1bP0;1q"1;1;(\d+);(\d+)(.*)\x1b\\', text, re.DOTALL)
    assert body is not None
    width, height = int(body[1]), int(body[2])
    image = np.zeros((height + 6, width, 4), np.uint8)
    palette: dict[int, tuple[int, ...]] = {}
    x = top = now = 0
    for part in re.finditer(r"#(\d+)(?:;2;(\d+);(\d+);(\d+))?|!(\d+)([?-~])|([?-~])|([$-])", body[3]):
        if part[1]:
            now = int(part[1])
            if part[2]:
                palette[now] = tuple(int(v) * 255 // 100 for v in part.group(2, 3, 4))
        elif part[8]:
            x, top = 0, top + 6 * (part[8] == "-")
        else:
            count, sign = (int(part[5]), part[6]) if part[5] else (1, part[7])
            for bit in range(6):
                if (ord(sign) - 63) >> bit & 1:
                    image[top + bit, x : x + count] = (*palette[now], 255)
            x += count
    return image[:height]


class SentTest(unittest.TestCase):
    def setUp(self) -> None:
        scene = Scene(Box(0.0, 0.0, 20.0, 10.0))
        scene.area([(0, 0), (20, 0), (20, 10), (0, 10)], "floor")
        scene.disc((10.0, 5.0), 4.0, "hull")
        scene.line([(0.0, 0.0), (20.0, 10.0)], "commanded", 0.5)
        self.image = pixel_image(scene, 20, 5, CELL, dusk)

    def test_an_image_is_as_large_as_its_cells_and_smooth(self) -> None:
        self.assertEqual(self.image.size, (160, 85))
        self.assertGreater(len(self.image.getcolors(100_000) or []), 20)  # more than its three roles: edges are blends

    def test_sixels_show_the_image_and_nothing_where_it_is_transparent(self) -> None:
        alpha = np.full((85, 160), 255, np.uint8)
        alpha[17:34, 40:80] = 0
        self.image.putalpha(Image.fromarray(alpha))
        shown = shown_by_sixels(sixels(self.image))
        np.testing.assert_array_equal(shown[..., 3] == 0, alpha == 0)
        wanted = np.asarray(self.image.convert("RGB")).astype(int)
        off = np.abs(shown[..., :3].astype(int) - wanted).sum(axis=2)[alpha > 0]
        self.assertLess(float(np.median(off)), 8)
        self.assertLess(float((off > 60).mean()), 0.03)  # sixteen colours

    def test_kitty_gets_the_image_in_pieces(self) -> None:
        noise = Image.fromarray(np.random.default_rng(1).integers(0, 255, (85, 160, 3), np.uint8))
        pieces = re.findall(r"\x1b_G([^;]*);([^\x1b]*)\x1b\\", kitty_shown(noise, 7, 20, 5))
        self.assertGreater(len(pieces), 2)
        self.assertTrue(all(len(data) <= 4096 for _, data in pieces))
        self.assertEqual(
            [dict(k.split("=") for k in keys.split(","))["m"] for keys, _ in pieces], ["1"] * (len(pieces) - 1) + ["0"]
        )
        for said in ("a=T", "f=100", "i=7", "c=20", "r=5", "C=1", "q=2"):
            self.assertIn(said, pieces[0][0].split(","))
        image = Image.open(io.BytesIO(base64.b64decode("".join(data for _, data in pieces))))
        np.testing.assert_array_equal(np.asarray(image), np.asarray(noise))
        self.assertRegex(kitty_gone(7), r"\x1b_Ga=d,d=I,i=7,q=2\x1b\\")

    def test_of_a_row_only_what_changed_is_written(self) -> None:
        before = ChopsUpdate.render_segments
        self.addCleanup(setattr, ChopsUpdate, "render_segments", before)
        write_only_changes()
        left, right = Strip([Segment("abcdefgh")], 8), Strip([Segment("ijkl")], 4)
        update = ChopsUpdate(
            [{0: left, 8: right}, {0: None, 8: right}], [(0, 2, 5), (0, 7, 9), (1, 6, 12)], [[8, 12], [8, 12]]
        )
        out = update.render_segments(Console(color_system=None))
        self.assertEqual(
            re.findall(r"\x1b\[(\d+);(\d+)H([a-z]*)", out),
            [("1", "3", "cde"), ("1", "8", "h"), ("1", "9", "i"), ("2", "9", "ijkl")],
        )


class AnswersTest(TempCase):
    def test_what_a_terminal_can(self) -> None:
        ok, cell = "\x1b_Gi=31;OK\x1b\\", "\x1b[6;17;8t"
        for answers, known, kind in (
            (ok + cell + WHO, (0, 0), "kitty"),
            (cell + WHO_SIXEL, (0, 0), "sixel"),
            (ok + cell + WHO_SIXEL, (0, 0), "kitty"),
            (WHO_SIXEL, (8, 17), "sixel"),  # the system knows how large the cells are
            (WHO_SIXEL, (0, 0), ""),
            ("\x1b_Gi=31;ENOTSUP:no\x1b\\" + cell + WHO, (0, 0), ""),
            ("\x1b[?64;1;42c" + cell, (0, 0), ""),
            ("", (8, 17), ""),
            (None, (8, 17), ""),
            (ok + "\x1b[6;9999;9999t" + WHO, (0, 0), ""),
        ):
            found = pictures_of(answers, known)
            self.assertEqual(found.kind, kind, repr(answers))
            self.assertTrue(found.said)
            if kind:
                self.assertEqual(found.cell, CELL)
        for env in ({"TMUX": "/tmp/tmux", "TERM": "xterm"}, {"STY": "1.pts", "TERM": "xterm"}, {"TERM": "linux"}, {}):
            with mock.patch("pivrex.devices.terminal.asked", side_effect=AssertionError("asked")):
                self.assertEqual(pictures_here(env).kind, "")
        with mock.patch("pivrex.devices.terminal.asked", return_value=ok + cell + WHO):
            self.assertEqual(pictures_here({"TERM": "xterm"}).kind, "kitty")

    def test_they_are_off_by_a_setting(self) -> None:
        self.assertTrue(wants_pictures(self.folder / "none.toml"))
        self.assertTrue(wants_pictures(self.write("a.toml", '[keys]\ngo_live = "ctrl+g"\n')))
        self.assertFalse(wants_pictures(self.write("b.toml", "[screen]\npixels = false\n")))
        for text, line in (('[screen]\n\npixels = "no"\n', 3), ("screen = 4\n", 1)):
            with self.assertRaisesRegex(SettingsError, "should be true or false") as caught:
                wants_pictures(self.write("c.toml", text))
            self.assertIn(f"c.toml:{line}", str(caught.exception))


class StillsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.sent: list[str] = []
        self.app: Any = SimpleNamespace(size=Size(80, 30), _driver=SimpleNamespace(write=self.sent.append))
        self.again: list[Region] = []
        self.canvas: Any = SimpleNamespace(
            picture=Picture(40, 20), region=Region(2, 5, 40, 20), refresh=self.again.append, row_by_row=False
        )
        self.now = 0.0

    def scene(self, x: float, label: str = "") -> Picture:
        scene = Scene(Box(0.0, 0.0, 30.0, 10.0), margins=Margins(2, 1, 1, 1))
        scene.disc((x, 5.0), 3.0, "hull")
        if label:
            scene.label((20.0, 5.0), label, "title")
        picture = Picture(40, 20)
        picture.place(print_scene(scene, 33, 12), 3, 4)
        return picture

    def look(self, stills: Stills, seconds: float, theme: str = "dusk", free: bool = True) -> list[str]:
        self.sent.clear()
        for _ in range(round(seconds / 0.05)):
            self.now += 0.05
            stills.look(self.canvas, theme, free, self.now)
        return list(self.sent)

    def test_what_stands_still_is_shown_once_where_it_is_and_taken_away_when_it_changes(self) -> None:
        for pictures, begins in ((KITTY, "\x1b_Ga=T"), (SIXEL, "\x1bP0;1q")):
            stills = Stills(self.app, pictures)
            self.canvas.picture = self.scene(8.0)
            self.assertEqual(self.look(stills, STILL_S - 0.1), [])
            (shown,) = self.look(stills, 2.0)
            # the box begins behind a margin of 2 and 1, the canvas stands at 2 and 5, all counted from 1
            self.assertTrue(shown.startswith(f"\x1b7\x1b[{4 + 1 + 5 + 1};{3 + 2 + 2 + 1}H{begins}"))
            self.assertTrue(shown.endswith("\x1b8"))
            self.assertEqual(self.canvas.row_by_row, pictures is SIXEL)
            self.again.clear()
            self.canvas.picture = self.scene(15.0)
            gone = self.look(stills, 0.05)
            self.assertEqual(gone, [kitty_gone(1)] if pictures is KITTY else [])
            self.assertEqual(self.again, [] if pictures is KITTY else [Region(5, 5, 30, 10)])
            self.assertFalse(self.canvas.row_by_row)
            self.assertEqual(len(self.look(stills, 1.0)), 1)

    def test_it_goes_under_overlays_with_another_theme_window_or_view(self) -> None:
        stills = Stills(self.app, KITTY)
        self.canvas.picture = self.scene(8.0)

        def is_gone(**changed: Any) -> None:
            self.assertEqual(len(self.look(stills, 1.0)), 1)
            self.assertEqual(self.look(stills, 0.05, **changed), [kitty_gone(1)])
            stills.clear()

        is_gone(free=False)
        is_gone(theme="noon")
        self.look(stills, 1.0, theme="noon")
        self.app.size = Size(90, 30)
        self.assertEqual(self.look(stills, 0.05, theme="noon"), [kitty_gone(1)])
        self.look(stills, 1.0, theme="noon")
        other = SimpleNamespace(**{**vars(self.canvas), "region": Region(0, 5, 40, 20)})
        self.canvas = other
        self.assertEqual(self.look(stills, 0.05, theme="noon"), [kitty_gone(1)])

    def test_what_moves_what_is_small_and_what_is_covered_stays_as_it_is(self) -> None:
        stills = Stills(self.app, KITTY)
        for k in range(20):
            self.canvas.picture = self.scene(8.0 + k)
            self.assertEqual(self.look(stills, 0.3), [])
        small = Picture(40, 20)
        small.place(print_scene(Scene(Box(0, 0, 1, 1)), 5, 2), 0, 0)
        self.canvas.picture = small
        self.assertEqual(self.look(stills, 2.0), [])
        both = self.scene(8.0)
        corner = Scene(Box(0.0, 0.0, 4.0, 4.0))
        both.place(print_scene(corner, 8, 4), 10, 6)
        self.canvas.picture = both
        (shown,) = self.look(stills, 2.0)
        self.assertIn("c=8,r=4", shown)
        self.assertEqual(self.look(Stills(self.app, Pictures("", (0, 0), "")), 2.0), [])

    def test_texts_are_left_out_of_the_image(self) -> None:
        stills = Stills(self.app, SIXEL)
        self.canvas.picture = self.scene(8.0, "post")
        (shown,) = self.look(stills, 2.0)
        image = shown_by_sixels(shown[shown.index("\x1bP") : -2])
        free = (image[..., 3] == 0).reshape(10, 17, 30, 8).all(axis=(1, 3))
        y, x = np.argwhere(free).T
        row = self.canvas.picture.row(5 + int(y[0]))
        self.assertEqual("".join(row[5 + int(k)] for k in x), "post")
        self.assertEqual(int(free.sum()), 4)


@slow
@unittest.skipIf(sys.platform == "win32", "there are no pseudo-terminals")
class WholeProgramTest(TempCase):
    def test_a_terminal_that_shows_pictures_gets_them_when_the_robot_rests(self) -> None:
        ours, theirs = pty.openpty()
        import fcntl
        import struct
        import termios

        fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("4H", 40, 120, 960, 680))
        env = {k: v for k, v in os.environ.items() if k not in ("TMUX", "STY", "NO_COLOR")}
        env |= {"TERM": "xterm-256color", "COLORTERM": "truecolor", "PIVREX_HOME": str(self.folder / "home")}
        words = [sys.executable, "-m", "pivrex", "demo", str(self.folder / "demo"), "--view", "shaping"]
        program = subprocess.Popen(words, stdin=theirs, stdout=theirs, stderr=theirs, env=env, start_new_session=True)
        self.addCleanup(program.wait, 20)
        self.addCleanup(program.terminate)
        self.addCleanup(os.close, ours)
        os.close(theirs)
        seen, answered, until = b"", False, time.monotonic() + 60
        while time.monotonic() < until and b"\x1b_Ga=T" not in seen:
            if select.select([ours], [], [], 0.2)[0]:
                with contextlib.suppress(OSError):
                    seen += os.read(ours, 65536)
            if not answered and ASK_PICTURES.encode() in seen:
                answered = True
                os.write(ours, b"\x1b_Gi=31;OK\x1b\\\x1b[6;17;8t" + WHO.encode())
            if b"response" in seen or b"forward" in seen:
                os.write(ours, b"\x1b") if b"STOPPED" not in seen else None
        self.assertTrue(answered)
        self.assertIn(b"\x1b_Ga=T", seen)
        self.assertTrue(Path(self.folder / "demo").is_dir())


if __name__ == "__main__":
    unittest.main()
