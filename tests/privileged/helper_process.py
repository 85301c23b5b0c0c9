"""The access helper over a tree of files, in a process of its own: `python -m tests.privileged.helper_process`."""

import sys
from pathlib import Path

from thresher.privileged.requests import Places
from thresher.privileged.service import main

if __name__ == "__main__":
    root = Path(sys.argv[1])
    sys.exit(main(Places(root, root / "units", (root / "tracing",))))
