"""`wexicon set`: settings of a module changed one or several at once, in a safe order, and read back."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import (
    Working,
    ask_secret,
    detected_lexicon,
    env_option,
    file_option,
    gathered,
    lexicon_option,
    prove_option,
    split_pairs,
)
from wexicon.cli.printing import print_unit
from wexicon.cli.show import emit_json, ending
from wexicon.core.faults import CallFault, Complaint
from wexicon.core.text import Secret

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.formats.sheet import Seat


class SetCall(msgspec.Struct):
    """The options of `set`."""

    port: str
    pairs: tuple[str, ...]
    lexicon_name: str | None
    plan: bool
    prove: str
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    how: Working


@click.command("set", cls=Command)
@click.argument("port")
@click.argument("pairs", metavar="[NAME=VALUE | NAME]...", nargs=-1)
@lexicon_option
@click.option("--plan", is_flag=True, help="Dry run: read the module, print the lines to say, write nothing.")
@prove_option("auto")
@env_option
@file_option
@gathered(SetCall)
def set_(call: SetCall) -> None:
    """Write settings to the module on PORT, follow its link, and read them back.

    Examples:
      wexicon set /dev/ttyUSB0 name="quay 3" rate=115200
      wexicon set /dev/ttyUSB0 power=12 --plan

    Every value is checked before a byte is sent. A secret is given by --env NAME=VARIABLE, by --file NAME=PATH, or by name
    alone: a prompt asks, without echo.

    Exit status: 0 conforms; 1 a setting differs or was refused; 3 port or module unreachable; 4 unproved.
    """
    from wexicon import api

    if not (call.pairs or call.env_pairs or call.file_pairs):
        raise CallFault("no setting was given", hint="Write NAME=VALUE, --env NAME=VARIABLE or --file NAME=PATH.")
    port = api.port_named(call.port)
    lexicon = detected_lexicon(port, call.lexicon_name, call.how)
    seat = wanted_of(lexicon, call.pairs, call.env_pairs, call.file_pairs)
    opening = api.Opening(title="set", secrets=seat.secrets())
    with (
        call.how.working("set") as setup,
        api.open_module(port, seat.lexicon, setup, given=seat.given, opening=opening) as module,
    ):
        result = api.set_values(module, seat.wanted, prove=api.Prove(call.prove), plan=call.plan)
    with ending(result.status):
        emit_json(result) if call.how.as_json else print_unit(result)


def wanted_of(
    lexicon: Lexicon, pairs: tuple[str, ...], env_pairs: tuple[str, ...], file_pairs: tuple[str, ...]
) -> Seat:
    """The settings of a call, checked by the lexicon. What comes from the environment, a file or a prompt is a secret, and may
    be what an action needs. Raises CallFault with every error."""
    from wexicon.core.dialogue.given import given
    from wexicon.core.formats.sheet import Seat
    from wexicon.core.formats.wanted import TYPED, check_wanted, require, source_of
    from wexicon.work.contact.catalog import secrets_for

    secret = secrets_for(Path(), ask_secret())
    needs = {need.name: need for action in lexicon.actions.values() for need in action.program.needs()}
    wishes: dict[str, object] = {**split_pairs(pair for pair in pairs if "=" in pair)}
    wishes |= {pair: {"prompt": pair} for pair in pairs if "=" not in pair}
    for kind, more in (("env", env_pairs), ("file", file_pairs)):
        wishes |= {name: {kind: where} for name, where in split_pairs(more).items()}
    extra: dict[str, object] = {}
    complaints: list[Complaint] = []
    for name in [name for name in wishes if name not in lexicon.settings and name in needs]:
        try:
            if origin := source_of(wishes.pop(name)):
                text = secret(origin.kind, origin.text)
                extra[name] = Secret(given(name, needs[name].kind, text, secret=True))
            else:
                complaints.append(Complaint("is needed by actions: on the command line it would be seen", name))
        except ValueError as fault:
            complaints.append(Complaint(str(fault), name))
    lexicon, wanted, more_complaints = check_wanted(
        lexicon, wishes, TYPED, lambda name, origin: secret(origin.kind, origin.text)
    )
    require([*complaints, *more_complaints])
    return Seat("", lexicon, wanted, given=extra)
