"""Decoders of remotes: bytes to readings, one file for each kind of source."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.devices.decode.message import FAULTS, Message, Reader
    from pivrex.devices.decode.readers import reader_of

__all__ = ["FAULTS", "Message", "Reader", "reader_of"]
__getattr__ = showing(__name__, message="FAULTS Message Reader", readers="reader_of")
