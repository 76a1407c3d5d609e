"""`wexicon hail`: finds the link of a module of which nothing is known, and the lexicon that fits it.

The rule: every try is shown with what came back; where nothing answers, it is said what that points to and what to do.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.live import LiveTable
from wexicon.cli.options import lexicon_option
from wexicon.cli.printing import print_folded, print_remarks
from wexicon.cli.show import ending, print_json, print_line, print_table, styled
from wexicon.cli.working import Working, works_a_module
from wexicon.core.durations import spoken
from wexicon.core.faults import Fault
from wexicon.core.text import visible

if TYPE_CHECKING:
    from wexicon.work.results.discovery import Attempt, HailResult

WIDEST = 14
CAME = {"nothing": "-", "garbage": "garbage", "echo": "echo"}


@click.command()
@click.argument("port", required=False)
@lexicon_option
@click.option("--escapes", is_flag=True, help="Also say the lexicons' escapes, with guard time.")
@click.option("--list", "listing", is_flag=True, help="List every line hail may say, then exit.")
@works_a_module
def hail(port: str | None, lexicon_name: str | None, escapes: bool, listing: bool, how: Working, as_json: bool) -> None:
    """Detect rate, frame, line ending, echo and lexicon of the module on PORT.

    Without PORT every free port is tried. With --lexicon the module is found as that lexicon says, with the operator's
    help if needed. The result is stored per port; other commands start from it.

    Exit status: 0 found; 3 not found.
    """
    from wexicon.work.contact.ports import found_ports, port_named

    if listing:
        _print_list(as_json)
        return
    if port is not None:
        path = port_named(port)
        result = hail_port(path, lexicon_name, how, escapes=escapes, quiet=as_json)
        # What to type next is told with the name that was typed now.
        result.command = result.command.replace(path, port)
        for hand in result.by_hand:
            hand.command = hand.command.replace(path, port)
        with ending(result.status):
            print_json(result) if as_json else print_hail(result)
        return
    results: list[HailResult] = []
    for one in found_ports():
        if one.used_by:
            click.echo(f"{one.port}: in use by {one.used_by}; left alone", err=True)
            continue
        if not as_json:
            click.echo(styled(f"{one.port} {visible(one.what)}", "bold"), err=True)
        try:
            results.append(hail_port(one.port, lexicon_name, how, escapes=escapes, quiet=True))
        except Fault as fault:
            if fault.status == 130:
                raise
            click.echo(str(fault), err=True)
        how.trace_path = None
    with ending(0 if any(result.found for result in results) else 3):
        print_json(results) if as_json else _print_all(results)


def hail_port(
    port: str, lexicon_name: str | None, how: Working, *, escapes: bool = False, quiet: bool = False
) -> HailResult:
    """Hails one port, and remembers what was found. Raises Fault where the port cannot be opened."""
    from wexicon.work.contact.catalog import all_lexicons, lexicon_for
    from wexicon.work.contact.discovery import LinkDiscovery
    from wexicon.work.contact.known_links import remember, remembered
    from wexicon.work.module.hail import hail_with
    from wexicon.work.results.discovery import HailResult

    if lexicon_name:
        lexicon = lexicon_for(lexicon_name, Path())
        with how.module(port, lexicon, "hail", told=f"hail of {port}") as module:
            result = hail_with(module, HailResult(port))
    else:
        known, lexicons = remembered(port), all_lexicons()
        links = how.links(None, port)
        tuning = links[0] if links else None
        tries: list[Attempt] = []
        with (
            LiveTable(lambda: board(tries), quiet=quiet),
            how.session(port, None, "hail", tuning=tuning, quiet=True) as (session, _),
        ):
            first = tuning if how.rate or how.frame else None
            result = LinkDiscovery(
                session, lexicons, known=known, with_escapes=escapes, told=tries.append, first=first
            ).run()
        if result.found:
            from wexicon.core.tuning import Tuning

            first_fit = result.lexicons[0] if result.lexicons else ""
            remember(port, Tuning.of(result.rate, result.frame), result.end, first_fit)
    result.trace = str(how.trace_path)
    return result


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
    """What was found, or what it points to that nothing was."""
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
    print_line(f"found: {result.rate} {result.frame}{end}{echo}; {tries}{spoken(result.seconds)}", "bold green")
    if result.family:
        told = ", ".join(f"{name} {visible(value)}" for name, value in result.identity.items())
        print_line(f"module    {result.family}" + (f": {told}" if told else ""))
    if result.lexicons:
        print_line(f"lexicons  {', '.join(result.lexicons)}")
    elif result.said:
        print_line(f"it said   {visible(result.said)}")
    if result.cause:
        print_folded(f"{result.cause.what}. {result.cause.next}", "yellow")
    print_line(f"next      {result.command}")


def _print_not_found(result: HailResult) -> None:
    assert result.cause
    tries = f" ({_tries(result)} in {spoken(result.seconds)})" if result.tries else ""
    # A module that was heard in data mode was found; what it lacks is command mode.
    head = "no command mode" if result.cause.kind == "data-mode" else "not found"
    click.echo(styled(head, "bold red") + f": {result.cause.what}{tries}")
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
    from wexicon.work.contact.questions import all_that_may_be_said

    rows = all_that_may_be_said(all_lexicons())
    if as_json:
        print_json([{"when": when, "says": says, "lexicons": names} for when, says, names in rows])
        return
    shown = [(when, "   ".join(says), ", ".join(names) or "ITU-T V.250") for when, says, names in rows]
    print_table(("when", "says", "of"), shown)
