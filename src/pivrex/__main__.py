"""The program's entry point. It loads little, because the spawned process of the session also runs it."""

from __future__ import annotations

import os
import sys

__all__ = ["main"]


def main() -> None:
    """Run the command line."""
    if sys.argv[1:] == ["--version"]:
        from pivrex import __version__

        sys.stdout.write(f"pivrex {__version__}\n")
        return
    # the matrices are small: threads for them cost more than they save
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    from pivrex.cli import run

    sys.exit(run())


if __name__ == "__main__":
    main()
