"""Stand-ins: served on ports, or worked with in virtual time.

The rule: what only some calls need is imported when they are made.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat
from wexicon.core.results.functions import HeardEvent, SweepPoint, SweepResult, TrafficResult
from wexicon.core.results.result import Verdict
from wexicon.core.results.unit import DialogueResult, UnitResult
from wexicon.files import read_file
from wexicon.work.contact.sessions import Setup
from wexicon.work.contact.standins import SETTLED, Choice, fills, on_ports, parties_for, rig_at, unit_for
from wexicon.work.provisioning.policy import Order

if TYPE_CHECKING:
    from wexicon.rigs.rig import Rig
    from wexicon.rigs.serving import Server
    from wexicon.work.function.ears import ListenOrder
    from wexicon.work.function.listening import Listened
    from wexicon.work.function.traffic import TrafficOrder


def rehearse_dialogue(
    program: Program,
    values: Mapping[str, object],
    lexicon: Lexicon | None,
    choice: Choice,
    *,
    trace: Path | None = None,
) -> DialogueResult:
    """Runs a dialogue against a stand-in, or between several, in virtual time. Raises Fault if there is no such stand-in."""
    from wexicon.api.running import run
    from wexicon.rigs.standins.recording import Recording
    from wexicon.work.contact.sessions import Opening
    from wexicon.work.function.dialogues import lexicons_of

    if program.parties():
        standins, units = parties_for(lexicons_of(program), choice)
        with on_ports(standins, settled=SETTLED) as setup:
            setup.trace, setup.force = trace, True
            return run(program, units, values, setup=setup)
    standins, unit = unit_for(choice, lexicon)
    replayed = unit.standin if isinstance(unit.standin, Recording) else None
    opening = Opening(title="rehearsal")
    if replayed:
        opening.tuning, opening.dialect = replayed.uart.tuning, None if lexicon else replayed.dialect
    with on_ports(standins) as setup:
        setup.trace, setup.force = trace, True
        return run(program, unit.name, values, lexicon, setup, opening=opening, attention=not replayed)


def rehearse_seat(seat: Seat, choice: Choice, *, trace: Path | None = None, order: Order | None = None) -> UnitResult:
    """Provisions a stand-in as a seat of a sheet says, in virtual time. Raises Fault if there is no such stand-in."""
    from wexicon.rigs.standins.recording import Recording
    from wexicon.work.contact.sessions import Opening
    from wexicon.work.module.opening import module_on_port
    from wexicon.work.provisioning.policy import SheetOrder
    from wexicon.work.provisioning.run import provision

    standins, unit = unit_for(choice, seat.lexicon)
    opening = Opening(title="rehearsal", secrets=seat.secrets())
    if isinstance(unit.standin, Recording):
        opening.tuning, unit.standin.fill = unit.standin.uart.tuning, fills(seat)
    with on_ports(standins) as setup:
        setup.trace, setup.force = trace, True
        with module_on_port(f"virtual://{unit.name}", seat.lexicon, setup, opening, seat.given) as module:
            order = order or SheetOrder().for_unit(seat, seat.wanted, "")
            result = provision(module, msgspec.structs.replace(order, replayed=choice.recording is not None))
    return result.about(seat.name, f"stand-in {unit.standin.family}", seat.lexicon, str(trace or ""))


@contextmanager
def rig(path: Path) -> Iterator[Server]:
    """Serves the stand-ins of a rig file on ports while the block lasts; `.ports` has the port of each unit.

    with wexicon.rig(Path("rig.toml")) as server:
        print(server.ports)
    """
    from wexicon.records.trace import recorded
    from wexicon.rigs.rig import read_rig
    from wexicon.rigs.serving import Desk, real_agenda, served

    standins = read_rig(read_file(path), str(path), real_agenda(), lambda name: recorded(path.parent / name))
    with served(standins) as server:
        desk = Desk(server, path.stem)
        try:
            yield server
        finally:
            desk.close()


def virtual_rig(path: Path) -> Rig:
    """The stand-ins of a rig file in virtual time, with power."""
    made = rig_at(path)
    made.power_up()
    return made


@contextmanager
def _rehearsed(path: Path, stopping: Callable[[], bool]) -> Iterator[tuple[Rig, Setup]]:
    """The units of a rig file on such ports, known and with power for a while."""
    standins = rig_at(path)
    with on_ports(standins, known=True, settled=SETTLED) as setup:
        setup.stopping = stopping
        yield standins, setup


def _check_units(standins: Rig, names: Sequence[str], path: Path) -> None:
    """Raises CallFault if the rig has no unit of one of these names."""
    for name in names:
        try:
            standins.unit(name)
        except ValueError as fault:
            raise CallFault(str(fault), where=str(path)) from None


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
    from wexicon.api.running import listen

    with _rehearsed(rig, stopping) as (standins, setup):
        _check_units(standins, [unit], rig)
        setup.trace, setup.force = trace, force
        return listen(unit, order, lexicon, setup, show=show)


def rehearse_traffic(
    rig: Path,
    units: Sequence[str],
    order: TrafficOrder | None = None,
    lexicon: str | None = None,
    *,
    transparent: bool = False,
) -> TrafficResult:
    """The traffic test between stand-ins of a rig file, in virtual time. Raises Fault."""
    from wexicon.api.running import traffic

    with _rehearsed(rig, lambda: False) as (standins, setup):
        _check_units(standins, units, rig)
        return traffic(units, order, lexicon, setup, transparent=transparent)


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
    from wexicon.api.running import default_traffic, swept
    from wexicon.rigs.air import Place

    whole = SweepResult(verdict=Verdict.PASSED, ports=list(units), restored=True)
    with _rehearsed(rig, stopping) as (standins, setup):
        _check_units(standins, units, rig)
        for distance in distances or (None,):

            def told(point: SweepPoint, distance: float | None = distance) -> None:
                if distance is not None:
                    point.settings["distance"] = f"{distance:g} km"
                measured(point)

            if distance is not None:
                first, second = units
                standins.air.places.update({first: Place(), second: Place(east=distance)})
            made = swept(units, settings, order or default_traffic(), lexicon, setup, told)
            whole.points += made.points
            whole.restored = whole.restored and made.restored
            whole.seconds += made.seconds
            whole.verdict, whole.failure = made.verdict, made.failure
            if made.failure or stopping():
                break
    whole.require_something()
    return whole
