"""A pass-through board between adapter and module: said before the write, Enter waited for, the module found again through it.

The rule: what a module keeps is judged by its flash, never by what was printed.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.conftest import Bench
from wexicon.core.formats.fixture import Fixture, read_fixture
from wexicon.core.operator import NoOperator
from wexicon.core.results.unit import UnitResult
from wexicon.core.tuning import Tuning
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

NEAR = Tuning(9600)


class Person:
    """Presses Enter, and does what it is asked, or only says so."""

    switches_power = False
    there = True

    def __init__(self, bench: Bench, *, does: bool = True) -> None:
        self.bench, self.does = bench, does
        self.told: list[tuple[str, str, int]] = []

    def ask(self, act: str, text: str) -> None:
        if self.does:
            self.bench.standin.operate(act)

    def noticed(self) -> None:
        pass

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        self.told.append((act, text, self.bench.standin.uart.tuning.rate))
        looks = iter(range(3))
        wait(lambda: next(looks) == 2)
        self.ask(act, text)


def behind_a_board(name: str = "lindle-l9", **flash: object) -> Bench:
    one = Bench(name, **flash)
    one.agenda.run_until(3)
    uart = one.standin.uart
    uart.near, uart.far = NEAR, uart.tuning
    return one


def written(one: Bench, operator: object, *, plan: bool = False, **wanted: object) -> UnitResult:
    session = one.session(one.trace, tuning=NEAR)
    session.fixed = NEAR
    module = Module(session, one.lexicon, operator, patience=5, fixture=Fixture(bridge=NEAR))  # type: ignore[arg-type]
    plain = {name: one.lexicon.settings[name].check(value) for name, value in wanted.items()}
    return provision(module, Order(plain, plan=plan), store=one.store)


@pytest.mark.parametrize("name", ["lindle-l9", "brisca-w1", "polmar-p1"])
def test_the_module_is_found_again_through_the_board(name: str) -> None:
    one = behind_a_board(name)
    person = Person(one)
    before = one.standin.uart.tuning.rate
    result = written(one, person, rate=57600)
    assert result.verdict == "conforms", result.failure
    assert one.standin.uart.tuning.rate == one.standin.uart.far.rate == 57600 and one.standin.uart.host == NEAR
    first, second = person.told
    assert first[0] == "confirm" and "lose contact" in first[1] and first[2] == before
    assert second[0] == "board 57600 8N1" and "stays at 9600 8N1" in second[1]
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 3)
    assert one.standin.uart.tuning.rate == 57600


def test_nothing_is_written_if_nobody_can_confirm() -> None:
    one = behind_a_board()
    result = written(one, NoOperator(), rate=57600, network=5)
    assert result.verdict == "failed" and result.failure and "there is no operator to confirm" in result.failure.what
    assert one.standin.memory["uart"] == 9600


def test_a_board_that_was_not_changed_is_told_and_the_next_run_finishes() -> None:
    one = behind_a_board()
    result = written(one, Person(one, does=False), rate=57600)
    assert result.verdict == "failed" and result.failure and result.failure.status == 3
    assert one.standin.uart.tuning.rate == 57600 and one.standin.uart.far.rate == 9600
    one.standin.operate("board 57600")
    again = written(one, Person(one), rate=57600)
    assert again.verdict == "conforms", again.failure
    assert one.standin.flash["uart"] == 57600


def test_a_stop_at_the_prompt_writes_nothing() -> None:
    one = behind_a_board()

    class Stops(Person):
        def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
            session.stopping = lambda: True
            wait(lambda: False)

    session = one.session(one.trace, tuning=NEAR)
    session.fixed = NEAR
    module = Module(session, one.lexicon, Stops(one), fixture=Fixture(bridge=NEAR))
    result = provision(module, Order({"rate": 57600}), store=one.store)
    assert result.verdict == "stopped" and one.standin.memory["uart"] == 9600


def test_the_plan_says_what_will_be_cut_off_and_other_settings_ask_for_nothing() -> None:
    one = behind_a_board()
    person = Person(one)
    plan = written(one, person, plan=True, rate=57600, network=5).plan
    operator = next(line for line in plan if line.step == "operator")
    assert "lose contact" in operator.says and plan.index(operator) < [line.step for line in plan].index("write rate")
    assert written(one, person, network=5).verdict == "conforms" and not person.told


def test_a_rate_is_not_read_from_a_link_that_never_changes() -> None:
    one = behind_a_board("polmar-p1")
    session = one.session(one.trace, tuning=NEAR)
    session.fixed = NEAR
    assert not Module(session, one.lexicon, NoOperator()).only_here()


@pytest.mark.parametrize(
    ("text", "told"),
    [("rate = 9600\nframe = '9N1'", "9N1"), ("rate = 'fast'", "bridge.rate"), ("rte = 9600", "rte")],
)
def test_a_wrong_bridge_is_told(text: str, told: str) -> None:
    with pytest.raises(Exception, match=told):
        read_fixture(f"format = 1\n[bridge]\n{text}\n".encode(), "jig.toml")
