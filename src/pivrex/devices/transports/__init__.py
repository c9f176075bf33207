"""Transports: serial lines, UDP and TCP ports that open by themselves, try again, and never wait."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.devices.transports.base import Chunk, OpenTransport
    from pivrex.devices.transports.opening import open_transport

__all__ = ["Chunk", "OpenTransport", "open_transport"]
__getattr__ = showing(__name__, base="Chunk OpenTransport", opening="open_transport")
