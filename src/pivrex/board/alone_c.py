"""The C code of a board that drives by itself, in addition to `rig_c.py`."""

from __future__ import annotations

from math import prod
from typing import Any

import numpy as np

from pivrex.board.alone import NOT_READ, SAYS_LINKED, SAYS_READY, Alone, part_length
from pivrex.board.flat_program import Global
from pivrex.board.pins_used import START
from pivrex.board.printing import c_name, number_in_c
from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.seal import SEAL_BYTES
from pivrex.line.bindings import Bindings
from pivrex.line.presses import deflection
from pivrex.line.questions.neutral import AT_REST
from pivrex.line.stage import PRESSED
from pivrex.rig.sources import NumbersSource, PacketsSource, PinsSource

__all__ = ["AlonePrinter"]


GYRO_MS = 1000
"""How long a gyro on an analogue pin measures what it says at rest, see `rig_c.py`."""


class AlonePrinter:
    """Writes the parts of `alone.c` and `radio.c` that depend on a rig: sizes in `rig.h`, inputs and outputs in `rig.c`."""

    def __init__(self, alone: Alone) -> None:
        self.alone, self.wiring, self.telemetry = alone, alone.wiring, alone.telemetry

    def header(self) -> list[str]:
        """Return the lines of `rig.h`."""
        wiring, line = self.wiring, self.wiring.line
        spec, radio = wiring.source, wiring.radio
        seal = SEAL_BYTES if wiring.rig.secret else 0
        sticks = len(",-1000") * len(self.alone.channels)
        greeting = len(f"$PIVHEY,{wiring.rig.name},{self.alone.hash},alone*hh\r\n") + seal
        hears = int(not wiring.shares_port)
        idle = {"lost": "IDLE_LOST", "no change": "IDLE_SAME", "neutral": "IDLE_REST"}[spec.idle if spec else "lost"]
        lines = [
            "", "/* It drives by itself. */", "#define ALONE",
            f'#define LINE_HASH "{self.alone.hash}" /* which line this is: the desktop computes it too */',
            f"#define PERIOD_US {round(line.dt_s * 1e6)}UL /* of a tick */",
            f"#define DT R({line.dt_s!r}) /* the same, in s */",
            f"#define ASKS_EVERY {line.rig.asks_every}UL /* ticks between two in which the command is computed */",
            f"#define TICKS_A_SECOND {round(1 / line.dt_s)}UL",
            f"#define INPUTS {len(self.alone.reads)} /* readings of the line */",
            f"#define CHANNELS {len(self.alone.channels)} /* what {wiring.rig.board.source} says */",
            f"#define TOLD {self.telemetry.size} /* bytes that a tick tells */",
            f"#define STATE {self.alone.sizes()[1].size} /* bytes that stages remember */",
            f"#define STATE_EACH {self.alone.each} /* of them in a sentence; 0: only now and then a tick is told */",
            f"#define STATE_EVERY {max(1, self.alone.every)}UL /* ticks between two such sentences */",
            f"#define LONGEST_BACK {max(greeting, self.telemetry.longest, part_length(self.alone.each))}",
            f"#define RAMP_MS {round(spec.ramp_s * 1e3) if spec and spec.when_lost == 'ramp' else 0}UL",
            f"#define SILENT_MS {round((spec.silent_s or 0) * 1e3) if spec else 0}UL",
            "enum { IDLE_LOST, IDLE_SAME, IDLE_REST };",
            f"#define IDLE {idle}",
            *self._routine_header(),
            f"#define HEARS_LAPTOP {hears} /* 0: the radio has the one serial line */",
            f"#define LONGEST_BID {len(f'$PIVBID,4294967295,4294967295,{self.alone.hash},stick*hh') + sticks + seal}",
        ]  # fmt: skip
        if radio is not None:
            lines += ["#define RADIO", f"#define LONGEST_RADIO {self._longest_packet(radio) + seal}"]
        if isinstance(radio, PacketsSource):
            bits = [int(c.removeprefix("button_")) for c in self.alone.channels[len(radio.columns) :]]
            lines += [
                f'#define RADIO_SENDER "{radio.sender}"',
                f"#define RADIO_ZERO {number_in_c(radio.zero)}",
                f"#define RADIO_FULL {number_in_c(radio.full)}",
                f"#define AXES {len(radio.columns)}",
                f"static CONSTANT real AXIS_LOW[AXES] = {{{', '.join('0' if c.endswith('_trigger') else '-1' for c in radio.columns)}}};",
                f"static CONSTANT uint8_t BUTTON_BIT[{max(1, len(bits))}] = {{{', '.join(map(str, bits or [0]))}}};",
            ]
        return lines

    def _routine_header(self) -> list[str]:
        if self.alone.routine is None:
            return []
        period = self.alone.routine.task.period_s
        return [
            f"#define ROUTINE {round(period / self.wiring.line.dt_s)}UL /* it drives a routine on command: so many ticks at most */"
        ]

    @staticmethod
    def _longest_packet(radio: NumbersSource | PacketsSource) -> int:
        number = len("-12345.12345, ")
        many = len(radio.columns)
        if isinstance(radio, NumbersSource):
            return min(LONGEST_LINE, many * number)
        return min(LONGEST_LINE, len(f"$PIVDRV,{radio.sender},4294967295,1FFFF*hh") + many * number)

    def source(self) -> list[str]:
        """Return the lines of `rig.c`."""
        line, rest = self.wiring.line, self.wiring.line.rest().tolist()
        words = {NOT_READ: "NOT_READ", SAYS_READY: "SAYS_READY", SAYS_LINKED: "SAYS_LINKED"}
        reads = ", ".join(words.get(at, str(at)) for at in self.alone.reads)
        return [
            "/* --- it drives by itself --- */", "",
            f"CONSTANT int8_t READS[INPUTS] = {{{reads}}};",
            f"CONSTANT real REST_READINGS[INPUTS] = {{{', '.join(number_in_c(v) for v in rest)}}};",
            f"CONSTANT uint8_t IS_BUTTON[INPUTS] = {{{', '.join(str(int(not self.is_stick(k))) for k in range(len(self.alone.reads)))}}};",
            "", *self._scaled(), *self._sticks(), *self._inputs(), *self._told(), *self._outputs(line.outputs.commands), *self._at_rest(),
            *self._start(), *self._buttons(), *self._bytes(),
        ]  # fmt: skip

    def is_stick(self, k: int) -> bool:
        """Return whether a reading is a stick's, not a button's."""
        channel = self.wiring.line.inputs.wanted[k][1]
        return not channel.startswith(("button_", "letter ")) and self.alone.reads[k] >= NOT_READ

    def _scaled(self) -> list[str]:
        """Return how the number of a channel becomes a reading, where numbers come from a converter."""
        spec = self.wiring.source
        if not isinstance(spec, NumbersSource | PinsSource):
            return []
        middle, half, slack = (spec.low + spec.high) / 2, (spec.high - spec.low) / 2, (spec.high - spec.low) * 0.02
        cases = []
        for k, channel in enumerate(self.alone.channels):
            if channel.startswith("button_"):
                cases.append(f"    case {k}: return v > (v <= 1 ? 0 : {number_in_c(middle)}) ? 1 : 0; /* {channel} */")
            elif channel.endswith("_trigger"):
                cases.append(
                    f"    case {k}: low = 0, v = (v - {number_in_c(spec.low)}) / {number_in_c(2 * half)}; break; /* {channel} */"
                )
            elif channel == "-":
                cases.append(f"    case {k}: return 0;")
        return [
            f"/* From {spec.low:g} to {spec.high:g}; NAN for what is outside. */",
            "real scaled(int channel, real v) {", "    real low = -1;", "    switch (channel) {", *cases,
            f"    default: v = (v - {number_in_c(middle)}) / {number_in_c(half)}; break;", "    }",
            f"    if (v < low - {number_in_c(slack / half)} || v > R(1.0) + {number_in_c(slack / half)}) return NAN;",
            "    return v > 1 ? 1 : v < low ? low : v;", "}", "",
        ]  # fmt: skip

    def _sticks(self) -> list[str]:
        """Return how the board reads its own pins."""
        if self.wiring.radio is not None:
            return []
        places = {p.channel: p for kind in ("sensor", "button") for p in self.wiring.places[kind] if p.channel}
        lines = ["real said[CHANNELS];", "void source_begin(void) {}", "void source_hear(void) {}", "", "/* 1 if a stick is broken off. */",
                 "int source_take(uint32_t now) {", "    int broken = 0;", "    (void)now;"]  # fmt: skip
        for k, channel in enumerate(self.alone.channels):
            if channel.startswith("button_"):
                lines.append(f"    said[{k}] = (real)board_sensor({places[channel].name});")
            else:
                lines.append(f"    said[{k}] = scaled({k}, (real)board_sensor({places[channel].name}));")
                lines.append(f"    broken |= said[{k}] != said[{k}];")
        return [*lines, "    return broken;", "}", ""]

    def own(self, stage: str) -> list[Global]:
        """Return the places of a stage in the row that a board keeps."""
        return [
            g
            for g in self.alone.parts.program.globals.values()
            if g.name.startswith(f"row.{stage}.") and 0 not in g.shape
        ]

    def _inputs(self) -> list[str]:
        """Return what puts clock and sensors into the line."""
        line, lines = self.wiring.line, []
        counters = list(dict.fromkeys(s.counter for s in self.wiring.sensed if s.counter))
        if counters:
            lines.append("static int32_t counts[COUNT_MANY];             /* as encoders count in this tick */")
        if self.alone.rebased:
            lines.append("static int32_t counted[COUNT_MANY];            /* in the tick before */")
        lines += ["", "void line_inputs(uint32_t tick, uint8_t stopped, uint8_t laptop) {"]
        clock = {"tick": "(real)tick", "t": "(real)tick * DT", "stopped": "stopped",
                 "source": f"laptop ? 0 : {number_in_c(line.source_number(self.wiring.rig.board.source))}"}  # fmt: skip
        for one in self.own("clock"):
            own = one.name.rpartition(".")[2]
            lines.append(f"    {c_name(one.name)}{'[0]' if one.shape else ''} = {clock[own]};")
        lines += [f"    counts[{c}] = board_count({c});" for c in counters]
        first = line.layout.stage("sensed").start
        for one in self.own("sensed"):
            for j in range(prod(one.shape)):
                lines += self._sensed_into(
                    f"{c_name(one.name)}[{j}]",
                    one.at - first + j,
                    bool(self.alone.rebased) and one.name == "row.sensed.travel",
                )
        for one in self.alone.rebased:
            lines.append(
                f"    memset(&{c_name(one.name)}, 0, sizeof {c_name(one.name)}); /* a way is counted from the tick before */"
            )
        if self.alone.rebased:
            lines.append("    memcpy(counted, counts, sizeof counted);")
        return [*lines, "    (void)tick, (void)stopped, (void)laptop;", "}", ""]

    def _sensed_into(self, place: str, n: int, from_before: bool) -> list[str]:
        """Return what puts a sensed column where the line reads it; ``from_before``: a way from where it was in the tick before."""
        sensed = self.wiring.sensed[n]
        if sensed.counter:
            counts = f"counts[{sensed.counter}]"
            counts = f"({counts} - counted[{sensed.counter}])" if from_before else counts
            return [f"    {place} = (real){counts} * {number_in_c(sensed.share)};"]
        lines = [f"    {place} = {f'sense({n})' if sensed.known else '0'};"]
        return lines if sensed.value else [*lines, f"    if ({place} != {place}) {place} = 0; /* not known yet */"]

    def _told(self) -> list[str]:
        lines = ["void tell_inputs(void) {", "    uint8_t bits = 0;"]
        lines += [f"    tell_real(row.raw.reading[{k}]);" for k in self.telemetry.sticks]
        for n, k in enumerate(self.telemetry.buttons):
            lines.append(f"    bits |= (uint8_t)((row.raw.reading[{k}] > R(0.5)) << {n % 8});")
            if n % 8 == 7 or n == len(self.telemetry.buttons) - 1:
                lines.append("    tell_byte(bits), bits = 0;")
        first = self.wiring.line.layout.stage("sensed").start
        at = {g.at - first + j: f"{c_name(g.name)}[{j}]" for g in self.own("sensed") for j in range(prod(g.shape))}
        for k in self.telemetry.sensed:
            if k in self.telemetry.counted:
                lines.append(f"    tell_count(counts[{self.wiring.sensed[k].counter}]);")
            else:
                lines.append(f"    tell_real({at.get(k, f'sense({k})')});")
        return [*lines, "    (void)bits;", "}", ""]

    def _outputs(self, telemetry: Any) -> list[str]:
        lines = ["void take_outputs(real *value) {"]
        for n, place in enumerate(np.arange(len(self.wiring.line.layout))[telemetry].tolist()):
            one = next((g for g in self.own("outputs") if g.at <= place < g.at + max(1, prod(g.shape))), None)
            if one is None:
                lines.append(f"    value[{n}] = 0;")
            else:
                lines.append(f"    value[{n}] = {c_name(one.name)}{f'[{place - one.at}]' if one.shape else ''};")
        return [*lines, "}", ""]

    def resting(self) -> list[tuple[str, float, float, str]]:
        """Return between what each place of the row is while controls are at rest, as `pivrex.line.questions.neutral` has it."""
        line = self.wiring.line
        found = [(f"row.band.value[{k}]", -AT_REST, AT_REST, name) for k, name in enumerate(line.functions)]
        bindings = line.stages.get("bindings")
        if isinstance(bindings, Bindings):
            plain = bindings.settings.plain
            for n, (name, k) in enumerate(zip(bindings.followers, plain.follows, strict=True)):
                near = [v for v in np.linspace(-1, 1, 2001).tolist() if abs(deflection(plain, n, v)) <= AT_REST]
                found.append((f"row.raw.reading[{int(k)}]", near[0], near[-1], name))
        return found

    def holding(self) -> list[tuple[str, str]]:
        """Return the places of buttons that move something while they are pressed."""
        line = self.wiring.line
        bindings = line.stages.get("bindings")
        if not isinstance(bindings, Bindings):
            return []
        moving = zip(bindings.patches, bindings.actions, bindings.at_rest, strict=True)
        places = {int(at) for _, a, at in moving if a.verb in ("motion", "speed", "on") and a.value != 0}
        return [(f"row.raw.reading[{k}]", line.channels[k]) for k in sorted(places)]

    def asking(self) -> dict[str, str]:
        """Return the places of what buttons ask for that the line does not do: stop, shut_down, zero_gyro."""
        layout = self.wiring.line.layout
        first = layout.stage("bindings").start if "bindings" in self.wiring.line.stages else 0
        return {
            name: f"row.bindings.value[{layout.at('bindings', name) - first}]"
            for name in ("stop", "shut_down", "zero_gyro")
            if layout.has("bindings", name)
        }

    def silent(self) -> list[tuple[int, str]]:
        """Return the sensed columns without a pin that a routine measures its way by."""
        unit = self.wiring.rig.way_unit
        counted = ("gyro", f"_travel_{unit}", f"_speed_{unit}_s")
        return [
            (k, s.title)
            for k, s in enumerate(self.wiring.sensed)
            if s.known and not s.value and any(word in s.title for word in counted)
        ]

    def _at_rest(self) -> list[str]:
        lines = ["uint8_t at_rest(void) {"]
        lines += [
            f"    if ({own} < {number_in_c(low)} || {own} > {number_in_c(high)}) return 0; /* {name} */"
            for own, low, high, name in self.resting()
        ]
        lines += [f"    if ({own} >= {number_in_c(PRESSED)}) return 0; /* {name} */" for own, name in self.holding()]
        return [*lines, "    return 1;", "}", ""]

    def _start(self) -> list[str]:
        """Return whether the button of the routine is pressed, and whether it may begin: what it is measured by must say something."""
        if self.alone.routine is None:
            return []
        place = next((p for p in self.wiring.places["button"] if p.channel == START), None)
        pressed = f"board_sensor({place.name}) > 0" if place is not None else "0"
        silent = [f"    if (sense({k}) != sense({k})) return 0; /* {title} */" for k, title in self.silent()]
        return [
            "uint8_t start_pressed(void) {", f"    return {pressed};", "}", "",
            "uint8_t routine_may(void) {", *silent, f"    return board_ms() >= {GYRO_MS}; /* a gyro has measured what it says at rest */",
            "}", "",
        ]  # fmt: skip

    def _buttons(self) -> list[str]:
        """Return what buttons ask for that the line does not do: stop, and a gyro that is zeroed."""
        lines = ["uint8_t buttons_ask(void) {", "    uint8_t stop = 0;"]
        for name, own in self.asking().items():
            if name != "zero_gyro":
                lines.append(f"    stop |= {own} > R(0.5);")
            elif self.alone.zeroed:
                zeroed = [g for g in self.alone.sizes()[1].fields if g.at in self.alone.zeroed]
                sets = " ".join(f"{c_name(g.name)} = {number_in_c(self.alone.zeroed[g.at], g.kind)};" for g in zeroed)
                lines.append(f"    if ({own} > R(0.5)) {{ {sets} }}")
        return [*lines, "    return stop;", "}", ""]

    def _bytes(self) -> list[str]:
        """Return how all numbers of a record are taken, one after the other."""
        lines = []
        for name, packed in zip(("row", "kept"), self.alone.sizes(), strict=True):
            lines += [
                f"void {name}_bytes(void (*take)(const void *, int)) {{",
                "#ifdef __AVR__", f"    take(&{name}, sizeof {name}); /* it has no gaps */", "#else",
                *(f"    take(&{c_name(g.name)}, sizeof {c_name(g.name)});" for g in packed.fields),
                "#endif", "}", "",
            ]  # fmt: skip
        return lines
