"""`python -m windfell`: the same as the command `windfell`."""

import sys

from windfell.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
