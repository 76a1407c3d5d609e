"""A module that refuses packets: single ones are lost, several in a row end the test, and a fault of ours is no loss."""

from __future__ import annotations

from itertools import count
from types import SimpleNamespace
from typing import Any

import pytest

from tests.conftest import Bench
from wexicon.core.faults import ModuleFault
from wexicon.core.protocol.transfers import Packets, Tally
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.endpoints import MOST_REFUSED, CommandEndpoint, Outbox
from wexicon.work.function.traffic import TrafficOrder, TrafficTest


def served(refuses: set[int], packets: int) -> int:
    """How many of these packets were offered to a module that refuses some of them."""
    offered = count()

    def do(action: str, given: dict[str, Any]) -> None:
        number = next(offered)
        if number in refuses:
            raise ModuleFault("ERROR")

    outbox, endpoint, tally = Outbox(lambda: 0.0), CommandEndpoint(), Tally()
    for number in range(packets):
        outbox.put("a", number, tally)
    lexicon = find_lexicon("lindle-l9")
    assert lexicon.traffic
    session = SimpleNamespace(quiet=lambda seconds, enough: None)
    endpoint.use(SimpleNamespace(session=session, do=do, lexicon=lexicon), lexicon.traffic)  # type: ignore[arg-type]
    for _ in range(packets):
        endpoint.turn(outbox, Packets(24, lines=True), lambda data: None, 0.01)
    return next(offered)


def test_single_refusals_are_losses_and_many_in_a_row_end_the_test() -> None:
    assert served(set(range(0, 4 * MOST_REFUSED, 2)), 4 * MOST_REFUSED) == 4 * MOST_REFUSED
    with pytest.raises(ModuleFault):
        served(set(range(MOST_REFUSED)), 4 * MOST_REFUSED)


def test_a_fault_of_ours_in_a_thread_is_an_internal_error_and_no_loss() -> None:
    def turn(outbox: Outbox, packets: Packets, arrived: object, looks: float) -> None:
        raise RuntimeError("of our own making")

    session = Bench("lindle-l9").open()
    end: Any = SimpleNamespace(session=session, signal={}, turn=turn, lexicon=None)
    result = TrafficTest([end], TrafficOrder(count=3, within=0.2)).run(lambda: False)
    assert result.verdict == "failed" and result.failure
    assert "internal error (RuntimeError" in result.failure.what and "lost" not in result.failure.what
