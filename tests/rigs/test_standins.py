"""Each stand-in from with factory defaults to as wanted, then again with nothing changed; and what each manner makes of it."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path
from typing import Any

import msgspec
import pytest
from benchmarks.flash import wrong_in_flash
from benchmarks.wanted import TRUST, WANTED
from msgspec.structs import replace

from tests.conftest import Bench, bench, wexicon
from wexicon.core.faults import Unreachable
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.observations import Logged
from wexicon.core.standards.waveform import heard_at, true_rate
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.rigs.standins import FAMILIES
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.catalog import find_lexicon

# A pseudo-terminal carries neither frame nor control lines; RFC 2217 does.
SERVED = {"lindle-r2": "rfc2217", "polmar-p1": "rfc2217"}
SECRETS = {"4711", "48213"}


def wrong(one: Bench) -> list[str]:
    """What of the wanted settings the stand-in's flash denies."""
    return wrong_in_flash(one.standin, WANTED[one.standin.family])


def test_every_stand_in_is_here() -> None:
    assert set(WANTED) == set(FAMILIES) - {"recording"}


@pytest.mark.parametrize("name", WANTED)
def test_in_virtual_time_and_again_after_a_power_cycle(name: str) -> None:
    one = Bench(name)
    first = one.provision(**WANTED[name], trust=TRUST.get(name, ()))
    assert (first.verdict, first.evidence) == ("conforms", "power-cycle"), first.failure
    assert not wrong(one)
    assert "changed" in {line.outcome for line in first.settings}
    one.standin.cycle()
    one.open().quiet(0.3)
    second = one.provision(**WANTED[name], trust=TRUST.get(name, ()))
    assert second.verdict == "conforms", second.failure
    assert {line.outcome for line in second.settings} <= {"unchanged", "accepted"}
    assert second.written == sum(line.outcome == "accepted" for line in second.settings)
    assert not SECRETS & set(re.split(r"[^0-9A-Za-z]+", repr(one.trace.all)))
    read = one.read_out()
    assert (read.verdict, read.status) == ("read", 0) and len(read.settings) == len(one.lexicon.settings)


# One for each kind of link and framing: lines, bytes with pins, sentences with a frame. Virtual time proves the same for all.
@pytest.mark.parametrize("name", ["lindle-l9", "lindle-r2", "polmar-p1"])
def test_on_a_port_and_again_after_a_power_cycle(name: str, tmp_path: Path) -> None:
    lexicon = Bench(name).lexicon
    lines = []
    for key, value in WANTED[name].items():
        text = '{ env = "PIN" }' if lexicon.settings[key].secret else _toml(value)
        lines.append(f"{key} = {text}")
    sheet = tmp_path / "s.toml"
    sheet.write_text(f'format = 1\n[seat.x]\nlexicon = "{name}"\n[seat.x.settings]\n' + "\n".join(lines))
    environment = {**os.environ, "PIN": str(WANTED[name].get("pin", ""))}
    with bench(f'[unit.x]\nstandin = "{name}"\nserve = "{SERVED.get(name, "pty")}"\n') as rig:
        words = ("provision", str(sheet), rig.ports["x"], "--operator", "rig", "--json")
        first = json.loads(wexicon(*words, env=environment).stdout)
        assert first["verdict"] == "conforms"
        assert any(line["outcome"] == "changed" for line in first["settings"])
        wexicon("rig", "power", "x", "cycle")
        second = json.loads(wexicon(*words, env=environment).stdout)
        assert {line["outcome"] for line in second["settings"]} <= {"unchanged", "accepted"}


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_toml(part)}" for key, part in value.items()) + " }"
    return json.dumps(value)


# -- manners ----------------------------------------------------------------------------------------------------------


def test_a_setting_that_the_firmware_does_not_have_is_refused_before_anything_is_written() -> None:
    one = Bench("tamsel-k6")
    one.standin.own["firmware"] = "1.9"
    result = one.provision(**WANTED["tamsel-k6"])
    assert result.failure and "firmware 1.9 has no quiet-lamp; available from 2.0 on" in result.failure.what
    assert result.written == 0
    del one
    older = Bench("tamsel-k6")
    older.standin.own["firmware"] = "1.9"
    assert older.provision(name="Quay 4").verdict == "conforms"


def test_a_write_only_setting_is_accepted_and_never_called_checked() -> None:
    result = Bench("tamsel-k6").provision(pin="4711")
    assert [(line.outcome, line.note, line.after) for line in result.settings] == [("accepted", "cannot be read", None)]
    assert (result.verdict, result.status) == ("unproved", 4)
    trusted = Bench("tamsel-k6").provision(pin="4711", trust=("pin",))
    assert (trusted.verdict, trusted.trusted, trusted.status) == ("conforms", ["pin"], 0)
    looked = Bench("tamsel-k6").verify(pin="4711", trust=("pin",))
    assert [(line.outcome, line.after) for line in looked.settings] == [("unverified", None)]
    assert looked.verdict == "unproved"
    stopped = Bench("tamsel-k6", faults=WireFaults(cut_after=30)).provision(pin="4711", name="Quay 3", rate=57600)
    assert {line.outcome for line in stopped.settings if line.name == "pin"} <= {"unverified", "accepted"}


def test_a_line_that_is_too_slow_for_the_modules_window_is_not_said() -> None:
    one = Bench("tamsel-k6", R="Z")
    speech = msgspec.structs.replace(one.lexicon.speech, window="100ms")
    one.lexicon = replace(one.lexicon, dialect=Dialect(speech, one.lexicon.events))
    result = one.provision(name="Quay 3 the third")
    assert result.failure and "takes longer than the 100 ms" in result.failure.what


def test_a_joined_follower_passes_everything_through_and_this_is_said() -> None:
    follower, leader = Bench("tamsel-k6"), Bench("tamsel-k5")
    follower.standin.accept(leader.standin, "5050")  # type: ignore[attr-defined]
    heard: list[bytes] = []
    follower.standin.from_air = lambda data, sender: None  # type: ignore[method-assign]
    follower.standin.air.radiate = lambda sender, data: heard.append(data) or 0  # type: ignore[method-assign,func-returns-value]
    result = follower.provision(name="x")
    assert result.status == 3 and result.written == 0
    assert b"".join(heard).startswith(b"AT")  # what was said went through as data
    assert result.failure and "nothing heard" in result.failure.what
    # Where it answered last is known: its peer gets no bytes of other rates.
    heard.clear()
    with pytest.raises(Unreachable, match="9600 8N1, where it answered last"):
        follower.module().attention.gain([Tuning(9600)], known=True)
    assert set(b"".join(heard)) <= set(b"AT")


def test_command_mode_that_ends_by_itself_is_taken_back() -> None:
    one = Bench("fennick-z4")
    module = one.module()
    module.attention.gain()
    module.session.quiet(25)
    module.set("channel", 12)
    assert module.read("channel") == 12
    assert one.trace.said().count("~~~") == 2
    assert "command mode timed out; entering it again" in one.trace.texts(Logged)


def test_a_fixture_holds_the_key_and_cuts_the_power(tmp_path: Path) -> None:
    rig = '[unit.x]\nstandin = "tamsel-k5"\nserve = "rfc2217"\nwiring = { dtr = "service", rts = "!power" }\n'
    Path("jig.toml").write_text('format = 1\n[pin.key]\nline = "dtr"\n[pin.power]\nline = "rts"\ninverted = true\n')
    with bench(rig) as served:
        words = ("readout", served.ports["x"], "-l", "tamsel-k5", "--operator", "nobody", "--fixture", "jig.toml")
        assert "TAMSEL-K5" in wexicon(*words).stdout
    Path("jig.toml").write_text('format = 1\n[pin.key]\nline = "dts"\n')
    told = wexicon("readout", "/dev/null", "-l", "tamsel-k5", "--fixture", "jig.toml", status=2).stderr
    assert "jig.toml:3: pin.key.line: 'dts' is not one of dtr, rts" in told


def test_pins_are_driven_by_a_fixture_or_asked_for() -> None:
    rig = '[unit.x]\nstandin = "lindle-r2"\nserve = "rfc2217"\nwiring = { dtr = "!mode0", rts = "!mode1" }\n'
    Path("jig.toml").write_text(
        'format = 1\n[pin.mode0]\nline = "dtr"\ninverted = true\n[pin.mode1]\nline = "rts"\ninverted = true\n'
    )
    with bench(rig) as served:
        words = ("readout", served.ports["x"], "-l", "lindle-r2", "--operator", "nobody", "--patience", "1s")
        assert "860 to 870" not in wexicon(*words, "--fixture", "jig.toml").stdout
        assert "868.1 MHz" in wexicon(*words, "--fixture", "jig.toml").stdout
        wexicon(*words, status=3)


def test_a_block_whose_checksum_is_wrong_is_refused() -> None:
    one = Bench("lindle-r2")
    one.standin.flash["block"] = "b00144851c000000a5ff"
    result = one.provision(address=5)
    assert result.failure and "the checksum is FF, not" in result.failure.what


def test_what_the_network_granted_is_told_with_what_was_asked() -> None:
    one = Bench("cordal-n7")
    from wexicon.rigs.air import Air, AirTable, Network

    one.standin.air = Air(AirTable(network=Network(active_time="00100001", periodic_update="01000111", registers_in=1)))
    one.standin.commands = one.standin.table()  # type: ignore[attr-defined]
    one.open().quiet(5)
    first = one.provision(report="all", saving=True, periodic="4h", active="10s")
    assert first.verdict == "conforms", first.failure
    notes = {line.name: line.note for line in first.settings}
    assert notes["periodic"] == "granted 70 h 00 min" and notes["active"] == "granted 1 min 00 s"


# -- which rate is it? ------------------------------------------------------------------------------------------------

STARTS = {name: find_lexicon(name) for name in WANTED}


@pytest.mark.parametrize("name", [name for name, lexicon in STARTS.items() if lexicon.start.says])
@pytest.mark.parametrize("ours", [4800, 9600, 19200, 38400, 57600, 115200])
def test_garbage_of_a_start_names_its_rate(name: str, ours: int) -> None:
    """What the stand-in really sends when it starts, heard at each usual rate that is not its own."""
    one = Bench(name)
    heard: list[bytes] = []
    one.standin.power(False)
    one.standin.uart.to_host = heard.append
    sent = Tuning(one.lexicon.start.rate) if one.lexicon.start.rate else one.lexicon.factory
    if sent.rate == ours:
        return
    one.standin.uart.host = sent
    one.standin.power(True)
    one.agenda.run_until(one.agenda.now + 0.4)
    text = b"".join(heard)
    garbage = heard_at(text, sent, Tuning(ours))
    lasted = sent.wire_time(len(text))
    assert true_rate(garbage, Tuning(ours), one.lexicon.start_texts(), USUAL_RATES, lasted) == sent.rate


@pytest.mark.parametrize(
    ("sent", "ours"), [(9600, 4800), (9600, 115200), (9600, 38400), (57600, 9600), (115200, 19200), (4800, 57600)]
)
@pytest.mark.parametrize("fix", [False, True])
def test_garbage_of_sentences_names_its_rate(sent: int, ours: int, fix: bool) -> None:
    """Sentences that the lexicon knows only in kind, not in what they tell."""
    one = Bench("polmar-p1")
    heard: list[bytes] = []
    one.standin.uart.to_host = heard.append
    one.agenda.run_until(20 if fix else 3)
    heard.clear()
    one.agenda.run_until(one.agenda.now + 2.2)
    text = b"".join(heard)
    texts = find_lexicon("gnss-nmea").start_texts()
    lasted = Tuning(sent).wire_time(len(text))
    assert true_rate(heard_at(text, Tuning(sent), Tuning(ours)), Tuning(ours), texts, USUAL_RATES, lasted) == sent
