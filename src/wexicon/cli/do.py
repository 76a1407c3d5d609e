"""`wexicon do`: one action that a module's lexicon names, done with the module on a port."""

from __future__ import annotations

from pathlib import Path

import click

from wexicon.cli.choosing import lexicon_of
from wexicon.cli.options import lexicon_option
from wexicon.cli.printing import print_failure, print_identity, print_kept, print_plan, print_remarks
from wexicon.cli.show import ending, print_json, print_line
from wexicon.cli.values import env_option, file_option, gather_given, gather_values, values_argument
from wexicon.cli.working import Working, works_a_module
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, meant


@click.command()
@click.argument("port")
@click.argument("action")
@values_argument
@lexicon_option
@click.option("--plan", is_flag=True, help="Dry run: print the lines to say, say none of them.")
@env_option
@file_option
@works_a_module
def do(
    port: str,
    action: str,
    pairs: tuple[str, ...],
    lexicon_name: str | None,
    plan: bool,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    how: Working,
    as_json: bool,
) -> None:
    """Run ACTION on the module on PORT, with its parameters.

    Exit status: 0 done; 1 refused by the module; 3 port or module unreachable; 4 restart not observed.
    """
    from wexicon.work.contact.ports import port_named
    from wexicon.work.function.actions import do_action
    from wexicon.work.results.verdicts import Verdict

    port = port_named(port)
    lexicon = lexicon_of(lexicon_name, port, how, Path())
    if action not in lexicon.actions:
        what = f"{lexicon.about.family} has no action {action}"
        raise CallFault(what, hint=meant(action, lexicon.actions))
    needs = {need.name for need in lexicon.actions[action].program.needs()}
    own = [[pair for pair in some if pair.partition("=")[0] in needs] for some in (env_pairs, file_pairs)]
    values = gather_values(lexicon.actions[action].program, pairs, own[0], own[1])
    other = [
        [pair for pair in some if pair not in mine] for some, mine in zip((env_pairs, file_pairs), own, strict=True)
    ]
    with how.module(port, lexicon, "do", told=action, given=gather_given(lexicon, other[0], other[1])) as module:
        result = do_action(module, action, values, plan=plan)
    result.port, result.lexicon, result.trace = port, lexicon.about.family, str(how.trace_path)
    with ending(result.status):
        if as_json:
            print_json(result)
            return
        print_identity(result)
        print_kept(result.kept)
        print_plan(result.plan)
        print_remarks(result.remarks)
        if result.failure:
            print_failure(result.failure, result.verdict, result.trace)
        elif result.verdict is Verdict.PLANNED:
            print_line("dry run: only questions were said", "bold")
        else:
            told = f"{result.verdict}: {action}; {counted(result.exchanges, 'exchange')} in {spoken(result.seconds)}"
            print_line(told, "bold green" if not result.status else "bold yellow")
