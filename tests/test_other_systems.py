"""What differs on other systems, as far as this one can be made to look like them: no fcntl, no termios, no pseudo-terminals, spawn."""

import os
import subprocess
import sys
import unittest
from pathlib import Path

from platformdirs.macos import MacOS
from platformdirs.windows import Windows

from tests.support import DEMO, ROOT, TempCase

LACKS = """
import sys
for name in ("fcntl", "termios", "tty", "pty", "resource", "pwd", "grp"):
    sys.modules[name] = None
"""


class LackingTest(TempCase):
    def run_lacking(self, program: str) -> subprocess.CompletedProcess[str]:
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        return subprocess.run(
            [sys.executable, "-c", LACKS + program],
            capture_output=True,
            text=True,
            env=env,
            cwd=self.demo_once(),
            check=False,
        )

    def demo_once(self) -> Path:
        target = self.folder / "workspace"
        return target if target.exists() else self.demo()

    def test_commands_work_without_unix_modules(self) -> None:
        done = self.run_lacking("""
from pivrex.cli import run
assert run(["check", "rigs/coot.toml"]) == 0
assert run(["describe", "plover"]) == 0
assert run(["new", "team", "--name", "Heron"]) == 0
assert run(["here"]) == 0
""")
        self.assertEqual((done.returncode, done.stderr), (0, ""), done.stdout[-300:])
        self.assertIn("no mistakes", done.stdout)

    def test_a_rig_is_saved_without_locks(self) -> None:
        done = self.run_lacking("""
from pathlib import Path
from pivrex.rig import RigFile
file = RigFile(Path("rigs/plover.toml"))
file.put("shaping.forward.dead_band", "9 %")
file.undo(); file.redo()
print(RigFile(Path("rigs/plover.toml")).rig.shaping.forward.dead_band)
""")
        self.assertEqual(done.stdout.strip(), "0.09", done.stderr)

    def test_a_stand_in_on_a_serial_line_says_what_there_is_instead(self) -> None:
        done = self.run_lacking("""
from pivrex.cli import run
sys.exit(run(["remote", "coot", "bare stick"]))
""")
        self.assertEqual(done.returncode, 1)
        self.assertIn("no pseudo-terminals; use udp instead", done.stderr)

    def test_the_session_is_spawned_and_drives_without_them(self) -> None:
        """The process is started again, as on every system, and ticks."""
        done = self.run_lacking("""
import time
from pathlib import Path
from pivrex.rig import read_rig
from pivrex.session.client import SessionClient
from pivrex.session.messages import SetUp

if __name__ == "__main__":
    client = SessionClient()
    client.set_up(SetUp(read_rig(Path("rigs/plover.toml")), None, gamepads=False))
    rows, until = [], time.monotonic() + 30
    while not rows and time.monotonic() < until:
        client.beat()
        client.poll()
        rows = client.rows()
        time.sleep(0.02)
    client.close()
    print(len(rows) > 0)
""")
        self.assertEqual(done.stdout.strip(), "True", done.stderr)


class PlacesTest(unittest.TestCase):
    def test_settings_and_logs_lie_where_each_system_keeps_them(self) -> None:
        """The library that is asked knows all three; the names are the ones that the guide's table tells."""
        mac = MacOS("pivrex")
        self.assertTrue(mac.user_config_dir.endswith("Library/Application Support/pivrex"))
        self.assertTrue(mac.user_log_dir.endswith("Library/Logs/pivrex"))
        self.assertTrue(hasattr(Windows, "user_config_dir"))
        guide = (ROOT / "docs" / "guide.md").read_text("utf-8")
        for place in ("~/Library/Application Support/pivrex", "~/Library/Logs/pivrex", "%LOCALAPPDATA%\\pivrex"):
            self.assertIn(place, guide)

    def test_names_of_files_hold_nothing_that_another_system_refuses(self) -> None:
        for path in [p for p in DEMO.rglob("*") if p.is_file()]:
            self.assertNotRegex(path.name, r'[<>:"|?*\\]')
            self.assertNotIn(path.stem.lower(), ("con", "prn", "aux", "nul"))


if __name__ == "__main__":
    unittest.main()
