"""What the command line prints for people."""

import msgspec
import typer

from thresher.codes.directory import load_codes
from thresher.events.machine_check import Vendor, decode_status
from thresher.model.parts import Inventory
from thresher.model.verdict import Verdict, percent, suspect_title
from thresher.sensors.discovery import Discovery


def say(text: str) -> None:
    """Print a line."""
    typer.echo(text)


def say_json(value: object) -> None:
    """Print plain data or values of the model as one line of JSON."""
    typer.echo(msgspec.json.encode(value).decode())


def print_inventory(found: Inventory, discovery: Discovery) -> None:
    """Print parts, doubts, limits and what is not known."""
    label = " (bench model: simulated)" if found.simulated else ""
    say(f"{found.name}{label}")
    for part in found.parts:
        say(f"\n{part.tag}: {part.name}")
        for fact in part.facts:
            say(f"    {fact.name:20} {fact.value:28} {fact.source}")
    if found.doubts:
        say("\nNot as it should be")
        for doubt in found.doubts:
            say(f"    {doubt.code}  {doubt.title}, {doubt.part}: {doubt.detail}")
    limited = [channel for channel in discovery.channels if channel.limits]
    say(f"\n{len(discovery.channels)} channels, {len(limited)} with a limit")
    for channel in limited:
        for limit in channel.limits:
            say(f"    {channel.name:20} {limit.side.value} {limit.value:g} {channel.unit}, {limit.source}")
    missing = (*found.unknown, *discovery.unknown)
    if missing:
        say("\nNot known")
        for fact in missing:
            say(f"    {fact.name}: {fact.value} ({fact.source})")


def print_verdict(verdict: Verdict) -> None:
    """Print the sentence, then the suspects with their reasons."""
    say(f"\n{verdict.sentence}")
    for suspect in verdict.suspects[:5]:
        say(f"  {percent(suspect.probability):>6}  {suspect_title(suspect)}: {suspect.title}")
        for reason in suspect.reasons:
            if abs(reason.decibans) >= 0.5:
                say(f"          {reason.decibans:+6.1f}  {reason.text}")
    say("  (weights in tenths of a ban: +10 is ten to one for, -10 ten to one against)")


def print_code(code: str, json: bool) -> None:
    """Print what a fault code means and what to do."""
    entry = load_codes()[code]
    if json:
        say_json(entry)
        return
    say(f"{entry.code}  {entry.title}\n\n{entry.meaning}\n\nUsual causes, most likely first")
    for cause in entry.causes:
        say(f"  - {cause}")
    say("\nNext, cheapest first")
    for number, step in enumerate(entry.steps, 1):
        say(f"  {number}. {step}")


def print_register(status: int, vendor: Vendor, json: bool) -> None:
    """Print a status register field by field."""
    decoded = decode_status(status, vendor)
    if json:
        say_json(decoded)
        return
    say(f"Status {status:#018x}, {vendor.value} layout: {decoded.summary}")
    for field in decoded.fields:
        bits = f"{field.high}" if field.high == field.low else f"{field.high}:{field.low}"
        say(f"  {bits:>6}  {field.name:22} {field.value:#8x}  {field.meaning}")
