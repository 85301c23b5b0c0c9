"""How fast a large event log is read, and in how much memory. Usage: python bench/event_log.py [MEGABYTES]

The limit is the package's own parsing of the same file in the same run: what comes on top is ours. The whole reading is
measured as the program does it, in its own process, with its peak of memory.
"""

import resource
import struct
import sys
import tempfile
import time
import zlib
from pathlib import Path

from evtx import PyEvtxParser

from thresher.model.vendors import Vendor
from thresher.simulator.event_log_writer import Event, write_log
from thresher.system_logs.read_process import read_apart

_CHUNK = 65536
_T0 = 1_772_539_200.0


def large_log(path: Path, megabytes: float) -> int:
    """Write a log of so many megabytes by repeating chunks, as an installed system's is full; return its records."""
    ordinary = ("DCOM", 10016), ("Service Control Manager", 7036), ("disk", 7), ("Display", 4101)
    events = []
    for number in range(400):
        provider, event = ordinary[0 if number % 40 else number // 40 % 4]
        events.append(Event(provider, event, _T0 + 60.0 * number, (f"value {number}", "x" * 60)))
    whole = write_log(events)
    body, chunks = whole[4096:], (len(whole) - 4096) // _CHUNK
    times = max(1, round(megabytes * 1e6 / len(body)))
    head = bytearray(whole[:4096])
    struct.pack_into("<Q", head, 16, chunks * times - 1)
    struct.pack_into("<H", head, 42, min(0xFFFF, chunks * times))
    struct.pack_into("<I", head, 124, zlib.crc32(bytes(head[:120])))
    with path.open("wb") as stream:
        stream.write(head)
        for _ in range(times):
            stream.write(body)
    return 400 * times


def main() -> int:
    """Measure and print."""
    megabytes = float(sys.argv[1]) if len(sys.argv) > 1 else 200.0
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "System.evtx"
        records = large_log(path, megabytes)
        began = time.perf_counter()
        with path.open("rb") as stream:
            parsed = sum(1 for _ in PyEvtxParser(stream).records_json())
        limit = time.perf_counter() - began
        began = time.perf_counter()
        read = read_apart(path, "event-log", Vendor.INTEL)
        ours = time.perf_counter() - began
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024.0
        size = path.stat().st_size / 1e6
    print(f"{size:.0f} MB, {records} records ({parsed} parsed, {read.log.lines} read)")
    print(f"parsing alone {limit:.1f} s, read {ours:.1f} s: {ours / limit:.2f} of it; peak memory {peak:.0f} MiB")
    return 0


if __name__ == "__main__":
    sys.exit(main())
