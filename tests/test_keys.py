"""`pivrex key`, and the warnings that `pivrex check` gives next to mistakes."""

import os
import shutil

from pivrex.rig import read_rig
from tests.local import local_model
from tests.support import PLAIN, TempCase
from tests.test_cli import Ran

SOURCES = """\
[sources.radio]
kind = "packets"
sender = "green"
silent_after = "200 ms"
wire = { kind = "udp", port = 5800, network = true }
[sources.box]
kind = "letters"
wire = { kind = "tcp", host = "10.0.0.7", port = 5801 }
letters = { F = "forward" }
[sources.near]
kind = "letters"
wire = { kind = "tcp", port = 5802 }
letters = { F = "forward" }
[link]
wire = { kind = "serial", port = "/dev/ttyUSB0", baud = 9600 }
"""


class KeyTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.write("rigs/plain.toml", "# a comment\n" + PLAIN)
        self.key = self.path.parent / "plain.key"

    def test_it_is_made_once_with_the_rights_of_a_secret_and_kept_out_of_git(self) -> None:
        ran = Ran("key", str(self.path))
        self.assertEqual((ran.code, self.key.stat().st_mode & 0o777), (0, 0o600))
        self.assertEqual((self.path.parent / ".gitignore").read_text(), "*.key\n")
        text = self.path.read_text()
        self.assertTrue(text.startswith("# a comment\n"))
        secret = read_rig(self.path).secret
        self.assertEqual((len(secret), secret.hex() in self.key.read_text(), secret.hex() in text), (16, True, False))
        self.assertIn(f"0x{secret[0]:02x}, 0x{secret[1]:02x}", Ran("key", str(self.path), "--show").out)
        again = Ran("key", str(self.path))
        self.assertEqual((again.code, read_rig(self.path).secret), (1, secret))
        self.assertIn("has a key already", again.err)

    def test_a_new_one_also_after_it_was_lost(self) -> None:
        Ran("key", str(self.path))
        first = read_rig(self.path).secret
        self.assertEqual(Ran("key", str(self.path), "--new").code, 0)
        second = read_rig(self.path).secret
        self.assertNotEqual(first, second)
        self.key.unlink()
        ran = Ran("check", str(self.path))
        self.assertEqual(ran.code, 1)
        self.assertIn(':4: key: is "plain.key", but that file cannot be read', ran.out)
        self.assertEqual((Ran("key", str(self.path), "--new").code, Ran("check", str(self.path)).code), (0, 0))

    def test_none_to_show(self) -> None:
        ran = Ran("key", str(self.path), "--show")
        self.assertEqual((ran.code, "has no key" in ran.err), (1, True))

    def test_a_name_that_leads_elsewhere_is_refused(self) -> None:
        self.path.write_text(self.path.read_text().replace("[chassis]", 'key = "../../x"\n[chassis]', 1))
        self.assertEqual((Ran("check", str(self.path)).code, Ran("key", str(self.path), "--new").code), (1, 1))


class WarningTest(TempCase):
    def test_who_may_drive_and_whether_the_line_keeps_up(self) -> None:
        path = self.write("rigs/plain.toml", PLAIN + SOURCES)
        ran = Ran("check", str(path))
        self.assertEqual(ran.code, 0)
        said = [row.removeprefix(f"{path}:") for row in ran.out.splitlines()[1:]]
        lines = path.read_text().splitlines()
        of = [(lines[int(row.split(":")[0]) - 1], row.split("warning: ")[1]) for row in said]
        self.assertEqual(len(of), 3, ran.out)
        self.assertTrue(of[0][0].startswith('wire = { kind = "udp", port = 5800') and "without a key" in of[0][1])
        self.assertTrue("10.0.0.7" in of[1][0] and "letters that are not framed cannot be sealed" in of[1][1])
        self.assertTrue("9600" in of[2][0] and "14 sentences a second of the 60" in of[2][1])
        Ran("key", str(path))
        os.chmod(path.parent / "plain.key", 0o644)  # noqa: PTH101
        out = Ran("check", str(path)).out
        self.assertNotIn("radio", out)
        self.assertIn("key: may be read by others: chmod 600 plain.key", out)

    def test_the_screen_says_it_when_such_a_rig_is_opened(self) -> None:
        home = self.demo()
        shutil.copy(self.write("network.toml", PLAIN + SOURCES), home / "rigs" / "aa.toml")
        model = local_model(home)
        self.addCleanup(model.client.close)
        self.assertNotIn("warning", model.message)
        self.assertTrue(model.open_rig(home / "rigs" / "aa.toml"))
        self.assertIn("3 warnings, ! lists them", model.message)
        self.assertIn("sources.radio.wire: hears the network without a key", model.warnings[0])
        self.assertRegex(model.warnings[0], r"^aa.toml:\d+: ")

    def test_network_is_for_what_listens(self) -> None:
        path = self.write("rigs/plain.toml", PLAIN + SOURCES.replace("port = 5801", "port = 5801, network = true"))
        self.assertIn("this wire connects to 10.0.0.7", Ran("check", str(path)).out)

    def test_framed_letters_need_a_sender(self) -> None:
        for more, said in (
            ("framed = true\n", "must be 1 to 24 plain characters"),
            ('sender = "a"\n', "is for framed letters only"),
        ):
            path = self.write("rigs/plain.toml", PLAIN + SOURCES.replace("[sources.near]\n", f"[sources.near]\n{more}"))
            ran = Ran("check", str(path))
            self.assertIn("sources.near.sender", ran.out)
            self.assertIn(said, ran.out)
        path = self.write(
            "rigs/plain.toml",
            PLAIN
            + SOURCES.replace('F = "forward" }\n[link]', '"*" = "forward" }\nframed = true\nsender = "a"\n[link]'),
        )
        self.assertIn("cannot stand in a sentence", Ran("check", str(path)).out)
