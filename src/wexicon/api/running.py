"""What is run on a module, on several, or for the units of a sheet: dialogues, consoles, listening, taps, test packets,
sweeps, provisioning, verifying.

The rule: each call opens its ports, and closes them; the result of a unit is recorded in the register. What counts as received
was seen on a port.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from wexicon.api.modules import known_lexicon
from wexicon.core.dialogue import Program
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Sheet
from wexicon.core.protocol.line_faults import LineFault
from wexicon.core.protocol.observations import Listener
from wexicon.core.protocol.session import Session
from wexicon.core.results.functions import FlowResult, HeardEvent, SweepPoint, SweepResult, TapResult, TrafficResult
from wexicon.core.results.result import Prove
from wexicon.core.results.unit import DialogueResult, UnitResult
from wexicon.core.tuning import Tuning
from wexicon.files import state_folder
from wexicon.work.contact.catalog import (
    find_dialogue,
    find_sheet,
    secrets_for,
)
from wexicon.work.contact.ports import named, places_of, port_named, remembered
from wexicon.work.contact.sessions import Opening, Setup, dated_trace, open_session
from wexicon.work.fleet.sheet_run import Report, SheetRun, chosen_jobs
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on
from wexicon.work.provisioning.policy import SheetOrder

if TYPE_CHECKING:
    from wexicon.work.function.ears import Ears, ListenOrder
    from wexicon.work.function.flow_proof import FlowOrder
    from wexicon.work.function.listening import Listened
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest


# How many full parts of a listener's trace are kept beside the one that is written.
TRACE_PARTS = 7


def run(
    program: Program | Path,
    port: str | Mapping[str, str],
    values: Mapping[str, object] | None = None,
    lexicon: Lexicon | None = None,
    setup: Setup | None = None,
    *,
    given: Mapping[str, object] | None = None,
    opening: Opening | None = None,
    attention: bool = True,
) -> DialogueResult:
    """Runs a dialogue with the module on a port. With a lexicon it enters command mode first, unless `attention` is false.
    `given` is what the lexicon's actions may need. A dialogue between several takes a port for each, by their names.

        made = wexicon.run(Path("first-words.wex"), "/dev/ttyUSB0", lexicon=wexicon.find_lexicon("brisca-w1"))
        print(made.require().kept)
    """
    setup, program = setup or Setup(), find_dialogue(program) if isinstance(program, Path) else program
    if not isinstance(port, str) or program.parties():
        from wexicon.work.function.dialogues import check_ports

        named = {} if isinstance(port, str) else port
        check_ports(program, named)
        ports = {name: port_named(one) for name, one in named.items()}
        return _run_with_parties(program, ports, values or {}, setup, given, opening)
    path = port_named(port)
    links = setup.links(lexicon, path)
    asked = setup.rate or setup.frame or setup.station is not None
    tuning = links[0] if links and (asked or not lexicon or not attention) else lexicon.factory if lexicon else Tuning()
    own = opening or Opening(title=Path(program.path).stem)
    own.tuning = own.tuning or tuning
    with open_session(path, lexicon, setup, own) as (session, trace):
        result = run_dialogue(
            session,
            program,
            values or {},
            lexicon,
            setup.operator(path),
            attention=attention,
            likely=links,
            patience=setup.patience,
            fixture=setup.fixture,
            given=given,
        )
    result.trace = trace
    return result


def _run_with_parties(
    program: Program,
    ports: Mapping[str, str],
    values: Mapping[str, object],
    setup: Setup,
    given: Mapping[str, object] | None,
    opening: Opening | None,
) -> DialogueResult:
    """Runs a dialogue between several parties."""
    from wexicon.work.function.dialogues import Ending, lexicons_of, parties_on_ports, run_with_parties

    lexicons = lexicons_of(program)
    ends = [Ending(name, port, lexicons[name]) for name, port in ports.items()]
    own = opening or Opening(title=Path(program.path).stem)
    with parties_on_ports(ends, setup, own) as made:
        result = run_with_parties(
            made.modules,
            program,
            values,
            patience=setup.patience,
            fixture=setup.fixture,
            given=given,
            opens=made.opened,
        )
    result.trace = str(made.trace or "")
    return result


@contextmanager
def talk_session(
    port: str,
    lexicon: Lexicon | None,
    setup: Setup,
    opening: Opening,
    given: Mapping[str, object] | None = None,
) -> Iterator[tuple[Session, Module | None, list[Tuning]]]:
    """A session for a conversation, the module on it if a lexicon is known, and the links to try first. `given` is what the
    module's actions may need."""
    links = setup.links(lexicon, port)
    usual = (lexicon.attention.tuning or lexicon.factory) if lexicon else Tuning()
    opening.tuning = links[0] if links else usual
    with open_session(port, lexicon, setup, opening) as (session, _), ExitStack() as stack:
        module = stack.enter_context(module_on(session, port, lexicon, setup, given)) if lexicon else None
        yield session, module, links


def listen(
    port: str,
    order: ListenOrder | None = None,
    lexicon: str | None = None,
    setup: Setup | None = None,
    *,
    given: Mapping[str, object] | None = None,
    show: Callable[[HeardEvent], object] = lambda event: None,
    watch: Callable[[Ears], object] = lambda ears: None,
) -> Listened:
    """Listens to what the module on a port sends by itself; `show` is given each event as it comes, `watch` what takes them,
    before the first. Without a lexicon, and if none is stored for the port, lines are shown as they come. Raises Fault.

        heard = wexicon.listen("/dev/ttyUSB0", wexicon.ListenOrder(duration=0.2), "lindle-l9", show=print)
        print(heard.result.events)
    """
    from wexicon.work.function.ears import Ears
    from wexicon.work.function.listening import check_order, listen

    path, setup, order = port_named(port), setup or Setup(), order or default_listening()
    found = known_lexicon(path, lexicon)
    check_order(order, found)
    ears = Ears(found, order, show)
    watch(ears)
    own = Opening(title="listen", trace_parts=TRACE_PARTS)
    links = setup.links(found, path)
    own.tuning = links[0] if links else None
    with ExitStack() as stack:
        session, trace = stack.enter_context(open_session(path, found, setup.heard_by(ears), own))
        module = stack.enter_context(module_on(session, path, found, setup, given)) if found else None
        made = listen(session, ears, module)
    made.result.trace = trace
    return made


def default_listening() -> ListenOrder:
    """Listens until it is stopped, and says nothing."""
    from wexicon.work.function.ears import ListenOrder

    return ListenOrder()


def tap(
    host: str,
    module: str,
    lexicon: Lexicon | None = None,
    *,
    rate: int | None = None,
    frame: str | None = None,
    faults: tuple[LineFault, ...] = (),
    seed: int = 1,
    lasts: float | None = None,
    stopping: Callable[[], bool] = lambda: False,
    trace: Path | None = None,
    force: bool = False,
    listener: Listener | None = None,
    ready: Callable[[str], object] = lambda text: None,
) -> TapResult:
    """Passes all bytes on between two ports, in both ways and at once, until it is stopped or for `lasts` seconds; what passes
    is decoded by the module's lexicon, shown to `listener`, and traced. `ready` is called once both ports are open. Raises
    Fault.

        made = wexicon.tap("/dev/ttyUSB0", "/dev/ttyUSB1", wexicon.find_lexicon("lindle-l9"), lasts=0.5)
        print(made.lines, made.answers, made.trace)
    """
    from wexicon.links.port import open_port
    from wexicon.work.function.tap import tap_ports

    known = remembered(module)
    fits = known is not None and (lexicon is None or known.lexicon == named(lexicon))
    usual = known.tuning if known and fits else lexicon.factory if lexicon else Tuning()
    try:
        tuning = Tuning.of(rate or usual.rate, frame or usual.frame, usual.station)
    except ValueError as fault:
        raise CallFault(str(fault)) from None
    path = trace or dated_trace("tap")
    with open_port(host, tuning) as one, open_port(module, tuning) as other:
        ready(f"{host} and {module} at {tuning}; Ctrl-C ends it")
        return tap_ports(
            one, other, lexicon, path, faults, listener, seed=seed, stopping=stopping, lasts=lasts, force=force
        )


def provision(
    sheet: Sheet | Path,
    ports: Sequence[str],
    order: SheetOrder | None = None,
    setup: Setup | None = None,
    *,
    report: Report | None = None,
    register: str | None = None,
) -> list[UnitResult]:
    """Provisions the units of a sheet on ports (`PORT`, `SEAT=PORT` or a pattern), each result recorded in the register.

    for unit in wexicon.provision(Path("radio-pair.toml"), ["relay=/dev/ttyUSB0", "mast=/dev/ttyUSB1"]):
        print(unit.unit, unit.verdict, unit.evidence)
    """
    setup = setup or Setup()
    if isinstance(sheet, Path):
        sheet = find_sheet(sheet, None, secrets_for(sheet.parent, None))
    made = SheetRun(sheet, chosen_jobs(sheet, None), places_of(ports), order or SheetOrder(), register)
    made.check(setup)
    return made.run(setup, report)


def verify(
    sheet: Sheet | Path,
    ports: Sequence[str],
    setup: Setup | None = None,
    *,
    prove: Prove = Prove.READING,
    report: Report | None = None,
    register: str | None = None,
) -> list[UnitResult]:
    """Compares the modules on ports with a sheet; writes nothing.

    for unit in wexicon.verify(Path("radio-pair.toml"), ["relay=/dev/ttyUSB0", "mast=/dev/ttyUSB1"]):
        print(unit.unit, unit.verdict)
    """
    return provision(sheet, ports, SheetOrder(write=False, prove=prove), setup, report=report, register=register)


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
