"""Pure functions from data and a size to pictures."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.draw.picture import Picture

__all__ = ["Picture"]
__getattr__ = showing(__name__, picture="Picture")
