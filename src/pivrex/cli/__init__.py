"""The command line. Each command prints the result of a layer below; none computes."""

from pivrex.cli.main import run

__all__ = ["run"]
