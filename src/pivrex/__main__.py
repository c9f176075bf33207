"""The program's door. Light on purpose: the session's process passes through it too when it is spawned."""

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
    # matrices are small here: threads beside each other would only take time from the session, and to start
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    from pivrex.cli import run

    sys.exit(run())


if __name__ == "__main__":
    main()
