"""`hail` with modules of bad manners: what it names is right, or it says why it found nothing; it is never wrong.

The rule: what must be found is in the table below; it does not come from the lexicons.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import Any

import pytest

from tests.work.devices import Device
from wexicon.core.faults import CannotTune
from wexicon.core.results.listed import HailResult
from wexicon.core.tuning import Tuning
from wexicon.work.contact.catalog import all_lexicons, find_lexicon
from wexicon.work.contact.discovery import LinkDiscovery

lexicons = cache(all_lexicons)

# Answers of each device, its line end, what it says to other lines; its family (empty: none that is known), its identity.
DEVICES: dict[str, tuple[dict[str, str], str, str, str, dict[str, str]]] = {
    "cellular": (
        {
            "AT": "OK",
            "AT+CGMI": "Saltfen\nOK",
            "AT+CGMM": "TIDE-7\nOK",
            "AT+CGMR": "4.02\nOK",
            "AT+CGSN": "004400152020003\nOK",
            "AT+CGSN=1": '+CGSN: "004400152020003"\nOK',
        },
        "cr",
        "ERROR",
        "cellular-3gpp",
        {"maker": "Saltfen", "model": "TIDE-7", "firmware": "4.02"},
    ),
    "wi-fi": (
        {"AT": "OK", "AT+WHO?": "+WHO BRISCA-W1 2.0.3 02:5E:10:00:00:51\nOK"},
        "crlf",
        "FAULT 2",
        "brisca-w1",
        {"model": "BRISCA-W1", "firmware": "2.0.3", "address": "02:5E:10:00:00:51"},
    ),
    "lora": (
        {"@": "@ok", "@who?": "@who LINDLE-L9 1.4 L9000017"},
        "lf",
        "@err 2",
        "lindle-l9",
        {"model": "LINDLE-L9", "firmware": "1.4", "serial": "L9000017"},
    ),
    "unknown": ({"AT": "READY", "AT+WHO?": "tide gauge 7"}, "crlf", "UNKNOWN", "", {}),
}
MANNERS: dict[str, dict[str, Any]] = {
    "echoes": {"echoes": True},
    "answers an empty line": {"empty": "ERROR"},
    "late": {"late": 0.4},
    "talks": {"talks": "level 1.204 m"},
}
CASES = [(device, rate, manner) for device in DEVICES for rate in (9600, 38400, 115200) for manner in MANNERS]


def hailed(device: Device, rate: int = 9600, **more: Any) -> HailResult:
    return LinkDiscovery(device.session(rate=rate), lexicons(), **more).run()


def check(name: str, rate: int, manners: dict[str, Any]) -> HailResult:
    """What was found is right; or it was not found, and why is said."""
    answers, end, unknown, family, identity = DEVICES[name]
    result = hailed(Device(answers, end=end, rate=rate, unknown=unknown, **manners))
    if not result.found:
        assert result.cause and result.cause.next
        return result
    assert (result.rate, result.frame) == (rate, "8N1") and result.family in (family, "")
    assert {name: result.identity[name] for name in identity if result.family} == (identity if result.family else {})
    assert result.end in ("", end) and (not result.echo or manners.get("echoes"))
    return result


@pytest.mark.parametrize(("name", "rate", "manner"), CASES)
def test_what_is_found_is_right(name: str, rate: int, manner: str) -> None:
    found = check(name, rate, MANNERS[manner])
    assert found.found and found.family == DEVICES[name][3]


@pytest.mark.parametrize("name", DEVICES)
def test_no_answer_is_taken_for_that_of_another_question(name: str) -> None:
    two = {**MANNERS["echoes"], **MANNERS["answers an empty line"]}
    assert check(name, 19200, two).found
    assert check(name, 19200, {**two, **MANNERS["late"]}).found
    check(name, 19200, {**two, **MANNERS["late"], **MANNERS["talks"]})


def test_a_family_is_named_only_if_it_said_who_it_is() -> None:
    # Answers as two shipped families give them, at their rates: a result code is a guess at most.
    for answers, unknown, rate in (({"AT": "OK"}, "ERR 1", 57600), ({}, "FAULT 2", 115200), ({"AT": "OK"}, "OK", 9600)):
        result = hailed(Device(answers, rate=rate, unknown=unknown))
        assert result.rate in (rate, 0) and not result.family and not result.lexicons and not result.identity


def test_a_prompt_that_begins_as_a_sentence_does_is_no_receiver() -> None:
    result = hailed(Device({"help": "tide, level, zero"}, end="lf", unknown="no such command", prompt="$ "))
    assert not result.family and not result.lexicons


def test_a_frame_that_is_heard_and_that_the_port_refuses_is_told_and_passed_over() -> None:
    device = Device({}, talks="LEVEL 2.41 M AND RISING AT THE SLUICE OF MARROW ESTUARY", every=0.1)
    device.uart.tuning = Tuning(9600, 7, "N", 2)
    session = device.session()
    tune = session.link.tune

    def picky(tuning: Tuning) -> None:
        if tuning.bits == 7:
            raise CannotTune(f"this port cannot do {tuning}")
        tune(tuning)

    session.link.tune = picky  # type: ignore[method-assign]
    result = LinkDiscovery(session, lexicons()).run()
    assert not result.found and "this port cannot do 9600 7N2" in result.remarks


def test_an_answer_that_holds_the_question_is_no_echo() -> None:
    result = hailed(Device({"AT": "SENDS AT", "AT+WHO?": "STATUS AT"}, unknown="ENDS AT"))
    assert result.found and result.echo is False and result.said.endswith("S AT")


def test_a_known_family_is_waited_for_as_long_as_its_lexicon_says(tmp_path: Path) -> None:
    text = """
format = 1
[about]
family = "gauge"
maker  = "Saltfen"
radio  = "lora"
[link]
rate = 19200
[attention]
how   = "always"
probe = { say = "level?", hear = "level {value:decimal}", within = "2s" }
[speech]
end = "lf"
ok  = ["ready"]
closing = "alone"
[identify]
ask    = [{ say = "name?", hear = "name {model:word}", within = "2s" }]
must = { model = "TIDE-7" }
"""
    (tmp_path / "gauge.toml").write_text(text)
    gauge = find_lexicon(str(tmp_path / "gauge.toml"))
    device = Device({"level?": "level 1.204", "name?": "name TIDE-7"}, end="lf", rate=19200, late=0.9)
    result = LinkDiscovery(device.session(), [gauge]).run()
    assert (result.family, result.rate, result.identity) == ("gauge", 19200, {"model": "TIDE-7"})
