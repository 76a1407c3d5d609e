"""`wexicon hail`: detects the link of an unknown module, and the lexicon that matches it.

The rule: every attempt is shown with what came back; if nothing answers, the likely cause and the next step are printed.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import Working, env_option, file_option, gather_given, gathered, lexicon_option, named_lexicon
from wexicon.cli.printing import print_folded, print_remarks
from wexicon.cli.progress import LiveTable
from wexicon.cli.show import emit_json, ending, print_line, print_note, print_table, print_warning, styled
from wexicon.core.faults import Fault
from wexicon.core.text import spoken, visible

if TYPE_CHECKING:
    from wexicon.core.results.listed import Attempt, HailResult

WIDEST = 14
CAME = {"nothing": "-", "garbage": "garbage", "echo": "echo"}


class HailCall(msgspec.Struct):
    """The options of `hail`."""

    port: str | None
    lexicon_name: str | None
    escapes: bool
    listing: bool
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    how: Working


@click.command(cls=Command)
@click.argument("port", required=False)
@lexicon_option
@click.option("--escapes", is_flag=True, help="Also say the lexicons' escapes, with guard time.")
@click.option("--list", "listing", is_flag=True, help="List every line hail may say, then exit.")
@env_option
@file_option
@gathered(HailCall)
def hail(call: HailCall) -> None:
    """Detect rate, frame, line ending, echo and lexicon of the module on PORT.

    Examples:
      wexicon hail /dev/ttyUSB0
      wexicon hail /dev/ttyUSB0 --lexicon tamsel-k5

    Without PORT every free port is tried. With --lexicon the module is found as that lexicon says, with the operator's
    help if needed. The result is stored per port; other commands start from it.

    Exit status: 0 found; 3 not found.
    """
    from wexicon import api

    if call.listing:
        _print_list(call.how.as_json)
        return
    if call.port is None:
        _hail_all(call)
        return
    path = api.port_named(call.port)
    result = _hail(path, call, quiet=call.how.as_json)
    # The next command is printed with the name that was typed.
    result.command = result.command.replace(path, call.port)
    for one in result.by_hand:
        one.command = one.command.replace(path, call.port)
    with ending(result.status):
        emit_json(result) if call.how.as_json else print_hail(result)


def _hail(port: str, call: HailCall, *, quiet: bool) -> HailResult:
    from wexicon import api

    tries: list[Attempt] = []
    live = not call.lexicon_name
    with (
        LiveTable(lambda: board(tries), quiet=quiet or not live),
        call.how.working(f"hail of {port}", quiet=live and not quiet and sys.stderr.isatty()) as setup,
    ):
        return api.hail(port, call.lexicon_name, setup, escapes=call.escapes, given=_given(call), progress=tries.append)


def _given(call: HailCall) -> dict[str, object]:
    """What the lexicon's attention may need."""

    lexicon = named_lexicon(call.lexicon_name, Path()) if call.lexicon_name else None
    return gather_given(lexicon, call.env_pairs, call.file_pairs)


def _hail_all(call: HailCall) -> None:
    from wexicon import api

    results: list[HailResult] = []
    for one in api.found_ports():
        if one.used_by:
            print_note(f"{one.port}: in use by {one.used_by}; left alone")
            continue
        if not call.how.as_json:
            print_note(f"{one.port} {visible(one.what)}", "bold")
        try:
            results.append(_hail(one.port, call, quiet=True))
        except Fault as fault:
            if fault.status == 130:
                raise
            print_warning(str(fault))
        call.how.trace_path = None
    with ending(0 if any(result.found for result in results) else 3):
        emit_json(results) if call.how.as_json else _print_all(results)


def board(tries: list[Attempt]) -> tuple[list[str], list[list[str]]]:
    """The tries as columns and rows: what came last on each link to each question."""
    asked = list(dict.fromkeys(_asked(one) for one in tries))
    cells: dict[str, dict[str, str]] = {}
    for one in tries:
        here = cells.setdefault(f"{one.rate} {one.frame}", {})
        here[_asked(one)] = CAME.get(one.came) or _short(one.heard, one.asked)
    return ["link", *asked], [[link, *(here.get(word, "") for word in asked)] for link, here in cells.items()]


def _asked(one: Attempt) -> str:
    if not one.asked:
        return "(listens)"
    end = f" {one.end}" if one.asked == "AT" else ""
    return visible(one.asked if len(one.asked) <= WIDEST else one.asked[: WIDEST - 3] + "...") + end


def _short(heard: str, asked: str) -> str:
    lines = [line.strip() for line in heard.replace("\r", "\n").split("\n") if line.strip() not in ("", asked)]
    text = visible(" ".join(lines))
    return text if len(text) <= WIDEST else text[: WIDEST - 3] + "..."


def print_hail(result: HailResult) -> None:
    """Prints the family found, or the likely cause if none was."""
    if any(one.came != "nothing" for one in result.tries) and (result.found or len(result.tries) < 30):
        print_table(*board(result.tries))
        print_line("")
    if result.found:
        _print_found(result)
    elif result.cause:
        _print_not_found(result)
    print_remarks(result.remarks)


def _tries(result: HailResult) -> str:
    return "1 try" if len(result.tries) == 1 else f"{len(result.tries)} tries"


def _print_found(result: HailResult) -> None:
    end = f", line ending {result.end}" if result.end else ""
    echo = "" if result.echo is None else ", echo on" if result.echo else ", no echo"
    tries = f"{_tries(result)} in " if result.tries else ""
    print_line(f"found: {result.rate} {result.frame}{end}{echo}; {tries}{spoken(result.seconds)}", "green")
    if result.family:
        told = ", ".join(f"{name} {visible(value)}" for name, value in result.identity.items())
        print_line(f"module    {result.family}" + (f": {told}" if told else ""))
    if result.lexicons:
        print_line(f"lexicons  {', '.join(result.lexicons)}")
    elif result.said:
        print_line(f"it said   {visible(result.said)}")
    if result.cause:
        print_folded(f"{result.cause.what}. {result.cause.next}", "magenta")
    print_line(f"next      {result.command}")


def _print_not_found(result: HailResult) -> None:
    assert result.cause
    tries = f" ({_tries(result)} in {spoken(result.seconds)})" if result.tries else ""
    # A module that was heard in data mode was found; what it lacks is command mode.
    head = "no command mode" if result.cause.kind == "data-mode" else "not found"
    print_line(styled(head, "bold red") + f": {result.cause.what}{tries}")
    print_folded(f"  {result.cause.next}")
    if result.by_hand:
        print_line("")
        if result.family:
            one = result.by_hand[0]
            print_folded(f"{one.lexicon}: {one.operator}")
            print_line(f"then: {one.command}")
            return
        print_line("These families need an operator action first:", "bold")
        rows = [(one.lexicon, one.operator, one.command) for one in result.by_hand]
        print_table(("family", "what it needs", "then"), rows)


def _print_all(results: list[HailResult]) -> None:
    rows = []
    for one in results:
        link = f"{one.rate} {one.frame}" if one.rate else ""
        what = one.family or (one.said if one.found else "")
        told = one.command if one.found else one.cause.what if one.cause else ""
        rows.append((one.port, link, what, told))
    if rows:
        print_table(("port", "link", "module", "next step or likely cause"), rows)
    else:
        print_line("no free port; `wexicon ports` lists all ports")


def _print_list(as_json: bool) -> None:
    from wexicon.work.contact.catalog import all_lexicons
    from wexicon.work.contact.identification import all_that_may_be_said

    rows = all_that_may_be_said(all_lexicons())
    if as_json:
        from wexicon.core.results.listed import HailLine

        emit_json([HailLine(when, list(says), list(names)) for when, says, names in rows])
        return
    shown = [(when, "   ".join(says), ", ".join(names) or "ITU-T V.250") for when, says, names in rows]
    print_table(("when", "says", "of"), shown)
