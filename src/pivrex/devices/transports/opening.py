"""Makes the transport that a rig describes."""

from __future__ import annotations

from pivrex.devices.transports.base import OpenTransport
from pivrex.devices.transports.serial_line import Serial
from pivrex.devices.transports.tcp import Tcp
from pivrex.devices.transports.udp import Udp
from pivrex.rig.transports import SerialTransport, TcpTransport, UdpTransport

__all__ = ["open_transport"]


def open_transport(spec: SerialTransport | UdpTransport | TcpTransport, outward: bool = False) -> OpenTransport:
    """Make the wire that a rig describes; ``outward`` for a link, which sends to the address instead of listening there."""
    match spec:
        case SerialTransport():
            return Serial(spec)
        case UdpTransport():
            return Udp(spec, outward)
        case TcpTransport():
            return Tcp(spec)
