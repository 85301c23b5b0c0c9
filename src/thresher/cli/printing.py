"""What the command line prints for people."""

from thresher.cli.output import say, say_json
from thresher.diagnosis.memory_shape import bad_pages, boot_parameters, shape_of
from thresher.model.findings import WrongPlace
from thresher.model.parts import Inventory
from thresher.model.verdict import Verdict, percent, suspect_title
from thresher.sensors.discovery import Discovery


def print_inventory(found: Inventory, discovery: Discovery) -> None:
    """Print parts, doubts, limits and what is not known."""
    label = " (simulated machine)" if found.simulated else ""
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
        if suspect.deciding_test:
            say(f"          deciding test: {suspect.deciding_test}")
    say("  (evidence weight in decibans: +10 = 10 times more likely, -10 = 10 times less likely)")
    if verdict.advice is not None:
        say(f"  What to do: {verdict.advice.sentence}")
    _print_options(verdict)
    for trial in verdict.next_trials[:2]:
        say(f"  Trial: {trial.sentence} ({trial.minutes:.0f} min)")
    for summary in verdict.combined_findings:
        say(f"  {summary}")
    for each in verdict.clean_time:
        say(
            f"  {percent(each.shown_share):>6} of {each.title}: detected by now, if present;"
            f" 95 % {_in_minutes(each.minutes_to_95)}, 99 % {_in_minutes(each.minutes_to_99)}"
        )
    if (seen := verdict.seen_rate) is not None:
        say(
            f"  Finding rate: {seen.per_hour:.1f} per hour under these loads ({seen.low:.1f} to {seen.high:.1f});"
            f" after the repair {seen.minutes_to_sure:.0f} clean minutes prove it (95 %)"
        )


def _print_options(verdict: Verdict) -> None:
    whose = "the shop's own" if verdict.own_prices else "default"
    if verdict.acts:
        say(f"  Options by expected cost ({whose} prices):")
    for act in verdict.acts[:3]:
        say(
            f"    {act.words}: {act.price:.0f} and {act.minutes:.0f} min;"
            f" {percent(act.fix_probability)} chance this fixes it,"
            f" expected cost {act.expected:.0f}"
        )


def _in_minutes(minutes: float | None) -> str:
    """Say when a share is reached under the newest conditions."""
    if minutes is None:
        return "not within 1000 h"
    if minutes <= 0:
        return "reached"
    return f"in {minutes:.0f} min" if minutes < 120 else f"in {minutes / 60:.0f} h"


def print_bad_pages(places: list[WrongPlace], json: bool) -> None:
    """Print the shape of wrong words and the kernel's parameters that keep a machine off their pages."""
    pages, shape = bad_pages(places), shape_of(places)
    line = boot_parameters(pages)
    if json:
        say_json({"pages": pages, "parameters": line, "shape": shape})
    elif not places:
        say("This job has no memory errors.")
    else:
        say(shape.sentence if shape else "")
        if not pages:
            say("No physical addresses: the kernel gives them to root only. Run the memory check as root.")
        else:
            plural = "s" if len(pages) > 1 else ""
            say(f"{len(pages)} bad page{plural}. Put this on the kernel's command line until the part is replaced:")
            say(f"    {line}")
            say("In a GRUB configuration file each $ has to be written as \\\\\\$.")
