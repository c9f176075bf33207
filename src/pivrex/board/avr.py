"""Pins and timers of an 8-bit chip for a rig: prints `pins.c`, or says what does not fit."""

from __future__ import annotations

from pathlib import Path

from pivrex.board.chips import CHIPS, Chip, Pin, named, pin_of
from pivrex.board.parts import part
from pivrex.board.pins_c import PinsPrinter, PwmTimer, Timers
from pivrex.board.pins_used import BoardWiring, Place
from pivrex.errors import Mistake, RigError
from pivrex.rig.rig import Rig
from pivrex.rig.transports import SerialTransport

__all__ = ["FLAGS", "avr_files", "avr_makefile", "timers_of"]

FLAGS = (
    "-std=gnu99",
    "-Os",
    "-mrelax",  # this and the next three: 700 bytes smaller, and as quick
    "-fno-tree-loop-optimize",
    "-fno-move-loop-invariants",
    "-fno-split-wide-types",
    "-Wall",
    "-Wextra",
    "-Werror",
    "-ffunction-sections",
    "-fdata-sections",
    "-Wl,--gc-sections",
    "-fshort-enums",
)

BAUD_OFF = 0.025
"""A serial line may be off by so much and is still understood."""

NEAR = 1.35
"""A timer's frequency may be so many times what the rig says, or as much less."""


def avr_files(wiring: BoardWiring) -> dict[str, str]:
    """Return the files of a chip's own: `avr.c`, `pins.c` and `pins.h`.

    Raises
    ------
    RigError
        With everything that a pin or a timer cannot do.
    """
    chip = CHIPS[wiring.rig.board.chip]
    timers = timers_of(wiring, chip)
    mistakes = [*timers.mistakes, *_mistakes(wiring, chip)]
    if mistakes:
        raise RigError(_path(wiring.rig), mistakes)
    return {
        "avr.c": part("avr.c"),
        "pins.h": _header(wiring, chip), "pins.c": _source(wiring, chip, timers),
    }  # fmt: skip


def _path(rig: Rig) -> Path:
    return Path(f"{rig.name.lower()}.toml")


def timers_of(wiring: BoardWiring, chip: Chip) -> Timers:
    """Return the timer of each PWM pin, and one for the servos."""
    made, clock = Timers(), wiring.rig.board.clock_Hz
    first: dict[int, Place] = {}
    for place in wiring.places["pwm"]:
        pin = pin_of(chip, place.use)
        if not pin.pwm:
            can = named(chip, lambda p: bool(p.pwm))
            made.mistakes.append(_mistake(place, f"pin {place.use.pin} of the {chip.name} makes no PWM; {can} do"))
            continue
        before = first.setdefault(pin.timer, place)
        if before is not place:
            if (before.pwm_hz, before.full) != (place.pwm_hz, place.full) and pin.timer != 0:
                made.mistakes.append(_mistake(
                    place, f"pin {place.use.pin} sits on timer {pin.timer} as {before.use.key} does, which wants {before.pwm_hz:g} Hz and "
                    f"{before.full} steps, not {place.pwm_hz:g} Hz and {place.full}",
                ))  # fmt: skip
            continue
        timer = _pwm_timer(chip, pin, place, clock)
        if isinstance(timer, str):
            made.mistakes.append(_mistake(place, timer))
        else:
            made.pwm[pin.timer] = timer
    if wiring.places["pulse"]:
        free = [k for k, t in chip.timers.items() if t.bits == 16 and k not in first]
        if free:
            made.servos = free[0]
        else:
            taken = next(p for k, p in first.items() if chip.timers[k].bits == 16)
            made.mistakes.append(_mistake(
                wiring.places["pulse"][0],
                f"servo pulses need a timer of 16 bits for themselves, and {taken.use.key} has the {chip.name}'s: give that another pin",
            ))  # fmt: skip
    return made


def _pwm_timer(chip: Chip, pin: Pin, place: Place, clock: float) -> PwmTimer | str:  # noqa: PLR0911 - a case for each timer
    """Return how the timer of a pin makes the signal of the rig, or why it cannot."""
    timer, wants = chip.timers[pin.timer], f"{place.pwm_hz:g} Hz and {place.full} steps"
    said = f"pin {place.use.pin} sits on timer {pin.timer}"
    if pin.timer == 0:
        fixed = clock / 64 / 256
        if place.full == 255 and fixed / NEAR <= place.pwm_hz <= fixed * NEAR:
            return PwmTimer(0, 64, 0, fixed)
        return f"{said}, which keeps the time: it makes {fixed:.0f} Hz with 8 bits, not {wants}"
    if timer.bits == 16:
        for divisor in timer.divisors:
            top = round(clock / divisor / place.pwm_hz) - 1
            if place.full <= top <= 65535:
                return PwmTimer(pin.timer, divisor, top, clock / divisor / (top + 1))
        return f"{said}, which cannot make {wants}: at {clock / 1e6:g} MHz {clock / place.pwm_hz:.0f} steps are left"
    each = {d: clock / d / 256 for d in timer.divisors}
    if place.full != 255:
        return f"{said}, which counts to 255, but bits makes it {place.full}"
    divisor = min(each, key=lambda d: abs(each[d] - place.pwm_hz))
    if not each[divisor] / NEAR <= place.pwm_hz <= each[divisor] * NEAR:
        return f"{said}, which makes {', '.join(f'{hz:.0f}' for hz in each.values())} Hz, not {place.pwm_hz:g} Hz"
    return PwmTimer(pin.timer, divisor, 0, each[divisor])


def _mistake(place: Place, what: str) -> Mistake:
    return Mistake(0, place.use.key, what)


def _mistakes(wiring: BoardWiring, chip: Chip) -> list[Mistake]:
    """Return what pins cannot do, other than PWM."""
    found: list[Mistake] = []
    used: dict[str, str] = {}
    for kind, places in wiring.places.items():
        for place in places:
            pin = pin_of(chip, place.use)
            if pin.name in chip.serial or (wiring.radio is not None and pin.name in chip.radio):
                found.append(_mistake(place, f"pin {place.use.pin} is the serial line's"))
            if used.setdefault(pin.name, place.use.key) != place.use.key:
                found.append(_mistake(place, f"pin {place.use.pin} is {pin.name}, which {used[pin.name]} uses already"))
            if kind != "sensor" and not pin.port:
                found.append(
                    _mistake(
                        place, f"pin {place.use.pin} of the {chip.name} measures a voltage, and can do nothing else"
                    )
                )
            edge = kind == "count" or (kind == "range" and place.use.role == "echo")
            if edge and pin.port and not pin.edge:
                can = named(chip, lambda p: bool(p.edge))
                found.append(
                    _mistake(place, f"pin {place.use.pin} of the {chip.name} does not notice when it changes; {can} do")
                )
            if kind == "sensor" and pin.analogue < 0:
                found.append(
                    _mistake(place, f"pin {place.use.pin} of the {chip.name} measures no voltage; A0 and so on do")
                )
    link = wiring.rig.link
    if link is not None and not isinstance(link.wire, SerialTransport) and not wiring.sender:
        found.append(
            Mistake(
                0, "link.wire.kind", f'is "{link.wire.kind}", but the {chip.name} has a serial line only; say "serial"'
            )
        )
    return found + _speed_mistakes(wiring, chip)


def _speed_mistakes(wiring: BoardWiring, chip: Chip) -> list[Mistake]:
    """Return what is wrong with how fast serial lines are."""
    found: list[Mistake] = []
    link = wiring.rig.link
    clock, speeds = wiring.rig.board.clock_Hz, {"link.wire.baud": wiring.baud}
    if wiring.radio is not None and isinstance(wiring.radio.wire, SerialTransport):
        speeds[f"sources.{wiring.rig.board.source}.wire.baud"] = wiring.radio.wire.baud
        if (
            wiring.shares_port
            and link is not None
            and isinstance(link.wire, SerialTransport)
            and link.wire.baud != wiring.baud
        ):
            what = f"is {link.wire.baud}, but the radio has the {chip.name}'s serial line, with {wiring.baud}: say the same"
            found.append(Mistake(0, "link.wire.baud", what))
    for key, baud in speeds.items():
        if abs(clock / 8 / (_divisor(baud, clock) + 1) / baud - 1) > BAUD_OFF:
            what = f"is {baud}, which a clock of {clock / 1e6:g} MHz makes too badly; it can make 38400 or 250000"
            found.append(Mistake(0, key, what))
    return found


def _divisor(baud: int, clock: float) -> int:
    return max(0, round(clock / 8 / baud) - 1)


# --- the written files ---


def _header(wiring: BoardWiring, chip: Chip) -> str:
    serial = "USART" if chip.name == "atmega328p" else "USART0"
    return f"""\
/* What avr.c must know of the chip's pins. */
#ifndef PINS_H
#define PINS_H
#include <stdint.h>
#define SERIAL_RX_vect {serial}_RX_vect
#define SERIAL_UDRE_vect {serial}_UDRE_vect
#define SERIAL_DIVISOR {_divisor(wiring.baud, wiring.rig.board.clock_Hz)} /* {wiring.baud} bits a second */
{_radio_port(wiring)}
extern volatile int32_t pins_counts[];
void pins_begin(void);
uint32_t pins_us(void);
void pins_channel(int sensor);
int32_t pins_echo(int ranger);
int32_t pins_button(int button);
#endif
"""


def _radio_port(wiring: BoardWiring) -> str:
    """Return what avr.c must know of a serial line for the radio alone."""
    radio = wiring.radio
    if radio is None or wiring.shares_port or not isinstance(radio.wire, SerialTransport):
        return ""
    return f"#define RADIO_DIVISOR {_divisor(radio.wire.baud, wiring.rig.board.clock_Hz)} /* {radio.wire.baud} bits a second */\n"


def _source(wiring: BoardWiring, chip: Chip, timers: Timers) -> str:
    return PinsPrinter(wiring, chip, timers).text()


def avr_makefile(rig: Rig, sources: str, headers: str) -> str:
    """Return the Makefile of a program for a chip."""
    return f"""\
# make builds robot.hex. To put it onto the board: make load PORT=/dev/ttyUSB0 LOADER=NAME, with the name that avrdude has for
# your board's boot loader or programmer (avrdude -c ? lists them).
CHIP = {rig.board.chip}
CLOCK = {rig.board.clock_Hz:.0f}UL
FLAGS = {" ".join(FLAGS)} -mmcu=$(CHIP) -DF_CPU=$(CLOCK)
SOURCES = {sources}

robot.hex: robot.elf
\tavr-objcopy -O ihex -R .eeprom robot.elf robot.hex

robot.elf: $(SOURCES) {headers}
\tavr-gcc $(FLAGS) -o robot.elf $(SOURCES) -lm

load: robot.hex
\tavrdude -p $(CHIP) -c $(LOADER) -P $(PORT) -U flash:w:robot.hex
"""
