"""A secret is shown nowhere, however it is said: typed, from a file, by a host behind a tap, as a payload, as a login."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Bench
from tests.core.test_said import FAMILIES, STANDINS, ways
from tests.work.test_talking import Hand
from wexicon.core.dialogue import Program
from wexicon.core.dialogue.blocks import Say
from wexicon.core.dialogue.lines import template
from wexicon.core.module_state.reader import Reader
from wexicon.core.module_state.state import ModuleState
from wexicon.core.protocol.line_faults import Side
from wexicon.core.protocol.observations import Listener, Observation
from wexicon.core.text import to_bytes
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.dialogues import run_dialogue, with_answers
from wexicon.work.function.tap_decoder import TapDecoder

SECRET = "73194628"
SPOKEN = sorted({*FAMILIES} & {*STANDINS})


class Seen(Listener):
    """All that was reported, as text."""

    def __init__(self) -> None:
        self.texts: list[str] = []

    def note(self, seen: Observation) -> None:
        self.texts.append(str(seen).replace("\\x00", "").replace("\0", ""))


def said(family: str) -> list[str]:
    """Every line of a family with one secret, in every way."""
    lexicon, found = FAMILIES[family], []
    for form in Reader(lexicon).forms:
        names = form.template.names
        if form.fixed and len(names) == 1 and form.secret.intersection(names) and not form.payload:
            whole = form.template.fill({names[0]: SECRET}, quoting=lexicon.speech.quoting).text
            lead, _, tail = whole.partition(SECRET)
            found += ways(lead, SECRET, tail)
    return list(dict.fromkeys(found))


FAMILIES_WITH_SECRETS = [one for one in SPOKEN if said(one) and FAMILIES[one].speech.form == "lines"]


@pytest.mark.parametrize("family", FAMILIES_WITH_SECRETS)
@pytest.mark.parametrize("size", [1, 7, 1000])
def test_no_way_leads_past_a_tap(family: str, size: int) -> None:
    lexicon = FAMILIES[family]
    for text in said(family):
        seen = Seen()
        decoder = TapDecoder(lexicon, lexicon.factory, seen, lambda moved: None)
        data, now = to_bytes(text) + lexicon.speech.line_end.encode(), 0.0
        for at in range(0, len(data), size):
            now += 0.001
            decoder.feed(Side.HOST, data[at : at + size], now)
        # The module echoes it, and refuses it.
        decoder.feed(Side.MODULE, data + b"\r\nERROR\r\n", now + 0.1)
        decoder.elapse(now + 60)
        decoder.flush()
        assert SECRET[:5] not in "".join(seen.texts), text


@pytest.mark.parametrize("family", FAMILIES_WITH_SECRETS)
def test_no_way_of_typing_it_shows_it(family: str) -> None:
    hand = Hand(family)
    lines = said(family)
    told = "\n".join(hand.type(*lines, *(f"::{line}" for line in lines[:3]), *(f":> {line}" for line in lines[:3])))
    hand.writer.close()
    assert SECRET[:5] not in (told + hand.trace.read_text()).replace("\\x00", "").replace("\0", "")


@pytest.mark.parametrize("family", FAMILIES_WITH_SECRETS)
def test_no_line_of_a_file_shows_it(family: str) -> None:
    one = Bench(family)
    one.agenda.run_until(3)
    for text in said(family):
        if not text.isprintable():
            continue  # no line of a file holds these
        line = Say(source=text, template=template(text.replace("{", "{{").replace("}", "}}")), line=1)
        session = one.open()
        session.known = ModuleState(one.lexicon, session.link.tuning)
        program = with_answers(Program((line,), "lines.txt"), one.lexicon, session.dialect)
        result = run_dialogue(session, program, {}, one.lexicon, one.operator)
        assert SECRET[:5] not in str(result), text
    assert SECRET[:5] not in str(one.trace.all)


KEY = "-----BEGIN KEY-----\nMIIBVQIBADAN\n-----END KEY-----\n"


@pytest.mark.parametrize("prompted", [True, False])
@pytest.mark.parametrize("size", [1, 5, 1000])
@pytest.mark.parametrize("cut", [len(KEY), 20])
def test_the_payload_of_a_secret_is_shown_nowhere(prompted: bool, size: int, cut: int) -> None:
    """A key behind its line: after the prompt or at once, whole or half of it, in pieces of any size."""
    lexicon, seen = find_lexicon("brisca-w1"), Seen()
    decoder = TapDecoder(lexicon, lexicon.factory, seen, lambda moved: None)
    decoder.feed(Side.HOST, f'AT+FILE="key",{len(KEY)}\r\n'.encode(), 0.0)
    if prompted:
        decoder.feed(Side.MODULE, b"\r\n> ", 0.05)
    data = KEY.encode()[:cut]
    for at in range(0, len(data), size):
        decoder.feed(Side.HOST, data[at : at + size], 0.1 + at / 1000)
    decoder.feed(Side.MODULE, b"\r\nSTORED\r\n" if cut == len(KEY) else b"\r\nFAULT 12\r\n", 5.0)
    decoder.feed(Side.HOST, b"AT+NAME?\r\n", 6.0)
    decoder.elapse(60.0)
    decoder.flush()
    told = "".join(seen.texts)
    assert "MIIB" not in told and "BEGIN" not in told and "AT+NAME?" in told


def test_the_word_of_a_login_is_shown_nowhere(tmp_path: Path) -> None:
    lexicon, seen = find_lexicon("marram-c2"), Seen()
    decoder = TapDecoder(lexicon, lexicon.factory, seen, lambda moved: None)
    for at, (side, text) in enumerate(
        [(Side.MODULE, "login: "), (Side.HOST, "fitter\r"), (Side.MODULE, "\r\nword: "), (Side.HOST, f"{SECRET}\r")]
    ):
        decoder.feed(side, text.encode(), float(at))
    decoder.feed(Side.MODULE, b"\r\nc2> ", 5.0)
    decoder.feed(Side.HOST, b"show\r", 6.0)
    decoder.elapse(60.0)
    decoder.flush()
    told = "".join(seen.texts)
    assert SECRET[:5] not in told and "fitter" in told and "show" in told


@pytest.mark.parametrize("family", FAMILIES_WITH_SECRETS)
def test_the_state_tells_no_secret(family: str) -> None:
    """Also where it was the last that was answered, or stands half in the module's line."""
    one = Bench(family)
    for exact in (False, True):
        for text in said(family):
            session = one.open()
            session.known = state = ModuleState(one.lexicon, session.link.tuning)
            session.exchange(text, within=0.1, exact=exact)
            assert SECRET[:5] not in str(state.told(0.0)).replace("\\x00", "").replace("\0", ""), text
