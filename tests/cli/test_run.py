"""`run` and `rehearse` where they fail, branch, or are told how to speak; reports with the lines sent and received."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import virtual, wexicon

L9 = '[unit.x]\nstandin = "lindle-l9"\n'


@pytest.mark.parametrize(
    ("text", "notes"),
    [
        ('> @addr=99999\n< @ok\n| @err {code:int}     note "refused: {code}"\n', ["refused: 3"]),
        ('> @addr=99999\n| @err {code:int}\n    keep code\n    note "block"\nnote "and on"\n', ["block", "and on"]),
        ('> @addr=5\n< @ok\n| @err {code:int}     fail "never"\nnote "taken"\n', ["taken"]),
        (
            'repeat 3 times\n    > @addr=99999\n    | @err 3     break\nnote "out of it"\n',
            ["out of it"],
        ),
    ],
)
def test_another_answer_that_is_named_does_what_stands_behind_it(text: str, notes: list[str]) -> None:
    Path("d.wex").write_text(text)
    told = json.loads(wexicon("rehearse", "d.wex", "-l", "lindle-l9", "--json").stdout)
    assert (told["verdict"], told["notes"]) == ("passed", notes)


def test_another_event_that_is_named_ends_the_waiting() -> None:
    text = '> AT+MODE=station\nallow 20s\n> AT+ACCESS="Harbour Office","mud flats 7"\nawait 30s\n    +ACCESS 9\n'
    Path("d.wex").write_text(text + '    | +ACCESS {state:int}     note "state {state}"\nnote "on"\n')
    Path("r.toml").write_text(
        'format = 1\n[unit.x]\nstandin = "brisca-w1"\n[air.access_point.office]\n'
        'name = "Harbour Office"\npassphrase = "mud flats 7"\n'
    )
    told = json.loads(wexicon("rehearse", "d.wex", "-l", "brisca-w1", "--rig", "r.toml", "--json").stdout)
    assert told["notes"] == ["state 2", "on"]


def test_a_failing_run_tells_as_json_what_was_said_expected_and_heard() -> None:
    Path("d.wex").write_text("> @addr?\n< @addr 7\n")
    with virtual(L9) as rig:
        port = rig.ports["x"]
        told = json.loads(wexicon("run", "d.wex", port, "-l", "lindle-l9", "--json", status=1).stdout)
        shown = wexicon("run", "d.wex", port, "-l", "lindle-l9", status=1)
    failure = told["failure"]
    assert told["verdict"] == "failed" and failure["step"] == "line 1: > @addr?" and failure["status"] == 1
    assert (failure["said"], failure["expected"], failure["heard"]) == ("@addr?", "@addr 7", ["@addr 0"])
    lines = shown.stderr.splitlines()
    assert lines[0] == "failed in d.wex, line 1: > @addr?"
    assert "  said      @addr?" in lines and "  expected  @addr 7" in lines and "  heard     @addr 0" in lines
    assert "  It matched up to “@addr ”, then “0” was heard." in lines
    assert Path(told["trace"]).is_file()


def test_without_a_lexicon_one_says_how_the_module_is_spoken_to() -> None:
    Path("d.wex").write_text("> @addr?\n< @addr {a:int}\nkeep a\n")
    Path("echo.wex").write_text("> AT\n< AT\n< OK\n")
    with virtual(L9 + '[unit.y]\nstandin = "brisca-w1"\n') as rig:
        told = wexicon("run", "d.wex", rig.ports["x"], "--end", "lf", "--rate", "9600")
        assert "passed: 1 exchange" in told.stdout
        wrong = wexicon("run", "d.wex", rig.ports["x"], "--end", "cr", status=1)
        assert "error" in wrong.stderr or "did not come" in wrong.stderr
        screen = rig.ports["y"]
        # With the echo off, what comes back is an answer like any other.
        assert "passed" in wexicon("run", "echo.wex", screen, "--rate", "115200", "--echo", "off").stdout
        wexicon("run", "echo.wex", screen, "--rate", "115200", "--echo", "on", status=1)
        assert "9X1" in wexicon("run", "d.wex", screen, "--frame", "9X1", status=2).stderr


def test_a_provisioning_that_fails_shows_what_was_said_and_heard_and_what_was_not_read() -> None:
    Path("s.toml").write_text('format = 1\n[seat.m]\nlexicon = "own"\nsettings = { address = 70000, name = "mast" }\n')
    Path("own.toml").write_text(
        'format = 1\nextends = "lindle-l9"\n[about]\nfamily = "lindle-l9"\n'
        '[setting.address]\nvalue = { kind = "int", min = 0, max = 99999 }\n'
    )
    with virtual(L9) as rig:
        told = wexicon("provision", "s.toml", rig.ports["x"], "--operator", "rig", status=1)
        data = json.loads(
            wexicon("provision", "s.toml", rig.ports["x"], "--operator", "rig", "--json", status=1).stdout
        )
    assert "address refused (error 3 (value not allowed))" in told.stderr and "Trace: " in told.stderr
    assert [line["outcome"] for line in data["settings"]] == ["unchanged", "refused"]
    assert data["settings"][1]["after"]["value"] == 0  # read after the refusal


def test_a_sheet_is_rehearsed_each_seat_with_a_trace_of_its_own() -> None:
    seat = '[seat.{0}]\nlexicon = "lindle-l9"\nsettings = {{ address = {1}, name = "{0}" }}\n'
    Path("s.toml").write_text("format = 1\n" + seat.format("relay", 1) + seat.format("mast", 2))
    told = wexicon("rehearse", "s.toml", "--trace", "t.jsonl").stdout
    assert told.count("conforms: 2 changed; read back after a power cycle") == 2 and "in real time this takes" in told
    for name, address in (("relay", 1), ("mast", 2)):
        assert f"@addr={address}" in Path(f"t-{name}.jsonl").read_text()
    results = json.loads(wexicon("rehearse", "s.toml", "--json").stdout)
    assert [result["seat"] for result in results] == ["relay", "mast"] and results[0]["evidence"] == "power-cycle"
    Path("s.toml").write_text(
        "format = 1\n" + seat.format("relay", 1) + seat.format("mast", 2).replace("lindle-l9", "own")
    )
    Path("own.toml").write_text(
        'format = 1\nextends = "lindle-l9"\n[about]\nfamily = "lindle-l9"\n[identify]\nmust = { model = "X" }\n'
    )
    failed = wexicon("rehearse", "s.toml", status=1)
    assert "this is another module: its model is LINDLE-L9, the lexicon is for X" in failed.stderr
    assert "relay" in failed.stdout


def test_a_lexicon_is_the_callers_own_path_or_a_name_beside_the_file(tmp_path: Path) -> None:
    folder = tmp_path / "deep"
    folder.mkdir()
    own = 'format = 1\nextends = "lindle-l9"\n[about]\nfamily = "lindle-l9"\nnote = "own"\n'
    (folder / "mine.toml").write_text(own)
    (folder / "d.wex").write_text("> @\n")
    assert "passed" in wexicon("rehearse", "deep/d.wex", "-l", "mine", "--standin", "lindle-l9").stdout
    assert "passed" in wexicon("rehearse", "deep/d.wex", "-l", "deep/mine.toml").stdout
    assert "cannot be read" in wexicon("rehearse", "deep/d.wex", "-l", "mine.toml", status=2).stderr


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('format = 2\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { address = 1 }\n', "this Wexicon reads format 1"),
        ('format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = {}\n', "is empty: there is nothing to bring about"),
        (
            'format = 1\n[seat.m]\nlexicon = "lindle-l9"\ntrust = ["adress"]\nsettings = { address = 1 }\n',
            "adress is not among the settings\n    did you mean address?",
        ),
        (
            'format = 1\n[seat.m]\nlexicon = "lindle-l9"\ntrust = ["address"]\nsettings = { address = 1 }\n',
            "address can be read, so it needs no trust",
        ),
    ],
)
def test_a_sheet_that_could_prove_nothing_is_refused(text: str, told: str) -> None:
    Path("s.toml").write_text(text)
    assert told in wexicon("verify", "s.toml", "/dev/null", status=2).stderr


def test_many_faults_are_told_up_to_a_number_and_in_time() -> None:
    Path("l.toml").write_text(
        'format = 1\n[about]\nfamily = "x"\n' + "".join(f"[setting.s{n}]\nvalve = 1\n" for n in range(4000))
    )
    told = wexicon("lexicon", "check", "l.toml", status=2).stderr
    assert "more errors" in told and told.count("l.toml:") < 70
    Path("readme.wex").write_text((Path(__file__).parents[2] / "README.md").read_text())
    assert wexicon("rehearse", "readme.wex", status=2).stderr.count("readme.wex:") <= 52
