"""What a call gives: values by name, from the call itself, the environment, a file or a prompt; and the lexicon of a port.

The rule: a secret never comes from the call itself, where any process could read it.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.options import Working, ask_secret
from wexicon.cli.show import ask, print_note
from wexicon.core.dialogue import Program
from wexicon.core.dialogue.given import given
from wexicon.core.faults import CallFault
from wexicon.core.text import Secret, meant
from wexicon.work.contact.catalog import Fetch, secrets_for

if TYPE_CHECKING:
    from wexicon.core.dialogue.statements import Needs
    from wexicon.core.formats.lexicon import Lexicon

values_argument = click.argument("pairs", metavar="[NAME=VALUE]...", nargs=-1)
env_option = click.option(
    "--env", "env_pairs", multiple=True, metavar="NAME=VARIABLE", help="Take a value from the environment."
)
file_option = click.option("--file", "file_pairs", multiple=True, metavar="NAME=PATH", help="Take a value from a file.")


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
