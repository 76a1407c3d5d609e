"""A module on a port, by its lexicon; the link at which it answered is stored for the port when it is closed.

The rule: no command has to search for a module that an earlier command has found.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.session import Session
from wexicon.work.contact.known_links import named, remember, remembered
from wexicon.work.contact.sessions import Opening, Setup, open_session
from wexicon.work.module.module import Module


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
        remember(port, link, module.session.dialect.speech.end, named(lexicon))
