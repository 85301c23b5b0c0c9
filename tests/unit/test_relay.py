"""Messages between two sides in one process: numbers, checksums, and meetings after years."""

import threading

import numpy as np
import pytest

from thresher.loads.compute.relay import Relay, WrongMessage, relay_bytes, round_trip_times
from thresher.loads.plan import LoadPlan

PLAN = LoadPlan("relay", 1, 1)


def meet_both(first: Relay, second: Relay, meetings: int) -> list[WrongMessage]:
    """Let both sides go through some meetings, each on a thread of its own."""
    wrong: list[WrongMessage] = []

    def go(side: Relay) -> None:
        done = 0
        while done < meetings:
            ended, found = side.meet()
            done += ended
            if found is not None:
                wrong.append(found)

    other = threading.Thread(target=go, args=(second,))
    other.start()
    go(first)
    other.join()
    return wrong


def sides(turn: int = 0) -> tuple[Relay, Relay, memoryview]:
    memory = memoryview(np.zeros(relay_bytes(2), np.uint8).data)
    one, other = (Relay(PLAN, memory, worker, 2, paced=True, turn=turn) for worker in (0, 1))
    return one, other, memory


@pytest.mark.parametrize("turn", [0, 170_000, 10**9, 10**12])
def test_meetings_go_on_whatever_their_number(turn: int) -> None:
    one, other, _ = sides(turn)
    assert meet_both(one, other, 3) == []
    assert one.messages == 3 * 8


def test_only_free_teams_measure_times() -> None:
    one, other, memory = sides()
    meet_both(one, other, 2)
    assert round_trip_times(memory, 2) == [[0.0, 0.0], [0.0, 0.0]]
