"""`wexicon traffic`: data passed through a finished link, or through one port looped back, and counted.

The rule: a module that sends by command does so as its lexicon says; all others pass everything through.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.live import LiveTable
from wexicon.cli.options import Duration, Stop, operator_for
from wexicon.cli.printing import print_failure
from wexicon.cli.progress import Progress
from wexicon.cli.show import ending, print_json, print_line, print_table
from wexicon.cli.working import Working, works_a_module
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault
from wexicon.core.text import counted
from wexicon.files import OVERWRITE, write_new
from wexicon.work.function.endpoints import Endpoint

if TYPE_CHECKING:
    from wexicon.work.results.traffic import Direction, TrafficResult

_COLUMNS = ("way", "sent", "received", "lost", "damaged", "duplicate", "median", "95 %")


@click.command()
@click.argument("ports", metavar="A [B]", nargs=-1, required=True)
@click.option("--count", type=click.IntRange(1), help="Number of packets.  [default: 20, or as many as fit --for]")
@click.option("--for", "duration", type=Duration(), default=0.0, help="How long to send, such as 30s or 5m.")
@click.option("--size", type=click.IntRange(24, 240), default=32, show_default=True, help="Bytes of a packet.")
@click.option("--every", type=Duration(), default=0.0, help="Send interval.  [default: after each answer]")
@click.option("--within", type=Duration(), default="2s", show_default=True, help="Answer timeout.")
@click.option("--bytes", "any_bytes", is_flag=True, help="Binary packets, not text lines.")
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon of the modules.  [default: the one stored for the port]")
@click.option("--data", "passes", is_flag=True, help="Treat modules as transparent; ignore the lexicon.")
@click.option(
    "--plot", "plot_path", type=click.Path(path_type=Path), help="Draw round trip and loss (.png, .svg, .pdf)."
)
@works_a_module
def traffic(
    ports: tuple[str, ...],
    count: int | None,
    duration: float,
    size: int,
    every: float,
    within: float,
    any_bytes: bool,
    lexicon_name: str | None,
    passes: bool,
    plot_path: Path | None,
    how: Working,
    as_json: bool,
) -> None:
    """Send numbered packets from port A to port B, with an answer to each; count lost, damaged and duplicate packets.

    With A alone: loopback (TX wired to RX).

    Exit status: 0 all packets received intact, no duplicates; 1 some were not; 3 nothing received, or a port is unreachable.
    """
    from wexicon.records.plots import KINDS, plot_traffic
    from wexicon.work.contact.ports import port_named
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest, prepare

    names = [port_named(port) for port in ports]
    if len(names) > 2 or len(set(names)) < len(names):
        raise CallFault("traffic needs one port or two", hint="Name A and B, or A alone.")
    if how.trace_path and len(names) > 1:
        raise CallFault("--trace cannot be used with two ports: each gets a dated trace", hint="Remove --trace.")
    if plot_path and plot_path.suffix.removeprefix(".").lower() not in KINDS:
        raise CallFault(f"is none of .{', .'.join(KINDS)}", where=str(plot_path))
    if plot_path and plot_path.exists() and not how.force:
        raise CallFault("already exists; nothing was sent", where=str(plot_path), hint=OVERWRITE)
    seed = int.from_bytes(os.urandom(4), "big")
    order = TrafficOrder(count or (0 if duration else 20), duration, size, not any_bytes, every, within, seed)
    with ExitStack() as stack:
        stop = stack.enter_context(Stop().listening())
        traces: list[str] = []
        ends = [_end(stack, name, lexicon_name, passes, any_bytes, how, stop, traces) for name in names]
        prepare(ends, size)
        passing = TrafficTest(ends, order, ports)
        # What has come so far, drawn anew on a terminal.
        stack.enter_context(LiveTable(lambda: (_COLUMNS, [_row(way) for way in passing.ways()]), quiet=as_json))
        result = passing.run(stop)
        result.traces = traces
    if plot_path:
        trips = [(one.at, one.there, one.round_trip) for one in result.trips]
        title = f"{' and '.join(ports)}: {size} bytes a packet"
        kind = plot_path.suffix.removeprefix(".").lower()
        write_new(plot_path, plot_traffic(title, trips, kind, two_ways=len(names) > 1), force=how.force)
    with ending(result.status):
        if as_json:
            print_json(result)
        else:
            _print(result)
            if plot_path:
                print_line(f"wrote {plot_path}")


def _end(
    stack: ExitStack,
    port: str,
    lexicon_name: str | None,
    passes: bool,
    any_bytes: bool,
    how: Working,
    stop: Callable[[], bool],
    traces: list[str],
) -> Endpoint:
    """One end, ready to send. Raises Fault."""
    from wexicon.core.tuning import Tuning
    from wexicon.work.contact.catalog import lexicon_for
    from wexicon.work.contact.known_links import remembered
    from wexicon.work.contact.sessions import default_trace, session_on
    from wexicon.work.function.endpoints import CommandEndpoint, TransparentEndpoint

    known = remembered(port)
    named = lexicon_name or (known.lexicon if known else "")
    lexicon = lexicon_for(named, Path()) if named else None
    table = lexicon.traffic if lexicon and not passes else None
    if table and any_bytes:
        raise CallFault(f"{port}: its module sends text by command", hint="Leave --bytes out.")
    trace = how.trace_path or default_trace("traffic")
    traces.append(str(trace))
    hands = how.hands_and_links(lexicon, port)
    if lexicon is None or table is None:
        tuning = next(iter(hands[1]), lexicon.factory if lexicon else Tuning())
        opened = session_on(port, None, trace=trace, tuning=tuning, force=how.force, stopping=stop, flow=how.flow)
        return TransparentEndpoint(stack.enter_context(opened))
    end = CommandEndpoint()
    session = stack.enter_context(
        session_on(port, lexicon, trace=trace, force=how.force, stopping=stop, listener=end, flow=how.flow)
    )
    progress = stack.enter_context(Progress(port, quiet=True))
    module = stack.enter_context(how.module_on(session, operator_for(how.hands, port, progress), port, lexicon, hands))
    module.attention.gain([*module.likely, lexicon.factory])
    module.identify()
    end.use(module, table)
    return end


def _row(way: Direction) -> list[str]:
    counts = [way.sent, way.received, way.lost, way.damaged, way.doubled]
    return [way.way, *map(str, counts), *(spoken(one) if one is not None else "" for one in (way.median, way.most))]


def _print(result: TrafficResult) -> None:
    links = ", ".join(f"{port} at {link}" for port, link in zip(result.ports, result.links, strict=True))
    print_line(f"{links}; {result.size} bytes a packet")
    print_table(_COLUMNS, [_row(way) for way in result.ways], ours=8)
    if result.median is not None and result.most is not None:
        told = f"round trip: median {spoken(result.median)}, 95 % within {spoken(result.most)}"
        print_line(f"{told}; {result.rate:g} bytes/s of packets in all")
    for port, names in result.signal.items():
        heard = ", ".join(f"{name} {middle:g} ({least:g} to {most:g})" for name, (least, middle, most) in names.items())
        print_line(f"heard at {port}: {heard}")
    if result.strange:
        print_line(f"note: {counted(result.strange, 'byte')} received outside any packet", "yellow")
    if result.failure:
        print_failure(result.failure, result.verdict, ", ".join(result.traces))
    else:
        sent = sum(way.sent for way in result.ways)
        print_line(
            f"passed: {sent} packets sent, {sent} received intact, no duplicates, in {spoken(result.seconds)}",
            "bold green",
        )
