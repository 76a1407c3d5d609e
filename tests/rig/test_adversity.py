"""Every stand-in under what goes wrong on benches: noise, failing power, a stop, and a module that says anything at all."""

from __future__ import annotations

import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Bench
from tests.rig.test_standins import TRUST, WANTED, wrong
from wexicon.core.agenda import Agenda
from wexicon.core.protocol.session import Session
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rig.standin import StandIn
from wexicon.rig.uart import WireFaults
from wexicon.work.finding import find_lexicon
from wexicon.work.provision import Order, provision


def settled(bench: Bench) -> Bench:
    """The module after a power cycle, now with a good wire."""
    bench.standin.uart.faults = WireFaults()
    bench.standin.power(False)
    bench.standin.power(True)
    return bench


@pytest.mark.parametrize("name", WANTED)
def test_with_noise_conforms_is_never_false(name: str) -> None:
    """One byte in a thousand is another one: a clear failure, or a success that is one."""
    for seed in range(6):
        bench = Bench(name, faults=WireFaults(noise=0.001, seed=seed))
        result = bench.provision(**WANTED[name])
        if result.verdict in ("conforms", "unproved"):
            assert not wrong(settled(bench)), f"seed {seed}"
        else:
            assert result.failure and result.failure.what and result.failure.step


@pytest.mark.parametrize("name", WANTED)
def test_the_power_may_fail_and_the_next_run_finishes(name: str) -> None:
    chance = random.Random(name)
    for cut in sorted(chance.sample(range(1, 260), 5)):
        bench = Bench(name, faults=WireFaults(cut_after=cut))
        first = bench.provision(**WANTED[name])
        bench.standin.uart.faults = WireFaults()
        if first.verdict in ("conforms", "unproved"):
            assert not wrong(bench), f"cut after {cut}"
        bench.standin.power(True)
        again = bench.provision(**WANTED[name], trust=TRUST.get(name, ()))
        assert again.verdict == "conforms", f"cut after {cut}: {again.failure}"
        assert not wrong(settled(bench))


@pytest.mark.parametrize("name", WANTED)
def test_a_stop_between_any_two_exchanges_leaves_work_that_can_be_finished(name: str) -> None:
    for most in (2, 7, 12):
        bench = Bench(name)
        stopped = bench.provision(
            stopping=lambda most=most, bench=bench: len(bench.trace.said()) >= most, **WANTED[name]
        )
        if stopped.verdict == "stopped":
            assert stopped.failure and stopped.failure.status == 130
        again = bench.provision(**WANTED[name], trust=TRUST.get(name, ()))
        assert again.verdict == "conforms", f"after {most}: {again.failure}"
        assert not wrong(settled(bench))
        if stopped.verdict == "stopped" and stopped.written:
            assert any("finishing" in remark for remark in again.remarks)


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
            b"CMD\r\n",
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

    class Hands:
        cuts_power = there = True

        def ask(self, act: str, text: str) -> None:
            babbler.cycle()

        def noticed(self) -> None:
            pass

    result = provision(Session(link, lexicon.dialect), lexicon, Hands(), Order(wanted), patience=3)
    assert result.verdict == "failed" and result.failure and result.failure.what
    assert agenda.now < 4000
