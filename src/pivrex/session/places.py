"""The folders of the program's own files: settings, logs and temporary files."""

from __future__ import annotations

import os
import warnings
from pathlib import Path

from platformdirs import user_config_path, user_log_path, user_runtime_path

__all__ = ["config_folder", "log_file", "runtime_folder"]


def config_folder() -> Path:
    """Return the folder of the program's settings; ``PIVREX_HOME`` moves all of these, for tests."""
    home = os.environ.get("PIVREX_HOME")
    return Path(home) / "config" if home else user_config_path("pivrex")


def log_file() -> Path:
    """Return the log file, its folder made."""
    home = os.environ.get("PIVREX_HOME")
    folder = Path(home) / "log" if home else user_log_path("pivrex")
    folder.mkdir(parents=True, exist_ok=True)
    return folder / "pivrex.log"


def runtime_folder() -> Path:
    """Return the folder for what lasts only while the program runs, made."""
    home = os.environ.get("PIVREX_HOME")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a system without such a folder: use another
        folder = Path(home) / "run" if home else user_runtime_path("pivrex")
    folder.mkdir(parents=True, exist_ok=True)
    return folder
