"""The C code that depends on the rig: `rig.h` with sizes and pins, `rig.c` with the places of values, and `mine.c`."""

from __future__ import annotations

import math

from pivrex.board.alone import Alone
from pivrex.board.alone_c import AlonePrinter
from pivrex.board.pins_used import BoardWiring
from pivrex.board.printing import number_in_c
from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.seal import SEAL_BYTES

__all__ = ["answers", "mine_source", "rig_header", "rig_source"]

LONGEST_NUMBER = len("-1.23457e-05")
"""How Pivrex writes a number that is no whole one, at its longest."""

LONGEST_REAL = len("-199999.9999")
"""How a board does."""


def answers(wiring: BoardWiring) -> tuple[int, int]:
    """Return the largest number of values in a sentence, and its length then, in bytes."""
    own = len("$PIVSEN,65535/99/99,,2*hh") + (10 + SEAL_BYTES if wiring.rig.secret else 5)
    each = max(1, min(len(wiring.back), (LONGEST_LINE - own) // (LONGEST_REAL + 1)))
    return each, own + each * (LONGEST_REAL + 1)


def rig_header(wiring: BoardWiring, alone: Alone | None = None) -> str:
    """Return `rig.h`; of a board that drives itself with what ``alone`` says."""
    rig, back = wiring.rig, len(wiring.back)
    wholes = wiring.line.outputs.settings
    widths = [
        len(str(-max(1, int(abs(f) + abs(b) + abs(r))))) if w or level else LONGEST_NUMBER
        for f, b, r, w, level in zip(
            wholes.forward, wholes.backward, wholes.rest, wholes.is_whole, wholes.level, strict=True
        )
    ]
    widths += [1] * (len(wiring.outputs) - len(widths))
    seal = SEAL_BYTES if rig.secret else 0
    number = 10 if rig.secret else 5
    head = len(f"$PIVOUT,,65535,1,{wiring.hash}*hh") + number
    each, said = answers(wiring)
    longest = min(LONGEST_LINE, head + len("/99/99") + sum(w + 1 for w in widths) + seal)
    parts = math.ceil(back / each)
    greeting = len(f"$PIVHEY,{rig.name},{wiring.hash}*hh") + seal
    lines = [
        f"/* What the program must know of the rig {rig.name}. Written by pivrex board: change the rig, and write it again. */",
        "#ifndef RIG_H", "#define RIG_H", '#include "line.h"', "",
        f'#define RIG_NAME "{rig.name}"',
        f'#define RIG_HASH "{wiring.hash}" /* which values leave and come back: the desktop says it too */',
        f"#define OUT {len(wiring.outputs)} /* values that leave for it */",
        f"#define BACK {back} /* values that come back */",
        f"#define BACK_EACH {each} /* of these in a sentence, which is at most {LONGEST_LINE} bytes */",
        f"#define BACK_PARTS {parts}",
        f"#define LONGEST_OUT {longest} /* bytes */",
        *([f"#define LONGEST_BACK {max(said, greeting) + 3}"] if alone is None else []),
        "#define LARGE_REAL R(1e37)",
        "#define ANALOGUE_FULL R(1023.0)",
    ]  # fmt: skip
    if rig.secret:
        lines.append(
            f"#define RIG_KEY {{{', '.join(f'0x{b:02x}' for b in rig.secret)}}} /* anyone who has it can drive the robot */"
        )
    if alone is not None:
        lines += AlonePrinter(alone).header()
    lines += ["", "/* Pins, each by its place among those of its kind. */"]
    for kind in ("pwm", "level", "pulse"):
        lines += [f"#define {p.name} {k} /* pin {p.use.pin} */" for k, p in enumerate(wiring.places[kind])]
        lines.append(f"#define {kind.upper()}_MANY {len(wiring.places[kind])}")
    pairs = wiring.places["count"]
    lines += [
        f"#define {pairs[k].name} {k // 2} /* pins {pairs[k].use.pin} and {pairs[k + 1].use.pin} */"
        for k in range(0, len(pairs), 2)
    ]
    lines.append(f"#define COUNT_MANY {len(pairs) // 2}")
    sensors, ranges = wiring.places["sensor"], wiring.places["range"]
    lines += [f"#define {p.name} {k} /* pin {p.use.pin} */" for k, p in enumerate(sensors)]
    lines += [
        f"#define {ranges[k].name} {len(sensors) + k // 2} /* pins {ranges[k].use.pin} and {ranges[k + 1].use.pin} */"
        for k in range(0, len(ranges), 2)
    ]
    many = len(sensors) + len(ranges) // 2
    lines += [f"#define {p.name} {many + k} /* pin {p.use.pin} */" for k, p in enumerate(wiring.places["button"])]
    lines += [
        f"#define ANALOGUE_MANY {len(sensors)}",
        f"#define SENSOR_MANY {many}",
        f"#define BUTTON_MANY {len(wiring.places['button'])}",
        "#define NOISE_SENSOR (SENSOR_MANY + BUTTON_MANY)",
        "",
        "#endif",
        "",
    ]
    return "\n".join(lines)


def rig_source(wiring: BoardWiring, alone: Alone | None = None) -> str:
    """Return `rig.c`."""
    rig = wiring.rig
    rest = ", ".join(number_in_c(g.rest) for g in wiring.outputs)
    used = [s for k, s in enumerate(wiring.sensed) if alone is not None or k in {b.column for b in wiring.back}]
    speeds = any("per_second" in s.value for s in used)
    lines = [
        f"/* What {rig.name} has on which pin. Written by pivrex board: change the rig, and write it again. */", '#include "robot.h"', "",
        f"CONSTANT real REST_VALUES[OUT] = {{{rest}}};", "",
    ]  # fmt: skip
    lines += _give(wiring)
    loops = []
    if speeds:
        lines += [_SPEEDS]
        loops.append("    measure_speeds();")
    if any("gyro_rad" in s.value for s in used) and rig.gyro is not None:
        lines += [_GYRO.format(scale=rig.board.supply_V * rig.gyro.per_V_rad_s / 1023.0)]
        loops.append("    add_up_gyro();")
    lines += ["void sense_loop(void) {", *loops, "}", ""]
    lines += ["/* A column of what is sensed. */", "real sense(int n) {", "    switch (n) {"]
    for k, sensed in enumerate(wiring.sensed):
        if sensed in used and sensed.value:
            lines.append(f"    case {k}: return {sensed.value}; /* {sensed.title} */")
    lines += ["    default: return mine_sense(n);", "    }", "}", ""]
    if alone is not None:
        return "\n".join([*lines, *AlonePrinter(alone).source()])
    return "\n".join([*lines, *_tell(wiring)])


def _give(wiring: BoardWiring) -> list[str]:
    """Return what hands values to pins."""
    ways = {
        "pwm": "board_pwm({0}, limited({1}, {2}));",
        "level": "board_level({0}, {1} > R(0.5));",
        "pulse": "board_pulse({0}, limited({1}, 2500));",
    }
    lines = [_LIMITED] if wiring.places["pwm"] or wiring.places["pulse"] else []
    lines.append("void give(const real *value) {")
    for k, one in enumerate(wiring.outputs):
        if one.place is None:
            lines.append(f"    mine_give({k}, value[{k}]); /* {one.title}: it has no pin in the rig */")
        else:
            lines.append(
                f"    {ways[one.kind].format(one.place.name, f'value[{k}]', one.place.full)} /* {one.title}, pin {one.place.use.pin} */"
            )
    return [*lines, "}", ""]


def _tell(wiring: BoardWiring) -> list[str]:
    """Return the code that writes a field of the sensed values."""
    lines = ["void tell(int n) {", "    switch (n) {"]
    for k, back in enumerate(wiring.back):
        own = wiring.sensed[back.column] if back.column >= 0 else None
        if own is None or not own.known:
            continue
        value = f"board_count({own.counter})" if own.counter else f"(int32_t)sense({back.column})"
        text = f"put_whole({value})" if back.counts else f"put_real(sense({back.column}))"
        lines.append(f"    case {k}: {text}; break; /* {back.title} */")
    return [*lines, "    default: break; /* not known here: an empty field */", "    }", "}", ""]


_LIMITED = """\
/* A count from 0 to the most that its pin takes. */
static long limited(real value, long most) {
    return value > (real)most ? most : value > 0 ? (long)(value + R(0.5)) : 0;
}
"""

_SPEEDS = """\
static real per_second[COUNT_MANY];            /* how fast encoders count */

/* Over 30 ms at least: a count more or less must not look like a jerk. */
static void measure_speeds(void) {
    static uint32_t since;
    static int32_t before[COUNT_MANY];
    uint32_t now = board_ms(), passed = now - since;
    if (passed < 30) return;
    since = now;
    for (int k = 0; k < COUNT_MANY; k++) {
        int32_t count = board_count(k);
        per_second[k] = (real)(count - before[k]) * R(1000.0) / (real)passed;
        before[k] = count;
    }
}
"""

_GYRO = """\
static real gyro_rad;                          /* how far it has turned */

/* Its voltage at rest is what it says in the first second: leave the robot alone when you switch it on. */
static void add_up_gyro(void) {{
    static uint32_t since, many;
    static real at_rest;
    uint32_t now = board_ms(), passed = now - since;
    real read;
    if (passed < 5) return;
    since = now;
    read = (real)board_sensor(SENSOR_GYRO);
    if (now < 1000) at_rest += (read - at_rest) / (real)++many;
    else gyro_rad += (read - at_rest) * R({scale!r}) * (real)passed / R(1000.0);
}}
"""


def mine_source(wiring: BoardWiring) -> str:
    """Return `mine.c` before a person changes it."""
    gives = [f"    /* {k}: {g.title} */" for k, g in enumerate(wiring.outputs) if g.place is None]
    senses = [f"    /* {k}: {s.title} */" for k, s in enumerate(wiring.sensed) if s.known and not s.value]
    return "\n".join([
        "/* Yours: pivrex board writes this file once, and never again. */", '#include "robot.h"', "",
        "/* Once, at the start. */", "void mine_begin(void) {", "}", "",
        "/* In every loop. It must not wait: the watchdog is looked at in between. */", "void mine_loop(void) {", "}", "",
        "/* A value for something that has no pin in the rig. */", "void mine_give(int n, real value) {", *gives, "    (void)n, (void)value;",
        "}", "",
        "/* What the program cannot sense by itself: return it, or NAN while it is not known. */", "real mine_sense(int n) {", *senses,
        "    (void)n;", "    return NAN;", "}", "",
    ])  # fmt: skip
