"""Decoded things as lines of text, for the terminal and for copying."""

from thresher.decoding.recognise import DecodedThing
from thresher.events.machine_checks.registers import Strip

_SOME_SAMPLES = 3


def lines_of(thing: DecodedThing) -> list[str]:
    """Return a thing as lines of text, for the terminal and for copying."""
    lines = [f"{thing.code}  {thing.title}".strip(), f"  {thing.words}"]
    lines += [f"  {line}" for line in thing.lines]
    if thing.shares:
        ordered = sorted(thing.shares, key=lambda each: -each.share)
        lines.append("  Points at " + ", ".join(f"{each.part.value} {each.share * 100:.0f} %" for each in ordered))
    if thing.causes:
        lines.append("  Usual causes: " + "; ".join(thing.causes))
    lines += [f"  {number}. {step}" for number, step in enumerate(thing.steps, 1)]
    for strip in thing.strips:
        lines += lines_of_strip(strip)
    if thing.raw and thing.what != "fault code":
        lines += [f"    | {line}" for line in thing.raw.splitlines()[: 4 * _SOME_SAMPLES]]
    return lines


def lines_of_strip(strip: Strip) -> list[str]:
    """Return a register as lines: its value, and each field with its bits and meaning."""
    lines = [f"  {strip.name} {strip.value:#018x}"]
    for field in strip.fields:
        bits = f"{field.high}" if field.high == field.low else f"{field.high}:{field.low}"
        lines.append(f"    {bits:>6}  {field.name:22} {field.value:#8x}  {field.meaning}")
    return lines
