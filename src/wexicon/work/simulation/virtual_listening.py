"""Listening to a stand-in of a rig, in virtual time: a day of power saving in seconds.

The rule: the same listener as on a port; only link and clock are others.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wexicon.work.contact.sessions import Opening, Setup, session_over
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
    trace: Path | None = None,
    force: bool = False,
) -> Listened:
    """Listens to a stand-in of a rig file; traced if `trace` names a file, with `force` over an older one. Raises Fault."""
    bench = virtual_unit(rig, unit, lexicon)
    check_order(order, bench.lexicon)
    ears = Ears(bench.lexicon, order, show)
    tuning = bench.standin.uart.tuning
    setup = Setup(listener=ears, stopping=stopping, force=force)
    with session_over(bench.link(tuning), bench.dialect(), trace, setup, Opening(trace_parts=True)) as session:
        module = Module(session, bench.lexicon, bench.operator, likely=[tuning]) if bench.lexicon else None
        return listen(session, ears, module)
