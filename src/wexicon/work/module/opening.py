"""A module on a port, by its lexicon: opened, hailed, and stored for the port with its link when it is closed; what answers a
line that was typed or read from a file; and what a module was, as the trace of an earlier session has it.

The rule: no command has to search for a module that an earlier command has found. It is found when it has answered and
identified itself. What a trace tells is read from it as from a module, by the same code.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from wexicon.core.faults import CallFault, Fault, ModuleFault, Stopped
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.forms import Does
from wexicon.core.module_state.reader import Part
from wexicon.core.protocol.dialect import Dialect, Expectation, Want
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.session import Session
from wexicon.core.results.listed import Cause, HailResult
from wexicon.core.values import Value
from wexicon.work.contact.ports import named, remember, remembered
from wexicon.work.contact.sessions import Opening, Setup, open_session
from wexicon.work.module.module import Module

if TYPE_CHECKING:
    from wexicon.core.protocol.recorded import Recorded


@contextmanager
def module_on_port(
    port: str,
    lexicon: Lexicon,
    setup: Setup,
    opening: Opening | None = None,
    given: Mapping[str, object] | None = None,
) -> Iterator[Module]:
    """The module on a port; `given` is what its actions may need. Raises Fault if the port cannot be opened."""
    # An error in the call is reported before the port is opened.
    setup.links(lexicon, port)
    with (
        open_session(port, lexicon, setup, opening) as (session, trace),
        module_on(session, port, lexicon, setup, given) as module,
    ):
        module.trace = trace
        yield module


@contextmanager
def module_on(
    session: Session, port: str, lexicon: Lexicon, setup: Setup, given: Mapping[str, object] | None = None
) -> Iterator[Module]:
    """The module on an open session."""
    module = Module(
        session,
        lexicon,
        setup.operator(port),
        patience=setup.patience,
        fixture=setup.fixture,
        given=given,
        likely=setup.links(lexicon, port),
    )
    if left := setup.fixture.put_right(session):
        module.attention.remark(left)
    if module.operator.switches_power:
        # A run that was killed may have left it off.
        module.operator.ask("power-on", "")
    try:
        yield module
    finally:
        _remember(port, module)


def _remember(port: str, module: Module) -> None:
    """Stores where a module is expected next, if it has answered at all."""
    if module.attention.managed:
        lexicon, link = module.lexicon, module.session.link.tuning
        if lexicon.attention.tuning:
            # The rate of command mode is in the lexicon; the rate of data mode is worth storing.
            before = remembered(port)
            followed = module.data_link != lexicon.factory or before is None
            link = module.data_link if followed or before is None else before.tuning
        mode, joined = module.state.mode, module.state.joined
        remember(
            port,
            link,
            module.session.dialect.speech.end,
            named(lexicon),
            mode.value if mode else "",
            joined=bool(joined and joined.value),
        )


def hail_with(module: Module, result: HailResult) -> HailResult:
    """Finds a module by its lexicon."""
    session, lexicon = module.session, module.lexicon
    began = session.clock.now()
    try:
        link = module.attention.gain([*module.likely, lexicon.factory])
        identity = module.identify()
    except Stopped:
        raise
    except Fault as fault:
        result.cause = Cause("", fault.what, fault.hint)
    else:
        result.found, result.rate, result.frame, result.identity = True, link.rate, link.frame, dict(identity)
        result.end, result.family, result.lexicons = session.dialect.speech.end, lexicon.about.family, [named(lexicon)]
        result.command = f"wexicon readout {session.link.name}"
    result.remarks += module.attention.remarks
    result.seconds = round(session.clock.now() - began, 6)
    return result


LINES = Expectation((Want(Pattern("{line}"), gather=True),))
_LINE = Expectation((Want(Pattern("{line}")),))


def expected(parts: Sequence[Part], dialect: Dialect) -> tuple[Expectation, float | None]:
    """What answers a line of these parts, and how long that may take (seconds; None: as the dialect says)."""
    form = parts[0].form if len(parts) == 1 and parts[0].as_written else None
    if form and (form.does is not Does.WRITES or form.payload):
        return form.expect, form.within
    speech = dialect.speech
    ends = dialect.form == "lines" and (speech.closing == "prompt" or (speech.closing == "always" and speech.ok))
    return (LINES if ends else _LINE), None


def values_in_trace(path: Path, lexicon: Lexicon) -> dict[str, Value]:
    """The settings as a recorded session read them last, but for secrets. Raises Fault."""
    from wexicon.core.agenda import Agenda
    from wexicon.records.trace import recorded
    from wexicon.rigs.rig import Rig, UnitTable
    from wexicon.work.contact.standins import on_ports

    bench = Rig("", {"trace": UnitTable("recording")}, Agenda(), None, lambda name: _latest(recorded(path)))
    names = [name for name, setting in lexicon.settings.items() if not setting.secret and not setting.from_link]
    found: dict[str, Value] = {}
    bench.power_up()
    opening = Opening(tuning=bench.unit("trace").standin.uart.tuning)
    with on_ports(bench) as setup, module_on_port("virtual://trace", lexicon, setup, opening) as module:
        for name in names:
            # What the trace has no answer for is not in it.
            with suppress(ModuleFault):
                value = module.settings.read([name])[name].value
                if value is not None:
                    found[name] = value
    if not found:
        hint = "Take the trace of a readout, a verify or a provision with this lexicon."
        raise CallFault(f"no setting of {lexicon.about.family} was read in it", where=str(path), hint=hint)
    return found


def _latest(told: Recorded) -> Recorded:
    """The last exchange of each line, all on one link."""
    last = {one.said: one for one in told.exchanges if one.said is not None and one.heard}
    kept = [replace(one, tuning=told.tuning) for one in last.values()]
    return replace(told, exchanges=kept)
