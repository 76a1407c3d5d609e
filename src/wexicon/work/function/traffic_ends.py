"""The ends of a traffic test on ports.

The rule: a module whose lexicon says how it sends by command does so; all others pass everything through.
"""

from __future__ import annotations

from contextlib import ExitStack

from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.tuning import Tuning
from wexicon.work.contact.sessions import Opening, Setup, open_session
from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint, Endpoint, TransparentEndpoint
from wexicon.work.function.traffic import TrafficOrder
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on_port


def endpoint_on(
    stack: ExitStack,
    port: str,
    lexicon: Lexicon | None,
    order: TrafficOrder,
    setup: Setup,
    traces: list[str],
    *,
    transparent: bool = False,
    swept: bool = False,
) -> Endpoint:
    """One end, ready to send, open until the stack ends; its trace file is added to `traces`. One that is `swept` is in command
    mode. Raises Fault."""
    table = lexicon.traffic if lexicon and not transparent else None
    if table and not order.lines:
        raise CallFault(f"{port}: its module sends text by command", hint="Remove --bytes.")
    links = setup.links(lexicon, port)
    opening = Opening(title="traffic")
    if lexicon is None or (table is None and not swept):
        opening.tuning = next(iter(links), lexicon.factory if lexicon else Tuning())
        session, trace = stack.enter_context(open_session(port, None, setup, opening))
        traces += [trace] if trace else []
        return TransparentEndpoint(session, lexicon)
    end = CommandEndpoint()
    module = stack.enter_context(module_on_port(port, lexicon, setup.heard_by(end), opening))
    traces += [module.trace] if module.trace else []
    return ready(end, module)


def ready(end: CommandEndpoint, module: Module) -> CommandEndpoint | DataEndpoint:
    """The end of a module in command mode, which `end` listens to. Raises Fault."""
    module.attention.gain([*module.likely, module.lexicon.factory])
    module.identify()
    if module.lexicon.traffic is None:
        return DataEndpoint(module)
    end.use(module, module.lexicon.traffic)
    return end
