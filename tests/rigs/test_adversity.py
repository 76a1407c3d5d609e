"""A module that says anything at all; noise, failing power and stops are in tests/work/test_truth.py."""

from __future__ import annotations

from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.rigs.test_standins import WANTED
from wexicon.core.agenda import Agenda
from wexicon.core.protocol.session import Session
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rigs.standin import StandIn
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision


class Babbler(StandIn):
    """Answers whatever it is told with the next of its pieces."""

    family = "babbler"
    pieces: tuple[bytes, ...] = ()

    def started(self) -> None:
        self.turn = 0
        if self.pieces:
            self.say(self.pieces[0])

    def heard(self, data: bytes, began: float) -> None:
        self.turn += 1
        if self.pieces:
            self.say(self.pieces[self.turn % len(self.pieces)])


LEXICONS = {name: find_lexicon(name) for name in WANTED}
WORDS = st.sampled_from(
    [
        *(
            b"OK\r\n",
            b"ok\r\n",
            b"@ok\r\n",
            b"done\r",
            b"at your word\r\n",
            b"listening\r",
            b"ERR 1\r\n",
            b"BUSY\r\n",
            b"AT\r\n",
            b"> ",
        ),
        *(b"+WHO BRISCA-W1 1 02\r\n", b"+IN 0 99999999 x", b"$PPLM,WHO,POLMAR-P1,1,2*5B\r\n", b":W=TAMSEL-K6 1 A"),
        *(b"\xff\x00", b"\x5a\x90\x00", b"x" * 300),
    ]
)


@settings(max_examples=60)
@given(st.sampled_from(sorted(WANTED)), st.lists(WORDS | st.binary(max_size=12), max_size=6))
def test_a_module_that_says_anything_at_all_gives_a_clear_end(name: str, pieces: list[bytes]) -> None:
    agenda = Agenda()
    babbler = Babbler(agenda)
    babbler.pieces = tuple(pieces)
    babbler.power(True)
    link = VirtualLink("b", VirtualClock(agenda), babbler.uart)
    babbler.uart.to_host = link.take
    lexicon = LEXICONS[name]
    wanted: dict[str, Any] = {key: lexicon.settings[key].kind.check(value) for key, value in WANTED[name].items()}

    class BenchOperator:
        switches_power = there = True

        def ask(self, act: str, text: str) -> None:
            babbler.cycle()

        def noticed(self) -> None:
            pass

    result = provision(Module(Session(link, lexicon.dialect), lexicon, BenchOperator(), patience=3), Order(wanted))
    assert result.verdict == "failed" and result.failure and result.failure.what
    assert agenda.now < 4000
