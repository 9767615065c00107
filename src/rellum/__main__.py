"""``python -m rellum`` does what ``rellum`` does."""

import sys

from rellum.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
