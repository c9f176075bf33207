"""The command line. Each command prints what its layer below computed; none computes."""

from pivrex.cli.main import run

__all__ = ["run"]
