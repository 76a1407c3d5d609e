"""One lexicon shared by many threads gives what it gives in one."""

from __future__ import annotations

import threading
from typing import Any

import msgspec
import pytest
from benchmarks.virtual_bench import VirtualBench

from tests.conftest import Bench, bench
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.session import Session
from wexicon.links.port import open_port
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module

THREADS, EXCHANGES = 16, 200
SHIPPED = find_lexicon("lindle-l9")
# Sixteen threads on a busy machine: an answer may take its time.
PATIENT = Dialect(msgspec.structs.replace(SHIPPED.speech, within="10s"), SHIPPED.events)
LEXICON = msgspec.structs.replace(SHIPPED, dialect=PATIENT)


def conversation(session: Session, hands: Any, number: int, exchanges: int) -> list[Any]:
    """Writes and reads back values that only this thread has; asks what does not fit, too."""
    module = Module(session, LEXICON, hands)
    module.attention.gain()
    told: list[Any] = []
    while session.exchanges < exchanges:
        value = number * 1000 + len(told)
        module.set("address", value)
        told.append((value, module.read("address")))
        told.append(session.exchange("@nonsense").code)
    return told


def expected(told: list[Any]) -> bool:
    return all(one[0] == one[1] if isinstance(one, tuple) else one == "2" for one in told)


def in_threads(work: Any) -> list[list[Any]]:
    results: dict[int, list[Any]] = {}
    threads = [threading.Thread(target=lambda n=n: results.update({n: work(n)})) for n in range(THREADS)]  # type: ignore[misc]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return [results[number] for number in range(THREADS)]


def test_sixteen_sessions_in_virtual_time_are_as_one_after_the_other() -> None:
    def one(number: int) -> list[Any]:
        made = VirtualBench.of("lindle-l9", LEXICON)
        return conversation(made.session(), made.operator, number, EXCHANGES)

    together = in_threads(one)
    assert all(expected(told) and len(told) > 100 for told in together)
    assert together == [one(number) for number in range(THREADS)]


@pytest.mark.parametrize("exchanges", [EXCHANGES])
def test_sixteen_sessions_on_pseudo_terminals(exchanges: int) -> None:
    rig = "".join(f'[unit.u{n}]\nstandin = "lindle-l9"\nsettings = {{ uart = 115200 }}\n' for n in range(THREADS))
    with bench(rig) as server:

        def one(number: int) -> list[Any]:
            link = open_port(server.ports[f"u{number}"], LEXICON.factory)
            try:
                return conversation(Session(link, LEXICON.dialect), Bench("lindle-l9").operator, number, exchanges)
            finally:
                link.close()

        together = in_threads(one)
    assert all(expected(told) and len(told) > 100 for told in together)
