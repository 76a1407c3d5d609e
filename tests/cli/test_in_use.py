"""What fell short in use: each as somebody met it, by the command that it was met in."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import pytest

from tests.conftest import bench, virtual, wexicon
from wexicon.core.text import one_of
from wexicon.files import shipped_folder

MAST = '[unit.mast]\nstandin = "lindle-l9"\n'
SCREEN = '[unit.screen]\nstandin = "brisca-w1"\n'
TABLE = "mast,station,depth\nM1,Cobble Stair,3\nM2,Withy Point,4\n"
SHEET = """format = 1
units = "m.csv"
[seat.mast]
lexicon  = "lindle-l9"
each     = "row"
settings = { network = 6 }
afterwards = ["depth.wex"]
GIVEN
"""


def _sheet(given: str, dialogue: str) -> None:
    Path("m.csv").write_text(TABLE)
    Path("s.toml").write_text(SHEET.replace("GIVEN", given))
    Path("depth.wex").write_text(dialogue)


def test_a_dialogue_of_a_sheet_gets_values_by_row_and_what_is_missing_is_told_first() -> None:
    needs = "needs metres int\nneeds place\n> @name={place}\nkeep metres\n"
    _sheet('given = { metres = "{row.depth}", place = "{row.station}" }', needs)
    with virtual(MAST.replace("mast]", "a]") + MAST.replace("mast]", "b]")) as rig:
        done = json.loads(wexicon("provision", "s.toml", "a", "b", "--json").stdout)
        assert [one["verdict"] for one in done] == ["conforms", "conforms"]
        assert {unit.standin.memory["name"] for unit in rig.rig.units.values()} == {"Cobble Stair", "Withy Point"}
        assert [one["kept"] for one in done] == [{"depth.wex": {"metres": 3}}, {"depth.wex": {"metres": 4}}]
    # Nothing gives it: told when the sheet is read, before a byte is said.
    _sheet('given = { metres = "{row.depth}" }', needs)
    wrong = wexicon("provision", "s.toml", "/dev/nothing", status=2).stderr
    assert "depth.wex needs place, and nothing gives it" in wrong and "write given" in wrong
    _sheet('given = { metres = "{row.deep}" }', "needs metres int\n> @\n")
    assert "deep" in wexicon("provision", "s.toml", "/dev/nothing", status=2).stderr
    _sheet('given = { metres = "{row.station}" }', "needs metres int\n> @\n")
    assert "mast M1: metres cannot be given" in wexicon("provision", "s.toml", "/dev/nothing", status=2).stderr
    _sheet("", "> @\nwait\n")
    assert "there is no statement wait" in wexicon("provision", "s.toml", "/dev/nothing", status=2).stderr


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ('check count("x")', "count takes other values than these 1"),
        ('keep x = split("a,b", "")', "the separator is empty"),
        ('keep x = first("")', "there is no such part"),
        ('keep x = round("a")', "this is not a number"),
        ('keep x = number("five")', "'five' is not a number"),
        ("keep x = upper()", "upper takes other values than these 0"),
        ("keep x = 1 / 0", "a division by zero"),
    ],
)
def test_what_a_function_cannot_do_is_said_in_our_words(line: str, told: str) -> None:
    Path("d.wex").write_text(f"{line}\n")
    with virtual(MAST):
        status = 2 if "other values" in told else 1
        wrong = wexicon("run", "d.wex", "virtual://mast", status=status).stderr
    assert told in wrong and "argument" not in wrong and "class" not in wrong


def test_what_a_persons_file_did_wrong_is_no_bug_in_wexicon() -> None:
    shipped = (shipped_folder() / "lindle-l9.toml").read_text()
    for before, after, told in (
        ('say = "@net?"', 'say = "#{number} @net?"', "inserts number, which has no value in a question"),
        ('air = "@air snr', 'two = "+E {a:bytes(2)} {b:bytes(3)}"\nair = "@air snr', "events.two"),
    ):
        assert before in shipped
        Path("own.toml").write_text(shipped.replace(before, after, 1))
        checked = wexicon("lexicon", "check", "own.toml", status=2)
        assert told in checked.stdout + checked.stderr and "bug" not in checked.stdout + checked.stderr
    # A name that is no UTF-8 is kept in the register all the same.
    Path("s.toml").write_text('format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { network = 6 }\n')
    with virtual(MAST) as rig:
        rig.rig.units["mast"].standin.flash["name"] = "quay \udcff"
        rig.rig.units["mast"].standin.memory["name"] = "quay \udcff"
        assert "conforms" in wexicon("provision", "s.toml", "mast").stdout
        assert "conforms" in wexicon("units", "list").stdout


def test_a_wrong_filter_in_an_action_is_the_only_thing_that_is_told() -> None:
    shipped = (shipped_folder() / "wherry-c3.toml").read_text()
    assert "> code {code}" in shipped
    Path("own.toml").write_text(shipped.replace("> code {code}", "> code {code|nonsense}", 1))
    checked = wexicon("lexicon", "check", "own.toml", status=2)
    told = checked.stdout + checked.stderr
    assert "nonsense" in told and "there is no action" not in told


def test_a_secret_setting_is_given_by_file_alone() -> None:
    Path("a.pin").write_text("4821")
    with virtual('[unit.plug]\nstandin = "tamsel-k5"\n') as rig:
        wexicon("set", "plug", "--file", "pin=a.pin", "-l", "tamsel-k5", "--operator", "rig")
        assert rig.rig.units["plug"].standin.flash["pass"] == "4821"
        assert "no setting was given" in wexicon("set", "plug", "-l", "tamsel-k5", status=2).stderr


def test_do_without_an_action_lists_what_there_is_to_do() -> None:
    with virtual(SCREEN):
        told = wexicon("do", "virtual://screen", "-l", "brisca-w1").stdout
        assert "scan" in told and "restarts the module" in told and "lexicon: brisca-w1" in told
        listed = json.loads(wexicon("do", "virtual://screen", "-l", "brisca-w1", "--json").stdout)
        assert {"action", "needs", "meaning"} == set(listed[0])


def test_what_a_lock_needs_is_given_to_run_talk_and_hail(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("CODE", "squall")
    Path("who.wex").write_text("> who\n< I am {model:word} {firmware:word} {serial:word}\nkeep serial\n")
    for words, more in (
        (("run", "who.wex", "beacon"), ""),
        (("talk", "beacon"), "who\n"),
        (("hail", "beacon"), ""),
    ):
        with bench('[unit.beacon]\nstandin = "wherry-c3"\nsettings = { code = "squall" }\n') as rig:
            done = wexicon(*words, "-l", "wherry-c3", "--env", "code=CODE", input=more)
            assert "W-00771" in done.stdout and "squall" not in done.stdout + done.stderr
            assert rig.rig.units["beacon"].standin.flash["tries"] == 3
    with bench(MAST):
        wrong = wexicon("talk", "mast", "--env", "code=CODE", status=2).stderr
        assert "nothing is known that needs a value" in wrong


def test_readout_names_its_lexicon_and_where_it_came_from() -> None:
    Path("own.toml").write_text((shipped_folder() / "lindle-l9.toml").read_text())
    with virtual(MAST):
        assert "lexicon lindle-l9 (shipped)" in wexicon("readout", "mast", "-l", "lindle-l9").stdout
        assert "own.toml)" in wexicon("readout", "mast", "-l", "own.toml").stdout
        # It is remembered for the port; that is said, not done in silence.
        assert "own.toml, stored for this port)" in wexicon("readout", "mast").stdout


def test_a_hexadecimal_setting_is_written_as_the_datasheet_writes_it() -> None:
    with virtual('[unit.mesh]\nstandin = "fennick-z4"\n') as rig:
        flash = rig.unit("mesh").standin
        told = wexicon("readout", "virtual://mesh", "-l", "fennick-z4").stdout
        row = next(line for line in told.splitlines() if line.startswith("network"))
        assert "0x" in row.split("allowed")[0] and " to 0x" in row
        wexicon("set", "virtual://mesh", "network=34", "-l", "fennick-z4")
        assert 0x34 in flash.flash.values() and "0x34" in wexicon("readout", "virtual://mesh").stdout.replace(
            "0x0034", "0x34"
        )
        assert "is not a hexadecimal number" in wexicon("set", "virtual://mesh", "network=3g", status=2).stderr
        wexicon("readout", "virtual://mesh", "-o", "mesh.toml")
        assert "network = 0x" in Path("mesh.toml").read_text()
        Path("dec.toml").write_text('format = 1\n[seat.mesh]\nlexicon = "fennick-z4"\nsettings = { network = 34 }\n')
        done = wexicon("verify", "dec.toml", "virtual://mesh", status=1)
        assert "network = 34 is 0x" in done.stderr and "write 0x34" in done.stderr
        Path("hex.toml").write_text('format = 1\n[seat.mesh]\nlexicon = "fennick-z4"\nsettings = { network = 0x34 }\n')
        right = wexicon("verify", "hex.toml", "virtual://mesh")
        assert "write 0x" not in right.stderr


def test_what_an_action_keeps_is_checked_after_it() -> None:
    Path("signal.wex").write_text("do register-eps\ndo signal\ncheck signal > -113\nkeep signal\n")
    with virtual('[unit.relay]\nstandin = "cordal-n7"\n[air.network]\nregisters_in = 0.2\n'):
        done = wexicon("run", "signal.wex", "virtual://relay", "-l", "cordal-n7")
        assert "passed" in done.stdout and "-71" in done.stdout
    Path("typo.wex").write_text("check signal > -113\ndo signal\n")
    assert "nothing sets signal" in wexicon("run", "typo.wex", "x", status=2).stderr


def test_do_tells_what_its_dialogue_notes() -> None:
    with virtual('[unit.relay]\nstandin = "cordal-n7"\n[air.network]\nregisters_in = 0.5\n'):
        assert "registered, home network" in wexicon("do", "virtual://relay", "register-eps", "-l", "cordal-n7").stdout


def test_a_text_that_the_gsm_alphabet_lacks_is_refused_before_anything_is_said() -> None:
    with virtual('[unit.relay]\nstandin = "cordal-g2"\n[air.network]\nregisters_in = 0.2\n'):
        words = ("do", "virtual://relay", "send-text", "-l", "cordal-g2", "number=+441632960002")
        wrong = wexicon(*words, "message=\u043f\u0440\u0438\u0432\u0435\u0442", status=1).stderr
        assert "the GSM alphabet lacks letters of this text" in wrong and "send-message" in wrong


def test_what_a_dialogue_before_has_set_is_saved_and_is_not_called_nothing() -> None:
    Path("before.wex").write_text("> @name=Old Ferry\n")
    Path("s.toml").write_text(
        'format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { network = 1 }\nbefore = ["before.wex"]\n'
    )
    with virtual(MAST) as rig:
        done = wexicon("provision", "s.toml", "mast", "--operator", "rig").stdout
        assert "1 unchanged" in done and "nothing written but by the sheet's dialogues (1 line)" in done
        standin = rig.rig.units["mast"].standin
        assert standin.flash["name"] == standin.memory["name"] == "Old Ferry"


def test_a_module_that_is_another_unit_is_refused_with_a_seat_too() -> None:
    seats = "".join(
        f'[seat.{name}]\nlexicon = "lindle-l9"\nsettings = {{ address = {n} }}\n' for name, n in (("a", 1), ("b", 2))
    )
    Path("s.toml").write_text(f"format = 1\n{seats}")
    with virtual(MAST) as rig:
        wexicon("provision", "s.toml", "mast", "--seat", "a")
        wrong = wexicon("provision", "s.toml", "mast", "--seat", "b", status=1)
        assert "already provisioned as a" in wrong.stdout + wrong.stderr
        assert rig.rig.units["mast"].standin.flash["addr"] == 1
        wexicon("provision", "s.toml", "mast", "--seat", "b", "--again")
        assert rig.rig.units["mast"].standin.flash["addr"] == 2


def test_a_sheet_names_the_lexicon_that_is_beside_it() -> None:
    Path("own.toml").write_text((shipped_folder() / "lindle-l9.toml").read_text())
    with virtual(MAST):
        wexicon("readout", "mast", "-l", "own.toml", "-o", "unit.toml")
        assert 'lexicon = "own.toml"' in Path("unit.toml").read_text()
        assert "conforms" in wexicon("verify", "unit.toml", "mast").stdout


def test_a_test_of_packets_does_not_pass_against_a_module_that_takes_them_for_commands() -> None:
    with virtual(SCREEN):
        wrong = wexicon("traffic", "screen", "--rate", "115200", "--count", "3", status=1)
        assert "it is in command mode, not in data mode" in wrong.stdout + wrong.stderr


def test_a_rate_that_was_asked_for_or_remembered_is_used_as_it_is() -> None:
    Path("at.wex").write_text("> AT\n")
    with bench(SCREEN + "settings = { rate = 57600 }\n") as rig:
        assert "found: 57600" in wexicon("hail", "screen").stdout
        assert "passed" in wexicon("run", "at.wex", "screen", "-l", "brisca-w1", "--as-is").stdout
        rig.rig.units["screen"].standin.uart.tuning = msgspec.structs.replace(
            rig.rig.units["screen"].standin.uart.tuning, rate=38400
        )
        done = wexicon("talk", "screen", "-l", "brisca-w1", "--as-is", "--rate", "38400", input="AT\n")
        assert "<  OK" in done.stdout


def test_what_one_action_kept_is_given_to_the_next() -> None:
    text = (shipped_folder() / "lindle-l9.toml").read_text()
    asks = "> @who?\n< @who {model} {firmware} {token}\nkeep token\n"
    login = f'[action.login]\nmeaning = "asks who it is"\ndialogue = """\n{asks}"""\n'
    save = text.replace("> @save\n", 'needs token\ncheck token == "L9-00417"\n> @save\n').replace(
        'then = ["save"]', 'then = ["login", "save"]'
    )
    Path("own.toml").write_text(save.replace("[action.save]", f"{login}\n[action.save]"))
    with virtual(MAST) as rig:
        assert "conforms" in wexicon("set", "virtual://mast", "network=6", "-l", "own.toml").stdout
        assert rig.unit("mast").standin.flash["net"] == 6


def test_words_with_articles_plurals_and_units() -> None:
    with virtual(SCREEN + '[air.access_point.one]\nname = "Harbour"\nsignal = -48\n'):
        assert "signal (dBm)" in wexicon("do", "virtual://screen", "scan", "-l", "brisca-w1").stdout
    assert one_of("orvane-b3") == "an orvane-b3" and one_of("lindle-l9") == "a lindle-l9"
