"""Runs the tests of a sheet on ports.

The rule: what a test may change is unfinished work from before its first line until the settings were written back and read.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, ExitStack
from datetime import UTC, datetime

import msgspec

from wexicon.core.durations import seconds
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_tests import TrafficTable
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener
from wexicon.core.values import Value
from wexicon.work.contact.sessions import Opening, Setup, dated_trace
from wexicon.work.fleet.sheet_tests import DueTest
from wexicon.work.function.dialogues import require_unit, run_with_parties
from wexicon.work.function.endpoints import CommandEndpoint
from wexicon.work.function.parties import Ending, parties_on_ports
from wexicon.work.function.traffic import TrafficOrder, TrafficTest, prepare
from wexicon.work.function.traffic_ends import endpoint_on
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import Order, provision
from wexicon.work.provisioning.unfinished import Store, Unfinished
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.failure import Failure
from wexicon.work.results.measurement import Measurement
from wexicon.work.results.traffic import TrafficResult
from wexicon.work.results.unit import UnitResult
from wexicon.work.results.verdicts import Prove, Verdict


def _judged(sent: TrafficResult, table: TrafficTable) -> list[Measurement]:
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


class PortBench:
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
            setup = self._setup.with_trace(dated_trace(title))
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
            result.trace = str(made.trace)
        except Exception as fault:
            result.verdict = Verdict.FAILED
            result.ended_by(fault, "test")
        return result

    def _traffic(self, due: DueTest, table: TrafficTable, ports: Mapping[str, str]) -> DialogueResult:
        """Packets between two units."""
        result = DialogueResult(dialogue="", verdict=Verdict.PASSED)
        within = seconds(table.within)
        order = TrafficOrder(table.count, size=table.size, within=within, seed=int.from_bytes(os.urandom(4), "big"))
        try:
            with ExitStack() as stack:
                traces: list[str] = []
                setup = msgspec.structs.replace(self._setup, trace=None, listener=None)
                jobs = [due.jobs["from"], due.jobs["to"]]
                ends = [endpoint_on(stack, ports[job.name], job.seat.lexicon, order, setup, traces) for job in jobs]
                for job, end in zip(jobs, ends, strict=True):
                    if isinstance(end, CommandEndpoint):
                        require_unit(end.module, self._units(job))
                prepare(ends, order.size)
                sent = TrafficTest(ends, order, [job.name for job in jobs]).run(setup.stopping)
            result.trace = ", ".join(traces)
        except Exception as fault:
            result.ended_by(fault, "traffic")
            return result
        result.seconds = sent.seconds
        result.measurements = _judged(sent, table)
        if sent.verdict is Verdict.STOPPED:
            result.verdict, result.failure = sent.verdict, sent.failure
        elif bad := next((one for one in result.measurements if one.verdict is not Verdict.PASSED), None):
            what = f"{bad.name} is {bad.value:g} {bad.unit}".rstrip() + f", and {bad.limits} is allowed"
            cause = sent.failure.next if sent.failure else ""
            result.verdict, result.failure = Verdict.FAILED, Failure("traffic", what, next=cause)
        elif table.round_trip and sent.median is None:
            # A round trip that nothing made is not below any limit.
            result.verdict, result.failure = Verdict.FAILED, Failure("traffic", "no packet was answered")
        return result

    def restore(self, job: Job, port: str) -> UnitResult:
        result = UnitResult()
        try:
            with self._opened(job, port, Listener()) as module:
                module.attention.gain([*module.likely, module.lexicon.factory])
                require_unit(module, self._units(job))
                order = Order(self._wanted[job.name], self._prove, job.seat.trust, self._sheet.digest, touched=True)
                result = provision(module, order, store=self._store)
        except Exception as fault:
            result.ended_by(fault, "put back")
        return result
