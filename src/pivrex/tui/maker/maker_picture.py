"""The picture of the maker: steps at the left, drawn choices in the middle, the robot at the right."""

from __future__ import annotations

from functools import lru_cache
from math import degrees, pi
from pathlib import Path

from pivrex.line.questions.ask import can_do
from pivrex.rig import Rig, read_text
from pivrex.rig.new_robot import NewRobot, laws_of
from pivrex.rig.new_robot_text import written
from pivrex.scene.robot import add_robot, reach_of
from pivrex.scene.scene import Box, Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import RPM, wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.maker.robot_in_making import Making

__all__ = ["draw_making"]

STEPS_W = 40
SMALL_W, SMALL_H = 17, 7

_QUESTIONS = {
    "name": "What is the robot called?",
    "begin": "Choose everything here, or copy a robot that is there already?",
    "wheels": "What does it stand on?",
    "sizes": "How large is it? Body length, body width, wheel diameter, track (from the left wheels to the right ones).",
    "law": "What do the sticks mean?",
    "output": "What do its motor drivers expect?",
    "extras": "What else is there? Space selects.",
    "names": "What are the attachments called? One name for each, with commas between.",
    "sources": "Who should drive it, in addition to keys, sticks on the screen and gamepads? Space selects.",
    "port": "On which port is that serial line?",
    "robot port": "On which port is the robot?",
    "write": "Enter writes it. Every number can be changed afterwards, on the screen or in the file.",
}

_LAW_STICKS = {
    "each": ((0, 1), (0, 1)),
    "tank": ((0, 1), (0, 1)), "arcade": ((1, 1), None), "split arcade": ((0, 1), (1, 0)), "triggers": ((1, 0), "triggers"),
    "planar": ((1, 1), (1, 0)),
}  # fmt: skip
"""Which ways each stick counts, across and up."""

_OUTPUT_SIGNS = {
    "duty": "−255 ━━━╋━━━ 255", "magnitude": "0 ━━━━━ 255  ⇅ way", "two pins": "⎍⎍ ahead  ⎍⎍ back", "three pins": "⎍⎍ on  ⇅ way",
    "servo": "1.0 ⎍ 1.5 ⎍ 2.0 ms",
    "fraction": "−1 ━━━╋━━━ 1", "percent": "−100 ━━╋━━ 100 %", "speed": "−1.2 ━━╋━━ 1.2 m/s",
}  # fmt: skip


def draw_making(making: Making, width: int, height: int) -> Picture:
    """Draw it."""
    picture = Picture(width, height)
    left = STEPS_W if width >= 110 else 0
    right = max(0, min(60, width - left - 62)) if width >= 96 else 0
    if left:
        _draw_steps(making, picture, left - 2, height)
        picture.down(left - 1, 0, height)
    middle = width - left - right
    _draw_step(making, picture, left + 1, middle - 2, height)
    if right:
        picture.down(width - right, 0, height)
        _draw_robot(making, picture, width - right + 2, right - 3, height)
    return picture


def _draw_steps(making: Making, picture: Picture, width: int, height: int) -> None:
    picture.text(1, 0, "a robot of your own", "title")
    y = 2
    for step in making.steps():
        if y + 1 >= height:
            break
        here = step == making.step
        picture.spot(0, y, width, "step", step, 2)
        picture.text(1, y, "▸" if here else " ", "commanded")
        picture.text(3, y, f" {step} " if here else step, "chosen" if here else "title")
        picture.text(5, y + 1, making.answer(step), "rest", width - 6)
        y += 3 if height >= 3 * len(making.steps()) + 4 else 2


def _draw_step(making: Making, picture: Picture, x: int, width: int, height: int) -> None:
    y = 0
    for line in wrapped(_QUESTIONS[making.step], width - 1):
        picture.text(x, y, line, "title")
        y += 1
    y += 1
    if making.types:
        end = picture.text(x + 2, y, f" {making.typed} ", "chosen", width - 4)
        picture.text(end, y, "▏", "commanded")
        y += 2
        if making.step in ("port", "robot port"):
            y = _draw_ports(picture, x + 2, y, width - 3)
    elif making.step == "write":
        y = _draw_text(making, picture, x, y, width, height - 3)
    else:
        y = _draw_options(making, picture, x, y, width, height - 3)
    if making.problem:
        for line in wrapped(f"! {making.problem}", width - 2):
            y += 1
            picture.text(x + 2, min(y, height - 2), line, "alarm")
    keys = (
        "type it, Enter goes on"
        if making.types
        else "Enter writes it"
        if making.step == "write"
        else "↑↓ choose  Enter goes on"
    )
    keys += "  Space selects" if making.several else ""
    picture.text(x, height - 1, f"{keys}  ← back  Esc leaves", "key", width)


def _draw_ports(picture: Picture, x: int, y: int, width: int) -> int:
    names = sorted(str(p) for pattern in ("ttyUSB*", "ttyACM*", "cu.usb*") for p in Path("/dev").glob(pattern))
    said = (
        "plugged in now: " + ", ".join(names)
        if names
        else "no serial port is plugged in now; it is found when it comes"
    )
    for line in wrapped(said, width):
        picture.text(x, y, line, "dim")
        y += 1
    return y


def _draw_options(making: Making, picture: Picture, x: int, y: int, width: int, bottom: int) -> int:
    options = making.options()
    drawn = making.step in ("wheels", "law") and width >= 46
    room = bottom - y
    each = SMALL_H if drawn and room >= SMALL_H * min(3, len(options)) else 3 if room >= 3 * len(options) else 2
    rows = max(1, room // each)
    first = max(0, min(making.at - rows // 2, len(options) - rows))
    for i, option in enumerate(options[first : first + rows], first):
        here = i == making.at
        picture.spot(x, y, width, "option", str(i), each)
        at = x + 2
        if each == SMALL_H:
            small = _wheels_drawn(option.name) if making.step == "wheels" else _sticks_drawn(option.name)
            picture.place(small, x + 2, y)
            at += SMALL_W + 2
        picture.text(x, y + (each == SMALL_H) * 2, "▸" if here else " ", "commanded")
        mark = ("■ " if option.is_in else "□ ") if making.several else ""
        row = y + (each == SMALL_H) * 2
        picture.text(
            at, row, f" {mark}{option.name} ", "chosen" if here else "title" if option.is_in else "rest", width - at + x
        )
        if making.step == "output":
            sign = _OUTPUT_SIGNS[option.name]
            picture.right(x + width - 1, row, sign, "commanded" if here else "rest")
        for line in wrapped(option.what, width - (at - x) - 2)[: max(1, each - 2)]:
            row += 1
            picture.text(at + 1, row, line, "dim")
        y += each
    return y


@lru_cache(maxsize=16)
def _wheels_drawn(name: str) -> Picture:
    rig = read_text(written(NewRobot(wheels=name, law=next(iter(laws_of(name))))), Path("small.toml"), Rig)
    return _robot_drawn(rig, SMALL_W, SMALL_H, names=False)


@lru_cache(maxsize=16)
def _sticks_drawn(law: str) -> Picture:
    picture = Picture(SMALL_W, SMALL_H)
    first, second = _LAW_STICKS[law]
    for x, ways in ((0, first), (9, second)):
        if ways == "triggers":
            for at, sign in ((9, "▁"), (13, "▁")):
                picture.text(at, 1, "╭─╮", "frame")
                picture.text(at, 2, "│▓│", "commanded")
                picture.text(at, 3, f"╰{sign}╯", "frame")
            picture.text(9, 4, "back", "dim")
            picture.text(12, 5, "ahead", "dim")
            continue
        if not isinstance(ways, tuple):
            continue
        for row, text in enumerate(("╭─────╮", "│     │", "│  ●  │", "│     │", "╰─────╯")):
            picture.text(x, row + 1, text, "frame")
        picture.text(x + 3, 3, "●", "commanded")
        if ways[1]:
            picture.text(x + 3, 2, "▲", "commanded")
            picture.text(x + 3, 4, "▼", "commanded")
        if ways[0]:
            picture.text(x + 1, 3, "◀", "commanded")
            picture.text(x + 5, 3, "▶", "commanded")
    return picture


def _bench_drawn(rig: Rig, width: int, height: int, names: bool) -> Picture:
    """Motors next to each other on a table."""
    many = len(rig.motors)
    scene = Scene(Box(-1.2, -0.7, 2.4 * many - 1.2, 1.4))
    scene.line([(-1.1, -0.45), (2.4 * many - 1.3, -0.45)], "frame", 0.5)
    for k, motor in enumerate(rig.motors):
        scene.circle((2.4 * k, 0.4), 0.8, "rest", 0.4)
        scene.circle((2.4 * k, 0.4), 0.2, "commanded", 0.6)
        if names:
            scene.label((2.4 * k, -0.5), motor, "rest", 1.0, "below")
    return print_scene(scene, width, height)


def _robot_drawn(rig: Rig, width: int, height: int, names: bool = True) -> Picture:
    if rig.is_bench:
        return _bench_drawn(rig, width, height, names)
    ahead, across = reach_of(rig.chassis)
    room = across * (1.7 if names else 1.1)
    scene = Scene(Box(-room, -ahead * 1.1, room, ahead * 1.35))
    add_robot(scene, rig, (0.0, 0.0, pi / 2), detail=True)
    for wheel in rig.chassis.wheels if names else ():
        out = abs(wheel.y_m) + (1.4 if wheel.steered else 0.6) * wheel.radius_m
        side, x = ("left", -out) if wheel.y_m > 0 else ("right", out)
        scene.label((x, wheel.x_m), wheel.name, "rest", 1.0, f"{side} {side}-below")
    return print_scene(scene, width, height)


def _draw_robot(making: Making, picture: Picture, x: int, width: int, height: int) -> None:
    rig = making.rig()
    if rig is None:
        for y, line in enumerate(wrapped(making.made_wrong, width - 1), 1):
            picture.text(x, y, line, "alarm")
        return
    picture.text(x, 0, rig.name, "title")
    picture.text(
        x + len(rig.name) + 2, 0, f"rigs/{Path(making.path_shown()).name}", "dim", max(0, width - len(rig.name) - 2)
    )
    drawing = max(6, min(height - 13, width // 2 + 2))
    picture.place(_robot_drawn(rig, width, drawing), x, 1)
    y = drawing + 2
    across = f", sideways {rig.full_left_m_s:.2f} m/s" if rig.law.kind == "planar" else ""
    motion = [
        f"full forward {rig.full_forward_m_s:.2f} m/s{across}",
        f"full turn {degrees(rig.full_turn_rad_s):.0f} deg/s",
        *wrapped(can_do(rig), width - 1),
    ]
    rows = [
        *([f"{n}: top {m.wheel_top_rad_s * RPM:.0f} rpm" for n, m in rig.motors.items()] if rig.is_bench else motion),
        f"law {rig.law.kind}: " + ", ".join(f"{role} by {rig.channel(axis)}" for role, axis in rig.law.axes().items()),
    ]
    if rig.sources:
        rows.append("sources " + ", ".join(rig.sources))
    if rig.attachments:
        rows.append("attachments " + ", ".join(rig.attachments))
    rows.append(
        "real robot " + (rig.link.wire.kind if rig.link is not None else "none yet; there is the simulated robot")
    )
    for text in rows:
        for line in wrapped(text, width - 1):
            if y < height:
                picture.text(x, y, line, "rest")
            y += 1


def _draw_text(making: Making, picture: Picture, x: int, y: int, width: int, bottom: int) -> int:
    if making.rig() is None:
        for line in wrapped(f"! {making.made_wrong}", width - 2):
            picture.text(x + 2, y, line, "alarm")
            y += 1
        return y
    lines = making.text().splitlines()
    for row in wrapped(f"{making.path_shown()}, {len(lines)} lines", width - 1):
        picture.text(x, y, row, "target")
        y += 1
    for line in lines[: max(0, bottom - y - 2)]:
        y += 1
        before, sign, comment = line.partition("#")
        at = picture.text(x + 2, y, before, "rest", width - 3)
        if sign:
            picture.text(at, y, sign + comment, "dim", max(0, x + width - at - 1))
    return y + 1
