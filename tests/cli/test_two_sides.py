"""`wexicon talk` with two ports in one window, and its data mode."""

from __future__ import annotations

import json
import re
from datetime import datetime
from pathlib import Path

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import bench, virtual, wexicon
from wexicon.cli.show import line_of
from wexicon.core.faults import CallFault
from wexicon.core.results.functions import TalkLine
from wexicon.work.console.conversation import Talk
from wexicon.work.console.sides import Sides, named_ports

RADIOS = '[unit.mast]\nstandin = "lindle-l9"\n[unit.relay]\nstandin = "lindle-l9"\nsettings = { addr = 7 }\n'
JOINED = (
    '[unit.plug]\nstandin = "tamsel-k5"\n'
    'settings = { part = "L", mate = "02A15C00218E", pass = "5050" }\n'
    '[unit.handset]\nstandin = "tamsel-k6"\n'
)
MESH = '[unit.quay]\nstandin = "fennick-z4"\nsettings = { RO = 3 }\n[unit.buoy]\nstandin = "fennick-z4"\n'


def test_a_line_is_for_the_side_that_it_names_or_that_has_the_turn() -> None:
    sides = Sides([Talk(None, print, trace=Path("t"), name=name) for name in ("mast", "relay")])
    mast, relay = sides.talks
    assert sides.addressed("@ok: fine") == (mast, "@ok: fine") and sides.addressed("relay: @:x") == (relay, "@:x")
    sides.turn()
    assert sides.addressed("@") == (relay, "@") and sides.addressed("mast:@") == (mast, "@")
    # A name alone gives the turn, and says nothing.
    sides.put("mast:")
    assert sides.now is mast and (mast.queued, relay.queued) == (0, 0)
    sides.put("relay: @who?")
    sides.put("@")
    assert (mast.queued, relay.queued) == (1, 1) and sides.now is mast and sides.abandon() == 2
    alone = Sides([mast])
    assert alone.addressed("mast: @") == (mast, "mast: @")


@pytest.mark.parametrize(
    ("words", "pairs"),
    [
        (["/dev/ttyUSB0"], [("", "/dev/ttyUSB0")]),
        (["/dev/ttyUSB0", "/dev/ttyUSB1"], [("ttyUSB0", "/dev/ttyUSB0"), ("ttyUSB1", "/dev/ttyUSB1")]),
        (["a=/dev/x", "b=rfc2217://h:1?poll=2"], [("a", "/dev/x"), ("b", "rfc2217://h:1?poll=2")]),
        (["/dev/a/0", "/dev/b/0"], [("0-1", "/dev/a/0"), ("0-2", "/dev/b/0")]),
    ],
)
def test_sides_are_called_by_their_names_or_their_ports(words: list[str], pairs: list[tuple[str, str]]) -> None:
    assert named_ports(words) == pairs


def test_calls_that_are_wrong_say_so() -> None:
    for words, told in (
        ([], "one port"),
        (["a", "b", "c"], "one port"),
        (["x=p", "y=p"], "both sides are the same port"),
    ):
        with pytest.raises(CallFault, match=told):
            named_ports(words)
    with virtual(RADIOS) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("mast", "relay")]
        assert "one lexicon for each port" in wexicon("talk", ports[0], *["-l", "lindle-l9"] * 2, status=2).stderr
        assert "--trace cannot be used with two ports" in wexicon("talk", *ports, "--trace", "t", status=2).stderr


def test_two_modules_are_spoken_to_through_one_pipe_in_order() -> None:
    with bench(RADIOS) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("mast", "relay")]
        said = "@who?\nrelay: @addr?\n@net?\nmast: @send 7,tide 1.204 m\n"
        told = wexicon("talk", *ports, "-l", "lindle-l9", "--json", input=said).stdout
        lines = [json.loads(line) for line in told.splitlines()]
        seen = [(one["side"], one["mark"], one["text"]) for one in lines[:-2] if one["mark"] in "<>"]
        assert [one["side"] for one in lines[-2:]] == ["mast", "relay"] and all(one["known"] for one in lines[-2:])
        assert [one for one in seen if one[1] == ">"] == [
            ("mast", ">", "@who?"), ("relay", ">", "@addr?"), ("relay", ">", "@net?"), ("mast", ">", "@send 7,tide 1.204 m"),
        ]  # fmt: skip
        # Each waits for the answer to the one before, also to the other side's.
        assert seen.index(("mast", "<", "@who LINDLE-L9 3.2 L9-00417")) < seen.index(("relay", ">", "@addr?"))
        assert seen.index(("relay", "<", "@net 1")) < seen.index(("mast", ">", "@send 7,tide 1.204 m"))
        assert ("relay", "<", "@air snr 8 rssi -71 from 0: tide 1.204 m") in seen
        assert wexicon("talk", *ports, "-l", "lindle-l9", input="relay: @nonsense\n", status=1)


def test_one_window_shows_both_and_gives_the_turn_by_a_key_or_a_name() -> None:
    with bench(RADIOS) as rig:
        terminal = Terminal("talk", *[f"{name}={rig.ports[name]}" for name in ("mast", "relay")], "-l", "lindle-l9")
        terminal.read("mast>")
        terminal.type("@addr?\n")
        terminal.read("@addr 0")
        terminal.type("\x14")
        terminal.read("relay>")
        terminal.type("@addr?\n")
        terminal.read("@addr 7")
        terminal.type("mast: @send 7,tide 1.204 m\n")
        text = terminal.read("from 0: tide 1.204 m")
        terminal.type("\x04")
        assert terminal.end() == 0 and terminal.restored
        assert "mast      <  @addr 0" in text and "relay     <  @addr 7" in text
        assert terminal.text().count("trace: ") == 2


def test_each_side_has_its_colour(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("NO_COLOR", raising=False)
    lines = [
        line_of(TalkLine(datetime.now(), "<", "@ok", side=name, number=n))
        for n, name in enumerate(("", "mast", "relay"))
    ]
    assert "mast" not in lines[0] and "\x1b[36m\x1b[1mmast" in lines[1] and "\x1b[35m\x1b[1mrelay" in lines[2]


def test_what_is_typed_in_chat_is_passed_on_and_nothing_needs_to_answer() -> None:
    with bench(JOINED) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("plug", "handset")]
        told = wexicon("talk", *ports, "--data", "--as-is", input="tide 1.204 m\nhandset: thanks\n").stdout
        assert (
            "handset   <  tide 1.204 m" in told and re.search("plug      <  .*thanks", told) and "no answer" not in told
        )


def test_chat_leaves_command_mode_and_comes_back_by_the_lexicon() -> None:
    said = ":data\nis anybody there\nbuoy: :data\nyes\nquay: :data off\nNT?\n"
    with bench(MESH) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("quay", "buoy")]
        told = wexicon("talk", *ports, "-l", "fennick-z4", input=said).stdout
    assert "quay      >  QT" in told and "what is typed is passed on as data" in told
    assert "quay      <  yes" in told and "quay      >> ~~~" in told and told.rindex("<  7A31") > told.index("<  yes")
    with virtual(MESH) as alone:
        assert alone
        heard = wexicon("talk", "virtual://buoy", "-l", "fennick-z4", "--data", input="hello\n").stdout
        assert "listening" not in heard and "hello" in heard
