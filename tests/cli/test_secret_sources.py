"""Where secrets come from, and where generated ones go: what a sheet may read, what it may ask, who gets what was drawn."""

from __future__ import annotations

import csv
import json
import threading
from pathlib import Path
from typing import Any

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import k5, virtual, wexicon, without_times
from wexicon.core.faults import CallFault
from wexicon.records.sealed import HandOverFile

PLUG = 'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\n[seat.plug.settings]\nname = "Withy Point"\n'
PASSWORD = "tide gauge 7"
GENERATED = (
    'format = 1\ntitle = "Plugs"\n[hand_over]\nfile = "plugs.handover"\npassword = { env = "SEAL" }\nlabel = ["pin"]\n'
    '[seat.plug]\nlexicon = "tamsel-k5"\n[seat.plug.settings]\nname = "Withy Point"\npin = { generate = "6 digits" }\n'
)


@pytest.fixture(autouse=True)
def _sealed(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SEAL", PASSWORD)


def test_a_sheet_reads_secrets_tables_and_dialogues_only_beside_itself(tmp_path: Path) -> None:
    outside, own = tmp_path / "elsewhere", tmp_path / "sheets"
    outside.mkdir(), own.mkdir()
    (outside / "plug.pin").write_text("48213\n")
    (outside / "say.wex").write_text('note "1"\n')
    (outside / "masts.csv").write_text("key\nM1\n")
    (own / "linked.pin").symlink_to(outside / "plug.pin")
    for text in (
        PLUG + f'pin = {{ file = "{outside / "plug.pin"}" }}\n',
        PLUG + 'pin = { file = "../elsewhere/plug.pin" }\n',
        PLUG + 'pin = { file = "linked.pin" }\n',
        PLUG.replace("[seat.plug.settings]", 'before = ["../elsewhere/say.wex"]\n[seat.plug.settings]'),
        PLUG.replace("[seat.plug]", 'units = "../elsewhere/masts.csv"\n[seat.plug]\neach = "row"'),
    ):
        (own / "s.toml").write_text(text)
        told = wexicon("rehearse", "sheets/s.toml", status=2).stderr
        assert "is outside the sheet's folder" in told and f"--allow-folder {outside}" in told and "48213" not in told
        wexicon("rehearse", "sheets/s.toml", "--allow-folder", str(outside))
    # Nothing of a file is shown that is no lexicon.
    (own / "s.toml").write_text(PLUG.replace('"tamsel-k5"', '"../elsewhere/plug.pin"'))
    told = wexicon("rehearse", "sheets/s.toml", status=2).stderr
    assert "is not a lexicon's file" in told and "48213" not in told


def test_a_plan_says_where_every_secret_comes_from(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PIN", "48213")
    Path("name.txt").write_text("Withy Point")
    Path("s.toml").write_text(PLUG.replace('"Withy Point"', '{ file = "name.txt" }') + 'pin = { env = "PIN" }\n')
    with virtual(k5()) as rig:
        told = wexicon("provision", "s.toml", rig.ports["plug"], "--operator", "rig", "--plan").stdout
        Path("g.toml").write_text(GENERATED)
        drawn = wexicon("provision", "g.toml", rig.ports["plug"], "--operator", "rig", "--plan").stdout
    assert "name: from the file name.txt" in told and "pin: from the environment variable PIN" in told
    assert "pin: 6 digits, drawn for each unit" in drawn and not Path("plugs.handover").exists()


def test_what_a_sheet_asks_begins_with_seat_and_setting() -> None:
    Path("s.toml").write_text(PLUG + 'pin = { prompt = "[sudo] password for root" }\n')
    terminal = Terminal("rehearse", "s.toml")
    terminal.read("plug, pin: [sudo] password for root: ")
    terminal.type("48213\n")
    assert terminal.end() == 0


def test_a_generated_secret_is_handed_over_encrypted_and_kept_when_its_unit_is_made_again(tmp_path: Path) -> None:
    Path("g.toml").write_text(GENERATED)
    with virtual(k5()) as rig:
        port, standin = rig.ports["plug"], rig.rig.units["plug"].standin
        call = ("provision", "g.toml", port, "--operator", "rig")
        told = [*wexicon(*call, "--json"), *wexicon("verify", *call[1:])]
        pin = str(standin.flash["pass"])
        assert len(pin) == 6 and pin.isdecimal()
        standin.flash["pass"] = "1234"
        told += wexicon(*call)
        assert standin.flash["pass"] == pin  # its own again
    listed = wexicon("units", "secrets", "plugs.handover", "--env", "password=SEAL").stdout
    assert pin in listed and "plug" in listed and "02.A15C" in listed
    wexicon("units", "secrets", "plugs.handover", "--env", "password=SEAL", "-o", "out.csv")
    with Path("out.csv").open(newline="") as file:
        assert next(csv.DictReader(file))["value"] == pin
    assert Path("out.csv").stat().st_mode & 0o077 == 0 and Path("plugs.handover").stat().st_mode & 0o077 == 0
    # On the label only where the sheet and the call say so.
    label = ("units", "label", "-o", "l.svg", "--page", "label", "--force")
    wexicon(*label)
    plain = Path("l.svg").read_text()
    wexicon(*label, "--secrets", "plugs.handover", "--env", "password=SEAL")
    assert len(Path("l.svg").read_text()) > len(plain)
    told += wexicon("units", "show", "plug") + wexicon("units", "list", "--json")
    wexicon("units", "export", "-o", "u.json")
    Path("out.csv").unlink(), Path("l.svg").unlink()
    for path in (one for one in tmp_path.rglob("*") if one.is_file()):
        assert pin.encode() not in path.read_bytes() and PASSWORD.encode() not in path.read_bytes(), path
    assert not any(pin in text or PASSWORD in text for text in told)


def test_a_secret_that_the_module_may_not_have_is_marked_as_doubtful() -> None:
    def state() -> list[str]:
        listed = wexicon("units", "secrets", "plugs.handover", "--env", "password=SEAL", "--json").stdout
        return [one["state"] for one in json.loads(listed)]

    Path("g.toml").write_text(GENERATED)
    with virtual(k5()) as rig:
        standin, call = rig.rig.units["plug"].standin, ("provision", "g.toml", rig.ports["plug"], "--operator", "rig")
        heard, pin = standin.heard, standin.memory["pass"]
        # It takes the PIN, and is deaf from then on.
        standin.heard = lambda data, began: heard(data, began) if standin.memory["pass"] == pin else None
        wexicon(*call, "--patience", "2s", status=1)
        assert state() == ["doubtful"]
        standin.heard = heard
        wexicon(*call)
    assert state() == ["read back"]


def test_another_module_gets_another_secret_and_none_is_told_without_the_file(monkeypatch: pytest.MonkeyPatch) -> None:
    Path("g.toml").write_text(GENERATED)
    pins = []
    for address in ("02A15C001111", "02A15C002222"):
        with virtual(k5(identity=f'{{ address = "{address}" }}')) as rig:
            wexicon("provision", "g.toml", rig.ports["plug"], "--operator", "rig")
            pins.append(rig.rig.units["plug"].standin.flash["pass"])
    assert len(set(pins)) == 2
    with virtual(k5(identity='{ address = "02A15C003333" }')) as rig:
        told = wexicon("verify", "g.toml", rig.ports["plug"], "--operator", "rig", status=2).stderr
        assert "plugs.handover has no pin of this unit" in told
        monkeypatch.setenv("SEAL", "wrong")
        before = dict(rig.rig.units["plug"].standin.flash)
        told = wexicon("provision", "g.toml", rig.ports["plug"], "--operator", "rig", status=2).stderr
        assert "cannot be opened with this password" in told and rig.rig.units["plug"].standin.flash == before


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (('"6 digits"', '"six digits"'), "does not begin with a number from 4 to 128"),
        (('"6 digits"', '"6 runes"'), "'runes' cannot be generated"),
        (('"6 digits"', '"9 digits"'), "9 digits are not always allowed"),
        (('"6 digits"', '"6 hex"'), "6 hex are not always allowed"),
        (('{ env = "SEAL" }', '{ generate = "6 digits" }'), "must come from the environment, a file or a prompt"),
        (('label = ["pin"]', 'label = ["name"]'), "name is not generated"),
        (
            ('[hand_over]\nfile = "plugs.handover"\npassword = { env = "SEAL" }\nlabel = ["pin"]\n', ""),
            "handed over to nobody",
        ),
    ],
)
def test_what_cannot_be_generated_is_told_before_anything_is_said(change: tuple[str, str], told: str) -> None:
    Path("g.toml").write_text(GENERATED.replace(*change))
    assert told in wexicon("rehearse", "g.toml", status=2).stderr


def test_a_hand_over_file_that_was_changed_or_cut_is_not_believed(tmp_path: Path) -> None:
    path = tmp_path / "h"
    for _ in range(2):
        HandOverFile(path, "a").change(lambda kept: kept.append(_one(len(kept))))
    assert [one.value for one in HandOverFile(path, "a").secrets()] == ["0", "1"]
    whole = path.read_bytes()
    sealed = json.loads(whole)
    for data in (
        whole[:-9],
        whole.replace(sealed["token"][40:44].encode(), b"AAAA"),
        whole.replace(b'"format":1', b'"format":2'),
        b"[]",
    ):
        path.write_bytes(data)
        with pytest.raises(CallFault):
            HandOverFile(path, "a").change(lambda kept: kept.append(_one(9)))
        assert path.read_bytes() == data
    path.write_bytes(whole)
    with pytest.raises(CallFault, match="with this password"):
        HandOverFile(path, "b").secrets()


@pytest.mark.parametrize("password", ["fjord-schlüssel-æ", "\udcff-key", "日本 "])
def test_a_password_and_a_token_beyond_ascii_are_taken_or_refused_in_words(password: str, tmp_path: Path) -> None:
    path = tmp_path / "x.handover"
    HandOverFile(path, password).change(lambda kept: kept.append(_one(1)))
    assert [one.value for one in HandOverFile(path, password).secrets()] == ["1"]
    data = json.loads(path.read_text())
    for token in (data["token"][:40] + "\u00e6" * 9, "\u20ac"):
        path.write_text(json.dumps({**data, "token": token}))
        with pytest.raises(CallFault, match="cannot be opened with this password"):
            HandOverFile(path, password).secrets()


@pytest.mark.parametrize("different", [True, False])
def test_drawn_secrets_that_must_differ_are_drawn_until_they_do(
    different: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Chance draws the same secret for the second unit at first."""
    digits = iter("111111" + "111111" + "222222")
    monkeypatch.setattr("secrets.choice", lambda alphabet: next(digits))
    Path("g.toml").write_text(GENERATED + ('[agree]\ndifferent = ["pin"]\n' if different else ""))
    pins = []
    for address in ("02A15C001111", "02A15C002222"):
        with virtual(k5(identity=f'{{ address = "{address}" }}')) as rig:
            wexicon("provision", "g.toml", rig.ports["plug"], "--operator", "rig")
            pins.append(rig.rig.units["plug"].standin.flash["pass"])
    assert pins == ["111111", "222222" if different else "111111"]


def test_each_sheet_has_secrets_of_its_own_in_one_file() -> None:
    Path("g.toml").write_text(GENERATED)
    Path("other.toml").write_text(GENERATED.replace('"Plugs"', '"Other plugs"'))
    with virtual(k5()) as rig:
        call = (rig.ports["plug"], "--operator", "rig", "--again")
        pins = []
        for sheet in ("g.toml", "other.toml", "g.toml"):
            wexicon("provision", sheet, *call)
            pins.append(rig.rig.units["plug"].standin.flash["pass"])
    assert pins[0] == pins[2] != pins[1]


def test_two_processes_that_draw_at_once_lose_no_secret(tmp_path: Path) -> None:
    """While one changes the file, the other one waits, and then sees what the first has added."""
    path = tmp_path / "h"
    first, second = HandOverFile(path, "a"), HandOverFile(path, "a")
    inside = threading.Event()
    threads = [threading.Thread(target=lambda: second.change(lambda kept: kept.append(_one(len(kept)))))]

    def act(kept: list[Any]) -> None:
        threads[0].start()
        inside.wait(0.3)  # time enough for the other one, if nothing held it
        kept.append(_one(len(kept)))

    first.change(act)
    threads[0].join(timeout=60)
    assert [one.value for one in first.secrets()] == ["0", "1"]


def _one(number: int) -> object:
    from wexicon.records.sealed import HandedOver

    return HandedOver("u", "n", "s", "pin", str(number), "")


# -- lexicons and commands of others -----------------------------------------------------------------------------------------


def test_a_lexicon_that_was_changed_since_it_was_stored_is_asked_for_again(tmp_path: Path) -> None:
    from wexicon.files import shipped_folder

    own = tmp_path / "mine.toml"
    own.write_bytes((shipped_folder() / "lindle-l9.toml").read_bytes())
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n') as rig:
        port = rig.ports["mast"]
        wexicon("readout", port, "-l", str(own))
        assert f"lexicon: {own}, stored for this port" in wexicon("readout", port).stderr
        own.write_text(own.read_text() + "\n# changed\n")
        told = wexicon("readout", port, status=2).stderr
        assert "was changed" in told and f"--lexicon {own}" in told
        assert "was changed" in wexicon("talk", port, status=2).stderr
        wexicon("readout", port, "-l", str(own))
        wexicon("readout", port)
        # One in the current folder goes before a shipped one, and that is said.
        Path("lindle-l9.toml").write_bytes(own.read_bytes())
        assert "is used, not the shipped one" in wexicon("readout", port, "-l", "lindle-l9").stderr
        Path("s.toml").write_text('format = 1\n[seat.mast]\nlexicon = "lindle-l9"\n[seat.mast.settings]\nname = "a"\n')
        assert "is used, not the shipped one" in wexicon("rehearse", "s.toml").stderr


def test_commands_of_a_fixture_are_announced_once_and_told_no_secret(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PIN", "48213")
    shown = tmp_path / "env.txt"
    (tmp_path / "relay").write_text(f"#!/bin/sh\nenv >> {shown}\n")
    (tmp_path / "relay").chmod(0o700)
    pins = "".join(
        f'[pin.{name}]\non = "{tmp_path}/relay on"\noff = "{tmp_path}/relay off"\n' for name in ("key", "power")
    )
    Path("jig.toml").write_text("format = 1\n" + pins)
    Path("s.toml").write_text(PLUG + 'pin = { env = "PIN" }\n')
    with virtual(k5()) as rig:
        words = (
            "provision",
            "s.toml",
            rig.ports["plug"],
            "--operator",
            "nobody",
            "--fixture",
            "jig.toml",
            "--patience",
            "1s",
        )
        told = wexicon(*words, status=3).stderr
    assert told.count(f"jig.toml runs these commands: {tmp_path}/relay on; {tmp_path}/relay off") == 1
    assert "PATH=" in shown.read_text() and "48213" not in shown.read_text() and "SEAL" not in shown.read_text()


# -- rows of the table -------------------------------------------------------------------------------------------------------


def test_of_a_row_the_register_has_what_the_sheet_uses_and_no_secret(tmp_path: Path) -> None:
    Path("masts.csv").write_text("key,station,pin,comment\nM1,Cobble Stair,48213,call nobody\n")
    Path("b.wex").write_text('needs pin secret\nnote "{pin}"\n')
    Path("s.toml").write_text(
        'format = 1\nunits = "masts.csv"\n[seat.mast]\nlexicon = "lindle-l9"\neach = "row"\nafterwards = ["b.wex"]\n'
        '[seat.mast.settings]\nname = "{row.station}"\n'
    )
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n') as rig:
        words = ("provision", "s.toml", rig.ports["mast"], "--operator", "rig")
        wexicon(*words)
        (entry,) = json.loads(wexicon("units", "list", "--json").stdout)
        assert entry["row"] == {"key": "M1", "station": "Cobble Stair"}
        for path in (tmp_path / "state").rglob("*"):
            assert not path.is_file() or "48213" not in without_times(path.read_bytes()), path
        assert "1 already done" in wexicon(*words, "--resume").stderr
        # Another secret in its row makes it another unit.
        Path("masts.csv").write_text(
            Path("masts.csv").read_text().replace("48213", "48214").replace("nobody", "anybody")
        )
        assert "0 already done" in wexicon(*words, "--resume").stderr


def test_a_remote_register_that_need_not_be_encrypted_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    from wexicon.records.database import transport_note

    monkeypatch.delenv("PGSSLMODE", raising=False)
    url = "postgresql+psycopg://bench:pw@db.example.org/units"
    assert "encrypted only if the server offers it" in transport_note(url) and "pw" not in transport_note(url)
    assert "not verified" in transport_note(url + "?sslmode=require")
    assert "sslmode=disable" in transport_note(url + "?sslmode=disable")
    for fine in (url + "?sslmode=verify-full", url.replace("db.example.org", "localhost"), "sqlite:///x.db", "x.db"):
        assert transport_note(fine) == ""
