"""A text file of AT lines is run as it is, and made into a dialogue that checks for what was heard: the whole story."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import bench, built, virtual, wexicon
from wexicon.core.dialogue.lines import Statement
from wexicon.core.dialogue.reader import as_dialogue, is_plain, read_plain_lines

SCREEN = '[unit.screen]\nstandin = "brisca-w1"\n'
LINES = """# the office screen
AT
AT+WHO?

// as delivered
AT+POWER=11
AT+POWER?
"""


def test_the_story_from_a_file_of_lines_to_a_dialogue_with_values() -> None:
    Path("lines.txt").write_text(LINES)
    with bench(SCREEN) as rig:
        port = rig.ports["screen"]
        done = built("run", "lines.txt", port, "--rate", "115200", "--as-dialogue", "screen.wex")
        assert "passed: 4 exchanges" in done.stdout and "wrote screen.wex" in done.stdout
        assert rig.rig.units["screen"].standin.memory["power"] == 11
        kept = Path("screen.wex").read_text()
        assert "> AT+POWER?\n< +POWER 11\n< OK\n" in kept
        # Values are put in, and the dialogue checks them.
        Path("screen.wex").write_text(
            "needs power int\n"
            + kept.replace("AT+POWER=11", "AT+POWER={power}").replace("+POWER 11", "+POWER {=power}")
        )
        assert "passed" in built("run", "screen.wex", port, "power=7", "--rate", "115200").stdout
        assert rig.rig.units["screen"].standin.memory["power"] == 7
        wrong = built("run", "screen.wex", port, "power=99", "--rate", "115200", status=1)
        assert "FAULT" in wrong.stderr
        # The file already there is kept.
        assert (
            "already exists"
            in built("run", "lines.txt", port, "--rate", "115200", "--as-dialogue", "screen.wex", status=2).stderr
        )


def test_each_answer_is_checked_by_ok_and_error_or_by_the_lexicon() -> None:
    Path("wrong.txt").write_text("AT\nAT+NONSENSE\nAT\n")
    Path("gauge.txt").write_text("@\n@net=6\n@net?\n")
    with virtual(SCREEN + '[unit.mast]\nstandin = "lindle-l9"\n') as rig:
        for more in (("-l", "brisca-w1"), ()):
            wrong = wexicon("run", "wrong.txt", rig.ports["screen"], "--rate", "115200", *more, status=1)
            assert "line 2: > AT+NONSENSE" in wrong.stderr and "FAULT 2" in wrong.stderr
        assert "passed" in wexicon("run", "gauge.txt", rig.ports["mast"], "-l", "lindle-l9").stdout
        assert rig.rig.units["mast"].standin.memory["net"] == 6


def test_lines_become_a_dialogue_without_a_module() -> None:
    Path("lines.txt").write_text(LINES)
    wexicon("run", "lines.txt", "--as-dialogue", "screen.wex")
    assert Path("screen.wex").read_text() == as_dialogue(LINES)
    assert "on which port" in wexicon("run", "lines.txt", status=2).stderr


@pytest.mark.parametrize(
    ("text", "plain"),
    [(LINES, True), ("> AT\n", False), ("# only a comment\n\n", False), ("AT\n< OK\n", False), ("level?\n", True)],
)
def test_plain_lines_are_told_from_a_dialogue(text: str, plain: bool) -> None:
    assert is_plain(text) is plain


def test_what_is_special_in_a_dialogue_is_plain_in_a_line() -> None:
    made = read_plain_lines('AT+X="{a}"\r\n  AT  \nneeds x\n', "x.txt")
    said = [getattr(one, "source", "") for one in made.statements]
    assert said == ['AT+X="{{a}}"', "AT", "needs x"] and isinstance(made.statements[0], Statement)
    assert [one.line for one in made.statements] == [1, 2, 3]


def test_lines_in_a_dialogue_file_are_told_how_they_are_said() -> None:
    Path("lines.wex").write_text(LINES)
    assert "write > before a line to say" in wexicon("run", "lines.wex", "x", status=2).stderr
