"""A module on a port, opened in one way for every command: link, hands, patience, fixture, trace, progress, a way to stop.

The rule: what a command was given for that stands in one `Working`. The link that is remembered for the port is tried
first, and the link at which the module answered is remembered.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from wexicon.cli.options import Stop, operator_for, working_options
from wexicon.cli.progress import Progress
from wexicon.core.faults import CallFault
from wexicon.core.operator import Operator
from wexicon.core.protocol.observations import Listener, Listeners
from wexicon.core.tuning import Tuning

if TYPE_CHECKING:
    from wexicon.core.formats.fixture import Fixture
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.protocol.dialect import Dialect
    from wexicon.core.protocol.masking import Secrets
    from wexicon.core.protocol.session import Session
    from wexicon.records.trace import Record
    from wexicon.work.module.module import Module


class Working(msgspec.Struct):
    """How a module on a port is worked with, as the call said."""

    hands: str
    patience: float
    fixture_path: Path | None
    trace_path: Path | None
    force: bool
    rate: int | None
    frame: str | None
    flow: str | None

    def trace(self, title: str) -> Path:
        """Where the trace is written."""
        from wexicon.work.contact.sessions import default_trace

        if self.trace_path is None:
            self.trace_path = default_trace(title)
        return self.trace_path

    def links(self, lexicon: Lexicon | None, port: str) -> list[Tuning]:
        """The links to try first: the one that was asked for, then the one that is remembered. Raises CallFault."""
        from wexicon.work.contact.known_links import remembered

        known = remembered(port)
        found = [known.tuning] if known else []
        if self.rate or self.frame:
            usual = lexicon.factory if lexicon else found[0] if found else Tuning()
            try:
                found.insert(0, Tuning.of(self.rate or usual.rate, self.frame or usual.frame))
            except ValueError as fault:
                raise CallFault(str(fault)) from None
        return found

    def hands_and_links(self, lexicon: Lexicon | None, port: str) -> tuple[Fixture, list[Tuning]]:
        """The fixture, and the links to try first. Raises Fault where the call is wrong."""
        from wexicon.work.contact.catalog import fixture_at

        return fixture_at(self.fixture_path), self.links(lexicon, port)

    @contextmanager
    def session(
        self,
        port: str,
        lexicon: Lexicon | None,
        title: str,
        *,
        told: str = "",
        secrets: Secrets | None = None,
        dialect: Dialect | None = None,
        tuning: Tuning | None = None,
        live: Callable[[Record], None] | None = None,
        quiet: bool = False,
        listener: Listener | None = None,
        heeds_stop: bool = True,
    ) -> Iterator[tuple[Session, Operator]]:
        """A session on the port, traced, with somebody to work the module. `told` is what is being done, as progress tells
        it. Raises Fault where the port cannot be opened."""
        from wexicon.work.contact.sessions import session_on

        with (
            Progress(told or title, quiet=quiet) as progress,
            Stop().listening() if heeds_stop else nullcontext(Stop()) as stop,
            session_on(
                port,
                lexicon,
                trace=self.trace(title),
                secrets=secrets,
                dialect=dialect,
                tuning=tuning,
                live=live,
                force=self.force,
                stopping=stop,
                listener=Listeners(progress, listener) if listener else progress,
                flow=self.flow,
            ) as session,
        ):
            yield session, operator_for(self.hands, port, progress)

    @contextmanager
    def module(
        self,
        port: str,
        lexicon: Lexicon,
        title: str,
        *,
        told: str = "",
        secrets: Secrets | None = None,
        given: Mapping[str, Any] | None = None,
    ) -> Iterator[Module]:
        """A module on the port, by its lexicon. Raises Fault where the port cannot be opened."""
        # What is wrong with the call is told before the port is opened.
        hands = self.hands_and_links(lexicon, port)
        with (
            self.session(port, lexicon, title, told=told, secrets=secrets) as (session, operator),
            self.module_on(session, operator, port, lexicon, hands, given=given) as module,
        ):
            yield module

    @contextmanager
    def module_on(
        self,
        session: Session,
        operator: Operator,
        port: str,
        lexicon: Lexicon,
        hands: tuple[Fixture, list[Tuning]],
        *,
        given: Mapping[str, Any] | None = None,
    ) -> Iterator[Module]:
        """A module on a session, with its `hands_and_links`; where it answered is remembered."""
        from wexicon.work.module.module import Module
        from wexicon.work.module.opening import remember_module

        fixture, likely = hands
        module = Module(session, lexicon, operator, patience=self.patience, fixture=fixture, given=given, likely=likely)
        try:
            yield module
        finally:
            remember_module(port, module)


def works_a_module(command: Callable[..., None]) -> Callable[..., None]:
    """A command that speaks to a module: it is given `how`, a Working, and `as_json`."""

    @functools.wraps(command)
    def called(**given: Any) -> None:
        how = Working(**{name: given.pop(name) for name in Working.__struct_fields__})
        command(how=how, **given)

    return working_options(called)
