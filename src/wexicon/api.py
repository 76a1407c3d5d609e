"""Wexicon for Python programs; the commands use it too.

    from wexicon import api

    with api.open_module("/dev/ttyUSB0", "tamsel-k5") as module:
        print(api.read(module).settings)

The rule: everything takes and returns typed values, raises `Fault` (see `wexicon.core.faults`) if the call is wrong or a port
cannot be opened, and prints nothing. Whatever happens on an open port ends in a result.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.dialogue import Program
from wexicon.core.faults import CallFault, Fault, LinkFault, ModuleFault, Part, Unreachable
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat, Sheet
from wexicon.core.protocol.line_faults import LineFault
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value
from wexicon.files import read_file
from wexicon.folders import state_folder
from wexicon.work.contact.attention import MOST_HEARD
from wexicon.work.contact.catalog import (
    all_lexicons,
    find_dialogue,
    find_lexicon,
    find_sheet,
    fixture_at,
    lexicon_for,
)
from wexicon.work.contact.known_links import named, remember, remembered
from wexicon.work.contact.ports import PortAssignment, found_ports, places_of, port_named
from wexicon.work.contact.secret_sources import secrets_for
from wexicon.work.contact.sessions import Opening, Setup, dated_trace, open_session
from wexicon.work.fleet.selection import chosen_jobs
from wexicon.work.fleet.sheet_run import Report, SheetOrder, SheetRun
from wexicon.work.function.actions import do_action
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.module.hail import hail_with
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on, module_on_port
from wexicon.work.provisioning.run import Order, read_out
from wexicon.work.provisioning.run import provision as write_and_prove
from wexicon.work.provisioning.run import verify as compare
from wexicon.work.provisioning.unfinished import FileStore
from wexicon.work.results.dialogue import ActionResult, DialogueResult
from wexicon.work.results.discovery import Attempt, HailResult
from wexicon.work.results.flow import FlowResult
from wexicon.work.results.listening import HeardEvent
from wexicon.work.results.measurement import Measurement
from wexicon.work.results.port import PortInfo
from wexicon.work.results.start_trial import StartTrial
from wexicon.work.results.sweep import SweepPoint, SweepResult
from wexicon.work.results.tap import TapResult
from wexicon.work.results.traffic import TrafficResult
from wexicon.work.results.unit import UnitResult
from wexicon.work.results.verdicts import Evidence, Outcome, Prove, Verdict
from wexicon.work.results.write_trial import WriteTrial
from wexicon.work.simulation.choice import Choice

if TYPE_CHECKING:
    from wexicon.core.protocol.link import Link
    from wexicon.rigs.bench import Bench
    from wexicon.rigs.serving import Server
    from wexicon.work.function.flow_proof import FlowOrder
    from wexicon.work.function.listening import Ears, Listened, ListenOrder
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest

__all__ = [
    "ActionResult",
    "Attempt",
    "CallFault",
    "Choice",
    "DialogueResult",
    "Evidence",
    "Fault",
    "FlowOrder",
    "HailResult",
    "HeardEvent",
    "Job",
    "Lexicon",
    "LinkFault",
    "ListenOrder",
    "Listened",
    "Measurement",
    "Module",
    "ModuleFault",
    "Opening",
    "Order",
    "Outcome",
    "PortAssignment",
    "PortInfo",
    "Program",
    "Prove",
    "Report",
    "Session",
    "Setup",
    "Sheet",
    "SheetOrder",
    "SheetRun",
    "StartTrial",
    "TapResult",
    "TrafficOrder",
    "TrafficResult",
    "UnitResult",
    "Unreachable",
    "Verdict",
    "WriteTrial",
    "all_lexicons",
    "chosen_jobs",
    "do",
    "find_dialogue",
    "find_lexicon",
    "find_sheet",
    "fixture_at",
    "found_ports",
    "hail",
    "lexicon_on",
    "listen",
    "open_module",
    "open_port",
    "open_session",
    "places_of",
    "port_named",
    "prove_flow",
    "provision",
    "read",
    "rehearse_dialogue",
    "rehearse_listening",
    "rehearse_seat",
    "rehearse_sweep",
    "rehearse_traffic",
    "rig",
    "run",
    "set_values",
    "sweep",
    "talk_session",
    "tap",
    "traffic",
    "try_settings",
    "try_starts",
    "verify",
]


def __getattr__(name: str) -> object:
    """What single commands use, imported when it is used."""
    if name == "TrafficOrder":
        from wexicon.work.function.traffic import TrafficOrder

        return TrafficOrder
    if name == "FlowOrder":
        from wexicon.work.function.flow_proof import FlowOrder

        return FlowOrder
    if name in ("ListenOrder", "Listened"):
        from wexicon.work.function import listening

        return getattr(listening, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


# How many full parts of a listener's trace are kept beside the one that is written.
TRACE_PARTS = 7
STARTS_AS_OPENED = (
    "the module starts each time the port is opened: DTR or RTS resets it. Say in a fixture how they stand: "
    "[idle] dtr = false"
)

# -- one module -----------------------------------------------------------------------------------------------------------


def hail(
    port: str,
    lexicon: str | None = None,
    setup: Setup | None = None,
    *,
    escapes: bool = False,
    given: Mapping[str, object] | None = None,
    progress: Callable[[Attempt], None] = lambda attempt: None,
) -> HailResult:
    """Detects the link and the lexicon of the module on a port, and stores them; with a `lexicon`, finds the module as that one
    says; `given` is what its actions may need. `escapes`: also say the lexicons' escapes; `progress` is shown each attempt.

        found = wexicon.hail("/dev/ttyUSB0")
        print(found.rate, found.frame, found.lexicons, found.cause)
    """
    from wexicon.work.contact.discovery import LinkDiscovery

    setup = setup or Setup()
    if lexicon:
        with open_module(port, lexicon, setup, given=given, opening=Opening(title="hail")) as module:
            result = hail_with(module, HailResult(port))
        result.trace = module.trace
        return result
    known, links = remembered(port), setup.links(None, port)
    first = links[0] if links else None
    asked = first if setup.rate or setup.frame else None
    with open_session(port, None, setup, Opening(title="hail", tuning=first)) as (session, trace):
        search = LinkDiscovery(
            session, all_lexicons(), known=known, with_escapes=escapes, progress=progress, first=asked
        )
        result = search.run()
    within, link = search.starts_within, Tuning.of(result.rate, result.frame) if result.found else Tuning()
    if within and result.found and _starts_as_opened(port, setup, link, within):
        result.remarks.append(STARTS_AS_OPENED)
    if result.found:
        match = result.lexicons[0] if result.lexicons else ""
        remember(port, Tuning.of(result.rate, result.frame), result.end, match)
    result.trace = str(trace)
    return result


def _starts_as_opened(port: str, setup: Setup, tuning: Tuning, within: float) -> bool:
    """Opens a port again, and listens for `within` seconds whether that has its module start."""
    from wexicon.work.contact.symptoms import Symptoms

    again = msgspec.structs.replace(setup, trace=None)
    with open_session(port, None, again, Opening(title="hail", tuning=tuning)) as (session, _):
        session.listen(session.clock.now() + within, lambda: Symptoms(session, None).started())
        return Symptoms(session, None).started()


def lexicon_on(
    port: str, name: str | None = None, setup: Setup | None = None, beside: Path = Path()
) -> tuple[Lexicon, HailResult | None]:
    """The lexicon of the module on a port: the one of this name, or the one that is stored for the port, or the one that `hail`
    finds, with its result."""
    if name:
        return lexicon_for(name, beside), None
    if stored := stored_lexicon(port):
        return stored, None
    result = hail(port, None, msgspec.structs.replace(setup or Setup(), trace=None))
    if not result.lexicons:
        raise _not_found(port, result)
    return find_lexicon(result.lexicons[0]), result


def stored_lexicon(port: str) -> Lexicon | None:
    """The lexicon that is stored for a port; None if there is none, or no longer. Raises CallFault if its file was changed
    since it was stored."""
    known = remembered(port)
    if known is None or not known.lexicon:
        return None
    if known.has_changed:
        hint = f"If that is as it should be, name it once: --lexicon {known.lexicon}."
        raise CallFault("the lexicon that is stored for this port was changed", where=known.lexicon, hint=hint)
    with suppress(Fault):
        return find_lexicon(known.lexicon)
    return None


def _not_found(port: str, result: HailResult) -> Fault:
    name = "Name the lexicon: --lexicon NAME; wexicon lexicon list lists them."
    if result.found:
        what = f"a module answers at {result.rate} {result.frame}; no lexicon matches"
        return CallFault(what, where=port, hint=f"{name} Or draft one: wexicon lexicon draft {port}")
    cause = result.cause
    hints = [cause.next if cause else "", *(f"{one.lexicon}: {one.operator}" for one in result.by_hand), name]
    what = f"no module was found: {cause.what if cause else 'nothing answers'}"
    asked, heard = result.tries[-1].asked if result.tries else "", [one.heard for one in result.tries if one.heard]
    part = Part(asked, heard=list(dict.fromkeys(heard))[-MOST_HEARD:])
    return Unreachable(what, where=port, hint="\n  ".join(filter(None, hints)), part=part)


@contextmanager
def open_module(
    port: str,
    lexicon: str | Lexicon | None = None,
    setup: Setup | None = None,
    *,
    given: Mapping[str, object] | None = None,
    opening: Opening | None = None,
) -> Iterator[Module]:
    """The module on a port (a path, a URL, a given name, a USB serial number, a rig's unit), by a lexicon or its name; if none
    is named it is detected. `given` is what the module's actions may need. Nothing is sent before the module is used.

        with wexicon.open_module("/dev/ttyUSB0", "lindle-l9") as module:
            print(wexicon.read(module).identity)
    """
    setup = setup or Setup()
    path = port_named(port)
    found = lexicon if isinstance(lexicon, Lexicon) else lexicon_on(path, lexicon, setup)[0]
    with module_on_port(path, found, setup, opening or Opening(title="module"), given) as module:
        yield module


def open_port(port: str, rate: int = 9600, frame: str = "8N1") -> Link:
    r"""A port by itself, as a context manager: bytes are sent and received, nothing is known of a module. Raises Unreachable or
    CallFault.

        with wexicon.open_port("/dev/ttyUSB0", 9600) as port:
            port.write(b"@who?\n")
            print(port.read(port.clock.now() + 0.5))
    """
    from wexicon.links import port as ports

    return ports.open_port(port_named(port), Tuning.of(rate, frame))


def read(module: Module) -> UnitResult:
    """Identifies a module and reads every setting.

    with wexicon.open_module("/dev/ttyUSB0", "lindle-l9") as module:
        for line in wexicon.read(module).require().settings:
            print(line.name, line.before)
    """
    return read_out(module).about("", module.session.link.name, module.lexicon, module.trace)


def set_values(
    module: Module, values: Mapping[str, Value], *, prove: Prove = Prove.AUTO, plan: bool = False
) -> UnitResult:
    """Writes settings, given as plain values that the lexicon allows, and reads them back; `plan`: a dry run.

    with wexicon.open_module("/dev/ttyUSB0", "lindle-l9") as module:
        made = wexicon.set_values(module, {"name": "Withy Point", "power": 12})
    print(made.require().verdict, made.evidence)
    """
    store = FileStore(state_folder() / "unfinished")
    checked = {name: module.lexicon.setting(name).check(value) for name, value in values.items()}
    result = write_and_prove(module, Order(checked, prove, plan=plan), store=store)
    return result.about("", module.session.link.name, module.lexicon, module.trace)


def do(module: Module, action: str, values: Mapping[str, object] | None = None, *, plan: bool = False) -> ActionResult:
    """Runs one action of the module's lexicon with its parameters; `plan`: a dry run.

    with wexicon.open_module("/dev/ttyUSB0", "lindle-l9") as module:
        print(wexicon.do(module, "send", {"to": 2, "data": "tide 1.204"}).require().seconds)
    """
    result = do_action(module, action, values or {}, plan=plan)
    result.port, result.lexicon, result.trace = module.session.link.name, module.lexicon.about.family, module.trace
    return result


def try_starts(module: Module) -> StartTrial:
    """Tries what a restart of the module does, and how long its save takes; puts back what it changed for that."""
    from wexicon.work.drafting.start_trial import try_starts

    return try_starts(module, FileStore(state_folder() / "unfinished"))


def try_settings(module: Module, *, beyond: bool = False) -> WriteTrial:
    """Tries the settings of the module's lexicon: reads, writes back, and with `beyond` tries both ends of each range and
    values outside of it; puts back what it changed. Nothing is saved."""
    from wexicon.work.drafting.write_trial import try_settings

    return try_settings(module, FileStore(state_folder() / "unfinished"), beyond=beyond)


def compare_with(module: Module, values: Mapping[str, Value]) -> UnitResult:
    """Compares a module with values that the lexicon allows; writes nothing."""
    result = compare(module, Order(values, Prove.READING))
    return result.about("", module.session.link.name, module.lexicon, module.trace)


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
        from wexicon.work.function.parties import check_ports

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
    result.trace = str(trace)
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
    from wexicon.work.function.dialogues import run_with_parties
    from wexicon.work.function.parties import Ending, lexicons_of, parties_on_ports

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
    result.trace = str(made.trace)
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
    from wexicon.work.function.listening import Ears, check_order, listen

    path, setup, order = port_named(port), setup or Setup(), order or default_listening()
    found = _known(path, lexicon)
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
    made.result.trace = str(trace)
    return made


def default_listening() -> ListenOrder:
    """Listens until it is stopped, and says nothing."""
    from wexicon.work.function.listening import ListenOrder

    return ListenOrder()


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


# -- between a host and its module ------------------------------------------------------------------------------------------


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


# -- sheets ---------------------------------------------------------------------------------------------------------------


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


# -- between modules ------------------------------------------------------------------------------------------------------


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
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest, prepare
    from wexicon.work.function.traffic_ends import endpoint_on

    setup, order = setup or Setup(), order or TrafficOrder()
    if not 1 <= len(ports) <= 2 or len(set(ports)) < len(ports):
        raise CallFault("traffic needs one port or two", hint="Name A and B, or A alone.")
    paths = [port_named(port) for port in ports]
    if setup.trace and len(paths) > 1:
        raise CallFault("--trace cannot be used with two ports: each gets a dated trace", hint="Remove --trace.")
    with ExitStack() as stack:
        traces: list[str] = []
        ends = [
            endpoint_on(stack, path, _known(path, lexicon), order, setup, traces, transparent=transparent)
            for path in paths
        ]
        prepare(ends, order.size)
        test = TrafficTest(ends, order, ports)
        watch(test)
        result = test.run(setup.stopping)
    result.traces = traces
    return result


def _known(port: str, lexicon: str | None) -> Lexicon | None:
    """The lexicon that was named, or that is stored for the port."""
    return lexicon_for(lexicon, Path()) if lexicon else stored_lexicon(port)


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
    from wexicon.core.formats.points import points_of
    from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint
    from wexicon.work.function.sweeps import sweep
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest, prepare
    from wexicon.work.function.traffic_ends import endpoint_on
    from wexicon.work.provisioning.unfinished import FileStore

    setup, order = setup or Setup(), order or TrafficOrder()
    if len(ports) != 2 or ports[0] == ports[1]:
        raise CallFault("a sweep needs two ports", hint="Name A and B.")
    known = _known(port_named(ports[0]), lexicon)
    if known is None:
        raise CallFault("a sweep needs the lexicon of the modules", hint="Name it: --lexicon NAME.")
    points = points_of(settings, known)
    with ExitStack() as stack:
        traces: list[str] = []
        paths = [port_named(port) for port in ports]
        made = [endpoint_on(stack, path, _known(path, lexicon), order, setup, traces, swept=True) for path in paths]
        ends = [one for one in made if isinstance(one, CommandEndpoint | DataEndpoint)]
        if len(ends) < 2 or any(one.module.lexicon.digest != known.digest for one in ends):
            raise CallFault("a sweep needs two modules of one family")
        store = FileStore(state_folder() / "unfinished")

        def run() -> TrafficResult:
            prepare(ends, order.size)
            return TrafficTest(ends, order, ports).run(setup.stopping)

        result = sweep(ends, points, run, store, measured)
        result.require_something()
    result.ports, result.traces = list(ports), traces
    return result


def prove_flow(
    ports: Sequence[str], order: FlowOrder | None = None, lexicon: str | None = None, setup: Setup | None = None
) -> FlowResult:
    """Whether flow control holds: packets from the first port, or round a looped one, to a reader that does not read. The
    kind of flow control is that of `setup`, or of the lexicon."""
    from wexicon.work.function.flow_proof import FlowOrder, prove_flow
    from wexicon.work.function.traffic import TrafficOrder
    from wexicon.work.function.traffic_ends import endpoint_on

    setup = setup or Setup()
    if not 1 <= len(ports) <= 2 or len(set(ports)) < len(ports):
        raise CallFault("flow control is proved over one port or two", hint="Name A and B, or A alone.")
    paths = [port_named(port) for port in ports]
    known = [_known(path, lexicon) for path in paths]
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


# -- stand-ins: imported when they are used -------------------------------------------------------------------------------


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


def secrets_of(values: Mapping[str, object]) -> Secrets:
    """These values as secrets of a session: they are masked everywhere."""
    made = Secrets()
    for value in values.values():
        made.learn(value)
    return made
