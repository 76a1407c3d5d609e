"""`wexicon calc`: the calculations of radio and serial work, with their steps.

The rule: arguments are NAME=VALUE, with units where they have some; a list or a range of one gives a table.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wexicon.cli.help import Command, Group
from wexicon.cli.printing import check_plot, kind_of
from wexicon.cli.show import emit_json, force_option, json_option, print_line, print_note, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import visible
from wexicon.files import read_file, write_new

if TYPE_CHECKING:
    from wexicon.core.engineering.topic import Arg, Topic, Worked
    from wexicon.core.results.listed import Calculation


def _topics() -> dict[str, Topic]:
    from wexicon.core.engineering.topics import TOPICS

    return TOPICS


class _Calc(Group):
    """A command for each topic, made when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [*_topics(), "wiring"]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name == "wiring":
            return wiring
        topic = _topics().get(cmd_name)
        return _command(topic) if topic else None

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        names = self.list_commands(ctx)
        if args and not args[0].startswith("-") and args[0] not in names:
            from wexicon.core.text import meant

            raise click.UsageError(f"there is no topic {args[0]}; {meant(args[0], names)}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        groups: dict[str, list[tuple[str, str]]] = {}
        for topic in _topics().values():
            groups.setdefault(topic.group, []).append((topic.name, topic.title))
        groups["circuit"].append(("wiring", wiring.get_short_help_str(200)))
        for group, rows in groups.items():
            with formatter.section(f"Topics: {group}"):
                formatter.write_dl(rows)


@click.group(cls=_Calc, subcommand_metavar="TOPIC [NAME=VALUE]...")
def calc() -> None:
    """Work out timers, powers, time on air, channels, checksums, dividers, battery life.

    Examples:
      wexicon calc airtime spreading=7..12
      wexicon calc divider supply=5V wanted=3.3V

    A list or a range of an argument gives a table: spreading=7..12, power=2,14, interval=1min..24h/40 (forty values).

    Exit status: 0 worked out; 2 an argument is wrong.
    """


class _TopicCommand(Command):
    """A topic, whose help has its arguments and examples."""

    topic: Topic

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Arguments"):
            formatter.write_dl([(_written(name), _meaning(self.topic, name)) for name in self.topic.args])
        with formatter.section("Examples"):
            for example in self.topic.examples:
                formatter.write_text(f"wexicon calc {self.topic.name} {example}")
        super().format_options(ctx, formatter)


def _written(name: str) -> str:
    """An argument as it is typed."""
    return name.replace("_", "-")


def _meaning(topic: Topic, name: str) -> str:
    """What an argument means, what it may be, and what it is without."""
    from wexicon.core.engineering.topic import shown

    kind, arg = topic.args[name]
    told = [arg.meaning]
    if arg.choices:
        told.append(
            f"one of {', '.join(arg.choices)}" if len(arg.choices) < 8 else f"such as {', '.join(arg.choices[:6])}"
        )
    elif kind is bool:
        told.append("yes or no")
    elif arg.low is not None and arg.high is not None:
        told.append(f"{shown(arg.low, arg.unit)} to {shown(arg.high, arg.unit)}")
    if name in topic.defaults and _is_value(arg, topic.defaults[name]):
        told.append(f"default {shown(topic.defaults[name], arg.unit)}")
    return "; ".join(told)


def _is_value(arg: Arg, default: object) -> bool:
    """Whether a default is a value, and not the sign that there is none."""
    if isinstance(default, str):
        return bool(default)
    low, high = arg.low, arg.high
    return isinstance(default, bool) or not (
        isinstance(default, (int, float))
        and ((low is not None and default < low) or (high is not None and default > high))
    )


def _command(topic: Topic) -> click.Command:
    params: list[click.Parameter] = [
        click.Argument(["given"], nargs=-1, metavar="[NAME=VALUE]..."),
        click.Option(["--plot", "plot_path"], type=click.Path(path_type=Path), help="Draw it (.png, .svg, .pdf)."),
    ]
    if "hex" in topic.args:
        params.append(
            click.Option(["--file", "file_path"], type=click.Path(path_type=Path), help="The bytes of a file.")
        )
    made = _TopicCommand(topic.name, callback=_run, params=params, help=topic.about, short_help=topic.title)
    made.topic = topic
    return json_option(force_option(made))


@click.pass_context
def _run(
    ctx: click.Context,
    given: tuple[str, ...],
    plot_path: Path | None,
    as_json: bool,
    force: bool,
    file_path: Path | None = None,
) -> None:
    from wexicon.core.engineering.topic import CalcFault

    assert isinstance(ctx.command, _TopicCommand)
    topic = ctx.command.topic
    check_plot(plot_path, force)
    values = _pairs(topic, given)
    if file_path:
        values["hex"] = read_file(file_path).hex()
    try:
        worked = topic.work(values)
    except CalcFault as fault:
        what = str(fault).replace("_", "-")
        raise CallFault(what, hint=fault.hint or f"wexicon calc {topic.name} --help shows its arguments.") from None
    if plot_path:
        _plot(topic, worked, plot_path, force)
    if as_json:
        emit_json([_plain(one) for one in worked])
    elif len(worked) == 1 and not worked[0].given:
        _print_one(worked[0])
    else:
        _print_many(worked)
    if plot_path and not as_json:
        print_line(f"wrote {plot_path}")


def _pairs(topic: Topic, given: tuple[str, ...]) -> dict[str, str]:
    values: dict[str, str] = {}
    for one in given:
        name, sign, text = one.partition("=")
        if not sign:
            hint = f"For example: wexicon calc {topic.name} {topic.examples[0]}"
            raise CallFault(f"{visible(one)[:40]} is not NAME=VALUE", hint=hint)
        name = name.replace("-", "_")
        if name in values:
            raise CallFault(f"{visible(one)[:40]}: {_written(name)} is given twice", hint="Use a list: a=1,2.")
        values[name] = text
    return values


def _plain(one: Worked) -> Calculation:
    """An answer for programs."""
    from wexicon.core.results.listed import Calculation, CalculationResult

    answer = one.answer
    return Calculation(
        {_written(name): text for name, text in one.given.items()},
        {name: CalculationResult(q.value, q.unit, q.text) for name, q in answer.results.items()},
        [dict(zip(answer.columns, row, strict=True)) for row in answer.rows],
        answer.steps,
        answer.notes,
    )


def _print_one(one: Worked) -> None:
    """One answer: results, table, steps, notes."""
    answer = one.answer
    wide = max((len(name) for name in answer.results), default=0)
    for name, quantity in answer.results.items():
        print_line(f"{name:{wide}}   {visible(quantity.text)}", "bold")
    if answer.rows:
        print_table(answer.columns, answer.rows)
    for step in answer.steps:
        print_line(f"  {visible(step)}")
    for note in answer.notes:
        print_note(f"note: {visible(note)}", "magenta")


def _print_many(worked: list[Worked]) -> None:
    """A table of answers."""
    names = list(dict.fromkeys(name for one in worked for name in one.answer.results))
    heads = [_written(name) for name in worked[0].given]
    rows = [
        [*one.given.values(), *(q.text if (q := one.answer.results.get(name)) else "" for name in names)]
        for one in worked
    ]
    print_table([*heads, *names], rows)
    for note in dict.fromkeys(note for one in worked for note in one.answer.notes):
        print_note(f"note: {visible(note)}", "magenta")


def _plot(topic: Topic, worked: list[Worked], path: Path, force: bool) -> None:
    from wexicon.records.plots import AnswerPoint, plot_answers

    varying = [name for name in worked[0].given if name in worked[0].numbers]
    if not varying:
        raise CallFault("a figure needs a list or range of numbers", hint=f"Such as: {topic.examples[-1]}")
    # The argument with the most values is the axis.
    axis = max(varying, key=lambda name: len({one.numbers[name] for one in worked}))
    units = {name: q.unit for one in worked for name, q in one.answer.results.items() if _is_number(q.value)}
    results = [(name, units[name]) for name in (topic.plot or units) if name in units]
    if not results:
        raise CallFault("these results are no numbers, and cannot be drawn")
    points = [
        AnswerPoint(
            one.numbers[axis],
            ", ".join(f"{_written(name)} {text}" for name, text in one.given.items() if name != axis),
            {name: float(q.value) for name, q in one.answer.results.items() if _is_number(q.value)},  # type: ignore[arg-type]
        )
        for one in worked
    ]
    title = f"{topic.title.rstrip('.')}"
    data = plot_answers(title, (_written(axis), topic.args[axis][1].unit), results, points, kind_of(path))
    write_new(path, data, force=force)


def _is_number(value: object) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


@click.command("wiring", cls=Command, short_help="What goes to what between an adapter and the module of a lexicon.")
@click.argument("name", metavar="LEXICON")
@click.option(
    "--adapter", "adapter", default="3.3V", show_default=True, help="Voltage of the adapter's data lines and supply."
)
@click.option("--gives", default="500mA", show_default=True, help="The most that the adapter's supply gives.")
@json_option
def wiring(name: str, adapter: str, gives: str, as_json: bool) -> None:
    """Say what goes to what between an adapter and the module of LEXICON: what needs a divider or a regulator, and what would
    be damaged. The lexicon's [wiring] is what is known of the module.

    Examples:
      wexicon calc wiring tamsel-k5
      wexicon calc wiring tamsel-k5 --adapter 5V
    """
    from wexicon.core.engineering.topic import parsed
    from wexicon.core.formats.lexicon.wiring import connections
    from wexicon.work.contact.catalog import find_lexicon

    try:
        volts, amperes = parsed(adapter, "V"), parsed(gives, "A")
    except ValueError as fault:
        raise CallFault(str(fault)) from None
    if not 0.5 <= volts <= 30 or amperes <= 0:
        raise CallFault(f"{adapter} is not a voltage from 0.5 V to 30 V, or {gives} not a current")
    found = find_lexicon(name, Path())
    if found.wiring is None:
        hint = "Add [wiring] to it: docs/lexicon.md shows how."
        raise CallFault(f"the lexicon {found.about.family} has no [wiring]", where=found.path, hint=hint)
    lines = connections(found.wiring, volts, amperes)
    if as_json:
        from wexicon.core.results.listed import WiringLine

        emit_json([WiringLine(*line) for line in lines])
        return
    print_line(f"{found.about.family} at an adapter of {adapter}", "bold")
    print_table(
        ("pin", "goes to", "how", ""), [(one.pin, one.to, one.how, "careful" if one.careful else "") for one in lines]
    )
    if told := found.wiring.lamps_told():
        print_line(told)
