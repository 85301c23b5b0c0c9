"""A report as PDF: the same page, laid out for paper by WeasyPrint. Nothing is fetched but our own fonts."""

from importlib import resources
from pathlib import Path
from typing import Any

from thresher.model.errors import EnvironmentFault
from thresher.model.regular_file import is_file

ENCLOSED = "thresher-seal.txt"
"""The attachment that holds the seal for a program."""
_FONTS = (("B612", 400, "B612-Regular.otf"), ("B612", 700, "B612-Bold.otf"), ("B612 Mono", 400, "B612Mono-Regular.otf"))


def pdf_of(html: str, enclosed: str = "") -> bytes:
    """Return a report in HTML as PDF, with the seal as an attachment where there is one. Raises EnvironmentFault."""
    try:
        import weasyprint  # slow to load, and needs libraries of the system
        from weasyprint.text.fonts import FontConfiguration
    except (ImportError, OSError) as error:
        remedy = "Run scripts/setup run, or install libpango-1.0-0, libpangoft2-1.0-0 and libharfbuzz-subset0."
        raise EnvironmentFault("making a PDF", str(error).partition("\n")[0], remedy) from error
    folder = Path(str(resources.files("thresher").joinpath("ui", "fonts")))
    fonts = FontConfiguration()
    faces = "".join(
        f'@font-face {{ font-family: "{name}"; font-weight: {weight}; src: url("{(folder / file).as_uri()}"); }}\n'
        for name, weight, file in _FONTS
        if is_file(folder / file)  # without them the page is set in whatever font there is
    )

    class OwnFonts(weasyprint.URLFetcher):  # type: ignore[misc]  # the package brings no types
        """Fetches our own fonts and nothing else."""

        def fetch(self, url: str, headers: Any = None) -> Any:
            """Fetch a font; refuse anything else."""
            if not url.startswith(f"{folder.as_uri()}/"):
                raise ValueError("a report fetches nothing")
            return super().fetch(url, headers)

    fetch = OwnFonts(allowed_protocols=("file",))
    css = weasyprint.CSS(string=faces, font_config=fonts, url_fetcher=fetch)
    page = weasyprint.HTML(string=html, url_fetcher=fetch)
    attached = [weasyprint.Attachment(string=enclosed, name=ENCLOSED)] if enclosed else None
    made = page.write_pdf(stylesheets=[css], font_config=fonts, attachments=attached)
    assert isinstance(made, bytes)
    return made
