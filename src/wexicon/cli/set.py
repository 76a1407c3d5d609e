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
from wexicon.core.faults import CallFault
from wexicon.core.text import meant
from wexicon.core.values import Content, ValueFault

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
    from wexicon.core.formats.sheet import Seat
    from wexicon.work.contact.catalog import secrets_for

    fetch = secrets_for(Path(), ask_secret())
    needs = {need.name: need for action in lexicon.actions.values() for need in action.program.needs()}
    sources = [(name, "", text) for name, text in split_pairs(pair for pair in pairs if "=" in pair).items()]
    sources += [(pair, "prompt", pair) for pair in pairs if "=" not in pair]
    for kind, more in (("env", env_pairs), ("file", file_pairs)):
        sources += [(name, kind, where) for name, where in split_pairs(more).items()]
    wanted, extra, errors = {}, {}, []
    for name, kind, text in sources:
        try:
            if name not in lexicon.settings and name in needs and kind:
                extra[name] = _need(name, needs[name].kind, fetch(kind, text))
                continue
            _require_setting(lexicon, name, kind)
            if kind:
                lexicon = lexicon.with_secret(name)
            setting = lexicon.settings[name]
            if isinstance(setting.kind, Content) and not kind and text != "unset":
                raise CallFault(f"{name} is a file", hint=f"Give it by --file {name}=PATH, or delete it: {name}=unset")
            wanted[name] = setting.typed(fetch(kind, text) if kind else text)
        except ValueFault as fault:
            value = "the value" if kind else f"{fault.value!r}"
            why = fault.why if not kind or "'" not in fault.why else "is not allowed"
            errors.append(f"{name}: {value} {why}; allowed: {fault.allowed}")
        except ValueError as fault:
            errors.append(str(fault))
    for key, other, needed, found in lexicon.unmet(wanted):
        show = lexicon.settings[other].show
        errors.append(f"{key} needs {other}={show(needed)}, not {show(found)}")
    if errors:
        raise CallFault("; ".join(errors), hint="Nothing was said to the module.")
    return Seat("", lexicon, wanted, (), extra)


def _need(name: str, kind: str, text: str) -> object:
    """A value that an action needs, as a secret."""
    from wexicon.core.dialogue.given import given
    from wexicon.core.text import Secret

    return Secret(given(name, kind, text, secret=True))


def _require_setting(lexicon: Lexicon, name: str, kind: str) -> None:
    """Raises ValueError if there is no such setting, or if its value would be on the command line though it is a secret."""
    if name not in lexicon.settings:
        raise ValueError(f"{lexicon.about.family} has no setting {name}; {meant(name, lexicon.settings)}")
    if lexicon.settings[name].secret and not kind:
        ways = "Give it by --env NAME=VARIABLE, by --file NAME=PATH, or by name alone to be asked for it"
        raise ValueError(f"{name} is a secret: on the command line every process could read it. {ways}")
