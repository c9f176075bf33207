"""Known to the shell: completion, the manual, what works here, options in any order, and a wheel in a venv of its own."""

import json
import os
import re
import shutil
import subprocess
import sys
import sysconfig
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from pivrex.cli.app import commands
from pivrex.cli.examples import EXAMPLES
from pivrex.cli.here import Found, _Port, of_answers, of_colours, of_date, of_serial
from pivrex.cli.manual import write_manual
from pivrex.cli.opening import opening_parser
from pivrex.kernels.building import compiler
from pivrex.kernels.engines import chosen
from pivrex.session.remembered import Chosen, last_workspace, memory_file, recall, remember
from tests.support import ROOT, TempCase, slow, wait_for
from tests.test_cli import Ran
from tests.test_terminal import TerminalCase


class CompletionTest(TempCase):
    def completed(self, line: str) -> list[str]:
        """What bash offers behind a line, by the script that the program prints."""
        home = self.demo() if not (self.folder / "workspace").exists() else self.folder / "workspace"
        tools = self.folder / "bin"
        tools.mkdir(exist_ok=True)
        pivrex = tools / "pivrex"
        pivrex.write_text(f'#!/bin/sh\nPYTHONPATH="{ROOT / "src"}" exec "{sys.executable}" -m pivrex "$@"\n')
        pivrex.chmod(0o755)
        script = Ran("completion", "bash").out
        words = line.split(" ")
        program = (
            f"{script}\nCOMP_WORDS=({' '.join(repr(w) for w in words)}); COMP_CWORD={len(words) - 1}\n"
            'f=$(complete -p pivrex | sed "s/.*-F \\([^ ]*\\).*/\\1/"); $f pivrex; printf "%s\\n" "${COMPREPLY[@]}"'
        )
        done = subprocess.run(
            ["bash", "-c", program], capture_output=True, text=True, cwd=home, check=True,
            env={**os.environ, "PATH": f"{tools}:{os.environ['PATH']}"},
        )  # fmt: skip
        return done.stdout.split()

    def test_bash_completes_commands_rigs_routines_recordings_and_options(self) -> None:
        self.assertIn("describe", self.completed("pivrex des"))
        self.assertEqual(self.completed("pivrex describe bi"), ["bittern"])
        self.assertIn("greenhouse-avocet", self.completed("pivrex play green"))
        self.assertEqual(self.completed("pivrex map plover inputs/wat"), ["inputs/watering.csv"])
        self.assertEqual(self.completed("pivrex path check ro"), ["round"])
        self.assertEqual(self.completed("pivrex demo --view ro"), ["routine"])
        self.assertEqual(self.completed("pivrex --theme no"), ["noon"])  # as behind `pivrex open`
        self.assertIn("--link", self.completed("pivrex --li"))

    def test_every_shell_has_a_script(self) -> None:
        for shell, sign in (("bash", "complete "), ("zsh", "#compdef pivrex"), ("fish", "complete --command pivrex")):
            ran = Ran("completion", shell)
            self.assertEqual(ran.code, 0)
            self.assertIn(sign, ran.out)
        self.assertEqual(Ran("completion", "csh").code, 2)


class ManualTest(unittest.TestCase):
    def test_the_page_is_as_the_commands_are(self) -> None:
        self.assertEqual((ROOT / "docs" / "pivrex.1").read_text("utf-8"), write_manual(commands()))

    @unittest.skipUnless(shutil.which("groff") or shutil.which("man"), "needs groff or man")
    def test_man_can_read_it(self) -> None:
        words = ["groff", "-man", "-Tutf8", "-ww"] if shutil.which("groff") else ["man", "-l", "--warnings"]
        done = subprocess.run([*words, str(ROOT / "docs" / "pivrex.1")], capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("EXIT STATUS", re.sub(".\x08", "", done.stdout))  # bold is struck twice

    def test_every_command_has_an_example_in_its_help(self) -> None:
        for name, _ in commands():
            first = name.split()[0]
            self.assertIn(first, EXAMPLES, name)
            words = ("demo", "--help") if name == "demo" else (*name.split(), "-h")
            ran = Ran(*words)
            self.assertEqual(ran.code, 0, name)
            self.assertIn("examples:", ran.out, name)

    def test_opening_is_described_twice_alike(self) -> None:
        for name in ("demo", "open"):
            command = dict(commands())[name]
            mine = {a.dest for a in opening_parser(name)._actions} - {"help"}
            self.assertEqual({p.name for p in command.params} - {"help"}, mine)


class HereTest(TempCase):
    def test_all_is_said_also_without_a_terminal(self) -> None:
        ran = Ran("here", "--json")
        found = json.loads(ran.out)
        for what in ("system", "terminal", "gamepads", "serial", "date", "settings", "workspace"):
            self.assertIn(what, found)
        for what, one in found.items():  # mend: what remedy was called before
            self.assertEqual((what, list(one)), (what, ["works", "said", "remedy", "mend"]))
        self.assertTrue(found["system"]["works"])
        self.assertIn(str(self.home), found["settings"]["said"])

    def test_what_does_not_work_has_a_fix(self) -> None:
        with mock.patch("pivrex.cli.here._all", return_value=[Found("mouse", False, "no clicks come", "set mouse on")]):
            lines = Ran("here").out.splitlines()
        self.assertEqual(
            [line.split() for line in lines],
            [["LACKS", "mouse", "no", "clicks", "come"], ["fix:", "set", "mouse", "on"]],
        )

    def test_what_a_terminal_answers(self) -> None:
        good = {f.what: f for f in of_answers("\x1b[?3u\x1b[?1004;2$y\x1b[?1006;2$y\x1b[?62;4c", {})}
        self.assertEqual([f.works for f in good.values()], [True, True, True])
        poor = {f.what: f for f in of_answers("\x1b[?1004;0$y\x1b[?1;2c", {"TMUX": "x"})}
        wanted = {"keys held": False, "window for keys": False, "focus": False, "mouse": None}
        with mock.patch("sys.platform", "linux"):
            self.assertEqual({n: f.works for n, f in poor.items()}, wanted)
            there = {f.what: f for f in of_answers("\x1b[?1;2c", {"DISPLAY": ":0"})}
            self.assertTrue(there["window for keys"].works)
        self.assertIn("focus-events on", poor["focus"].remedy)
        self.assertEqual([f.works for f in of_answers(None, {})], [None])

    def test_colours_serial_rights_and_dates(self) -> None:
        for env, works in (
            ({"COLORTERM": "truecolor"}, True),
            ({"TERM": "xterm-256color"}, True),
            ({"TERM": "vt220"}, False),
        ):
            self.assertIs(of_colours(env).works, works)
        self.assertIn("COLORTERM", of_colours({"TERM": "linux"}).remedy)
        blocked, free = of_serial([_Port("/dev/ttyUSB0", "stick", False), _Port("/dev/ttyACM0", "robot", True)])
        self.assertEqual((blocked.works, free.works), (False, True))
        self.assertIn("usermod -aG", blocked.remedy)
        self.assertFalse(of_date(datetime(1970, 1, 2, tzinfo=UTC)).works)


class RememberedTest(TempCase):
    def test_each_workspace_has_its_own_and_the_last_is_known(self) -> None:
        one, two = self.folder / "one", self.folder / "two"
        for folder in (one, two):
            (folder / "rigs").mkdir(parents=True)
        self.assertEqual((recall(one), last_workspace()), (Chosen(), None))
        remember(one, Chosen("driver", "noon", "coot", "keys"))
        remember(two, Chosen("field"))
        self.assertEqual(recall(one), Chosen("driver", "noon", "coot", "keys"))
        self.assertEqual(last_workspace(), two.resolve())
        remember(one, Chosen("routine"))
        self.assertEqual(last_workspace(), one.resolve())
        self.assertEqual(recall(one), Chosen("routine"))
        shutil.rmtree(one)
        self.assertEqual(last_workspace(), two.resolve())

    def test_a_file_that_is_broken_or_cannot_be_written_is_as_good_as_none(self) -> None:
        memory_file().parent.mkdir(parents=True)
        for text in ("[[[", "a = 1\n", '["/x"]\nview = 3\n', "\x00"):
            memory_file().write_text(text)
            self.assertEqual(recall(self.folder).view, "")
        remember(self.folder, Chosen("field"))  # and is put right by the next
        self.assertEqual(recall(self.folder).view, "field")
        memory_file().unlink()
        memory_file().mkdir()
        remember(self.folder, Chosen("field"))
        self.assertEqual(recall(self.folder), Chosen())


class WordsTest(TempCase):
    def test_options_need_no_folder(self) -> None:
        """Each reaches the opening: without a terminal that is all that is said."""
        for words in (["--theme", "noon"], ["--link"], ["--rig", "coot"], []):
            ran = Ran(*words)
            self.assertEqual(ran.code, 2)
            self.assertIn("needs a terminal", ran.err)
        for words in (["-h"], ["--help"], ["describe", "-h"], ["export", "-h"]):
            self.assertEqual(Ran(*words).code, 0)


class StartTest(TerminalCase):
    def test_a_file_opens_its_rig_and_what_was_chosen_is_so_again(self) -> None:
        home = self.demo()
        terminal = self.open(str(home / "rigs" / "coot.toml"), "--view", "shaping")
        terminal.wait("tank")
        terminal.keys("1", "t")  # another view, another theme
        terminal.wait("channels of")
        self.assertEqual(terminal.row(0).split()[0], "Coot")
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")
        self.assertEqual(recall(home), Chosen("driver", "noon", "coot", "keys"))
        again = self.open()  # no words at all, in a folder without rigs: the last one
        again.wait("channels of")
        self.assertEqual(again.row(0).split()[0], "Coot")

    def test_in_a_folder_that_holds_nothing_it_says_what_there_is(self) -> None:
        terminal = self.open(env={"PIVREX_HOME": str(self.folder / "none")})
        terminal.wait("pivrex new makes one")
        terminal.wait("ENDED with 1")

    def test_the_rig_is_edited_in_ones_own_editor(self) -> None:
        home = self.demo()
        editor = self.folder / "editor"
        editor.write_text(
            '#!/bin/sh\necho "$1" > "$0.said"; sed -i \'s/^dead_band = "6 %"/dead_band = "11 %"/\' "$2"\n'
        )
        editor.chmod(0o755)
        terminal = self.open(str(home), "--view", "shaping", env={"EDITOR": str(editor)})
        terminal.wait("▸ dead band")
        terminal.keys("E")
        terminal.wait("dead band ±11 %")  # it is back, and what was edited is taken in
        lines = (home / "rigs" / "plover.toml").read_text().splitlines()
        said = int((self.folder / "editor.said").read_text().strip().lstrip("+"))
        self.assertEqual(lines[said - 1].split("#")[0].strip(), 'dead_band = "11 %"')
        self.assertEqual(lines[said - 2], "[shaping.forward]")
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)


@slow
class WheelTest(TempCase):
    def test_a_wheel_installs_and_starts_in_a_venv_of_its_own(self) -> None:
        """The package as a person gets it: built, installed without this folder, started. What it needs comes from here."""
        source = self.folder / "source"
        shutil.copytree(
            ROOT,
            source,
            ignore=shutil.ignore_patterns(
                ".venv", ".git", "__pycache__", "*.egg-info", "screenshots", "build", ".*cache", "built.kernels"
            ),
        )
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet"]
        quick = self.write("quick", '#!/bin/sh\nexec cc "$@" -O0\n')  # the kernels are built in a tenth of the time
        quick.chmod(0o755)
        subprocess.run(
            [*pip, "wheel", "--no-deps", "--wheel-dir", str(self.folder), str(source)],
            check=True,
            capture_output=True,
            env={**os.environ, "CC": str(quick)},
        )
        (wheel,) = self.folder.glob("pivrex-*.whl")
        subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(self.folder / "venv")], check=True)
        python = self.folder / "venv" / "bin" / "python"
        subprocess.run(
            [*pip, "--python", str(python), "install", "--no-deps", "--no-index", str(wheel)],
            check=True,
            capture_output=True,
        )
        # the libraries that were tested, by a path file: fetching them again would test the network
        site = next((self.folder / "venv" / "lib").glob("python*")) / "site-packages"
        (site / "here.pth").write_text(sysconfig.get_paths()["purelib"])
        env = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}
        program = self.folder / "venv" / "bin" / "pivrex"
        where = subprocess.run(
            [python, "-c", "import pivrex; print(pivrex.__file__)"],
            capture_output=True,
            text=True,
            env=env,
            check=True,
            cwd="/",
        ).stdout
        self.assertIn(str(self.folder / "venv"), where)
        for words in (["--version"], ["new", str(self.folder / "team"), "--name", "Crane"], ["check", str(self.folder / "team/rigs/crane.toml")],
                      ["export", "curve", "plover", "-o", str(self.folder / "c.svg")], ["reference"]):  # fmt: skip
            cwd = str(Path(where.strip()).parent / "demo")
            done = subprocess.run([program, *words], capture_output=True, text=True, env=env, check=False, cwd=cwd)
            self.assertEqual(done.returncode, 0, (words, done.stderr))
        self.assertTrue((self.folder / "venv" / "share" / "man" / "man1" / "pivrex.1").exists())
        if compiler() is not None:
            found = chosen("built", Path(where.strip()).parent / "kernels", self.folder / "none")
            self.assertEqual((found.name, found.library is not None), ("built", True), found.said)


if __name__ == "__main__":
    unittest.main()
