"""Many units: what the operator sees during the run, and the results.

The rule: on a terminal a table is redrawn as units proceed; in a pipe each unit is a line when it has ended. Each unit has its
own verdict; the last line counts them.
"""

from __future__ import annotations

import shutil
import threading
import time
from collections import Counter, deque
from collections.abc import Sequence
from itertools import chain
from statistics import median
from typing import TYPE_CHECKING

from wexicon.cli.printing import print_failure, print_folded, print_remarks, print_settings, print_tests, why_unproved
from wexicon.cli.progress import EVERY, KEYBOARD, LiveTable, Progress, Table, banner
from wexicon.cli.show import OUTCOME_COLOURS, is_quiet, print_line, print_table, print_warning, styled
from wexicon.core.results.unit import StepTime
from wexicon.core.text import counted, spoken, visible
from wexicon.records.entry import times_by_step, told_times
from wexicon.work.fleet.swapping import AGAIN, END, SKIP

if TYPE_CHECKING:
    from wexicon.core.formats.jobs import Job
    from wexicon.core.results.unit import UnitResult
    from wexicon.work.fleet.scheduler import UnitProgress

# How many units the table shows at once.
MOST_SHOWN = 30
# Of more units only those that do not conform are printed.
MOST_PRINTED = 100


def print_units(results: Sequence[UnitResult], took: float) -> None:
    """All units, the reason for each that does not conform, and the count of each verdict."""
    for missing in dict.fromkeys(result.missing for result in results if result.missing):
        print_warning(f"{', '.join(one.seat for one in results if one.missing == missing)}: {missing}", "magenta")
    shown = results if len(results) <= MOST_PRINTED else [one for one in results if one.verdict != "conforms"]
    if len(shown) < len(results):
        print_line(f"{len(results) - len(shown)} units conform and are not shown; --json prints all")
    rows = [_row(result) for result in shown]
    if rows:
        print_table(("unit", "port", "module", "settings", "evidence", "took", "verdict"), rows, ours=6)
    print_tests([result for result in results if result.tests])
    for result in results:
        if result.verdict == "unproved":
            print_line(f"{result.seat}:", "bold magenta")
            print_line(why_unproved(result), "magenta")
        if result.verdict != "skipped":
            print_remarks([f"{result.seat}: {remark}" for remark in result.remarks])
        if result.failure:
            print_line("")
            print_line(f"{result.seat}, on {result.port}" if result.port else result.seat, "bold")
            if any(line.outcome not in ("unchanged", "changed") for line in result.settings):
                print_settings(result)
            print_failure(result.failure, result.verdict, result.trace)
    counts = Counter(str(result.verdict) for result in results)
    conform = counts.pop("conforms", 0)
    parts = [f"{conform} of {len(results)} conform", *(f"{n} {one}" for one, n in counts.most_common())]
    tests = Counter(str(test.verdict) for result in results for test in result.tests)
    parts += [f"{counted(n, 'test')} {one}" for one, n in tests.most_common()]
    steps = [times_by_step(unit.steps) for unit in results]
    middle = {name: median(own[name] for own in steps if name in own) for name in dict.fromkeys(chain(*steps))}
    if times := told_times(StepTime(name, seconds) for name, seconds in middle.items()):
        print_folded(f"time of a unit by step, median: {times}")
    told, good = ", ".join(parts), not counts and set(tests) <= {"passed"}
    print_line(f"{told}; {spoken(took)}", "green" if good else "bold magenta")
    if stronger := next((result.stronger for result in results if result.stronger), ""):
        print_line(f"  {stronger} a unit")


def _row(result: UnitResult) -> tuple[str, ...]:
    unit = result.unit or next(reversed(result.identity.values()), "")
    changed = sum(line.outcome == "changed" for line in result.settings)
    told = f"{changed} changed" if changed else _untouched(result)
    if result.verdict == "skipped" and result.remarks:
        told = result.remarks[0]
    took = spoken(result.seconds) if result.steps else ""
    return result.seat, result.port, visible(unit), told, str(result.evidence), took, str(result.verdict)


def _untouched(result: UnitResult) -> str:
    if not result.settings or result.written:
        return ""
    return "only dialogues wrote" if result.said_by_dialogues else "nothing written"


class Requests:
    """What the operator types or scans while modules are swapped, each line returned once: `skip`, `again`, or a row or unit.
    With `scan` END is returned when the input has ended."""

    def __init__(self, *, scan: bool) -> None:
        self._typed: deque[str] = deque()
        self._scan = scan
        KEYBOARD.give(self._take)
        if scan:
            print_warning("Scan or type a row or a unit; again = redo the previous one; Ctrl-D ends.")
        else:
            print_warning(
                "At a swap prompt: skip = skip this unit; again = redo the previous one; or scan a row or a unit."
            )

    def _take(self, line: str) -> None:
        if word := line.strip():
            self._typed.append(word.lower() if word.lower() in (SKIP, AGAIN) else word)

    def __call__(self) -> str:
        if self._typed:
            return self._typed.popleft()
        return END if self._scan and KEYBOARD.ended else ""


class Board:
    """The units as a table that is redrawn as they proceed. With `large` each verdict is printed in large letters."""

    def __init__(self, jobs: Sequence[Job], *, quiet: bool, large: bool) -> None:
        self._large = large
        self._rows: dict[str, tuple[str, str, float, bool]] = {job.name: ("", "waiting", 0.0, False) for job in jobs}
        self._lock = threading.Lock()
        self._quiet = quiet or is_quiet()
        # The units of which was said that they have ended: tests may come later.
        self._said_of: set[str] = set()
        self._said = time.monotonic()
        self._live = LiveTable(self._table, quiet=quiet)

    def __enter__(self) -> Board:
        self._live.__enter__()
        return self

    def __exit__(self, *exc: object) -> None:
        self._live.__exit__()

    def progress(self, port: str) -> Progress:
        """Where the operator of a port is asked."""
        return _Above(self, port)

    def told(self, progressed: UnitProgress) -> None:
        """A unit has proceeded."""
        ended = progressed.result is not None
        with self._lock:
            since = self._rows[progressed.unit][2] or (time.monotonic() if progressed.port else 0.0)
            self._rows[progressed.unit] = (progressed.port, progressed.step, since, ended)
        if progressed.step == "attention":
            self._said_of.discard(progressed.unit)  # it is made again
        if ended and progressed.unit in self._said_of:
            # Only its tests are new.
            if tests := _tests(progressed):
                self.say(f"{progressed.unit}: {tests}")
        elif ended and self._live.shown:
            self._said_of.add(progressed.unit)
            verdict = styled(progressed.step.upper(), OUTCOME_COLOURS.get(progressed.step, "bold"))
            if self._large:
                rows = banner(progressed.step, shutil.get_terminal_size().columns)
                colour = OUTCOME_COLOURS.get(progressed.step, "bold")
                self._live.say("\n".join(["", *(styled(row, colour) for row in rows), ""]))
            self._live.say(f"{progressed.unit}: {verdict}", bell=True)
        elif ended:
            self._said_of.add(progressed.unit)
            told = ", ".join(filter(None, (progressed.step, _tests(progressed))))
            self.say(f"{progressed.unit}: {told}")
        elif not self._quiet and time.monotonic() - self._said >= EVERY:
            self._said = time.monotonic()
            self.say(f"{progressed.unit}: {progressed.step}; {self._count()}")

    def _count(self) -> str:
        with self._lock:
            done = sum(ended for *_, ended in self._rows.values())
            return f"{done} of {len(self._rows)} done"

    def say(self, text: str, *, needed: bool = False) -> None:
        """A line that stays, above the table; `needed` if it is printed with --json too."""
        if self._live.shown:
            self._live.say(text)
        elif needed or not self._quiet:
            print_warning(text)

    def _table(self) -> Table:
        with self._lock:
            rows = list(self._rows.items())
        now = time.monotonic()
        cells = [
            [unit, port, step, spoken(now - since) if since and not ended else ""]
            for unit, (port, step, since, ended) in rows
        ]
        # Those in progress, if there are more than fit.
        open_ones = [row for row in cells if row[3]] or cells
        return ("unit", "port", "step", "time"), cells if len(cells) <= MOST_SHOWN else open_ones[:MOST_SHOWN]


def _tests(progressed: UnitProgress) -> str:
    """The verdicts of a unit's tests; empty if it has none."""
    tests = Counter(str(test.verdict) for test in progressed.result.tests) if progressed.result else Counter()
    return ", ".join(f"{counted(n, 'test')} {one}" for one, n in tests.most_common())


class _Above(Progress):
    """Asks the operator of one port above the table."""

    def __init__(self, board: Board, port: str) -> None:
        super().__init__("", quiet=True)
        self._board, self._port = board, port

    def say(self, text: str) -> None:
        self._board.say(f"{self._port}: {text}", needed=True)
