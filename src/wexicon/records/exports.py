"""Results for other programs: CSV (RFC 4180) for spreadsheets, JUnit XML for build servers, and why a unit or a test failed in
words.

The rule: no spreadsheet takes a cell for a formula, whatever its separator is, and no cell has control characters. In JUnit a
unit is a suite, its settings and tests are cases; why it failed stands there with the line sent, the answer expected and the
one received, escaped.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from xml.etree import ElementTree

from wexicon.core.results.result import Failure, Measurement
from wexicon.core.results.unit import UnitResult
from wexicon.core.text import visible


def csv_lines(columns: Sequence[str], rows: Iterable[Sequence[str]]) -> Iterator[str]:
    """A table with its headings, line by line."""
    for row in chain([columns], rows):
        made = io.StringIO()
        csv.writer(made).writerow([inert(cell) for cell in row])
        yield made.getvalue()


def inert(cell: str) -> str:
    """A cell that is no formula."""
    text = visible(cell)
    if re.fullmatch(r"-?\d+(?:[.,]\d+)?", text):
        return text
    # A quote too may end where another separator is taken for one.
    return re.sub(r"(^|[;,\t|])([\s\"]*)(?=[=+@\-])", r"\1\2'", text)


# The most received lines that are shown.
MOST_HEARD = 20


def first_failure(result: UnitResult) -> Failure | None:
    """Why a unit failed, or the first of its tests that did; None if nothing failed."""
    return next((one.failure for one in (result, *result.tests) if one.failure), None)


def in_one_line(failure: Failure | None) -> str:
    """The step, and what happened; empty if nothing failed."""
    if not failure:
        return ""
    what = failure.what.splitlines()[:1]
    return f"{visible(failure.step)}: {visible(' '.join(what))}".removeprefix(": ")


def in_full(failure: Failure | None) -> list[str]:
    """The step and what happened, the line sent, the answer expected, those received, and what to do."""
    if not failure:
        return []
    lines = [f"{failure.step}: {failure.what}".removeprefix(": ")]
    lines += [f"{key}: {text}" for key, text in (("said", failure.said), ("expected", failure.expected)) if text]
    lines += [f"heard: {text}" for text in failure.heard[:MOST_HEARD]]
    lines += [failure.next] if failure.next else []
    return [visible(text) for text in lines]


# Outcomes and verdicts that are right, and those that are neither right nor wrong; all others are failures.
RIGHT = frozenset(("unchanged", "changed", "read", "passed", "conforms", "done", "allowed side effect"))
# Characters that XML 1.0 does not have (2.2), besides the control characters that are escaped anyway.
_NOT_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
OPEN = frozenset(("accepted", "unverified", "skipped", "unproved", "not read", "stopped", "side effect"))


def junit_xml(results: Iterable[UnitResult]) -> bytes:
    """The file of results."""
    root = ElementTree.Element("testsuites", name="wexicon")
    totals = {"tests": 0, "failures": 0, "skipped": 0, "errors": 0}
    for result in results:
        suite = _suite(result)
        root.append(suite)
        for name in totals:
            totals[name] += int(suite.get(name, "0"))
    for name, count in totals.items():
        root.set(name, str(count))
    text: str = ElementTree.tostring(root, encoding="unicode")
    return f'<?xml version="1.0" encoding="utf-8"?>\n{text}\n'.encode()


def _text(text: str) -> str:
    """Text as the file may hold it."""
    return _text_of(visible(text))


def _text_of(escaped: str) -> str:
    return _NOT_XML.sub(lambda found: f"\\u{ord(found[0]):04X}", escaped)


def _suite(result: UnitResult) -> ElementTree.Element:
    name = _text(result.seat or result.port or "unit")
    suite = ElementTree.Element("testsuite", name=name, time=f"{result.seconds:.3f}")
    if result.started:
        suite.set("timestamp", result.started.isoformat()[:19])
    properties = ElementTree.SubElement(suite, "properties")
    told = {
        **result.identity,
        "evidence": result.evidence,
        "port": result.port,
        "link": result.link,
        "trace": result.trace,
    }
    for key, value in told.items():
        if value:
            ElementTree.SubElement(properties, "property", name=_text(str(key)), value=_text(str(value)))
    for setting in result.settings:
        case = _case(suite, f"{name}.settings", setting.name, setting.outcome)
        shown = (("before", setting.before), ("wanted", setting.wanted), ("after", setting.after))
        text = "\n".join(f"{key}: {_text(value.shown)}" for key, value in shown if value and value.shown)
        _judge(case, setting.outcome, _text(setting.note or setting.outcome), text)
    for test in result.tests:
        case = _case(suite, f"{name}.tests", test.name, test.verdict, test.seconds)
        _judge(case, test.verdict, *_why(test.failure, test.verdict))
        _measured(case, test.measurements)
    # The unit itself: whatever ended it early stands here.
    case = _case(suite, name, "verdict", result.verdict)
    _judge(case, result.verdict, *_why(result.failure, result.verdict))
    cases = suite.findall("testcase")
    counts = {"tests": len(cases), "failures": sum(one.find("failure") is not None for one in cases)}
    counts |= {"skipped": sum(one.find("skipped") is not None for one in cases), "errors": 0}
    for key, count in counts.items():
        suite.set(key, str(count))
    return suite


def _case(suite: ElementTree.Element, group: str, name: str, outcome: str, seconds: float = 0.0) -> ElementTree.Element:
    return ElementTree.SubElement(
        suite, "testcase", classname=_text(group), name=_text(name), time=f"{seconds:.3f}", status=outcome
    )


def _judge(case: ElementTree.Element, outcome: str, message: str, text: str) -> None:
    """Marks a case as failed or skipped, with why."""
    if outcome in RIGHT:
        return
    child = ElementTree.SubElement(case, "skipped" if outcome in OPEN else "failure", message=message)
    if outcome not in OPEN:
        child.set("type", outcome)
    child.text = text


def _why(failure: Failure | None, verdict: str) -> tuple[str, str]:
    """Why something failed: in one line, and with the line sent, the answer expected and the one received."""
    if not failure:
        return verdict, ""
    return _text_of(visible(failure.what)), "\n".join(_text_of(line) for line in in_full(failure))


def _measured(case: ElementTree.Element, measurements: Sequence[Measurement]) -> None:
    """The measurements of a test as properties of its case."""
    if measurements:
        properties = ElementTree.SubElement(case, "properties")
        for one in measurements:
            ElementTree.SubElement(properties, "property", name=_text(one.name), value=_text(one.text))
