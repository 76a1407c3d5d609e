"""The report: what it holds is what the register and the traces have, and no text in them can do anything."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import virtual, wexicon
from wexicon.records.entry import Entry
from wexicon.records.report import LONGEST, report_page

SHEET = 'format = 1\ntitle = "Marrow Estuary"\n[seat.mast]\nlexicon = "lindle-l9"\n'
SHEET += 'settings = { name = "quay", network = 6 }\n'
PARTS = (
    "html head meta title style body h1 h2 p ul li b table thead tbody tr th td a section span details summary pre br"
)
ALLOWED = frozenset(PARTS.split())


class Page(HTMLParser):
    """What a page has: its elements, its attributes, its text."""

    def __init__(self, text: str) -> None:
        super().__init__(convert_charrefs=True)
        self.elements: list[str] = []
        self.attributes: list[tuple[str, str | None]] = []
        self.text = ""
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append(tag)
        self.attributes += attrs

    def handle_data(self, data: str) -> None:
        self.text += data


def entry(hostile: str = "", **more: Any) -> Entry:
    result: dict[str, Any] = {
        "verdict": "failed",
        "identity": {"model": hostile or "LINDLE-L9"},
        "settings": [{"name": "name", "outcome": "differs", "after": {"shown": hostile}, "note": hostile}],
        "failure": {"step": "read", "what": hostile, "said": hostile, "heard": [hostile]},
        "tests": [{"name": hostile, "verdict": "failed", "failure": {"step": hostile, "what": hostile}}],
        "remarks": [hostile],
    }
    return Entry(
        hostile or "lindle-l9 1",
        hostile or "mast M1",
        "lindle-l9",
        "provision",
        "failed",
        "",
        hostile,
        "d",
        {},
        result,
        **more,
    )


def test_the_page_holds_each_unit_with_its_settings_and_the_very_words() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("provision", "s.toml", "virtual://mast")
    done = wexicon("report", "r.html")
    assert "wrote r.html: 1 unit" in done.stdout
    text = Path("r.html").read_text()
    page = Page(text)
    for one in (
        "Marrow Estuary",
        "conforms",
        "mast",
        "lindle-l9 L9-00417",
        "restart",
        "quay",
        "2 changed",
        "@name=quay",
        "@ok",
    ):
        assert one in page.text, one
    assert set(page.elements) <= ALLOWED and not re.search(
        r"https?:|//|url\(|@import", text.replace("virtual://mast", "")
    )
    assert "already exists" in wexicon("report", "r.html", status=2).stderr
    assert "no such units" in wexicon("report", "x.html", "--sheet", "Other Shore", status=2).stderr
    assert not Path("x.html").exists()
    history = wexicon("report", "h.html", "--unit", "L9-00417", "--since", "2026-01-01").stdout
    assert "1 unit" in history


HOSTILE = [
    "<script>alert(1)</script>",
    '"><img src=x onerror=alert(1)>',
    "=1+1",
    "\x1b[2J\x00\u202e",
    "{{ 7 * 7 }}",
    "]]>&amp;" + "x" * 5000,
]


@pytest.mark.parametrize("hostile", HOSTILE)
def test_a_hostile_text_is_text(hostile: str) -> None:
    text = report_page(hostile, "now", [entry(hostile)], lambda record: "")
    page = Page(text)
    assert set(page.elements) <= ALLOWED
    assert {name for name, _ in page.attributes} <= {"lang", "charset", "name", "content", "class", "id", "href"}
    assert hostile.encode("unicode_escape").decode()[:8].replace("\\x1b", "\\x1B")[:5] in page.text
    assert "49" not in page.text.replace("449", "") or "{{" not in hostile
    assert len(text) < 60_000 and (len(hostile) < LONGEST or "(5008 characters)" in page.text)


@given(st.text(max_size=80))
def test_no_text_makes_an_element_or_a_control_character(hostile: str) -> None:
    text = report_page("Units", "now", [entry(hostile)], lambda record: "")
    page, plain = Page(text), Page(report_page("Units", "now", [entry("x")], lambda record: ""))
    assert page.elements.count("td") == plain.elements.count("td") and set(page.elements) <= ALLOWED
    assert not re.search("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e]", text)


def test_two_thousand_units_are_one_page() -> None:
    entries = [entry(f"unit {number}", id=f"{number:032x}") for number in range(2000)]
    page = Page(report_page("Batch", "now", entries, lambda record: ""))
    assert page.elements.count("section") == 2000 and "2000" in page.text
