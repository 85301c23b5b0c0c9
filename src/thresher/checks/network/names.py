"""Names and internet: name servers answer, answers are right, and pages come from where they should."""

import re
from functools import partial

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.checks.network.interfaces import has_network
from thresher.model.checks import CheckResult, Figure
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.network_port import Fetched, LookedUp
from thresher.model.parts import PartKind
from thresher.model.port import System, optional_text

NAME = "example.com"
"""Kept for examples by RFC 2606 and served by IANA; whoever answers otherwise stands between."""
_TEXT = "Example Domain"
_ABSENT = "thresher-check.invalid"
"""RFC 2606: nothing of this name exists; a server that gives it an address makes answers up."""
_WAIT_S = 3.0


def name_servers(system: System) -> tuple[str, ...]:
    """Return the name servers of resolv.conf(5)."""
    text = optional_text(system, "/etc/resolv.conf")
    return tuple(re.findall(r"^\s*nameserver\s+(\S+)", text, re.MULTILINE))


def _run(bench: CheckBench) -> CheckSteps:
    servers = yield from beside(lambda: name_servers(bench.system))
    if not servers:
        return (CHECK.failed("no name server is set: the network hands none out, or they were taken out by hand"),)
    try:
        network = bench.system.open_network()
    except SourceUnavailable as error:
        return (CHECK.unclear(str(error)),)
    figures, answers, made_up = [], dict[str, LookedUp](), []
    for number, server in enumerate(servers[:3]):
        yield from progress(f"asking {server}", 0.1 + 0.2 * number)
        found = yield from beside(partial(network.look_up, server, NAME, _WAIT_S))
        nothing = yield from beside(partial(network.look_up, server, _ABSENT, _WAIT_S))
        words = "does not answer" if found is None else ", ".join(found.addresses) or found.code
        figures.append(Figure(f"{NAME} by {server}", words=words))
        if found is not None:
            answers[server] = found
        if nothing is not None and nothing.addresses:
            made_up.append(server)
    yield from progress(f"fetching {NAME}", 0.8)
    page = yield from beside(lambda: network.fetch(f"http://{NAME}/", _WAIT_S))
    figures.append(Figure("page", words=_page_words(page)))
    return (_judge(servers, answers, made_up, page, tuple(figures)),)


def _page_words(page: Fetched | None) -> str:
    if page is None:
        return "nothing came"
    return f"status {page.status}" + (f", sent on to {page.location}" if page.location else "")


def _judge(
    servers: tuple[str, ...],
    answers: dict[str, LookedUp],
    made_up: list[str],
    page: Fetched | None,
    figures: tuple[Figure, ...],
) -> CheckResult:
    """Say which of name server, portal and provider is in the way."""
    right = page is not None and page.status == 200 and _TEXT in page.text
    if made_up:
        why = f"{', '.join(made_up)} gives an address for a name that does not exist: set another name server"
        return CHECK.failed(why, *figures)
    if not answers and page is None:
        why = "no name server answers and nothing can be fetched: the way to the internet is down beyond the router"
        return CHECK.failed(why, *figures, code="N-140")
    if not answers:
        return CHECK.failed(f"{', '.join(servers)} does not answer: set another name server", *figures)
    if not any(each.addresses for each in answers.values()):
        codes = ", ".join(f"{server} says {each.code}" for server, each in answers.items())
        return CHECK.failed(f"{codes}: the name server has no way out, or is set wrongly", *figures)
    if page is None:
        why = "names resolve and no page comes: the provider, or something that filters"
        return CHECK.failed(why, *figures, code="N-140")
    if not right:
        why = "another page than asked for comes back: sign in at the network's own page first"
        return CHECK.unclear(why, *figures)
    silent = [server for server in servers[:3] if server not in answers]
    if silent:
        return CHECK.failed(f"{', '.join(silent)} does not answer; the others do, after a wait", *figures)
    return CHECK.passed("names resolve, and pages come from where they should", *figures)


CHECK = Check(
    name="names and internet",
    row=PartKind.NETWORK,
    about=(
        "A name server turns names into addresses. When it fails everything seems down although the network is fine. A"
        " page whose content is known is fetched: another page in its place means that the network wants somebody to"
        " sign in first."
    ),
    finds="a name server that is wrong or silent, a network that wants a sign-in, a provider that is down",
    misses="a provider that is only slow",
    usual_s=8.0,
    run=_run,
    parts=(PartKind.NETWORK,),
    kind=FindingKind.NETWORK_NAMES,
    code="N-130",
    worth_min=30.0,
    there=has_network,
)
