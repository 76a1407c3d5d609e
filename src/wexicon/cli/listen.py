"""`wexicon listen`: what a module sends by itself, decoded as it comes, and what it adds up to.

The rule: events go to standard output as they come; the summary follows when listening ends.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.options import DurationType, Working, env_option, file_option, gather_given, gathered
from wexicon.cli.printing import check_plot, kind_of, print_failure
from wexicon.cli.progress import LiveTable, Table
from wexicon.cli.show import (
    emit,
    emit_json,
    ending,
    json_line,
    print_line,
    print_note,
    print_table,
    print_warning,
    styled,
)
from wexicon.core.faults import CallFault
from wexicon.core.text import counted, spoken, visible
from wexicon.files import write_new

if TYPE_CHECKING:
    from wexicon import api
    from wexicon.core.results.functions import HeardEvent, ListeningResult, TimerSummary
    from wexicon.work.function.ears import Ears

# Of one event no more is printed (characters).
LONGEST = 400
# Events that come within this time after others were printed wait for more (seconds), at most until nothing comes.
TOGETHER = 0.05


class ListenCall(msgspec.Struct):
    """The options of `listen`."""

    port: str
    lexicon_name: str | None
    duration: float | None
    until: str
    only: str
    action: str
    ask: bool
    check: bool
    rig_path: Path | None
    plot_path: Path | None
    env_pairs: tuple[str, ...]
    file_pairs: tuple[str, ...]
    how: Working


@click.command(cls=Command)
@click.argument("port")
@click.option("--for", "duration", type=DurationType(), help="For how long, such as 10m.  [until Ctrl-C]")
@click.option(
    "--until", default="", metavar="EVENT", help="End with this event, or with the first `fix` of a receiver."
)
@click.option("--only", default="", metavar="EVENT,...", help="Print these events only, or `none`.")
@click.option("--do", "action", default="", metavar="ACTION", help="Run this action first, such as cold-start.")
@click.option(
    "--ask",
    is_flag=True,
    help="Ask the module at the beginning for its identity and timers, and read each message that it reports.",
)
@click.option("--check", is_flag=True, help="Fail if a timer was not observed, or not within 1 s of what was granted.")
@click.option("--plot", "plot_path", type=click.Path(path_type=Path), help="Draw what came (.png, .svg, .pdf).")
@click.option(
    "--rig", "rig_path", type=click.Path(path_type=Path), help="In virtual time: PORT is a unit of this rig file."
)
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon, by name or file.  [the one stored for the port]")
@env_option
@file_option
@gathered(ListenCall)
def listen(call: ListenCall) -> None:
    """Print what the module on PORT sends by itself, decoded and with the time at which it came; and at the end what that adds
    up to: states over time, positions, satellites, signal.

    Examples:
      wexicon listen /dev/ttyUSB0 --for 10m --plot sky.png
      wexicon listen /dev/ttyUSB0 --do cold-start --until fix

    Nothing is said to the module, unless --ask or --do is given.

    Exit status: 0 listened; 1 the event of --until did not come, or --check failed; 3 port or module unreachable; 130 stopped
    before the end.
    """
    from wexicon import api

    check_plot(call.plot_path, call.how.force)
    only = tuple(one.strip() for one in call.only.split(",") if one.strip())
    order = api.ListenOrder(
        duration=call.duration, until=call.until, only=only, action=call.action, ask=call.ask, check=call.check
    )
    show = _Shown(call.how.as_json)
    if call.rig_path:
        if call.duration is None and not call.until:
            raise CallFault("in virtual time it would never end", hint="Say for how long: --for 1h.")
        how = call.how
        made = api.rehearse_listening(
            call.rig_path, call.port, order, call.lexicon_name, show=show, trace=how.trace_path, force=how.force
        )
        show.print()
    else:
        made = _on_port(call, order, show)
    not_drawn: CallFault | None = None
    if call.plot_path:
        try:
            write_plot(made, call.plot_path, call.how.force)
        except CallFault as fault:
            not_drawn = fault
    with ending(not_drawn.status if not_drawn else made.result.status):
        if call.how.as_json:
            emit_json(made.result, indent=0)
        else:
            print_listened(made.result)
            if call.plot_path and not not_drawn:
                print_line(f"wrote {call.plot_path}")
        if not_drawn:
            print_warning(f"error: {not_drawn}")


def _on_port(call: ListenCall, order: api.ListenOrder, show: _Shown) -> api.Listened:
    from wexicon import api

    port = api.port_named(call.port)
    known = api.find_lexicon(call.lexicon_name) if call.lexicon_name else api.stored_lexicon(port)
    if known is None and not call.how.as_json:
        print_note("no lexicon is stored for this port: known sentences are decoded, other lines shown as they come")
    given = gather_given(known, call.env_pairs, call.file_pairs)
    # Where events go to the terminal, a table below them says where it is; else the usual line of progress.
    live = sys.stdout.isatty() and not call.how.as_json
    with (
        call.how.working("listen", quiet=live or call.how.as_json or not sys.stderr.isatty()) as setup,
        LiveTable(show.table, quiet=not live) as table,
    ):
        show.live = table if table.shown else None
        made = api.listen(call.port, order, call.lexicon_name, setup, given=given, show=show, watch=show.watch)
        show.print()
    return made


class _Shown:
    """Prints events as they come; those that come together, together."""

    def __init__(self, as_json: bool) -> None:
        self.live: LiveTable | None = None
        self._ears: Ears | None = None
        self._as_json = as_json
        self._lines: list[str] = []
        self._printed = 0.0

    def watch(self, ears: Ears) -> None:
        """Prints what waits whenever nothing comes."""
        ears.rests = self.print
        self._ears = ears

    def table(self) -> Table:
        """Where it is, as a table of one row."""
        now = self._ears.now() if self._ears else {}
        return list(now), [list(now.values())] if now else []

    def __call__(self, event: HeardEvent) -> None:
        self._lines.append(json_line(event) if self._as_json else _line(event))
        if time.monotonic() - self._printed >= TOGETHER:
            self.print()

    def print(self) -> None:
        """Prints what waits."""
        if self._lines:
            lines, self._lines = "\n".join(self._lines), []
            self.live.say(lines) if self.live else emit(lines)
        self._printed = time.monotonic()


def _line(event: HeardEvent) -> str:
    told = visible("  ".join([f"{name} {value}" for name, value in event.values.items()]) or event.text)
    if len(told) > LONGEST:
        told = f"{told[:LONGEST]}..."
    name = styled(f"{event.name or '-':9}", "bold" if event.name else "")
    return f"{event.wall:%H:%M:%S}.{event.wall.microsecond // 1000:03d}  {name} {told}"


def print_listened(result: ListeningResult) -> None:
    """What it adds up to."""
    print_line("")
    if result.identity:
        print_line(
            ", ".join(f"{name} {visible(value)}" for name, value in result.identity.items()) + f", on {result.port}"
        )
    _print_position(result)
    _print_tables(result)
    for remark in result.remarks:
        print_line(f"note: {remark}", "magenta")
    if result.failure:
        print_failure(result.failure, result.verdict, result.trace)
        return
    named = ", ".join(f"{name} {many}" for name, many in result.events.items())
    whole = sum(result.events.values()) + result.unknown
    told = f"{result.verdict}: {counted(whole, 'event')} in {spoken(round(result.seconds, 1))}" + (
        f" ({named})" if named else ""
    )
    if result.unknown:
        told += f"; {counted(result.unknown, 'line')} unknown"
    print_line(told, "green")


def _print_tables(result: ListeningResult) -> None:
    """What was counted and measured, a table for each kind."""
    if result.satellites:
        rows = [
            [
                one.system,
                f"{one.number:02d}",
                _number(one.elevation, "g"),
                _number(one.azimuth, "g"),
                _number(one.signal, ".1f"),
                "yes" if one.used else "no",
            ]
            for one in result.satellites
        ]
        print_table(("system", "satellite", "elevation (°)", "azimuth (°)", "signal (dB-Hz)", "used"), rows)
    if result.states:
        rows = [
            [state.name, one, str(state.times.get(one, 0)), spoken(round(lasted, 1)), _share(lasted, result.seconds)]
            for state in result.states
            for one, lasted in state.seconds.items()
        ]
        print_table(("state", "", "times", "in all", "share (%)"), rows)
    if result.timers:
        rows = [
            [
                one.name,
                _seconds(one.asked),
                _seconds(one.granted),
                str(one.observed),
                *(_number(each, ".1f") for each in (one.least, one.median, one.most)),
            ]
            for one in result.timers
        ]
        print_table(("timer", "asked (s)", "granted (s)", "observed", "least (s)", "median (s)", "most (s)"), rows)
        for timer in result.timers:
            _print_deviations(timer)
    if result.series:
        rows = [
            [f"{one.event} {one.name}", one.unit, str(one.count), f"{one.least:g}", f"{one.mean:.1f}", f"{one.most:g}"]
            for one in result.series
        ]
        print_table(("number", "unit", "count", "least", "mean", "most"), rows)
    if result.messages:
        print_table(("sender", "message"), [[one.sender, one.text] for one in result.messages])


def _print_deviations(timer: TimerSummary) -> None:
    for one in timer.deviations:
        print_line(f"note: {one}", "magenta")
    if timer.within:
        wanted, word = (timer.asked, "asked") if timer.granted is None else (timer.granted, "granted")
        how = "each" if timer.within == timer.observed else f"{timer.within} of them"
        told = f"observed {counted(timer.observed, 'time')}, {how} within 1 s of the {spoken(wanted or 0.0)} {word}"
        print_line(f"{timer.name}: {told}", "green" if timer.within == timer.observed else "magenta")


def _print_position(result: ListeningResult) -> None:
    if not (one := result.position) or one.latitude is None or one.longitude is None:
        return
    if one.first_fix is not None:
        print_line(f"first fix {one.first_fix:.1f} s after {one.counted_from}", "bold")
    north, east = "N" if one.latitude >= 0 else "S", "E" if one.longitude >= 0 else "W"
    place = f"position {abs(one.latitude):.7f}° {north}, {abs(one.longitude):.7f}° {east}"
    if one.altitude is not None:
        place += f", {one.altitude:.1f} m"
    print_line(f"{place}, the mean of {one.fixes} positions" if one.fixes > 1 else place)
    if one.radius_error is not None:
        circles = f"half within {one.radius_50:.2f} m, 95 % within {one.radius_95:.2f} m"
        print_line(f"{circles} (right to {one.radius_error:.2g} m)")
    if one.satellites_most is not None:
        hdop = f", mean HDOP {one.hdop_mean:g}" if one.hdop_mean is not None else ""
        least, most = one.satellites_least, one.satellites_most
        print_line((f"{most}" if least == most else f"{least} to {most}") + f" satellites used{hdop}")
    if one.lost:
        print_line(f"note: the fix was lost {counted(one.lost, 'time')}", "magenta")


def _number(value: float | None, form: str) -> str:
    return "" if value is None else f"{value:{form}}"


def _seconds(value: float | None) -> str:
    return "" if value is None else "off" if value == 0 else f"{value:g}"


def _share(lasted: float, whole: float) -> str:
    return f"{100 * lasted / whole:.1f}" if whole else ""


def write_plot(made: api.Listened, path: Path, force: bool) -> None:
    """The figure. Raises CallFault if nothing came that can be drawn."""
    from wexicon.records.trace_plot import Drawing, ScatterDrawing, SeriesDrawing, SkyMark, TimerDrawing, plot_listening
    from wexicon.work.function.tracks import ENOUGH

    result, positions = made.result, made.positions
    drawing = Drawing(f"{result.port}: {spoken(round(result.seconds))} of listening", max(result.seconds, 1e-3))
    drawing.sky = [
        SkyMark(system, number, list(track.places), track.signal.whole.mean if track.signal.whole else None, track.used)
        for (system, number), track in sorted(positions.satellites.items())
        if track.places
    ]
    if result.position and result.position.radius_error is not None:
        scatter = positions.scatter
        circles = scatter.radius(0.5), scatter.radius(0.95)
        drawing.scatter = ScatterDrawing(scatter.places(), *circles, scatter.error, scatter.count)
    drawing.states = {
        name: [(span.begins, span.ends, span.state) for span in track.spans]
        for name, track in made.states.tracks.items()
    }
    drawing.timers = [
        TimerDrawing(one.timer.setting, one.asked, one.granted, list(one.observed)) for one in made.states.timers
    ]
    drawing.series = [
        SeriesDrawing(f"{event} {name}", unit, [(at, b.least, b.mean, b.most) for at, b in one.points()])
        for (event, name), (unit, one) in made.series.items()
    ]
    if drawing.empty:
        raise CallFault(
            "nothing came that can be drawn; no figure was written",
            where=str(path),
            hint=f"Positions are drawn from {ENOUGH} on.",
        )
    write_new(path, plot_listening(drawing, kind_of(path)), force=force)
