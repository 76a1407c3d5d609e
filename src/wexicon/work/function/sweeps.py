"""Sweeps: the traffic test over several settings of both modules.

The rule: settings are written and not saved, read back at each point, and put back at the end however it ends; until then they
are unfinished work.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from itertools import product

from wexicon.core.faults import CallFault, Fault, ModuleFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.text import meant
from wexicon.core.values import Value, ValueFault
from wexicon.work.function.endpoints import CommandEndpoint
from wexicon.work.module.module import Module
from wexicon.work.provisioning.unfinished import Store, Unfinished
from wexicon.work.results.sweep import SweepPoint, SweepResult
from wexicon.work.results.traffic import TrafficResult
from wexicon.work.results.verdicts import Verdict

# What is told of each point as it was measured.
Told = Callable[[SweepPoint], None]

# How many points a sweep may have.
MOST_POINTS = 500

Points = list[dict[str, Value]]


def points_of(text: str, lexicon: Lexicon) -> Points:
    """The points of a sweep such as `spreading=7..12,power=2,8,14`, in the order of its names. Raises CallFault."""
    axes: dict[str, list[Value]] = {}
    name = ""
    for part in text.split(","):
        head, equals, value = part.partition("=")
        if equals:
            name, part = head.strip(), value
            axes[name] = []
        setting = lexicon.settings.get(name)
        if setting is None:
            raise CallFault(f"{lexicon.about.family} has no setting {name or part}", hint=meant(name, lexicon.settings))
        if not setting.readable or setting.secret or setting.moves_link:
            raise CallFault(f"{name} cannot be swept: it must be readable, no secret, and not move the link")
        try:
            axes[name] += [setting.typed(one) for one in _values(part.strip())]
        except ValueFault as fault:
            raise CallFault(f"{name}: {fault.value!r} {fault.why}", hint=f"Allowed: {fault.allowed}") from None
    made = [dict(zip(axes, values, strict=True)) for values in product(*axes.values())]
    if len(made) > MOST_POINTS:
        raise CallFault(f"the sweep has {len(made)} points, more than {MOST_POINTS}")
    return made


def _values(text: str) -> Iterator[str]:
    """The values of a range such as 7..12, or one value."""
    first, dots, last = text.partition("..")
    if not dots:
        yield text
        return
    if not (first.isdecimal() and last.isdecimal() and int(first) <= int(last) <= int(first) + MOST_POINTS):
        raise CallFault(f"{text!r} is not a range such as 7..12")
    yield from map(str, range(int(first), int(last) + 1))


def sweep(
    ends: Sequence[CommandEndpoint],
    points: Points,
    run: Callable[[], TrafficResult],
    store: Store,
    measured: Told = lambda point: None,
) -> SweepResult:
    """Runs the traffic test at each point. A fault ends it; the settings are put back all the same."""
    modules = [end.module for end in ends]
    result = SweepResult(verdict=Verdict.PASSED, ports=[one.session.link.name for one in modules])
    before: list[Mapping[str, object]] = [{name: module.read(name) for name in points[0]} for module in modules]
    for module in modules:
        if unit := module.lexicon.unit_of(module.identity):
            store.open(Unfinished(unit, datetime.now(UTC), list(points[0])))
    try:
        for values in points:
            for module in modules:
                _put(module, values)
            traffic = run()
            if traffic.failure and not any(way.sent for way in traffic.ways):
                result.verdict, result.failure = traffic.verdict, traffic.failure
                break
            point = _point(modules[0], values, traffic)
            result.points.append(point)
            measured(point)
            if traffic.verdict is Verdict.STOPPED:
                result.verdict, result.failure = traffic.verdict, traffic.failure
                break
    except (Exception, KeyboardInterrupt) as fault:
        result.ended_by(fault, "sweep")
    try:
        for number, module in enumerate(modules):
            # A stop was for the sweep: what it changed is put back all the same.
            module.session.stopping = lambda: False
            _put(module, before[number])
            if unit := module.lexicon.unit_of(module.identity):
                store.close(unit)
        result.restored = True
    except (Fault, ValueFault) as fault:
        result.ended_by(fault, "put back")
    return result


def _put(module: Module, values: Mapping[str, object]) -> None:
    """Writes settings and reads them back. Raises Fault."""
    for name, value in values.items():
        module.set(name, value)
    for name, value in values.items():
        if (read := module.read(name)) != value:
            show = module.lexicon.settings[name].show
            what = f"{name} was written as {show(value)} and reads back as {show(read)}"  # type: ignore[arg-type]
            raise ModuleFault(what, where=module.session.link.name)


def _point(module: Module, values: Mapping[str, Value], traffic: TrafficResult) -> SweepPoint:
    sent = sum(way.sent for way in traffic.ways) or 1
    lost = 100 * sum(way.lost for way in traffic.ways) / sent
    shown = {name: module.lexicon.settings[name].show(value) for name, value in values.items()}
    return SweepPoint(shown, traffic.ways, round(lost, 1), traffic.median, traffic.signal)
