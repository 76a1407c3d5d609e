"""`wexicon traffic`: test packets over a link, or over one port that is looped back.

The rule: a module that sends by command does so as its lexicon says; all others are transparent.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import DurationType, Working, gathered
from wexicon.cli.printing import check_plot, kind_of, print_failure, with_unit
from wexicon.cli.progress import LiveTable, Table
from wexicon.cli.show import emit_json, ending, print_line, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, spoken
from wexicon.files import write_new

if TYPE_CHECKING:
    from wexicon.core.results.functions import Direction, FlowResult, SweepPoint, TrafficResult
    from wexicon.work.function.traffic import TrafficOrder, TrafficTest

_COLUMNS = ("way", "sent", "received", "lost", "damaged", "duplicate", "median", "95 %")


class TrafficCall(msgspec.Struct, kw_only=True):
    """The options of `traffic`."""

    ports: tuple[str, ...]
    count: int | None
    duration: float
    size: int
    every: float
    within: float
    any_bytes: bool
    lexicon_name: str | None
    passes: bool
    plot_path: Path | None
    sweep_text: str | None
    rig_path: Path | None
    distances: str | None
    flow_proof: bool
    how: Working


@click.command(cls=Command)
@click.argument("ports", metavar="A [B]", nargs=-1, required=True)
@click.option("--count", type=click.IntRange(1), help="Number of packets.  [20, or as many as fit --for]")
@click.option("--for", "duration", type=DurationType(), default=0.0, help="How long to send, such as 30s or 5m.")
@click.option("--size", type=click.IntRange(24, 240), default=32, show_default=True, help="Bytes of a packet.")
@click.option("--every", type=DurationType(), default=0.0, help="Send interval.  [after each answer]")
@click.option("--within", type=DurationType(), default="2s", show_default=True, help="Answer timeout.")
@click.option("--bytes", "any_bytes", is_flag=True, help="Binary packets, not text lines.")
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file.  [the one stored for the port]")
@click.option("--data", "passes", is_flag=True, help="Treat modules as transparent; ignore the lexicon.")
@click.option(
    "--plot", "plot_path", type=click.Path(path_type=Path), help="Draw round trip and loss (.png, .svg, .pdf)."
)
@click.option(
    "--sweep",
    "sweep_text",
    metavar="NAME=VALUES,...",
    help="Repeat it at each of these settings of both modules, such as spreading=7..12,power=2,14; they are put back.",
)
@click.option(
    "--rig",
    "rig_path",
    type=click.Path(path_type=Path),
    help="In virtual time, between units A and B of this rig file.",
)
@click.option("--distance", "distances", metavar="KM,...", help="With --rig and --sweep: at each of these distances.")
@click.option("--flow-proof", is_flag=True, help="Does flow control hold? Send to a reader that does not read.")
@gathered(TrafficCall)
def traffic(call: TrafficCall) -> None:
    """Send numbered packets from port A to port B, with an answer to each; count lost, damaged and duplicate packets.

    Examples:
      wexicon traffic /dev/ttyUSB0 /dev/ttyUSB1 --count 100
      wexicon traffic mast relay --rig estuary.toml --sweep spreading=7..12

    With A alone: loopback (TX wired to RX).

    Exit status: 0 all packets received intact, no duplicates; 1 some were not; 3 nothing received, or a port is unreachable.
    """
    from wexicon import api

    check_plot(call.plot_path, call.how.force)
    order = api.TrafficOrder(
        count=call.count or (0 if call.duration else 20),
        duration=call.duration,
        size=call.size,
        lines=not call.any_bytes,
        every=call.every,
        within=call.within,
        seed=int.from_bytes(os.urandom(4), "big"),
    )
    if call.flow_proof:
        _prove_flow(call, order)
    distances = _distances(call)
    if call.sweep_text:
        _sweep(call, order, distances)
    tests: list[TrafficTest] = []
    if call.rig_path:
        result = api.rehearse_traffic(call.rig_path, call.ports, order, call.lexicon_name, transparent=call.passes)
    else:
        with (
            call.how.working("traffic", quiet=True) as setup,
            LiveTable(lambda: (_COLUMNS, [_row(way) for test in tests for way in test.ways()]), quiet=call.how.as_json),
        ):
            result = api.traffic(
                call.ports, order, call.lexicon_name, setup, transparent=call.passes, watch=tests.append
            )
    if call.plot_path:
        _plot(result, call.plot_path, call.how.force)
    with ending(result.status):
        if call.how.as_json:
            emit_json(result)
        else:
            _print(result)
            if call.plot_path:
                print_line(f"wrote {call.plot_path}")


def _prove_flow(call: TrafficCall, order: TrafficOrder) -> NoReturn:
    """Flow control, by a reader that does not read."""
    from wexicon import api

    if call.sweep_text or call.rig_path or call.any_bytes or call.plot_path:
        raise CallFault("--flow-proof goes with none of --sweep, --rig, --bytes and --plot")
    usual = api.FlowOrder()
    volume = call.count * call.size if call.count else usual.volume
    proof = api.FlowOrder(volume, call.size if call.count else usual.size, order.seed)
    with call.how.working("flow control", quiet=call.how.as_json) as setup:
        result = api.prove_flow(call.ports, proof, call.lexicon_name, setup)
    with ending(result.status):
        if call.how.as_json:
            emit_json(result)
        else:
            _print_flow(result)
    raise AssertionError


def _print_flow(result: FlowResult) -> None:
    ports = " to ".join(result.ports)
    sent = f"{result.sent} packets of {result.size} bytes sent, {result.received} received"
    print_line(f"{ports}, flow control {result.flow}: {sent}, in {spoken(result.seconds)}")
    if result.holds:
        print_line(f"the sender was held back {counted(len(result.holds), 'time')}, {spoken(result.held)} in all")
    if result.failure:
        print_failure(result.failure, result.verdict, ", ".join(result.traces))
    else:
        print_line("passed: it holds; nothing was lost", "green")


def _distances(call: TrafficCall) -> list[float]:
    """The distances in kilometres. Raises CallFault."""
    if call.distances is None:
        return []
    if not call.rig_path or not call.sweep_text:
        raise CallFault("--distance needs --rig and --sweep: only stand-ins can be put elsewhere")
    try:
        found = [float(text) for text in call.distances.split(",")]
    except ValueError:
        found = []
    if not found or not all(0 < one <= 1000 for one in found):
        raise CallFault(f"--distance: {call.distances!r} is not a list of kilometres", hint="Write --distance 0.1,1,5.")
    return found


def _sweep(call: TrafficCall, order: TrafficOrder, distances: Sequence[float]) -> NoReturn:
    """The traffic test at several settings, as a table that grows while it runs."""
    from wexicon import api
    from wexicon.records.plots import plot_sweep
    from wexicon.work.function.traffic import too_slow

    points: list[SweepPoint] = []
    with (
        call.how.working("sweep", quiet=True) as setup,
        LiveTable(lambda: _points(points), quiet=call.how.as_json),
    ):
        text, lexicon = call.sweep_text or "", call.lexicon_name
        if call.rig_path:
            result = api.rehearse_sweep(
                call.rig_path,
                call.ports,
                text,
                order,
                lexicon,
                distances=distances,
                stopping=setup.stopping,
                measured=points.append,
            )
        else:
            result = api.sweep(call.ports, text, order, lexicon, setup, measured=points.append)
    if call.plot_path and result.points:
        title = f"{' and '.join(result.ports)}: {counted(order.count, 'packet')} of {order.size} bytes at each point"
        drawn = [(one.settings, one.lost, one.median, _middle(one)) for one in result.points]
        kind = kind_of(call.plot_path)
        write_new(call.plot_path, plot_sweep(title, drawn, kind), force=call.how.force)
    with ending(result.status):
        if call.how.as_json:
            emit_json(result)
        else:
            print_table(*_points(result.points))
            if result.failure:
                print_failure(result.failure, result.verdict, ", ".join(result.traces))
            most = max((one.median for one in result.points if one.lost and one.median), default=None)
            if slow := too_slow(most, order.within):
                print_line(slow)
            if result.restored:
                print_line("the settings of both modules are as before, read back", "green")
            if call.plot_path and result.points:
                print_line(f"wrote {call.plot_path}")
    raise AssertionError


def _points(points: Sequence[SweepPoint]) -> Table:
    """The points of a sweep as a table."""
    names = list(points[0].settings) if points else []
    units = {name: {one.settings[name].partition(" ")[2] for one in points} for name in names}
    heads = [
        f"{name} ({next(iter(units[name]))})" if len(units[name]) == 1 and "" not in units[name] else name
        for name in names
    ]
    heard = list(dict.fromkeys(name for one in points for names_ in one.signal.values() for name in names_))
    columns = (*heads, "sent", "received", "lost (%)", *map(with_unit, heard), "round trip")
    rows = []
    for one in points:
        sent, received = sum(way.sent for way in one.ways), sum(way.received for way in one.ways)
        signal = [f"{value:g}" if (value := _middle(one, name)) is not None else "" for name in heard]
        trip = spoken(one.median) if one.median is not None else ""
        values = [
            text.partition(" ")[0] if head != name else text
            for head, (name, text) in zip(heads, one.settings.items(), strict=True)
        ]
        rows.append([*values, str(sent), str(received), f"{one.lost:g}", *signal, trip])
    return columns, rows


def _middle(point: SweepPoint, name: str = "rssi") -> float | None:
    """What the receivers reported at a point, in the middle; None if nothing was heard."""
    values = [heard[name][1] for heard in point.signal.values() if name in heard]
    return round(sum(values) / len(values), 1) if values else None


def _plot(result: TrafficResult, path: Path, force: bool) -> None:
    from wexicon.records.plots import plot_traffic

    trips = [(one.at, one.there, one.round_trip) for one in result.trips]
    title = f"{' and '.join(result.ports)}: {result.size} bytes a packet"
    kind = kind_of(path)
    write_new(path, plot_traffic(title, trips, kind, two_ways=len(result.ports) > 1), force=force)


def _row(way: Direction) -> list[str]:
    counts = [way.sent, way.received, way.lost, way.damaged, way.duplicates]
    return [way.way, *map(str, counts), *(spoken(one) if one is not None else "" for one in (way.median, way.most))]


def _print(result: TrafficResult) -> None:
    links = ", ".join(f"{port} at {link}" for port, link in zip(result.ports, result.links, strict=True))
    print_line(f"{links}; {result.size} bytes a packet")
    print_table(_COLUMNS, [_row(way) for way in result.ways], ours=8)
    if result.median is not None and result.most is not None:
        told = f"round trip: median {spoken(result.median)}, 95 % within {spoken(result.most)}"
        print_line(f"{told}; {result.rate:g} bytes/s of packets in all")
    for port, names in result.signal.items():
        heard = ", ".join(
            f"{with_unit(name)} {middle:g} ({least:g} to {most:g})" for name, (least, middle, most) in names.items()
        )
        print_line(f"heard at {port}: {heard}")
    if result.strange:
        print_line(f"note: {counted(result.strange, 'byte')} received outside any packet", "magenta")
        for port, lines in result.instead.items():
            print_line(f"came instead at {port}: {', '.join(lines)}", "magenta")
    if result.failure:
        print_failure(result.failure, result.verdict, ", ".join(result.traces))
    else:
        sent = sum(way.sent for way in result.ways)
        print_line(
            f"passed: {sent} packets sent, {sent} received intact, no duplicates, in {spoken(result.seconds)}",
            "green",
        )
