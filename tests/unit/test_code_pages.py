"""The pages in docs are what the directories and rules say now."""

import runpy
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
PAGES = runpy.run_path(str(ROOT / "scripts" / "make_code_pages.py"))["PAGES"]


@pytest.mark.parametrize("name", PAGES)
def test_a_page_is_current(name: str) -> None:
    written = (ROOT / "docs" / name).read_text(encoding="utf-8")
    assert written == PAGES[name](), "run scripts/make_code_pages.py"
