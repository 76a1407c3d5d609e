"""Sweeps: the traffic test over several settings of both modules.

The rule: settings are written and not saved, read back at each point, and put back at the end however it ends; until then they
are unfinished work. Whether anything else is another one then is read too.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime

from wexicon.core.faults import Fault, ModuleFault
from wexicon.core.formats.sheet_tests import Points
from wexicon.core.results.functions import SweepPoint, SweepResult, TrafficResult
from wexicon.core.results.result import Verdict
from wexicon.core.results.unit import Unfinished
from wexicon.core.values import Value, ValueFault
from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint
from wexicon.work.module.module import Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.side_effects import all_readings, differences
from wexicon.work.provisioning.unfinished import Store

# Called with each point as soon as it is measured.
Told = Callable[[SweepPoint], None]

End = CommandEndpoint | DataEndpoint


def sweep(
    ends: Sequence[End],
    points: Points,
    run: Callable[[], TrafficResult],
    store: Store,
    measured: Told = lambda point: None,
) -> SweepResult:
    """Runs the traffic test at each point. A fault ends it; the settings are put back then too. All modules are in command
    mode before and afterwards."""
    modules = [end.module for end in ends]
    result = SweepResult(verdict=Verdict.PASSED, ports=[one.session.link.name for one in modules])
    clock = modules[0].session.clock
    began = clock.now()
    earlier = [all_readings(module) for module in modules]
    before: list[Mapping[str, object]] = [{name: module.read(name) for name in points[0]} for module in modules]
    for module in modules:
        if unit := module.lexicon.unit_of(module.identity):
            store.open(Unfinished(unit, datetime.now(UTC), list(points[0])))
    try:
        for values in points:
            for end in ends:
                _put(end, values)
            for end in ends:
                end.begin_data()
            traffic = run()
            if not traffic.complete:
                # What was sent until then says nothing of this point.
                result.verdict, result.failure = traffic.verdict, traffic.failure
                if result.failure:
                    result.failure.step = f"sweep, {_shown(modules[0], values)}"
                break
            point = _point(modules[0], values, traffic)
            result.points.append(point)
            measured(point)
    except (Exception, KeyboardInterrupt) as fault:
        result.ended_by(fault, "sweep")
    try:
        for number, (end, module) in enumerate(zip(ends, modules, strict=True)):
            # A stop was for the sweep: what it changed is still put back.
            module.session.stopping = lambda: False
            _put(end, before[number])
            if unit := module.lexicon.unit_of(module.identity):
                store.close(unit)
        for number, module in enumerate(modules):
            _require_nothing_else(module, earlier[number], before[number])
        result.restored = True
    except (Fault, ValueFault) as fault:
        result.ended_by(fault, "put back")
    result.exchanges = sum(one.session.exchanges for one in modules)
    result.seconds = round(clock.now() - began, 6)
    return result


def _require_nothing_else(module: Module, earlier: Mapping[str, Reading], swept: Mapping[str, object]) -> None:
    """Fails if a setting that was not swept is another one than before. Raises ModuleFault."""
    settings = module.lexicon.settings
    differ = differences(module, earlier, swept)
    told = [one.told(name) for name, one in differ.items() if not settings[name].varies]
    if told:
        hint = (
            f"A setting that was swept also changes it. Put it right: wexicon set {module.session.link.name} NAME=VALUE"
        )
        raise ModuleFault(f"not as before: {'; '.join(told)}", where=module.session.link.name, hint=hint)


def _put(end: End, values: Mapping[str, object]) -> None:
    """Writes settings in command mode and reads them back. Raises Fault."""
    end.begin_commands()
    module = end.module
    for name, value in values.items():
        module.set(name, value)
    for name, value in values.items():
        if (read := module.read(name)) != value:
            show = module.lexicon.settings[name].show
            what = f"{name} was written as {show(value)} and reads back as {show(read)}"  # type: ignore[arg-type]
            raise ModuleFault(what, where=module.session.link.name)


def _shown(module: Module, values: Mapping[str, Value]) -> str:
    """The settings of a point as they are shown."""
    return ", ".join(f"{name} {module.lexicon.settings[name].show(value)}" for name, value in values.items())


def _point(module: Module, values: Mapping[str, Value], traffic: TrafficResult) -> SweepPoint:
    sent = sum(way.sent for way in traffic.ways) or 1
    lost = 100 * sum(way.lost for way in traffic.ways) / sent
    shown = {name: module.lexicon.settings[name].show(value) for name, value in values.items()}
    return SweepPoint(shown, traffic.ways, round(lost, 1), traffic.median, traffic.signal)
