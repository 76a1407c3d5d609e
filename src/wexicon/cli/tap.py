"""`wexicon tap`: between a host and its module, every byte passed on at once, decoded and recorded.

The rule: what passes goes to standard output as it comes; what it adds up to follows when the tap ends.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.help import Command
from wexicon.cli.options import DurationType
from wexicon.cli.printing import print_failure
from wexicon.cli.progress import Stop
from wexicon.cli.show import emit_json, ending, is_quiet, json_line, json_option, print_line, print_note, print_warning
from wexicon.cli.trace_lines import record_line
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.reader import Reader
from wexicon.core.protocol.line_faults import LineFault, line_fault
from wexicon.core.protocol.observations import Heard, Listener, Observation, Said
from wexicon.core.text import counted, spoken
from wexicon.records.trace import record_of
from wexicon.work.console.completion import Explainer

if TYPE_CHECKING:
    from wexicon.core.results.functions import TapResult


@click.command(cls=Command)
@click.argument("host")
@click.argument("module")
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file.  [the one stored for MODULE]")
@click.option("--rate", type=click.IntRange(1), help="Baud rate on both sides.  [stored for MODULE, or the lexicon's]")
@click.option("--frame", default="8N1", show_default=True, help="Data bits, parity and stop bits on both sides.")
@click.option(
    "--fault",
    "faults",
    multiple=True,
    metavar="FAULT",
    help="Put a fault into the line: 'delay 200ms after AT+SAVE', 'loss 0.5% from module', 'noise 0.1%', "
    '\'answer "ERR 3" to "AT+JOIN"\'. May be given several times.',
)
@click.option(
    "--seed",
    type=int,
    default=1,
    show_default=True,
    help="Which bytes are lost or changed: the same number hits the same ones.",
)
@click.option("--for", "duration", type=DurationType(), help="For how long, such as 10m.  [until Ctrl-C]")
@click.option(
    "--trace", "trace_path", type=click.Path(path_type=Path), help="Where to write the trace.  [a dated file]"
)
@click.option("--force", is_flag=True, help="Overwrite existing files.")
@json_option
def tap(
    host: str,
    module: str,
    lexicon_name: str | None,
    rate: int | None,
    frame: str,
    faults: tuple[str, ...],
    seed: int,
    duration: float | None,
    trace_path: Path | None,
    force: bool,
    as_json: bool,
) -> None:
    """Pass all bytes on between a host on port HOST and its module on port MODULE, in both ways and at once; decode and record
    them. Rates are followed by the module's lexicon; without one by the waveform, once known words come at another rate.
    Control lines that the host drives are passed on where the ports have them.

    Examples:
      wexicon tap /dev/ttyUSB0 /dev/ttyUSB1 --lexicon lindle-l9
      wexicon tap /dev/ttyUSB0 /dev/ttyUSB1 --fault 'delay 200ms after AT+SAVE'

    The trace serves as that of any session: wexicon trace dialogue, rehearse --recording, lexicon draft --from.

    Exit status: 0 ended; 3 a port was lost or could not be opened.
    """
    from wexicon import api

    given = tuple(map(_fault, faults))
    places = api.port_named(host), api.port_named(module)
    lexicon = api.find_lexicon(lexicon_name) if lexicon_name else api.stored_lexicon(places[1])
    show = _Shown(lexicon, as_json=as_json)
    with Stop().listening() as stop:
        result = api.tap(
            *places,
            lexicon,
            rate=rate,
            frame=frame,
            faults=given,
            seed=seed,
            lasts=duration,
            stopping=stop,
            trace=trace_path,
            force=force,
            listener=show,
            ready=lambda text: None if as_json else print_note(text),
        )
    with ending(result.status):
        if as_json:
            emit_json(result, indent=0)
        else:
            print_tapped(result)


def _fault(text: str) -> LineFault:
    try:
        return line_fault(text)
    except ValueError as fault:
        raise CallFault(str(fault), where="--fault") from None


class _Shown(Listener):
    """Prints each line that passes, as it comes."""

    def __init__(self, lexicon: Lexicon | None, *, as_json: bool) -> None:
        self._explainer = Explainer(lexicon) if lexicon else None
        self._reader = Reader(lexicon)
        self._quiet, self._as_json = is_quiet(), as_json
        self._began: float | None = None
        self._said = ""

    def note(self, seen: Observation) -> None:
        if self._began is None:
            self._began = seen.at
        record = record_of(seen, self._began)
        if self._as_json:
            print_line(json_line(record))
        elif not self._quiet:
            text, meaning = record_line(record), self._meaning(seen)
            print_line(f"{text}{' ' * (60 - len(click.unstyle(text)))}  {meaning}" if meaning else text)

    def _meaning(self, seen: Observation) -> str:
        if isinstance(seen, Said):
            self._said = seen.text
        if self._explainer is None or not isinstance(seen, (Said, Heard)):
            return ""
        if isinstance(seen, Said):
            return self._explainer.said(self._reader.read(seen.text))
        return self._explainer.heard(self._said, seen)


def print_tapped(result: TapResult) -> None:
    """What passed."""
    for one in result.faults:
        print_line(f"fault  {one.fault}: done {one.done} times" if one.done != 1 else f"fault  {one.fault}: done once")
    told = f"{result.from_host:,} bytes from the host, {result.from_module:,} from the module"
    lines = f"{counted(result.lines, 'line')}, {result.answers} succeeded"
    print_line(f"{result.verdict}: {told}; {lines}, in {spoken(result.seconds)}", "bold")
    if result.undecoded:
        print_warning(f"{result.undecoded:,} bytes passed faster than they could be decoded")
    if result.failure:
        print_failure(result.failure, result.verdict, result.trace)
    elif result.trace:
        print_note(f"trace: {result.trace}")
