"""The report: one HTML page from the register and the traces, to be handed over, with its figures; as PDF where the machine
has a browser.

The rule: the page needs no network and no script; text from modules and other benches is text, escaped by the template. What
it says is in the records; the lines sent and received are in the traces, as far as they are still there. The browser gets a
file that no one else can read, and no network.

"""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from functools import cache
from pathlib import Path
from statistics import median
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault, Fault
from wexicon.core.results.unit import SettingResult, SheetTestResult
from wexicon.core.text import spoken, visible
from wexicon.files import read_file
from wexicon.programs import run_program
from wexicon.records.entry import Entry
from wexicon.records.exports import in_full, in_one_line
from wexicon.system import user

if TYPE_CHECKING:
    from jinja2 import Template
from wexicon.records.report_figures import figures

# Of one trace no more lines are in the report, and of one text no more characters.
MOST_LINES, PAGE_LONGEST = 400, 300
RIGHT = ("conforms",)


class UnitPage(msgspec.Struct):
    """One unit in the report. `settings` are (name, before, wanted, after, outcome, note), `tests` (name, verdict, took,
    measurements, why), `steps` (step, took); `lines` those sent and received."""

    anchor: str
    name: str
    unit: str
    did: str
    verdict: str
    evidence: str
    when: str
    bench: str
    took: str
    identity: list[tuple[str, str]]
    settings: list[tuple[str, str, str, str, str, str]]
    tests: list[tuple[str, str, str, list[str], str]]
    steps: list[tuple[str, str]]
    why: list[str]
    remarks: list[str]
    lines: list[str]
    cut: bool


# The lines of a trace, for people, at most so many. Raises Fault.
TraceLines = Callable[[Path, int], Iterable[str]]


def unit_page(number: int, one: Entry, told: TraceLines) -> UnitPage:
    """What the report has of one record; `shown` makes a line of a record of its trace."""
    result = one.result
    lines, cut = _lines(result.trace, told)
    return UnitPage(
        anchor=f"unit-{number}",
        name=_text(one.name or one.unit),
        unit=_text(one.unit),
        did=_text(one.did),
        verdict=_text(one.verdict),
        evidence=_text(one.evidence),
        when=_text(one.at[:19].replace("T", " ")),
        bench=_text(one.bench),
        took=spoken(round(result.seconds, 1)),
        identity=[(_text(name), _text(value)) for name, value in result.identity.items()],
        settings=[_setting(line) for line in result.settings],
        tests=[_test(test) for test in result.tests],
        steps=[(_text(step.step), spoken(round(step.seconds, 2))) for step in result.steps],
        why=[_shortened(text) for text in in_full(result.failure)],
        remarks=[_text(text) for text in result.remarks],
        lines=lines,
        cut=cut,
    )


def _text(value: object) -> str:
    """Text as the page shows it: control characters escaped, of a long one the beginning."""
    return _shortened(visible(str(value)))


def _shortened(text: str) -> str:
    return text if len(text) <= PAGE_LONGEST else f"{text[:PAGE_LONGEST]}... ({len(text)} characters)"


def _setting(line: SettingResult) -> tuple[str, str, str, str, str, str]:
    before, wanted, after = (_text(one.shown) if one else "" for one in (line.before, line.wanted, line.after))
    return (_text(line.name), before, wanted, after, _text(line.outcome), _text(line.note))


def _test(test: SheetTestResult) -> tuple[str, str, str, list[str], str]:
    measured = []
    for one in test.measurements:
        limits = [
            f"{word} {value:g}" for word, value in (("at least", one.low), ("at most", one.high)) if value is not None
        ]
        measured.append(_text(f"{one.name} {one.text}" + (f" ({', '.join(limits)})" if limits else "")))
    took = spoken(round(test.seconds, 1))
    return (_text(test.name), _text(test.verdict), took, measured, _shortened(in_one_line(test.failure)))


def _lines(path: str, told: TraceLines) -> tuple[list[str], bool]:
    """The lines of a trace, and whether there are more."""
    if not path or not Path(path).is_file():
        return [], False
    try:
        found = [_text(line) for line in told(Path(path), MOST_LINES + 1)]
    except Fault:
        return [], False
    return found[:MOST_LINES], len(found) > MOST_LINES


def report_page(title: str, made: str, entries: Sequence[Entry], told: TraceLines) -> str:
    """The page of these records; `made` says when and by which version."""
    pages = [unit_page(number, one, told) for number, one in enumerate(entries, 1)]
    return _template().render(
        title=_text(title),
        made=made,
        units=pages,
        counts=Counter(page.verdict for page in pages).most_common(),
        outcomes=_page_outcomes(pages),
        failed=[page for page in pages if page.verdict not in RIGHT],
        times=_times(entries),
        figures=figures([(one.name or one.unit, one.result) for one in entries]),
    )


@cache
def _template() -> Template:
    from jinja2 import Environment, PackageLoader

    environment = Environment(
        loader=PackageLoader("wexicon", "records"), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    return environment.get_template("report.html.j2")


def _times(entries: Sequence[Entry]) -> str:
    """From when to when, and how long a unit took."""
    taken = [one.result.seconds for one in entries if one.result.seconds]
    if not taken:
        return ""
    ends = sorted(one.at for one in entries)
    first, last = (text[:16].replace("T", " ") for text in (ends[0], ends[-1]))
    when = f"{first} UTC" if first == last else f"{first} to {last} UTC"
    each = spoken(round(median(taken), 1))
    return f"{when}; " + (f"it took {each}" if len(taken) == 1 else f"a unit took {each} (median)")


def _page_outcomes(pages: Iterable[UnitPage]) -> list[tuple[str, int]]:
    """How often each outcome of a setting came."""
    return Counter(line[4] for page in pages for line in page.settings).most_common()


# Any of these prints a page with `--headless --print-to-pdf`.
BROWSERS = (
    "chromium",
    "chromium-browser",
    "google-chrome",
    "google-chrome-stable",
    "chrome",
    "msedge",
    "microsoft-edge",
)
# How long a browser may take (seconds): thousands of units are many pages.
PATIENCE = 300.0
LARGEST_PDF = 1_073_741_824


def browser() -> str:
    """The browser that prints. Raises CallFault if there is none."""
    found = next((path for name in BROWSERS if (path := shutil.which(name))), "")
    if not found:
        hint = "Install Chromium (Debian: apt install chromium), or write an .html file and print it from any browser."
        raise CallFault("no browser here can print a PDF; nothing was written", hint=hint)
    return found


def printed(program: str, page: str) -> bytes:
    """The page as PDF, printed by this browser. Raises CallFault if it cannot."""
    with tempfile.TemporaryDirectory(prefix="wexicon-report-") as folder:
        source, target = Path(folder, "report.html"), Path(folder, "report.pdf")
        source.write_text(page)
        options = ["--headless", "--disable-gpu", "--no-first-run", "--no-pdf-header-footer"]
        options += ["--disable-background-networking", "--proxy-server=127.0.0.1:9", f"--user-data-dir={folder}/own"]
        if user() == 0:
            options.append("--no-sandbox")  # its sandbox refuses to start for root
        try:
            command = [program, *options, f"--print-to-pdf={target}", source.as_uri()]
            ended = run_program(command, PATIENCE)
        except subprocess.TimeoutExpired:
            raise CallFault(f"{Path(program).name} did not finish the PDF in {PATIENCE:g} s") from None
        if not target.exists():
            said = ended.stderr.decode("utf-8", "replace").strip().splitlines()[-1:]
            raise CallFault(f"{Path(program).name} printed no PDF: {' '.join(said)[:200] or 'it said nothing'}")
        return read_file(target, LARGEST_PDF)
