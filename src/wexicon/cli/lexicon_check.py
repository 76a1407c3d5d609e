"""`wexicon lexicon check`: the errors and gaps of a lexicon, and what a module does of what it says.

The rule: without --write nothing is written to a module; with it all is put back, and what is not is told.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import Working, env_option, file_option, gather_given, gathered
from wexicon.cli.printing import print_failure, print_remarks
from wexicon.cli.readout import print_readout, read_module
from wexicon.cli.show import emit_json, ending, print_line, print_note, print_table
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.results.listed import Gap, Gaps
from wexicon.core.text import counted, spoken
from wexicon.work.contact.catalog import find_lexicon

if TYPE_CHECKING:
    from wexicon.core.results.unit import StartTrial, WriteTrial


class CheckCall(msgspec.Struct):
    """The options of `lexicon check`."""

    path: Path
    port: str | None
    prove: bool
    write: bool
    beyond: bool
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    how: Working


@click.command(cls=Command)
@click.argument("path", metavar="FILE", type=click.Path(path_type=Path))
@click.argument("port", required=False)
@click.option(
    "--prove", is_flag=True, help="Restart the module and save one setting, to try what these do. Needs --write."
)
@click.option(
    "--write",
    is_flag=True,
    help="Write back each setting as it was read, and compare; with --prove, allow its change. All is put back.",
)
@click.option(
    "--beyond", is_flag=True, help="With --write: also try both ends of each range, and values outside of it."
)
@env_option
@file_option
@gathered(CheckCall)
def check(call: CheckCall) -> None:
    """Report errors (with line) and gaps in lexicon FILE.

    Examples:
      wexicon lexicon check harbour-x1.toml
      wexicon lexicon check harbour-x1.toml /dev/ttyUSB0 --write

    With PORT, also read every setting of the module there, and report what did not match; nothing is written. With --write,
    try the settings: the result is stored beside FILE, as its proof. With --prove --write, try instead whether a restart
    loads the saved values, how it shows, and how long a save takes.
    """
    from wexicon.core.formats.lexicon.gaps import gaps
    from wexicon.work.drafting.trials import proof_of

    path = call.path
    if call.prove and not (call.port and call.write):
        what = "--prove changes one setting of the module for a moment, and restarts it"
        raise CallFault(what, hint="Name PORT, and allow it with --write.")
    if call.write and not call.port:
        raise CallFault("--write needs the module", hint="Name PORT.")
    if call.beyond and (call.prove or not call.write):
        raise CallFault("--beyond writes values outside of the ranges", hint="Allow it with --write.")
    found = find_lexicon(str(path if path.suffix == ".toml" else path.with_name(f"{path.name}.toml")), Path())
    if call.prove:
        _prove(call, found)
        return
    if call.write:
        _try_settings(call, found)
        return
    missing = gaps(found)
    if call.how.as_json:
        emit_json(Gaps(str(path), len(found.settings), [Gap(*one) for one in missing]))
        return
    if proof := proof_of(found):
        print_note(proof)
    for place, what in missing:
        print_line(f"gap: {place}: {what}", "magenta")
    counts = ((len(found.settings), "setting"), (len(found.actions), "action"), (len(missing), "gap"))
    told = ", ".join(counted(count, what) for count, what in counts)
    print_line(f"{path}: no errors; {told}", "green")
    if call.port:
        result, _ = read_module(call.port, found, call.how, call.env_pairs, call.file_pairs)
        with ending(result.status):
            print_readout(result, found)
            if not result.failure:
                print_line("every setting that can be read was understood", "green")


def _try_settings(call: CheckCall, found: Lexicon) -> None:
    """Tries the settings on the module, prints what fits, and stores it beside the lexicon."""
    from wexicon import api
    from wexicon.work.drafting.trials import store_proof

    port = api.port_named(call.port or "")
    given = gather_given(found, call.env_pairs, call.file_pairs)
    with (
        call.how.working(f"settings of {port}") as setup,
        api.open_module(port, found, setup, given=given, opening=api.Opening(title="settings")) as module,
    ):
        result = api.try_settings(module, beyond=call.beyond)
        result.trace = module.trace
    with ending(result.status):
        stored = store_proof(found, result) if result.restored else ""
        if call.how.as_json:
            emit_json(result)
            return
        print_settings_trial(result)
        if stored:
            print_note(f"stored as the lexicon's proof: {stored}")
        if result.failure:
            print_failure(result.failure, result.verdict, result.trace)


def print_settings_trial(result: WriteTrial) -> None:
    """What was tried of each setting."""
    from wexicon.core.results.unit import told_counts

    rows = [(one.setting, one.what, str(one.fits), one.note) for one in result.trials]
    print_table(("setting", "tried", "result", "note"), rows)
    print_remarks(result.remarks)
    counts = ", ".join(told_counts(result))
    restored = "all is as it was, nothing was saved" if result.restored else "not all is as it was"
    print_line(f"{result.verdict}: {counts}; {restored}", "green" if result.verdict == "done" else "red")


def _prove(call: CheckCall, found: Lexicon) -> None:
    """Tries restart and save on the module, and prints what was observed."""
    from wexicon import api

    port = api.port_named(call.port or "")
    given = gather_given(found, call.env_pairs, call.file_pairs)
    opening = api.Opening(title="starts")
    with (
        call.how.working(f"starts of {port}") as setup,
        api.open_module(port, found, setup, given=given, opening=opening) as module,
    ):
        result = api.try_starts(module)
        result.trace = module.trace
    with ending(result.status):
        if call.how.as_json:
            emit_json(result)
            return
        print_trial(result)
        if result.failure:
            print_failure(result.failure, result.verdict, result.trace)


def print_trial(result: StartTrial) -> None:
    """What a restart and a save did."""
    if result.signs:
        back = f", answered again after {spoken(result.back_after)}" if result.back_after is not None else ""
        print_line(f"restart   shown by {', '.join(result.signs)}{back}")
    elif not result.failure and not result.reloads:
        print_line("restart   nothing showed that the module restarted", "magenta")
    if result.reloads is not None:
        told = "gone: it loads the saved values" if result.reloads else "still there: it keeps working memory"
        print_line(f"memory    after it, an unsaved change of {result.setting} was {told}")
    if result.reloads and result.restored:
        took = result.saves_within
        told = (
            f"not done {spoken(result.longest)} after it was acknowledged"
            if took is None
            else f"done within {spoken(took)} of its acknowledgement"
            if took
            else "done when it is acknowledged"
        )
        print_line(f"save      {told}")
    if result.restored is not None:
        told = "has its first value again, saved" if result.restored else "could not be put back; run this again"
        print_line(f"setting   {result.setting} {told}", "" if result.restored else "red")
    print_remarks(result.remarks)
    if result.lines:
        print_line("")
        print_line("Put into the lexicon:", "bold")
        for line in result.lines:
            print_line(f"  {line}")
