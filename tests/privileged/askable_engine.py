"""An engine's process on a simulated machine whose person allows everything: `python -m … SOCKET JOB SHOP`."""

import sys
from pathlib import Path

from thresher.app import machines
from thresher.cli.verbs.engine import engine
from thresher.model.access import Access, Allowed, access_of
from thresher.privileged.allowlist import Right
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios

FULL = access_of(dict.fromkeys(Right, Allowed.YES))


class Machine(SimulatedMachine):
    """What was allowed stays so in this process, whichever machine object is asked."""

    asked = False

    def access(self) -> Access:
        return FULL if Machine.asked else access_of(dict.fromkeys(Right, Allowed.ASK))

    def ask_access(self) -> Access:
        Machine.asked = True
        return FULL


def opened(*_given: object) -> Machine:
    return Machine(load_scenario(shipped_scenarios()["lighthouse-playout"]), 20.0)


if __name__ == "__main__":
    socket, job, shop = map(Path, sys.argv[1:])
    machines.open_system = opened  # type: ignore[assignment]  # a stand-in for the computer
    engine(socket=socket, job=job, shop=shop)
