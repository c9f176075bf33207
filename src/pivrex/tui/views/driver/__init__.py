"""The view Driver: the sources, each channel live, what is patched to what, and what remotes say."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.views.driver.view import DriverView

__all__ = ["DriverView"]
__getattr__ = showing(__name__, view="DriverView")
