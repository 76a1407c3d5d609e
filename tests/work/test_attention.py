"""Attention in each way there is, and modules that are not where the lexicon says."""

from __future__ import annotations

from typing import Any

import pytest
from msgspec.structs import replace

from tests.conftest import Bench
from wexicon.core.faults import CannotTune, FileFault, Unreachable
from wexicon.core.formats.lexicon import SettingGroup, read_lexicon
from wexicon.core.formats.lexicon.blocks import BlockFault, bits_of, put_bits, take_block
from wexicon.core.formats.lexicon.tables import BitField
from wexicon.core.protocol.framing import Corrupt
from wexicon.core.protocol.layers import Checksum
from wexicon.core.standards.gnss import checksum
from wexicon.core.tuning import Tuning
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.attention import Attention


def find(bench: Bench, patience: float = 20.0, likely: tuple[Tuning, ...] = ()) -> Tuning:
    return Attention(bench.open(), bench.lexicon, bench.operator, patience=patience).gain(likely)


@pytest.mark.parametrize(
    ("name", "flash", "tuning"),
    [
        ("brisca-w1", {"rate": 460800}, Tuning(460800)),
        ("lindle-l9", {"uart": 57600}, Tuning(57600)),
        ("tamsel-k6", {"R": "Z"}, Tuning(1200)),
        ("fennick-z4", {"UB": 0x27}, Tuning(1200)),
        ("orvane-b3", {"b": "e"}, Tuning(2400)),
        ("polmar-p1", {"port": (38400, 8, "E", 1)}, Tuning(38400, 8, "E", 1)),
        ("cordal-g2", {"rate": 9600}, Tuning(9600)),
        ("tamsel-k5", {"speed": ("7", "2", "E")}, Tuning(57600)),
        ("lindle-r2", {}, Tuning(9600)),
    ],
)
def test_a_module_is_found_wherever_it_was_left(name: str, flash: dict[str, Any], tuning: Tuning) -> None:
    assert find(Bench(name, **flash)) == tuning


def test_the_likely_link_is_tried_first() -> None:
    bench = Bench("lindle-l9", uart=115200)
    bench.open().quiet(0.2)  # it has started
    assert find(bench, likely=(Tuning(115200),)) == Tuning(115200)
    assert len(bench.trace.said()) == 1


def test_a_lossy_line_is_an_answer_or_a_clear_failure() -> None:
    for seed in range(20):
        bench = Bench("lindle-l9", faults=WireFaults(lost=0.05, noise=0.05, seed=seed))
        try:
            assert find(bench).rate == 9600
        except Unreachable as fault:
            assert fault.what and fault.hint


def test_a_module_that_answers_late_is_waited_for() -> None:
    assert find(Bench("lindle-l9", faults=WireFaults(late=0.5))) == Tuning(9600)


@pytest.mark.parametrize("name", ["orvane-b3", "lindle-r2", "tamsel-k5"])
def test_hands_that_do_nothing_end_with_what_it_points_to(name: str) -> None:
    bench = Bench(name)
    bench.open().quiet(9)  # beyond any window
    bench.operator.ask = lambda act, text: None  # type: ignore[method-assign]
    with pytest.raises(Unreachable) as fault:
        find(bench, patience=3)
    assert fault.value.hint and fault.value.status == 3


def test_a_module_that_only_starts_is_named() -> None:
    bench = Bench("brisca-w1")
    bench.standin.listen = lambda: None  # type: ignore[attr-defined]
    with pytest.raises(Unreachable) as fault:
        find(bench)
    assert "a module of this family is at 115200 8N1 (it said “READY”), and does not answer" in fault.value.what


# -- blocks -----------------------------------------------------------------------------------------------------------

GROUP = SettingGroup(name="b", size=4, checksum="xor", fixed={2: 0x5A})
PLACES = {"wide": BitField(0, 12, 4), "low": BitField(1, 4)}


def test_bits_are_put_and_taken_and_what_no_setting_stands_for_stays() -> None:
    digits = put_bits(GROUP, bytes.fromhex("FFFFFFFF"), {"wide": 0x123, "low": 0xC}, PLACES)
    block = take_block(GROUP, digits)
    assert digits == "123C5A74"
    assert (bits_of(block, PLACES["wide"]), bits_of(block, PLACES["low"])) == (0x123, 0xC)
    assert put_bits(GROUP, block, {"low": 1}, PLACES)[:4] == "1231"


@pytest.mark.parametrize("digits", ["", "123C5A", "123C5A75", "123C5B75", "xx", "123C5A7400"])
def test_a_block_that_is_not_right_is_refused(digits: str) -> None:
    with pytest.raises(BlockFault):
        take_block(GROUP, digits)


def test_a_number_that_does_not_fit_its_bits_is_refused() -> None:
    with pytest.raises(BlockFault, match="does not fit into 4 bits"):
        put_bits(GROUP, bytes(4), {"low": 16}, PLACES)


# -- extends ----------------------------------------------------------------------------------------------------------


def test_what_extends_another_has_all_of_it_and_its_own_before_that() -> None:
    base = b"""
format = 1
[about]
family = "base"
[speech]
end = "cr"
ok = ["YES"]
[setting.a]
value = { kind = "int", min = 0, max = 9 }
read = { say = "A?", hear = "A {value}" }
[setting.b]
value = { kind = "flag" }
write = { say = "B={value}" }
[errors]
1 = "one"
"""
    own = b"""
format = 1
extends = "base"
without = ["setting.b"]
[about]
family = "own"
[speech]
end = "lf"
[setting.a]
value = { kind = "choice", codes = { x = 1 } }
[errors]
2 = "two"
"""
    made = read_lexicon(own, "own", lambda name: base)
    above = b'format = 1\nextends = "own"\nwithout = ["errors.1"]\n[about]\nfamily = "above"\n'
    assert read_lexicon(above, "above", {"own": own, "base": base}.__getitem__).errors == {"2": "two"}
    with pytest.raises(FileFault, match=r"there is no setting.c to do without"):
        read_lexicon(above.replace(b"errors.1", b"setting.c"), "above", {"own": own, "base": base}.__getitem__)
    assert (made.about.family, made.speech.end, made.speech.ok, list(made.settings)) == ("own", "lf", ("YES",), ["a"])
    assert made.settings["a"].kind.allowed() == "x" and made.errors == {"1": "one", "2": "two"}


# -- ports and words that stand in the way ----------------------------------------------------------------------------


def test_a_port_that_lacks_a_frame_is_told_and_the_next_is_tried() -> None:
    bench = Bench("polmar-p1", port=(38400, 8, "O", 1))
    session = bench.open()
    tune = session.link.tune

    def picky(tuning: Tuning) -> None:
        if tuning.parity == "E":
            raise CannotTune(f"this port cannot do {tuning}")
        tune(tuning)

    session.link.tune = picky  # type: ignore[method-assign]
    made = Attention(session, bench.lexicon, bench.operator)
    assert made.gain() == Tuning(38400, 8, "O", 1)
    assert "this port cannot do 38400 8E1" in made.remarks


def test_a_sentence_begins_anew_at_its_dollar() -> None:
    whole = b"$PPLM,ACK,PORT*" + f"{checksum(b'PPLM,ACK,PORT'):02X}".encode()
    layer = Checksum()
    assert layer.feed(["\udce3\x1c$GPG" + whole.decode()]) == [Corrupt("\udce3\x1c$GPG"), whole.decode()]
    assert layer.feed([whole.decode(), "$GPGGA,1*00"]) == [whole.decode(), Corrupt("$GPGGA,1*00")]


def test_a_value_that_is_spelled_like_an_error_can_be_overwritten() -> None:
    text = b"""format = 1
[about]
family = "x"
[link]
rate = 115200
[speech]
error = ["FAULT 2", "no"]
[setting.name]
value = { kind = "text" }
read = { say = "AT+N?", hear = "{value}" }
write = { say = "AT+N={value}" }
"""
    bench = Bench("brisca-w1")
    bench.lexicon = read_lexicon(text, "x.toml")
    kept = ["no"]

    def line(said: str) -> None:
        if said.startswith("AT+N="):
            kept[0] = said[5:]
        bench.standin.say(f"{kept[0]}\r\n" if said == "AT+N?" else "OK\r\n")

    bench.standin.editor.line = line  # type: ignore[attr-defined]
    result = bench.provision(name="quay", prove="reading")
    assert result.verdict == "conforms" and kept == ["quay"]
    assert result.settings[0].before and result.settings[0].before.shown == "no (unknown)"


@pytest.mark.parametrize("seconds", [2.0, 4.5, 6.0, 8.5])
def test_a_module_that_is_late_after_power_has_no_wrong_line_ending(seconds: float) -> None:
    bench = Bench("cordal-g2")
    bench.standin.power(False)
    bench.agenda.after(seconds, lambda: bench.standin.power(True))
    module = bench.module()
    module.attention.gain([bench.lexicon.factory])
    assert module.attention.remarks == [] and module.session.dialect.speech.end == bench.lexicon.speech.end


def test_a_module_that_sleeps_is_woken_only_if_it_does_not_answer() -> None:
    for wake, said in (("\r", True), ("", False)):
        bench = Bench("lindle-l9", faults=WireFaults(sleeps=0.5))
        bench.lexicon = replace(bench.lexicon, attention=replace(bench.lexicon.attention, wake=wake, wakes_within=0.1))
        bench.agenda.run_until(5)
        assert find(bench) == Tuning(9600)
        assert (wake in bench.trace.said() if wake else False) is said
        # Awake, it is not woken again.
        count = len(bench.trace.said())
        find(bench)
        assert "\r" not in bench.trace.said()[count:]
