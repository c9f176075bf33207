"""A board that drives by itself: what goes into its line, and what it tells a laptop that watches."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from math import ceil, prod
from pathlib import Path
from typing import Any

import numpy as np

from pivrex.board.flat_program import Global
from pivrex.board.line_parts import LineParts
from pivrex.board.packing import Packed
from pivrex.board.pins_used import BoardWiring
from pivrex.board.printing import c_name, number_in_c
from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.seal import SEAL_BYTES
from pivrex.devices.transports.serial_line import BITS_A_BYTE
from pivrex.errors import Mistake, RigError
from pivrex.line.bindings import Bindings
from pivrex.line.presses import deflection
from pivrex.line.questions.neutral import AT_REST
from pivrex.line.stage import PRESSED
from pivrex.rig.sources import NumbersSource, PacketsSource, PinsSource

__all__ = ["TICK_HEAD", "Alone", "Told"]

TICK_HEAD = len("$PIVTIC,4294967295,0,0000,") + len("*hh\r\n")
STATE_HEAD = len("$PIVALL,4294967295,9999,") + len("*hh\r\n")

LEAST_PART, MOST_PART = 24, 150
"""Bytes of the state in a sentence."""

LINE_SHARE = 0.95
"""Of the serial line a board's sentences take so much at most."""

NOT_READ, SAYS_READY, SAYS_LINKED = -1, -2, -3


def _part_length(each: int) -> int:
    return STATE_HEAD + ceil(each * 8 / 6) if each else 0


@dataclass(frozen=True)
class Told:
    """What a board tells of a tick, in the order of its bytes: readings of sticks as numbers, buttons as bits, then what is sensed.

    Attributes
    ----------
    sticks, buttons : tuple of int
        Places among the line's readings.
    sensed : tuple of int
        Places among the sensed columns.
    counted : dict of int to float
        Those of them that are counts, with what a count is.
    """

    sticks: tuple[int, ...]
    buttons: tuple[int, ...]
    sensed: tuple[int, ...]
    counted: dict[int, float]

    @property
    def size(self) -> int:
        """How many bytes that is."""
        return 4 * len(self.sticks) + ceil(len(self.buttons) / 8) + 4 * len(self.sensed)

    @property
    def longest(self) -> int:
        """The longest sentence that tells it, in bytes."""
        return TICK_HEAD + ceil(self.size * 8 / 6)


@dataclass(frozen=True)
class Alone:
    """All that a board must know beside its wiring to drive by itself.

    Attributes
    ----------
    channels : tuple of str
        What its source says, in this order.
    reads : tuple of int
        For each reading of the line which of them it is; or one of NOT_READ, SAYS_READY, SAYS_LINKED.
    told : Told
    hash : str
        Which line and which inputs these are: a CRC-32 in eight hexadecimal digits.
    each, every : int
        So many bytes of the state go into a sentence, one for so many ticks; 0 if the serial line is too slow for a laptop that watches.
    """

    wiring: BoardWiring
    parts: LineParts
    channels: tuple[str, ...]
    reads: tuple[int, ...]
    told: Told
    hash: str
    each: int
    every: int

    @classmethod
    def of(cls, wiring: BoardWiring, parts: LineParts) -> Alone:
        """Return it for a rig; raises `RigError` for what cannot be."""
        line, source = wiring.line, wiring.source
        if source is None:
            what = 'is missing; a board that is alone needs one of [sources], such as { kind = "pins" } with its pins'
            raise RigError(Path("rig"), [Mistake(0, "board.source", what)])
        rig, name = wiring.rig, wiring.rig.board.source
        lacks = [rig.channel(a) for a in rig.law.axes().values() if rig.axis(a).source == "chosen"]
        lacks = [c for c in lacks if c not in source.channels()]
        if lacks:
            what = f'is "{name}", which has no {", ".join(lacks)}; the law {rig.law.kind} reads that'
            raise RigError(Path("rig"), [Mistake(0, "board.source", what)])
        wanted = line.inputs.wanted
        buttons = tuple(
            dict.fromkeys(c for s, c in wanted if s in ("chosen", name, source.kind) and c.startswith("button_"))
        )
        match source:
            case PacketsSource(columns=columns):
                channels = (*columns, *(b for b in buttons if b in source.channels()))
            case NumbersSource(columns=columns):
                channels = columns
            case _:
                channels = source.channels()
        own = {"ready": SAYS_READY, "linked": SAYS_LINKED}
        reads = tuple(
            own.get(c, NOT_READ) if s == "session"
            else channels.index(c) if s in ("chosen", name, source.kind) and c in channels
            else NOT_READ
            for s, c in wanted
        )  # fmt: skip
        pressed = tuple(k for k, (_, c) in enumerate(wanted) if c.startswith("button_") or reads[k] < NOT_READ)
        told = Told(
            tuple(k for k, at in enumerate(reads) if at >= 0 and k not in pressed),
            tuple(k for k in pressed if reads[k] != NOT_READ),
            tuple(k for k, s in enumerate(wiring.sensed) if s.known),
            {k: s.share for k, s in enumerate(wiring.sensed) if s.counter},
        )
        if told.longest > LONGEST_LINE:
            what = f"a tick has {told.size} bytes of readings, more than a sentence of {LONGEST_LINE} bytes holds"
            raise RigError(Path("rig"), [Mistake(0, "board.mode", what)])
        text = "\n".join([parts.source(), parts.header("float"), *map(str, (reads, told, channels))])
        room = wiring.baud / BITS_A_BYTE * line.dt_s * LINE_SHARE - told.longest
        each = min(MOST_PART, max(LEAST_PART, int((room - STATE_HEAD) * 6 / 8))) if room > 0 else 0
        every = ceil(_part_length(each) / room) if each else 0
        return cls(wiring, parts, channels, reads, told, f"{zlib.crc32(text.encode()):08X}", each, every)

    @property
    def watched(self) -> str:
        """Why no laptop can watch; empty if one can."""
        if self.each:
            return ""
        needs = self.told.longest / LINE_SHARE / self.wiring.line.dt_s * BITS_A_BYTE
        return f"a laptop cannot watch: {self.wiring.baud} baud are too slow for what a tick tells, which needs {needs:.0f}"

    # --- what is written ---

    def header(self) -> list[str]:
        """Return the lines of `rig.h`."""
        wiring, line = self.wiring, self.wiring.line
        spec, radio = wiring.source, wiring.radio
        seal = SEAL_BYTES if wiring.rig.secret else 0
        greeting = len(f"$PIVHEY,{wiring.rig.name},{self.hash},alone*hh\r\n") + seal
        hears = int(not wiring.shares_port)
        idle = {"lost": "IDLE_LOST", "no change": "IDLE_SAME", "neutral": "IDLE_REST"}[spec.idle if spec else "lost"]
        lines = [
            "", "/* It drives by itself. */", "#define ALONE",
            f'#define LINE_HASH "{self.hash}" /* which line this is: the desktop computes it too */',
            f"#define PERIOD_US {round(line.dt_s * 1e6)}UL /* of a tick */",
            f"#define DT R({line.dt_s!r}) /* the same, in s */",
            f"#define TICKS_A_SECOND {round(1 / line.dt_s)}UL",
            f"#define INPUTS {len(self.reads)} /* readings of the line */",
            f"#define CHANNELS {len(self.channels)} /* what {wiring.rig.board.source} says */",
            f"#define TOLD {self.told.size} /* bytes that a tick tells */",
            f"#define STATE {self.sizes()[1].size} /* bytes that stages remember */",
            f"#define STATE_EACH {self.each} /* of them in a sentence; 0: the serial line is too slow for a laptop that watches */",
            f"#define STATE_EVERY {max(1, self.every)}UL /* ticks between two such sentences */",
            f"#define LONGEST_BACK {max(greeting, self.told.longest if self.each else 0, _part_length(self.each))}",
            f"#define RAMP_MS {round(spec.ramp_s * 1e3) if spec and spec.when_lost == 'ramp' else 0}UL",
            f"#define SILENT_MS {round((spec.silent_s or 0) * 1e3) if spec else 0}UL",
            "enum { IDLE_LOST, IDLE_SAME, IDLE_REST };",
            f"#define IDLE {idle}",
            f"#define HEARS_LAPTOP {hears} /* 0: the radio has the one serial line */",
            f"#define LONGEST_BID {len(f'$PIVBID,4294967295,4294967295,{self.hash},stop*hh') + seal}",
        ]  # fmt: skip
        if radio is not None:
            lines += ["#define RADIO", f"#define LONGEST_RADIO {self._longest_packet(radio) + seal}"]
        if isinstance(radio, PacketsSource):
            bits = [int(c.removeprefix("button_")) for c in self.channels[len(radio.columns) :]]
            lines += [
                f'#define RADIO_SENDER "{radio.sender}"',
                f"#define RADIO_ZERO {number_in_c(radio.zero)}",
                f"#define RADIO_FULL {number_in_c(radio.full)}",
                f"#define AXES {len(radio.columns)}",
                f"static CONSTANT real AXIS_LOW[AXES] = {{{', '.join('0' if c.endswith('_trigger') else '-1' for c in radio.columns)}}};",
                f"static CONSTANT uint8_t BUTTON_BIT[{max(1, len(bits))}] = {{{', '.join(map(str, bits or [0]))}}};",
            ]
        return lines

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
        reads = ", ".join(words.get(at, str(at)) for at in self.reads)
        return [
            "/* --- it drives by itself --- */", "",
            f"CONSTANT int8_t READS[INPUTS] = {{{reads}}};",
            f"CONSTANT real REST_READINGS[INPUTS] = {{{', '.join(number_in_c(v) for v in rest)}}};",
            f"CONSTANT uint8_t IS_BUTTON[INPUTS] = {{{', '.join(str(int(not self._is_stick(k))) for k in range(len(self.reads)))}}};",
            "", *self._scaled(), *self._sticks(), *self._inputs(), *self._told(), *self._outputs(line.outputs.told), *self._at_rest(),
            *self._bytes(),
        ]  # fmt: skip

    def _is_stick(self, k: int) -> bool:
        channel = self.wiring.line.inputs.wanted[k][1]
        return not channel.startswith(("button_", "letter ")) and self.reads[k] >= NOT_READ

    def _scaled(self) -> list[str]:
        """Return how the number of a channel becomes a reading, where numbers come from a converter."""
        spec = self.wiring.source
        if not isinstance(spec, NumbersSource | PinsSource):
            return []
        middle, half, slack = (spec.low + spec.high) / 2, (spec.high - spec.low) / 2, (spec.high - spec.low) * 0.02
        cases = []
        for k, channel in enumerate(self.channels):
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
        for k, channel in enumerate(self.channels):
            if channel.startswith("button_"):
                lines.append(f"    said[{k}] = (real)board_sensor({places[channel].name});")
            else:
                lines.append(f"    said[{k}] = scaled({k}, (real)board_sensor({places[channel].name}));")
                lines.append(f"    broken |= said[{k}] != said[{k}];")
        return [*lines, "    return broken;", "}", ""]

    def _own(self, stage: str) -> list[Global]:
        return [
            g for g in self.parts.program.globals.values() if g.name.startswith(f"row.{stage}.") and 0 not in g.shape
        ]

    def _inputs(self) -> list[str]:
        """Return what puts clock and sensors into the line."""
        line, lines = self.wiring.line, []
        counters = list(dict.fromkeys(s.counter for s in self.wiring.sensed if s.counter))
        if counters:
            lines.append("static int32_t counts[COUNT_MANY];             /* as encoders count in this tick */")
        if self.rebased:
            lines.append("static int32_t counted[COUNT_MANY];            /* in the tick before */")
        lines += ["", "void line_inputs(uint32_t tick, uint8_t stopped) {"]
        clock = {"tick": "(real)tick", "t": "(real)tick * DT", "stopped": "stopped",
                 "source": number_in_c(float(line.source_number(self.wiring.rig.board.source)))}  # fmt: skip
        for one in self._own("clock"):
            own = one.name.rpartition(".")[2]
            lines.append(f"    {c_name(one.name)}{'[0]' if one.shape else ''} = {clock[own]};")
        lines += [f"    counts[{c}] = board_count({c});" for c in counters]
        first = line.layout.stage("sensed").start
        for one in self._own("sensed"):
            for j in range(prod(one.shape)):
                lines += self._sensed_into(
                    f"{c_name(one.name)}[{j}]",
                    one.at - first + j,
                    bool(self.rebased) and one.name == "row.sensed.travel",
                )
        for one in self.rebased:
            lines.append(
                f"    memset(&{c_name(one.name)}, 0, sizeof {c_name(one.name)}); /* a way is counted from the tick before */"
            )
        if self.rebased:
            lines.append("    memcpy(counted, counts, sizeof counted);")
        return [*lines, "    (void)tick, (void)stopped;", "}", ""]

    def _sensed_into(self, place: str, n: int, from_before: bool) -> list[str]:
        """Return what puts a sensed column where the line reads it; ``from_before``: a way from where it was in the tick before."""
        sensed = self.wiring.sensed[n]
        if sensed.counter:
            counts = f"counts[{sensed.counter}]"
            counts = f"({counts} - counted[{sensed.counter}])" if from_before else counts
            return [f"    {place} = (real){counts} * {number_in_c(sensed.share)};"]
        lines = [f"    {place} = {f'sense({n})' if sensed.known else '0'};"]
        return lines if sensed.value else [*lines, f"    if ({place} != {place}) {place} = 0; /* not known yet */"]

    @property
    def rebased(self) -> list[Global]:
        """What remembers the ways of encoders: it begins at 0 in each tick, so that counts stay whole until they are differenced.

        Nothing if a way does not come from an encoder.
        """
        ways = [s for s in self.wiring.sensed if s.title.endswith(f"_travel_{self.wiring.rig.way_unit}")]
        if not all(s.counter for s in ways):
            return []
        return [
            g for g in self.parts.program.globals.values() if g.name == "kept.odometry.travels" and 0 not in g.shape
        ]

    def _told(self) -> list[str]:
        lines = ["void tell_inputs(void) {", "    uint8_t bits = 0;"]
        lines += [f"    tell_real(row.raw.reading[{k}]);" for k in self.told.sticks]
        for n, k in enumerate(self.told.buttons):
            lines.append(f"    bits |= (uint8_t)((row.raw.reading[{k}] > R(0.5)) << {n % 8});")
            if n % 8 == 7 or n == len(self.told.buttons) - 1:
                lines.append("    tell_byte(bits), bits = 0;")
        first = self.wiring.line.layout.stage("sensed").start
        at = {g.at - first + j: f"{c_name(g.name)}[{j}]" for g in self._own("sensed") for j in range(prod(g.shape))}
        for k in self.told.sensed:
            if k in self.told.counted:
                lines.append(f"    tell_count(counts[{self.wiring.sensed[k].counter}]);")
            else:
                lines.append(f"    tell_real({at.get(k, f'sense({k})')});")
        return [*lines, "    (void)bits;", "}", ""]

    def _outputs(self, told: Any) -> list[str]:
        lines = ["void take_outputs(real *value) {"]
        for n, place in enumerate(np.arange(len(self.wiring.line.layout))[told].tolist()):
            one = next((g for g in self._own("outputs") if g.at <= place < g.at + max(1, prod(g.shape))), None)
            if one is None:
                lines.append(f"    value[{n}] = 0;")
            else:
                lines.append(f"    value[{n}] = {c_name(one.name)}{f'[{place - one.at}]' if one.shape else ''};")
        return [*lines, "}", ""]

    def _at_rest(self) -> list[str]:
        """Return whether controls are at rest, as `pivrex.line.questions.neutral` has it."""
        line, lines = self.wiring.line, ["uint8_t at_rest(void) {"]
        for k in range(len(line.functions)):
            own = f"row.band.value[{k}]"
            lines.append(
                f"    if ({own} > {number_in_c(AT_REST)} || {own} < -{number_in_c(AT_REST)}) return 0; /* {line.functions[k]} */"
            )
        bindings = line.stages.get("bindings")
        if isinstance(bindings, Bindings):
            moving = zip(bindings.patches, bindings.actions, bindings.at_rest, strict=True)
            places = {int(at) for _, a, at in moving if a.verb in ("motion", "speed", "on") and a.value != 0}
            lines += [
                f"    if (row.raw.reading[{k}] >= {number_in_c(PRESSED)}) return 0; /* {line.channels[k]} */"
                for k in sorted(places)
            ]
            plain = bindings.settings.plain
            for n, (name, k) in enumerate(zip(bindings.followers, plain.follows, strict=True)):
                near = [v for v in np.linspace(-1, 1, 2001).tolist() if abs(deflection(plain, n, v)) <= AT_REST]
                own = f"row.raw.reading[{int(k)}]"
                lines.append(
                    f"    if ({own} < {number_in_c(near[0])} || {own} > {number_in_c(near[-1])}) return 0; /* {name} */"
                )
        return [*lines, "    return 1;", "}", ""]

    def _bytes(self) -> list[str]:
        """Return how all numbers of a record are taken, one after the other."""
        lines = []
        for name, packed in zip(("row", "kept"), self.sizes(), strict=True):
            lines += [
                f"void {name}_bytes(void (*take)(const void *, int)) {{",
                "#ifdef __AVR__", f"    take(&{name}, sizeof {name}); /* it has no gaps */", "#else",
                *(f"    take(&{c_name(g.name)}, sizeof {c_name(g.name)});" for g in packed.fields),
                "#endif", "}", "",
            ]  # fmt: skip
        return lines

    def sizes(self) -> tuple[Packed, Packed]:
        """Return how the row and the state stand in the board's memory."""
        return Packed(self.parts.program, "row"), Packed(self.parts.program, "kept")
