"""What may stand next in a call: ports, units, lexicons, actions, settings and their values, seats, rows, traces.

The rule: nothing is opened and nobody is asked; what cannot be found out from files is not suggested. A fault suggests nothing.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.shell_completion import CompletionItem, split_arg_string

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.formats.sheet import Sheet

Words = Iterator[tuple[str, str]]
# How many traces are read.
MOST_TRACES = 50


def _words() -> list[str]:
    """The call so far; while an option lacks its value, Click knows of no argument."""
    return split_arg_string(os.environ.get("COMP_LINE") or os.environ.get("COMP_WORDS", ""))


def _ports() -> Words:
    from wexicon.work.contact.ports import found_ports, port_names

    for one in found_ports():
        yield one.port, one.what
        if one.unit:
            yield one.unit, one.port
    yield from port_names().items()


def _port_words(ctx: click.Context, typed: str) -> Words:
    """Ports; behind `NAME=` too, for a seat or a party."""
    name, equals, _ = typed.rpartition("=")
    for port, what in _ports():
        yield (f"{name}={port}" if equals else port), what
    if not equals:
        yield from ((f"{seat}=", "a seat") for seat in _seats_of(ctx))


def _lexicons(ctx: click.Context, typed: str) -> Words:
    from wexicon.work.contact.catalog import lexicon_files

    for name, path in lexicon_files(Path()):
        yield name, str(path)


def _lexicon(ctx: click.Context) -> Lexicon | None:
    """The lexicon that the call names, or that is stored for its port."""
    from wexicon.api import find_lexicon, stored_lexicon
    from wexicon.work.contact.ports import port_named

    if name := ctx.params.get("lexicon_name"):
        return find_lexicon(name, Path())
    port = ctx.params.get("port") or next((word for word in _words()[2:] if not word.startswith("-")), "")
    return stored_lexicon(port_named(port)) if port else None


def _actions(ctx: click.Context, typed: str) -> Words:
    if lexicon := _lexicon(ctx):
        for name, action in lexicon.actions.items():
            yield name, action.meaning


def _events(ctx: click.Context, typed: str) -> Words:
    if lexicon := _lexicon(ctx):
        yield from ((name, "event") for name in lexicon.events)


def _parameters(ctx: click.Context, typed: str) -> Words:
    """The parameters of an action, or the settings, each with its values once it is named."""
    lexicon = _lexicon(ctx)
    action = ctx.params.get("action")
    if lexicon is None:
        return
    if action:
        for need in lexicon.actions[action].program.needs():
            yield f"{need.name}=", need.kind
        return
    yield from _settings_of(lexicon, typed)


def _settings_of(lexicon: Lexicon, typed: str) -> Words:
    from wexicon.core.values import ChoiceKind, Flag, Rate

    name, equals, _ = typed.partition("=")
    if not equals:
        for setting in lexicon.settings.values():
            if setting.write or setting.in_group:
                yield f"{setting.name}=", setting.meaning
        return
    kind = lexicon.settings[name].kind
    values: tuple[object, ...] = ()
    if isinstance(kind, ChoiceKind):
        values = tuple(kind.codes)
    elif isinstance(kind, Flag):
        values = ("yes", "no")
    elif isinstance(kind, Rate):
        values = kind.known()
    for value in values:
        yield f"{name}={value}", ""


def _sheet(ctx: click.Context) -> Sheet | None:
    """The sheet of the call. No secret is fetched."""
    from wexicon.work.contact.catalog import find_sheet

    path = next((word for word in _words() if word.endswith(".toml")), None)
    return find_sheet(Path(path), None, lambda kind, name: "x") if path else None


def _seats_of(ctx: click.Context) -> list[str]:
    with suppress(Exception):
        sheet = _sheet(ctx)
        return list(sheet.seats) if sheet else []
    return []


def _seats(ctx: click.Context, typed: str) -> Words:
    yield from ((seat, "seat") for seat in _seats_of(ctx))


def _rows(ctx: click.Context, typed: str) -> Words:
    from wexicon.core.formats.jobs import jobs_of

    if sheet := _sheet(ctx):
        for job in jobs_of(sheet):
            if job.row:
                yield job.row.key, job.seat.name


def _recorded(ctx: click.Context, typed: str) -> Words:
    """Units of the register."""
    from wexicon.work.fleet.recording import the_register

    for one in the_register(ctx.params.get("register_at")).latest():
        yield one.name, one.unit
        yield one.unit, one.name


def _stand_ins(ctx: click.Context, typed: str) -> Words:
    from wexicon.rigs.control import cards

    for card in cards():
        yield from card.standins.items()


def _rigs(ctx: click.Context, typed: str) -> Words:
    from wexicon.rigs.control import cards

    for card in cards():
        yield card.name, ", ".join(card.standins)


def _traces(ctx: click.Context, typed: str) -> Words:
    from itertools import islice

    from wexicon.files import state_folder
    from wexicon.records.trace_list import all_traces

    yield "last", "the newest"
    seen: set[str] = set()
    for info in islice(all_traces(state_folder() / "traces"), MOST_TRACES):
        for word in (info.unit.partition(" ")[2] or info.unit, info.port):
            if word and word not in seen:
                seen.add(word)
                yield word, info.work or info.title


Finder = Callable[[click.Context, str], Words]
# By the option, and by the metavar of an argument.
BY_OPTION: dict[str, Finder] = {
    "lexicon": _lexicons,
    "seat": _seats,
    "row": _rows,
    "do": _actions,
    "until": _events,
    "only": _events,
    "port": _port_words,
    "sweep": _parameters,
    "setting": _parameters,
}
BY_ARGUMENT: dict[str, Finder] = {
    "PORT": _port_words,
    "HOST": _port_words,
    "MODULE": _port_words,
    "A": _port_words,
    "ACTION": _actions,
    "NAME=VALUE": _parameters,
    "TRACE": _traces,
    "B": _traces,
    "UNIT": _recorded,
    "LEXICON": _lexicons,
}
# Where a word means something else in the commands of one group.
IN_GROUP: dict[tuple[str, str], Finder] = {
    ("rig", "UNIT"): _stand_ins,
    ("rig", "NAME"): _rigs,
    ("lexicon", "NAME"): _lexicons,
    ("trace", "A"): _traces,
}


def finder_of(param: click.Parameter, ctx: click.Context) -> Finder | None:
    """What finds the words for an option or an argument; None where only Click knows."""
    if isinstance(param, click.Option):
        return BY_OPTION.get(max(param.opts, key=len).lstrip("-"))
    group = ctx.parent.info_name or "" if ctx.parent else ""
    word = (param.metavar or param.human_readable_name).strip("[].").split(" ")[0].split("]")[-1]
    return IN_GROUP.get((group, word)) or BY_ARGUMENT.get(word)


def completes(param: click.Parameter) -> None:
    """Lets a parameter suggest what may stand there."""
    usual = param.shell_complete

    def found(ctx: click.Context, typed: str) -> list[CompletionItem[Any]]:
        finder = finder_of(param, ctx)
        made: dict[str, str] = {}
        if finder:
            with suppress(Exception):
                for word, about in finder(ctx, typed):
                    if word.startswith(typed):
                        made.setdefault(word, about)
        if made or finder:
            return [CompletionItem(word, help=" ".join(about.split()) or None) for word, about in made.items()]
        return usual(ctx, typed)

    setattr(param, "shell_complete", found)  # noqa: B010 - a type checker would call it a method
