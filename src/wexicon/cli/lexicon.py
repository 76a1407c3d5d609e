"""`wexicon lexicon`: what lexicons there are, what one says, whether it is right, and how to come by one."""

from __future__ import annotations

import re
from pathlib import Path

import click

from wexicon.cli.help import Group
from wexicon.cli.lexicon_check import check
from wexicon.cli.progress import Progress
from wexicon.cli.show import (
    ask,
    emit_json,
    force_option,
    json_option,
    output_option,
    print_line,
    print_table,
    print_warning,
)
from wexicon.core.faults import CallFault, Fault
from wexicon.core.formats.lexicon import Lexicon, Phrase, Setting
from wexicon.core.results.listed import LexiconLine, LexiconPage, SettingLine
from wexicon.core.text import counted
from wexicon.files import OVERWRITE, shipped_folder, user_folder, write_new
from wexicon.work.contact.catalog import find_lexicon, lexicon_files


@click.group(cls=Group)
def lexicon() -> None:
    """List, show, check and draft lexicons.

    Examples:
      wexicon lexicon list
      wexicon lexicon show tamsel-k5

    Exit status: 0 success; 1 a setting could not be read (check with PORT); 2 an error in the file or the call; 3 port or
    module unreachable.
    """


# -- list and show --------------------------------------------------------------------------------------------------


@lexicon.command("list")
@json_option
def list_(as_json: bool) -> None:
    """List all lexicons and their locations.

    Examples:
      wexicon lexicon list
      wexicon lexicon list --json
    """
    rows = []
    seen: set[str] = set()
    for name, path in lexicon_files(Path()):
        if name in seen:
            continue
        seen.add(name)
        where = {shipped_folder(): "shipped", user_folder(): "yours", Path(): "here"}.get(path.parent, str(path.parent))
        try:
            found = find_lexicon(name, Path())
            about, counts = found.about, (len(found.settings), len(found.actions))
            rows.append(LexiconLine(name, about.radio, about.maker, *counts, where))
        except Fault:
            rows.append(LexiconLine(name, where=f"{where}, with errors: wexicon lexicon check {path}"))
    rows.sort(key=lambda one: one.name)
    if as_json:
        emit_json(rows)
        return
    shown = [
        ["" if cell is None else str(cell) for cell in (one.name, one.radio, one.maker, one.settings, one.actions)]
        for one in rows
    ]
    print_table(
        ("lexicon", "radio", "maker", "settings", "actions", "where"),
        [(*cells, one.where) for cells, one in zip(shown, rows, strict=True)],
    )


@lexicon.command()
@click.argument("name")
@click.option("--words", is_flag=True, help="Print every line that is said, and what must answer it.")
@json_option
def show(name: str, words: bool, as_json: bool) -> None:
    """Print the lexicon NAME as a page: how the module is spoken to, its settings, its actions.

    Examples:
      wexicon lexicon show tamsel-k5
      wexicon lexicon show lindle-l9 --words
    """
    found = find_lexicon(name, Path())
    if as_json:
        settings = [SettingLine(*_row(one)) for one in found.settings.values()]
        emit_json(LexiconPage(found.about.family, settings, list(found.actions)))
        return
    if words:
        print_table(("of", "says", "hears"), _words(found))
        return
    about = found.about
    print_line(
        f"{about.family}" + (f", {about.maker}" if about.maker else "") + (f", {about.radio}" if about.radio else ""),
        "bold",
    )
    if about.note:
        print_line(about.note)
    for heading, text in _manners(found):
        print_line(f"{heading:<15} {text}")
    for heading, text in found.wiring.told() if found.wiring else ():
        print_line(f"{heading:<15} {text}")
    if found.settings:
        print_line("")
        print_table(("setting", "allowed", "takes effect", "meaning"), [_row(s) for s in found.settings.values()])
    if found.actions:
        print_line("")
        print_table(("action", "meaning"), [(a.name, a.meaning) for a in found.actions.values()])
    if found.errors:
        print_line("")
        print_table(("error", "meaning"), list(found.errors.items()))
    if found.events:
        print_line("")
        print_table(("event", "words"), [(event, pattern.source) for event, pattern in found.events.items()])


def _words(found: Lexicon) -> list[tuple[str, str, str]]:
    """Every line that the lexicon says and what must answer it, so that one can write one's own on top of it."""

    def row(of: str, phrase: Phrase | None) -> list[tuple[str, str, str]]:
        if phrase is None:
            return []
        heard = [want.pattern.source for want in phrase.expect.wants] or [" or ".join(found.speech.ok) or "nothing"]
        cases = [(f"{of} {case}", line.source, "") for case, line in phrase.cases.items()]
        return [(of, phrase.say.source, "  ".join(heard)), *cases]

    rows = row("attention.probe", found.attention.probe)
    rows += [line for phrase in found.identify for line in row("identify", phrase)]
    for group in found.groups.values():
        rows += row(f"{group.name} read", group.read) + row(f"{group.name} write", group.write)
    for setting in found.settings.values():
        rows += row(f"{setting.name} read", setting.read) + row(f"{setting.name} write", setting.write)
    for action in found.actions.values():
        lines = action.program.wording().splitlines()
        rows += [(action.name if index == 0 else "", line, "") for index, line in enumerate(lines)]
    return rows


def _manners(found: Lexicon) -> list[tuple[str, str]]:
    attention, speech = found.attention, found.speech
    how = {
        "always": "it always listens",
        "held-key": "a key is held",
        "control-line": "pins are set",
        "escape": f"the escape {attention.escape}",
    }
    listens = how[attention.how] + (f", at {attention.tuning}" if attention.tuning else "")
    if attention.window:
        listens += f", in the first {attention.window:g} s after power-up"
    if attention.lasts:
        listens += f"; for {attention.lasts:g} s after each command"
    answers = {
        "lines": "lines",
        "silence": f"ended by {speech.gap * 1000:g} ms of silence",
        "sentences": "sentences with a checksum",
        "bytes": "bytes",
        "frames": "frames of bytes",
        "json": "JSON objects, one a line",
    }
    return [
        ("factory default", str(found.factory)),
        ("attention", listens),
        *([("operator", attention.operator)] if attention.operator else []),
        ("framing", f"line ending {speech.end}; answers are {answers[speech.form]}"),
        ("success code", " or ".join(speech.ok) or "none"),
        ("error code", " or ".join(speech.errors) or "none"),
        ("to persist", ", then ".join(found.order) or "no action needed"),
    ]


def _row(setting: Setting) -> tuple[str, str, str, str]:
    notes = [setting.meaning] if setting.meaning else []
    if not setting.readable:
        notes.append("cannot be read")
    if not setting.writable:
        notes.append("cannot be written")
    if setting.since:
        notes.append(f"from firmware {setting.since} on")
    for other, value in setting.needs.items():
        notes.append(f"needs {other} = {value}")
    counts = {"": "", "at-once": "at once", "save": "on save", "restart": "on restart", "leave": "on leaving"}[
        setting.moves_link
    ]
    return setting.name, setting.kind.allowed(), counts or ", ".join(setting.then), "; ".join(notes)


@lexicon.command()
def folder() -> None:
    """Print the folder of your own lexicons.

    Examples:
      wexicon lexicon folder
      ls $(wexicon lexicon folder)
    """
    print_line(str(user_folder()))


@lexicon.command()
def schema() -> None:
    """Print the JSON Schema of lexicon files, for editors.

    Examples:
      wexicon lexicon schema
      wexicon lexicon schema > lexicon.schema.json
    """
    from wexicon.records.schemas import schema_of

    emit_json(schema_of("lexicon"))


# -- new and draft --------------------------------------------------------------------------------------------------


@lexicon.command()
@output_option("Where to write it.  [FAMILY.toml]", required=False)
@force_option
def new(output: Path | None, force: bool) -> None:
    """Ask for datasheet facts; write a commented starter lexicon.

    Examples:
      wexicon lexicon new
      wexicon lexicon new -o harbour-x1.toml
    """
    from wexicon.work.drafting.starter import QUESTIONS, is_asked, starter_text

    answers: dict[str, str] = {}
    for key, question, default, form in QUESTIONS:
        if not is_asked(key, answers):
            answers[key] = ""
            continue
        while True:
            answers[key] = ask(question, default=default, show_default=bool(default)).strip()
            if re.fullmatch(form, answers[key]):
                break
            print_warning(f"  invalid; expected {form}")
    path = output or Path(f"{answers['family']}.toml")
    write_new(path, starter_text(answers), force=force)
    print_line(f"wrote {path}; wexicon lexicon check {path} lists what is missing")


@lexicon.command()
@click.argument("port", required=False)
@click.option(
    "--from",
    "trace",
    metavar="TRACE",
    help="Draft it from a recorded session instead: a trace file, a unit, a port, or `last`.",
)
@click.option("--family", default="drafted", show_default=True, help="Name of the family.")
@click.option("--rate", type=click.IntRange(1), multiple=True, help="Only try this rate.  [the usual ones]")
@output_option("Where to write it.  [FAMILY.toml]", required=False)
@force_option
def draft(
    port: str | None, trace: str | None, family: str, rate: tuple[int, ...], output: Path | None, force: bool
) -> None:
    """Draft a lexicon by querying the module on PORT, read-only, or from a recorded session.

    Examples:
      wexicon lexicon draft /dev/ttyUSB0 --family harbour-x1
      wexicon lexicon draft --from last -o harbour-x1.toml

    From a session it takes the commands and their answers: what reads and writes each setting, result codes, who the module
    is, what saves and restarts. What cannot be told stands as a question.
    """
    if bool(port) == bool(trace):
        raise CallFault("name PORT, or a session with --from", hint="wexicon trace list shows the sessions.")
    if trace:
        _draft_from(trace, family, output, force)
        return
    assert port
    from wexicon import api
    from wexicon.cli.progress import Stop
    from wexicon.core.formats.lexicon import read_lexicon
    from wexicon.core.tuning import USUAL_RATES
    from wexicon.work.drafting.lexicon_draft import Drafting, draft_lexicon

    path = output or Path(f"{family}.toml")
    if path.exists() and not force:
        raise CallFault("already exists; nothing was asked", where=str(path), hint=OVERWRITE)
    with Progress("drafting") as progress, Stop().listening() as stop:
        setup = api.Setup(stopping=stop)
        with api.open_session(api.port_named(port), None, setup, api.Opening(title="draft")) as (session, _):
            learned = Drafting(session, progress.step).learn(rate or USUAL_RATES)
    text = draft_lexicon(learned, family)
    made = read_lexicon(text.encode(), str(path))
    write_new(path, text, force=force)
    asked = f"{counted(len(learned.commands), 'command')} asked" if learned.listed else "it has no list of its commands"
    settings = counted(len(made.settings), "setting")
    print_line(f"wrote {path}: {learned.tuning}, line ending {learned.end}; {asked}, {settings} drafted")


def _draft_from(trace: str, family: str, output: Path | None, force: bool) -> None:
    """Drafts a lexicon from a trace."""
    from wexicon.cli.trace_tools import trace_named
    from wexicon.core.formats.lexicon import read_lexicon
    from wexicon.work.contact.kept_traces import masked_session
    from wexicon.work.drafting.starter import lexicon_from

    path = output or Path(f"{family}.toml")
    text, found = lexicon_from(masked_session(trace_named(trace)), family)
    made = read_lexicon(text.encode(), str(path))
    write_new(path, text, force=force)
    told = f"{counted(len(made.settings), 'setting')}, {counted(len(made.actions), 'action')} drafted"
    print_line(f"wrote {path}: {told}; {counted(len(found.questions), 'question')} left, as comments")
    print_line(f"wexicon lexicon check {path} lists what is missing")


lexicon.add_command(check)
