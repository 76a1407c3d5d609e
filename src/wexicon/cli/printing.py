"""How results are printed: a unit's, a dialogue's, why something failed, and the figures that a command writes beside its
result.

The rule: what is printed is in the result; nothing is worked out here. What a module sent is escaped here; our own sentences
about it have escaped what they quote. Whether a figure can be written is found out before anything is sent.
"""

from __future__ import annotations

import shutil
import sys
import textwrap
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

import click

from wexicon.cli.show import OUTCOME_COLOURS, print_line, print_table, print_warning, styled
from wexicon.core.faults import CallFault
from wexicon.core.results.result import EVIDENCE_TEXT, Failure, Measurement, Outcome, Verdict
from wexicon.core.results.unit import DialogueResult, PlannedLine, Shown, UnitResult
from wexicon.core.text import counted, spoken, to_bytes, visible, written
from wexicon.files import OVERWRITE, needs, write_new
from wexicon.records.entry import told_times

if TYPE_CHECKING:
    from wexicon.core.results.unit import ActionResult, DialogueResult


# Of a kept text no more is printed (characters); the result has it whole.
LONGEST_KEPT = 120
_ORDER = (
    Outcome.CHANGED,
    Outcome.UNCHANGED,
    Outcome.ACCEPTED,
    Outcome.UNVERIFIED,
    Outcome.REFUSED,
    Outcome.DIFFERS,
    Outcome.NOT_READ,
    Outcome.TO_WRITE,
    Outcome.SIDE_EFFECT,
    Outcome.ALLOWED,
)


def print_identity(result: UnitResult | ActionResult) -> None:
    """The heading of a unit."""
    if result.identity:
        told = ", ".join(f"{name} {visible(value)}" for name, value in result.identity.items())
        seat = getattr(result, "seat", "")
        print_line((f"{seat}: " if seat else "") + f"{told}, on {result.port}")


def print_settings(result: UnitResult) -> None:
    """Before, wanted and after of each setting, with its outcome."""

    def cell(value: Shown | None) -> str:
        return value.shown if value else ""

    rows = [
        [
            line.name,
            cell(line.before),
            cell(line.wanted),
            cell(line.after),
            str(line.outcome) + (f" ({line.note})" if line.note else ""),
        ]
        for line in result.settings
    ]
    columns = ["setting", "before", "wanted", "after", "outcome"]
    if result.verdict is Verdict.PLANNED:
        # Nothing was written, so there is nothing after.
        columns, rows = [*columns[:3], "outcome"], [[*row[:3], row[4]] for row in rows]
    if rows:
        print_table(columns, rows, ours=len(columns) - 1)


def print_unit(result: UnitResult) -> None:
    """A unit that was compared with a sheet, from its heading to its verdict."""
    if result.missing:
        print_warning(result.missing, "magenta")
    print_identity(result)
    print_settings(result)
    print_plan(result.plan)
    print_remarks(result.remarks)
    print_tests([result])
    if result.failure:
        print_failure(result.failure, result.verdict, result.trace, result.verdict is Verdict.STOPPED)
    else:
        print_verdict(result)
    if result.verdict is not Verdict.PLANNED:
        print_times(result)


def print_times(result: UnitResult) -> None:
    """Where the time of a unit went."""
    if times := told_times(result.steps):
        print_folded(f"time: {times}")


def print_tests(results: Sequence[UnitResult]) -> None:
    """What the tests of units measured, and why those failed that did."""
    several = len(results) > 1
    rows = []
    for result in results:
        for test in result.tests:
            whose = [result.seat] if several else []
            name = test.name
            took = spoken(test.seconds) if test.seconds else ""
            measured = [(f"{one.name} {one.value:g} {one.unit}".rstrip(), one.limits) for one in test.measurements]
            for number, (value, limits) in enumerate(measured or [("", "")]):
                first = not number
                head = [*whose, name, took] if first else ["" for _ in (*whose, name, took)]
                rows.append([*head, value, limits, str(test.verdict) if first else ""])
    if rows:
        print_line("")
        columns = [*(["unit"] if several else []), "test", "took", "measured", "limits", "verdict"]
        print_table(columns, rows, ours=len(columns) - 1)
    for result in results:
        for test in result.tests:
            what = f"test {test.name}" + (f" of {result.seat}" if result.seat else "")
            if test.failure and test.verdict is Verdict.SKIPPED:
                print_warning(f"{what} skipped: {visible(test.failure.what)}", "magenta")
            elif test.failure:
                step = f", {test.failure.step}" if test.failure.step else ""
                print_failure(test.failure, f"{what} {test.verdict}", test.trace, place=step or ":")


def tell_recorded(wrong: str) -> None:
    """Tells why a result did not go into the register, if it did not."""
    if wrong:
        print_warning(f"note: {wrong}", "magenta")


def print_remarks(remarks: list[str]) -> None:
    """What was noticed besides."""
    for remark in remarks:
        print_line(f"note: {remark}", "magenta")


def print_plan(plan: list[PlannedLine]) -> None:
    """The lines that would be said, in order."""
    if plan:
        print_line("")
        rows = [(str(number), line.step, line.says) for number, line in enumerate(plan, 1)]
        print_table(("", "step", "line to say"), rows)


def print_verdict(result: UnitResult) -> None:
    """The last line: the verdict, how many settings it rests on, and on what evidence."""
    outcomes = [line.outcome for line in result.settings if line.name not in result.trusted]
    parts = [f"{count} {one}" for one in _ORDER if (count := outcomes.count(one))]
    if result.trusted:
        parts.append(f"{len(result.trusted)} trusted ({', '.join(result.trusted)})")
    if result.verdict is Verdict.PLANNED:
        parts.append("nothing was written")
    elif not result.written and result.said_by_dialogues:
        parts.append(f"nothing written but by the sheet's dialogues ({counted(result.said_by_dialogues, 'line')})")
    elif not result.written:
        parts.append("nothing written")
    line = f"{result.verdict}: {', '.join(parts)}"
    line += f"; {EVIDENCE_TEXT[result.evidence]}" if result.evidence else ""
    line += f"; {counted(result.exchanges, 'exchange')} in {spoken(result.seconds)}"
    print_line(line, OUTCOME_COLOURS.get(result.verdict, ""))
    if result.stronger:
        print_line(f"  {result.stronger}")
    if result.verdict is Verdict.UNPROVED:
        print_line(why_unproved(result), "magenta")


def why_unproved(result: UnitResult) -> str:
    """What is missing, and what to do."""
    open_ones = [s.name for s in result.settings if s.outcome in (Outcome.ACCEPTED, Outcome.UNVERIFIED)]
    open_ones = [name for name in open_ones if name not in result.trusted]
    effects = [s for s in result.settings if s.outcome is Outcome.SIDE_EFFECT]
    if effects:
        changes = "; ".join(
            f"{s.name} was {s.before.shown if s.before else 'not understood'}, and "
            + (f"is {s.after.shown}" if s.after else s.note)
            for s in effects
        )
        quoted = ", ".join(f'"{s.name}"' for s in effects)
        sheet = f"allow it with side_effects = [{quoted}] in the seat, or " if result.sheet else ""
        return f"  Not ordered: {changes}. Order its value too, or {sheet}declare it in the lexicon (also_changes, varies)."
    if not open_ones and result.missing:
        return "  Start it another way: --prove power --operator person, or a fixture that switches its power."
    if not open_ones:
        return "  The evidence is weaker than --prove requires."
    pending = [s.name for s in result.settings if s.name in open_ones and s.pending]
    told = []
    if pending:
        told.append(
            f"  {', '.join(pending)}: stored, not active. Restart the module: --prove restart, or --prove power."
        )
    blind = [name for name in open_ones if name not in pending]
    if blind:
        quoted = ", ".join(f'"{name}"' for name in blind)
        told.append(f"  Nothing is wrong, but {', '.join(blind)} cannot be read from this module.")
        if set(blind) <= set(result.trust):
            told.append(
                "  The sheet trusts its acknowledgement; verify has none. wexicon units show tells what was written."
            )
        else:
            told.append(f"  To accept its acknowledgement, set trust = [{quoted}] in the seat.")
    return "\n".join(told)


def print_failure(failure: Failure, verdict: str, trace: str = "", stopped: bool = False, place: str = "") -> None:
    """Prints a failure: the step, what was sent, expected and received, and the likely cause."""
    style = "magenta" if verdict == "stopped" else "red"
    where = place or (f" at the step “{failure.step}”" if failure.step else "")
    # The words of a statement stand on a line of their own.
    between = "\n  " if place else ": "
    lines = [_folded(styled(verdict, f"bold {style}") + f"{where}{between}{failure.what}")]
    if failure.said:
        lines.append(f"  said      {visible(failure.said)}")
    if failure.expected:
        lines.append(f"  expected  {visible(failure.expected)}")
    if failure.said or failure.expected:
        lines += [f"  heard     {visible(text)}" for text in failure.heard] or ["  heard     nothing"]
    if stopped:
        lines.append("  Work is unfinished; run it again to finish.")
    if failure.next:
        lines.append(_folded(f"  {failure.next}"))
    if trace:
        lines.append(f"  Trace: {trace}")
    print_warning("\n".join(lines))


def print_folded(text: str, style: str = "") -> None:
    """Prints a sentence of a result, folded between words where it goes to a terminal."""
    print_line(_folded(text, sys.stdout), style)


def _folded(text: str, where: TextIO | None = None) -> str:
    """On a terminal, text folded between words; what follows is indented. Nothing is folded in a pipe."""
    if not (where or sys.stderr).isatty():
        return text
    width = max(40, shutil.get_terminal_size().columns)
    folded = [textwrap.fill(line, width, subsequent_indent="  ", break_long_words=False) for line in text.split("\n")]
    return "\n".join(folded)


def with_unit(name: str) -> str:
    """The name of a value that a radio measures, with its unit."""
    unit = {"signal": "dBm", "rssi": "dBm", "rsrp": "dBm", "snr": "dB", "rsrq": "dB"}.get(name, "")
    return f"{name} ({unit})" if unit else name


def print_kept(kept: Mapping[str, object]) -> None:
    """What a dialogue kept, lists as tables."""
    plain = [(name, _written(value)) for name, value in kept.items() if not _is_table(value)]
    if plain:
        print_table(("kept", "value"), [(with_unit(name), value) for name, value in plain])
    for name, rows in kept.items():
        if isinstance(rows, list) and _is_table(rows):
            print_line(f"{name}:")
            print_table(
                [with_unit(column) for column in rows[0]], [[_written(value) for value in row.values()] for row in rows]
            )


def print_measurements(measured: Sequence[Measurement]) -> None:
    """Measurements with their limits and verdicts."""
    if measured:
        rows = [(one.name, f"{one.value:g} {one.unit}".rstrip(), one.limits, str(one.verdict)) for one in measured]
        print_table(("measured", "value", "limits", "verdict"), rows)


def print_dialogue(result: DialogueResult) -> None:
    """What a dialogue kept, as tables, and why it failed if it did."""
    print_kept(result.kept)
    print_measurements(result.measurements)
    if result.failure:
        step = f", {result.failure.step}" if result.failure.step else ""
        print_failure(result.failure, result.verdict, result.trace, place=f" in {result.dialogue}{step}")


def _written(value: object) -> str:
    """A kept value; of a long text its beginning, and how long it is."""
    if isinstance(value, dict):
        return ", ".join(f"{name} {written(part)}" for name, part in value.items())
    text = written(value)
    return text if len(text) <= LONGEST_KEPT else f"{text[:LONGEST_KEPT]}... ({counted(len(to_bytes(text)), 'byte')})"


def _is_table(value: object) -> bool:
    return isinstance(value, list) and bool(value) and isinstance(value[0], dict)


def times(result: DialogueResult) -> str:
    """Where the time went."""
    return (
        f"{spoken(result.on_wire)} on the wire, {spoken(result.waiting)} waiting for the module, "
        f"{spoken(result.pauses)} in pauses"
    )


plot_option = click.option(
    "--plot",
    "plot_path",
    type=click.Path(path_type=Path),
    help="Draw lines sent and received, and measurements (.png, .svg, .pdf).",
)


def kind_of(path: Path) -> str:
    """The kind of a figure's file."""
    return path.suffix.removeprefix(".").lower()


def check_plot(path: Path | None, force: bool) -> None:
    """Raises CallFault if a figure cannot be written there."""
    from wexicon.records.plots import KINDS

    if path:
        needs("matplotlib")
    if path and kind_of(path) not in KINDS:
        raise CallFault(f"is none of .{', .'.join(KINDS)}", where=str(path))
    if path and path.exists() and not force:
        raise CallFault("already exists; nothing was sent", where=str(path), hint=OVERWRITE)


def write_plot(result: DialogueResult, trace: Path, path: Path, force: bool) -> None:
    """The figure of a dialogue, from its trace and its result."""
    from wexicon.core.results.result import Verdict
    from wexicon.records.plots import Bar, plot_dialogue
    from wexicon.records.trace import read_trace

    bars = [
        Bar(one.name, one.value, one.unit, one.low, one.high, one.limits, one.verdict is Verdict.PASSED)
        for one in result.measurements
    ]
    title = f"{Path(result.dialogue).name}: {result.verdict}"
    write_new(path, plot_dialogue(title, list(read_trace(trace)), bars, kind_of(path)), force=force)
