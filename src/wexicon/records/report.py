"""The report: one HTML page from the register and the traces, to be handed over.

The rule: the page needs no network and no script; text from modules and other benches is text, escaped by the template. What it
says is in the records; the lines sent and received are in the traces, as far as they are still there.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

import msgspec

from wexicon.core.durations import spoken
from wexicon.core.faults import Fault
from wexicon.core.text import visible
from wexicon.records.entry import Entry
from wexicon.records.trace import Record
from wexicon.records.trace_reader import read_trace

# Of one trace no more lines are in the report, and of one text no more characters.
MOST_LINES, LONGEST = 400, 300
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


def unit_page(number: int, one: Entry, shown: Callable[[Record], str]) -> UnitPage:
    """What the report has of one record; `shown` makes a line of a record of its trace."""
    result = one.result
    lines, cut = _lines(result.get("trace", ""), shown)
    return UnitPage(
        anchor=f"unit-{number}",
        name=_text(one.name or one.unit),
        unit=_text(one.unit),
        did=_text(one.did),
        verdict=_text(one.verdict),
        evidence=_text(one.evidence),
        when=_text(one.at[:19].replace("T", " ")),
        bench=_text(one.bench),
        took=spoken(round(float(result.get("seconds", 0.0)), 1)),
        identity=[(_text(name), _text(value)) for name, value in result.get("identity", {}).items()],
        settings=[_setting(line) for line in result.get("settings", [])],
        tests=[_test(test) for test in result.get("tests", [])],
        steps=[(_text(step["step"]), spoken(round(step["seconds"], 2))) for step in result.get("steps", [])],
        why=_why(result.get("failure")),
        remarks=[_text(text) for text in result.get("remarks", [])],
        lines=lines,
        cut=cut,
    )


def _text(value: object) -> str:
    """Text as the page shows it: control characters escaped, of a long one the beginning."""
    text = visible(str(value))
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}... ({len(text)} characters)"


def _setting(line: dict[str, Any]) -> tuple[str, str, str, str, str, str]:
    shown = [_text((line.get(key) or {}).get("shown", "")) for key in ("before", "wanted", "after")]
    return (_text(line["name"]), shown[0], shown[1], shown[2], _text(line["outcome"]), _text(line.get("note", "")))


def _test(test: dict[str, Any]) -> tuple[str, str, str, list[str], str]:
    measured = []
    for one in test.get("measurements", []):
        limits = [
            f"{word} {one[key]:g}"
            for key, word in (("low", "at least"), ("high", "at most"))
            if one.get(key) is not None
        ]
        value = f"{one['name']} {one['value']:g} {one.get('unit', '')}".rstrip()
        measured.append(_text(value + (f" ({', '.join(limits)})" if limits else "")))
    why = _why(test.get("failure"))
    return (
        _text(test["name"]),
        _text(test["verdict"]),
        spoken(round(test.get("seconds", 0.0), 1)),
        measured,
        " ".join(why[:1]),
    )


def _why(failure: dict[str, Any] | None) -> list[str]:
    """Why something failed, line by line."""
    if not failure:
        return []
    lines = [f"{failure.get('step', '')}: {failure.get('what', '')}"]
    lines += [f"{key} {failure[key]}" for key in ("said", "expected") if failure.get(key)]
    lines += [f"heard {text}" for text in failure.get("heard", [])[:20]]
    lines += [failure["next"]] if failure.get("next") else []
    return [_text(text) for text in lines]


def _lines(path: str, shown: Callable[[Record], str]) -> tuple[list[str], bool]:
    """The lines of a trace, and whether there are more."""
    if not path or not Path(path).is_file():
        return [], False
    try:
        found = [_text(shown(one)) for one in islice(read_trace(Path(path)), MOST_LINES + 1)]
    except Fault:
        return [], False
    return found[:MOST_LINES], len(found) > MOST_LINES


def report_page(title: str, made: str, entries: Sequence[Entry], shown: Callable[[Record], str]) -> str:
    """The page of these records; `made` says when and by which version."""
    from jinja2 import Environment, PackageLoader

    pages = [unit_page(number, one, shown) for number, one in enumerate(entries, 1)]
    environment = Environment(
        loader=PackageLoader("wexicon", "records"), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    return environment.get_template("report.html.j2").render(
        title=_text(title),
        made=made,
        units=pages,
        counts=Counter(page.verdict for page in pages).most_common(),
        outcomes=_outcomes(pages),
        failed=[page for page in pages if page.verdict not in RIGHT],
        right=RIGHT,
    )


def _outcomes(pages: Iterable[UnitPage]) -> list[tuple[str, int]]:
    """How often each outcome of a setting came."""
    return Counter(line[4] for page in pages for line in page.settings).most_common()
