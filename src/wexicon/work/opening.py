"""A session on a port: the link opened, the trace begun, both closed whatever happens."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.observations import Listener, Listeners
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning
from wexicon.links.port import open_port
from wexicon.records.trace import Record, TraceWriter
from wexicon.work.finding import state_folder


def default_trace(name: str) -> Path:
    """A file for a new trace, named by date and what it is about."""
    plain = re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-")
    return state_folder() / "traces" / f"{datetime.now():%Y-%m-%d-%H%M%S-%f}-{plain}.jsonl"


@contextlib.contextmanager
def session_on(
    port: str,
    lexicon: Lexicon | None,
    *,
    trace: Path,
    secrets: list[str] | None = None,
    dialect: Dialect | None = None,
    tuning: Tuning | None = None,
    live: Callable[[Record], None] | None = None,
    stopping: Callable[[], bool] = lambda: False,
    listener: Listener | None = None,
) -> Iterator[Session]:
    """A session on a port, traced, that stops when `stopping` says so. `live` is shown each record as it is written,
    `listener` told each observation."""
    dialect = dialect or (lexicon.dialect if lexicon else Dialect(Speech()))
    if tuning is None:
        tuning = (lexicon.attention.tuning or lexicon.delivered) if lexicon else Tuning()
    link = open_port(port, tuning)
    try:
        end = dialect.speech.end
        writer = TraceWriter(trace, link.clock, link=port, tuning=tuning, end=end, secrets=secrets or (), live=live)
    except OSError as fault:
        link.close()
        raise CallFault(f"the trace cannot be written: {fault.strerror}", where=str(trace)) from None
    try:
        yield Session(link, dialect, Listeners(writer, listener) if listener else writer, stopping)
    finally:
        writer.close()
        link.close()
