"""One module on a port: find it, open it, read and set it, run its actions, try its lexicon.

The rule: nothing is said to a module before it is used; whatever happens on an open port ends in a result.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault, Fault, Part, Unreachable
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.wanted import check_wanted, known_values, require
from wexicon.core.protocol.masking import Secrets
from wexicon.core.results.listed import Attempt, HailResult
from wexicon.core.results.result import Prove
from wexicon.core.results.unit import ActionResult, StartTrial, UnitResult, WriteTrial
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value
from wexicon.files import state_folder
from wexicon.work.contact.catalog import (
    all_lexicons,
    find_lexicon,
    lexicon_for,
)
from wexicon.work.contact.ports import port_named, remember, remembered
from wexicon.work.contact.sessions import Opening, Setup, open_session
from wexicon.work.function.actions import do_action
from wexicon.work.module.module import Module
from wexicon.work.module.opening import hail_with, module_on_port
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision as write_and_prove
from wexicon.work.provisioning.run import read_out
from wexicon.work.provisioning.run import verify as compare
from wexicon.work.provisioning.unfinished import FileStore

if TYPE_CHECKING:
    from wexicon.core.protocol.link import Link


STARTS_AS_OPENED = (
    "the module starts each time the port is opened: DTR or RTS resets it. Say in a fixture how they stand: "
    "[idle] dtr = false"
)


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
    result.trace = trace
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
    told = ([one for one in result.tries if one.heard] or result.tries)[-1:]
    part = Part(told[0].asked, heard=[told[0].heard] if told[0].heard else []) if told else Part()
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
    _, wanted, complaints = check_wanted(module.lexicon, values)
    require(complaints)
    result = write_and_prove(module, Order(known_values(wanted), prove, plan=plan), store=store)
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
    from wexicon.work.drafting.trials import try_settings

    return try_settings(module, FileStore(state_folder() / "unfinished"), beyond=beyond)


def compare_with(module: Module, values: Mapping[str, Value]) -> UnitResult:
    """Compares a module with values that the lexicon allows; writes nothing."""
    result = compare(module, Order(values, Prove.READING))
    return result.about("", module.session.link.name, module.lexicon, module.trace)


def known_lexicon(port: str, lexicon: str | None) -> Lexicon | None:
    """The lexicon that was named, or that is stored for the port."""
    return lexicon_for(lexicon, Path()) if lexicon else stored_lexicon(port)


def secrets_of(values: Mapping[str, object]) -> Secrets:
    """These values as secrets of a session: they are masked everywhere."""
    made = Secrets()
    for value in values.values():
        made.learn(value)
    return made
