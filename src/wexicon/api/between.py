"""Between two modules, or round a cable: test packets, sweeps over settings, flow control.

The rule: what counts as received was seen on a port.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING

from wexicon.core.faults import CallFault
from wexicon.files import state_folder
from wexicon.work.contact.ports import port_named
from wexicon.work.contact.sessions import Setup
from wexicon.work.results.functions import FlowResult, SweepPoint, SweepResult, TrafficResult

if TYPE_CHECKING:
    from wexicon.work.function.flow_proof import FlowOrder
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest
from wexicon.api.modules import known_lexicon


def traffic(
    ports: Sequence[str],
    order: TrafficOrder | None = None,
    lexicon: str | None = None,
    setup: Setup | None = None,
    *,
    transparent: bool = False,
    watch: Callable[[TrafficTest], None] = lambda test: None,
) -> TrafficResult:
    """Sends test packets from the first port to the second, or over one port that is looped back. A module sends by command if
    its lexicon says so, unless it is `transparent`; `watch` is given the test before it starts.

        order = wexicon.TrafficOrder(count=3, within=9)
        made = wexicon.traffic(["/dev/ttyUSB0", "/dev/ttyUSB1"], order, "lindle-l9")
        print(made.verdict, made.median, [way.lost for way in made.ways])
    """
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest, endpoint_on, prepare

    setup, order = setup or Setup(), order or TrafficOrder()
    if not 1 <= len(ports) <= 2 or len(set(ports)) < len(ports):
        raise CallFault("traffic needs one port or two", hint="Name A and B, or A alone.")
    paths = [port_named(port) for port in ports]
    if setup.trace and len(paths) > 1:
        raise CallFault("--trace cannot be used with two ports: each gets a dated trace", hint="Remove --trace.")
    with ExitStack() as stack:
        traces: list[str] = []
        ends = [
            endpoint_on(stack, path, known_lexicon(path, lexicon), order, setup, traces, transparent=transparent)
            for path in paths
        ]
        prepare(ends, order.size)
        test = TrafficTest(ends, order, ports)
        watch(test)
        result = test.run(setup.stopping)
    result.traces = traces
    return result


def sweep(
    ports: Sequence[str],
    settings: str,
    order: TrafficOrder | None = None,
    lexicon: str | None = None,
    setup: Setup | None = None,
    *,
    measured: Callable[[SweepPoint], None] = lambda point: None,
) -> SweepResult:
    """Runs the traffic test between two modules at each of several settings of both, such as `spreading=7..12,power=2,14`; puts
    them back afterwards. `measured` is called with each point.

        ports = ["/dev/ttyUSB0", "/dev/ttyUSB1"]
        made = wexicon.sweep(ports, "spreading=7,9", wexicon.TrafficOrder(count=2, within=9), "lindle-l9")
        print(made.points)
    """
    result = swept(ports, settings, order or default_traffic(), lexicon, setup or Setup(), measured)
    result.require_something()
    return result


def default_traffic() -> TrafficOrder:
    """Twenty packets of 32 bytes."""
    from wexicon.work.function.traffic import TrafficOrder

    return TrafficOrder()


def swept(
    ports: Sequence[str],
    settings: str,
    order: TrafficOrder,
    lexicon: str | None,
    setup: Setup,
    measured: Callable[[SweepPoint], None],
) -> SweepResult:
    """The same, for a part of a sweep: it may be that nothing is received."""
    from wexicon.core.formats.sheet_tests import points_of
    from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint
    from wexicon.work.function.sweeps import sweep
    from wexicon.work.function.traffic import TrafficTest, endpoint_on, prepare
    from wexicon.work.provisioning.unfinished import FileStore, Store

    if len(ports) != 2 or ports[0] == ports[1]:
        raise CallFault("a sweep needs two ports", hint="Name A and B.")
    known = known_lexicon(port_named(ports[0]), lexicon)
    if known is None:
        raise CallFault("a sweep needs the lexicon of the modules", hint="Name it: --lexicon NAME.")
    points = points_of(settings, known)
    with ExitStack() as stack:
        traces: list[str] = []
        paths = [port_named(port) for port in ports]
        made = [
            endpoint_on(stack, path, known_lexicon(path, lexicon), order, setup, traces, swept=True) for path in paths
        ]
        ends = [one for one in made if isinstance(one, CommandEndpoint | DataEndpoint)]
        if len(ends) < 2 or any(one.module.lexicon.digest != known.digest for one in ends):
            raise CallFault("a sweep needs two modules of one family")
        store = FileStore(state_folder() / "unfinished") if setup.keeps else Store()

        def run() -> TrafficResult:
            prepare(ends, order.size)
            return TrafficTest(ends, order, ports).run(setup.stopping)

        result = sweep(ends, points, run, store, measured)
    result.ports, result.traces = list(ports), traces
    return result


def prove_flow(
    ports: Sequence[str], order: FlowOrder | None = None, lexicon: str | None = None, setup: Setup | None = None
) -> FlowResult:
    """Whether flow control holds: packets from the first port, or round a looped one, to a reader that does not read. The
    kind of flow control is that of `setup`, or of the lexicon."""
    from wexicon.work.function.flow_proof import FlowOrder, prove_flow
    from wexicon.work.function.traffic import TrafficOrder, endpoint_on

    setup = setup or Setup()
    if not 1 <= len(ports) <= 2 or len(set(ports)) < len(ports):
        raise CallFault("flow control is proved over one port or two", hint="Name A and B, or A alone.")
    paths = [port_named(port) for port in ports]
    known = [known_lexicon(path, lexicon) for path in paths]
    flow = setup.flow or (known[0].flow if known[0] else "none")
    if flow == "none":
        raise CallFault("there is no flow control to prove", hint="Say which: --flow rts-cts, or --flow xon-xoff.")
    with ExitStack() as stack:
        traces: list[str] = []
        ends = [
            endpoint_on(stack, path, one, TrafficOrder(), setup, traces, transparent=True)
            for path, one in zip(paths, known, strict=True)
        ]
        result = prove_flow(ends[0].session, ends[-1].session, order or FlowOrder(), flow, setup.stopping)
    result.ports, result.traces = list(ports), traces
    return result
