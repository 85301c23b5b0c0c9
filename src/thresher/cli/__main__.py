"""`python -m thresher.cli`: the command line as a program."""

import sys

from thresher.cli.app import main

if __name__ == "__main__":
    sys.exit(main())
