"""The options of commands that work with a module, and what a call gives: values by name, from the call itself, the
environment, a file or a prompt; the lexicon of a port.

The rule: an option that several commands have is defined here once, so that it means the same everywhere. A secret never comes
from the call itself, where any process could read it.
"""

from __future__ import annotations

import contextlib
import functools
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click
import msgspec

from wexicon.cli.progress import Person, Progress, Stop
from wexicon.cli.show import ask, force_option, json_option, print_note, print_warning
from wexicon.core.faults import CallFault
from wexicon.core.formats.fixture import EVIDENCE, OPERATORS
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.text import Secret, meant, seconds
from wexicon.core.tuning import FLOWS
from wexicon.settings_file import is_projects, value_of

if TYPE_CHECKING:
    from wexicon.core.dialogue import Program
    from wexicon.core.dialogue.statements import Needs
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.formats.sheet import Sheet
    from wexicon.work.contact.catalog import Fetch
    from wexicon.work.contact.sessions import Setup


Command = Callable[..., None]
Shape = TypeVar("Shape", bound=msgspec.Struct)


class DurationType(click.ParamType):  # type: ignore[type-arg,unused-ignore]
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
    type=DurationType(),
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
            if is_projects(self.fixture_path):
                from wexicon.programs import confirm

                on_terminal = sys.stdin.isatty() and sys.stderr.isatty()
                confirm(
                    self.fixture_path, functools.partial(ask, default="n", show_default=False) if on_terminal else None
                )

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


values_argument = click.argument("pairs", metavar="[NAME=VALUE]...", nargs=-1)
env_option = click.option(
    "--env", "env_pairs", multiple=True, metavar="NAME=VARIABLE", help="Take a value from the environment."
)
file_option = click.option("--file", "file_pairs", multiple=True, metavar="NAME=PATH", help="Take a value from a file.")


show_option = click.option(
    "--show",
    "shown",
    multiple=True,
    metavar="NAME",
    help="Show this secret setting in clear, on the terminal only.",
)


def require_showable(names: Sequence[str], lexicon: Lexicon | None, *, as_json: bool) -> None:
    """Raises CallFault unless these are settings that can be read, and what is shown goes to a terminal."""
    for name in names:
        setting = lexicon.settings.get(name) if lexicon else None
        if setting is None:
            known = [one.name for one in lexicon.settings.values() if one.secret] if lexicon else []
            raise CallFault(f"there is no setting {name} to show", hint=meant(name, known))
        if not setting.readable:
            raise CallFault(f"{name} cannot be read from the module, and so not be shown")
    if names and (as_json or not sys.stdout.isatty()):
        raise CallFault("--show needs a terminal", hint="A secret is written to no file and no pipe.")


def detected_lexicon(port: str, name: str | None, how: Working) -> Lexicon:
    """The lexicon of the module on a port; one that was detected is printed. Raises Fault."""
    from wexicon import api

    with how.working(f"hail of {port}") as setup:
        lexicon, found = api.lexicon_on(port, name, setup)
    if found:
        print_note(f"hail: {found.family} at {found.rate} {found.frame}")
    elif name is None:
        tell_stored(lexicon)
    else:
        _tell_shadowed(lexicon)
    return lexicon


def named_lexicon(name: str, beside: Path) -> Lexicon:
    """The lexicon that the call names; a note says if it replaces a shipped one. Raises Fault."""
    from wexicon.work.contact.catalog import lexicon_for

    lexicon = lexicon_for(name, beside)
    _tell_shadowed(lexicon)
    return lexicon


def _tell_shadowed(lexicon: Lexicon) -> None:
    from wexicon.work.contact.catalog import shadowed_by

    if note := shadowed_by(lexicon):
        print_note(note)


def tell_stored(lexicon: Lexicon) -> None:
    """Says which file the lexicon is that is stored for a port."""
    from wexicon.work.contact.catalog import origin_of

    if origin_of(lexicon) != "shipped":
        print_note(f"lexicon: {lexicon.path}, stored for this port")


def split_pairs(pairs: Iterable[str]) -> dict[str, str]:
    """NAME=VALUE words as a dict."""
    found = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise CallFault(f"{pair!r} is not NAME=VALUE")
        found[name] = value
    return found


def split_by_need(program: Program, pairs: Sequence[str]) -> tuple[list[str], list[str]]:
    """The pairs whose names a dialogue needs, and the others."""
    needs = {need.name for need in program.needs()}
    own = [pair for pair in pairs if pair.partition("=")[0] in needs]
    return own, [pair for pair in pairs if pair not in own]


def gather_given(lexicon: Lexicon | None, env_pairs: Sequence[str], file_pairs: Sequence[str]) -> dict[str, object]:
    """What the actions of a lexicon need, such as a SIM's PIN. Raises CallFault."""
    from wexicon.core.dialogue.given import given
    from wexicon.work.contact.catalog import secrets_for

    if lexicon is None:
        if env_pairs or file_pairs:
            hint = "Name it with --lexicon NAME."
            raise CallFault("without a lexicon nothing is known that needs a value", hint=hint)
        return {}
    needs = {need.name: need for action in lexicon.actions.values() for need in action.program.needs()}
    fetch = secrets_for(Path(), None)
    made: dict[str, object] = {}
    for kind, pairs in (("env", env_pairs), ("file", file_pairs)):
        for name, where in split_pairs(pairs).items():
            if name not in needs:
                raise CallFault(f"no action of {lexicon.about.family} needs {name}", hint=meant(name, needs))
            try:
                made[name] = Secret(given(name, needs[name].kind, fetch(kind, where), secret=True))
            except ValueError as fault:
                raise CallFault(str(fault)) from None
    return made


def gather_values(
    program: Program, pairs: Iterable[str], env_pairs: Iterable[str], file_pairs: Iterable[str]
) -> dict[str, object]:
    """The values that a dialogue needs; a value is a Secret if it is marked as one, or comes from the environment or a file.
    Raises CallFault."""
    from wexicon.work.contact.catalog import secrets_for

    needs = {need.name: need for need in program.needs()}
    sources: dict[str, tuple[str, str]] = {name: ("", text) for name, text in split_pairs(pairs).items()}
    sources |= {name: ("file", where) for name, where in split_pairs(file_pairs).items()}
    sources |= {name: ("env", where) for name, where in split_pairs(env_pairs).items()}
    for name in sources:
        if name not in needs:
            raise CallFault(f"the dialogue needs no {name}", hint=meant(name, needs))
    fetch = secrets_for(Path(), ask_secret())
    values: dict[str, object] = {}
    for name, need in needs.items():
        if name not in sources and need.default is not None:
            continue
        try:
            values[name] = _value(need, sources.get(name), fetch)
        except ValueError as fault:
            ways = "--env NAME=VARIABLE, --file NAME=PATH, or a terminal to ask on"
            hint = f"give it by {ways}" if need.secret else f"give it as {name}=VALUE, or by {ways}"
            raise CallFault(str(fault), where=program.path, hint=hint) from None
    return values


def _value(need: Needs, source: tuple[str, str] | None, fetch: Fetch) -> object:
    """One value from its source, or from a prompt. Raises ValueError."""
    from wexicon.core.dialogue.given import given

    kind, text = source or ("", "")
    if kind:
        text = fetch(kind, text)
    elif source is None:
        if not sys.stdin.isatty():
            raise ValueError(f"{need.name} was not given")
        text = ask(need.name, hidden=need.secret)
    elif need.secret:
        raise ValueError(f"{need.name} is a secret: on the command line every process could read it")
    secret = need.secret or bool(kind)
    value = given(need.name, need.kind, text, secret=secret)
    if need.kind == "file":
        value = str(Path(text).absolute())
    return Secret(value) if secret else value
