"""Cellular modules by their lexicons, in virtual time: the SIM, registration, messages, calls, contexts, sockets, management.

The stand-in's flash and its network judge what an action claims. PDUs and the GSM alphabet are judged by packages of others.
"""

from __future__ import annotations

from typing import Any

import pytest
from gsm0338 import Codec
from smspdudecoder.easy import read_incoming_sms

from tests.conftest import Bench
from tests.rigs.test_air import hold
from wexicon.core.dialogue.blocks import DialogueFault
from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import ALPHABET, EXTENSION, gsm7_codes
from wexicon.core.text import Secret
from wexicon.rigs.air import Air, AirTable
from wexicon.rigs.network import GSM, Management, Network
from wexicon.rigs.standins import family

HERE, THERE = "+441632960013", "+441632960099"
PIN, PUK, OTHER = Secret("4821"), Secret("73198426"), Secret("9177")


def module(name: str, *, flash: dict[str, Any] | None = None, **air: Any) -> Bench:
    """A module that has just started, under a network."""
    one = Bench(name)
    air.setdefault("network", Network(registers_in=2))
    one.standin.air = Air(AirTable(**air))
    one.standin.air.members.append(one.standin)
    one.standin.flash.update(flash or {})
    one.standin.restart()
    return one


def two_phones(**flash: Any) -> tuple[Bench, Bench]:
    """Two telephones on one network and one agenda; what the flash of the second has besides."""
    one, two = module("cordal-g2"), Bench("cordal-g2")
    flash = {"notify": 1, **flash}
    other = family("cordal-g2")(one.agenda, "two", flash, {"number": THERE}, None, one.standin.air)
    two.agenda, two.standin = one.agenda, other
    two.operator.standin = other
    other.power(True)
    one.agenda.run_until(one.agenda.now + 4)
    return one, two


def kept(bench: Bench, text: str, **values: Any) -> dict[str, Any]:
    return hold(bench, text, **values).kept


# -- the SIM ----------------------------------------------------------------------------------------------------------------


def test_a_locked_sim_is_unlocked_and_a_wrong_pin_says_how_many_tries_are_left() -> None:
    one = module("cordal-g2", flash={"pin": "4821"})
    found = kept(one, "do sim-state\n")
    assert found["sim"] == "SIM PIN" and found["left"][0] == {"code": "SIM PIN", "tries": 3}
    with pytest.raises(DialogueFault, match="the SIM is not ready, it wants SIM PIN"):
        hold(one, "do register\n")
    with pytest.raises(DialogueFault, match="the PIN is wrong; 2 tries are left"):
        hold(one, "needs pin secret\ndo unlock\n", pin=OTHER)
    assert one.standin.flash["tries"] == 2
    hold(one, "needs pin secret\ndo unlock\ndo register\n", pin=PIN)
    assert one.standin.registered() and one.standin.flash["tries"] == 3


def test_the_last_try_is_not_spent_unless_that_is_wanted_and_a_blocked_sim_wants_its_puk() -> None:
    one = module("cordal-g2", flash={"pin": "4821", "tries": 1})
    with pytest.raises(DialogueFault, match="one try is left"):
        hold(one, "needs pin secret\ndo unlock\n", pin=OTHER)
    assert one.standin.flash["tries"] == 1
    with pytest.raises(DialogueFault, match="blocked now: run unlock-by-puk"):
        hold(one, 'needs pin secret\nneeds last_try = "yes"\ndo unlock\n', pin=OTHER)
    with pytest.raises(DialogueFault, match="wants its PUK"):
        hold(one, "needs pin secret\ndo unlock\n", pin=PIN)
    text = "needs puk secret\nneeds new_pin secret\ndo unlock-by-puk\n"
    with pytest.raises(DialogueFault, match="the PUK is wrong; 9 tries are left"):
        hold(one, text, puk=PIN, new_pin=OTHER)
    hold(one, text, puk=PUK, new_pin=OTHER)
    assert (one.standin.flash["pin"], one.standin.flash["tries"]) == ("9177", 3)


def test_a_pin_is_set_changed_and_taken_away_and_outlives_the_power() -> None:
    one = module("cordal-g2")
    hold(one, "needs pin secret\ndo pin-on\n", pin=PIN)
    hold(one, "needs pin secret\nneeds new_pin secret\ndo change-pin\n", pin=PIN, new_pin=OTHER)
    assert one.standin.flash["pin"] == "9177"
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 3)
    assert kept(one, "do sim-state\n")["sim"] == "SIM PIN"
    hold(one, "needs pin secret\ndo unlock\ndo pin-off\n", pin=OTHER)
    assert one.standin.flash["pin"] == ""


def test_a_module_without_a_sim_says_so() -> None:
    one = module("cordal-n7", flash={"sim": False})
    with pytest.raises(DialogueFault, match="there is no SIM: insert one"):
        hold(one, "do register\n")


# -- registration -----------------------------------------------------------------------------------------------------------


def test_registration_is_told_in_words_with_its_signal_until_it_is_there() -> None:
    one = module("cordal-n7", network=Network(registers_in=20))
    notes = hold(one, "do register\n").notes
    assert notes == []  # the notes of an action are the module's
    from wexicon.work.function.actions import do_action
    from wexicon.work.module.module import Module

    one = module("cordal-n7", network=Network(registers_in=20, roaming=True))
    one.agenda.run_until(one.agenda.now + 1.5)
    session = one.open()
    session.tune(one.standin.uart.tuning)
    result = do_action(Module(session, one.lexicon, one.operator), "register", {})
    assert result.notes[0] == "not registered, searching; no signal"
    assert result.notes[1] == "not registered, searching; signal -77 dBm"
    assert result.notes[-1] == "registered, roaming" and result.kept["state"] == 5


@pytest.mark.parametrize(
    ("network", "why"),
    [
        (Network(present=False), "no network within 3 minutes .*no signal.*: check antenna, SIM, bands and technology"),
        (Network(denies=True, registers_in=1), "the network denies registration: check the SIM's contract"),
        (Network(bands=(1,)), "no network within 3 minutes"),
        (Network(technologies=(GSM,)), "no network within 3 minutes"),
    ],
)
def test_a_network_that_is_not_there_or_denies_is_named_with_what_to_do(network: Network, why: str) -> None:
    one = module("cordal-n7", network=network)
    with pytest.raises(DialogueFault, match=why):
        hold(one, "do register\n")


def test_band_technology_and_operator_are_chosen_and_seen() -> None:
    one = module("cordal-g2")
    hold(one, 'do register\nset technology = "GSM"\nset bands = "20"\npause 1s\ndo register\n')
    found = kept(one, "do operator\ndo cell\n")
    assert (found["operator"], found["technology"], found["band"]) == ("Estuary Mobile", "GSM", 20)
    assert (found["rsrp"], found["rsrq"]) == (one.standin.cell.power, one.standin.cell.quality)  # type: ignore[attr-defined]
    with pytest.raises(DialogueFault, match="no network service"):
        hold(one, "needs operator\ndo choose-operator\n", operator="Other Shore")
    hold(one, "needs operator\ndo choose-operator\n", operator="Estuary Mobile")
    assert kept(one, "do operator\n")["mode"] == 1


def test_networks_in_range_packet_service_and_commands_are_listed() -> None:
    one = module("cordal-g2")
    found = kept(one, "do echo-off\ndo register-packet\ndo register-eps\ndo operators\ndo commands\n")
    assert found["state"] == 1 and "Estuary Mobile" in found["found"] and {"+CMGS", "+XBAND"} <= set(found["command"])


def test_the_clock_is_that_of_the_network_or_said_not_to_be_set() -> None:
    one = module("cordal-g2", network=Network(registers_in=30))
    one.agenda.run_until(one.agenda.now + 2)
    with pytest.raises(DialogueFault, match="the clock is not set"):
        hold(one, "do clock\n")
    assert kept(one, "do register\ndo clock\n")["time"].startswith("26/03/02,08:00:")


# -- contexts ---------------------------------------------------------------------------------------------------------------


def test_a_wrong_apn_is_named_and_the_right_one_gives_an_address() -> None:
    one = module("cordal-n7", network=Network(registers_in=1, apns=("tide.saltfen.example",)))
    hold(one, 'set apn = "tied.saltfen.example"\ndo register\n')
    for action in ("attach", "activate"):
        with pytest.raises(DialogueFault, match="not subscribed: check the APN"):
            hold(one, f"do {action}\n")
    with pytest.raises(DialogueFault, match="no context is active"):
        hold(one, "do addresses\n")
    found = kept(one, 'set apn = "tide.saltfen.example"\ndo activate\ndo addresses\n')
    assert found["addresses"] == [{"context": 1, "address": "192.0.2.70"}]


# -- messages ---------------------------------------------------------------------------------------------------------------

SCRIPTS = {
    "the GSM alphabet": "Tide 1.204 m {Withy} [Old Ferry] ~ 3 € ^ Ωmega; " * 9,
    "Cyrillic": "Уровень воды у Старого парома поднимается быстро. " * 8,
    "Chinese": "潮位正在迅速上升，请关闭水闸并通知港务办公室。" * 18,
}


@pytest.mark.parametrize("script", SCRIPTS)
def test_four_hundred_characters_go_there_and_back_in_three_scripts(script: str) -> None:
    text = SCRIPTS[script][:400]
    assert len(text) == 400
    one, two = two_phones()
    send = "needs number\nneeds message\ndo register\ndo send-message\n"
    for sender, receiver, number in ((one, two, THERE), (two, one, HERE)):
        count = kept(sender, send, number=number, message=text)["parts"]
        sender.agenda.run_until(sender.agenda.now + 3)
        found = kept(receiver, "do list-messages\n")["messages"]
        assert [row["message"] for row in found] == [text] and len(found[0]["index"].split("+")) == count > 1
        # The parts that arrived are read by a decoder of others.
        stored = [read_incoming_sms(one) for _, one in receiver.standin.inbox.values()]  # type: ignore[attr-defined]
        # It takes bits that fill up the last octet for a letter, @, which is not in these texts.
        assert "".join(part["content"].rstrip("@") for part in sorted(stored, key=_part)) == text
        text = text[::-1]


def _part(one: dict[str, Any]) -> int:
    return int(one["partial"]["part_number"])


def test_the_alphabet_is_that_of_another_package() -> None:
    other = Codec()
    for char in ALPHABET.replace("\x1b", "") + "".join(EXTENSION):
        if char != "\f":
            assert other.encode(char)[0] == gsm7_codes(char), char


def test_a_letter_that_no_set_has_is_refused_before_anything_is_said() -> None:
    one, _ = two_phones()
    with pytest.raises(DialogueFault, match="neither the GSM alphabet nor UCS-2 has it"):
        hold(one, "needs number\nneeds message\ndo send-message\n", number=THERE, message="high water 🌊")
    assert one.standin.reference == 0  # type: ignore[attr-defined]
    with pytest.raises(DialogueFault, match="the GSM alphabet lacks letters"):
        hold(one, "needs number\nneeds message\ndo send-text\n", number=THERE, message="Уровень")


def test_text_mode_sends_in_both_sets_and_says_its_reference() -> None:
    one, two = two_phones()
    for action, text in (("send-text", "tide {1.2} m"), ("send-ucs2", "Уровень")):
        assert kept(one, f"needs number\nneeds message\ndo register\ndo {action}\n", number=THERE, message=text)[
            "reference"
        ]
        one.agenda.run_until(one.agenda.now + 3)
    assert [row["message"] for row in kept(two, "do list-messages\n")["messages"]] == ["tide {1.2} m", "Уровень"]


@pytest.mark.parametrize(("number", "state"), [(THERE, "delivered"), ("+441632960555", "not delivered")])
def test_what_became_of_a_message_is_reported(number: str, state: str) -> None:
    one, _ = two_phones()
    text = 'needs number\nneeds message\nset reports = true\ndo register\nlet report = "yes"\ndo send-message\n'
    if state == "delivered":
        assert kept(one, text, number=number, message="sluice closed")["delivery"] == state
    else:
        with pytest.raises(DialogueFault, match="the message was sent and not delivered: not delivered"):
            hold(one, text, number=number, message="sluice closed")


def test_a_report_that_would_not_come_is_not_waited_for() -> None:
    one, _ = two_phones()
    with pytest.raises(DialogueFault, match="set reports=yes"):
        hold(one, 'needs number\nneeds message\nlet report = "yes"\ndo send-message\n', number=THERE, message="x")


def test_a_full_store_is_named_and_nothing_is_lost_when_it_is_emptied() -> None:
    one, two = two_phones(room=2)
    send = "needs number\nneeds message\ndo register\ndo send-message\n"
    for text in ("first", "second", "third"):
        hold(one, send, number=THERE, message=text)
    one.agenda.run_until(one.agenda.now + 3)
    held = hold(two, "do list-messages\n").kept
    assert held["store"] == [{"used": 2, "room": 2}] and [row["message"] for row in held["messages"]] == [
        "first",
        "second",
    ]
    hold(two, "needs index int\ndo delete-message\npause 2s\n", index=1)
    assert sorted(row["message"] for row in kept(two, "do list-messages\n")["messages"]) == ["second", "third"]
    hold(two, "do delete-all-messages\n")
    assert two.standin.inbox == {} and "messages" in kept(two, "do list-messages\n")  # type: ignore[attr-defined]


def test_parts_that_arrived_in_another_order_are_put_together_in_theirs() -> None:
    one = module("cordal-g2")
    text = "Уровень воды у Старого парома поднимается быстро. " * 4
    parts = [pdu.deliver(made, HERE) for made in pdu.submit(THERE, text, 3)]
    one.standin.inbox = {at: (0, made) for at, made in enumerate(parts[::-1], 1)}  # type: ignore[attr-defined]
    found = kept(one, "do list-messages\n")["messages"]
    assert [(row["index"], row["message"]) for row in found] == [("1+2+3", text)]


def test_a_message_that_the_network_sent_twice_is_one_with_both_indexes() -> None:
    one = module("cordal-g2")
    twice, other = (pdu.deliver(*pdu.submit(THERE, text), HERE) for text in ("low water", "high water"))
    one.standin.inbox = {1: (0, twice), 2: (0, other), 3: (0, twice)}  # type: ignore[attr-defined]
    found = kept(one, "do list-messages\n")["messages"]
    assert [(row["index"], row["message"]) for row in found] == [("1+3", "low water"), ("2", "high water")]


def test_half_a_message_is_told_as_half_of_one() -> None:
    one, two = two_phones()
    parts = pdu.submit(THERE, "x" * 200, 7)
    hold(one, "needs part\ndo register\n> AT+CMGF=0\nlet size = pdu_length(part)\n> AT+CMGS={size}\n< \"> \"\nallow 60s\n"
         ">> {part}\\x1A\n< +CMGS: {r:int}\n< OK\n", part=parts[1])  # fmt: skip
    one.agenda.run_until(one.agenda.now + 3)
    found = kept(two, "needs index int\ndo list-messages\ndo read-message\n", index=1)
    assert found["messages"][0]["message"].startswith("(part 2 of 2, the others are missing) xxx")
    assert found["part"] == "2 of 2"


def test_a_message_that_arrives_while_something_else_goes_on_is_heard() -> None:
    one, two = two_phones()
    hold(one, "needs number\nneeds message\ndo register\ndo send-message\n", number=THERE, message="gale")
    held = hold(
        two,
        "on +CMTI: {store:quoted},{index:int}\n    do read-message\n"
        "repeat 20 times every 200ms\n    > AT+CSQ\n    < +CSQ: {steps:int},...\n",
    )
    assert held.kept["message"] == "gale" and held.kept["sender"] == HERE


def test_a_status_report_and_its_ranges() -> None:
    made = pdu.read(pdu.status_report(42, THERE, "26030208000000", 0x00))
    assert (made.number, made.reference, made.status, made.stamp) == (THERE, 42, "delivered", "2026-03-02 08:00:00")
    # From the text of 23.040, 9.2.3.15: completed, still trying, permanent, given up.
    words = [pdu.status_in_words(value) for value in (0x00, 0x01, 0x20, 0x40, 0x60)]
    assert words == ["delivered", "passed on", "not delivered yet", "not delivered", "not delivered, no further try"]


# -- calls ------------------------------------------------------------------------------------------------------------------


def test_a_call_rings_with_its_number_is_answered_and_hung_up() -> None:
    one, two = two_phones()
    heard = bytearray()
    hold(two, "> AT\n")
    two.standin.uart.to_host = heard.extend
    one.agenda.after(6, lambda: two.standin.line("ATA"))  # type: ignore[attr-defined]
    assert kept(one, "needs number\ndo register\ndo dial\ndo call\n", number=THERE)["state"] == "active"
    assert b"RING" in heard and f'+CLIP: "{HERE}"'.encode() in heard
    found = kept(two, "do call\n")
    assert (found["number"], found["comes_in"], found["state"]) == (HERE, True, "active")
    hold(two, "do hang-up\n")
    assert one.standin.call is None  # type: ignore[attr-defined]
    assert hold(one, "do call\n").kept == {}


@pytest.mark.parametrize(("number", "why"), [("+441632960555", "no answer"), (HERE, "the number is busy")])
def test_a_call_that_is_not_taken_says_why(number: str, why: str) -> None:
    one, _ = two_phones()
    with pytest.raises(DialogueFault, match=why):
        hold(one, "needs number\ndo register\ndo dial\n", number=number)


def test_a_telephone_that_nobody_answers_stops_ringing() -> None:
    one, two = two_phones()
    with pytest.raises(DialogueFault, match="no answer"):
        hold(one, "needs number\ndo register\ndo dial\n", number=THERE)
    assert not two.standin.ringing  # type: ignore[attr-defined]


# -- sockets ----------------------------------------------------------------------------------------------------------------

SERVICES = {
    "echo.example": "echo",
    "shut.example": "refuses",
    "slow.example": "slow 12s",
    "brief.example": "closes 3s",
}


@pytest.mark.parametrize(
    ("host", "why"),
    [("shut.example", "shut.example refuses port 7"), ("nowhere.example", "the name nowhere.example is not known")],
)
def test_a_socket_that_cannot_be_opened_says_why(host: str, why: str) -> None:
    one = module("cordal-n7", services=SERVICES)
    with pytest.raises(DialogueFault, match=why):
        hold(one, "needs host\nneeds port int\ndo register\ndo open\n", host=host, port=7)


def test_a_server_is_slow_or_closes_and_both_are_seen() -> None:
    one = module("cordal-n7", services=SERVICES)
    text = (
        "needs host\nneeds port int\nneeds data\ndo register\ndo open\ndo send\nmark sent\nawait 30s\n"
        "    +XRECV: 0,{size:int},{back:bytes(size)}\nkeep took = since(sent)\nkeep back\ndo close\n"
    )
    slow = kept(one, text, host="slow.example", port=7, data="tide")
    assert slow["back"] == "tide" and 11 < slow["took"] < 13
    assert kept(one, text, host="echo.example", port=7, data="tide")["took"] < 1
    hold(one, "needs host\nneeds port int\ndo open\nawait 10s\n    +XCLOSED: 0\n", host="brief.example", port=7)
    with pytest.raises(DialogueFault, match="not found"):
        hold(one, "needs data\ndo send\n", data="late")


def test_a_name_is_looked_up() -> None:
    one = module("cordal-n7", services={"tides.example": "127.0.0.1:7"})
    assert kept(one, "needs host\ndo register\ndo look-up\n", host="tides.example")["address"] == "127.0.0.1"
    with pytest.raises(DialogueFault, match=r"the name far\.example is not known"):
        hold(one, "needs host\ndo look-up\n", host="far.example")


# -- reached now and then ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("asked", "granted", "cycle"), [("20.48s", "", 20.48), ("20.48s", "0011", 40.96)])
def test_what_comes_in_reaches_the_module_in_its_paging_windows_as_granted(
    asked: str, granted: str, cycle: float
) -> None:
    one = module(
        "cordal-n7", network=Network(registers_in=1, idle_after=5, edrx=granted), services={"far.example": "slow 30s"}
    )
    found = kept(
        one,
        f'needs host\nneeds port int\nneeds data\nset edrx = "{asked}"\nset link-reports = true\n'
        "do register\ndo open\ndo send\n"
        "await 60s\n    +CSCON: 0\nmark idle\nawait 200s\n    +XRECV: 0,{size:int},...\nkeep after = since(idle)\n",
        host="far.example",
        port=7,
        data="tide",
    )
    # It comes 25 s after the link went idle, and waits for the next window.
    windows = [cycle * count for count in range(1, 9)]
    assert min(abs(float(found["after"]) - one) for one in windows) < 1
    assert float(found["after"]) >= 24


# -- device management ------------------------------------------------------------------------------------------------------


def test_a_module_is_managed_with_message_numbers_from_registration_to_the_end() -> None:
    server = Management(reads=("/3/0/0",), writes={"/1/0/1": "86400"}, executes=("/3/0/4",), observes=("/3303/0/5700",))
    one = module("cordal-n7", management=server, flash={"managed": 0})
    held = hold(
        one,
        'on +XDM: READ,{n:int},{path:quoted}\n    let number = n\n    let value = "Saltfen"\n    do reply\n'
        "on +XDM: WRITE,{n:int},{path:quoted},{value:quoted}\n    > AT+XDMR={n}\n    keep value\n"
        "on +XDM: EXEC,{n:int},{path:quoted}\n    > AT+XDMR={n}\n    keep path as executed\n"
        'on +XDM: OBSERVE,{n:int},{path:quoted}\n    > AT+XDMR={n},"4.1"\n    keep n as observed\n'
        "do register\ndo enrol\npause 5s\n",
    )
    air, found = one.standin.air, held.kept
    assert (found["number"], found["executed"], found["observed"]) == (1, "/3/0/4", 5)
    hold(one, "needs number int\nneeds value\ndo inform\n", number=5, value="4.3")
    assert kept(one, "do update-enrolment\n")["number"] == 6
    assert air.answered == {2: "Saltfen", 3: "", 4: "", 5: "4.3"}
    assert kept(one, "do leave-management\n")["number"] == 7
    with pytest.raises(DialogueFault, match="not found"):
        hold(one, "do update-enrolment\n")


def test_a_server_that_refuses_and_a_registration_that_runs_out() -> None:
    one = module("cordal-n7", management=Management(refuses=True), flash={"managed": 0})
    with pytest.raises(DialogueFault, match="the management server refuses this module"):
        hold(one, "do register\ndo enrol\n")
    two = module("cordal-n7", flash={"managed": 0})
    hold(two, "do register\nlet lifetime = 60\ndo enrol\nawait 70s\n    +XDM: EXPIRED\n")
