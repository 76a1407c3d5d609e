"""Runs the tests of a sheet on ports: dialogues, and packets between two units, once or at each point of a sweep.

The rule: what a test may change is unfinished work from before its first line until the settings were written back and read.
What was measured is compared with the limits of the test, at each point.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, ExitStack
from datetime import UTC, datetime

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_tests import SheetTest, TrafficTestTable
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener
from wexicon.core.results.functions import SweepPoint, TrafficResult
from wexicon.core.results.result import Failure, Measurement, Prove, Verdict
from wexicon.core.results.unit import DialogueResult, Unfinished, UnitResult
from wexicon.core.text import seconds
from wexicon.core.values import Value
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.fleet.sheet_tests import DueTest
from wexicon.work.function.dialogues import Ending, parties_on_ports, require_unit, run_with_parties
from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint, Endpoint
from wexicon.work.function.sweeps import sweep
from wexicon.work.function.traffic import TrafficOrder, TrafficTest, endpoint_on, prepare
from wexicon.work.module.module import Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.side_effects import all_readings
from wexicon.work.provisioning.policy import SheetOrder
from wexicon.work.provisioning.run import provision
from wexicon.work.provisioning.unfinished import Store


def order_of(table: TrafficTestTable) -> TrafficOrder:
    """The packets of a test."""
    seed = int.from_bytes(os.urandom(4), "big")
    return TrafficOrder(table.count, size=table.size, within=seconds(table.within), seed=seed)


def run_traffic(
    ends: Sequence[Endpoint],
    test: SheetTest,
    order: TrafficOrder,
    names: Sequence[str],
    stopping: Callable[[], bool],
) -> DialogueResult:
    """Runs it between ends that are ready. Raises Fault."""
    table = test.traffic
    assert table
    sent: list[TrafficResult] = []

    def run() -> TrafficResult:
        prepare(ends, order.size)
        sent.append(TrafficTest(ends, order, names).run(stopping))
        return sent[-1]

    result = DialogueResult(dialogue="", verdict=Verdict.PASSED)
    if test.points:
        swept = [end for end in ends if isinstance(end, CommandEndpoint | DataEndpoint)]
        points: list[SweepPoint] = []
        # The units are unfinished work already, until their settings were written back and read.
        made = sweep(swept, test.points, run, Store(), points.append)
        result.seconds, result.exchanges = made.seconds, made.exchanges
        for point, one in zip(points, sent, strict=False):
            at = ", ".join(f"{name} {value}" for name, value in point.settings.items())
            result.measurements += [_at(measured, at) for measured in _judged(one, table) if _of_point(measured)]
        failure, verdict = made.failure, made.verdict
    else:
        one = run()
        result.seconds, result.exchanges = one.seconds, one.exchanges
        result.measurements = _judged(one, table)
        failure, verdict = (None, Verdict.PASSED) if one.complete else (one.failure, one.verdict)
    bad = next((one for one in result.measurements if one.verdict is not Verdict.PASSED), None)
    if failure:
        result.verdict, result.failure = verdict, failure
    elif bad:
        what = f"{bad.name} is {bad.value:g} {bad.unit}".rstrip() + f", and {bad.limits} is allowed"
        cause = next((one.failure.next for one in sent if one.failure), "")
        result.verdict, result.failure = Verdict.FAILED, Failure("traffic", what, next=cause)
    elif table.round_trip and any(one.median is None for one in sent):
        result.verdict, result.failure = Verdict.FAILED, Failure("traffic", "no packet was answered")
    return result


def _of_point(measured: Measurement) -> bool:
    """Whether a measurement is shown for a point: duplicates only if there are some."""
    return not measured.name.startswith("snr") and (measured.name != "duplicates" or measured.value > 0)


def _at(measured: Measurement, point: str) -> Measurement:
    """A measurement of one point."""
    return msgspec.structs.replace(measured, name=f"{measured.name} at {point}")


def _judged(sent: TrafficResult, table: TrafficTestTable) -> list[Measurement]:
    """What was measured, against the limits of the test."""
    out = sum(way.sent for way in sent.ways)
    # An answer to a packet that was lost was never sent: it is lost too.
    lost = 2 * table.count - sum(way.received for way in sent.ways) if out else 2 * table.count
    value = 100 * lost / (2 * table.count) if table.lost.unit == "%" else float(lost)
    made = [Measurement.of("lost", round(value, 3), table.lost.unit, high=table.lost.max)]
    made.append(Measurement.of("duplicates", float(sum(way.duplicates for way in sent.ways)), high=0.0))
    if sent.median is not None:
        limit = seconds(table.round_trip.max) * 1000 if table.round_trip else None
        made.append(Measurement.of("round trip", round(sent.median * 1000, 1), "ms", high=limit))
    for port, names in sent.signal.items():
        unit = {"rssi": "dBm", "snr": "dB"}
        made += [
            Measurement.of(f"{name} at {port}", middle, unit.get(name, "")) for name, (_, middle, _) in names.items()
        ]
    return made


class TestsOnPorts:
    """Tests on the ports of a run. `wanted` are the values of each unit, `units` what its module says of itself, `opened`
    opens its module."""

    def __init__(
        self,
        sheet: Sheet,
        setup: Setup,
        store: Store,
        prove: Prove,
        opened: Callable[[Job, str, Listener], AbstractContextManager[Module]],
        wanted: Mapping[str, Mapping[str, Value]],
        units: Callable[[Job], str],
    ) -> None:
        self._sheet, self._setup, self._store, self._prove = sheet, setup, store, prove
        self._opened, self._wanted, self._units = opened, wanted, units

    def run(self, due: DueTest, values: Mapping[str, object], ports: Mapping[str, str]) -> DialogueResult:
        for job in due.written:
            if unit := self._units(job):
                names = list(self._wanted.get(job.name, ()))
                self._store.open(Unfinished(unit, datetime.now(UTC), names, self._sheet.digest))
        if due.test.traffic:
            return self._traffic(due, due.test.traffic, ports)
        secrets = Secrets()
        given: dict[str, object] = {}
        for job in due.jobs.values():
            job.seat.secrets(self._wanted.get(job.name), into=secrets)
            given |= job.given(self._sheet.secret)
        title = f"test-{due.test.name}-{due.owner.name}"
        ends = [Ending(party, ports[job.name], job.seat.lexicon, self._units(job)) for party, job in due.jobs.items()]
        result = DialogueResult(dialogue=due.test.program.path)
        try:
            setup = msgspec.structs.replace(self._setup, trace=None, listener=None)
            with parties_on_ports(ends, setup, Opening(title=title, secrets=secrets)) as made:
                result = run_with_parties(
                    made.modules,
                    due.test.program,
                    values,
                    patience=setup.patience,
                    fixture=setup.fixture,
                    given=given,
                    opens=made.opened,
                )
            result.trace = str(made.trace or "")
        except Exception as fault:
            result.verdict = Verdict.FAILED
            result.ended_by(fault, "test")
        return result

    def _traffic(self, due: DueTest, table: TrafficTestTable, ports: Mapping[str, str]) -> DialogueResult:
        """Packets between two units."""
        result, order, traces = DialogueResult(dialogue=""), order_of(table), list[str]()
        try:
            with ExitStack() as stack:
                setup = msgspec.structs.replace(self._setup, trace=None, listener=None)
                jobs, swept = [due.jobs["from"], due.jobs["to"]], bool(due.test.points)
                ends = [
                    endpoint_on(stack, ports[job.name], job.seat.lexicon, order, setup, traces, swept=swept)
                    for job in jobs
                ]
                for job, end in zip(jobs, ends, strict=True):
                    if isinstance(end, CommandEndpoint | DataEndpoint):
                        require_unit(end.module, self._units(job))
                result = run_traffic(ends, due.test, order, [job.name for job in jobs], setup.stopping)
        except Exception as fault:
            result.ended_by(fault, "traffic")
        result.trace = ", ".join(traces)
        return result

    def readings(self, job: Job, port: str) -> dict[str, Reading]:
        try:
            with self._opened(job, port, Listener()) as module:
                module.attention.gain([*module.likely, module.lexicon.factory])
                require_unit(module, self._units(job))
                return all_readings(module)
        except Fault:
            # The test itself tells why the module cannot be reached.
            return {}

    def restore(self, job: Job, port: str, earlier: Mapping[str, Reading]) -> UnitResult:
        result = UnitResult()
        try:
            with self._opened(job, port, Listener()) as module:
                module.attention.gain([*module.likely, module.lexicon.factory])
                require_unit(module, self._units(job))
                asked = SheetOrder(prove=self._prove)
                order = asked.for_unit(job.seat, self._wanted[job.name], self._sheet.digest, touched=True)
                result = provision(module, order, store=self._store, earlier=earlier)
        except Exception as fault:
            result.ended_by(fault, "put back")
        return result
