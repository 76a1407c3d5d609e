"""What every command that speaks to a module needs: a link, a session with its trace, hands, and a way to stop.

The rule: Ctrl-C once stops after the current exchange; twice stops at once. The trace is closed whatever happens.
"""

from __future__ import annotations

import contextlib
import re
import signal
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from types import FrameType
from typing import Any

import click

from wexicon.cli.show import Person, Progress, json_option
from wexicon.core.durations import seconds
from wexicon.core.formats.fixture import Fixture, read_fixture
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import Nobody, Operator
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning
from wexicon.links.port import open_port
from wexicon.records.trace import Record, TraceWriter
from wexicon.work.finding import read_file, state_folder


class Stop:
    """Whether the person wants to stop."""

    def __init__(self) -> None:
        self.asked = False

    def __call__(self) -> bool:
        return self.asked

    def _caught(self, number: int, frame: FrameType | None) -> None:
        if self.asked:
            raise KeyboardInterrupt
        self.asked = True
        click.echo("\nstopping after this exchange (again: at once)", err=True)

    @contextlib.contextmanager
    def listening(self) -> Iterator[Stop]:
        """Takes Ctrl-C while the block lasts."""
        try:
            before = signal.signal(signal.SIGINT, self._caught)
        except ValueError:  # not in the main thread: nobody can press Ctrl-C here
            yield self
            return
        try:
            yield self
        finally:
            signal.signal(signal.SIGINT, before)


class Duration(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """A duration option such as 30s."""

    name = "duration"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        try:
            return seconds(str(value))
        except ValueError as fault:
            self.fail(str(fault), param, ctx)


operator_option = click.option(
    "--operator",
    "hands",
    type=click.Choice(["person", "rig", "nobody"]),
    default="person",
    show_default=True,
    help="Who works keys and power: you, the rig that has the port, or nobody.",
)
patience_option = click.option(
    "--patience",
    type=Duration(),
    default="60s",
    show_default=True,
    help="How long to wait for what the operator is to do.",
)
fixture_option = click.option(
    "--fixture",
    "fixture_path",
    type=click.Path(path_type=Path),
    help="Which control line drives which pin, so that a jig holds the key and cuts the power.",
)
trace_option = click.option(
    "--trace", "trace_path", type=click.Path(path_type=Path), help="Where to write the trace.  [default: kept by date]"
)
lexicon_option = click.option("--lexicon", "-l", "lexicon_name", required=True, help="Name or file of the lexicon.")


def works_a_module(command: Callable[..., None]) -> Callable[..., None]:
    """The options of every command that speaks to a module: hands, patience, fixture, trace, JSON."""
    for option in (json_option, trace_option, fixture_option, patience_option, operator_option):
        command = option(command)
    return command


def operator_for(hands: str, port: str, progress: Progress) -> Operator:
    """Who does what only hands can do."""
    if hands == "rig":
        from wexicon.rig.control import RemoteOperator

        return RemoteOperator(port)
    return Nobody() if hands == "nobody" else Person(progress)


def fixture_at(path: Path | None) -> Fixture:
    """The fixture that a file describes, or none. Raises Fault."""
    return read_fixture(read_file(path), str(path)) if path else Fixture()


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
    speech: Speech | None = None,
    tuning: Tuning | None = None,
    live: Callable[[Record], None] | None = None,
) -> Iterator[Session]:
    """A session on a port, traced, that stops when the person says so. `live` is shown each record as it is written."""
    speech = speech or (lexicon.speech if lexicon else Speech())
    if tuning is None:
        tuning = (lexicon.attention.tuning or lexicon.delivered) if lexicon else Tuning()
    link = open_port(port, tuning)
    try:
        writer = TraceWriter(
            trace, link.clock, link=port, tuning=tuning, end=speech.end, secrets=secrets or (), live=live
        )
    except OSError as fault:
        link.close()
        raise click.UsageError(f"the trace {trace} cannot be written: {fault.strerror}") from None
    try:
        with Stop().listening() as stop:
            yield Session(link, speech, lexicon.events if lexicon else None, writer, stop)
    finally:
        writer.close()
        link.close()
