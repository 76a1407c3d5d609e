"""`wexicon trace list`, `compare`, `plot`, `export` and `import`: what is done with traces besides reading them.

The rule: a trace is named by its file, its unit, its port, or `last`; listing and exporting take no more memory for a longer
trace.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.help import Command
from wexicon.cli.show import (
    emit,
    emit_json,
    ending,
    force_option,
    json_option,
    output_option,
    print_line,
    print_table,
    styled,
)
from wexicon.core.faults import CallFault
from wexicon.core.protocol.line_faults import Side
from wexicon.core.text import counted, in_file_names, spoken, visible
from wexicon.files import read_file, state_folder, write_new

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon, Phrase
    from wexicon.records.trace import Record
    from wexicon.records.trace_list import Difference
    from wexicon.records.trace_plot import Span

KINDS = ("csv", "txt", "pcapng")
LONGEST = 60


def trace_named(name: str) -> Path:
    """The trace of a name. Raises CallFault."""
    from wexicon.records.trace_list import find_trace

    return find_trace(name, state_folder() / "traces")


@click.command("list", cls=Command)
@click.option("--unit", help="Only those of this unit, by its identity or its name in a sheet.")
@click.option("--port", help="Only those of this port.")
@click.option("--verdict", help="Only those with this verdict, such as failed.")
@click.option("--last", "count", type=click.IntRange(1), default=30, show_default=True, help="How many.")
@json_option
def list_(unit: str | None, port: str | None, verdict: str | None, count: int, as_json: bool) -> None:
    """List the traces in the state folder, the newest first.

    Examples:
      wexicon trace list
      wexicon trace list --verdict failed
    """
    from wexicon.records.trace_list import all_traces

    def wanted(info: object) -> bool:
        own = (info.unit, info.unit.partition(" ")[2])  # type: ignore[attr-defined]
        return (
            (not unit or unit in own or in_file_names(unit) == info.title)  # type: ignore[attr-defined]
            and (not port or port == info.port)  # type: ignore[attr-defined]
            and (not verdict or verdict == info.verdict)  # type: ignore[attr-defined]
        )

    found = list(islice((one for one in all_traces(state_folder() / "traces") if wanted(one)), count))
    if as_json:
        emit_json(found)
        return
    if not found:
        print_line("no traces")
        return
    rows = [
        [
            f"{one.when:%Y-%m-%d %H:%M:%S}" if one.when else "",
            one.title,
            one.unit,
            one.port,
            spoken(round(one.seconds, 1)),
            one.verdict or ("no end" if one.open else ""),
            Path(one.path).name,
        ]
        for one in found
    ]
    print_table(("when (UTC)", "what", "unit", "port", "took", "verdict", "file"), rows, ours=5)


@click.command(cls=Command)
@click.argument("first", metavar="A")
@click.argument("second", metavar="B")
@click.option("--times", is_flag=True, help="Also compare how long the answers took.")
@json_option
def compare(first: str, second: str, times: bool, as_json: bool) -> None:
    """Compare two traces exchange by exchange: lines that differ, are missing, or came in another order.

    Examples:
      wexicon trace compare boot.jsonl works.jsonl
      wexicon trace compare "mast M1" "mast M2" --times

    Exit status: 0 no difference; 1 there are some; 2 a trace cannot be read.
    """
    from wexicon.records.trace_list import compare
    from wexicon.work.contact.kept_traces import masked_session

    paths = [trace_named(name) for name in (first, second)]
    a, b = (masked_session(path).exchanges for path in paths)
    made = compare(a, b, times=times)
    with ending(1 if made.differences else 0):
        if as_json:
            emit_json(made)
            return
        print_line(f"A {paths[0].name}: {counted(made.first, 'exchange')}")
        print_line(f"B {paths[1].name}: {counted(made.second, 'exchange')}")
        if made.differences:
            _print_first(made.differences[0])
            print_table(("A", "B", "difference", "said", "in A", "in B"), [_row(one) for one in made.differences[:200]])
            if len(made.differences) > 200:
                print_line(f"and {len(made.differences) - 200} more; --json has them all")
        told = f"{counted(len(made.differences), 'difference')}, {made.same} exchanges are the same"
        print_line(told, "bold magenta" if made.differences else "green")


def _row(one: Difference) -> list[str]:
    a, b = (f"{each:.3f} s" for each in one.times) if one.times else (_short(one.a), _short(one.b))
    return [str(one.first or ""), str(one.second or ""), str(one.kind), _short(one.said), a, b]


def _short(text: str) -> str:
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}..."


def _print_first(one: Difference) -> None:
    """The first difference, one line above the other, with a mark below the first character that differs."""
    from wexicon.records.trace_list import apart

    if not (one.a or one.b):
        return
    at = apart(one.a, one.b)
    start = max(0, at - LONGEST)
    shown = [visible(text[start : start + 2 * LONGEST]) for text in (one.a, one.b)]
    print_line(f"first difference, after “{visible(_short(one.said))}”:", "bold")
    print_line(f"  A  {shown[0]}")
    print_line(f"  B  {shown[1]}")
    emit("     " + " " * len(visible(one.a[start:at])) + styled("^", "bold red"))


@click.command(cls=Command)
@click.argument("name", metavar="TRACE")
@output_option("The figure: .png, .svg or .pdf.")
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file.  [the module's own]")
@force_option
def plot(name: str, output: Path, lexicon_name: str | None, force: bool) -> None:
    """Draw TRACE: steps, lines said and heard, events, waiting, the link, and states that the
    module reports (asleep, registered) over time; where the time went.

    Examples:
      wexicon trace plot last -o boot.png
      wexicon trace plot "mast M2" -o masts.svg
    """
    from wexicon.cli.printing import check_plot, kind_of
    from wexicon.records.trace import read_trace
    from wexicon.records.trace_plot import plot_trace

    check_plot(output, force)
    found = trace_named(name)
    records = list(read_trace(found))
    made = plot_trace(found.stem, records, kind_of(output), _states(records, lexicon_name))
    write_new(output, made, force=force)
    print_line(f"wrote {output}")


def _states(records: Sequence[Record], lexicon_name: str | None) -> dict[str, list[Span]]:
    """The states that the events of a trace report, by the lexicon that was named or is the module's. Raises Fault."""
    from wexicon.core.faults import Fault
    from wexicon.records.trace import What
    from wexicon.work.contact.catalog import find_lexicon
    from wexicon.work.function.tracks import States

    family = next((one.name.split()[0] for one in records if one.what is What.FINISHED and one.name), "")
    try:
        lexicon = find_lexicon(lexicon_name or family) if lexicon_name or family else None
    except Fault:
        if lexicon_name:
            raise
        lexicon = None
    if lexicon is None:
        return {}
    heard, states = lexicon.listening, States(())
    for one in records:
        if one.what is What.HEARD and (reports := heard.states.get(one.name)) and reports[1] in one.values:
            states.take(one.at, reports[0], heard.shown(one.name, reports[1], one.values[reports[1]]))
    states.end(records[-1].at if records else 0.0)
    return {name: [(one.begins, one.ends, one.state) for one in track.spans] for name, track in states.tracks.items()}


@click.command(cls=Command)
@click.argument("name", metavar="TRACE")
@output_option("The file: .csv, .txt or .pcapng.")
@force_option
def export(name: str, output: Path, force: bool) -> None:
    """Write TRACE as .csv, .txt, or .pcapng for packet viewers (link type USER0, both directions).

    Examples:
      wexicon trace export last -o boot.csv
      wexicon trace export last -o boot.pcapng
    """
    from wexicon.cli.trace_lines import record_line
    from wexicon.records.trace import What, read_trace
    from wexicon.records.trace_list import as_csv, as_packets
    from wexicon.work.contact.kept_traces import masked_records

    kind = output.suffix.removeprefix(".").lower()
    if kind not in KINDS:
        raise CallFault(f"is none of .{', .'.join(KINDS)}", where=str(output))
    found = trace_named(name)
    records = masked_records(found)
    if kind == "csv":
        write_new(output, (text.encode() for text in as_csv(records)), force=force)
    elif kind == "txt":
        write_new(output, (f"{record_line(one, coloured=False)}\n".encode() for one in records), force=force)
    else:
        ends = {"cr": "\r", "lf": "\n", "crlf": "\r\n"}
        by_party = {one.party: ends.get(one.end, "") for one in read_trace(found) if one.what is What.OPENED}
        write_new(output, as_packets(records, lambda party: by_party.get(party, "\r\n")), force=force)
    print_line(f"wrote {output}")


@click.command("import", cls=Command)
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file: lines are decoded by it.")
@click.option("--host", default="", metavar="NAME", help="The signal that the host drives (VCD, CSV).  [the first]")
@click.option("--module", default="", metavar="NAME", help="The signal that the module drives.  [the second]")
@click.option("--rate", type=click.IntRange(1), help="Baud rate.  [measured; of raw bytes 9600]")
@click.option("--raw", type=click.Choice([str(side) for side in Side]), help="FILE is raw bytes that this side sent.")
@output_option("The trace to write.  [FILE.jsonl]", required=False)
@force_option
@json_option
def import_(
    file: Path,
    lexicon_name: str | None,
    host: str,
    module: str,
    rate: int | None,
    raw: str | None,
    output: Path | None,
    force: bool,
    as_json: bool,
) -> None:
    """Make a trace of a capture that another tool recorded.

    Examples:
      wexicon trace import boot.vcd --lexicon lindle-l9
      wexicon trace import answers.bin --raw module --rate 9600

    FILE is a VCD (IEEE 1364) or CSV file of a logic analyser, a text log of a terminal, or raw bytes. Rate, frame and inverted
    levels are measured; characters with a wrong frame are marked.

    FILE ends in .vcd or .csv; anything else is a text log, unless --raw is given. In a log `>` and `<` (or TX and RX) mark
    who sent a line; a time before it is taken.
    """
    from wexicon import api
    from wexicon.core.tuning import Tuning
    from wexicon.records import captures
    from wexicon.work.function.tap_decoder import import_capture

    lexicon = api.find_lexicon(lexicon_name) if lexicon_name else None
    path = str(file)
    data = read_file(file, captures.LARGEST)
    names = {Side.HOST: host, Side.MODULE: module}
    if raw:
        found = captures.of_bytes(data, Side(raw), Tuning(rate or (lexicon.factory.rate if lexicon else 9600)))
    elif file.suffix.lower() in (".vcd", ".csv"):
        reads = captures.lines_of_vcd if file.suffix.lower() == ".vcd" else captures.lines_of_csv
        edges, end = reads(data.decode("utf-8", "replace"), path)
        found = captures.of_lines(edges, end, path, names, rate)
    else:
        words = [phrase.say.lead for phrase in _said_by_host(lexicon)] if lexicon else []
        found = captures.of_log(data.decode("utf-8", "surrogateescape"), ["AT", *words], str(file))
    if not found.sent:
        raise CallFault("nothing was sent in it", where=path)
    made = import_capture(found, file, output or file.with_suffix(".jsonl"), lexicon, force=force)
    if as_json:
        emit_json(made)
        return
    for side, tuning in made.tunings.items():
        print_line(f"{side:8} {tuning}")
    wrong = f", {made.wrong} with a wrong frame" if made.wrong else ""
    told = f"{made.from_host} bytes from the host, {made.from_module} from the module{wrong}"
    print_line(f"wrote {made.trace}: {told}")


def _said_by_host(lexicon: Lexicon) -> Iterator[Phrase]:
    """The lines of a lexicon that a host says."""
    yield from (lexicon.attention.probe, *lexicon.identify)
    for setting in lexicon.settings.values():
        yield from (phrase for phrase in (setting.read, setting.write, setting.add, setting.remove) if phrase)
    for group in lexicon.groups.values():
        yield from (phrase for phrase in (group.read, group.write) if phrase)
