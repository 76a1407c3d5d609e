"""The options of commands that work with a module, gathered into values.

The rule: an option that several commands have is defined here once, so that it means the same everywhere.
"""

from __future__ import annotations

import contextlib
import functools
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click
import msgspec

from wexicon.bench_settings import value_of
from wexicon.cli.progress import Person, Progress, Stop
from wexicon.cli.show import ask, force_option, json_option, print_warning
from wexicon.core.formats.fixture import EVIDENCE, OPERATORS
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.text import seconds
from wexicon.core.tuning import FLOWS

if TYPE_CHECKING:
    from wexicon.core.formats.sheet import Sheet
    from wexicon.work.contact.sessions import Setup

Command = Callable[..., None]
Shape = TypeVar("Shape", bound=msgspec.Struct)


class Duration(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """A duration option such as 30s."""

    name = "duration"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        try:
            return seconds(str(value))
        except ValueError as fault:
            self.fail(str(fault), param, ctx)


class Configured:
    """The default of an option that `wexicon.toml` or the environment may set: `setting` is its name there."""

    def __init__(self, setting: str, otherwise: str = "") -> None:
        self.setting, self.otherwise = setting, otherwise

    def __call__(self) -> str | None:
        return value_of(self.setting) or None

    def __str__(self) -> str:
        return self.otherwise


operator_option = click.option(
    "--operator",
    "operated_by",
    metavar="WHO",
    type=click.Choice(OPERATORS),
    default=Configured("operator", "person"),
    show_default=True,
    help="Who operates keys and power: person, rig (the one that serves the port), nobody.",
)
patience_option = click.option(
    "--patience",
    type=Duration(),
    default=Configured("patience", "60s"),
    show_default=True,
    help="How long to wait for that.",
)
fixture_option = click.option(
    "--fixture",
    "fixture_path",
    type=click.Path(path_type=Path),
    default=Configured("fixture"),
    help="Fixture file: which lines drive keys and power.",
)
trace_option = click.option(
    "--trace",
    "trace_path",
    type=click.Path(path_type=Path),
    help="Where to write the trace.  [a dated file]",
)
lexicon_option = click.option(
    "--lexicon", "-l", "lexicon_name", metavar="NAME", help="Lexicon, by name or file.  [detected]"
)
register_option = click.option(
    "--register",
    "register_at",
    metavar="URL",
    default=Configured("register"),
    help="The register: a file or a database URL.  [your own]",
)
allow_option = click.option(
    "--allow-folder",
    "allowed",
    multiple=True,
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    help="Folder from which the sheet may read, too.",
)
rate_option = click.option("--rate", metavar="BAUD", type=click.IntRange(1), help="Baud rate to try first.")
frame_option = click.option("--frame", metavar="FRAME", help="Frame to try first, such as 8N1 or 7E2.")
station_option = click.option(
    "--station", metavar="N", type=click.IntRange(0), help="Station number to try first, on a shared line."
)
flow_option = click.option(
    "--flow", metavar="KIND", type=click.Choice(FLOWS), help=f"Flow control: {', '.join(FLOWS)}.  [the lexicon's]"
)


# Messages that were printed already: each is printed once.
_TOLD: set[str] = set()


def prove_option(default: str) -> Callable[[Command], Command]:
    """The evidence that a command requires."""
    return click.option(
        "--prove",
        metavar="EVIDENCE",
        type=click.Choice(EVIDENCE),
        default=Configured("prove", default) if default == "auto" else default,
        show_default=True,
        help="power, restart, reading, twice (two starts), or auto: the strongest without extra operator action.",
    )


def tests_option(default: str) -> Callable[[Command], Command]:
    """Which of the sheet's tests are run."""
    return click.option(
        "--tests",
        metavar="WHICH",
        type=click.Choice(["all", "harmless", "none"]),
        default=default,
        show_default=True,
        help="The sheet's tests: all, none, or harmless (they write no setting).",
    )


class Working(msgspec.Struct, kw_only=True):
    """The options of every command that works with a module on a port."""

    operated_by: str
    patience: float
    fixture_path: Path | None
    trace_path: Path | None
    force: bool
    rate: int | None
    frame: str | None
    station: int | None
    flow: str | None
    as_json: bool

    def setup(self, progress: Progress | Callable[[str], Progress], stop: Stop) -> Setup:
        """How ports are reached. `progress` is where the operator is asked, or gives that for each port. Raises Fault."""
        from wexicon.work.contact.catalog import fixture_at
        from wexicon.work.contact.sessions import Setup

        told = progress if callable(progress) else lambda port: progress
        return Setup(
            operator=functools.cache(lambda port: self.operator(port, told(port))),
            patience=self.patience,
            fixture=fixture_at(self.fixture_path),
            rate=self.rate,
            frame=self.frame,
            station=self.station,
            flow=self.flow,
            trace=self.trace_path,
            force=self.force,
            stopping=stop,
            listener=None if callable(progress) else progress,
        )

    def tell_commands(self) -> None:
        """Says which programs the fixture file has run. Raises Fault."""
        from wexicon.work.contact.catalog import fixture_at

        if self.fixture_path and (commands := fixture_at(self.fixture_path).commands):
            told = f"{self.fixture_path} runs these commands: {'; '.join(commands)}"
            if told not in _TOLD:
                _TOLD.add(told)
                print_warning(told)

    def operator(self, port: str, progress: Progress) -> Operator:
        """The operator of a port."""
        if self.operated_by == "rig":
            from wexicon.rigs.control import RemoteOperator

            return RemoteOperator(port)
        return NoOperator() if self.operated_by == "nobody" else Person(progress)

    @contextlib.contextmanager
    def working(self, title: str, *, quiet: bool = False, heeds_stop: bool = True) -> Iterator[Setup]:
        """Shows progress under a title, and heeds Ctrl-C, while the block lasts."""
        self.tell_commands()
        with contextlib.ExitStack() as stack:
            progress = stack.enter_context(Progress(title, quiet=quiet))
            stop = stack.enter_context(Stop().listening()) if heeds_stop else Stop()
            yield self.setup(progress, stop)


def gathered(shape: type[Shape]) -> Callable[[Callable[[Shape], None]], Command]:
    """A command that is given all its options as one value; a field `how` is a Working, with the options that this has."""

    def wrap(command: Callable[[Shape], None]) -> Command:
        @functools.wraps(command)
        def called(**given: Any) -> None:
            if "how" in shape.__struct_fields__:
                own = {name: given.pop(name) for name in Working.__struct_fields__}
                given["how"] = Working(**own)
            command(shape(**given))

        return working_options(called) if "how" in shape.__struct_fields__ else called

    return wrap


def working_options(command: Command) -> Command:
    """The options of a Working."""
    for option in (
        json_option,
        force_option,
        trace_option,
        fixture_option,
        patience_option,
        operator_option,
        flow_option,
        frame_option,
        station_option,
        rate_option,
    ):
        command = option(command)
    return command


def sheet_at(path: Path, seat: str | None, allowed: Sequence[Path]) -> Sheet:
    """The sheet at a path, its secrets fetched. Raises Fault."""
    from wexicon import api
    from wexicon.work.contact.catalog import secrets_for

    return api.find_sheet(path, seat, secrets_for(path.parent, ask_secret(), allowed), allowed)


def ask_secret() -> Callable[[str], str] | None:
    """Asks for a secret, hidden; None if there is no terminal to ask on."""
    if not sys.stdin.isatty():
        return None
    return lambda name: ask(name, hidden=True)
