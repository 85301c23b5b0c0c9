"""Event logs made by the published format, and what came of them."""

import io
from collections.abc import Callable, Sequence

import pytest

from thresher.decoding.recognise import Tables, load_tables
from thresher.model.vendors import Vendor
from thresher.simulator.event_log_writer import Event, write_log
from thresher.system_logs.event_log import EventLogRead, read_event_log
from thresher.system_logs.meanings import load_meanings

ReadEvents = Callable[[Sequence[Event]], EventLogRead]
NOON = 1_772_539_200.0
"""2026-03-03 12:00:00 UTC."""


@pytest.fixture(scope="session")
def tables() -> Tables:
    return load_tables()


@pytest.fixture
def read(tables: Tables) -> ReadEvents:
    """Read events as a log named System.evtx."""
    meanings = load_meanings()

    def reading(events: Sequence[Event]) -> EventLogRead:
        return read_event_log(io.BytesIO(write_log(events)), "System.evtx", tables, meanings, Vendor.INTEL)

    return reading
