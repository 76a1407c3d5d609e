"""Test packets between two stand-ins, in virtual time.

The rule: the same ends as on ports; only links and clock are others, and the ends take turns.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import msgspec

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.points import Points, points_of
from wexicon.files import read_file
from wexicon.records.trace_reader import recorded
from wexicon.rigs.air import Place
from wexicon.rigs.bench import read_rig
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint, Endpoint, TransparentEndpoint
from wexicon.work.function.sweeps import sweep
from wexicon.work.function.traffic import TrafficOrder, TrafficTest, prepare
from wexicon.work.function.traffic_ends import ready
from wexicon.work.module.module import Module
from wexicon.work.provisioning.unfinished import Store
from wexicon.work.results.sweep import SweepPoint, SweepResult
from wexicon.work.results.traffic import TrafficResult
from wexicon.work.results.verdicts import Verdict
from wexicon.work.simulation.party_rehearsal import SETTLED
from wexicon.work.simulation.virtual_bench import VirtualBench


def virtual_end(
    bench: VirtualBench, order: TrafficOrder, *, swept: bool = False, transparent: bool = False
) -> Endpoint:
    """The end at one stand-in. Raises Fault."""
    lexicon = bench.lexicon
    if lexicon is None or transparent or (lexicon.traffic is None and not swept):
        return TransparentEndpoint(bench.session(tuning=bench.standin.uart.tuning), lexicon)
    if lexicon.traffic and not order.lines:
        raise CallFault(f"{bench.standin.name}: its module sends text by command", hint="Remove --bytes.")
    end = CommandEndpoint()
    session = bench.session(listener=end, tuning=lexicon.attention.tuning or lexicon.factory)
    return ready(end, Module(session, lexicon, bench.operator))


def hear_beside(ends: Sequence[Endpoint]) -> None:
    """Ends that take commands hear while the other sends, so that what arrives has its time."""
    sessions = [end.session for end in ends if isinstance(end, CommandEndpoint)]
    for one in sessions:
        one.beside = tuple(other for other in sessions if other is not one)


class VirtualPair(msgspec.Struct):
    """Two units of a rig, or one, each on a bench of its own."""

    names: list[str]
    benches: list[VirtualBench]

    @classmethod
    def of(cls, rig: Path, names: Sequence[str], lexicon: str | None) -> VirtualPair:
        """The units of these names, with the lexicon that is named or that of their family. Raises Fault."""
        if not 1 <= len(names) <= 2 or len(set(names)) < len(names):
            raise CallFault("traffic needs one unit or two", hint="Name A and B, or A alone.")
        return cls(list(names), _virtual_units(rig, names, lexicon))

    def apart(self, kilometres: float) -> None:
        """Puts the second unit that far from the first."""
        first, second = self.names
        self.benches[0].standin.air.places.update({first: Place(), second: Place(east=kilometres)})

    def ends(self, order: TrafficOrder, *, swept: bool = False, transparent: bool = False) -> list[Endpoint]:
        """Their ends, ready to send. Raises Fault."""
        made = [virtual_end(one, order, swept=swept, transparent=transparent) for one in self.benches]
        hear_beside(made)
        return made


def _virtual_units(rig: Path, names: Sequence[str], lexicon: str | None) -> list[VirtualBench]:
    """Units of a rig file that have power, with the lexicon that is named or that of their family. Raises Fault."""
    agenda = Agenda()
    bench = read_rig(read_file(rig), str(rig), agenda, lambda name: recorded(rig.parent / name))
    bench.power_up()
    agenda.run_until(SETTLED)
    made = []
    for name in names:
        try:
            standin = bench.unit(name).standin
        except ValueError as fault:
            raise CallFault(str(fault), where=str(rig)) from None
        made.append(VirtualBench(standin, agenda, _lexicon(standin.family, lexicon)))
    return made


def virtual_unit(rig: Path, name: str, lexicon: str | None) -> VirtualBench:
    """One unit of a rig file, which has power. Raises Fault."""
    return _virtual_units(rig, [name], lexicon)[0]


def _lexicon(family: str, named: str | None) -> Lexicon | None:
    try:
        return find_lexicon(named or family)
    except CallFault:
        if named:
            raise
        return None


def rehearse_traffic(pair: VirtualPair, order: TrafficOrder, *, transparent: bool = False) -> TrafficResult:
    """The traffic test between stand-ins. Raises Fault."""
    ends = pair.ends(order, transparent=transparent)
    prepare(ends, order.size)
    return TrafficTest(ends, order, pair.names).run(lambda: False)


def rehearse_sweep(
    pair: VirtualPair,
    settings: str,
    order: TrafficOrder,
    distances: Sequence[float] = (),
    measured: Callable[[SweepPoint], None] = lambda point: None,
    stopping: Callable[[], bool] = lambda: False,
) -> SweepResult:
    """The traffic test over settings, and over distances (kilometres) if there are any. Raises Fault."""
    lexicon = pair.benches[0].lexicon
    if len(pair.names) != 2 or lexicon is None:
        raise CallFault("a sweep needs two units of a family that has a lexicon")
    points = points_of(settings, lexicon)
    whole = SweepResult(verdict=Verdict.PASSED, ports=pair.names, restored=True)
    for distance in distances or (None,):
        if distance is not None:
            pair.apart(distance)
        ends = [one for one in pair.ends(order, swept=True) if isinstance(one, CommandEndpoint | DataEndpoint)]
        tell = partial(_told, distance=distance, measured=measured)
        made = sweep_between(ends, points, order, pair.names, stopping, tell)
        whole.points += made.points
        whole.restored = whole.restored and made.restored
        whole.seconds += made.seconds
        whole.verdict, whole.failure = made.verdict, made.failure
        if made.failure or stopping():
            break
    whole.require_something()
    return whole


def _told(point: SweepPoint, distance: float | None, measured: Callable[[SweepPoint], None]) -> None:
    """A point that was measured, with its distance."""
    if distance is not None:
        point.settings["distance"] = f"{distance:g} km"
    measured(point)


def sweep_between(
    ends: Sequence[CommandEndpoint | DataEndpoint],
    points: Points,
    order: TrafficOrder,
    names: Sequence[str],
    stopping: Callable[[], bool],
    measured: Callable[[SweepPoint], None] = lambda point: None,
) -> SweepResult:
    """A sweep between ends that take turns."""

    def run() -> TrafficResult:
        prepare(ends, order.size)
        return TrafficTest(ends, order, names).run(stopping)

    return sweep(ends, points, run, Store(), measured)
