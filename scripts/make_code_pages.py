"""Write docs/codes.md and docs/decoded-lines.md from the directories and rules that come with the program."""

from pathlib import Path

from thresher.codes.directory import load_codes
from thresher.codes.stop_codes import load_stop_codes
from thresher.events.findings import load_event_knowledge

ROOT = Path(__file__).parent.parent
GROUPS = {
    "P": "Processor",
    "M": "Memory",
    "G": "Graphics",
    "D": "Drives",
    "S": "Supply, board, links",
    "C": "Cooling",
    "A": "Battery",
    "N": "Network",
    "U": "Sound",
    "E": "Endings",
    "X": "The evidence itself",
}


def shares_text(shares: dict[object, float]) -> str:
    """Return shares for a table."""
    ordered = sorted(shares.items(), key=lambda each: -each[1])
    return ", ".join(f"{part} {share * 100:.0f} %" for part, share in ordered)


def codes_page() -> str:
    """Return the page of all fault codes and stop codes."""
    lines = [
        "# Fault codes",
        "",
        "Made by `scripts/make_code_pages.py` from `fault_codes.toml` and `stop_codes.toml`.",
        "",
    ]
    codes = sorted(load_codes().values(), key=lambda each: (list(GROUPS).index(each.code[0]), each.code))
    for letter, title in GROUPS.items():
        lines += [f"## {letter}: {title}", ""]
        for entry in (each for each in codes if each.code[0] == letter):
            lines += [f"### {entry.code} {entry.title}", "", entry.meaning, ""]
            if entry.shares:
                lines += [f"Points at: {shares_text(dict(entry.shares))}.", ""]
            if entry.noise is not None:
                plural = "s" if entry.noise.count > 1 else ""
                lines += [
                    f"Up to {entry.noise.count} finding{plural} in {entry.noise.hours:g} h from one place may be noise"
                    f" ({entry.noise.source}).",
                    "",
                ]
            lines += ["Usual causes: " + "; ".join(entry.causes) + ".", "", "Next, cheapest first:", ""]
            lines += [f"{number}. {step}" for number, step in enumerate(entry.steps, 1)] + [""]
    lines += ["## Stop codes of another system", "", "| code | name | says | points at |", "|---|---|---|---|"]
    for stop in load_stop_codes().values():
        shares = shares_text(dict(stop.shares)) or "software"
        lines.append(f"| `{stop.number:#x}` | `{stop.name}` | {stop.meaning} | {shares} |")
    return "\n".join(lines) + "\n"


def lines_page() -> str:
    """Return the table of kernel lines: source by what they are decoded to."""
    rules = load_event_knowledge().lines.rules
    evidence = sum(rule.kind is not None for rule in rules)
    lines = [
        "# Lines of the kernel log",
        "",
        "Made by `scripts/make_code_pages.py` from `kernel_lines.toml`. Beside these, machine checks (`CPU n: Machine",
        "Check`, `CPU:n (…) MCn_STATUS`, `mce_record`), firmware's records (`{n}[Hardware Error]`) and traced events",
        "are put together from several lines. `tests/corpus/kernel_lines.txt` holds a line for every rule.",
        "",
        f"{evidence} rules find evidence, {len(rules) - evidence} know lines that are none.",
        "",
        "| from | line | code | evidence | part | severity |",
        "|---|---|---|---|---|---|",
    ]
    for rule in rules:
        kind = rule.kind.value if rule.kind is not None else "none"
        has = rule.has.replace("|", "\\|")
        cells = (rule.source, f"`{has}`: {rule.title}", rule.code or "-", kind, rule.part.value, rule.severity.value)
        lines.append(f"| {' | '.join(cells)} |")
    return "\n".join(lines) + "\n"


PAGES = {"codes.md": codes_page, "decoded-lines.md": lines_page}

if __name__ == "__main__":
    for name, page in PAGES.items():
        (ROOT / "docs" / name).write_text(page(), encoding="utf-8")
        print(f"docs/{name}")
