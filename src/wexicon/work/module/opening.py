"""A module on an open session; the link at which it answered is stored for its port when it is closed.

The rule: a command never has to search for a module that an earlier command has found.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import Operator
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.work.contact.attention import PATIENCE
from wexicon.work.contact.known_links import named, remember, remembered
from wexicon.work.module.module import Module


@contextmanager
def module_on(
    session: Session,
    port: str,
    lexicon: Lexicon,
    operator: Operator,
    *,
    patience: float = PATIENCE,
    fixture: Fixture | None = None,
    given: Mapping[str, Any] | None = None,
    likely: Sequence[Tuning] = (),
) -> Iterator[Module]:
    """The module on a session. `given` is what its actions may need, `likely` the links to try first."""
    module = Module(session, lexicon, operator, patience=patience, fixture=fixture, given=given, likely=likely)
    try:
        yield module
    finally:
        remember_module(port, module)


def remember_module(port: str, module: Module) -> None:
    """Stores where a module is expected next, if it has answered at all."""
    if module.attention.managed:
        lexicon, link = module.lexicon, module.session.link.tuning
        if lexicon.attention.tuning:
            # The rate of command mode is in the lexicon; the rate of data mode is worth storing.
            before = remembered(port)
            followed = module.data_link != lexicon.factory or before is None
            link = module.data_link if followed or before is None else before.tuning
        remember(port, link, module.session.dialect.speech.end, named(lexicon))
