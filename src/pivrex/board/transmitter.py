"""Writes the program of a transmitter from the source of the rig that hears it."""

from __future__ import annotations

from pivrex.board.avr import avr_files, avr_makefile
from pivrex.board.parts import part
from pivrex.board.pins_used import BoardWiring, transmitting
from pivrex.board.printing import number_in_c
from pivrex.devices.seal import SEAL_BYTES
from pivrex.line.line import Line
from pivrex.rig.rig import Rig
from pivrex.rig.sources import NumbersSource, PacketsSource

__all__ = ["transmitter_files"]

LONGEST_REAL = len("-199999.9999,")

TYPES = """\
typedef float real;
typedef int16_t whole;
typedef uint8_t flag;
#define R(x) x##f
#define LARGE_REAL R(1e37)
#ifdef __AVR__
#define CONSTANT const __flash
#else
#define CONSTANT const
#endif
"""


def transmitter_files(rig: Rig, name: str, target: str) -> tuple[dict[str, str], BoardWiring]:
    """Return the files of a transmitter's program, by name, for a target: avr or c.

    Raises
    ------
    RigError
        If the source is none that a transmitter sends, or for what its board cannot do.
    """
    wiring = transmitting(Line(rig), name)
    found = {n: part(n) for n in ("board.h", "robot.h", "sentence.c", "seal.c", "main.c", "transmitter.c")}
    found |= {"rig.h": _header(wiring), "rig.c": _source(wiring), "mine.c": MINE}
    if target == "avr":
        found |= avr_files(wiring)
        sources = " ".join(sorted(n for n in found if n.endswith(".c")))
        found["Makefile"] = avr_makefile(rig, sources, " ".join(sorted(n for n in found if n.endswith(".h"))))
    return found, wiring


def _header(wiring: BoardWiring) -> str:
    rig, source = wiring.rig, wiring.source
    assert isinstance(source, NumbersSource | PacketsSource)
    sensors, buttons = wiring.places["sensor"], wiring.places["button"]
    longest = (len(source.columns) + 2) * LONGEST_REAL + (len(f"$PIVDRV,{source.sender},4294967295,1FFFF*hh\r\n") if isinstance(
        source, PacketsSource) else 0) + (SEAL_BYTES if rig.secret else 0)  # fmt: skip
    lines = [
        f"/* What the transmitter {wiring.sender} must know. Written by pivrex board: change the rig {rig.name}, and write it again. */",
        "#ifndef RIG_H", "#define RIG_H", "#include <math.h>", "#include <stdint.h>", TYPES,
        "#define SENDS", f"#define LONGEST_BACK {longest}", "#define ANALOGUE_FULL R(1023.0)", "#define COUNT_MANY 0",
    ]  # fmt: skip
    if isinstance(source, PacketsSource):
        lines.append(f'#define RADIO_SENDER "{source.sender}"')
        if rig.secret:
            lines.append(
                f"#define RIG_KEY {{{', '.join(f'0x{b:02x}' for b in rig.secret)}}} /* anyone who has it can drive the robot */"
            )
    lines += [f"#define {p.name} {k} /* pin {p.use.pin} */" for k, p in enumerate([*sensors, *buttons])]
    lines += [
        f"#define ANALOGUE_MANY {len(sensors)}",
        f"#define SENSOR_MANY {len(sensors)}",
        f"#define BUTTON_MANY {len(buttons)}",
    ]
    return "\n".join([*lines, "#define NOISE_SENSOR (SENSOR_MANY + BUTTON_MANY)", "", "#endif", ""])


def _source(wiring: BoardWiring) -> str:
    source = wiring.source
    names = {p.channel: p.name for kind in ("sensor", "button") for p in wiring.places[kind]}
    lines = [
        f"/* What {wiring.sender} has on which pin. Written by pivrex board: change the rig, and write it again. */", '#include "robot.h"', "",
        "void sense_loop(void) {}", "", "void put_controls(void) {",
    ]  # fmt: skip
    if isinstance(source, PacketsSource):
        lines.append("    uint32_t bits = 0;")
        for channel in source.columns:
            share = f"(real)board_sensor({names[channel]}) / ANALOGUE_FULL"
            value = share if channel.endswith("_trigger") else f"({share} * R(2.0) - R(1.0))"
            lines.append(
                f"    put(','), put_real({value} * {number_in_c(source.full)} + {number_in_c(source.zero)}); /* {channel} */"
            )
        for channel, name in names.items():
            if channel.startswith("button_"):
                lines.append(f"    bits |= (uint32_t)board_sensor({name}) << {channel.removeprefix('button_')};")
        lines += [
            "    put(',');",
            "    for (int k = 16; k >= 0; k -= 4) if (bits >> k || !k) put(hex_digit(bits >> k));",
        ]
    else:
        assert isinstance(source, NumbersSource)
        span = source.high - source.low
        for k, channel in enumerate(source.columns):
            if k:
                lines.append("    put(' ');")
            if channel == "-" or channel.startswith("button_"):
                lines.append(
                    f"    put_whole({f'board_sensor({names[channel]})' if channel in names else '0'}); /* {channel} */"
                )
            else:
                value = f"(real)board_sensor({names[channel]}) / ANALOGUE_FULL * {number_in_c(span)} + {number_in_c(source.low)}"
                lines.append(
                    f"    put_whole((int32_t)({value} + {'R(0.5)' if source.low >= 0 else 'R(0.0)'})); /* {channel} */"
                )
    return "\n".join([*lines, "}", ""])


MINE = """\
/* Yours: pivrex board writes this file once, and never again. */
#include "robot.h"

/* Once, at the start. */
void mine_begin(void) {
}

/* In every loop. It must not wait. */
void mine_loop(void) {
}
"""
