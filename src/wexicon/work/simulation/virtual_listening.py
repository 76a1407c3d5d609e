"""Listening to a stand-in of a rig, in virtual time: a day of power saving in seconds.

The rule: the same listener as on a port; only link and clock are others.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wexicon.work.function.listening import Ears, Listened, ListenOrder, check_order, listen
from wexicon.work.module.module import Module
from wexicon.work.results.listening import HeardEvent
from wexicon.work.simulation.virtual_traffic import virtual_unit


def rehearse_listening(
    rig: Path,
    unit: str,
    order: ListenOrder,
    lexicon: str | None,
    *,
    show: Callable[[HeardEvent], object],
    stopping: Callable[[], bool],
) -> Listened:
    """Listens to a stand-in of a rig file. Raises Fault."""
    bench = virtual_unit(rig, unit, lexicon)
    check_order(order, bench.lexicon)
    ears = Ears(bench.lexicon, order, show)
    tuning = bench.standin.uart.tuning
    session = bench.session(listener=ears, stopping=stopping, tuning=tuning)
    module = Module(session, bench.lexicon, bench.operator, likely=[tuning]) if bench.lexicon else None
    return listen(session, ears, module)
