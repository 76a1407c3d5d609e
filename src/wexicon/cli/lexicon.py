"""`wexicon lexicon`: what lexicons there are, what one says, whether it is right, and how to come by one."""

from __future__ import annotations

import re
from pathlib import Path

import click
import msgspec

from wexicon.cli.progress import Progress
from wexicon.cli.readout import print_readout, read_module
from wexicon.cli.show import ending, force_option, json_option, print_json, print_line, print_table
from wexicon.cli.values import env_option, file_option
from wexicon.cli.working import Working, works_a_module
from wexicon.core.faults import CallFault, Fault
from wexicon.core.formats.lexicon import Lexicon, Phrase, Setting
from wexicon.core.text import counted
from wexicon.files import OVERWRITE, write_new
from wexicon.work.contact.catalog import find_lexicon, lexicon_files, shipped_folder, user_folder


@click.group()
def lexicon() -> None:
    """List, show, check and draft lexicons.

    Exit status: 0 success; 1 a setting could not be read (check with PORT); 2 an error in the file or the call; 3 port or
    module unreachable.
    """


# -- list and show --------------------------------------------------------------------------------------------------


@lexicon.command("list")
@json_option
def list_(as_json: bool) -> None:
    """List all lexicons and their locations."""
    rows = []
    seen: set[str] = set()
    for name, path in lexicon_files(Path()):
        if name in seen:
            continue
        seen.add(name)
        where = {shipped_folder(): "shipped", user_folder(): "yours", Path(): "here"}.get(path.parent, str(path.parent))
        try:
            found = find_lexicon(name, Path())
            rows.append(
                (name, found.about.radio, found.about.maker, str(len(found.settings)), str(len(found.actions)), where)
            )
        except Fault:
            rows.append((name, "", "", "", "", f"{where}, with errors: wexicon lexicon check {path}"))
    rows.sort()
    if as_json:
        keys = ("name", "radio", "maker", "settings", "actions", "where")
        print_json([dict(zip(keys, row, strict=True)) for row in rows])
    else:
        print_table(("lexicon", "radio", "maker", "settings", "actions", "where"), rows)


@lexicon.command()
@click.argument("name")
@click.option("--words", is_flag=True, help="Print every line that is said, and what must answer it.")
@json_option
def show(name: str, words: bool, as_json: bool) -> None:
    """Print the lexicon NAME as a page: how the module is spoken to, its settings, its actions."""
    found = find_lexicon(name, Path())
    if as_json:
        print_json(
            {
                "family": found.about.family,
                "settings": [_row(s) for s in found.settings.values()],
                "actions": list(found.actions),
            }
        )
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


# -- check -----------------------------------------------------------------------------------------------


@lexicon.command()
@click.argument("path", metavar="FILE", type=click.Path(path_type=Path))
@click.argument("port", required=False)
@env_option
@file_option
@works_a_module
def check(
    path: Path,
    port: str | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    how: Working,
    as_json: bool,
) -> None:
    """Report errors (with line) and gaps in lexicon FILE.

    With PORT, also read every setting of the module there, and report what did not match. Nothing is written.
    """
    from wexicon.core.formats.lexicon.gaps import gaps

    found = find_lexicon(str(path if path.suffix == ".toml" else path.with_name(f"{path.name}.toml")), Path())
    missing = gaps(found)
    if as_json:
        print_json(
            {"file": str(path), "settings": len(found.settings), "gaps": [{"place": p, "what": w} for p, w in missing]}
        )
        return
    for place, what in missing:
        print_line(f"gap: {place}: {what}", "yellow")
    counts = ((len(found.settings), "setting"), (len(found.actions), "action"), (len(missing), "gap"))
    told = ", ".join(counted(count, what) for count, what in counts)
    print_line(f"{path}: no errors; {told}", "bold green")
    if port:
        from wexicon.work.contact.ports import port_named

        result = read_module(port_named(port), found, how, env_pairs, file_pairs)
        with ending(result.status):
            print_readout(result, found)
            if not result.failure:
                print_line("every setting that can be read was understood", "bold green")


@lexicon.command()
def folder() -> None:
    """Print the folder of your own lexicons."""
    print_line(str(user_folder()))


@lexicon.command()
def schema() -> None:
    """Print the JSON Schema of lexicon files, for editors."""
    from wexicon.work.results.schemas import schema_of

    print_json(schema_of("lexicon"))


# -- new and draft --------------------------------------------------------------------------------------------------

QUESTIONS = (
    ("family", "Name of the family, as on the datasheet", "", r"[a-z0-9][a-z0-9-]*"),
    ("maker", "Maker", "", r".*"),
    ("radio", "Radio: bluetooth, wi-fi, lora, mesh, cellular, gnss", "", r".*"),
    ("rate", "UART rate, factory default", "9600", r"[1-9][0-9]*"),
    ("frame", "Frame, factory default", "8N1", r"[5-8][NEO][12]"),
    (
        "how",
        "How does it listen: always, held-key, escape, control-line",
        "always",
        r"always|held-key|escape|control-line",
    ),
    ("end", "Line end: none, cr, lf, crlf", "crlf", r"none|cr|lf|crlf"),
    (
        "answer",
        "Answers end with: lines, silence 60ms, sentences, bytes 20ms",
        "lines",
        r"lines|sentences|(silence|bytes) \d+ms",
    ),
    ("ok", "Success code", "OK", r".*"),
    ("error", "Error code, {code:int} for a number", "ERROR", r".*"),
    ("probe", "A harmless line that is answered", "AT", r".+"),
    ("who", "The line that asks who it is (empty: none)", "", r".*"),
    ("heard", "What answers that, such as +WHO {model:word} {firmware:word} {serial:word}", "", r".*"),
    ("save", "The line that keeps settings over a power cycle (empty: none)", "", r".*"),
    ("setting", "Name of a first setting (empty: none)", "", r"[a-z][a-z0-9-]*|"),
    ("read", "The line that reads it", "", r".*"),
    ("hear", "What answers that, with {value}", "", r".*"),
    ("write", "The line that writes it, with {value}", "", r".*"),
)


@lexicon.command()
@click.option("--output", "-o", type=click.Path(path_type=Path), help="Where to write it.  [default: FAMILY.toml]")
@force_option
def new(output: Path | None, force: bool) -> None:
    """Ask for datasheet facts; write a commented starter lexicon."""
    answers: dict[str, str] = {}
    for key, question, default, form in QUESTIONS:
        if (key == "heard" and not answers["who"]) or (key in ("read", "hear", "write") and not answers["setting"]):
            answers[key] = ""
            continue
        while True:
            answers[key] = str(click.prompt(question, default=default, show_default=bool(default))).strip()
            if re.fullmatch(form, answers[key]):
                break
            click.echo(f"  invalid; expected {form}", err=True)
    path = output or Path(f"{answers['family']}.toml")
    write_new(path, _new_text(answers), force=force)
    print_line(f"wrote {path}; wexicon lexicon check {path} lists what is missing")


ATTENTION = {
    "always": "",
    "held-key": """rate     = 9600   # the rate of command mode, if it has its own
operator = "Hold the key, apply power, let go after one second."
""",
    "escape": """escape = "+++"
guard  = "1s"    # silence before and after
answer = "OK"    # what answers it
""",
    "control-line": """pins     = { dtr = true }   # how the pins stand while it listens
operator = "Put the mode pin to high."
""",
}


def _new_text(a: dict[str, str]) -> str:
    q = {key: msgspec.json.encode(value).decode() for key, value in a.items()}
    attention = ATTENTION[a["how"]]
    text = f"""# {a["family"]}: written from its datasheet. docs/lexicon.md explains every key.
format = 1

[about]
family = {q["family"]}
maker  = {q["maker"]}
radio  = {q["radio"]}

[link]
rate  = {a["rate"]}
frame = {q["frame"]}

[attention]
how   = {q["how"]}
probe = {{ say = {q["probe"]} }}
{attention}
[speech]
end     = {q["end"]}
answer  = {q["answer"]}
echo    = "either"              # on, off, or either
ok      = [{q["ok"] if a["ok"] else ""}]
error   = [{q["error"] if a["error"] else ""}]
closing = "either"              # does the success code follow every answer: always, alone, either
within  = "1s"

# What the error numbers mean.
[errors]

# What it sends without being asked.
[events]
"""
    if a["who"]:
        text += f"\n[identify]\nask = [{{ say = {q['who']}, hear = {q['heard']} }}]\n"
    if a["save"]:
        text += '\n[writing]\nthen = ["save"]                 # what a written setting needs to persist\n'
    if a["setting"]:
        text += f"""
[setting.{a["setting"]}]
meaning = ""
value   = {{ kind = "text", max_bytes = 20 }}   # or int, decimal, choice, flag, rate, frame, digits, address, hex, timer, tuple
read    = {{ say = {q["read"]}, hear = {q["hear"]} }}
write   = {{ say = {q["write"]} }}
"""
    if a["save"]:
        text += f'\n[action.save]\ndialogue = """\n> {a["save"]}\n"""\n'
    return text


@lexicon.command()
@click.argument("port")
@click.option("--family", default="drafted", show_default=True, help="Name of the family.")
@click.option("--rate", type=click.IntRange(1), multiple=True, help="Only try this rate.  [default: the usual ones]")
@click.option("--output", "-o", type=click.Path(path_type=Path), help="Where to write it.  [default: FAMILY.toml]")
@force_option
def draft(port: str, family: str, rate: tuple[int, ...], output: Path | None, force: bool) -> None:
    """Draft a lexicon by querying the module on PORT. Read-only."""
    from wexicon.cli.options import Stop
    from wexicon.core.formats.lexicon import read_lexicon
    from wexicon.core.tuning import USUAL_RATES
    from wexicon.work.contact.sessions import default_trace, session_on
    from wexicon.work.drafting.lexicon_draft import Drafting, draft_lexicon

    path = output or Path(f"{family}.toml")
    if path.exists() and not force:
        raise CallFault("already exists; nothing was asked", where=str(path), hint=OVERWRITE)
    with (
        Progress("drafting") as progress,
        Stop().listening() as stop,
        session_on(port, None, trace=default_trace("draft"), stopping=stop) as session,
    ):
        learned = Drafting(session, progress.step).learn(rate or USUAL_RATES)
    text = draft_lexicon(learned, family)
    made = read_lexicon(text.encode(), str(path))
    write_new(path, text, force=force)
    asked = f"{counted(len(learned.commands), 'command')} asked" if learned.listed else "it has no list of its commands"
    print_line(
        f"wrote {path}: {learned.tuning}, line ending {learned.end}; {asked}, {counted(len(made.settings), 'setting')} drafted"
    )
