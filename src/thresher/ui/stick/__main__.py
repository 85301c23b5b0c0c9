"""The stick's session. Usage: python -m thresher.ui.stick, on a display of its own; it ends with the machine."""

import sys

from PyQt6.QtCore import QTimer

from thresher.ui.app import make_app
from thresher.ui.stick.session import Session


def main() -> int:
    """Show pages and windows one after the other until the machine is switched off."""
    app = make_app([])
    app.setQuitOnLastWindowClosed(False)
    session = Session()
    QTimer.singleShot(0, session.begin)
    return app.exec()


if __name__ == "__main__":
    sys.exit(main())
