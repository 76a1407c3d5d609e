"""Stand-ins: served on ports, or worked with in virtual time.

The rule: what only some calls need is imported when they are made.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from wexicon.core.dialogue import Program
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat
from wexicon.files import read_file
from wexicon.work.provisioning.run import Order
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.listening import HeardEvent
from wexicon.work.results.sweep import SweepPoint, SweepResult
from wexicon.work.results.traffic import TrafficResult
from wexicon.work.results.unit import UnitResult
from wexicon.work.simulation.choice import Choice

if TYPE_CHECKING:
    from wexicon.rigs.bench import Bench
    from wexicon.rigs.serving import Server
    from wexicon.work.function.listening import Listened, ListenOrder
    from wexicon.work.function.traffic import TrafficOrder


def rehearse_dialogue(
    program: Program,
    values: Mapping[str, object],
    lexicon: Lexicon | None,
    choice: Choice,
    *,
    trace: Path | None = None,
) -> DialogueResult:
    """Runs a dialogue against a stand-in, in virtual time. Raises Fault if there is no such stand-in."""
    from wexicon.work.simulation.rehearsal import rehearse_dialogue

    return rehearse_dialogue(program, values, lexicon, choice, trace=trace)


def rehearse_seat(seat: Seat, choice: Choice, *, trace: Path | None = None, order: Order | None = None) -> UnitResult:
    """Provisions a stand-in as a seat of a sheet says, in virtual time. Raises Fault if there is no such stand-in."""
    from wexicon.work.simulation.rehearsal import rehearse_seat

    return rehearse_seat(seat, choice, trace=trace, order=order)


@contextmanager
def rig(path: Path) -> Iterator[Server]:
    """Serves the stand-ins of a rig file on ports while the block lasts; `.ports` has the port of each unit.

    with wexicon.rig(Path("bench.toml")) as server:
        print(server.ports)
    """
    from wexicon.records.trace_reader import recorded
    from wexicon.rigs.bench import read_rig
    from wexicon.rigs.desk import Desk
    from wexicon.rigs.serving import real_agenda, served

    bench = read_rig(read_file(path), str(path), real_agenda(), lambda name: recorded(path.parent / name))
    with served(bench) as server:
        desk = Desk(server, path.stem)
        try:
            yield server
        finally:
            desk.close()


def virtual_bench(path: Path) -> Bench:
    """The stand-ins of a rig file in virtual time, with power."""
    from wexicon.core.agenda import Agenda
    from wexicon.records.trace_reader import recorded
    from wexicon.rigs.bench import read_rig

    made = read_rig(read_file(path), str(path), Agenda(), lambda name: recorded(path.parent / name))
    made.power_up()
    return made


def rehearse_listening(
    rig: Path,
    unit: str,
    order: ListenOrder,
    lexicon: str | None = None,
    *,
    show: Callable[[HeardEvent], object] = lambda event: None,
    stopping: Callable[[], bool] = lambda: False,
    trace: Path | None = None,
    force: bool = False,
) -> Listened:
    """Listens to a stand-in of a rig file in virtual time, traced if `trace` names a file. Raises Fault."""
    from wexicon.work.simulation.virtual_listening import rehearse_listening

    return rehearse_listening(rig, unit, order, lexicon, show=show, stopping=stopping, trace=trace, force=force)


def rehearse_traffic(
    rig: Path,
    units: Sequence[str],
    order: TrafficOrder | None = None,
    lexicon: str | None = None,
    *,
    transparent: bool = False,
) -> TrafficResult:
    """The traffic test between stand-ins of a rig file, in virtual time. Raises Fault."""
    from wexicon.work.function.traffic import TrafficOrder
    from wexicon.work.simulation.virtual_traffic import VirtualPair, rehearse_traffic

    return rehearse_traffic(VirtualPair.of(rig, units, lexicon), order or TrafficOrder(), transparent=transparent)


def rehearse_sweep(
    rig: Path,
    units: Sequence[str],
    settings: str,
    order: TrafficOrder | None = None,
    lexicon: str | None = None,
    *,
    distances: Sequence[float] = (),
    stopping: Callable[[], bool] = lambda: False,
    measured: Callable[[SweepPoint], None] = lambda point: None,
) -> SweepResult:
    """A sweep between two stand-ins of a rig file, in virtual time; at each of several distances (kilometres) if there are any.
    Raises Fault."""
    from wexicon.work.function.traffic import TrafficOrder
    from wexicon.work.simulation.virtual_traffic import VirtualPair, rehearse_sweep

    pair = VirtualPair.of(rig, units, lexicon)
    return rehearse_sweep(pair, settings, order or TrafficOrder(), distances, measured, stopping)
