"""Every stand-in under what goes wrong on benches: noise, failing power, a stop, and a module that says anything at all."""

from __future__ import annotations

import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import VirtualBench
from tests.rig.test_standins import WANTED
from wexicon.core.agenda import Agenda
from wexicon.core.protocol.session import Session
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rig.standin import StandIn
from wexicon.rig.uart import Faults
from wexicon.work.provision import Provision


def verified(bench: VirtualBench, name: str) -> bool:
    """Whether the module, now with a good wire, is what was wanted."""
    bench.standin.uart.faults = Faults()
    result = bench.provision(write=False, **WANTED[name])
    return result.outcome == "conforms"


@pytest.mark.parametrize("name", WANTED)
def test_with_noise_conforms_is_never_false(name: str) -> None:
    """One byte in a thousand is another one: a clear failure, or a success that is one."""
    for seed in range(6):
        bench = VirtualBench(name, faults=Faults(noise=0.001, seed=seed))
        result = bench.provision(**WANTED[name])
        if result.outcome == "conforms":
            assert verified(bench, name), f"seed {seed}"
        else:
            assert result.failure and result.failure.what and result.failure.step


@pytest.mark.parametrize("name", WANTED)
def test_the_power_may_fail_and_the_next_run_finishes(name: str) -> None:
    chance = random.Random(name)
    for cut in sorted(chance.sample(range(1, 260), 5)):
        bench = VirtualBench(name, faults=Faults(cut_after=cut))
        first = bench.provision(**WANTED[name])
        bench.standin.uart.faults = Faults()
        if first.outcome == "conforms":
            assert verified(bench, name), f"cut after {cut}"
        bench.standin.power(True)
        again = bench.provision(**WANTED[name])
        if again.outcome != "conforms":
            # A start in the middle of a sweep may be missed once; a second look is allowed, a wrong word is not.
            again = bench.provision(**WANTED[name])
        assert again.outcome == "conforms", f"cut after {cut}: {again.failure}"


@pytest.mark.parametrize("name", WANTED)
def test_a_stop_between_any_two_exchanges_leaves_work_that_can_be_finished(name: str) -> None:
    for most in (2, 7, 12):
        bench = VirtualBench(name)
        stopped = bench.provision(
            stopping=lambda most=most, bench=bench: len(bench.trace.texts("said")) >= most, **WANTED[name]
        )
        if stopped.outcome == "stopped":
            assert stopped.failure and stopped.failure.status == 130
        assert bench.provision(**WANTED[name]).outcome == "conforms", f"after {most}"


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


LEXICONS = {name: VirtualBench(name).lexicon for name in WANTED}
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
        def ask(self, act: str, text: str) -> None:
            babbler.cycle()

        def noticed(self) -> None:
            pass

    result = Provision(Session(link, lexicon.speech, lexicon.events), lexicon, Hands(), wanted, patience=3).run()
    assert result.outcome == "failed" and result.failure and result.failure.what
    assert agenda.now < 4000
