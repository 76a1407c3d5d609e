"""Manners 65 to 69, of a console for people: pages, colours, a pace, a login by challenge, numbers that it rounds."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Bench, virtual, wexicon, without_times
from wexicon.core.dialogue.expressions import Expression
from wexicon.core.faults import FileFault, ModuleFault
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.framing import Prompt
from wexicon.core.protocol.layers import Colours, Pager
from wexicon.core.protocol.observations import Role
from wexicon.core.protocol.speech import More, Speech
from wexicon.work.contact.catalog import find_lexicon, shipped_folder
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import provision

WORD = "quay-lamp-7"
SHEET = """format = 1
[seat.gate]
lexicon  = "skerry-g5"
settings = { name = "quay 3", power = 10, channel = 5, beacon = true }
given    = { password = { env = "WORD" } }
"""


def test_a_console_is_provisioned_by_its_pages_and_what_it_rounds_is_told() -> None:
    one = Bench("skerry-g5")
    result = one.provision(name="quay 3", power=10, channel=5, beacon=True, interval=600)
    assert result.verdict == "conforms", result.failure
    flash = one.standin.flash
    assert (flash["label"], flash["power"], flash["channel"], flash["beacon"], flash["every"]) == (
        "quay 3",
        9.0,
        5,
        "on",
        600,
    )
    (power,) = [line for line in result.settings if line.name == "power"]
    assert power.after and power.after.shown == "9 dBm" and "made 9 dBm of it" in power.note
    assert " " in one.trace.said()
    # A second run changes nothing, and tells the same.
    again = one.provision(name="quay 3", power=10, channel=5, beacon=True, interval=600)
    assert (
        again.written == 0
        and next(line.note for line in again.settings if line.name == "power") == "within the tolerance"
    )


def test_what_is_lowered_beyond_the_tolerance_differs_unless_the_sheet_allows_it() -> None:
    one = Bench("skerry-g5")
    result = one.provision(power=27)
    assert result.verdict == "failed" and result.settings[0].note == "acknowledged, but reads back as 19.5 dBm"
    Path("s.toml").write_text(
        'format = 1\n[seat.g]\nlexicon = "skerry-g5"\nsettings = { power = 27 }\ntolerance = { power = 8 }\n'
    )
    with virtual('[unit.g]\nstandin = "skerry-g5"\n'):
        told = wexicon("provision", "s.toml", "virtual://g").stdout
        assert "conforms" in told and "made 19.5 dBm of it" in told
    for wrong, why in (
        ("powr = 8", "did you mean power"),
        ("power = 0", "is not above 0"),
        ("name = 2", "only a number"),
    ):
        sheet = 'format = 1\n[seat.g]\nlexicon = "skerry-g5"\nsettings = { power = 27, name = "g" }\n'
        Path("w.toml").write_text(sheet + f"tolerance = {{ {wrong} }}\n")
        assert why in wexicon("provision", "w.toml", "virtual://g", status=2).stderr


def test_said_faster_than_its_pace_characters_are_lost_and_that_is_no_success() -> None:
    one = Bench("skerry-g5")
    fast = find_lexicon("skerry-g5")
    one.lexicon = msgspec.structs.replace(
        fast, dialect=Dialect(msgspec.structs.replace(fast.speech, pace="0ms"), fast.events)
    )
    assert one.provision(name="name of sixteen.").status != 0 and one.standin.flash["label"] == "g5"
    assert Bench("skerry-g5").provision(name="a name of 16 b.").verdict == "conforms"


def test_a_login_answers_the_challenge_and_the_word_is_nowhere(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("WORD", WORD)
    Path("s.toml").write_text(SHEET)
    rig = f'[unit.gate]\nstandin = "skerry-g5"\nsettings = {{ word = "{WORD}" }}\n'
    with virtual(rig) as made:
        told = wexicon("provision", "s.toml", "virtual://gate").stdout
        assert "conforms" in told and made.unit("gate").standin.flash["channel"] == 5
        restart = made.unit("gate").standin.restart
        restart(), monkeypatch.setenv("WORD", "starboard-9")
        refused = wexicon("verify", "s.toml", "virtual://gate", status=1).stderr
        assert "the password is wrong" in refused
        restart()
        Path("n.toml").write_text(SHEET.replace('given    = { password = { env = "WORD" } }', ""))
        assert "give its password" in wexicon("verify", "n.toml", "virtual://gate", status=1).stderr
    kept = "".join(
        without_times(path.read_bytes()) for path in tmp_path.rglob("*") if path.is_file() and path.suffix != ".db"
    )
    assert WORD not in kept and "starboard-9" not in kept


def test_by_a_command_the_same() -> None:
    # In virtual time: on a port, a stand-in that is read late takes characters that were paced for ones that came too fast.
    with virtual('[unit.gate]\nstandin = "skerry-g5"\n') as rig:
        done = wexicon("set", rig.ports["gate"], "name=quay 3", "channel=2", "-l", "skerry-g5")
        assert "conforms" in done.stdout and rig.unit("gate").standin.flash["label"] == "quay 3"


# -- the layers -------------------------------------------------------------------------------------------------------------

COLOURED = st.lists(
    st.sampled_from(["\x1b[32m", "\x1b[0m", "\x1b[1;31m", "\x1b[2K", "\x1bM", "a", "ok", " "]), max_size=12
)


@given(COLOURED)
def test_escape_sequences_are_left_out_and_nothing_else(parts: list[str]) -> None:
    plain = "".join(part for part in parts if not part.startswith("\x1b"))
    assert Colours().feed(["".join(parts), Prompt("> ")]) == [*([plain] if plain else []), Prompt("> ")]


def test_what_erases_a_mark_is_left_out_and_a_blank_inside_a_line_is_not() -> None:
    assert Pager("--more--", " ").feed(["        ", "\x08 \x08\x08name a b", " name", "a\x08b"]) == [
        "name a b",
        " name",
        "a\x08b",
    ]


def test_two_pages_that_end_in_one_read_are_each_answered() -> None:
    pager = Pager("--more--", " ")
    pager.feed(["line 1", Prompt("--more--"), "line 2", Prompt("--more--"), Prompt("> ")])
    assert pager.due == b"  "


@given(st.integers(1, 40), st.booleans())
def test_pages_come_at_any_split_and_each_is_asked_for_once(size: int, coloured: bool) -> None:
    mark = "\x1b[7m--more--\x1b[0m"
    engine = Engine(Dialect(Speech(end="cr", ok=("ok",), colours=coloured, more=More(mark, " "))))
    text = "".join(f"line {n}\r\n" + (f"{mark}\r        \r" if n % 3 == 2 else "") for n in range(9)) + "ok\r\n"
    data, heard, said = text.encode(), [], b""
    for at in range(0, len(data), size):
        heard += engine.feed(data[at : at + size], 0.0)
        said, engine.due = said + engine.due, b""
    lines = [one.text for one in heard if one.role is not Role.PROMPT]
    assert lines == [*(f"line {n}" for n in range(9)), "ok"] and said == b"   "


def test_hashes_are_the_published_ones() -> None:
    # FIPS 180-4 and RFC 1321 for "abc"; RFC 4231, test case 2.
    value = lambda text: Expression(text).value({})  # noqa: E731
    assert value("sha256('abc')") == "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
    assert value("md5('abc')") == "900150983cd24fb0d6963f7d28e17f72"
    assert (
        value("hmac_sha256('Jefe', 'what do ya want for nothing?')")
        == "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
    )


def test_wrong_keys_are_told() -> None:
    text = (shipped_folder() / "skerry-g5.toml").read_text()
    for old, new, told in (
        ('pace       = "1.5ms"', 'pace = "fast"', "not a duration"),
        ('say = " " }', 'say = "" }', "must not be empty"),
        ('pace       = "1.5ms"', 'pace = "2ms"\nwindow = "1s"', "cannot be said slowly"),
        ("tolerance = 1.4", "tolerance = -1", "is not above 0"),
        ('factory = "g5"', 'factory = "g5"\ntolerance = 1', "only a number has a tolerance"),
    ):
        with pytest.raises(FileFault, match=told):
            read_lexicon(text.replace(old, new).encode(), "x.toml")


@given(st.integers(-30, 270), st.integers(1, 30))
def test_a_tolerance_is_a_distance(tenths: int, allowed: int) -> None:
    setting = find_lexicon("skerry-g5").with_tolerance("power", Decimal(allowed) / 10).settings["power"]
    wanted = Decimal(tenths) / 10
    assert setting.matches(wanted, wanted) and not setting.matches(None, wanted)
    for off in (-allowed - 1, -allowed, allowed, allowed + 1):
        assert setting.matches(wanted + Decimal(off) / 10, wanted) is (abs(off) <= allowed)


def test_the_last_page_is_answered_within_its_own_time() -> None:
    """Each page has as long as the first: an answer of many pages takes longer than `within`."""
    one = Bench("skerry-g5")
    one.standin.answers_in = 0.5
    lexicon = msgspec.structs.replace(
        one.lexicon, dialect=Dialect(msgspec.structs.replace(one.lexicon.speech, within="700ms"), one.lexicon.events)
    )
    try:
        read = provision(Module(one.open(), lexicon, one.operator), one.order(name="q"), store=one.store)
    except ModuleFault as fault:
        pytest.fail(str(fault))
    assert read.verdict == "conforms", read.failure
    assert one.standin.flash["label"] == "q"


@pytest.mark.parametrize("stopped", [False, True])
def test_an_answer_in_pages_that_never_ends_fails_and_a_stop_is_heeded_at_once(stopped: bool) -> None:
    one = Bench("skerry-g5")
    at, turn = one.agenda.now + 1, one.standin.turn  # type: ignore[attr-defined]

    def for_ever() -> None:
        one.standin.page = [f"row {number}" for number in range(9)]  # type: ignore[attr-defined]
        turn()

    one.standin.turn = for_ever  # type: ignore[attr-defined]
    result = one.provision(lambda: stopped and one.agenda.now > at, name="quay")
    assert result.failure
    if stopped:
        assert result.verdict == "stopped" and one.agenda.now < at + 2.1
    else:
        assert "the answer has more than 200 pages" in result.failure.what
