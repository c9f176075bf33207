"""`pins.c`: the pins and timers of a chip for a rig."""

from __future__ import annotations

from dataclasses import dataclass, field

from pivrex.board.chips import Chip, Pin, pin_of
from pivrex.board.pins_used import BoardWiring, Place
from pivrex.errors import Mistake

__all__ = ["PinsPrinter", "PwmTimer", "Timers"]


@dataclass(frozen=True)
class PwmTimer:
    """A timer that makes PWM: its divisor, its top (0: 255), and the resulting frequency."""

    number: int
    divisor: int
    top: int
    hz: float


@dataclass
class Timers:
    """Who has which timer."""

    pwm: dict[int, PwmTimer] = field(default_factory=dict)
    servos: int = -1
    mistakes: list[Mistake] = field(default_factory=list)


class PinsPrinter:
    """Writes `pins.c`."""

    def __init__(self, wiring: BoardWiring, chip: Chip, timers: Timers) -> None:
        self.wiring, self.chip, self.timers = wiring, chip, timers
        self.begin: list[str] = []

    def pin(self, place: Place) -> Pin:
        return pin_of(self.chip, place.use)

    def text(self) -> str:
        parts = [self.pwm(), self.levels(), self.servos(), self.encoders(), self.analogue(), self.buttons()]
        begin = "\n".join(["void pins_begin(void) {", *self.begin, "}", ""])
        head = f"/* The pins of {self.wiring.rig.name} on the {self.chip.name}. Written by pivrex board: change the rig, and write it again. */"
        return "\n".join(
            [
                head,
                "#include <avr/interrupt.h>",
                "#include <avr/io.h>",
                '#include "pins.h"',
                '#include "robot.h"',
                "",
                *parts,
                begin,
            ]
        )

    def out(self, place: Place) -> str:
        pin = self.pin(place)
        self.begin.append(f"    DDR{pin.port} |= 1 << {pin.bit}; /* {place.use.key} */")
        return pin.name

    @staticmethod
    def switch(name: str, cases: list[str], args: str) -> str:
        """Print a function that sets a pin; nothing comes between reading its port and writing it."""
        if not cases:
            unused = ", ".join(f"(void){a.split()[-1]}" for a in args.split(", "))
            return f"void {name}({args}) {{\n    {unused};\n}}\n"
        body = [
            "    uint8_t before = SREG;",
            "    cli();",
            "    switch (pin) {",
            *cases,
            "    default: break;",
            "    }",
            "    SREG = before;",
        ]
        return "\n".join([f"void {name}({args}) {{", *body, "}", ""])

    def pwm(self) -> str:
        cases = []
        for k, place in enumerate(self.wiring.places["pwm"]):
            pin, timer = self.pin(place), self.timers.pwm[self.pin(place).timer]
            self.out(place)
            which, connect = pin.pwm[3], f"COM{pin.pwm[2:]}1"
            value = "duty" if place.full in (255, timer.top) else f"(uint32_t)duty * {timer.top}UL / {place.full}UL"
            cases += [
                f"    case {k}: /* {place.use.key}, {pin.name}, {pin.pwm}: at 0 the pin rests low, for the timer would leave a spike */",
                f"        OCR{pin.pwm[2]}{which} = {value};",
                f"        if (duty) TCCR{pin.timer}A |= 1 << {connect};",
                f"        else TCCR{pin.timer}A &= (uint8_t)~(1 << {connect}), PORT{pin.port} &= (uint8_t)~(1 << {pin.bit});",
                "        break;",
            ]
        for number, timer in sorted(self.timers.pwm.items()):
            if number == 0:
                continue
            selects = self.select(number, timer.divisor)
            if timer.top:
                self.begin += [
                    f"    ICR{number} = {timer.top}; /* {timer.hz:.0f} Hz */", f"    TCCR{number}A = 1 << WGM{number}1;",
                    f"    TCCR{number}B = 1 << WGM{number}3 | 1 << WGM{number}2 | {selects};",
                ]  # fmt: skip
            else:
                self.begin += [
                    f"    TCCR{number}A = 1 << WGM{number}1 | 1 << WGM{number}0; /* {timer.hz:.0f} Hz */",
                    f"    TCCR{number}B = {selects};",
                ]
        return self.switch("board_pwm", cases, "int pin, long duty")

    def select(self, number: int, divisor: int) -> str:
        code = self.chip.timers[number].divisors.index(divisor) + 1
        return " | ".join(f"1 << CS{number}{bit}" for bit in range(3) if code >> bit & 1)

    def levels(self) -> str:
        cases = []
        for k, place in enumerate(self.wiring.places["level"]):
            self.out(place)
            pin = self.pin(place)
            cases.append(
                f"    case {k}: if (high) PORT{pin.port} |= 1 << {pin.bit}; else PORT{pin.port} &= (uint8_t)~(1 << {pin.bit}); break; "
                f"/* {place.use.key}, {pin.name} */"
            )
        return self.switch("board_level", cases, "int pin, int high")

    def servos(self) -> str:
        places, n = self.wiring.places["pulse"], self.timers.servos
        if not places:
            return "void board_pulse(int pin, long us) {\n    (void)pin, (void)us;\n}\n"
        per_us = self.wiring.rig.board.clock_Hz / 8 / 1e6
        ups, downs = [], []
        for k, place in enumerate(places):
            self.out(place)
            pin = self.pin(place)
            ups.append(f"    case {k}: PORT{pin.port} |= 1 << {pin.bit}; break; /* {place.use.key}, {pin.name} */")
            downs.append(f"    case {k}: PORT{pin.port} &= (uint8_t)~(1 << {pin.bit}); break;")
        self.begin += [f"    TCCR{n}B = {self.select(n, 8)};", f"    OCR{n}A = 1000;", f"    TIMSK{n} = 1 << OCIE{n}A;"]
        return "\n".join([
            f"/* Servos: timer {n} lets one pulse follow the other, all of them every 20 ms. */",
            f"static volatile uint16_t pulses[{len(places)}];", "",
            "static void pulse_up(uint8_t k) {", "    switch (k) {", *ups, "    default: break;", "    }", "}", "",
            "static void pulse_down(uint8_t k) {", "    switch (k) {", *downs, "    default: break;", "    }", "}", "",
            f"ISR(TIMER{n}_COMPA_vect) {{",
            f"    static uint8_t at = {len(places)};",
            "    static uint16_t left;",
            "    uint16_t wait;",
            f"    if (at < {len(places)}) pulse_down(at++);",
            f"    else at = 0, left = {round(20_000 * per_us)};",
            f"    if (at < {len(places)}) {{",
            "        wait = pulses[at];",
            "        if (wait) pulse_up(at);",
            f"        else wait = {round(20 * per_us)};",
            "    } else wait = left;",
            "    left -= wait;",
            f"    OCR{n}A += wait;",
            "}", "",
            "void board_pulse(int pin, long us) {",
            "    uint8_t before = SREG;",
            f"    uint16_t ticks = (uint16_t)(us < 0 ? 0 : us > 2500 ? 2500 : us) * {per_us:g};" if per_us == int(per_us)
            else f"    uint16_t ticks = (uint16_t)((us < 0 ? 0 : us > 2500 ? 2500 : us) * {per_us:g});",
            "    cli();", "    pulses[pin] = ticks;", "    SREG = before;", "}", "",
        ])  # fmt: skip

    def encoders(self) -> str:
        counts, ranges = self.wiring.places["count"], self.wiring.places["range"]
        lines, on_edge = ["volatile int32_t pins_counts[COUNT_MANY + 1];", ""], dict[str, list[str]]()
        masks: dict[str, int] = {}
        for k in range(0, len(counts), 2):
            a, b = self.pin(counts[k]), self.pin(counts[k + 1])
            call = f"    count({k // 2}, (uint8_t)((PIN{a.port} >> {a.bit} & 1) << 1 | (PIN{b.port} >> {b.bit} & 1)));"
            for pin in (a, b):
                self.begin.append(f"    PORT{pin.port} |= 1 << {pin.bit}; /* an encoder's pin is pulled up */")
                on_edge.setdefault(pin.edge, [])
                if call not in on_edge[pin.edge]:
                    on_edge[pin.edge].append(call)
                masks[pin.edge] = masks.get(pin.edge, 0) | 1 << pin.mask
        if counts:
            lines += [_COUNT]
        if ranges:
            lines += [_ECHO.format(many=len(ranges) // 2)]
        triggers = []
        for k in range(0, len(ranges), 2):
            trigger, echo = self.pin(ranges[k]), self.pin(ranges[k + 1])
            self.out(ranges[k])
            on_edge.setdefault(echo.edge, []).append(f"    echo({k // 2}, PIN{echo.port} >> {echo.bit} & 1);")
            masks[echo.edge] = masks.get(echo.edge, 0) | 1 << echo.mask
            triggers.append(
                f"    case {k // 2}: PORT{trigger.port} |= 1 << {trigger.bit}; wait_10_us(); "
                f"PORT{trigger.port} &= (uint8_t)~(1 << {trigger.bit}); break;"
            )
        for edge, calls in sorted(on_edge.items()):
            lines += [f"ISR({edge}_vect) {{", *calls, "}", ""]
            if edge.startswith("INT"):
                n = int(edge[3:])
                self.begin.insert(0, f"    EICR{'A' if n < 4 else 'B'} |= 1 << ISC{n}0; /* INT{n} at each edge */")
                self.begin.append(f"    EIMSK |= 1 << INT{n};")
            else:
                n = int(edge[5:])
                self.begin += [f"    PCMSK{n} |= {masks[edge]:#04x};", f"    PCICR |= 1 << PCIE{n};"]
        if ranges:
            lines += [
                "static void trigger(uint8_t k) {",
                "    switch (k) {",
                *triggers,
                "    default: break;",
                "    }",
                "}",
                "",
                _RANGE,
            ]
        else:
            lines += ["int32_t pins_echo(int ranger) {", "    return ranger & 0;", "}", ""]
        return "\n".join(lines)

    def analogue(self) -> str:
        cases = []
        for k, place in enumerate(self.wiring.places["sensor"]):
            channel = self.pin(place).analogue
            cases.append(f"    case {k}: channel = {channel}; break; /* {place.use.key} */")
        body = ["    switch (sensor) {", *cases, "    default: break; /* nothing sits there: noise */", "    }"]
        mux = ["    ADMUX = 1 << REFS0 | (channel & 7);"]
        if self.chip.name == "atmega2560":
            mux.append("    ADCSRB = channel > 7 ? 1 << MUX5 : 0;")
        return "\n".join(["void pins_channel(int sensor) {", "    uint8_t channel = 7;", *body, *mux, "}", ""])

    def buttons(self) -> str:
        """Print how a button is read: pressed it connects its pin to ground."""
        cases = []
        for k, place in enumerate(self.wiring.places["button"]):
            pin = self.pin(place)
            self.begin.append(f"    PORT{pin.port} |= 1 << {pin.bit}; /* {place.use.key} is pulled up */")
            cases.append(f"    case {k}: return !(PIN{pin.port} >> {pin.bit} & 1); /* {place.use.key} */")
        return "\n".join(
            [
                "int32_t pins_button(int button) {",
                "    switch (button) {",
                *cases,
                "    default: return 0;",
                "    }",
                "}",
                "",
            ]
        )


_COUNT = """\
/* Each edge of A and B is a count: up while A leads. */
static void count(uint8_t k, uint8_t now) {
    static CONSTANT int8_t STEPS[16] = {0, -1, 1, 0, 1, 0, 0, -1, -1, 0, 0, 1, 0, 1, -1, 0};
    static uint8_t was[COUNT_MANY];
    pins_counts[k] += STEPS[was[k] << 2 | now];
    was[k] = now;
}
"""

_ECHO = """\
static volatile uint32_t rises[{many}], echoes[{many}];

static void echo(uint8_t k, uint8_t high) {{
    static uint8_t was[{many}];
    if (high == was[k]) return;
    was[k] = high;
    if (high) rises[k] = pins_us();
    else echoes[k] = pins_us() - rises[k];
}}

static void wait_10_us(void) {{
    for (volatile uint8_t k = 0; k < F_CPU / 1000000UL; k++) {{
    }}
}}
"""

_RANGE = """\
/* It asks again when the sound before has died away; meanwhile the echo before counts. */
int32_t pins_echo(int ranger) {
    static uint32_t asked[SENSOR_MANY - ANALOGUE_MANY];
    static int32_t found[SENSOR_MANY - ANALOGUE_MANY];
    uint32_t now = board_ms();
    if (now - asked[ranger] >= 60) {
        uint8_t before = SREG;
        cli();
        found[ranger] = echoes[ranger] > 30000 ? 0 : (int32_t)echoes[ranger];
        echoes[ranger] = 0;
        SREG = before;
        asked[ranger] = now;
        trigger((uint8_t)ranger);
    }
    return found[ranger];
}
"""
