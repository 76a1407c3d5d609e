"""`wexicon do`: one action of the module's lexicon."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import (
    Working,
    detected_lexicon,
    env_option,
    file_option,
    gather_given,
    gather_values,
    gathered,
    lexicon_option,
    split_by_need,
    values_argument,
)
from wexicon.cli.printing import print_failure, print_identity, print_kept, print_plan, print_remarks
from wexicon.cli.show import emit_json, ending, print_line, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, meant, spoken, visible

if TYPE_CHECKING:
    from wexicon import api
    from wexicon.core.formats.lexicon import Lexicon


class DoCall(msgspec.Struct):
    """The options of `do`."""

    port: str
    action: str | None
    pairs: tuple[str, ...]
    lexicon_name: str | None
    plan: bool
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    how: Working


@click.command(cls=Command)
@click.argument("port")
@click.argument("action", required=False)
@values_argument
@lexicon_option
@click.option("--plan", is_flag=True, help="Dry run: print the lines to say, say none of them.")
@env_option
@file_option
@gathered(DoCall)
def do(call: DoCall) -> None:
    """Run ACTION on the module on PORT, with its parameters; without ACTION, list the actions.

    Examples:
      wexicon do /dev/ttyUSB0
      wexicon do /dev/ttyUSB0 scan

    Exit status: 0 done; 1 refused by the module; 3 port or module unreachable; 4 restart not observed.
    """
    from wexicon import api

    port = api.port_named(call.port)
    lexicon = detected_lexicon(port, call.lexicon_name, call.how)
    if call.action is None:
        _list(lexicon, as_json=call.how.as_json)
        return
    if call.action not in lexicon.actions:
        what = f"{lexicon.about.family} has no action {call.action}"
        raise CallFault(what, hint=meant(call.action, lexicon.actions))
    program = lexicon.actions[call.action].program
    own_env, other_env = split_by_need(program, call.env_pairs)
    own_file, other_file = split_by_need(program, call.file_pairs)
    values = gather_values(program, call.pairs, own_env, own_file)
    given = gather_given(lexicon, other_env, other_file)
    with (
        call.how.working(call.port) as setup,
        api.open_module(port, lexicon, setup, given=given, opening=api.Opening(title="do")) as module,
    ):
        result = api.do(module, call.action, values, plan=call.plan)
    with ending(result.status):
        emit_json(result) if call.how.as_json else print_action(result)


def _list(lexicon: Lexicon, *, as_json: bool) -> None:
    """The actions of a lexicon, with what each needs."""
    rows = []
    for name, action in lexicon.actions.items():
        needs = [
            (f"[{one.name}]" if one.default is not None else one.name, one.secret) for one in action.program.needs()
        ]
        told = ", ".join(name + " (secret)" * secret for name, secret in needs)
        rows.append((name, told, action.meaning + " (restarts the module)" * action.restarts))
    if as_json:
        from wexicon.core.results.listed import ActionLine

        emit_json([ActionLine(*row) for row in rows])
    else:
        print_table(("action", "needs", "what it does"), rows)
        print_line(f"lexicon: {lexicon.about.family}; a name in brackets has a default", "")


def print_action(result: api.ActionResult) -> None:
    """An action, from the heading to the verdict."""
    print_identity(result)
    print_kept(result.kept)
    for note in result.notes:
        print_line(visible(note))
    print_plan(result.plan)
    print_remarks(result.remarks)
    if result.failure:
        print_failure(result.failure, result.verdict, result.trace)
    elif result.plan:
        print_line("dry run: only questions were said", "bold")
    else:
        told = f"{result.verdict}: {result.action}; {counted(result.exchanges, 'exchange')} in {spoken(result.seconds)}"
        print_line(told, "bold magenta" if result.status else "green")
