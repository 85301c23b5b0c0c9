"""What single lines of the kernel log mean, by the rules in `kernel_lines.toml`."""

import re
from dataclasses import dataclass
from importlib import resources

from thresher.events.kernel_log import KernelRecord
from thresher.model.errors import InputError, InputFault
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, parse_toml

FORMAT = "thresher-kernel-lines/1"
_MARKS = bytes.maketrans(b"[](){}:;,!?=*<>\"'", b" " * 17)
"""What stands between words of a line, beside blanks."""
_EDAC_ADDRESS = re.compile(r"\bpage:0x([0-9a-f]{1,13}) offset:0x([0-9a-f]{1,8})")
_HEX = re.compile(r"(?:0x)?[0-9a-f]{1,16}")
_PAGE_BITS = 12
_CARD = re.compile(r"(?:([0-9a-f]{4}):)?([0-9a-f]{2}:[0-9a-f]{2})(\.[0-7])?")
_NAMES = re.compile(r"\{(\w+)\}")


@dataclass(frozen=True, slots=True, kw_only=True)
class LineRule:
    """One kind of line: the text that it must hold, its form, and what it says.

    `kind` None marks what is no evidence against hardware; `says` then explains it. A line that is harmless by itself
    is evidence when it comes `often` times within `often_s` seconds from one place. `title`, `place` and `says` may
    name groups of the form in braces; `otherwise` is the place where those of `place` are empty. `anywhere` says that
    the text is only part of a word.
    """

    has: str
    form: str
    code: str
    part: PartKind
    severity: Severity
    title: str
    source: str
    place: str = ""
    otherwise: str = ""
    anywhere: bool = False
    kind: FindingKind | None = None
    says: str = ""
    often: int = 0
    often_s: float = 0.0
    often_code: str = ""
    often_kind: FindingKind | None = None
    often_title: str = ""


@dataclass(frozen=True, slots=True)
class LineMeaning:
    """What a line says: the rule it matched, and title, place and words with the line's own values in them.

    `address` is physical, in bytes; `sector` counts 512 bytes.
    """

    rule: LineRule
    title: str
    place: str
    detail: str
    cpu: int | None
    count: int
    address: int | None = None
    sector: int | None = None


@dataclass(frozen=True, slots=True)
class LineMatch:
    """A line and the rule that knows it; what it says is worked out when it is asked for."""

    rule: LineRule
    found: "re.Match[str]"
    text: str

    def meaning(self) -> LineMeaning:
        """Return what the line says."""
        return _meaning(self.rule, self.found, self.text)


_Numbered = tuple[int, str, re.Pattern[str], LineRule]
"""A rule with its number in the file, the text it must hold, and its compiled form."""


class LineRules:
    """The rules, ready to be asked. `meaning_of` costs a few microseconds for a line that matches none.

    Lines are distinguished by their words: a rule is looked at only for lines with the longest word of its text. Texts
    that are part of a word are searched for in every line (`anywhere`).
    """

    def __init__(self, rules: tuple[LineRule, ...]) -> None:
        """Compile the forms."""
        self.rules = rules
        by_word: dict[bytes, list[_Numbered]] = {}
        by_text: dict[str, list[_Numbered]] = {}
        for number, rule in enumerate(rules):
            entry = (number, rule.has, re.compile(rule.form), rule)
            if not rule.anywhere:
                word = max(_words(rule.has), key=len)
                by_word.setdefault(word, []).append(entry)
            else:
                by_text.setdefault(rule.has, []).append(entry)
        self._by_word = {word: tuple(entries) for word, entries in by_word.items()}
        self._by_text = tuple((text, tuple(entries)) for text, entries in by_text.items())

    def match(self, text: str) -> LineMatch | None:
        """Return the rule that knows a line, None where none does. The first rule in the file that fits holds."""
        by_word = self._by_word
        words = _words(text)
        near = [entry for word in words if word in by_word for entry in by_word[word] if entry[1] in text]
        near += [entry for must, entries in self._by_text if must in text for entry in entries]
        for _, _, form, rule in sorted(near, key=_number_of) if len(near) > 1 else near:
            match = form.search(text)
            if match:
                return LineMatch(rule, match, text)
        return None

    def meaning_of(self, text: str) -> LineMeaning | None:
        """Return what a line says, None for one that no rule knows."""
        match = self.match(text)
        return match.meaning() if match is not None else None


def _words(text: str) -> list[bytes]:
    # three times as fast with bytes as with text
    return text.encode("utf-8", "replace").translate(_MARKS).split()


def _number_of(entry: _Numbered) -> int:
    return entry[0]


def _meaning(rule: LineRule, match: "re.Match[str]", text: str) -> LineMeaning:
    groups = match.groupdict()
    named = {name: value for name, value in groups.items() if value is not None}
    if "dev" not in named and "other" in named:
        named["dev"] = named["other"]
    if "cpu" not in named and "other" in named:
        named["cpu"] = named["other"]
    place = _filled(rule.place, named)
    if not place and rule.otherwise:
        place = _filled(rule.otherwise, named)
    place = card_of(place)
    what = named.get("what", "")
    detail = _filled(rule.says, named) if rule.says else what if " " in what else text.strip()
    cpu, count = named.get("cpu", ""), named.get("count", "")
    return LineMeaning(
        rule,
        _filled(rule.title, named).strip(),
        place,
        detail,
        int(cpu) if cpu.isdigit() else None,
        max(1, int(count)) if count.isdigit() and len(count) < 10 else 1,
        _address_in(named, text),
        int(named["sector"]) if named.get("sector", "").isdigit() else None,
    )


def _address_in(named: dict[str, str], text: str) -> int | None:
    """Return the physical address that a line names, by its page or in full; 0 stands for an unknown one."""
    if found := _EDAC_ADDRESS.search(text):
        return (int(found[1], 16) << _PAGE_BITS) + int(found[2], 16) or None
    if page := named.get("page"):
        return int(page, 16) << _PAGE_BITS or None
    address = named.get("address", "")
    return int(address, 16) or None if _HEX.fullmatch(address) else None


def card_of(place: str) -> str:
    """Return a PCI address in full, domain and function included, since drivers name a card in several ways."""
    match = _CARD.fullmatch(place)
    return f"{match[1] or '0000'}:{match[2]}{match[3] or '.0'}" if match else place


def _filled(template: str, named: dict[str, str]) -> str:
    """Put groups into a template; empty when it names only groups that the line does not have."""
    wanted = _NAMES.findall(template)
    if wanted and not any(name in named for name in wanted):
        return "" if template.replace("{", "").replace("}", "").strip() in wanted else _NAMES.sub("", template).strip()
    return _NAMES.sub(lambda found: named.get(found[1], ""), template)


def finding_of_line(meaning: LineMeaning, record: KernelRecord) -> Finding | None:
    """Return the finding that a line is, None for a line that is no evidence and has no code."""
    rule = meaning.rule
    if rule.kind is None:
        return None
    return Finding(
        code=rule.code,
        kind=rule.kind,
        severity=rule.severity,
        part=rule.part,
        at=record.time or 0.0,
        title=f"{meaning.title}, {meaning.place}" if meaning.place else meaning.title,
        detail=meaning.detail,
        place=meaning.place,
        count=meaning.count,
        raw=record.text,
        address=meaning.address,
    )


def parse_rules(text: str, source: str) -> tuple[LineRule, ...]:
    """Parse rules. Raises InputError with every fault."""
    faults: list[InputFault] = []
    rules = convert_list(parse_toml(text, source, FORMAT), "lines", LineRule, faults)
    for number, rule in enumerate(rules):
        where = f"lines[{number}] {rule.has!r}"
        try:
            known = set(re.compile(rule.form).groupindex) | {"cpu", "dev"}
        except re.error as error:
            faults.append(InputFault(where, f"the form is no regular expression: {error}"))
            continue
        for template in (rule.title, rule.place, rule.otherwise, rule.says):
            faults += [
                InputFault(where, f"{{{name}}} is no group of the form")
                for name in _NAMES.findall(template)
                if name not in known
            ]
        if rule.kind is not None and not rule.code:
            faults.append(InputFault(where, "evidence needs a fault code"))
        if rule.often and not (rule.often_s > 0 and rule.often_code and rule.often_kind and rule.often_title):
            faults.append(InputFault(where, "often needs often_s, often_code, often_kind and often_title"))
        if rule.kind is None and not rule.says:
            faults.append(InputFault(where, "what is no evidence needs words that say what it is"))
    if faults:
        raise InputError(source, faults)
    return tuple(rules)


def load_rules() -> LineRules:
    """Return the rules that come with the program."""
    text = resources.files("thresher.events").joinpath("kernel_lines.toml").read_text(encoding="utf-8")
    return LineRules(parse_rules(text, "kernel_lines.toml"))
