import errno
import os
import stat
import subprocess
import sys
import unittest
from math import radians
from pathlib import Path
from unittest import mock

from pivrex.devices.worries import warnings_in
from pivrex.errors import RigError, SaveError, UnitError
from pivrex.files import free_name, write_atomically
from pivrex.path import Path as DrivenPath
from pivrex.rig import RigFile, find_rig, open_folder, read_rig
from pivrex.rig.nudge import setting_at
from pivrex.rig.reference import write_reference
from tests.support import PLAIN, PLOVER, ROOT, TempCase


class AtomicTest(TempCase):
    def test_a_full_disk_leaves_the_old_file_whole(self) -> None:
        path = self.write("a.toml", "old")
        for call in ("os.fsync", "pathlib.Path.replace"):
            with (
                self.subTest(call),
                mock.patch(call, side_effect=OSError(errno.ENOSPC, "No space left on device")),
                self.assertRaisesRegex(SaveError, "no space left on device; the file is as it was"),
            ):
                write_atomically(path, "new and longer")
            self.assertEqual(path.read_text(), "old")
            self.assertEqual([p.name for p in self.folder.iterdir() if p.is_file()], ["a.toml"])

    def test_a_disk_that_really_takes_no_more(self) -> None:
        path = self.write("a.toml", "old")
        program = (
            "import resource, signal, sys; from pathlib import Path; from pivrex.files import write_atomically\n"
            "signal.signal(signal.SIGXFSZ, signal.SIG_IGN); resource.setrlimit(resource.RLIMIT_FSIZE, (100, 100))\n"
            "write_atomically(Path(sys.argv[1]), 'x' * 5000)"
        )
        done = subprocess.run([sys.executable, "-c", program, str(path)], capture_output=True, text=True, check=False)
        self.assertIn("SaveError", done.stderr)
        self.assertIn("too large", done.stderr)
        self.assertEqual(path.read_text(), "old")
        self.assertEqual([p.name for p in self.folder.iterdir() if p.is_file()], ["a.toml"])

    def test_rights_and_links_survive(self) -> None:
        path = self.write("real.toml", "old")
        path.chmod(0o640)
        link = self.folder / "link.toml"
        link.symlink_to(path)
        write_atomically(link, "new")
        self.assertTrue(link.is_symlink())
        self.assertEqual(path.read_text(), "new")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o640)

    def test_free_names(self) -> None:
        self.write("run.csv", "")
        self.assertEqual(free_name(self.folder, "run", ".csv").name, "run-2.csv")


OLD_RIG = f"""{PLAIN}
[gyro]
[correction]
largest = "90 deg/s" # gently
clamp = "30 deg/s"
[control]
filter = "30 ms"
[following.along]
p = 2.5
i = 0.25
"""
"""A rig with keys that have other names now."""


class RigFileTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.write("plover.toml", PLOVER.read_text())

    def test_comments_and_order_survive(self) -> None:
        before = self.path.read_text().splitlines()
        file = RigFile(self.path)
        file.put("shaping.forward.curve", "40 %")
        after = self.path.read_text().splitlines()
        changed = [(a, b) for a, b in zip(before, after, strict=True) if a != b]
        self.assertEqual(len(changed), 1)
        self.assertEqual(changed[0][1].split("#")[0].strip(), 'curve = "40 %"')
        self.assertIn("# gentle near the centre", changed[0][1])
        self.assertEqual(file.rig.shaping.forward.curve, 0.4)

    def test_a_key_that_the_file_leaves_out_is_added(self) -> None:
        file = RigFile(self.path)
        file.put("shaping.left.dead_band", "3 %")
        file.put("speed_levels.levels.0.moving", "25 %")
        again = read_rig(self.path)
        self.assertEqual(again.shaping.left.dead_band, 0.03)
        self.assertEqual(again.speed_levels.levels[0].moving, 0.25)

    def test_old_keys_are_read_with_a_warning_and_written_by_their_new_names(self) -> None:
        path = self.write("old.toml", OLD_RIG)
        rig = read_rig(path)
        assert rig.correction is not None
        assert rig.control is not None
        self.assertAlmostEqual(rig.correction.output_limit_rad_s, radians(90))
        self.assertAlmostEqual(rig.correction.i_limit_rad_s, radians(30))
        self.assertAlmostEqual(rig.control.speed_filter_s, 0.03)
        self.assertEqual(rig.following.along_track.p, 2.5)
        lines = OLD_RIG.splitlines()
        said = {(lines[w.line - 1], str(w)) for w in warnings_in(rig, path) if "is called" in str(w)}
        self.assertEqual(len(said), 4)
        wanted = (
            "correction.largest: is called output_limit now; write that, for the next version will not know largest"
        )
        self.assertIn(('largest = "90 deg/s" # gently', wanted), said)
        file = RigFile(path)
        file.put("correction.output_limit", "60 deg/s")
        file.put("following.along_track.p", 2)
        text = path.read_text()
        self.assertIn('output_limit = "60 deg/s" # gently', text)
        self.assertNotIn("largest", text)
        self.assertNotIn("following.along]", text)
        self.assertIn('clamp = "30 deg/s"', text)  # keys without a change stay as they are
        self.assertEqual((file.rig.following.along_track.p, file.rig.following.along_track.i), (2.0, 0.25))

    def test_old_keys_of_accelerations_and_ramps_make_the_same_rig(self) -> None:
        now = PLOVER.read_text().replace(
            "[correction]", '[correction]\nturn_acceleration = "300 deg/s/s"\ndrive_acceleration = "0.7 m/s/s"', 1
        )
        now += '\n[[bindings]]\nchannel = "button_9"\ndoes = "forward 50 %"\nslew_up = "3 /s"\nslew_down = "2 /s"\n'
        now += '\n[following]\nturn_acceleration = "200 deg/s/s"\nwheel_acceleration = "1.5 m/s/s"\n'
        old = now
        for word, was in (
            ("wheel_acceleration", "wheel_rise"), ("turn_acceleration", "turn_rise"), ("drive_acceleration", "speed_rise"),
            ('slew_up = "3 /s"', 'rise = "3 /s"'), ('slew_down = "2 /s"', 'fall = "2 /s"'),
        ):  # fmt: skip
            self.assertIn(word, old)
            old = old.replace(word, was)
        rigs = [read_rig(self.write(f"{name}.toml", text)) for name, text in (("now", now), ("old", old))]
        self.assertEqual(rigs[0], rigs[1])
        assert rigs[1].correction is not None
        self.assertAlmostEqual(rigs[1].correction.turn_acceleration_rad_s2, radians(300))
        self.assertAlmostEqual(rigs[1].following.wheel_acceleration_m_s2, 1.5)
        path = self.write("old.toml", old)
        self.assertEqual(sum("is called" in str(w) for w in warnings_in(rigs[1], path)), 6)

    def test_old_keys_of_shaping_and_bindings_make_the_same_rig(self) -> None:
        now = PLOVER.read_text().replace('"from zero"', '"with a jump"')
        now += '\n[[bindings]]\nchannel = "right_y"\ndoes = "spout follows"\ndead_band = "11 %"\n'
        old = now
        for word, was in (
            ('after_dead_band = "with a jump"', 'onset = "cut"'), ("dead_band =", "edge ="), ("slew_up =", "faster ="),
            ("slew_down =", "slower ="),
        ):  # fmt: skip
            self.assertIn(word, old)
            old = old.replace(word, was)
        path = self.write("old.toml", old)
        self.assertEqual(read_rig(path), read_rig(self.write("now.toml", now)))
        said = [str(w) for w in warnings_in(read_rig(path), path) if "is called" in str(w)]
        self.assertEqual(len(said), 8)
        wanted = 'shaping.onset: is called after_dead_band = "with a jump" now; write that, for the next version will not know onset'
        self.assertIn(wanted, said)
        of_binding = next(line for line in said if line.startswith("bindings."))
        file = RigFile(path)
        file.put(of_binding.partition(":")[0].replace("edge", "dead_band"), "12 %")
        file.put("shaping.after_dead_band", "from zero")
        file.put("shaping.turn.slew_up", "4.5 /s")
        changed = [line for line in path.read_text().splitlines() if line not in old.splitlines()]
        self.assertEqual(sorted(changed), ['after_dead_band = "from zero"', 'dead_band = "12 %"', 'slew_up = "4.5 /s"'])

    def test_old_values_are_read_with_a_warning(self) -> None:
        now = PLOVER.read_text("utf-8")
        for new, old in (("realistic", "real"), ("ideal", "perfect")):
            text = now.replace('kind = "realistic"', f'kind = "{new}"')
            path = self.write("old.toml", text.replace(f'kind = "{new}"', f'kind = "{old}"'))
            rig = read_rig(self.write("now.toml", text))
            self.assertEqual(read_rig(path), rig)
            said = [str(w) for w in warnings_in(read_rig(path), path) if "is called" in str(w)]
            wanted = f'body.kind: is called "{new}" now; write that, for the next version will not know "{old}"'
            self.assertEqual(said, [wanted])
            self.assertEqual([str(w) for w in warnings_in(rig, self.folder / "now.toml") if "is called" in str(w)], [])

    def test_a_mistake_under_an_old_key_is_named_with_its_line_and_both_names_are_too_many(self) -> None:
        for was, then, line in (('"30 deg/s"', '"30 m"', 'clamp = "30 m"'), ("p = 2.5", "p = -1", "p = -1")):
            text = OLD_RIG.replace(was, then)
            with self.assertRaises(RigError) as caught:
                read_rig(self.write("wrong.toml", text))
            self.assertEqual([text.splitlines()[m.line - 1] for m in caught.exception.mistakes], [line])
        text = OLD_RIG.replace("clamp = ", 'i_limit = "20 deg/s"\nclamp = ')
        with self.assertRaises(RigError) as caught:
            read_rig(self.write("both.toml", text))
        self.assertEqual([m.key for m in caught.exception.mistakes], ["correction.clamp"])

    def test_a_change_that_would_be_a_mistake_changes_nothing(self) -> None:
        file = RigFile(self.path)
        text = self.path.read_text()
        with self.assertRaises(RigError):
            file.put("law.kind", "sideways")
        self.assertEqual(self.path.read_text(), text)
        self.assertEqual(file.rig.law.kind, "arcade")
        self.assertFalse(file.can_undo)

    def test_undo_and_redo_bring_back_the_very_text(self) -> None:
        file = RigFile(self.path)
        texts = [self.path.read_text()]
        for value in ("7 %", "8 %", "9 %"):
            file.put("shaping.forward.dead_band", value)
            texts.append(self.path.read_text())
        for wanted in reversed(texts[:-1]):
            file.undo()
            self.assertEqual(self.path.read_text(), wanted)
        self.assertEqual(file.undo(), "")
        for wanted in texts[1:]:
            file.redo()
            self.assertEqual(self.path.read_text(), wanted)

    def test_a_drag_is_one_step(self) -> None:
        file = RigFile(self.path)
        text = self.path.read_text()
        for i, value in enumerate(("7 %", "8 %", "9 %")):
            file.put("shaping.forward.dead_band", value, join=i > 0)
        file.undo()
        self.assertEqual(self.path.read_text(), text)

    def test_an_edit_from_outside_is_taken_in_and_can_be_undone(self) -> None:
        file = RigFile(self.path)
        mine = self.path.read_text()
        theirs = mine.replace('dead_band = "8 %"', 'dead_band = "12 %"')
        self.path.write_text(theirs)
        self.assertIn("was changed by another program; taken in", file.look_outside())
        self.assertEqual(file.rig.shaping.turn.dead_band, 0.12)
        file.undo()
        self.assertEqual(self.path.read_text(), mine)

    def test_a_change_here_lands_on_top_of_an_edit_from_outside(self) -> None:
        file = RigFile(self.path)
        self.path.write_text(self.path.read_text().replace('dead_band = "8 %"', 'dead_band = "12 %"'))
        file.put("shaping.forward.dead_band", "9 %")
        again = read_rig(self.path)
        self.assertEqual((again.shaping.forward.dead_band, again.shaping.turn.dead_band), (0.09, 0.12))

    def test_a_broken_edit_from_outside_is_not_overwritten(self) -> None:
        file = RigFile(self.path)
        broken = self.path.read_text().replace('kind = "arcade"', 'kind = "arc')
        self.path.write_text(broken)
        self.assertIn("has mistakes", file.look_outside())
        file.put("shaping.forward.dead_band", "9 %")
        self.assertEqual(self.path.read_text(), broken)
        aside = list(self.folder.glob("plover.yours-*.toml"))
        self.assertEqual(len(aside), 1)
        self.assertEqual(read_rig(aside[0]).shaping.forward.dead_band, 0.09)
        # mended outside, it is taken in again
        self.path.write_text(broken.replace('kind = "arc', 'kind = "arcade"'))
        self.assertIn("taken in", file.look_outside())

    def test_two_programs_on_one_rig(self) -> None:
        one, two = RigFile(self.path), RigFile(self.path)
        one.put("shaping.forward.dead_band", "9 %")
        two.put("shaping.turn.dead_band", "11 %")
        one.look_outside()
        for file in (one, two):
            self.assertEqual((file.rig.shaping.forward.dead_band, file.rig.shaping.turn.dead_band), (0.09, 0.11))

    def test_a_rig_that_cannot_be_saved_says_so_and_goes_on(self) -> None:
        file = RigFile(self.path)
        with (
            mock.patch("os.fsync", side_effect=OSError(errno.ENOSPC, "No space left on device")),
            self.assertRaises(SaveError),
        ):
            file.put("shaping.forward.dead_band", "9 %")
        self.assertEqual(file.rig.shaping.forward.dead_band, 0.09)
        self.assertIn("no space left", file.problem)
        file.put("shaping.forward.dead_band", "10 %")
        self.assertEqual(read_rig(self.path).shaping.forward.dead_band, 0.10)

    def test_a_read_only_file_is_left_alone(self) -> None:
        file = RigFile(self.path)
        text = self.path.read_text()
        with mock.patch("pivrex.files.os.access", return_value=False), self.assertRaisesRegex(SaveError, "read-only"):
            file.put("shaping.forward.dead_band", "9 %")
        self.assertEqual(self.path.read_text(), text)

    def test_a_file_that_vanished(self) -> None:
        file = RigFile(self.path)
        self.path.unlink()
        self.assertIn("cannot be read any more", file.look_outside())
        self.assertEqual(file.look_outside(), "")
        self.assertEqual(file.rig.name, "Plover")

    def test_what_a_killed_save_left_is_swept_away(self) -> None:
        old, fresh = self.folder / ".plover.toml.abc.part", self.folder / ".plover.toml.def.part"
        for part in (old, fresh):
            part.write_text("half")
        os.utime(old, (1, 1))
        RigFile(self.path)
        self.assertFalse(old.exists())
        self.assertTrue(fresh.exists())  # another program may be writing it

    def test_line_ends_of_other_systems_are_kept(self) -> None:
        self.path.write_bytes(PLOVER.read_bytes().replace(b"\n", b"\r\n"))
        file = RigFile(self.path)
        file.put("shaping.forward.dead_band", "9 %")
        raw = self.path.read_bytes()
        self.assertEqual(raw.count(b"\n"), raw.count(b"\r\n"))


class NudgeTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.file = RigFile(self.write("plover.toml", PLOVER.read_text()))

    def stepped(self, key: str, steps: int) -> object:
        return setting_at(key).stepped(self.file.rig, self.file.get(key), steps)

    def test_steps_in_the_unit_that_stands_there(self) -> None:
        self.assertEqual(self.stepped("shaping.forward.dead_band", 1), "7 %")
        self.assertEqual(self.stepped("shaping.forward.slew_up", -1), "2.4 /s")
        self.file.put("shaping.forward.dead_band", 0.06)
        self.assertEqual(self.stepped("shaping.forward.dead_band", 1), 0.07)
        self.assertEqual(self.stepped("shaping.left.dead_band", 1), "6 %")

    def test_bounds_hold(self) -> None:
        self.assertEqual(self.stepped("shaping.forward.dead_band", -50), "0 %")
        self.assertEqual(self.stepped("shaping.forward.dead_band", 500), "90 %")
        self.assertEqual(self.stepped("speed_levels.levels.0.moving", -50), "5 %")

    def test_choices_go_round(self) -> None:
        self.assertEqual(self.stepped("limits.fit", 1), "clip")
        self.assertEqual(self.stepped("limits.fit", 2), "scale")
        self.assertEqual(self.stepped("shaping.measure", -1), "sum")

    def test_typed_values(self) -> None:
        setting = setting_at("shaping.forward.dead_band")
        self.assertEqual(setting.typed("6 %", "12"), "12 %")
        self.assertEqual(setting.typed("6 %", " 12.5 %"), "12.5 %")
        for text in ("95 %", "-1", "3 m", "much"):
            with self.subTest(text), self.assertRaises(UnitError):
                setting.typed("6 %", text)
        self.assertEqual(setting_at("limits.fit").typed("scale", "clip"), "clip")
        with self.assertRaisesRegex(UnitError, "one of scale, clip"):
            setting_at("limits.fit").typed("scale", "other")

    def test_a_slider(self) -> None:
        setting = setting_at("shaping.forward.scale")
        self.assertEqual(setting.at_share(self.file.rig, "100 %", 0.333, 1.0), "33 %")
        self.assertEqual(setting.at_share(self.file.rig, "100 %", 7.0, 1.0), "100 %")

    def test_unknown_settings(self) -> None:
        with self.assertRaises(KeyError):
            setting_at("shaping.forward.colour")


class WorkspaceTest(TempCase):
    def test_rigs_by_name_and_path(self) -> None:
        home = self.demo()
        path, folder = find_rig("plover", home)
        self.assertEqual(path, home / "rigs" / "plover.toml")
        self.assertEqual(folder.settings.name, "Greenhouse Round")
        self.assertEqual(find_rig(str(path), Path("/"))[1].path, home)
        with self.assertRaisesRegex(RigError, 'no rig of this workspace .rigs/ holds "avocet", .*"plover"'):
            find_rig("heron", home)

    def test_empty_and_wrong_workspaces(self) -> None:
        with self.assertRaisesRegex(RigError, "holds no rig"):
            open_folder(self.folder).first_rig()
        with self.assertRaisesRegex(RigError, "is no folder"):
            open_folder(self.folder / "nowhere")
        home = self.demo()
        (home / "workspace.toml").write_text('rig = "heron"\n')
        with self.assertRaisesRegex(RigError, 'is "heron", but rigs/ holds "avocet", .*"plover"'):
            open_folder(home).first_rig()


class ReferenceTest(unittest.TestCase):
    def test_the_page_is_what_the_schema_says(self) -> None:
        page = ROOT / "docs" / "rig-reference.md"
        self.assertEqual(
            page.read_text(), write_reference(DrivenPath), "run: .venv/bin/pivrex reference > docs/rig-reference.md"
        )

    def test_every_key_has_a_meaning(self) -> None:
        for line in write_reference(DrivenPath).splitlines():
            if line.startswith("| `"):
                meaning = line.split("|")[2].strip()
                self.assertTrue(meaning and not meaning.startswith("None"), line)

    def test_every_output_kind_is_there(self) -> None:
        page = write_reference(DrivenPath)
        for kind in ("fraction", "percent", "speed", "duty", "magnitude", "two pins", "three pins", "servo"):
            self.assertIn(f'kind = "{kind}"', page)

    def test_floors_and_paths_have_their_keys_there(self) -> None:
        floors, paths = (write_reference(DrivenPath).partition(f"# {name}/*.toml")[2] for name in ("floors", "paths"))
        for key in ("length", "width", "name"):
            self.assertIn(f"| `{key}` |", floors.partition("# paths")[0])
        for key in ("heading", "backwards", "acceleration", "direction", "radius"):
            self.assertIn(f"| `{key}` |", paths)
        self.assertTrue("## `[[points]]`" in paths and "## `[[slow]]`" in paths)
