"""Lets a package list its names without loading all of it: a name is loaded when it is first used."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any

__all__ = ["showing"]


def showing(package: str, **modules: str) -> Callable[[str], Any]:
    """Make a package's ``__getattr__``.

    Parameters
    ----------
    package : str
        Its name.
    **modules : str
        For each module of it the names that it gives, with spaces between.
    """
    homes = {name: module for module, names in modules.items() for name in names.split()}

    def load(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        return getattr(import_module(f"{package}.{homes[name]}"), name)

    return load
