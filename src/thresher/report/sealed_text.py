"""The sentences of a report that a seal covers: what stands in elements with the attribute `data-sealed`, its name."""

from html.parser import HTMLParser

from thresher.seal.seal import Sentence

_VOID = frozenset(("meta", "br", "line", "hr", "img", "input", "link"))
_BREAKS = frozenset(("td", "th", "br", "tr", "p"))


class _Reader(HTMLParser):
    """Collects the text of each sealed element; cells and line breaks count as a space."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.sentences: list[tuple[str, list[str]]] = []
        self._depth = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if self._depth and tag in _BREAKS:
            self.sentences[-1][1].append(" ")
        if tag in _VOID:
            return
        if self._depth:
            self._depth += 1
            return
        name = dict(attrs).get("data-sealed")
        if name is not None:
            self.sentences.append((name, []))
            self._depth = 1

    def handle_endtag(self, tag: str) -> None:
        if self._depth and tag not in _VOID:
            self._depth -= 1

    def handle_data(self, data: str) -> None:
        if self._depth:
            self.sentences[-1][1].append(data)


def sentences_of(html: str) -> tuple[Sentence, ...]:
    """Return the sealed sentences of a report in HTML, in their order, with white space as single blanks."""
    reader = _Reader()
    reader.feed(html)
    reader.close()
    return tuple((name, " ".join("".join(parts).split())) for name, parts in reader.sentences)
