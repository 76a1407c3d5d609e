"""A session on a port: the link opened, the trace begun, both closed whatever happens."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listener, Listeners
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import FLOWS, Tuning
from wexicon.files import private_folder
from wexicon.links.port import open_port
from wexicon.records.trace import Record
from wexicon.records.trace_writer import Live, TraceWriter
from wexicon.work.contact.catalog import state_folder


def default_trace(name: str) -> Path:
    """A file for a new trace, named by date and what it is about."""
    plain = re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-")
    return private_folder(state_folder() / "traces") / f"{datetime.now():%Y-%m-%d-%H%M%S-%f}-{plain}.jsonl"


@contextlib.contextmanager
def session_on(
    port: str,
    lexicon: Lexicon | None,
    *,
    trace: Path,
    secrets: Secrets | None = None,
    dialect: Dialect | None = None,
    tuning: Tuning | None = None,
    live: Callable[[Record], None] | None = None,
    force: bool = False,
    stopping: Callable[[], bool] = lambda: False,
    listener: Listener | None = None,
    flow: str | None = None,
) -> Iterator[Session]:
    """A session on a port, traced, that stops when `stopping` says so. `live` is shown each record as it is written,
    `listener` told each observation."""
    dialect = dialect or (lexicon.dialect if lexicon else Dialect(Speech()))
    if tuning is None:
        tuning = (lexicon.attention.tuning or lexicon.factory) if lexicon else Tuning()
    link = open_port(port, tuning, flow or (lexicon.flow if lexicon else FLOWS[0]))
    try:
        speech = dialect.speech
        writer = TraceWriter(
            trace, link.clock, link=port, tuning=tuning, end=speech.end, form=speech.answer, force=force
        )
    except Fault:
        link.close()
        raise
    also = [Live(live, link.clock.now())] if live else []
    session = Session(link, dialect, Listeners(writer, *also, *([listener] if listener else [])), stopping, secrets)
    try:
        yield session
    finally:
        session.listener.flush()
        writer.close()
        link.close()
