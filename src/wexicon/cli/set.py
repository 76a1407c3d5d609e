"""`wexicon set`: settings of a module changed one or several at once, in a safe order, and read back."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.choosing import lexicon_of
from wexicon.cli.options import ask_secret, lexicon_option, prove_option
from wexicon.cli.printing import print_unit
from wexicon.cli.show import ending, print_json
from wexicon.cli.values import env_option, file_option, split_pairs
from wexicon.cli.working import Working, works_a_module
from wexicon.core.faults import CallFault
from wexicon.core.text import meant
from wexicon.core.values import ValueFault
from wexicon.work.contact.secret_sources import secrets_for

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.formats.sheet import Seat


@click.command("set")
@click.argument("port")
@click.argument("pairs", metavar="NAME=VALUE...", nargs=-1, required=True)
@lexicon_option
@click.option("--plan", is_flag=True, help="Dry run: read the module, print the lines to say, write nothing.")
@prove_option("auto")
@env_option
@file_option
@works_a_module
def set_(
    port: str,
    pairs: tuple[str, ...],
    lexicon_name: str | None,
    plan: bool,
    prove: str,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    how: Working,
    as_json: bool,
) -> None:
    """Write settings to the module on PORT, follow its link, and read them back.

    Every value is checked before a byte is sent. A secret is given by --env NAME=VARIABLE, by --file NAME=PATH, or by name
    alone: a prompt asks, without echo.

    Exit status: 0 conforms; 1 a setting differs or was refused; 3 port or module unreachable; 4 unproved.
    """
    from wexicon.work.contact.catalog import state_folder
    from wexicon.work.contact.ports import port_named
    from wexicon.work.provisioning.run import Order, provision
    from wexicon.work.provisioning.unfinished import FileStore
    from wexicon.work.results.verdicts import Prove

    port = port_named(port)
    lexicon = lexicon_of(lexicon_name, port, how, Path())
    seat = wanted_of(lexicon, pairs, env_pairs, file_pairs)
    order = Order(seat.wanted, Prove(prove), plan=plan)
    with how.module(port, seat.lexicon, "set", secrets=seat.secrets(), given=seat.given) as module:
        result = provision(module, order, store=FileStore(state_folder() / "unfinished"))
    result.about("", port, seat.lexicon, str(how.trace_path))
    with ending(result.status):
        print_json(result) if as_json else print_unit(result)


def wanted_of(
    lexicon: Lexicon, pairs: tuple[str, ...], env_pairs: tuple[str, ...], file_pairs: tuple[str, ...]
) -> Seat:
    """What a call wants of a module, checked by its lexicon. What comes from the environment, a file or a prompt is a
    secret, and may be what an action needs. Raises CallFault with every complaint."""
    from wexicon.core.dialogue.given import given
    from wexicon.core.formats.sheet import Seat
    from wexicon.core.secret import Secret

    fetch = secrets_for(Path(), ask_secret())
    needs = {need.name: need for action in lexicon.actions.values() for need in action.program.needs()}
    asked = [pair for pair in pairs if "=" not in pair]
    sources = [(name, "", text) for name, text in split_pairs(pair for pair in pairs if "=" in pair).items()]
    sources += [(name, "prompt", name) for name in asked]
    for kind, more in (("env", env_pairs), ("file", file_pairs)):
        sources += [(name, kind, where) for name, where in split_pairs(more).items()]
    wanted, extra, complaints = {}, {}, []
    for name, kind, text in sources:
        try:
            if name not in lexicon.settings and name in needs and kind:
                extra[name] = Secret(given(name, needs[name].kind, fetch(kind, text), secret=True))
                continue
            if name not in lexicon.settings:
                raise ValueError(f"{lexicon.about.family} has no setting {name}; {meant(name, lexicon.settings)}")
            if lexicon.settings[name].secret and not kind:
                raise ValueError(f"{name} is a secret: on the command line every process could read it. {_WAYS}")
            if kind:
                lexicon = lexicon.with_secret(name)
            wanted[name] = lexicon.settings[name].typed(fetch(kind, text) if kind else text)
        except ValueFault as fault:
            value = "the value" if kind else f"{fault.value!r}"
            why = fault.why if not kind or "'" not in fault.why else "is not allowed"
            complaints.append(f"{name}: {value} {why}; allowed: {fault.allowed}")
        except ValueError as fault:
            complaints.append(str(fault))
    for key, other, needed, found in lexicon.unmet(wanted):
        show = lexicon.settings[other].show
        complaints.append(f"{key} needs {other}={show(needed)}, not {show(found)}")
    if complaints:
        raise CallFault("; ".join(complaints), hint="Nothing was said to the module.")
    return Seat("", lexicon, wanted, (), extra)


_WAYS = "Give it by --env NAME=VARIABLE, by --file NAME=PATH, or as its name alone to be asked for it"
