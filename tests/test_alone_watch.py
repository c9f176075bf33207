"""What becomes of files outside while a robot drives alone: it goes on with what it began with, and the foot says so."""

import re

import numpy as np

from pivrex.routine import check_text
from pivrex.session.messages import GoOn, LayOut, LeaveMatch, StartPeriod, Stop
from pivrex.session.periods import Period
from pivrex.tui.documents.routine_document import RoutineDocument
from tests.local import local_model
from tests.support import TempCase

AHEAD = "start at 0.5 m, 0.5 m facing 0 deg\ndrive ahead 1.5 m at 0.2 m/s\n"


class OutsideTest(TempCase):
    def test_a_floor_that_is_changed_outside_is_laid_out_again(self) -> None:
        home = self.demo()
        model = local_model(home)
        self.addCleanup(model.client.close)
        file, length = home / "workspace.toml", model.folder.settings.field.length_m
        for name, there in (("workspace", file), ("slalom", home / "floors" / "slalom.toml")):
            if name != "workspace":
                model.lay_out(name)
            whole = model.folder.settings
            text = there.read_text("utf-8")
            longer = re.sub(r'(?m)^length = "[^"]*"', 'length = "7.5 m"', text, count=1)
            self.assertNotEqual(longer, text)
            there.write_text(longer + "\n", "utf-8")
            model.look_outside()
            self.assertIn(f"{there.name} was changed by another program: its floor is shown again", model.message)
            self.assertEqual(model.folder.settings.field.length_m, 7.5)
            self.assertEqual(model.folder.settings.match, whole.match)
            asked = [r for r in model.client.asked if isinstance(r, LayOut)]  # type: ignore[union-attr]
            self.assertEqual(asked[-1].field, model.folder.settings.field)
            there.write_text("length = 3 apples\n", "utf-8")
            model.look_outside()
            self.assertRegex(model.message, "has mistakes .*; the (workspace|floor) in use stays")
            self.assertTrue(model.message_alarm)
            self.assertEqual(model.folder.settings.field.length_m, 7.5)
            there.write_text(text, "utf-8")
            model.look_outside()
            self.assertEqual(model.folder.settings.field.length_m, length)


class AloneTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.home = self.demo()
        self.routine = self.home / "routines" / "mine.txt"
        self.routine.write_text(AHEAD)
        self.model = local_model(self.home)
        self.addCleanup(self.model.client.close)
        program = check_text(AHEAD, self.model.rig).program
        assert program is not None
        text = RoutineDocument()
        text.lay(self.routine, self.model.rig)
        self.model.choose_routine(program, text)
        self.model.ask(StartPeriod(Period.ALONE))
        self.go(1.0)
        self.assertTrue(self.model.drives_alone)

    def go(self, seconds: float) -> None:
        ticks = self.model.client.ticks  # type: ignore[union-attr]
        for _ in range(round(seconds * 60 / ticks)):
            self.model.pull()

    def said(self) -> str:
        """Look again as the screen does, and go on; gives what is said, and holds that it still drives with the rig it had."""
        rig = self.model.rig
        self.model.look_outside()
        self.go(0.3)
        self.assertTrue(self.model.drives_alone, self.model.status.match)
        self.assertIs(self.model.rig, rig)
        self.assertGreater(np.abs(self.model.history[-5:, self.model.line.speeds]).min(), 0.05)
        return self.model.message

    def test_nothing_was_changed(self) -> None:
        self.model.say("")
        self.assertEqual((self.said(), self.model.stands), ("", ""))

    def test_the_routine(self) -> None:
        self.routine.write_text(AHEAD.replace("1.5 m", "0.1 m"))
        self.assertEqual(self.said(), "the text it began with still drives: mine.txt was changed by another program")
        self.routine.write_text(AHEAD + "drive sideways\n")
        self.assertRegex(
            self.said(),
            r"the text it began with still drives: mine\.txt was changed by another program and has mistakes \(3: .*\)",
        )
        self.routine.unlink()
        self.assertEqual(self.said(), "the text it began with still drives: mine.txt is gone")
        self.assertEqual(self.model.stands, self.model.message)
        self.routine.write_text(AHEAD)
        self.said()
        self.assertEqual(self.model.stands, "")

    def test_the_rig_is_taken_in_after_it(self) -> None:
        file = self.model.file.path
        text = file.read_text()
        file.write_text(text.replace('dead_band = "6 %"', 'dead_band = "9 %"'))
        self.assertEqual(self.said(), "the rig it began with still drives: plover.toml was changed by another program")
        file.write_text(text.replace("dead_band =", "dead_bnad =", 1))
        self.assertRegex(
            self.said(),
            r"the rig it began with still drives: plover\.toml was changed by another program and has mistakes \(\d+: .*dead_bnad.*\)",
        )
        file.unlink()
        self.assertEqual(self.said(), "the rig it began with still drives: plover.toml is gone")
        file.write_text(text.replace('dead_band = "6 %"', 'dead_band = "9 %"'))
        self.said()
        self.go(15)
        self.assertFalse(self.model.drives_alone)
        self.model.look_outside()
        self.assertEqual(self.model.rig.shaping.forward.dead_band, 0.09)
        self.assertIn("was changed by another program; taken in", self.model.message)
        self.assertEqual(self.model.stands, "")

    def test_what_was_seen_before_it_began_is_what_it_began_with(self) -> None:
        self.model.ask(Stop("enough"))
        self.go(0.5)
        for file in (self.home / "workspace.toml", self.model.file.path):
            file.write_text(file.read_text() + "\n# more\n")
        self.model.look_outside()
        for request in (GoOn(), LeaveMatch(), StartPeriod(Period.ALONE)):
            self.model.ask(request)
        self.go(1.0)
        self.model.say("")
        self.assertEqual((self.said(), self.model.stands), ("", ""))

    def test_the_workspace(self) -> None:
        file = self.home / "workspace.toml"
        file.write_text(file.read_text() + "\n# more\n")
        self.assertEqual(
            self.said(), "the workspace it began with still drives: workspace.toml was changed by another program"
        )
        file.write_text("name = 3\n")
        self.assertRegex(self.said(), r"workspace\.toml was changed by another program and has mistakes \(\d+: name")
