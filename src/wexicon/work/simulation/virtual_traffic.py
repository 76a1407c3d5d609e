"""One end of a traffic test at a stand-in, for the tests of a sheet in virtual time.

The rule: the same end as on a port; only link and clock are others.
"""

from __future__ import annotations

from wexicon.core.faults import CallFault
from wexicon.work.function.endpoints import CommandEndpoint, Endpoint, TransparentEndpoint
from wexicon.work.function.traffic import TrafficOrder
from wexicon.work.function.traffic_ends import ready
from wexicon.work.module.module import Module
from wexicon.work.simulation.virtual_bench import VirtualBench


def virtual_end(bench: VirtualBench, order: TrafficOrder, *, swept: bool = False) -> Endpoint:
    """The end at one stand-in. Raises Fault."""
    lexicon = bench.lexicon
    if lexicon is None or (lexicon.traffic is None and not swept):
        return TransparentEndpoint(bench.session(tuning=bench.standin.uart.tuning), lexicon)
    if lexicon.traffic and not order.lines:
        raise CallFault(f"{bench.standin.name}: its module sends text by command", hint="Remove --bytes.")
    end = CommandEndpoint()
    session = bench.session(listener=end, tuning=lexicon.attention.tuning or lexicon.factory)
    return ready(end, Module(session, lexicon, bench.operator))
