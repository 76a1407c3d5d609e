"""What every command that works with a module takes: hands, patience, fixture, trace, proof; and a way to stop.

The rule: Ctrl-C once stops after the current exchange; twice stops at once. So does a request to end from the system.
"""

from __future__ import annotations

import contextlib
import signal
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from types import FrameType
from typing import Any

import click

from wexicon.cli.progress import Person, Progress
from wexicon.cli.show import force_option, json_option
from wexicon.core.durations import seconds
from wexicon.core.operator import Nobody, Operator
from wexicon.core.tuning import FLOWS


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
        with contextlib.suppress(OSError):
            click.echo("\nstopping after this exchange (Ctrl-C again: stop now)", err=True)

    @contextlib.contextmanager
    def listening(self) -> Iterator[Stop]:
        """Takes Ctrl-C, and the system's requests to end, while the block lasts."""
        numbers = [signal.SIGINT, signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else [])]
        try:
            before = [(number, signal.signal(number, self._caught)) for number in numbers]
        except ValueError:  # not in the main thread: nobody can press Ctrl-C here
            yield self
            return
        try:
            yield self
        finally:
            for number, handler in before:
                signal.signal(number, handler)


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
    help="Who operates keys and power: a person, the rig that serves the port, or nobody.",
)
patience_option = click.option(
    "--patience",
    type=Duration(),
    default="60s",
    show_default=True,
    help="How long to wait for the operator.",
)
fixture_option = click.option(
    "--fixture",
    "fixture_path",
    type=click.Path(path_type=Path),
    help="Fixture file: maps control lines to the key and power pins.",
)
trace_option = click.option(
    "--trace",
    "trace_path",
    type=click.Path(path_type=Path),
    help="Where to write the trace.  [default: a dated file in the state folder]",
)
lexicon_option = click.option(
    "--lexicon", "-l", "lexicon_name", help="Name or file of the lexicon.  [default: detected]"
)


def prove_option(default: str) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """The evidence that a command requires."""
    return click.option(
        "--prove",
        type=click.Choice(["auto", "power", "restart", "reading"]),
        default=default,
        show_default=True,
        help="Evidence required: a power cycle, a restart, or the reading alone; auto is the strongest that needs no extra "
        "operator action.",
    )


rate_option = click.option("--rate", type=click.IntRange(1), help="Baud rate to try first.")
frame_option = click.option("--frame", help="Data bits, parity and stop bits to try first, such as 8N1 or 7E2.")
flow_option = click.option("--flow", type=click.Choice(FLOWS), help="Flow control.  [default: the lexicon's, or none]")


def working_options(command: Callable[..., None]) -> Callable[..., None]:
    """The options of every command that speaks to a module: link, hands, patience, fixture, trace, JSON."""
    for option in (
        json_option,
        force_option,
        trace_option,
        fixture_option,
        patience_option,
        operator_option,
        flow_option,
        frame_option,
        rate_option,
    ):
        command = option(command)
    return command


def operator_for(hands: str, port: str, progress: Progress) -> Operator:
    """Who does what only hands can do."""
    if hands == "rig":
        from wexicon.rig.control import RemoteOperator

        return RemoteOperator(port)
    return Nobody() if hands == "nobody" else Person(progress)


def ask_secret() -> Callable[[str], str] | None:
    """Asks for a secret, hidden; None where there is no terminal to ask on."""
    if not sys.stdin.isatty():
        return None
    return lambda name: str(click.prompt(name, hide_input=True, err=True))
