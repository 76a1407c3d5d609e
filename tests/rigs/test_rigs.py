"""Rigs as files, and what may be asked of a running one from outside."""

from __future__ import annotations

import json
import socket
from contextlib import suppress
from pathlib import Path

import msgspec
import pytest

from tests.conftest import bench, k5, virtual, wexicon
from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault, FileFault
from wexicon.rigs.control import Request, ask, cards, find_unit
from wexicon.rigs.rig import read_rig

TWO = k5() + '[unit.mast]\nstandin = "lindle-l9"\nsettings = { addr = 7 }\n'


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "there is no unit"),
        ('[unit.x]\nstandin = "tamsel-k7"\n', "there is no stand-in tamsel-k7"),
        ('[unit.x]\nstandin = "tamsel-k5"\nserve = "usb"\n', "'usb' is not one of pty, rfc2217"),
        ('[unit.x]\nstandin = "tamsel-k5"\nsettings = { lable = "x" }\n', "did you mean label?"),
        ('[unit.x]\nstandin = "recording"\n', "a recording has no trace"),
        ('[unit.x]\nstandin = "tamsel-k5"\nfaults = { nois = 0.1 }\n', "did you mean noise?"),
        ('[unit.x]\nstandin = "tamsel-k5"\n[air.skies]\n', "no such key"),
        ('[units.x]\nstandin = "tamsel-k5"\n', "did you mean unit?"),
    ],
)
def test_what_is_wrong_with_a_rig_is_told(text: str, told: str) -> None:
    with pytest.raises(FileFault) as fault:
        read_rig(b"format = 1\n" + text.encode(), "rig.toml", Agenda())
    assert told in str(fault.value)


def test_a_running_rig_is_found_by_unit_port_or_both_and_worked() -> None:
    with bench(TWO) as rig:
        (card,) = cards()
        assert card.standins == {"plug": "tamsel-k5", "mast": "lindle-l9"}
        for name in ("mast", rig.ports["mast"], "bench/mast"):
            assert find_unit(name)[1] == "mast"
        with pytest.raises(CallFault, match="the token is not that of this rig's card"):
            ask(msgspec.structs.replace(card, token="0" * 32), Request("power", "mast", "off"))
        assert rig.rig.units["mast"].standin.powered
        with pytest.raises(CallFault, match="no running rig has a unit or a port must") as fault:
            find_unit("must")
        assert "did you mean mast?" in fault.value.hint
        ask(card, Request("power", "mast", "off"))
        assert not rig.rig.units["mast"].standin.powered
        for wrong, told in (
            (Request("hold", "mast"), "it has none"),
            (Request("jump", "mast"), "this rig cannot jump"),
            (Request("power", "nobody", "on"), "there is no unit nobody"),
        ):
            with pytest.raises(CallFault, match=told):
                ask(card, wrong)
    with pytest.raises(CallFault, match="no rig is running"):
        find_unit("mast")


@pytest.mark.parametrize(
    "line", [b"", b"\n", b"{\n", b"[" * 4000 + b"\n", b'{"do": "jump"}\n', b'{"do": []}\n', b"x" * 9000, b"\xff\xfe\n"]
)
def test_what_is_no_request_ends_nothing(line: bytes) -> None:
    with bench(TWO) as rig:
        (card,) = cards()
        path = Path(card.socket)
        assert path.parent.stat().st_mode & 0o777 == 0o700
        with socket.socket(socket.AF_UNIX) as stranger, socket.socket(socket.AF_UNIX) as silent:
            for line_of in (silent, stranger):
                line_of.settimeout(5)
                line_of.connect(card.socket)
            silent.sendall(b"{")  # and says no more: nobody waits for it
            with suppress(BrokenPipeError):
                stranger.sendall(line)
                stranger.shutdown(socket.SHUT_WR)
            with suppress(ConnectionResetError):
                answer = stranger.recv(1000)
                assert not answer or json.loads(answer)["fault"]
        ask(card, Request("power", "mast", "off"))  # it goes on
        assert not rig.rig.units["mast"].standin.powered


def test_a_card_of_a_rig_that_died_is_taken_away(tmp_path: Path) -> None:
    folder = tmp_path / "run"
    folder.mkdir()
    (folder / "dead.json").write_text(
        '{"name": "dead", "title": "", "socket": "nowhere", "process": 1, "ports": {}, "standins": {}}'
    )
    (folder / "broken.json").write_text("{")
    assert "no rig is running" in wexicon("rig", "ports").stdout
    assert not list(folder.iterdir())


def test_two_stand_ins_of_one_rig_keep_what_is_their_own() -> None:
    two = '[unit.a]\nstandin = "lindle-l9"\n[unit.b]\nstandin = "lindle-l9"\nidentity = { serial = "L9-00500" }\n'
    Path("s.toml").write_text('format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { address = 9 }\n')
    with virtual(two) as rig:
        told = wexicon("provision", "s.toml", rig.ports["b"], "--operator", "rig").stdout
        assert "serial L9-00500" in told
        assert [rig.rig.units[name].standin.flash["addr"] for name in "ab"] == [0, 9]
