"""Help pages and wrong calls: what a command is for, two examples, its options in groups; the nearest right word.

The rule: an option stands in the same group, with the same words, on every page. The docstring of a command has its examples
below the line `Examples:`.
"""

from __future__ import annotations

import inspect
import os
from collections.abc import Callable, Iterator
from typing import Any

import click

# The options that several commands have, by group and in the order of the page; all others are of the first group.
GROUPS: dict[str, tuple[str, ...]] = {
    "Options": (),
    "Proof": ("plan", "prove", "trust", "tests", "check"),
    "Link": ("lexicon", "rate", "frame", "flow", "station", "as-is", "end", "echo"),
    "Operator": ("operator", "patience", "fixture"),
    "Secrets": ("env", "file", "allow-folder"),
    "Record": ("register", "trace", "junit", "plot", "force"),
    "Output": ("json", "quiet", "verbose", "help"),
}
_GROUP_OF = {name: group for group, names in GROUPS.items() for name in names}
# What a text option takes, by its name.
_WORDS = {
    "lexicon": "NAME",
    "seat": "NAME",
    "row": "KEY",
    "unit": "UNIT",
    "sheet": "TITLE",
    "verdict": "VERDICT",
    "bench": "NAME",
    "port": "PORT",
    "step": "STEP",
    "setting": "NAME",
    "family": "NAME",
    "standin": "FAMILY",
    "key": "NAME",
    "with": "NAMES",
    "adapter": "VOLTAGE",
    "gives": "CURRENT",
}
_EXAMPLES = "\n\nExamples:\n"
# The width of a page where the terminal is wider (columns), and of the column of options.
WIDEST = 100
OPTIONS_WIDTH = 26


class Page:
    """The help page of a command; a mix-in of `Command` and `Group`."""

    params: list[click.Parameter]
    help: str | None
    get_params: Callable[[click.Context], list[click.Parameter]]

    def format_help_text(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """What it is for, the examples, and the rest of the text."""
        first, examples, rest = parts_of(self.help or "")
        formatter.write_paragraph()
        with formatter.indentation():
            formatter.write_text(first)
        if examples:
            with formatter.section("Examples"):
                for line in examples:
                    formatter.write(" " * formatter.current_indent + line + "\n")
        if rest:
            formatter.write_paragraph()
            with formatter.indentation():
                formatter.write_text(rest)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The options, group by group."""
        made: dict[str, list[tuple[int, str, str]]] = {}
        widest = 0
        for param in self.get_params(ctx):
            if isinstance(param, click.Option) and not param.hidden:
                name = _name(param)
                group = _GROUP_OF.get(name, "Options")
                place = GROUPS[group].index(name) if name in GROUPS[group] else 0
                left, right = _entry(param)
                widest = max(widest, len(left) if len(left) <= OPTIONS_WIDTH else 0)
                made.setdefault(group, []).append((place, left, right))
        for group in GROUPS:
            if found := made.get(group):
                with formatter.section(group):
                    rows = [(left.ljust(widest), right) for _, left, right in sorted(found, key=lambda one: one[0])]
                    formatter.write_dl(rows, col_max=OPTIONS_WIDTH)
        if isinstance(self, click.Group):
            self.format_commands(ctx, formatter)

    def _usage_fault(self, fault: click.UsageError, ctx: click.Context | None) -> click.UsageError:
        """A wrong call with what is likely meant."""
        from wexicon.core.text import meant

        if isinstance(fault, click.NoSuchOption) and ctx:
            known = [one for param in self.get_params(ctx) for one in (*param.opts, *param.secondary_opts)]
            known = [one for one in known if one.startswith("--")]
            return click.UsageError(f"there is no option {fault.option_name}; {meant(fault.option_name, known)}", ctx)
        if isinstance(fault, click.MissingParameter) and fault.param and ctx:
            missing = fault.param.make_metavar(ctx).strip("[].")
            examples = parts_of(self.help or "")[1]
            example = f"\n  For example: {examples[0]}" if examples else ""
            return click.UsageError(f"{missing} is missing{example}", ctx)
        if isinstance(fault, click.BadParameter) and fault.param:
            option = max(fault.param.opts, key=len)
            what = fault.message.replace("a valid integer range", "a whole number").rstrip(".")
            if isinstance(fault.param.type, click.Choice):
                what = what.replace("'", "")
                given = what.partition(" is not one of")[0]
                what += _or(given, [str(one) for one in fault.param.type.choices])
            elif isinstance(fault.param.type, click.IntRange) and " range " in what:
                low, high = fault.param.type.min, fault.param.type.max
                what = what.partition(" is not")[0] + (f" is not from {low} to {high}" if high else f" is below {low}")
            return click.UsageError(f"{option}: {what}" if option.startswith("-") else what, ctx)
        return fault


def _or(given: str, choices: list[str]) -> str:
    from wexicon.core.text import nearest

    close = nearest(given, choices)
    return f"; did you mean {close}?" if close else ""


def parts_of(text: str) -> tuple[str, list[str], str]:
    """The text of a command as its first paragraph, its examples, and what is left."""
    text = inspect.cleandoc(text)
    head, found, tail = text.partition(_EXAMPLES)
    if not found:
        first, _, rest = text.partition("\n\n")
        return first, [], rest
    lines, _, rest = tail.partition("\n\n")
    return head, [line.strip() for line in lines.splitlines()], rest


def _name(option: click.Option) -> str:
    return max(option.opts, key=len).lstrip("-")


def _entry(option: click.Option) -> tuple[str, str]:
    """An option with its value, and what it means."""
    left = ", ".join(sorted(option.opts, key=len))
    if not option.is_flag and not option.count:
        left += " " + (option.metavar or _metavar(option))
    about = option.help or ""
    if option.show_default and option.default is not None and str(option.default):
        about += f"  [{option.default}]"
    return left, about


def _metavar(option: click.Option) -> str:
    kind = option.type
    if isinstance(kind, click.Choice):
        return "|".join(map(str, kind.choices))
    if kind.name == "text" and (word := _WORDS.get(_name(option))):
        return word
    plain = {"path": "FILE", "filename": "FILE", "text": "TEXT", "datetime": "DATE", "duration": "TIME"}
    return plain.get(kind.name, "N" if kind.name.startswith("integer") else kind.name.upper())


def _common() -> list[click.Parameter]:
    """The options that every command has."""

    def quiet(ctx: click.Context, param: click.Parameter, value: bool) -> None:
        if value:
            from wexicon.cli.show import be_quiet

            be_quiet()

    def verbose(ctx: click.Context, param: click.Parameter, value: bool) -> None:
        if value:
            from wexicon.cli.here import tell_settings

            ctx.call_on_close(tell_settings)

    return [
        click.Option(
            ["-q", "--quiet"], is_flag=True, expose_value=False, callback=quiet, help="No progress, no notes."
        ),
        click.Option(
            ["-v", "--verbose"],
            is_flag=True,
            expose_value=False,
            callback=verbose,
            help="Also say which settings were in force, and from where.",
        ),
    ]


class Command(Page, click.Command):
    """A command with such a page."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        have = {one for param in self.params for one in param.opts}
        self.params += [param for param in _common() if not have & set(param.opts)]
        if "_WEXICON_COMPLETE" in os.environ:
            from wexicon.cli.completing import completes

            for param in self.params:
                completes(param)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Reads the arguments; a wrong one is answered with the right one."""
        try:
            return super().parse_args(ctx, args)
        except click.UsageError as fault:
            raise self._usage_fault(fault, ctx) from None


class Group(Page, click.Group):
    """A group of commands with such pages."""

    command_class = Command
    group_class = type

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Finds the command; a wrong one is answered with the right one."""
        known = not args or args[0].startswith("-") or self.get_command(ctx, args[0])
        if not known and not ctx.resilient_parsing:
            from wexicon.core.text import meant

            raise click.UsageError(f"there is no command {args[0]}; {meant(args[0], self.list_commands(ctx))}", ctx)
        return super().resolve_command(ctx, args)


def pages(group: click.Group, ctx: click.Context) -> Iterator[tuple[str, click.Command]]:
    """Every command with its words, groups first."""
    for name in group.list_commands(ctx):
        command = group.get_command(ctx, name)
        if command is None:
            continue
        yield name, command
        if isinstance(command, click.Group):
            yield from ((f"{name} {one}", found) for one, found in pages(command, click.Context(command)))
