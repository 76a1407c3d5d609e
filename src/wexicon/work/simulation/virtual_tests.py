"""The tests of a sheet in virtual time: the stand-ins that were provisioned meet on one bench.

The rule: each comes with the settings that it was left with; what a test does to them is put back there, as on ports.
"""

from __future__ import annotations

import copy
from collections.abc import Mapping
from contextlib import ExitStack

from wexicon.core.agenda import Agenda
from wexicon.core.dialogue.parties import Party
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_tests import TrafficTable
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.masking import Secrets
from wexicon.core.values import Value
from wexicon.links.virtual import VirtualClock
from wexicon.rigs.bench import Bench, UnitTable, no_recordings
from wexicon.rigs.virtual_ports import simulated_socket
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.fleet.sheet_tests import DueTest
from wexicon.work.fleet.traffic_tests import order_of, run_traffic
from wexicon.work.function.dialogues import DATA, Participant, run_with_parties
from wexicon.work.function.parties import Parties
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import Order, provision
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.unit import UnitResult
from wexicon.work.simulation.choice import SETTLED, Choice
from wexicon.work.simulation.party_rehearsal import air_of
from wexicon.work.simulation.virtual_bench import VirtualBench
from wexicon.work.simulation.virtual_traffic import virtual_end


class VirtualTestBench:
    """Tests between the stand-ins of `benches`, by the names of their units; `wanted` are the units' values."""

    def __init__(
        self,
        sheet: Sheet,
        choice: Choice,
        benches: Mapping[str, VirtualBench],
        wanted: Mapping[str, Mapping[str, Value]],
    ) -> None:
        self._sheet, self._choice, self._benches, self._wanted = sheet, choice, benches, wanted
        self._used: dict[str, VirtualBench] = {}

    def run(self, due: DueTest, values: Mapping[str, object], ports: Mapping[str, str]) -> DialogueResult:
        agenda, secrets, given = Agenda(), Secrets(), dict[str, object]()
        jobs = {job.name: job for job in due.jobs.values()}
        tables = {name: UnitTable(self._benches[name].standin.family) for name in jobs}
        bench = Bench("", tables, agenda, air_of(self._choice), no_recordings)
        for name, job in jobs.items():
            standin, before = bench.units[name].standin, self._benches[name].standin
            standin.flash, standin.own = copy.deepcopy(before.flash), dict(before.own)
            self._used[name] = VirtualBench(standin, agenda, job.seat.lexicon)
            job.seat.secrets(self._wanted.get(name), into=secrets)
            given |= job.given(None)
        bench.power_up()
        agenda.run_until(SETTLED)
        if due.test.traffic:
            return self._traffic(due, due.test.traffic)
        with ExitStack() as stack:
            made = Parties(stack, Setup(force=True), Opening(secrets=secrets), None, VirtualClock(agenda))
            for party, job in due.jobs.items():
                one, lexicon = self._used[job.name], job.seat.lexicon
                session = made.session(party, one.link(lexicon.factory), lexicon.dialect)
                made.modules.append(Participant(party, session, lexicon, one.operator))
            bench.air.simulated = True

            def opened(name: str, url: str) -> Party:
                link = simulated_socket(bench.air, VirtualClock(agenda), url)
                return Party(name, made.session(name, link, Dialect(DATA)), is_socket=True)

            return run_with_parties(made.modules, due.test.program, values, given=given, opens=opened)

    def _traffic(self, due: DueTest, table: TrafficTable) -> DialogueResult:
        """Packets between two units."""
        result, order = DialogueResult(dialogue=""), order_of(table)
        jobs = [due.jobs["from"], due.jobs["to"]]
        try:
            ends = [virtual_end(self._used[job.name], order, swept=bool(due.test.points)) for job in jobs]
            return run_traffic(ends, due.test, order, [job.name for job in jobs], lambda: False)
        except Exception as fault:
            result.ended_by(fault, "traffic")
            return result

    def restore(self, job: Job, port: str) -> UnitResult:
        bench, wanted = self._used[job.name], self._wanted[job.name]
        tuning = job.seat.lexicon.attention.tuning or job.seat.lexicon.factory
        session = bench.session(tuning=tuning, secrets=job.seat.secrets(wanted))
        module = Module(session, job.seat.lexicon, bench.operator, given=job.given(None))
        seat = job.seat
        order = Order(wanted, trust=seat.trust, sheet=self._sheet.digest, touched=True, others=seat.others)
        return provision(module, order)
