"""How one unit ended, as a report for people and for programs.

The rule: a report holds no secret, and says nothing that was not read back.
"""

from __future__ import annotations

from pathlib import Path

import click
import msgspec

from wexicon.cli.show import OUTCOME_COLOURS, print_line, print_table
from wexicon.core.durations import spoken
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.text import visible
from wexicon.work.provision import Failure, UnitResult


class SettingLine(msgspec.Struct):
    """One setting as it may be shown; found, wanted and left are null where there is none."""

    name: str
    found: str | None
    wanted: str | None
    left: str | None
    outcome: str
    note: str


class UnitReport(msgspec.Struct):
    """What `--json` prints of one unit."""

    seat: str
    port: str
    lexicon: str
    outcome: str
    identity: dict[str, str]
    settings: list[SettingLine]
    failure: Failure | None
    written: int
    exchanges: int
    seconds: float
    trace: str

    @classmethod
    def of(cls, seat: str, port: str, lexicon: Lexicon, result: UnitResult, trace: Path) -> UnitReport:
        """The report of a result: secrets masked, values with their units."""
        lines = []
        for line in result.settings:
            setting = lexicon.settings[line.name]
            found, wanted, left = (
                None if value is None else setting.show(value) for value in (line.found, line.wanted, line.left)
            )
            lines.append(SettingLine(line.name, found, wanted, left, line.outcome, line.note))
        return cls(
            seat,
            port,
            lexicon.about.family,
            result.outcome,
            {name: visible(value) for name, value in result.identity.items()},
            lines,
            result.failure,
            result.written,
            result.exchanges,
            round(result.seconds, 3),
            str(trace),
        )


def print_identity(report: UnitReport) -> None:
    """The heading of a report."""
    if report.identity:
        told = ", ".join(f"{name} {value}" for name, value in report.identity.items())
        print_line((f"{report.seat}: " if report.seat else "") + f"{told}, on {report.port}")


def print_settings(report: UnitReport) -> None:
    """Found, wanted and left of each setting, with its outcome."""
    rows = [
        (s.name, s.found or "", s.wanted or "", s.left or "", s.outcome + (f" ({s.note})" if s.note else ""))
        for s in report.settings
    ]
    if rows:
        print_table(("setting", "found", "wanted", "left", "outcome"), rows, outcome=4)


def print_end(report: UnitReport, *, writes: bool) -> None:
    """The last line of a report that compared with a sheet."""
    counts = {outcome: sum(s.outcome == outcome for s in report.settings) for outcome in OUTCOME_COLOURS | {"kept": ""}}
    parts = [f"{count} {outcome}" for outcome, count in counts.items() if count]
    if report.outcome == "conforms" and writes:
        parts.append("nothing written" if not report.written else "read back after the change")
    print_line(
        f"{report.outcome}: {', '.join(parts)}; {report.exchanges} exchanges in {spoken(report.seconds)}"
        if parts
        else f"{report.outcome} after {report.exchanges} exchanges in {spoken(report.seconds)}",
        OUTCOME_COLOURS.get(report.outcome, ""),
    )


def print_failure(report: UnitReport) -> None:
    """Why it failed: the step, what was said and heard, what it points to."""
    failure = report.failure
    if failure is None:
        return
    style = "yellow" if report.outcome == "stopped" else "red"
    lines = [click.style(report.outcome, fg=style, bold=True) + f" at the step “{failure.step}”: {failure.what}"]
    if failure.said:
        lines.append(f"  said      {visible(failure.said)}")
    if failure.expected:
        lines.append(f"  expected  {visible(failure.expected)}")
    if failure.said:
        lines += [f"  heard     {visible(text)}" for text in failure.heard] or ["  heard     nothing"]
    if report.outcome == "stopped":
        lines.append("  The module was left as it is; the next run finds it and finishes the work.")
    if failure.next:
        lines.append(f"  {failure.next}")
    lines.append(f"  Trace: {report.trace}")
    click.echo("\n".join(lines), err=True)


def end_with(report: UnitReport) -> None:
    """Ends the command with the status that the report stands for."""
    if report.failure:
        raise click.exceptions.Exit(report.failure.status)
