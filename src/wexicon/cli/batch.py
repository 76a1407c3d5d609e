"""Many units: what the operator sees while they are made, and what came of them.

The rule: on a terminal a table is drawn anew as units go on; in a pipe each unit is a line when it has ended. The verdict of
each unit is its own; the last line tells how many there are of each.
"""

from __future__ import annotations

import shutil
import sys
import threading
import time
from collections import Counter, deque
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from typing import TYPE_CHECKING

import click

from wexicon.cli.banner import banner
from wexicon.cli.live import LiveTable, Table
from wexicon.cli.options import Stop, operator_for
from wexicon.cli.printing import print_failure, print_remarks, print_settings, print_unit, tell_recorded, why_unproved
from wexicon.cli.progress import Progress
from wexicon.cli.show import OUTCOME_COLOURS, ending, print_json, print_line, print_table, styled
from wexicon.cli.working import Working
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault, FileFault, RegisterAway
from wexicon.core.text import visible
from wexicon.work.contact.ports import PortAssignment

if TYPE_CHECKING:
    from wexicon.core.formats.jobs import Job
    from wexicon.core.formats.sheet import Sheet
    from wexicon.core.protocol.observations import Listener
    from wexicon.records.register import Register
    from wexicon.work.fleet.claims import Known
    from wexicon.work.fleet.scheduler import UnitProgress
    from wexicon.work.module.module import Module
    from wexicon.work.results.unit import UnitResult
    from wexicon.work.results.verdicts import Prove

# Which exit status is the worst of several.
WORST = (130, 2, 3, 1, 4, 0)
# How many units the table has at once.
MOST_SHOWN = 30
# Of more units only those are printed that do not conform.
MOST_PRINTED = 100


def make_units(
    sheet: Sheet,
    jobs: Sequence[Job],
    places: Sequence[PortAssignment],
    how: Working,
    *,
    as_json: bool,
    write: bool,
    prove: Prove,
    stop_after: int,
    register: Register,
    again: bool,
    known: Known,
    new_ports: bool,
) -> None:
    """Makes or compares all units, and ends the command. Raises Fault where that cannot be begun."""
    from wexicon.work.contact.catalog import state_folder
    from wexicon.work.contact.ports import NewPorts
    from wexicon.work.contact.sessions import default_trace, session_on
    from wexicon.work.fleet.batch import Batch
    from wexicon.work.fleet.claims import SharedClaims
    from wexicon.work.fleet.recording import compare_with_left, record, used_before
    from wexicon.work.provisioning.unfinished import RegisterStore

    if how.trace_path:
        raise CallFault("--trace cannot be used here: each unit gets a dated trace", hint="Remove --trace.")
    swapping = len(jobs) > len(places) and not new_ports
    if swapping and how.hands == "nobody":
        what = f"there are {len(jobs)} units and {len(places)} port{'s' if len(places) > 1 else ''}"
        raise CallFault(f"{what}: an operator must swap modules", hint="Remove --operator nobody, or name more ports.")
    # What is wrong with the call is told before any port is opened.
    for place in places[:1]:
        how.hands_and_links(jobs[0].seat.lexicon, place.port)
    register.check()
    if write and not again:
        with suppress(RegisterAway):
            if used := used_before(register, sheet, jobs):
                raise FileFault(sheet.path, used[:50])
    store = RegisterStore(state_folder() / "unfinished", register)
    claims = SharedClaims(register, sheet, jobs, state_folder(), write=write, again=again, settle=store.settle)
    wrong: list[str] = []
    traces: dict[str, str] = {}
    began = time.monotonic()
    with Board(jobs, quiet=as_json, large=len(places) == 1) as board, Stop().listening() as stop, claims:
        # One operator for each port: a rig works the unit behind it.
        hands = cache(lambda port: operator_for(how.hands, port, board.progress(port)))

        @contextmanager
        def opened(job: Job, port: str, listener: Listener) -> Iterator[Module]:
            seat = job.seat
            trace = default_trace(job.name)
            traces[job.name] = str(trace)
            ways = how.hands_and_links(seat.lexicon, port)
            with (
                session_on(
                    port,
                    seat.lexicon,
                    trace=trace,
                    secrets=job.secrets(),
                    stopping=stop,
                    listener=listener,
                    flow=how.flow,
                ) as session,
                how.module_on(session, hands(port), port, seat.lexicon, ways, given=seat.given) as module,
            ):
                yield module

        def keep(job: Job, result: UnitResult) -> None:
            result.trace = traces.get(job.name, "")
            # A unit of which nothing was read is no news of it.
            if not result.settings:
                return
            if not write:
                compare_with_left(register, job, sheet, result)
            wrong.append(record(register, job, sheet, result, "provision" if write else "verify"))

        batch = Batch(
            sheet,
            jobs,
            opened,
            told=board.told,
            keep=keep,
            stopping=stop,
            stop_after=stop_after,
            prove=prove,
            write=write,
            store=store,
            patience=how.patience,
            claims=claims,
            known=known,
            wish=Wishes()
            if swapping and len(places) == 1 and how.hands == "person" and sys.stdin.isatty()
            else lambda: "",
        )
        results = batch.run(places, NewPorts(places) if new_ports else None)
    tell_recorded(next(filter(None, wrong), ""))
    status = next(one for one in WORST if one == 0 or any(result.status == one for result in results))
    with ending(status):
        if as_json:
            print_json(results)
        elif len(results) == 1:
            print_unit(results[0])
        else:
            print_units(results, time.monotonic() - began)


def print_units(results: Sequence[UnitResult], took: float) -> None:
    """All units, those that did not go well with the reason, and how many there are of each verdict."""
    shown = results if len(results) <= MOST_PRINTED else [one for one in results if one.verdict != "conforms"]
    if len(shown) < len(results):
        print_line(f"{len(results) - len(shown)} units conform and are not shown; --json prints all")
    rows = [_row(result) for result in shown]
    if rows:
        print_table(("unit", "port", "module", "settings", "evidence", "took", "verdict"), rows, ours=6)
    for result in results:
        if result.verdict == "unproved":
            print_line(f"{result.seat}:", "bold yellow")
            print_line(why_unproved(result), "yellow")
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
    told = ", ".join([f"{conform} of {len(results)} conform", *(f"{n} {one}" for one, n in counts.most_common())])
    print_line(f"{told}; {spoken(took)}", "bold yellow" if counts else "bold green")


def _row(result: UnitResult) -> tuple[str, ...]:
    unit = next(reversed(result.identity.values()), "")
    changed = sum(line.outcome == "changed" for line in result.settings)
    told = f"{changed} changed" if changed else "nothing written" if result.settings and not result.written else ""
    if result.verdict == "skipped" and result.remarks:
        told = result.remarks[0]
    took = spoken(result.seconds) if result.steps else ""
    return result.seat, result.port, visible(unit), told, str(result.evidence), took, str(result.verdict)


class Wishes:
    """What the person at the terminal types while modules are swapped: `skip` or `again`, each told once."""

    def __init__(self) -> None:
        self._typed: deque[str] = deque()
        threading.Thread(target=self._read, daemon=True).start()
        click.echo(
            "At a swap prompt: skip = skip this unit; again = redo the previous one.",
            err=True,
        )

    def _read(self) -> None:
        for line in sys.stdin:
            word = line.strip().lower()
            if word in ("skip", "again"):
                self._typed.append(word)
            elif word:
                click.echo(f"unknown: {visible(word)}; type skip or again", err=True)

    def __call__(self) -> str:
        return self._typed.popleft() if self._typed else ""


class Board:
    """The units as a table that is drawn anew as they go on. With `large` each verdict is told so that it can be read from
    afar."""

    def __init__(self, jobs: Sequence[Job], *, quiet: bool, large: bool) -> None:
        self._large = large
        self._rows: dict[str, tuple[str, str, float, bool]] = {job.name: ("", "waiting", 0.0, False) for job in jobs}
        self._lock = threading.Lock()
        self._quiet = quiet
        self._live = LiveTable(self._table, quiet=quiet)

    def __enter__(self) -> Board:
        self._live.__enter__()
        return self

    def __exit__(self, *exc: object) -> None:
        self._live.__exit__()

    def progress(self, port: str) -> Progress:
        """Where the operator of a port is told what to do."""
        return _Above(self, port)

    def told(self, progressed: UnitProgress) -> None:
        """A unit has gone on."""
        ended = progressed.result is not None
        with self._lock:
            since = self._rows[progressed.unit][2] or (time.monotonic() if progressed.port else 0.0)
            self._rows[progressed.unit] = (progressed.port, progressed.step, since, ended)
        if ended and self._live.shown:
            verdict = styled(progressed.step.upper(), OUTCOME_COLOURS.get(progressed.step, "bold"))
            if self._large:
                rows = banner(progressed.step, shutil.get_terminal_size().columns)
                colour = OUTCOME_COLOURS.get(progressed.step, "bold")
                self._live.say("\n".join(["", *(styled(row, colour) for row in rows), ""]))
            self._live.say(f"{progressed.unit}: {verdict}", bell=True)
        elif ended:
            self.say(f"{progressed.unit}: {progressed.step}")

    def say(self, text: str) -> None:
        """A line that stays, above the table."""
        if self._live.shown:
            self._live.say(text)
        elif not self._quiet:
            click.echo(text, err=True)

    def _table(self) -> Table:
        with self._lock:
            rows = list(self._rows.items())
        now = time.monotonic()
        cells = [
            [unit, port, step, spoken(now - since) if since and not ended else ""]
            for unit, (port, step, since, ended) in rows
        ]
        # Those that are being done, where there are more than fit.
        open_ones = [row for row in cells if row[3]] or cells
        return ("unit", "port", "step", "for"), cells if len(cells) <= MOST_SHOWN else open_ones[:MOST_SHOWN]


class _Above(Progress):
    """Tells the operator of one port above the table."""

    def __init__(self, board: Board, port: str) -> None:
        super().__init__("", quiet=True)
        self._board, self._port = board, port

    def say(self, text: str) -> None:
        self._board.say(f"{self._port}: {text}")
