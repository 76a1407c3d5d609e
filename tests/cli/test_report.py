"""The report: what it holds is what the register and the traces have, and no text in them can do anything."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from itertools import islice
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import virtual, wexicon
from wexicon.core.agenda import Agenda
from wexicon.core.protocol.observations import Said
from wexicon.core.results.result import Measurement
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock
from wexicon.records import report
from wexicon.records.entry import Entry, RecordedResult
from wexicon.records.report import PAGE_LONGEST as LONGEST
from wexicon.records.report import browser, printed, report_page, unit_page
from wexicon.records.report_figures import figures, is_within, step_outcomes
from wexicon.records.trace import read_trace
from wexicon.records.trace_writer import TraceWriter

SHEET = 'format = 1\ntitle = "Marrow Estuary"\n[seat.mast]\nlexicon = "lindle-l9"\n'
SHEET += 'settings = { name = "quay", network = 6 }\n'
PARTS = (
    "html head meta title style body h1 h2 p ul li b table thead tbody tr th td a section span details summary pre br"
)
DRAWN = "figure div svg defs clippath g path use rect text"
ALLOWED = frozenset(f"{PARTS} {DRAWN}".split())


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


def entry(hostile: str = "", trace: str = "", **more: Any) -> Entry:
    result: dict[str, Any] = {
        "trace": trace,
        "verdict": "failed",
        "identity": {"model": hostile or "LINDLE-L9"},
        "settings": [
            {
                "name": "name",
                "outcome": "differs",
                "after": {"value": None, "unit": "", "shown": hostile},
                "note": hostile,
            }
        ],
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
        msgspec.convert(result, RecordedResult),
        **more,
    )


def test_the_page_holds_each_unit_with_its_settings_and_the_very_words() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("provision", "s.toml", "virtual://mast")
    done = wexicon("report", "-o", "r.html")
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
        r"https?:|//|url\((?!#)|@import", text.replace("virtual://mast", "")
    )
    assert "already exists" in wexicon("report", "-o", "r.html", status=2).stderr
    assert "no such units" in wexicon("report", "-o", "x.html", "--sheet", "Other Shore", status=2).stderr
    assert not Path("x.html").exists()
    history = wexicon("report", "-o", "h.html", "--unit", "L9-00417", "--since", "2026-01-01").stdout
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
    text = report_page(hostile, "now", [entry(hostile)], lambda path, most: [])
    page = Page(text)
    plain = Page(report_page("x", "now", [entry("x")], lambda path, most: []))
    assert set(page.elements) <= ALLOWED
    assert {name for name, _ in page.attributes} <= {name for name, _ in plain.attributes}
    assert hostile.encode("unicode_escape").decode()[:8].replace("\\x1b", "\\x1B")[:5] in page.text
    assert "{{" not in hostile or "{{ 7 * 7 }}" in page.text
    assert len(text) < 90_000 and (len(hostile) < LONGEST or "(5008 characters)" in page.text)


CONTROL = "[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e]"


@given(st.text(max_size=80))
def test_no_text_makes_an_element_or_a_control_character(hostile: str) -> None:
    with mock.patch.object(report, "figures", lambda units: []):  # drawn by the next test, which needs fewer
        text = report_page("Units", "now", [entry(hostile)], lambda path, most: [])
        plain = Page(report_page("Units", "now", [entry("x")], lambda path, most: []))
    page = Page(text)
    assert page.elements.count("td") == plain.elements.count("td") and set(page.elements) <= ALLOWED
    assert not re.search(CONTROL, text)


@settings(max_examples=6)
@given(st.text(alphabet="<>&\"'$\\{}\x00\x1b\u202e\n ab", max_size=40))
def test_no_text_makes_an_element_in_a_figure(hostile: str) -> None:
    drawn = "".join(one.svg for one in figures([(hostile, entry(hostile).result), ("x", entry("x").result)]))
    assert drawn and set(Page(drawn).elements) <= set(DRAWN.split()) | {"svg"} and not re.search(CONTROL, drawn)


def test_two_thousand_units_are_one_page() -> None:
    entries = [entry(f"unit {number}", id=f"{number:032x}") for number in range(2000)]
    page = Page(report_page("Batch", "now", entries, lambda path, most: []))
    assert page.elements.count("section") == 2000 and "2000" in page.text


def batch(count: int) -> list[Entry]:
    """A batch of which every fifth unit failed, with times, tests and measurements."""
    made = []
    for number in range(count):
        bad = number % 5 == 4 or count == 1
        result: dict[str, Any] = {
            "verdict": "failed" if bad else "conforms",
            "seconds": 4.0 + number % 7,
            "steps": [{"step": step, "seconds": 1.0 + number % 3} for step in ("attention", "read", "write name")],
            "settings": [
                {"name": "name", "outcome": "changed", "after": {"value": None, "unit": "", "shown": f"mast {number}"}}
            ],
            "tests": [
                {
                    "name": "range",
                    "verdict": "passed",
                    "seconds": 1.5,
                    "measurements": [{"name": "signal", "value": -80.0 - number % 9, "unit": "dBm", "low": -86}],
                }
            ],
            "failure": {"step": "write name", "what": "the module returned ERR 4", "heard": ["ERR 4"]} if bad else None,
        }
        one = entry(
            f"mast {number}", id=f"{number:032x}", at=f"2026-11-02T10:{number // 60 % 60:02d}:{number % 60:02d}"
        )
        one.verdict, one.result = result["verdict"], msgspec.convert(result, RecordedResult)
        made.append(one)
    return made


def test_the_figures_hold_what_the_records_say() -> None:
    drawn = {one.caption: one.svg for one in figures([(one.name, one.result) for one in batch(20)])}
    assert list(drawn) == [
        "Outcome by step",
        "Failures by reason",
        "Time by step, median and range",
        "Time by unit",
        "signal (dBm): 20 measurements",
    ]
    assert (
        ">write name: the module returned ERR 4<" in drawn["Failures by reason"]
        and "> 4<" in drawn["Failures by reason"]
    )
    assert "> 4<" in drawn["Outcome by step"] and ">write<" in drawn["Time by step, median and range"]
    assert ">mast 19<" in drawn["Time by unit"] and ">mast 20<" not in drawn["Time by unit"]
    assert "> limit -86<" in drawn["signal (dBm): 20 measurements"]
    ids = [name for svg in drawn.values() for name in re.findall(r' id="([^"]+)"', svg)]
    assert len(ids) == len(set(ids)) and not re.search("http|<style|<metadata|<script", "".join(drawn.values()))
    assert "Time by unit: 40 units" in {one.caption for one in figures([(one.name, one.result) for one in batch(40)])}
    assert figures([("mast", RecordedResult())]) == []
    # Of a step at which units ended, no more are drawn than there were.
    passed, ended = step_outcomes([one.result for one in batch(20)])
    assert (passed["read"], ended["read"], passed["write"], ended["write"]) == (20, 0, 16, 4)
    assert ">$x$ m<" in figures([("$x$ m", batch(1)[0].result), ("$y$", batch(1)[0].result)])[3].svg


def taken(*seconds: float) -> list[Entry]:
    """Units that took so long."""
    made = batch(len(seconds))
    for one, took in zip(made, seconds, strict=True):
        one.result.seconds = took
    return made


def test_the_page_says_from_when_to_when_and_the_median_of_the_units() -> None:
    text = Page(report_page("Units", "now", taken(1.0, 2.0, 9.0), lambda path, most: [])).text
    assert "a unit took 2.0 s (median)" in text
    made = taken(1.0, 2.0)
    made[1].at = "2026-11-02T16:45:00"
    text = Page(report_page("Units", "now", made, lambda path, most: [])).text
    assert "2026-11-02 10:00 to 2026-11-02 16:45 UTC" in text


def test_every_unit_that_does_not_conform_is_among_those_that_did_not() -> None:
    made = batch(3)
    for one, verdict in zip(made, ("conforms", "unproved", "failed"), strict=True):
        one.verdict = verdict
    page = report_page("Units", "now", made, lambda path, most: [])
    told = page[page.index("What did not conform") :]
    listed = re.findall(r'href="#unit-(\d+)"', told[: told.index("</table>")])
    assert listed == ["2", "3"]


@pytest.mark.parametrize(("count", "cut"), [(400, False), (401, True)])
def test_a_trace_of_400_lines_is_whole_and_of_one_more_is_cut(count: int, cut: bool, tmp_path: Path) -> None:
    trace = tmp_path / "t.jsonl"
    clock = VirtualClock(Agenda())
    writer = TraceWriter(trace, clock, link="x", tuning=Tuning(9600))
    for number in range(count - 2):  # its first and its last record are lines too
        writer.note(Said(0.0, f"AT+{number}", False))
    writer.close()
    unit = unit_page(
        1,
        entry("mast", trace=str(trace)),
        lambda path, most: [one.text or "-" for one in islice(read_trace(path), most)],
    )
    assert (len(unit.lines), unit.cut) == (400, cut)


def test_a_measurement_is_red_beyond_either_limit() -> None:
    within = [Measurement("", 5.0, "", 1.0, 9.0), Measurement("", 5.0), Measurement("", -3.0, "", -4.0)]
    beyond = [Measurement("", 0.5, "", 1.0), Measurement("", 9.5, "", 1.0, 9.0)]
    assert [is_within(one) for one in (*within, *beyond)] == [True] * 3 + [False] * 2


def test_without_a_browser_a_pdf_is_refused_and_nothing_is_written(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", "")
    told = wexicon("report", "-o", "r.pdf", status=2).stderr
    assert "no browser here can print a PDF" in told and ".html" in told and not Path("r.pdf").exists()


def _pages(data: bytes) -> int:
    return len(re.findall(rb"/Type\s*/Page\b", data))


@pytest.mark.long
def test_a_browser_opens_the_page_asks_the_network_nothing_and_prints_it() -> None:
    from playwright.sync_api import sync_playwright

    program = browser()
    with sync_playwright() as playwright, playwright.chromium.launch(executable_path=program) as chromium:
        for count in (1, 20, 2000):
            Path("r.html").write_text(report_page("Marrow Estuary", "now", batch(count), lambda path, most: []))
            page = chromium.new_page(viewport={"width": 1280, "height": 800})
            asked: list[str] = []
            page.on("request", lambda request: asked.append(request.url))  # noqa: B023
            page.goto(Path("r.html").absolute().as_uri())
            assert len(asked) == 1 and page.locator("section.unit").count() == count
            assert page.locator("figure svg").count() == (4 if count == 1 else 5)
            # Nothing is wider than the window, and the units are reached by keyboard.
            assert page.evaluate("document.documentElement.scrollWidth") <= 1280
            page.keyboard.press("Tab")
            page.keyboard.press("Enter")
            assert page.evaluate("location.hash") == ("#unit-1" if count == 1 else "#unit-5")
            page.close()
        for hostile in HOSTILE:
            Path("r.html").write_text(report_page(hostile, "now", [entry(hostile)], lambda path, most: []))
            page = chromium.new_page(viewport={"width": 1280, "height": 800})
            page.on("dialog", lambda dialog: pytest.fail(f"the page ran {dialog.message}"))
            page.goto(Path("r.html").absolute().as_uri())
            assert page.locator("img, script, iframe").count() == 0
            assert page.evaluate("document.documentElement.scrollWidth") <= 1280
            page.close()
    made = printed(program, report_page("Marrow Estuary", "now", batch(20), lambda path, most: []))
    assert made.startswith(b"%PDF") and 5 <= _pages(made) <= 20
