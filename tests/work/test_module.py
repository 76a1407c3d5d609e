"""Reading, writing, identity and starts by a lexicon, on stand-ins that do not do as they should."""

from __future__ import annotations

from typing import Any

import pytest
from msgspec.structs import replace

from tests.conftest import Bench
from wexicon.core.faults import ModuleFault
from wexicon.core.formats.fixture import Fixture, Pin
from wexicon.core.protocol.observations import Logged
from wexicon.core.results.result import Evidence, Prove
from wexicon.core.tuning import Tuning
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.ledger import Sign
from wexicon.work.module.module import Module
from wexicon.work.module.settings import Refused
from wexicon.work.module.starts import come_back, start, strongest
from wexicon.work.provisioning.plan import ordered, together


def ready(name: str, **keys: Any) -> tuple[Bench, Module]:
    """A module that has started, with its attention, identified."""
    one = Bench(name, **keys)
    one.open().quiet(1.5)
    module = one.module()
    module.attention.gain()
    module.identify()
    return one, module


# -- reading ------------------------------------------------------------------------------------------------------------------


def test_a_pass_of_reading_ends_with_the_question_who_it_is() -> None:
    one, module = ready("lindle-l9")
    one.trace.all.clear()
    found = module.settings.read(["address", "frequency", "spreading"])
    assert {name: reading.value for name, reading in found.items()} == {
        "address": 0, "frequency": found["frequency"].value, "spreading": 9,
    }  # fmt: skip
    assert one.trace.said() == ["@addr?", "@radio?", "@who?"]  # the group is asked once


def test_what_was_heard_between_makes_it_read_again_in_silence() -> None:
    one, module = ready("lindle-l9")
    sent, count = one.standin._sent, 0

    def twice(data: bytes) -> None:
        nonlocal count
        count += 1
        sent(data * 2 if count == 1 and data.startswith(b"@ok") else data)

    one.standin._sent = twice  # type: ignore[method-assign]
    module.session.exchange("@")
    module.session.listen(module.session.clock.now() + 0.1)
    anomalies = module.session.anomalies
    assert anomalies == 1  # a success code that nobody waited for
    assert module.settings.read(["address"])["address"].value == 0


def test_nameless_answers_that_are_one_behind_are_found_out() -> None:
    one, module = ready("fennick-z4")
    held: list[bytes] = []
    sent = one.standin._sent

    def behind(data: bytes) -> None:
        held.append(data)
        if len(held) > 1:
            sent(held.pop(0))

    one.standin._sent = behind  # type: ignore[method-assign]
    with pytest.raises(ModuleFault):
        module.settings.read(["channel", "power", "role"])


def test_a_line_that_is_always_disturbed_is_not_believed() -> None:
    one, module = ready("lindle-l9")
    sent = one.standin._sent
    one.standin._sent = lambda data: sent(data + b"@ok\r\n")  # type: ignore[method-assign]
    with pytest.raises(ModuleFault, match="cannot be read reliably") as fault:
        module.settings.read(["address", "network"])
    assert "ground" in fault.value.hint
    assert "reading again" in " ".join(one.trace.texts(Logged))


def test_a_code_that_is_not_known_is_shown_and_can_be_overwritten() -> None:
    one = Bench("fennick-z4")
    one.standin.flash["RO"] = one.standin.memory["RO"] = 7
    looked = one.verify(role="joiner", channel=5)
    role = next(line for line in looked.settings if line.name == "role")
    assert role.outcome == "differs" and role.after and role.after.shown == "7 (unknown)" and role.after.value is None
    assert "code that the lexicon does not know" in role.note
    assert one.provision(role="joiner").verdict == "conforms" and one.standin.flash["RO"] == 6


def test_a_dialogue_reads_without_asking_who_it_is() -> None:
    one = Bench("lindle-l9")
    one.open().quiet(0.3)
    module = one.module()
    module.attention.gain()
    one.trace.all.clear()
    assert module.read("address") == 0 and one.trace.said() == ["@addr?"]
    with pytest.raises(KeyError, match="did you mean address"):
        module.read("adress")


# -- writing ------------------------------------------------------------------------------------------------------------------


def test_a_refusal_has_its_meaning_and_what_was_said() -> None:
    _, module = ready("lindle-l9")
    kind = replace(module.lexicon.settings["address"].kind, max=99_999)
    wide = replace(module.lexicon.settings["address"], kind=kind)
    module.lexicon.settings["address"] = wide
    try:
        with pytest.raises(Refused) as fault:
            module.set("address", 70_000)
    finally:
        module.lexicon.settings["address"] = replace(wide, kind=replace(kind, max=65_535))
    assert "error 3 (value not allowed)" in fault.value.what
    assert (fault.value.part.said, fault.value.part.heard) == ("@addr=70000", ["@err 3"])


def test_a_block_is_read_twice_before_it_is_written() -> None:
    one, module = ready("lindle-r2")
    one.trace.all.clear()
    module.set("network", 9)
    said = one.trace.said()
    assert said.count("5A10") == 2 and said[-1].startswith("5A20") and one.standin.flash["block"][10:12] == "09"


def test_an_answer_that_is_still_owed_cannot_be_taken_for_the_next() -> None:
    one, module = ready("lindle-l9")
    say = one.standin.say
    one.standin.say = lambda text, delay=None: say(text, 0.9)  # type: ignore[method-assign]
    assert not module.session.exchange("@").ok  # too late: what answers it is still on its way
    one.standin.say = say  # type: ignore[method-assign]
    one.trace.all.clear()
    module.set("address", 7)
    assert one.trace.said()[0] == "@who?"  # asked first, because its answer is no other's
    assert one.standin.memory["addr"] == 7


def test_an_action_that_persists_stands_between_two_questions_and_is_done_again_if_doubted() -> None:
    one, module = ready("lindle-l9")
    sent = one.standin._sent
    extra = [b"@ok\r\n"]
    keep = one.standin.keep

    def disturbed() -> None:
        keep()
        if extra:
            one.agenda.after(0.096, lambda: sent(extra.pop()))

    one.standin.keep = disturbed  # type: ignore[method-assign]
    one.trace.all.clear()
    module.persist("save")
    assert one.trace.said().count("@save") == 2 and one.trace.said()[0] == "@who?" == one.trace.said()[-1]


# -- the order of writing ------------------------------------------------------------------------------------------


def test_what_others_need_is_written_first_and_what_moves_the_link_last() -> None:
    lexicon = Bench("tamsel-k5").lexicon
    assert ordered(lexicon, ["rate", "peer", "role", "name"]) == ["name", "role", "peer", "rate"]
    radio = Bench("lindle-l9").lexicon
    names = ordered(radio, ["rate", "frequency", "address", "spreading"])
    assert together(radio, names) == [["address"], ["frequency", "spreading"], ["rate"]]


# -- starts ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "person", "asked", "strongest_is"),
    [
        ("lindle-l9", False, Prove.AUTO, Evidence.POWER),
        ("lindle-l9", True, Prove.AUTO, Evidence.RESTART),
        ("lindle-l9", True, Prove.POWER, Evidence.POWER),
        ("lindle-l9", False, Prove.RESTART, Evidence.RESTART),
        ("lindle-l9", False, Prove.READING, Evidence.READING),
        ("fennick-z4", True, Prove.AUTO, Evidence.READING),
        ("tamsel-k5", True, Prove.AUTO, Evidence.POWER),
        ("orvane-b3", True, Prove.AUTO, Evidence.RESTART),
    ],
)
def test_the_strongest_start_that_needs_no_more_hands(
    name: str, person: bool, asked: Prove, strongest_is: Evidence
) -> None:
    one = Bench(name, person=person)
    assert strongest(one.module(), asked) is strongest_is


def test_nobody_brings_back_a_module_that_needs_hands() -> None:
    one = Bench("tamsel-k5", person=True)
    one.operator.there = False
    assert strongest(one.module(), Prove.AUTO) is Evidence.READING
    fixture = Fixture({"key": Pin("dtr"), "power": Pin("rts")})
    module = Module(one.open(), one.lexicon, one.operator, fixture=fixture)
    assert strongest(module, Prove.AUTO) is Evidence.POWER


def test_a_power_cycle_by_a_person_counts_when_there_was_silence_in_between() -> None:
    one, module = ready("lindle-l9", person=True)
    one.operator.standin.operate = lambda act: one.agenda.after(3.0, lambda: one.standin.cycle(0.6))  # type: ignore[method-assign,attr-defined]
    assert start(module, Evidence.POWER) == {Sign.POWER}
    assert module.read("address") == 0
    lazy, other = ready("lindle-l9", person=True)
    lazy.operator.standin.operate = lambda act: None  # type: ignore[method-assign]
    other.attention.patience = 4
    assert start(other, Evidence.POWER) == set()


def test_a_ready_word_is_waited_for_though_garbage_stands_before_it() -> None:
    one, module = ready("brisca-w1")
    module.set("rate", 57600)
    module.do("save")
    ordered = one.agenda.now
    module.do("restart")
    began = one.agenda.now
    assert come_back(module, ordered) and 0.5 < one.agenda.now - began < 1.5
    assert module.session.link.tuning == Tuning(57600)


def test_a_start_word_is_never_the_answer_to_a_question() -> None:
    one, module = ready("cordal-g2")
    assert {"start", "ready"} <= set(one.lexicon.events)
    one.standin.say("\r\nRDY\r\n", 0.0)
    one.standin.uart.faults = WireFaults(late=0.1)
    assert module.identify()["maker"] == "Cordal"


def test_a_peer_that_has_joined_explains_the_silence() -> None:
    one, module = ready("lindle-l9")
    one.lexicon = replace(one.lexicon, attention=replace(one.lexicon.attention, ends_on="air"))
    module.lexicon = one.lexicon
    one.standin.say("@air snr 8 rssi -71 from 1: tide\r\n")
    module.session.quiet(0.1)
    one.standin.power(False)
    with pytest.raises(ModuleFault) as fault:
        module.settings.read(["address"])
    assert "A peer is connected" in fault.value.hint


def test_a_key_that_is_let_go_in_the_middle_is_named() -> None:
    one, module = ready("tamsel-k5")
    one.standin.mode = "half"  # type: ignore[attr-defined]
    with pytest.raises(ModuleFault) as fault:
        module.read("name")
    assert "The key was released: some commands are answered and others not" in fault.value.hint
