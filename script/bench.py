"""The measurements behind script/bench. With --quick the minute in the terminal is cut to ten seconds."""

from __future__ import annotations

import contextlib
import fcntl
import json
import math
import mmap
import multiprocessing
import os
import pty
import select
import signal
import struct
import subprocess
import sys
import tempfile
import termios
import time
from collections.abc import Callable
from pathlib import Path

import bench_board
import bench_body
import bench_path
import bench_remotes
import bench_routine
import bench_runs
import bench_scene
import numpy as np

from pivrex.diagnosis.shakedown import Shakedown
from pivrex.export.table import write_ticks
from pivrex.formats.recording import Recording
from pivrex.kernels.engines import wait_for_it
from pivrex.line import Line
from pivrex.line.input_stages import sensed_columns
from pivrex.line.kinematics import hub_velocities, kinematics_of, wheel_speeds
from pivrex.rig import open_folder, read_rig
from pivrex.session.shared import Ring
from pivrex.sim import IdealBody, Rollout

ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src" / "pivrex" / "demo"
PIVREX = str(Path(sys.executable).parent / "pivrex")
SECONDS = 10 if "--quick" in sys.argv else 60
# bytecode is cached as on anybody's machine
ENV = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"} | {
    "TERM": "xterm-256color",
    "COLORTERM": "truecolor",
}


def percentiles(values: list[float], *which: int, scale: float = 1.0) -> dict[str, float]:
    return {("max" if p == 100 else f"p{p}"): round(float(np.percentile(values, p)) * scale, 3) for p in which}


def tick_us(name: str) -> dict[str, float]:
    line = Line(read_rig(DEMO / "rigs" / f"{name}.toml"))
    state, sensed = line.start(), np.zeros(len(sensed_columns(line.rig)))
    rest = line.rest()
    readings = []
    for i in range(500):
        raw = rest.copy()
        raw[: len(line.functions)] = [math.sin(i / 40), math.cos(i / 31), 0.3 * math.sin(i / 23)][: len(line.functions)]
        readings.append(raw)
    took = []
    for i in range(20_000):
        raw = readings[i % 500]
        before = time.perf_counter()
        state, _ = line.step(state, raw, sensed)
        took.append(time.perf_counter() - before)
    return {"median": round(float(np.median(took)) * 1e6, 1), "p99": round(float(np.percentile(took, 99)) * 1e6, 1)}


def whole_ticks(name: str) -> dict[str, float]:
    """A tick of line and simulated robot together, for one robot, and robot ticks a second for ten thousand at once."""
    rig = read_rig(DEMO / "rigs" / f"{name}.toml")
    line, model = Line(rig), IdealBody(rig, open_folder(DEMO).settings.field)
    chance, found = np.random.default_rng(1), {}
    for robots in (1, 10_000):
        batch = () if robots == 1 else (robots,)
        rollout, took = Rollout(line, model, line.start(batch)), []
        for _ in range(2000 if robots == 1 else 6):
            raw = chance.uniform(-1, 1, (*batch, len(line.channels)))
            before = time.perf_counter()
            rollout.tick(raw)
            took.append(time.perf_counter() - before)
        found["one_us" if robots == 1 else "ten_thousand_us"] = round(float(np.median(took)) * 1e6, 1)
    found["robot_ticks_per_s"] = round(10_000 / found["ten_thousand_us"] * 1e6)
    found["times_one_at_a_time"] = round(found["one_us"] * 10_000 / found["ten_thousand_us"], 1)
    return found


def batch_wheels(name: str) -> dict[str, float]:
    """Wheels worked out a second for ten thousand twists at once, and how many times that is one at a time."""
    maps = kinematics_of(read_rig(DEMO / "rigs" / f"{name}.toml").chassis)
    work = wheel_speeds if maps.hubs is None else hub_velocities
    twists = np.random.default_rng(1).uniform(-1, 1, (10_000, 3))
    wheels = len(maps.inverse)

    def best(run: Callable[[], object], times: int) -> float:
        found = math.inf
        for _ in range(times):
            before = time.perf_counter()
            run()
            found = min(found, time.perf_counter() - before)
        return found

    whole = best(lambda: work(maps, twists), 20)
    singly = best(lambda: [work(maps, one) for one in twists], 3)
    return {"batch_wheels_per_s": round(10_000 * wheels / whole), "times_one_at_a_time": round(singly / whole, 1)}


def next_probe_s() -> float:
    """The first probe of a four-wheeled robot with every fault open: 384 assignments of motors, 12,288 in all."""
    rig = read_rig(DEMO / "rigs" / "bittern.toml")
    took = []
    for _ in range(5):
        shakedown = Shakedown(rig)
        assert shakedown.left == 12_288
        before = time.perf_counter()
        shakedown.next()
        took.append(time.perf_counter() - before)
    return round(float(np.median(took)), 4)


def map_ticks_per_s(folder: Path) -> float:
    rig, field = read_rig(DEMO / "rigs" / "plover.toml"), open_folder(DEMO).settings.field
    # a drive that runs into nothing with the perfect body that map plays with
    recording = DEMO.parent.parent.parent / "tests" / "ticks" / "watering.csv"
    count = sum(1 for _ in Recording(recording).readings())
    best = math.inf
    for _ in range(3):
        before = time.perf_counter()
        write_ticks(rig, recording, field, folder / "out.csv", every_tick=False)
        best = min(best, time.perf_counter() - before)
    return round(count / best)


def version_s() -> float:
    took = []
    for _ in range(7):
        before = time.perf_counter()
        subprocess.run([PIVREX, "--version"], check=True, capture_output=True, env=ENV)
        took.append(time.perf_counter() - before)
    return round(float(np.median(took)), 3)


def sleeper(dt_s: float, seconds: float, out: multiprocessing.Queue[list[float]]) -> None:
    """A process that does nothing but sleep to the next tick: as well as this machine can at this moment."""
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, 0, -10)  # as the session asks for itself
    late, due = [], time.perf_counter() + dt_s
    end = due + seconds
    while due < end:
        now = time.perf_counter()
        if now < due:
            time.sleep(due - now)
        # measured as the session's clock does: against the tick's own time, those that have passed left out
        behind = max(0.0, time.perf_counter() - due)
        missed = int(behind // dt_s)
        late.append(behind - missed * dt_s)
        due += (missed + 1) * dt_s
    out.put(late)


class Screen:
    """The program on a pseudo-terminal of 160 x 47, read as fast as it writes."""

    def __init__(self, folder: Path, *words: str) -> None:
        self.began = time.perf_counter()
        self.pid, self.fd = pty.fork()
        if self.pid == 0:
            os.execvpe(PIVREX, [PIVREX, "demo", str(folder), *words], ENV | {"PIVREX_HOME": str(folder / "home")})
        fcntl.ioctl(self.fd, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))

    def read(self, seconds: float) -> bytes:
        ready, _, _ = select.select([self.fd], [], [], seconds)
        try:
            return os.read(self.fd, 1 << 16) if ready else b""
        except OSError:
            return b""

    def until(self, text: bytes, seconds: float) -> float:
        seen, end = b"", time.perf_counter() + seconds
        while time.perf_counter() < end:
            seen = seen[-4096:] + self.read(0.05)
            if text in seen:
                return time.perf_counter() - self.began
        raise SystemExit(f"the screen never showed {text!r}")

    def drain(self, seconds: float) -> None:
        end = time.perf_counter() + seconds
        while (left := end - time.perf_counter()) > 0:
            self.read(left)

    def write(self, data: bytes) -> None:
        os.write(self.fd, data)

    def close(self) -> None:
        self.write(b"\x11")
        self.drain(1.0)
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)
        os.waitpid(self.pid, 0)
        os.close(self.fd)


def start_s() -> float:
    took = []
    for _ in range(5):
        with tempfile.TemporaryDirectory() as folder:
            screen = Screen(Path(folder))
            took.append(screen.until(b"moisture post", 20))
            screen.close()
    return round(float(np.median(took)), 3)


def key_to_screen_ms() -> dict[str, float]:
    """From a driving key to the bytes that show the raw reading it made, through session, line and drawing."""
    took = []
    wanted = "−1.000".encode()  # keys drive timed in a terminal that reports no releases
    with tempfile.TemporaryDirectory() as folder:
        screen = Screen(Path(folder))
        screen.until(b"moisture post", 20)
        screen.write(b"w")  # the keys take over from the recording
        screen.drain(2.0)
        for i in range(60):
            screen.write(b" ")  # back to rest
            screen.drain(0.3 + (i % 7) * 0.011)
            before = time.perf_counter()
            screen.write(b"w")
            seen = b""
            while time.perf_counter() - before < 1.0:
                seen += screen.read(0.5)
                if wanted in seen:
                    took.append(time.perf_counter() - before)
                    break
        screen.close()
    if len(took) < 50:
        raise SystemExit(f"only {len(took)} of 60 keys were seen on the screen")
    return percentiles(took, 50, 95, scale=1000)


def children(pid: int) -> list[int]:
    pairs = []
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            pairs.append((int(folder.name), int((folder / "stat").read_text().rsplit(")", 1)[1].split()[1])))
    family = {pid}
    for child, parent in sorted(pairs):
        if parent in family:
            family.add(child)
    return sorted(family)


def cpu_s(pids: list[int]) -> float:
    ticks = os.sysconf("SC_CLK_TCK")
    total = 0
    for pid in pids:
        try:
            fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        total += int(fields[11]) + int(fields[12])
    return total / ticks


def rss_mib(pids: list[int]) -> float:
    pages = 0
    for pid in pids:
        try:
            pages += int(Path(f"/proc/{pid}/statm").read_text().split()[1])
        except OSError:
            continue
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


class _Memory:
    """The shared memory of a running program, which has lost its name; the system still shows it among the open files."""

    def __init__(self, pids: list[int]) -> None:
        links = (link for pid in pids for link in Path(f"/proc/{pid}/fd").glob("*"))
        (found, *_) = [link for link in links if str(os.path.realpath(link)).startswith("/dev/shm/pivrex-")]
        descriptor = os.open(found, os.O_RDWR)
        self._map = mmap.mmap(descriptor, 0)
        os.close(descriptor)
        self.buf = memoryview(self._map)

    def close(self) -> None:
        self.buf.release()
        self._map.close()


def in_the_terminal() -> dict[str, object]:
    """The demo in tmux at 160 x 47, with a bare sleeper next to it in the same minute."""
    socket = f"pivrex-bench-{os.getpid()}"

    def tmux(*words: str) -> str:
        return subprocess.run(
            ["tmux", "-L", socket, "-f", "/dev/null", *words], capture_output=True, text=True, check=False, env=ENV
        ).stdout

    with tempfile.TemporaryDirectory() as folder:
        tmux(
            "new-session",
            "-d",
            "-x",
            "160",
            "-y",
            "47",
            "-s",
            "m",
            f"PIVREX_HOME={folder}/home {PIVREX} demo {folder}/w",
        )
        pane = int(tmux("list-panes", "-t", "m", "-F", "#{pane_pid}").strip())
        end = time.perf_counter() + 20
        while "why left:" not in tmux("capture-pane", "-p", "-t", "m"):
            if time.perf_counter() > end:
                raise SystemExit("the demo did not come up in tmux")
            time.sleep(0.2)
        time.sleep(3)
        ring = Ring(_Memory(children(pane)))  # type: ignore[arg-type]
        context = multiprocessing.get_context("spawn")
        queue = context.Queue()
        bare = context.Process(target=sleeper, args=(1 / 60, SECONDS, queue))
        bare.start()
        pids = [p for p in children(pane) if "python" in Path(f"/proc/{p}/cmdline").read_text(errors="replace")]
        cpu, began = cpu_s(pids), time.perf_counter()
        seen, late, work = ring.written, [], []
        skipped, beats = ring.skipped, ring.beats
        while time.perf_counter() - began < SECONDS:
            time.sleep(1)
            seen, rows = ring.since(seen)
            late += [r.late_s for r in rows]
            work += [r.work_s for r in rows]
        took = time.perf_counter() - began
        frames = (ring.beats - beats) / took
        share = (cpu_s(pids) - cpu) / took
        sleeps = queue.get()
        bare.join()
        result = {
            "late_ms": percentiles(late, 50, 99, 100, scale=1000),
            "bare_late_ms": percentiles(sleeps, 50, 99, 100, scale=1000),
            "late_ratio": round(float(np.percentile(late, 99) / np.percentile(sleeps, 99)), 2),
            "skipped": ring.skipped - skipped,
            "tick_in_place_ms": percentiles(work, 50, 99, scale=1000),
            "frames_per_s": round(frames, 1),
            "cpu_share": round(share, 3),
            "rss_mib": round(rss_mib(pids), 1),
        }
        ring.close()
        tmux("kill-server")
        time.sleep(0.5)
    return result


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        result: dict[str, object] = {
            "seconds": SECONDS,
            "engine": wait_for_it().name,
            "tick_us": {name: tick_us(name) for name in ("plover", "avocet")},
        }
        result["whole_tick"] = {name: whole_ticks(name) for name in ("plover", "avocet")}
        result["batch"] = {name: batch_wheels(name) for name in ("avocet", "bittern")}
        result["yardstick_ms"] = bench_body.yardstick_ms()
        result["sim_in_one_call"] = {name: bench_body.inside(name) for name in ("plover", "avocet")}
        result["sim_realtime_factor"] = {name: bench_body.realtime(name) for name in ("plover", "avocet")}
        result["sim_batch_robot_s_per_s"] = {name: bench_body.batch(name) for name in ("plover", "avocet")}
        result["tune_s"] = bench_body.tune_s()
        result["responses_ms"] = bench_body.responses_ms(Path(folder))
        result["next_probe_s"] = next_probe_s()
        result["scene_ms"] = bench_scene.scene_ms(Path(folder))
        result["pixels"] = bench_scene.pixels()
        result["map_ticks_per_s"] = map_ticks_per_s(Path(folder))
    result["frames_parsed_per_s"] = bench_remotes.parsed_per_s()
    result["source_to_output_ms"] = {
        name: bench_remotes.source_to_output_ms(udp) for name, udp in (("udp", True), ("pty", False))
    }
    result["flood"] = bench_remotes.flooded(6 if SECONDS == 10 else 30)
    result["garbage"] = bench_remotes.garbage(3 if SECONDS == 10 else 10)
    result["version_s"] = version_s()
    result["start_s"] = start_s()
    result["key_to_screen_ms"] = key_to_screen_ms()
    with tempfile.TemporaryDirectory() as folder:
        screen = Screen(Path(folder), "--view", "routine")
        screen.until(b"moisture post", 20)
        screen.drain(4.0)
        result["type_to_screen_ms"] = bench_routine.type_to_screen_ms(screen, percentiles)
        screen.close()
    result["check_ms"] = bench_routine.check_ms()
    result["preview_ms"] = bench_routine.preview_ms()
    result["solve_ms"] = bench_routine.solve_ms()
    result["path_time_ms"] = bench_path.path_time_ms()
    result["follow_tick_us"] = bench_path.follow_tick_us()
    result["rehearse"] = bench_routine.rehearsals(200 if SECONDS == 10 else 1000)
    result.update(in_the_terminal())
    result["keep"] = bench_runs.keeping(12.0 if SECONDS == 10 else 40.0)
    result["runs"] = bench_runs.ten_minutes()
    result["boards"] = bench_board.boards(200 if SECONDS == 10 else 1000)
    result["board_alone"] = bench_board.alone()
    result["board_routine"] = bench_board.routines()
    result["board_micropython"] = bench_board.in_micropython(200)
    result["emulated_board_realtime_factor"] = bench_board.emulated_realtime_factor()
    print(json.dumps(result, indent=2))


if __name__ == "__main__":
    main()
