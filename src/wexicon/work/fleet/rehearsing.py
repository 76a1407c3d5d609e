"""Rehearses all units of a sheet on stand-ins in virtual time: the results, the time on a number of ports, by step,
and what the operator will be asked for.

The rule: each unit is a stand-in with an identity of its own on a rig that has all of them, provisioned and tested by the code
that drives any port. Many are shared out to processes, and come back in their order. Only the time for a swap is assumed, and
it is reported.
"""

from __future__ import annotations

import heapq
import multiprocessing
import os
import signal
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager

from wexicon.core.faults import CallFault
from wexicon.core.formats.jobs import Job, dependency_cycle
from wexicon.core.formats.sheet import Sheet
from wexicon.core.protocol.observations import Listener
from wexicon.core.results.result import Prove, Tests, Verdict
from wexicon.core.results.unit import AskedFor, Rehearsal, StepTime, UnitResult
from wexicon.core.values import Value
from wexicon.rigs.control import RemoteOperator
from wexicon.rigs.rig import Rig
from wexicon.work.contact.ports import PortAssignment
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.contact.standins import Choice, on_ports, units_for
from wexicon.work.fleet.batch import Batch
from wexicon.work.fleet.claims import Claims, Known
from wexicon.work.fleet.port_tests import TestsOnPorts
from wexicon.work.fleet.sheet_tests import SheetTests, due_tests
from wexicon.work.fleet.swapping import Means
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on_port
from wexicon.work.provisioning.policy import SheetOrder
from wexicon.work.provisioning.unfinished import Store

# From this many units on, processes share the work, in chunks of this size.
MANY, SHARE = 200, 100


class _Numbers(Claims):
    """Draws by the order of the units, in whichever process they are created."""

    def __init__(self, sheet: Sheet, jobs: Sequence[Job]) -> None:
        super().__init__(sheet)
        self._numbers: dict[tuple[str, str], int] = {}
        drawn: Counter[str] = Counter()
        for job in jobs:
            for series in job.series():
                self._numbers[series, job.name] = sheet.drawn[series].first + drawn[series]
                drawn[series] += 1

    def draw(self, job: Job, series: str, unit: str) -> int:
        return self._numbers[series, job.name]


class RehearsedPerson(RemoteOperator):
    """Does what a person is asked for, and counts it. As with a person: power is not cut unless attention needs it."""

    switches_power = False

    def __init__(self, port: str, asked: Counter[str]) -> None:
        super().__init__(port)
        self._asked = asked

    def ask(self, act: str, text: str) -> None:
        self._asked[text] += 1
        super().ask(act, text)


class _Making:
    """Makes some of the units; `numbers` says which module each is, `stay` whether each keeps its port to the end."""

    def __init__(self, sheet: Sheet, jobs: Sequence[Job], choice: Choice, whole: bool, *, stay: bool) -> None:
        self.stay = stay
        self.sheet, self.jobs, self.choice, self.whole = sheet, jobs, choice, whole
        self.numbers = {job.name: number for number, job in enumerate(jobs)}
        self.claims = _Numbers(sheet, jobs)
        self.known: Known = {}

    def make(self, jobs: Sequence[Job]) -> tuple[list[UnitResult], Known, Counter[str]]:
        """Runs these jobs in turn. Returns results, values that other units may use, and how often operators were asked."""
        asked: Counter[str] = Counter()
        units = {job.name: f"unit-{self.numbers[job.name]}" for job in jobs}
        lexicons = {units[job.name]: job.seat.lexicon for job in jobs}
        rig = units_for(lexicons, {units[job.name]: self.numbers[job.name] for job in jobs}, self.choice)
        with on_ports(rig, settled=None) as setup:
            setup.operator = lambda port: RehearsedPerson(port, asked)
            results, known = self._made(jobs, units, rig, setup)
        for job, result in zip(jobs, results, strict=True):
            result.port = f"stand-in {job.seat.lexicon.about.family}"
        return results, known, asked

    def _made(
        self, jobs: Sequence[Job], units: Mapping[str, str], rig: Rig, setup: Setup
    ) -> tuple[list[UnitResult], Known]:
        results: dict[str, UnitResult] = {}
        wanted: dict[str, dict[str, Value]] = {}

        @contextmanager
        def opened(job: Job, port: str, listener: Listener) -> Iterator[Module]:
            standin, lexicon = rig.units[units[job.name]].standin, job.seat.lexicon
            standin.name = job.name
            if not standin.powered:
                # It is put in now.
                standin.power(True)
            own, opening = setup.heard_by(listener), Opening(title=job.name, secrets=job.secrets())
            with module_on_port(f"virtual://{units[job.name]}", lexicon, own, opening, job.given(None)) as module:
                yield module

        def unit_of(job: Job) -> str:
            return job.seat.lexicon.unit_of(results[job.name].identity)

        def tested(job: Job, result: UnitResult) -> None:
            result.port = f"virtual://{units[job.name]}"
            results[job.name] = result
            tests.alone(job, result)
            if not self.stay:
                # The next module takes its place.
                result.port = "stand-in"
                rig.units[units[job.name]].standin.power(False)

        store = Store()
        tests = SheetTests(
            self.sheet, jobs, TestsOnPorts(self.sheet, setup, store, Prove.AUTO, opened, wanted, unit_of), Tests.ALL
        )
        means = Means(claims=self.claims, known=self.known, store=store, tested=tested, wanted=wanted, swaps=False)
        batch = Batch(self.sheet, jobs, opened, SheetOrder(), means)
        ports = max(1, len(list(dependency_cycle(jobs))))
        made = batch.run([PortAssignment(f"stand-in {number}") for number in range(1, ports + 1)])
        tests.together(batch.results)
        return made, batch.scheduler.known


# What a process that was split off makes units with.
_MAKING: _Making | None = None


def _make_some(span: tuple[int, int]) -> tuple[list[UnitResult], Counter[str], Counter[str]]:
    assert _MAKING is not None
    results, _, asked = _MAKING.make(_MAKING.jobs[span[0] : span[1]])
    steps = _steps(results)
    return [one if _MAKING.whole else _in_short(one) for one in results], asked, steps


def _in_short(result: UnitResult) -> UnitResult:
    """A unit that conforms, without what is only printed of those that do not."""
    if result.verdict is not Verdict.CONFORMS:
        return result
    return UnitResult(
        verdict=result.verdict,
        evidence=result.evidence,
        seat=result.seat,
        port=result.port,
        seconds=result.seconds,
    )


def _steps(results: Iterable[UnitResult]) -> Counter[str]:
    """How many microseconds each kind of step took in all."""
    steps: Counter[str] = Counter()
    for result in results:
        for step in result.steps:
            steps["write" if step.step.startswith("write ") else step.step] += round(step.seconds * 1e6)
        for test in result.tests:
            steps[f"test {test.name}"] += round(test.seconds * 1e6)
    return steps


def rehearse_jobs(
    sheet: Sheet,
    jobs: Sequence[Job],
    choice: Choice,
    *,
    ports: int | None = None,
    swap: float = 0.0,
    whole: bool = True,
) -> Rehearsal:
    """Rehearses all units of a sheet. `ports` are one, or one for each unit where tests need several at once, if not given;
    `swap` is how many seconds an operator takes to change the module. Unless `whole`, units that conform are kept in short
    form. Raises Fault if there is no stand-in, or if more ports are needed."""
    if ports is None:
        ports = len(jobs) if any(not one.alone for one in due_tests(sheet, jobs)) else 1
    around = len(list(dependency_cycle(jobs)))
    if ports < around:
        what = f"{around} units need each other's address: each must be on a port of its own"
        raise CallFault(what, where=sheet.path, hint=f"Say --ports {around}.")
    making = _Making(sheet, jobs, choice, whole, stay=ports >= len(jobs))
    waited_for = {seat for job in jobs for seat in job.waits_for()}
    first = sum(job.seat.name in waited_for for job in jobs)
    alone = first if not any(job.waits_for() for job in jobs[:first]) and not around else len(jobs)
    if len(jobs) < MANY or sheet.tests or "fork" not in multiprocessing.get_all_start_methods():
        alone = len(jobs)
    results, making.known, asked = making.make(jobs[:alone]) if alone else ([], {}, Counter())
    steps = _steps(results)
    if alone < len(jobs):
        global _MAKING
        _MAKING = making
        spans = [(start, min(start + SHARE, len(jobs))) for start in range(alone, len(jobs), SHARE)]
        with ProcessPoolExecutor(os.cpu_count(), multiprocessing.get_context("fork"), _end_at_signals) as pool:
            for some, more, took in pool.map(_make_some, spans):
                results += some
                asked += more
                steps += took
    swaps = max(0, len(jobs) - ports)
    if swaps:
        asked["Insert the module for the next unit."] += swaps
    whole_time = _scheduled([result.seconds + _tested(result) for result in results], ports, swap)
    told = [AskedFor(text, times) for text, times in asked.most_common()]
    summed = [StepTime(step, micros / 1e6) for step, micros in steps.most_common()]
    return Rehearsal(results, ports, whole_time, swap, swaps, summed, told)


def _tested(result: UnitResult) -> float:
    """How many seconds the tests of a unit take."""
    return sum(test.seconds for test in result.tests)


def _end_at_signals() -> None:
    """Signals end a process of the pool without a word: it inherits handlers that are meant for the command."""
    for number in signal.valid_signals():
        if callable(signal.getsignal(number)):
            signal.signal(number, signal.SIG_DFL)


def _scheduled(units: Sequence[float], ports: int, swap: float) -> float:
    """Seconds that `ports` need for these units, each port taking the next unit when free."""
    free = [0.0] * min(ports, max(1, len(units)))
    for number, seconds in enumerate(units):
        began = heapq.heappop(free) + (swap if number >= ports else 0.0)
        heapq.heappush(free, began + seconds)
    return round(max(free), 6)
