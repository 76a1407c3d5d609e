"""Finding a module of which nothing is known: every family, at every rate that it can have; nothing said but what is listed."""

from __future__ import annotations

from functools import cache

import msgspec
import pytest
from benchmarks.contact import grown, hailing_among
from benchmarks.wanted import WANTED

from tests.conftest import Bench, Records
from wexicon.core.formats.lexicon import AttentionBy, Lexicon
from wexicon.core.protocol.observations import Said
from wexicon.core.results.listed import Came, HailResult
from wexicon.core.text import to_text
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.catalog import all_lexicons, find_lexicon
from wexicon.work.contact.causes import Overheard
from wexicon.work.contact.discovery import LinkDiscovery
from wexicon.work.contact.identification import all_that_may_be_said, question_of, questions
from wexicon.work.module.opening import hail_with

FAMILIES = sorted(WANTED)
lexicons = cache(all_lexicons)


def rates_of(lexicon: Lexicon) -> list[int]:
    setting = next((one for one in lexicon.settings.values() if one.kind.rates()), None)
    return [rate for rate in setting.kind.rates() if rate in USUAL_RATES] if setting else [lexicon.factory.rate]


def at_rate(name: str, rate: int, faults: WireFaults | None = None) -> Bench:
    """A module that keeps this rate in its data mode, started with it."""
    one = Bench(name)
    one.agenda.run_until(2.5)
    setting = next(one for one in one.lexicon.settings.values() if one.kind.rates())
    assert one.provision(**{setting.name: rate}).verdict in ("conforms", "unproved")
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 20)
    return one


def hailed(one: Bench, *, escapes: bool = False, trace: Records | None = None) -> HailResult:
    session = one.session(trace, tuning=Tuning(9600))
    return LinkDiscovery(session, lexicons(), with_escapes=escapes).run()


@pytest.mark.parametrize(("name", "rate"), [(name, rate) for name in FAMILIES for rate in rates_of(find_lexicon(name))])
def test_every_family_is_found_at_any_of_its_rates_or_what_it_needs_is_said(name: str, rate: int) -> None:
    one = at_rate(name, rate)
    trace = Records()
    result = hailed(one, escapes=name == "fennick-z4", trace=trace)
    lexicon = one.lexicon
    if lexicon.attention.how in (AttentionBy.HELD_KEY, AttentionBy.CONTROL_LINE) or lexicon.attention.window:
        assert not result.found and result.status == 3
        assert lexicon.attention.operator in [hand.operator for hand in result.by_hand]
        found = hail_with(one.module(), HailResult("x"))
        assert found.found and found.family == name
    else:
        assert result.found and (result.rate, result.frame) == (rate, "8N1")
        assert result.family == result.lexicons[0] == name and result.identity
        assert result.end == lexicon.speech.end and result.seconds < 45
    told = {line for _, says, _ in all_that_may_be_said(lexicons()) for line in says}
    # As they are on the wire: bytes, and sentences with their checksum.
    asked = [question for one in lexicons() if (question := question_of(one))]
    told |= {one.label for one in asked} | {to_text(one.data).strip("\r\n") for one in asked}
    said = {text.strip("\r\n") for text in trace.texts(Said)} - {""}
    assert said <= told


def test_escapes_are_said_only_where_that_was_asked_for() -> None:
    one, trace = Bench("fennick-z4"), Records()
    one.agenda.run_until(2)
    result = hailed(one, trace=trace)
    assert not result.found and "~~~" not in trace.said()
    assert ("fennick-z4", "wexicon hail fennick-z4 --escapes") in [
        (hand.lexicon, hand.command) for hand in result.by_hand
    ]


@pytest.mark.parametrize("frame", ["7E1", "7O1", "7N2"])
def test_a_frame_with_seven_data_bits_is_found_by_what_is_heard(frame: str) -> None:
    one = Bench("brisca-w1")
    one.agenda.run_until(2)
    one.standin.uart.tuning = Tuning.of(115200, frame)
    result = hailed(one)
    assert result.found and (result.rate, result.frame, result.family) == (115200, frame, "brisca-w1")


def test_a_module_of_no_known_family_is_found_with_its_line_end() -> None:
    one = Bench("brisca-w1")
    one.agenda.run_until(2)
    session = one.session(tuning=Tuning(9600))
    result = LinkDiscovery(session, [find_lexicon("lindle-l9"), find_lexicon("v250")]).run()
    assert result.found and not result.family and (result.rate, result.end, result.echo) == (115200, "crlf", True)


def test_what_is_remembered_is_tried_first_and_not_believed() -> None:
    from wexicon.work.contact.ports import KnownLink

    for rate, most in ((115200, 1), (2400, 9)):
        one = Bench("brisca-w1")
        one.agenda.run_until(2)
        known = KnownLink("x", Tuning(rate), "crlf", "brisca-w1")
        result = LinkDiscovery(one.session(tuning=Tuning(rate)), lexicons(), known=known).run()
        assert result.rate == 115200 and len([each for each in result.tries if each.asked]) <= most


@pytest.mark.parametrize(
    ("name", "faults", "prepare", "kind"),
    [
        ("tamsel-k5", None, "", "data-mode"),
        ("orvane-b3", None, "", "silence"),
        ("brisca-w1", WireFaults(restarts=0.4), "", "restarting"),
        ("cordal-g2", None, 'AT+CMGS="+441632960002"', "prompt"),
    ],
)
def test_what_it_points_to_is_named(name: str, faults: WireFaults | None, prepare: str, kind: str) -> None:
    one = Bench(name, faults=faults)
    one.agenda.run_until(30 if prepare else 2.5)
    if prepare:
        session = one.session(tuning=one.standin.uart.tuning)
        assert session.exchange("AT+CMGF=1").ok
        session.send(prepare.encode() + b"\r")
        session.quiet(1)
    result = hailed(one)
    assert result.cause and result.cause.kind == kind and result.cause.next


def test_joined_wires_are_only_an_echo_and_another_device_is_an_answer() -> None:
    one = Bench("brisca-w1")
    one.standin.heard = lambda data, began: one.standin.uart.send(data)  # type: ignore[method-assign]
    one.standin.started = lambda: None  # type: ignore[method-assign]
    one.agenda.run_until(2)
    one.standin.uart.refresh = lambda: setattr(one.standin.uart, "tuning", one.standin.uart.host)
    result = hailed(one)
    assert not result.found and result.cause and result.cause.kind == "echo"
    one.standin.heard = lambda data, began: one.standin.uart.send(b"what?\r\n")  # type: ignore[method-assign]
    one.standin.uart.refresh = lambda: None
    one.standin.uart.tuning = Tuning(19200)
    result = hailed(one)
    assert result.found and result.rate == 19200 and result.said == "what?" and not result.lexicons


def test_a_key_let_go_too_early_is_said() -> None:
    one = Bench("tamsel-k5")
    one.standin.key("service", True)
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 0.7)
    one.standin.key("service", False)
    one.agenda.run_until(one.agenda.now + 1)
    result = hailed(one)
    assert result.found and result.family == "tamsel-k5" and result.cause and result.cause.kind == "half"


def test_a_family_heard_only_after_an_escape_is_not_asked_in_data_mode() -> None:
    asked = {name for question in questions(lexicons()) for name in question.lexicons}
    quiet = {one.about.family for one in lexicons() if one.attention.how in (AttentionBy.ESCAPE, AttentionBy.HELD_KEY)}
    assert quiet and not asked & quiet


def test_a_few_letters_are_no_words_where_a_parity_was_taken_off() -> None:
    found = LinkDiscovery(Bench("brisca-w1").session(), lexicons())
    for frame, came in (("8N1", Came.WORDS), ("7E1", Came.GARBAGE)):
        assert found._came(Overheard(Tuning(9600), "crlf", "", b"wort\r\n", frame=frame), None) == came


def test_a_prompt_is_asked_nothing_more() -> None:
    one = Bench("cordal-g2")
    one.agenda.run_until(30)
    session = one.session(tuning=one.standin.uart.tuning)
    assert session.exchange("AT+CMGF=1").ok
    session.send(b'AT+CMGS="+441632960002"\r')
    session.quiet(1)
    trace = Records()
    session = one.session(trace, tuning=one.standin.uart.tuning)
    result = LinkDiscovery(session, lexicons(), first=one.standin.uart.tuning).run()
    assert result.cause and result.cause.kind == "prompt"
    assert trace.said() == ["\r\nAT\r\n"]  # more would go out as the text of a message


def test_a_key_that_is_still_held_is_not_called_released() -> None:
    one = Bench("tamsel-k5")
    one.standin.key("service", True)
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 0.31)
    result = LinkDiscovery(one.session(tuning=Tuning(57600)), lexicons(), first=Tuning(57600)).run()
    assert result.found and result.family == "tamsel-k5" and result.lexicons and not result.cause


@pytest.mark.parametrize("name", ["lindle-l9", "saltern-m4", "fennick-z4", "cordal-n7"])
def test_hundred_lexicons_take_as_long_as_twenty_five(name: str) -> None:
    assert hailing_among(name, 100) <= 1.1 * hailing_among(name, 25)


def test_no_question_is_asked_twice_on_a_link_whatever_the_number_of_lexicons() -> None:
    one, trace = at_rate("saltern-m4", 38400), Records()
    session = one.session(trace, tuning=Tuning(9600))
    result = LinkDiscovery(session, grown(100)).run()
    asked = [(one.rate, one.end, one.asked) for one in result.tries if one.asked and one.came == Came.NOTHING]
    assert result.family == "saltern-m4" and len(asked) == len(set(asked)) > 20


def test_two_lexicons_of_one_family_are_both_named() -> None:
    own = find_lexicon("lindle-l9")
    again = msgspec.structs.replace(own, about=msgspec.structs.replace(own.about, family="lindle-l9-ours"))
    session = Bench("lindle-l9").session(tuning=Tuning(9600))
    session.link.read(3.0)
    assert LinkDiscovery(session, [*lexicons(), again]).run().lexicons == ["lindle-l9", "lindle-l9"]
