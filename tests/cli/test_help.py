"""Help pages say what a command is for, with examples that can be called; a wrong call is answered with the right one."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import click
import pytest

from tests.conftest import wexicon
from wexicon import files as extras
from wexicon.cli.help import _GROUP_OF, GROUPS, WIDEST, pages, parts_of
from wexicon.cli.main import COMMANDS, SECTIONS
from wexicon.cli.main import wexicon as program

ROOT = click.Context(program, info_name="wexicon", **program.context_settings)
PAGES = dict(pages(program, ROOT))
OWN = [name for name, command in PAGES.items() if not name.startswith("calc ") or name == "calc wiring"]


def test_every_command_stands_on_the_first_page() -> None:
    shown = [name for names in SECTIONS.values() for name in names]
    assert len(shown) == len(set(shown)) and set(shown) == set(COMMANDS)


@pytest.mark.parametrize("name", OWN)
def test_a_page_opens_with_what_it_is_for_and_two_examples_that_can_be_called(name: str) -> None:
    for file in ("boot.vcd", "answers.bin"):
        Path(file).touch()
    first, examples, _ = parts_of(PAGES[name].help or "")
    assert first and len(examples) == 2 and len(set(examples)) == 2
    for example in examples:
        words = shlex.split(example.partition(" > ")[0].replace("ls $(", "").replace(")", ""))
        assert words[0] == "wexicon"
        parsed(words[1:])
    text = wexicon(*name.split(), "--help").stdout
    assert text.index(examples[1]) < text.index("--help")
    assert max(map(len, text.splitlines())) <= WIDEST


def parsed(words: list[str]) -> None:
    """Reads a call as the program would, and runs nothing. Raises UsageError."""
    command: click.Command = program
    parent = ROOT
    while isinstance(command, click.Group):
        found = command.get_command(parent, words[0])
        assert found, words
        command, words = found, words[1:]
    command.make_context("x", list(words), parent=parent)


@pytest.mark.parametrize("name", PAGES)
def test_an_option_stands_in_the_same_group_with_the_same_words_everywhere(name: str) -> None:
    sections = re.split(r"\n(?=\S[^\n]*:\n)", wexicon(*name.split(), "--help").stdout)
    for section in sections[1:]:
        title = section.partition(":\n")[0]
        if title not in GROUPS:
            continue
        for option in re.findall(r"^  (?:-\w, )?--([a-z-]+)", section, re.MULTILINE):
            assert title == _GROUP_OF.get(option, "Options"), option
    assert "--quiet" in sections[-1] or isinstance(PAGES[name], click.Group)


def test_common_options_are_told_in_one_way() -> None:
    told: dict[str, set[str]] = {}
    for command in PAGES.values():
        for param in command.params:
            if (
                isinstance(param, click.Option)
                and (option := max(param.opts, key=len).lstrip("-")) in GROUPS["Operator"]
            ):
                told.setdefault(option, set()).add(param.help or "")
    assert told and all(len(texts) == 1 for texts in told.values())


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["hial"], "there is no command hial; did you mean hail?"),
        (["units", "lst"], "there is no command lst; did you mean list?"),
        (["calc", "airtme"], "there is no topic airtme; did you mean airtime?"),
        (["set", "x", "--proove", "auto"], "there is no option --proove; did you mean --prove?"),
        (
            ["set", "x", "--prove", "powr"],
            "--prove: powr is not one of auto, power, restart, reading, twice; did you mean power?",
        ),
        (["set"], "PORT is missing\n  For example: wexicon set /dev/ttyUSB0"),
        (["rig", "key", "x", "hald"], "hald is not one of hold, release; did you mean hold?"),
        (["set", "x", "--rate", "fast"], "--rate: 'fast' is not a whole number"),
        (["traffic", "a", "b", "--size", "3"], "--size: 3 is not from 24 to 240"),
        (["traffic", "a", "b", "--count", "0"], "--count: 0 is below 1"),
        (["set", "x", "--patience", "soon"], "--patience: 'soon' is not a duration"),
    ],
)
def test_a_wrong_call_is_told_what_is_right(words: list[str], told: str) -> None:
    error = wexicon(*words, status=2).stderr
    assert told in error and f"Help: wexicon {words[0] if words != ['hial'] else ''}".strip() in error
    assert "Traceback" not in error


def test_quiet_leaves_results_and_errors() -> None:
    assert wexicon("calc", "airtime", "-q").stdout
    assert "error" in wexicon("readout", "/dev/none", "-q", "-l", "lindle-l9", status=3).stderr


def test_what_is_not_installed_is_told_before_anything_is_sent(monkeypatch: pytest.MonkeyPatch) -> None:
    usual = extras.find_spec
    monkeypatch.setattr(extras, "find_spec", lambda name: None if name in extras.EXTRAS else usual(name))
    for words, extra in (
        (["run", "d.wex", "/dev/none", "--plot", "d.png"], "plots"),
        (["trace", "plot", "last", "-o", "t.png"], "plots"),
        (["report", "-o", "r.html"], "report"),
        (["units", "label", "-o", "l.pdf"], "report"),
    ):
        Path("d.wex").write_text("> AT\n")
        assert f"pip install 'wexicon[{extra}]'" in wexicon(*words, status=2).stderr


def test_the_version_with_details_has_what_a_bug_report_needs_and_no_path() -> None:
    short, long = wexicon("--version").stdout, wexicon("--version", "-v").stdout
    assert long.startswith(short) and "Python 3." in long and "pyserial 3" in long and "/" not in long
