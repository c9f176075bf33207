"""The two chips: what each pin can do, and which timer it uses. Names come from their data sheets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from pivrex.errors import Mistake, RigError
from pivrex.rig.pin_uses import PinUse

__all__ = ["CHIPS", "Chip", "Pin", "Timer", "named", "pin_of", "printed_pins"]


@dataclass(frozen=True)
class Pin:
    """A pin of a chip.

    Attributes
    ----------
    port, bit : str, int
        Its port and place there: PD5 is ("D", 5). A pin that only measures a voltage has no port.
    pwm : str
        The timer's output on it, as OC0B; empty for none.
    edge : str
        What interrupts when it changes: INT0, PCINT2 (of its group); empty for nothing.
    group, mask : int
        Of a PCINT its group, and its bit there.
    analogue : int
        The converter's channel; -1 for none.
    """

    port: str
    bit: int
    pwm: str = ""
    edge: str = ""
    mask: int = 0
    analogue: int = -1

    @property
    def name(self) -> str:
        return f"P{self.port}{self.bit}" if self.port else f"ADC{self.bit}"

    @property
    def timer(self) -> int:
        """The timer that its PWM comes from; -1 for none."""
        return int(self.pwm[2]) if self.pwm else -1


@dataclass(frozen=True)
class Timer:
    """A timer: how far it counts (8 or 16 bits), and what its clock may be divided by."""

    bits: int
    divisors: tuple[int, ...]


USUAL, FINER = (1, 8, 64, 256, 1024), (1, 8, 32, 64, 128, 256, 1024)


@dataclass(frozen=True)
class Chip:
    """A chip.

    Attributes
    ----------
    name : str
        As the compiler has it.
    flash, ram : int
        In bytes; of the flash what a boot loader leaves.
    pins : mapping
        By the names that a rig may use: numbers as boards print them, A0 for analogue ones, PD5 as the data sheet has it.
    timers : mapping
        Timer 0 keeps the time.
    serial : tuple of str
        The pins of its serial line.
    radio : tuple of str
        Those of a second one, for a radio; empty if there is none.
    """

    name: str
    flash: int
    ram: int
    timers: Mapping[int, Timer]
    serial: tuple[str, ...]
    pins: Mapping[str, Pin] = field(default_factory=dict)
    radio: tuple[str, ...] = ()

    @staticmethod
    def port_address(port: str) -> int:
        """Return where PORTx stands in memory; DDRx stands one before it."""
        return 0x22 + 3 * "ABCDEFG".index(port) if port in "ABCDEFG" else 0x102 + 3 * "HJKL".index(port)

    @staticmethod
    def timer_addresses(pin: Pin) -> tuple[int, int, int]:
        """Return where TCCRnA of a pin's timer stands, the bit there that connects the pin, and where its OCR stands."""
        control = {0: 0x44, 1: 0x80, 2: 0xB0, 3: 0x90, 4: 0xA0, 5: 0x120}[pin.timer]
        which = "ABC".index(pin.pwm[3])
        compare = control + (3 + which if pin.timer in (0, 2) else 8 + 2 * which)
        return control, 7 - 2 * which, compare


def _small() -> dict[str, Pin]:
    pwm = {"D6": "OC0A", "D5": "OC0B", "B1": "OC1A", "B2": "OC1B", "B3": "OC2A", "D3": "OC2B"}
    printed = [f"D{k}" for k in range(8)] + [f"B{k}" for k in range(6)]
    groups = {"B": 0, "C": 1, "D": 2}
    pins = {}
    for port, many in (("B", 6), ("C", 6), ("D", 8)):
        for bit in range(many):
            edge = {"D2": "INT0", "D3": "INT1"}.get(f"{port}{bit}", f"PCINT{groups[port]}")
            pins[f"P{port}{bit}"] = Pin(port, bit, pwm.get(f"{port}{bit}", ""), edge, bit, bit if port == "C" else -1)
    pins |= {str(k): pins[f"P{name}"] for k, name in enumerate(printed)}
    pins |= {str(14 + k): pins[f"PC{k}"] for k in range(6)}
    pins |= {f"A{k}": Pin("", k, analogue=k) for k in (6, 7)}  # where the chip is a flat one
    pins |= {f"A{k}": pins[f"PC{k}"] for k in range(6)}
    return pins


def _large() -> dict[str, Pin]:
    pwm = {
        "B7": "OC0A", "G5": "OC0B", "B5": "OC1A", "B6": "OC1B", "B4": "OC2A", "H6": "OC2B", "E3": "OC3A", "E4": "OC3B", "E5": "OC3C",
        "H3": "OC4A", "H4": "OC4B", "H5": "OC4C", "L3": "OC5A", "L4": "OC5B", "L5": "OC5C",
    }  # fmt: skip
    interrupts = {**{f"D{k}": f"INT{k}" for k in range(4)}, **{f"E{4 + k}": f"INT{4 + k}" for k in range(4)}}
    printed = [
        "E0",
        "E1",
        "E4",
        "E5",
        "G5",
        "E3",
        "H3",
        "H4",
        "H5",
        "H6",
        "B4",
        "B5",
        "B6",
        "B7",
        "J1",
        "J0",
        "H1",
        "H0",
        "D3",
        "D2",
        "D1",
        "D0",
        "A0",
        "A1",
        "A2",
        "A3",
        "A4",
        "A5",
        "A6",
        "A7",
        "C7",
        "C6",
        "C5",
        "C4",
        "C3",
        "C2",
        "C1",
        "C0",
        "D7",
        "G2",
        "G1",
        "G0",
        "L7",
        "L6",
        "L5",
        "L4",
        "L3",
        "L2",
        "L1",
        "L0",
        "B3",
        "B2",
        "B1",
        "B0",
    ]
    pins = {}
    for port, many in zip("ABCDEFGHJKL", (8, 8, 8, 8, 8, 8, 6, 8, 8, 8, 8), strict=True):
        for bit in range(many):
            name = f"{port}{bit}"
            edge, mask = interrupts.get(name, ""), bit
            if port in "BK":
                edge = f"PCINT{0 if port == 'B' else 2}"
            elif name == "E0" or (port == "J" and bit < 7):
                edge, mask = "PCINT1", 0 if name == "E0" else bit + 1
            analogue = bit if port == "F" else 8 + bit if port == "K" else -1
            pins[f"P{name}"] = Pin(port, bit, pwm.get(name, ""), edge, mask, analogue)
    pins |= {str(k): pins[f"P{name}"] for k, name in enumerate(printed)}
    pins |= {f"A{k}": pins[f"P{'F' if k < 8 else 'K'}{k % 8}"] for k in range(16)}
    return pins


CHIPS = {
    "atmega328p": Chip(
        "atmega328p", 32_256, 2048, {0: Timer(8, USUAL), 1: Timer(16, USUAL), 2: Timer(8, FINER)}, ("PD0", "PD1"), _small()
    ),
    "atmega2560": Chip(
        "atmega2560", 253_952, 8192,
        {0: Timer(8, USUAL), 2: Timer(8, FINER), **{k: Timer(16, USUAL) for k in (1, 3, 4, 5)}}, ("PE0", "PE1"), _large(), ("PD2", "PD3"),
    ),
}  # fmt: skip


def printed_pins(chip: Chip) -> dict[str, Pin]:
    """Return each pin by the name that boards print next to it, numbers first. A0 has a number too, but is known as A0."""
    found = {pin.name: name for name, pin in chip.pins.items() if name.isdigit() or name.startswith("A")}
    return {n: chip.pins[n] for n in sorted(found.values(), key=lambda n: (n.startswith("A"), int(n.lstrip("A"))))}


def named(chip: Chip, wanted: Callable[[Pin], bool]) -> str:
    """Name the pins that can do something, as boards print them: "3, 5, 6, 9 to 11"."""
    groups: list[list[str]] = []
    for name, pin in printed_pins(chip).items():
        if not wanted(pin):
            continue
        last = groups[-1][-1] if groups else ""
        follows = (
            last.startswith("A") == name.startswith("A")
            and last != ""
            and int(name.lstrip("A")) == int(last.lstrip("A")) + 1
        )
        if follows:
            groups[-1].append(name)
        else:
            groups.append([name])
    return ", ".join(f"{g[0]} to {g[-1]}" if len(g) > 2 else ", ".join(g) for g in groups)


def pin_of(chip: Chip, use: PinUse) -> Pin:
    """Return the pin of a chip that a rig names; raises `RigError` if there is none."""
    found = chip.pins.get(str(use.pin).upper())
    if found is None:
        known = "numbers as they are printed on boards, A0 for analogue pins, or the chip's own names, as PD5"
        raise RigError(
            Path("rig"), [Mistake(0, use.key, f'is "{use.pin}", which the {chip.name} does not have; pins are {known}')]
        )
    return found
