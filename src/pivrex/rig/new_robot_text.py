"""The commented text of a new robot's rig."""

from __future__ import annotations

import re
from math import cos, pi, sin

from pivrex.rig.new_robot import BENCH, LAWS, ROBOT_LINE, TWO_SIDED, WHEELS, NewRobot
from pivrex.rig.quantities import quoted

__all__ = ["workspace_text", "written"]


def workspace_text(name: str, rig: str) -> str:
    """Write the ``workspace.toml`` of a new workspace that opens a rig, by the name of its file."""
    return f"""# {name}: rigs/ holds the robots, routines/ what they do alone, inputs/ recorded driving. pivrex check reads it.
name = {quoted(name)}
rig = {quoted(rig)}              # the one that opens first

[match]                   # the periods of a match
alone = "25 s"
between = "3 s"
driven = "110 s"

[field]                   # the floor; [[field.blocks]] and [[field.rounds]] stand on it
name = "practice floor"
length = "4.0 m"
width = "3.0 m"

[field.start]             # where the robot starts
x = "0.60 m"
y = "0.60 m"
heading = "0 deg"
"""


def written(robot: NewRobot) -> str:
    """Return the text of a new robot's rig: commented, and without mistakes."""
    body = [] if robot.wheels == BENCH else [_chassis(robot), _body(robot)]
    parts = [_head(robot), *body, _loops(robot), _motors(robot), _driver(robot), _extras(robot)]
    return "\n".join(part for part in parts if part)


def _head(w: NewRobot) -> str:
    about = WHEELS[w.wheels].partition(";")[0]
    lines = [
        f"# {w.name}. Edit by hand as you like: comments and order survive a save. Measure what is marked (measure).",
        f"name = {quoted(w.name)}",
        f"about = {quoted(about)}",
        'rate = "50 Hz"            # how often a second the whole line is computed',
        'lag = "100 ms"            # how long the wheels take to follow',
        "",
    ]
    return "\n".join(lines)


def _wheels(w: NewRobot) -> list[tuple[str, list[str]]]:
    """Each wheel with what its table says in addition to its name and radius."""
    length, _, _, track = w.all_sizes
    base = 190 * length / 260  # wheels a little inside of the body
    corners = [("front left", 1, 1), ("front right", 1, -1), ("rear left", -1, 1), ("rear right", -1, -1)]
    if w.wheels == BENCH:
        return [("first", []), ("second", [])]
    if w.wheels == "two and a caster":
        return [
            (
                "left",
                [
                    'x = "0 mm"                # forward of the middle (measure)',
                    f"{f'y = {quoted(_mm(track / 2))}':<26}# left of it",
                ],
            ),
            ("right", ['x = "0 mm"', f"y = {quoted(_mm(-track / 2))}"]),
        ]
    if w.wheels == "three omni":
        found = []
        for name, degrees in (("left", 60), ("rear", 180), ("right", -60)):
            x, y = track / 2 * cos(degrees * pi / 180), track / 2 * sin(degrees * pi / 180)
            drive = (degrees + 90 + 180) % 360 - 180
            found.append((name, [
                f'x = "{x:.2f} mm"', f'y = "{y + 0.0:.2f} mm"',
                f'drive = "{drive} deg"       # along the rim: driven forward it turns the robot left',
                'rollers = "0 deg"         # an omni wheel',
            ]))  # fmt: skip
        return found
    found = []
    for name, x, y in corners:
        rows = [f"x = {quoted(_mm(base / 2 * x))}", f"y = {quoted(_mm(track / 2 * y))}"]
        if (x, y) == (1, 1):
            rows = [f"{rows[0]:<26}# forward of the middle (measure)", f"{rows[1]:<26}# left of it"]
        if w.wheels == "four mecanum":
            rows.append(
                f'rollers = "{-45 * x * y} deg"      # from the drive direction to the axis of the roller on the ground'
            )
        if w.wheels == "four steered":
            rows.append("steered = true")
        found.append((name, rows))
    return found


def _mm(value: float) -> str:
    return f"{round(value, 2) + 0.0:g} mm"


def _measure(w: NewRobot) -> str:
    """Return a comment for a size that is still to be measured."""
    return "" if w.sizes else " (measure)"


def _chassis(w: NewRobot) -> str:
    length, width, wheel, _ = w.all_sizes
    size = f"length = {quoted(_mm(length))}"
    lines = ["[chassis]", f"{size:<26}# of the body{_measure(w)}", f"width = {quoted(_mm(width))}", ""]
    first = True
    for name, rows in _wheels(w):
        radius = f"radius = {quoted(_mm(wheel / 2))}"
        radius = f"{radius:<26}# from the axle to the ground{_measure(w)}" if first else radius
        lines += ["[[chassis.wheels]]", f"name = {quoted(name)}", *rows, radius, ""]
        first = False
    if w.wheels == "two and a caster":
        lines += ["[[chassis.casters]]", f"x = {quoted(_mm(-90 * length / 260))}", 'y = "0 mm"', ""]
    return "\n".join(lines)


def _body(w: NewRobot) -> str:
    lines = [
        '[body]                    # how the simulated robot moves; kind = "ideal" has no faults',
        'kind = "realistic"',
        'mass = "2 kg"             # (measure)',
        "",
    ]
    if w.wheels == "four on two sides":
        lines.insert(3, "grip_across = 0.4         # hard tyres: they slide sideways, else it could hardly turn")
    if "gyro" in w.extras:
        lines += [
            "[gyro]",
            "",
            "[correction]              # how the gyro corrects the heading; Y switches it",
            'hold = "off"',
            "",
        ]
    if "ranger" in w.extras:
        lines += ["[sensors.front]           # distance to the next obstacle in front", 'kind = "ranger"',
                  f"x = {quoted(_mm(w.all_sizes[0] / 2))}", 'cone = "20 deg"', 'longest = "2 m"', ""]  # fmt: skip
    return "\n".join(lines)


def _loops(w: NewRobot) -> str:
    if "encoders" not in w.extras:
        return ""
    gains = "Chassis (3) changes them" if w.wheels == BENCH else "Heading finds quicker gains"
    lines = [
        "[control]                 # how speeds become drive",
        'wheels = "pid"            # a loop on the encoders',
        f"p = 0.15                  # calm to begin with; {gains}",
        "i = 0.5",
        'acceleration = "0 ms"     # what a jump of the stick adds; more makes starts quicker, and jerky',
        "",
    ]
    return "\n".join(lines)


def _output(kind: str, at: int) -> list[str]:
    """The table of an output; its pins begin with number ``at``."""
    comments = {"duty": "one signed number", "magnitude": "a number, and a pin for the direction",
                "two pins": "one pulses for each direction, the other rests",
                "three pins": "one pulses, two set the direction"}  # fmt: skip
    first = f"kind = {quoted(kind)}"
    lines = [f"{first:<26}# {comments[kind]}" if kind in comments else first]
    if kind in ("duty", "magnitude", "two pins", "three pins"):
        lines += ["bits = 8                  # 0 to 255", 'pwm = "1 kHz"']
    pins = {
        "duty": ("pin",),
        "servo": ("pin",),
        "magnitude": ("pin", "direction_pin"),
        "two pins": ("forward_pin", "backward_pin"),
        "three pins": ("enable_pin", "forward_pin", "backward_pin"),
    }
    return lines + [f"{role} = {at + i}" for i, role in enumerate(pins.get(kind, ()))]


_PINS = {"duty": 1, "servo": 1, "magnitude": 2, "two pins": 2, "three pins": 3}


def _motors(w: NewRobot) -> str:
    lines = ["# --- motors " + "-" * 87, ""]
    pin = 2
    for number, (name, _) in enumerate(_wheels(w), 1):
        comments = number == 1
        lines += [f"[motors.{_key(name)}]", *([f"wheels = [{quoted(name)}]"] if w.wheels != BENCH else [])]
        lines.append(
            'top_speed = "9000 rpm"'
            + (
                f"    # of the motor shaft{', with the robot on the floor' * (w.wheels != BENCH)} (measure)"
                if comments
                else ""
            )
        )
        lines.append(
            "gear = 30"
            + (
                f"                 # turns of the shaft for one of {'what it turns' if w.wheels == BENCH else 'the wheel'}"
                if comments
                else ""
            )
        )
        if "encoders" in w.extras:
            lines.append("counts_per_turn = 12" + ("      # of the shaft" if comments else ""))
        lines.append(
            'smallest = "4 %"'
            + ("          # below this the motor only hums; the shakedown finds it" if comments else "")
        )
        if "right" in name and w.wheels in TWO_SIDED:
            lines.append("reversed = true           # mounted the other way round")
        lines += ["", f"[motors.{_key(name)}.output]", *_output(w.output, pin), f'port = "M{number}"', ""]
        pin += _PINS.get(w.output, 0)
    if w.wheels == "four steered":
        lines += ["[steering]", 'threshold = "0.02 m/s"    # below this a wheel keeps its last angle', ""]
        for number, (name, _) in enumerate(_wheels(w), 1):
            lines += [
                f"[steering.wheels.{_key(name)}]", 'top_speed = "9000 rpm"', "gear = 90", "counts_per_turn = 12", 'smallest = "3 %"',
                'rate = "540 deg/s"', 'sensor = { kind = "counts", per_turn = 4096, offset = "0 deg" }   # f in Chassis reads it',
                f'output = {{ kind = "duty", port = "T{number}" }}', "",
            ]  # fmt: skip
    return "\n".join(lines)


_READS = {
    "tank": ("left", "right"), "arcade": ("forward", "turn"), "split arcade": ("forward", "turn"),
    "triggers": ("ahead", "back", "turn"), "planar": ("forward", "sideways", "turn"), "each": ("motors.first", "motors.second"),
}  # fmt: skip


def _driver(w: NewRobot) -> str:
    lines = [
        "# --- the driver's side " + "-" * 76,
        "",
        "[shaping]",
        'measure = "axis"',
        'after_dead_band = "from zero"',
        "",
    ]
    for role in _READS[w.law]:
        why = "          # c in Driver measures it" if role == _READS[w.law][0] else ""
        lines += [f"[shaping.{role}]", f'dead_band = "6 %"{why}', 'curve = "30 %"']
        lines += ['scale = "50 %"', ""] if role == "turn" else [""]
    lines += ["[law]", f"{'kind = ' + quoted(w.law):<26}# {LAWS[w.law]}", ""]
    if w.wheels == BENCH:
        lines += ["[law.motors]", 'first = "left_y"           # v in Driver chooses another', 'second = "right_y"', ""]
    lines += [
        "[speed_levels]",
        'start = "cruise"',
        'up = "button_5"            # or ] on the keyboard',
        'down = "button_4"',
        "",
    ]
    for name, moving, turning in (("creep", 30, 40), ("cruise", 65, 75), ("dash", 100, 100)):
        lines += [
            "[[speed_levels.levels]]",
            f'name = "{name}"',
            f'moving = "{moving} %"',
            f'turning = "{turning} %"',
            "",
        ]
    return "\n".join(lines).replace('up = "button_5"            #', 'up = "button_5"           #')


_CARRIED: dict[str, tuple[tuple[str, ...], bool, tuple[tuple[str, str], ...]]] = {
    "arm": (('kind = "motor"',), True, (("button_12", "60 %"), ("button_13", "-60 %"))),
    "arm to angles": (('kind = "position"', "counts_per_turn = 1440", 'minimum = "0 deg"', 'maximum = "90 deg"', 'top_speed = "90 deg/s"',
                       'safe = "hold"'), True, (("button_3", "to 80 deg"), ("button_2", "to 0 deg"))),
    "lift": (('kind = "lift"', 'drum_radius = "12 mm"    # a turn of the drum winds 2π of it', "counts_per_turn = 1440", 'minimum = "0 mm"',
              'maximum = "300 mm"', 'top_speed = "150 mm/s"', 'safe = "hold"'), True,
             (("button_15", "to 250 mm"), ("button_11", "to 0 mm"))),
    "servo": (('kind = "servo"', 'minimum = "0 deg"', 'maximum = "90 deg"', 'safe = "0 deg"'), False,
              (("button_0", "to 60 deg"), ("button_14", "to 0 deg"))),
    "pump": (('kind = "switch"',), False, (("button_1", "on"),)),
    "lamp": (('kind = "switch"', 'shows = "linked"         # lit while the robot is heard'), False, ()),
}  # fmt: skip
"""What each attachment says of itself, whether a motor driver moves it, and what its buttons do."""

_LETTERS = {"F": "forward 50 %", "B": "back 50 %", "L": "turn left 40 %", "R": "turn right 40 %", "S": "brake"}


def _extras(w: NewRobot) -> str:
    lines: list[str] = []
    pin = 30
    bound: list[tuple[str, str]] = []
    for extra in w.carried:
        rows, motor, buttons = _CARRIED[extra]
        name = w.called(extra)
        lines += [f"[attachments.{_key(name)}]", *rows]
        if motor:
            lines += ["", f"[attachments.{_key(name)}.output]", *_output("duty", pin), ""]
        else:
            lines += [f"output = {{ pin = {pin} }}", ""]
        bound += [(channel, f"{name} {what}") for channel, what in buttons]
        pin += 1
    if lines:
        about = "what else stands there" if w.wheels == BENCH else "what it has in addition to its wheels"
        lines = [f"# --- {about}; v and + in Driver bind other buttons " + "-" * (56 - len(about)), "", *lines]
    for channel, does in bound:
        lines += ["[[bindings]]", f"channel = {quoted(channel)}", f"does = {quoted(does)}", ""]
    return "\n".join(lines + _sources(w))


def _sources(w: NewRobot) -> list[str]:
    lines: list[str] = []
    usb = f'wire = {{ kind = "serial", port = {quoted(w.port)}, baud = 115200 }}'
    if "stick on a serial line" in w.sources:
        second = "right_y" if w.law in ("tank", "each") else "right_x" if w.law == "split arcade" else "left_x"
        columns = '["left_y", "left_x", "right_x"]' if w.law == "planar" else f'["left_y", "{second}"]'
        if w.law == "triggers":
            columns = '["left_trigger", "right_trigger", "left_x"]'
        lines += ['[sources."my stick"]       # numbers with spaces or commas between them, a line a reading', 'kind = "numbers"', usb,
                  f"columns = {columns}", "low = 0", "high = 1023               # 10 bits", 'silent_after = "250 ms"', ""]  # fmt: skip
    for kind, wire in (("letters", 'wire = { kind = "tcp", port = 5801 }'), ("letters on a serial line", usb)):
        if kind in w.sources:
            name = "my letters" if kind == "letters" else "my serial letters"
            lines += [f'[sources."{name}"]', 'kind = "letters"', wire, "", f'[sources."{name}".letters]']
            letters = {"S": "brake", "1": "level creep", "3": "level dash"} if w.wheels == BENCH else _LETTERS
            lines += [f'{letter} = "{does}"' for letter, does in letters.items()] + [""]
    if "radio" in w.sources:
        lines += ['[sources."my radio"]       # sentences as docs/wire.md says; pivrex key seals them', 'kind = "packets"',
                  'sender = "mine"', 'wire = { kind = "udp", host = "127.0.0.1", port = 5800 }', 'silent_after = "200 ms"', ""]  # fmt: skip
    fast = 250000 if "ranger" in w.extras else 115200
    if ROBOT_LINE in w.extras:
        lines += ["[link]                    # the real robot; h in any view changes to it",
                  f'wire = {{ kind = "serial", port = {quoted(w.robot_port)}, baud = {fast} }}', ""]  # fmt: skip
    elif "robot by radio" in w.extras:
        lines += ["[link]                    # the real robot; h in any view changes to it",
                  'wire = { kind = "udp", host = "127.0.0.1", port = 5810 }', ""]  # fmt: skip
    if lines:
        lines = ["# --- where commands come from, and where the robot is " + "-" * 45, "", *lines]
    return lines


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else quoted(name)
