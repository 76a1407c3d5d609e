"""Runs the tests of a sheet on ports.

The rule: what a test may change is unfinished work from before its first line until the settings were written back and read.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, ExitStack
from datetime import UTC, datetime

import msgspec

from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_tests import TrafficTable
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener
from wexicon.core.values import Value
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.fleet.sheet_tests import DueTest
from wexicon.work.fleet.traffic_tests import order_of, run_traffic
from wexicon.work.function.dialogues import require_unit, run_with_parties
from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint
from wexicon.work.function.parties import Ending, parties_on_ports
from wexicon.work.function.traffic_ends import endpoint_on
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import Order, provision
from wexicon.work.provisioning.unfinished import Store, Unfinished
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.unit import UnitResult
from wexicon.work.results.verdicts import Prove, Verdict


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

    def _traffic(self, due: DueTest, table: TrafficTable, ports: Mapping[str, str]) -> DialogueResult:
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

    def restore(self, job: Job, port: str) -> UnitResult:
        result = UnitResult()
        try:
            with self._opened(job, port, Listener()) as module:
                module.attention.gain([*module.likely, module.lexicon.factory])
                require_unit(module, self._units(job))
                order = Order(
                    self._wanted[job.name],
                    self._prove,
                    job.seat.trust,
                    self._sheet.digest,
                    touched=True,
                    image=job.seat.image,
                    others=job.seat.others,
                )
                result = provision(module, order, store=self._store)
        except Exception as fault:
            result.ended_by(fault, "put back")
        return result
