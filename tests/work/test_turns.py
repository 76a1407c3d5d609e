"""Whose turn it is: each port ends up with its own module, what was refused is left for others, nobody waits for ever."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterator

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.test_jobs import MASTS, SHEET, jobs
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.results.result import Failure, Verdict
from wexicon.core.results.unit import UnitResult
from wexicon.work.contact.ports import PortAssignment
from wexicon.work.fleet.claims import Claims
from wexicon.work.fleet.scheduler import Scheduler, UnitProgress


@pytest.fixture(autouse=True, scope="module")
def _threads_take_turns_all_the_time() -> Iterator[None]:
    """So that what only happens between two statements of another thread happens here."""
    usual = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    yield
    sys.setswitchinterval(usual)


UNITS = jobs(SHEET, MASTS)
NAMES = [job.name for job in UNITS]
WHY = Failure("identify", "mast M1 is another module")


def turns(units: list[Job] = UNITS, over: bool = False) -> Scheduler:
    claims = Claims(Sheet("s.toml", "", {}))
    return Scheduler(units, claims, {}, lambda: over, lambda progressed: None)


def at_once(work: Callable[[PortAssignment], None], places: list[PortAssignment]) -> None:
    """Each port with a thread of its own; all of them end."""
    workers = [threading.Thread(target=work, args=(place,), daemon=True) for place in places]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join(20)
    assert not any(worker.is_alive() for worker in workers)


@given(st.permutations(range(4)))
def test_each_module_is_made_its_own_unit_whatever_port_it_is_on(order: list[int]) -> None:
    """Each port has the module that is one unit by the register; each ends up with that one, and none is left or made twice."""
    one = turns()
    one.several = True
    places = [PortAssignment(f"port {number}") for number in range(4)]
    modules = {place.port: NAMES[number] for place, number in zip(places, order, strict=True)}
    one.pin(places)
    made: dict[str, str] = {}

    def work(place: PortAssignment) -> None:
        while job := one.next(place):
            if one.is_anothers(job, place, f"unit {place.port}", modules[place.port]):
                one.give_back(job)
                continue
            one.started(job)
            made[job.name] = place.port
            one.end(job, UnitResult(Verdict.CONFORMS))
        one.leave(place)

    for place in places:
        one.expect(place)
    at_once(work, places)
    assert made == {name: port for port, name in modules.items()}


@given(st.integers(0, 3), st.integers(2, 5))
def test_a_unit_that_is_anothers_goes_from_port_to_port_until_its_module_is_found(own: int, count: int) -> None:
    one = turns(UNITS[:1])
    places = [PortAssignment(f"port {number}") for number in range(count)]
    one.pin(places)
    for place in places:
        one.expect(place)
    made: list[str] = []
    failed: list[str] = []

    def work(place: PortAssignment) -> None:
        while job := one.next(place):
            if place.port != f"port {own}":
                if one.is_refused(job, place, f"unit {place.port}", WHY):
                    one.give_back(job)
                    continue
                failed.append(place.port)
            else:
                made.append(place.port)
            one.started(job)
            one.end(job, UnitResult(Verdict.CONFORMS))
        one.leave(place)

    at_once(work, places)
    # Where none of the ports has it, one of them is the last to say so.
    assert (made == [f"port {own}"] and not failed) if own < count else (not made and len(failed) == 1)


def test_nothing_is_begun_once_it_is_over_and_a_seat_keeps_to_its_port() -> None:
    assert turns(over=True).next(PortAssignment("port 0")) is None
    told: list[UnitProgress] = []
    one = Scheduler(UNITS, Claims(Sheet("s.toml", "", {})), {}, lambda: False, told.append)
    relay = one.next(PortAssignment("port 0", "relay"))
    assert relay and relay.name == "relay"
    mast = one.next(PortAssignment("port 1", "mast"))
    assert mast and mast.name == "mast M1"
    one.give_back(mast)
    assert [(seen.unit, seen.step) for seen in told] == [("mast M1", "waiting")]
    one.end(relay, UnitResult(Verdict.FAILED))
    assert one.next(PortAssignment("port 0", "relay")) is None and one.any_left
