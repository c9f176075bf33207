"""`python -m tests`: see `tests.runner`, which the processes next to each other load under its own name."""

import sys

from tests.runner import main

if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
