"""A sweep: each point is read back, only whole points count, and the settings are put back however it ends."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.conftest import Bench
from wexicon.core.faults import ModuleFault
from wexicon.core.formats.sheet_tests import points_of
from wexicon.core.results.functions import Direction, SweepResult, TrafficResult
from wexicon.core.results.result import Failure, Verdict
from wexicon.work.function.endpoints import CommandEndpoint
from wexicon.work.function.sweeps import sweep
from wexicon.work.module.module import Module
from wexicon.work.provisioning.unfinished import Store

RADIO = (868100000, 9, 4, 14)


def traffic(complete: bool = True, there: int = 0, back: int = 0) -> TrafficResult:
    """The result of ten packets each way, so many of which were lost."""
    ways = [Direction(way, 10, 10 - lost, lost, 0, 0, 0.1, 0.2) for way, lost in (("there", there), ("back", back))]
    failure = None if complete else Failure("traffic", "stopped on request")
    return TrafficResult(
        verdict=Verdict.PASSED if complete else Verdict.STOPPED, ways=ways, complete=complete, failure=failure
    )


class Swept:
    """Two modules that are swept, with what their flash and working memory hold."""

    def __init__(self) -> None:
        self.benches = [Bench("lindle-l9"), Bench("lindle-l9", addr=2)]
        self.benches[1].standin.own["serial"] = "L9-00500"
        self.store = Store()
        self.ends: list[CommandEndpoint] = []
        for one in self.benches:
            module = one.module()
            module.attention.gain([one.lexicon.factory])
            module.identify()
            end = CommandEndpoint()
            assert one.lexicon.traffic
            end.use(module, one.lexicon.traffic)
            self.ends.append(end)

    @property
    def modules(self) -> list[Module]:
        return [end.module for end in self.ends]

    def radios(self) -> list[object]:
        return [one.standin.memory["radio"] for one in self.benches]

    def units(self) -> list[str]:
        return [one.lexicon.unit_of(one.identity) for one in self.modules]

    def run(self, text: str, run: Callable[[], TrafficResult] = traffic) -> SweepResult:
        points = points_of(text, self.benches[0].lexicon)
        return sweep(self.ends, points, run, self.store)


def test_a_point_whose_traffic_was_not_carried_out_is_not_counted_and_names_where_it_ended() -> None:
    swept, sent = Swept(), [traffic(complete=False), traffic()]
    made = swept.run("power=2,3,4", sent.pop)
    assert [point.settings for point in made.points] == [{"power": "2 dBm"}]
    assert made.verdict is Verdict.STOPPED and made.failure and made.failure.step == "sweep, power 3 dBm"
    assert made.restored and swept.radios() == [RADIO, RADIO]


def test_both_modules_are_unfinished_work_until_their_settings_were_put_back() -> None:
    swept, seen = Swept(), []

    def run() -> TrafficResult:
        seen.append([(found.settings if (found := swept.store.find(unit)) else None) for unit in swept.units()])
        return traffic()

    assert swept.run("spreading=7,8,power=2", run).restored
    assert seen == [[["spreading", "power"]] * 2] * 2
    assert [swept.store.find(unit) for unit in swept.units()] == [None, None]


def test_work_stays_unfinished_if_a_module_does_not_take_its_settings_back() -> None:
    swept = Swept()

    def run() -> TrafficResult:
        swept.modules[1].set = lambda name, value: None  # type: ignore[method-assign,assignment]
        return traffic()

    made = swept.run("power=2", run)
    assert not made.restored and made.verdict is Verdict.FAILED and made.failure and made.failure.step == "put back"
    found = [swept.store.find(unit) for unit in swept.units()]
    assert found[0] is None and found[1] is not None and swept.radios()[0] == RADIO


def test_a_setting_that_was_acknowledged_and_not_changed_ends_the_sweep() -> None:
    swept = Swept()
    usual = swept.modules[0].set

    def lazy(name: str, value: object) -> object:
        return usual(name, value) if value == 14 else None

    swept.modules[0].set = lazy  # type: ignore[method-assign,assignment]
    made = swept.run("power=2,3", lambda: pytest.fail("no packet is sent at a point that was not read back"))
    assert made.failure and made.failure.what == "power was written as 2 dBm and reads back as 14 dBm"
    assert made.verdict is Verdict.FAILED and not made.points and made.restored


def test_the_share_lost_is_of_both_directions() -> None:
    assert [point.lost for point in Swept().run("power=2", lambda: traffic(there=1, back=4)).points] == [25.0]


@pytest.mark.parametrize("fault", [KeyboardInterrupt(), ModuleFault("ERROR")])
def test_whatever_ends_a_sweep_the_settings_are_put_back(fault: BaseException) -> None:
    swept = Swept()

    def run() -> TrafficResult:
        assert swept.radios() == [(868100000, 9, 4, 2)] * 2
        for module in swept.modules:
            module.session.stopping = lambda: True
        raise fault

    made = swept.run("power=2,3", run)
    assert made.restored and not made.points and swept.radios() == [RADIO, RADIO]
    assert made.verdict is (Verdict.STOPPED if isinstance(fault, KeyboardInterrupt) else Verdict.FAILED)


def test_what_a_sweep_changes_beside_is_told() -> None:
    swept = Swept()
    standin = swept.benches[0].standin
    take = standin.take  # type: ignore[attr-defined]

    def also(word: str, text: str) -> None:
        take(word, text)
        if word == "radio":
            standin.memory["sync"] = "56"

    standin.take = also  # type: ignore[attr-defined]
    result = swept.run("spreading=9,7")
    assert result.failure and result.failure.what.startswith("not as before: sync was ") and not result.restored
    # Both modules have their swept settings again.
    assert swept.radios() == [RADIO, RADIO]
