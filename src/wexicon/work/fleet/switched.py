"""Units behind one port, of which one is chosen at a time: those done first are read again after the last of them.

The rule: a line that chooses may be damaged, and a write reach another module than was meant. So all settings of a
unit are read when it is done, and compared with a second reading after the last write behind its port.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from wexicon.core.results.result import Outcome, Verdict
from wexicon.core.results.unit import SettingResult, UnitResult
from wexicon.links.lock import split_station
from wexicon.work.module.module import Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.side_effects import differences
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import verify


def done_first(results: Iterable[UnitResult]) -> list[UnitResult]:
    """The units that were right when others behind the same port were not done yet."""
    by_port = {one.port: one for one in results if split_station(one.port)[1] is not None and one.started}
    groups: dict[str, list[UnitResult]] = {}
    for one in by_port.values():
        groups.setdefault(split_station(one.port)[0], []).append(one)
    earlier: list[UnitResult] = []
    for group in groups.values():
        *first, _ = sorted(group, key=lambda one: str(one.started))
        earlier += [one for one in first if one.verdict in (Verdict.CONFORMS, Verdict.UNPROVED)]
    return earlier


def compare(
    module: Module, order: Order, result: UnitResult, left: Mapping[str, Reading], later: Sequence[str]
) -> bool:
    """Reads a unit again after others behind its port (`later`); whether it is another than it was `left`, which its result
    then tells."""
    again = verify(module, order)
    if again.verdict in (Verdict.CONFORMS, Verdict.UNPROVED):
        for name, one in differences(module, left, order.wanted).items():
            setting = module.lexicon.settings[name]
            # The rate of the port is that of all behind it.
            if not setting.varies and not setting.moves_link:
                allowed = name in order.side_effects and not one.why
                outcome = Outcome.ALLOWED if allowed else Outcome.SIDE_EFFECT
                note = one.why or ("the sheet allows it" if allowed else "not ordered")
                again.settings.append(SettingResult(name, outcome, one.before, after=one.now, note=note))
        if any(one.outcome is Outcome.SIDE_EFFECT for one in again.settings):
            again.verdict = Verdict.UNPROVED
    wrong = [one.name for one in again.settings if one.outcome in (Outcome.DIFFERS, Outcome.SIDE_EFFECT)]
    if not wrong and again.failure is None:
        return False
    what = f"{', '.join(wrong)} changed" if wrong else "it could not be read again"
    result.remarks.append(f"{what} while others behind the same port were worked on: {', '.join(later)}")
    result.read_again(again, order.prove)
    return True
