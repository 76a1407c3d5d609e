"""The values that a dialogue needs, given in several ways.

The rule: a secret never comes from the call itself, where any process could read it.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexicon.cli.options import ask_secret
from wexicon.core.dialogue import Program
from wexicon.core.dialogue.given import given
from wexicon.core.faults import CallFault
from wexicon.core.secret import Secret
from wexicon.core.text import meant
from wexicon.work.contact.secret_sources import secrets_for

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon

values_argument = click.argument("pairs", metavar="[NAME=VALUE]...", nargs=-1)
env_option = click.option(
    "--env", "env_pairs", multiple=True, metavar="NAME=VARIABLE", help="Take a value from the environment."
)
file_option = click.option("--file", "file_pairs", multiple=True, metavar="NAME=PATH", help="Take a value from a file.")


def split_pairs(pairs: Iterable[str]) -> dict[str, str]:
    """NAME=VALUE words as a dict."""
    found = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise CallFault(f"{pair!r} is not NAME=VALUE")
        found[name] = value
    return found


def gather_given(lexicon: Lexicon, env_pairs: Iterable[str], file_pairs: Iterable[str]) -> dict[str, Any]:
    """What the actions of a lexicon need, such as a SIM's PIN."""
    needs = {need.name: need for action in lexicon.actions.values() for need in action.program.needs()}
    fetch = secrets_for(Path(), None)
    made: dict[str, Any] = {}
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
) -> dict[str, Any]:
    """The values that a dialogue needs; what is marked as secret, or comes from the environment or a file, is a Secret."""
    needs = {need.name: need for need in program.needs()}
    plain, from_env, from_file = split_pairs(pairs), split_pairs(env_pairs), split_pairs(file_pairs)
    for name in [*plain, *from_env, *from_file]:
        if name not in needs:
            raise CallFault(f"the dialogue needs no {name}", hint=meant(name, needs))
    fetch = secrets_for(Path(), ask_secret())
    values: dict[str, Any] = {}
    for name, need in needs.items():
        try:
            if name in from_env:
                text = fetch("env", from_env[name])
            elif name in from_file:
                text = fetch("file", from_file[name])
            elif name in plain:
                if need.secret:
                    raise ValueError(f"{name} is a secret: on the command line every process could read it")
                text = plain[name]
            elif need.default is not None:
                continue
            elif sys.stdin.isatty():
                text = str(click.prompt(name, hide_input=need.secret, err=True))
            else:
                raise ValueError(f"{name} was not given")
            secret = need.secret or name in from_env or name in from_file
            value = given(name, need.kind, text, secret=secret)
            values[name] = Secret(value) if secret else value
        except ValueError as fault:
            ways = "--env NAME=VARIABLE, --file NAME=PATH, or a terminal to ask on"
            hint = f"give it by {ways}" if need.secret else f"give it as {name}=VALUE, or by {ways}"
            raise CallFault(str(fault), where=program.path, hint=hint) from None
    return values
