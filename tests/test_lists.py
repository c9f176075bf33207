"""Routines, paths, floors, attachments and bindings: made, renamed, duplicated and deleted on the screen."""

import unittest

from pivrex.path.files import read_path
from pivrex.rig import open_folder, read_rig
from pivrex.rig.rig import Rig
from pivrex.routine.files import check_file
from pivrex.tui.keys import keys_of_buttons
from tests.test_app import AppCase, in_loop


class ListCase(AppCase):
    async def pick(self, key: str, *keys: str) -> None:
        """Open a list by its key, and press some more."""
        await self.press(key)
        await self.until(self.over)
        await self.press(*keys)
        await self.frames(3)

    async def typed(self, text: str) -> None:
        await self.press(*("space" if c == " " else "minus" if c == "-" else c for c in text), "enter")
        await self.frames(3)

    def names(self, folder: str) -> set[str]:
        return {p.stem for p in (self.home / folder).glob("[!.]*.*")}

    @property
    def rig(self) -> Rig:
        return read_rig(self.rig_file)


class RoutinesTest(ListCase):
    @in_loop
    async def test_enter_makes_one_where_there_is_none(self) -> None:
        for path in (self.home / "routines").glob("*.txt"):
            path.unlink()
        async with self.running(view="routine"):
            self.assertIn("no routine yet: Enter makes one", self.text("routine"))
            await self.press("enter")
            await self.frames(3)
            await self.press("enter")
            await self.until(lambda: "no mistakes" in self.text("routine"))
            made = self.home / "routines" / "plover.txt"
            self.assertEqual(check_file(made, self.rig).mistakes, ())
            self.assertIn('for "Plover"', made.read_text("utf-8"))

    @in_loop
    async def test_one_is_made_renamed_duplicated_and_deleted(self) -> None:
        async with self.running(view="routine"):
            await self.until(lambda: "greenhouse-plover" in self.text("routine"))
            await self.pick("c", "plus")
            await self.typed("left-side")
            self.assertIn("left-side", self.names("routines"))
            await self.until(lambda: "left-side" in self.text("routine"))
            await self.pick("c", "f2")
            await self.typed("right-side")
            self.assertNotIn("left-side", self.names("routines"))
            await self.until(lambda: "right-side" in self.text("routine"))
            await self.pick("c", "D")
            await self.typed("copy")
            texts = [(self.home / "routines" / f"{n}.txt").read_text("utf-8") for n in ("copy", "right-side")]
            self.assertEqual(texts[0], texts[1])
            await self.pick("c", "delete")
            self.assertNotIn("copy", self.names("routines"))
            self.assertEqual((self.home / "routines" / ".deleted" / "copy.txt").read_text("utf-8"), texts[0])
            self.assertIn("routines/.deleted/copy.txt", self.model.message)
            await self.until(lambda: sorted(self.names("routines"))[0] in self.text("routine"))  # another one is open

    @in_loop
    async def test_the_workspace_names_a_renamed_one_and_others_that_still_do_are_said(self) -> None:
        async with self.running(view="routine"):
            await self.until(lambda: "greenhouse-plover" in self.text("routine"))
            await self.pick("c", "f2")
            await self.typed("water")
            self.assertEqual(open_folder(self.home).settings.routines["plover"], "water")
            view = self.app.views["routine"]
            self.assertIn("is water now", self.model.message)
            self.assertEqual(view.panels[3].files._named_in("greenhouse-moves"), "greenhouse-avocet.txt:4")  # type: ignore[attr-defined]

    @in_loop
    async def test_a_name_that_cannot_be(self) -> None:
        async with self.running(view="routine"):
            await self.until(lambda: "greenhouse-plover" in self.text("routine"))
            for name, said in (
                (".hidden", "begins with a letter"),
                ("a/b", "letters, digits"),
                ("practice", "is there already"),
            ):
                await self.pick("c", "plus")
                await self.press(*("slash" if c == "/" else "full_stop" if c == "." else c for c in name), "enter")
                await self.frames(2)
                self.assertIn(said, str(self.app.screen.query_one("#what").render()))
                await self.press("escape")
                await self.frames(2)


class PathsAndFloorsTest(ListCase):
    @in_loop
    async def test_paths(self) -> None:
        async with self.running(view="field"):
            await self.press("P")
            await self.pick("c", "plus")
            await self.typed("short")
            self.assertEqual(self.names("paths"), {"round", "short"})
            await self.pick("c", "D")
            await self.typed("short two")
            await self.pick("c", "f2")
            await self.typed("long")
            self.assertEqual(self.names("paths"), {"round", "short", "long"})
            self.assertEqual(self.app.view.paths.document.path.stem, "long")  # type: ignore[attr-defined]
            await self.pick("c", "delete")
            self.assertEqual(self.names("paths"), {"round", "short"})

    @in_loop
    async def test_floors(self) -> None:
        async with self.running(view="field"):
            before = self.names("floors")
            await self.pick("K", "plus")
            await self.typed("hall")
            self.assertEqual(self.names("floors") - before, {"hall"})
            self.assertEqual(self.model.floor, "hall")
            floor = open_folder(self.home).floor("hall")
            self.assertEqual(
                [b.name for b in floor.blocks], [b.name for b in open_folder(self.home).settings.field.blocks]
            )
            await self.pick("K", "home", "enter")
            self.assertEqual(self.model.floor, "")


class AttachmentsTest(ListCase):
    @in_loop
    async def test_one_is_made_renamed_duplicated_and_deleted_with_its_bindings(self) -> None:
        async with self.running(view="driver"):
            await self.pick("A", "plus")
            await self.until(lambda: "like which" in self.over())
            await self.press("down", "down", "down", "enter")
            await self.frames(3)
            await self.typed("gripper")
            self.assertEqual(self.rig.attachments["gripper"].kind, "servo")
            await self.pick("A", "f2")
            await self.typed("tipper")
            self.assertEqual(list(self.rig.attachments), ["tipper", "pump", "gripper"])
            self.assertEqual([b.does for b in self.rig.bindings], ["tipper to 60 deg", "tipper to 0 deg", "pump on"])
            await self.pick("A", "D")
            await self.typed("second")
            self.assertEqual(self.rig.attachments["second"].kind, self.rig.attachments["tipper"].kind)
            await self.pick("A", "delete")
            self.assertEqual(list(self.rig.attachments), ["pump", "gripper", "second"])
            self.assertEqual([b.does for b in self.rig.bindings], ["pump on"])
            self.model.undo()
            self.assertEqual(len(self.rig.bindings), 3)


class BindingsTest(ListCase):
    @in_loop
    async def test_a_new_one_has_a_row_of_its_own_and_a_control_in_use_is_said(self) -> None:
        async with self.running(view="driver"):
            self.app.view.patches.learn("pump on")  # type: ignore[attr-defined]
            await self.frames(2)
            self.assertIn("▸ pump on  now its control", self.text("driver"))
            self.assertEqual(self.text("driver").count("▸"), 2)  # this one, and the source
            keys = self.model.button_keys
            taken = next(key for key, button in keys.items() if button == "button_0")
            await self.press(taken)
            self.assertIn(f'{taken.upper()} (button_0) already does "spout to 60 deg"', self.model.message)
            await self.press("f9")
            await self.frames(3)
            new = self.rig.bindings[-1]
            self.assertEqual(new.does, "pump on")
            self.assertEqual(self.model.button_keys, {**keys, "f9": new.channel})

    @in_loop
    async def test_a_control_may_be_shared_by_one_that_needs_another_held(self) -> None:
        async with self.running(view="driver"):
            view = self.app.view
            self.assertTrue(self.model.edit("with", lambda d: d["bindings"][1].update({"with": "button_2"})))
            await self.frames(2)
            while view.patches.chosen().function != "spout to 0 deg":  # type: ignore[attr-defined]
                await self.press("down")
            key = next(key for key, button in self.model.button_keys.items() if button == "button_0")
            await self.press("v", key)
            await self.frames(3)
            self.assertEqual((self.rig.bindings[1].channel, self.rig.bindings[1].with_), ("button_0", "button_2"))

    @in_loop
    async def test_a_deleted_file_whose_folder_is_in_the_way_is_a_sentence(self) -> None:
        (self.home / "routines" / ".deleted").write_text("in the way")
        async with self.running(view="routine"):
            await self.until(lambda: "greenhouse-plover" in self.text("routine"))
            await self.pick("c", "delete")
            self.assertIn("greenhouse-plover.txt: ", self.model.message)
            self.assertIn("greenhouse-plover", self.names("routines"))

    @in_loop
    async def test_one_is_duplicated(self) -> None:
        async with self.running(view="driver"):
            view, count = self.app.view, len(self.rig.bindings)
            while view.patches.chosen().function != "pump on":  # type: ignore[attr-defined]
                await self.press("down")
            await self.pick("equals_sign", "down", "down", "down", "down", "enter")
            await self.until(lambda: "waits for the control of pump on" in self.model.message)
            await self.press("f11")
            await self.frames(3)
            self.assertEqual([b.does for b in self.rig.bindings[count:]], ["pump on"])


class LevelsTest(ListCase):
    def levels(self) -> list[tuple[str, float, float]]:
        return [(v.name, v.moving, v.turning) for v in self.rig.speed_levels.levels]

    @in_loop
    async def test_one_is_made_changed_renamed_and_deleted(self) -> None:
        async with self.running(view="shaping"):
            await self.pick("v", "plus")
            await self.typed("walk")
            await self.typed("45 %, 50 %")
            self.assertEqual(
                self.levels(), [("creep", 0.3, 0.4), ("walk", 0.45, 0.5), ("cruise", 0.65, 0.75), ("dash", 1, 1)]
            )
            await self.pick("v", "down", "enter")
            await self.typed("40 %, 55 %")
            self.assertEqual(self.levels()[1], ("walk", 0.4, 0.55))
            await self.pick("v", "down", "down", "f2")
            await self.typed("trot")
            self.assertEqual((self.levels()[2][0], self.rig.speed_levels.start), ("trot", "trot"))
            await self.pick("v", "D")
            await self.typed("slow")
            await self.press("enter")
            await self.frames(3)
            self.assertIn(("slow", 0.3, 0.4), self.levels())
            await self.pick("v", "delete")
            self.assertEqual(len(self.levels()), 4)

    @in_loop
    async def test_a_share_that_cannot_be_stays_in_the_entry(self) -> None:
        async with self.running(view="shaping"):
            await self.pick("v", "enter")
            await self.typed("140 %, 50 %")
            self.assertIn("at most 100 %", str(self.app.screen.query_one("#what").render()))
            self.assertEqual(self.levels()[0], ("creep", 0.3, 0.4))

    @in_loop
    async def test_a_rig_without_levels_gets_one_more(self) -> None:
        async with self.running(view="shaping"):
            self.model.open_rig(self.home / "rigs" / "stilt.toml")
            self.model.edit("none", lambda document: document.pop("speed_levels", None))
            await self.frames(3)
            await self.pick("v", "plus")
            await self.typed("slow")
            await self.typed("40 %, 50 %")
            levels = read_rig(self.home / "rigs" / "stilt.toml").speed_levels.levels
            self.assertEqual([v.name for v in levels], ["slow", "full"])


class PathLimitsTest(ListCase):
    @in_loop
    async def test_limits_and_slow_zones(self) -> None:
        async with self.running(view="field"):
            await self.press("P")
            file = self.home / "paths" / "round.toml"
            await self.pick("A", "enter")
            await self.typed("0.4 m/s")
            self.assertEqual(read_path(file).speed_m_s, 0.4)
            plan = self.app.view.paths.document.plan(self.model.rig)  # type: ignore[attr-defined]
            self.assertLessEqual(plan.law.speed.max(), 0.4 + 1e-9)
            await self.pick("A", "end", "enter")
            await self.press("enter")
            await self.frames(3)
            zone = read_path(file).slow[-1]
            self.assertEqual((zone.x_m, zone.y_m, zone.radius_m, zone.speed_m_s), (0.5, 0.5, 0.4, 0.2))
            await self.pick("A", "end", "up", "enter")
            await self.typed("1.00 m, 0.50 m, 0.30 m, 0.1 m/s")
            self.assertEqual(read_path(file).slow[-1].speed_m_s, 0.1)
            await self.pick("A", "end", "up", "enter")
            await self.typed("1.00 m, 0.50 m, 0.30 m, 0 m/s")
            self.assertIn("more than", str(self.app.screen.query_one("#what").render()))
            await self.press("escape")
            await self.frames(3)
            await self.pick("A", "end", "up", "delete")
            self.assertEqual(len(read_path(file).slow), 1)
            await self.pick("A", "enter")
            await self.press("delete", "enter")
            await self.frames(3)
            self.assertIsNone(read_path(file).speed_m_s)


class FunctionKeysTest(unittest.TestCase):
    def test_keys_keep_their_buttons(self) -> None:
        from tests.support import PLOVER

        text = PLOVER.read_text("utf-8")
        before = keys_of_buttons(read_rig(PLOVER), {})
        from pivrex.rig import read_text

        more = read_text(text + '\n[[bindings]]\nchannel = "button_2"\ndoes = "pump on"\n', PLOVER, Rig)
        after = keys_of_buttons(more, {}, before=before)
        self.assertEqual({k: b for k, b in after.items() if k in before}, before)
        self.assertEqual(set(after.values()) - set(before.values()), {"button_2"})


if __name__ == "__main__":
    unittest.main()
