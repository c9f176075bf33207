"""Transports: a serial line, a UDP port or a TCP port."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Link", "SerialTransport", "TcpTransport", "UdpTransport", "Wire", "read_transport", "transport_title"]

THIS_MACHINE, EVERY_ADDRESS = "127.0.0.1", "0.0.0.0"

NETWORK: Any = Field(
    default=False,
    description="True if other computers may send here; otherwise Pivrex hears only programs on this one. For a wire that "
    "listens.",
    examples=[True],
)

Port = Annotated[int, Field(ge=0, le=65535)]


class SerialTransport(Table):
    """A serial line. It is opened again by itself, and found again in whatever port it is plugged."""

    kind: Literal["serial"]
    port: str = Field(default="", description="The port, as the system names it.", examples=["/dev/ttyUSB0"])
    usb: str = Field(
        default="",
        description="Instead of a port: a part of the device's USB serial number, or of its vendor:product numbers, to find it "
        "in any port.",
        examples=["8543130323"],
    )
    baud: Annotated[int, Field(ge=50, le=4_000_000)] = Field(
        default=115200, description="Bits per second.", examples=[115200]
    )

    def mistakes(self) -> list[tuple[str, str]]:
        if bool(self.port) == bool(self.usb):
            return [("port", "or usb must say which device it is, and only one of them")]
        return []


class UdpTransport(Table):
    """Datagrams."""

    kind: Literal["udp"]
    port: Port = Field(description="The port on which Pivrex listens; for a link, the robot's port.", examples=[5800])
    host: str = Field(
        default="",
        description="Instead of `network`: the one address of this computer on which Pivrex listens; for a link, the robot's "
        "address.",
        examples=["127.0.0.1"],
    )
    network: bool = NETWORK

    @property
    def listens_at(self) -> str:
        """The address that is listened at."""
        return self.host or (EVERY_ADDRESS if self.network else THIS_MACHINE)

    @property
    def from_outside(self) -> bool:
        """Whether other machines may send here."""
        return not is_this_machine(self.listens_at)


class TcpTransport(Table):
    """A stream of bytes over the network."""

    kind: Literal["tcp"]
    port: Port = Field(description="The port.", examples=[5801])
    host: str = Field(
        default="",
        description="The computer to connect to; if left out, Pivrex listens and the remote connects.",
        examples=["192.168.4.1"],
    )
    network: bool = NETWORK

    @property
    def listens_at(self) -> str:
        """The address that is listened at; without meaning where it connects."""
        return EVERY_ADDRESS if self.network else THIS_MACHINE

    @property
    def from_outside(self) -> bool:
        """Whether other machines may send here."""
        return self.network if not self.host else not is_this_machine(self.host)

    def mistakes(self) -> list[tuple[str, str]]:
        if self.host and self.network:
            return [("network", f"is for a port that is listened at; this wire connects to {self.host}")]
        return []


Wire = Annotated[SerialTransport | UdpTransport | TcpTransport, Field(discriminator="kind")]


class Link(Table):
    """The robot's own end: sentences out, sentences back; see docs/wire.md."""

    wire: SerialTransport | UdpTransport = Field(description="Where the robot is.", discriminator="kind")
    quiet_after_s: Annotated[float, Quantity("time", at_least=0.05, at_most=5)] = Field(
        default=0.2,
        alias="quiet_after",
        description="The robot counts as lost if no good sensed values come for this time. It rests by itself sooner.",
        examples=["200 ms"],
    )
    encoders: Literal["converted", "counts"] = Field(
        default="converted",
        description="How the robot sends its encoders. converted: travel of wheels in m, their speed in m/s, angles in rad. "
        "counts: the counts since it was switched on, with the encoder's own sign; Pivrex converts them, and "
        "computes speeds with the robot's clock.",
        examples=["counts"],
    )


def is_this_machine(host: str) -> bool:
    """Return whether an address is one that only programs on this machine reach."""
    return host in ("localhost", "::1") or host.startswith("127.")


def transport_title(wire: SerialTransport | UdpTransport | TcpTransport) -> str:
    """Return where a wire leads, for the screen."""
    match wire:
        case SerialTransport():
            return f"serial {wire.port or f'usb {wire.usb}'}"
        case UdpTransport():
            return f"udp {wire.host}:{wire.port}" if wire.host else f"udp {wire.port}"
        case TcpTransport():
            return f"tcp {wire.host}:{wire.port}" if wire.host else f"tcp {wire.port}"


def read_transport(text: str) -> SerialTransport | UdpTransport | TcpTransport:
    """Read a wire as it is written on a command line: ``serial:/dev/ttyUSB0:9600``, ``udp:5810``, ``tcp:host:5801``.

    Raises
    ------
    ValueError
        If it is none.
    """
    kind, _, rest = text.partition(":")
    first, _, last = rest.rpartition(":")
    if kind == "serial" and rest:
        if first and last.isdigit():
            return SerialTransport(kind="serial", port=first, baud=int(last))
        return SerialTransport(kind="serial", port=rest)
    if kind in ("udp", "tcp") and last.isdigit() and int(last) < 65536:
        return (
            UdpTransport(kind="udp", host=first, port=int(last))
            if kind == "udp"
            else TcpTransport(kind="tcp", host=first, port=int(last))
        )
    raise ValueError(f'"{text}" is no wire; write serial:PORT, serial:PORT:BAUD, udp:HOST:PORT or tcp:HOST:PORT')
