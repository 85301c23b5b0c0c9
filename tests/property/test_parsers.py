"""Parsers of what comes from outside: never a crash, always a reason, whatever the bytes."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.compose.sheet_file import parse_sheet
from thresher.diagnosis.knowledge import parse_knowledge
from thresher.events.findings import KernelDecoder, load_event_knowledge
from thresher.events.kernel_log import KernelRecord, Undecoded, parse_kmsg
from thresher.events.log_forms import parse_log_text
from thresher.events.machine_checks.decode import decode_check
from thresher.events.machine_checks.registers import MachineCheck
from thresher.inventory.smbios import memory_device, walk
from thresher.model.errors import InputError
from thresher.model.vendors import Vendor
from thresher.sensors.probes import cpu_use, energy_to_power, memory_used, parse_number
from thresher.simulator.firmware_tables import smbios_table
from thresher.simulator.scenario import load_scenario, parse_scenario, shipped_scenarios

KNOWLEDGE = load_event_knowledge()
TABLE = smbios_table(load_scenario(shipped_scenarios()["lighthouse-playout"]))


@given(st.binary(max_size=300))
def test_no_kernel_record_crashes_the_reader(raw: bytes) -> None:
    parsed = parse_kmsg(raw)
    assert isinstance(parsed, KernelRecord | Undecoded)


@given(
    st.integers(0, 191),
    st.integers(0, 2**63),
    st.integers(0, 2**50),
    st.text(st.characters(min_codepoint=32, max_codepoint=126, exclude_characters="\\"), max_size=80),
)
def test_a_written_record_reads_back(priority: int, sequence: int, micros: int, text: str) -> None:
    record = parse_kmsg(f"{priority},{sequence},{micros},-;{text}\n".encode())
    assert record == KernelRecord(sequence, micros / 1e6, priority & 7, text, facility=priority // 8)


@given(st.text(max_size=400))
def test_no_log_text_crashes_the_decoder(text: str) -> None:
    KernelDecoder(None, Vendor.INTEL, KNOWLEDGE).decode(parse_log_text(text), last=True)


ANY_64 = st.integers(0, 2**64 - 1)
MAYBE_64 = st.none() | ANY_64


@given(ANY_64, st.sampled_from(Vendor), MAYBE_64, MAYBE_64, MAYBE_64, st.none() | st.integers(0, 2**32 - 1), MAYBE_64)
@settings(max_examples=500)
def test_every_check_decodes_and_its_fields_hold_its_bits(
    status: int,
    vendor: Vendor,
    misc: int | None,
    ipid: int | None,
    synd: int | None,
    cpuid: int | None,
    cap: int | None,
) -> None:
    check = MachineCheck(
        3, 4, status, None, vendor=vendor, misc=misc, ipid=ipid, syndrome=synd, cpuid=cpuid, mcg_cap=cap
    )
    decoded = decode_check(check, KNOWLEDGE.checks)
    for strip in decoded.strips:
        for field in strip.fields:
            assert field.value == strip.value >> field.low & (1 << (field.high - field.low + 1)) - 1
            assert field.meaning
        above = 64
        for field in strip.fields:
            assert field.high == above - 1  # no bit is left out and none named twice
            above = field.low
        assert above == 0
    assert decoded.summary
    assert decoded.valid == bool(status >> 63)
    assert (
        sum(each.share for each in decoded.shares) == (1.0 if decoded.valid else 0.0)
        or abs(sum(each.share for each in decoded.shares) - 1.0) < 1e-9
    )


@given(st.integers(0, 255), st.integers(0, 63), st.integers(0, 2**64 - 1), st.integers(1, 2**48))
def test_a_logged_check_reads_back(cpu: int, bank: int, status: int, address: int) -> None:
    text = (
        f"mce: [Hardware Error]: CPU {cpu}: Machine Check: 0 Bank {bank}: {status:016x}\n"
        f"mce: [Hardware Error]: TSC 0 ADDR {address:x} \n"
        f"mce: [Hardware Error]: PROCESSOR 0:906ea TIME 1 SOCKET 0 APIC 0 microcode 1\n"
    )
    found = KernelDecoder(None, Vendor.INTEL, KNOWLEDGE).decode(parse_log_text(text))
    (check,) = found.checks
    assert (check.cpu, check.bank, check.status, check.address) == (cpu, bank, status, address)
    assert len(found.findings) == (1 if status >> 63 else 0)


@given(st.binary(max_size=400))
def test_no_bytes_crash_the_firmware_walk(table: bytes) -> None:
    oddities: list[str] = []
    for structure in walk(table, oddities):
        if structure.kind == 17:
            memory_device(structure)


def test_ten_thousand_mutated_firmware_tables_are_walked() -> None:
    rng = np.random.default_rng(5)
    whole = np.frombuffer(TABLE, dtype=np.uint8)
    for _ in range(10_000):
        mutated = whole.copy()
        mutated[rng.integers(0, len(whole), 6)] = rng.integers(0, 256, 6)
        blob = mutated.tobytes()[: int(rng.integers(1, len(whole) + 1))]
        oddities: list[str] = []
        for structure in walk(blob, oddities):
            assert structure.offset + len(structure.area) <= len(blob)
            if structure.kind == 17:
                memory_device(structure)
        assert all(oddity.startswith("at byte ") for oddity in oddities)


@given(st.binary(max_size=60))
def test_sensor_files_give_a_number_or_a_reason(content: bytes) -> None:
    for parse in (lambda c: (parse_number(c),), lambda c: cpu_use()(c, 0.0), lambda c: memory_used(c, 0.0)):
        try:
            assert all(np.isfinite(value) for value in parse(content))
        except ValueError as error:
            assert str(error)


@given(st.lists(st.integers(0, 2**40), min_size=2, max_size=20))
def test_power_is_never_negative(counters: list[int]) -> None:
    parse = energy_to_power(2**40)
    for at, counter in enumerate(counters):
        try:
            (watts,) = parse(str(counter).encode(), float(at))
        except ValueError:
            assert at == 0
        else:
            assert watts >= 0


@given(st.text(max_size=300))
def test_no_text_crashes_the_file_readers(text: str) -> None:
    for parse in (parse_sheet, parse_scenario, parse_knowledge):
        try:
            parse(text, "some.toml")
        except InputError as error:
            assert error.faults
        else:
            raise AssertionError("random text was taken for a file")
