"""A sheet's test that sends packets between two units: once, or at each point of a sweep.

The rule: what was measured is compared with the limits of the test, at each point; a round trip that was not made is below no
limit.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

import msgspec

from wexicon.core.durations import seconds
from wexicon.core.formats.sheet_tests import SheetTest, TrafficTable
from wexicon.work.function.endpoints import CommandEndpoint, DataEndpoint, Endpoint
from wexicon.work.function.sweeps import sweep
from wexicon.work.function.traffic import TrafficOrder, TrafficTest, prepare
from wexicon.work.provisioning.unfinished import Store
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.failure import Failure
from wexicon.work.results.measurement import Measurement
from wexicon.work.results.sweep import SweepPoint
from wexicon.work.results.traffic import TrafficResult
from wexicon.work.results.verdicts import Verdict


def order_of(table: TrafficTable) -> TrafficOrder:
    """The packets of a test."""
    seed = int.from_bytes(os.urandom(4), "big")
    return TrafficOrder(table.count, size=table.size, within=seconds(table.within), seed=seed)


def run_traffic(
    ends: Sequence[Endpoint],
    test: SheetTest,
    order: TrafficOrder,
    names: Sequence[str],
    stopping: Callable[[], bool],
) -> DialogueResult:
    """Runs it between ends that are ready. Raises Fault."""
    table = test.traffic
    assert table
    sent: list[TrafficResult] = []

    def run() -> TrafficResult:
        prepare(ends, order.size)
        sent.append(TrafficTest(ends, order, names).run(stopping))
        return sent[-1]

    result = DialogueResult(dialogue="", verdict=Verdict.PASSED)
    if test.points:
        swept = [end for end in ends if isinstance(end, CommandEndpoint | DataEndpoint)]
        points: list[SweepPoint] = []
        # The units are unfinished work already, until their settings were written back and read.
        made = sweep(swept, test.points, run, Store(), points.append)
        result.seconds, result.exchanges = made.seconds, made.exchanges
        for point, one in zip(points, sent, strict=False):
            at = ", ".join(f"{name} {value}" for name, value in point.settings.items())
            result.measurements += [_at(measured, at) for measured in _judged(one, table) if _of_point(measured)]
        failure, verdict = made.failure, made.verdict
    else:
        one = run()
        result.seconds, result.exchanges = one.seconds, one.exchanges
        result.measurements = _judged(one, table)
        failure, verdict = (None, Verdict.PASSED) if one.complete else (one.failure, one.verdict)
    bad = next((one for one in result.measurements if one.verdict is not Verdict.PASSED), None)
    if failure:
        result.verdict, result.failure = verdict, failure
    elif bad:
        what = f"{bad.name} is {bad.value:g} {bad.unit}".rstrip() + f", and {bad.limits} is allowed"
        cause = next((one.failure.next for one in sent if one.failure), "")
        result.verdict, result.failure = Verdict.FAILED, Failure("traffic", what, next=cause)
    elif table.round_trip and any(one.median is None for one in sent):
        result.verdict, result.failure = Verdict.FAILED, Failure("traffic", "no packet was answered")
    return result


def _of_point(measured: Measurement) -> bool:
    """Whether a measurement is shown for a point: duplicates only if there are some."""
    return not measured.name.startswith("snr") and (measured.name != "duplicates" or measured.value > 0)


def _at(measured: Measurement, point: str) -> Measurement:
    """A measurement of one point."""
    return msgspec.structs.replace(measured, name=f"{measured.name} at {point}")


def _judged(sent: TrafficResult, table: TrafficTable) -> list[Measurement]:
    """What was measured, against the limits of the test."""
    out = sum(way.sent for way in sent.ways)
    # An answer to a packet that was lost was never sent: it is lost too.
    lost = 2 * table.count - sum(way.received for way in sent.ways) if out else 2 * table.count
    value = 100 * lost / (2 * table.count) if table.lost.unit == "%" else float(lost)
    made = [Measurement.of("lost", round(value, 3), table.lost.unit, high=table.lost.max)]
    made.append(Measurement.of("duplicates", float(sum(way.duplicates for way in sent.ways)), high=0.0))
    if sent.median is not None:
        limit = seconds(table.round_trip.max) * 1000 if table.round_trip else None
        made.append(Measurement.of("round trip", round(sent.median * 1000, 1), "ms", high=limit))
    for port, names in sent.signal.items():
        unit = {"rssi": "dBm", "snr": "dB"}
        made += [
            Measurement.of(f"{name} at {port}", middle, unit.get(name, "")) for name, (_, middle, _) in names.items()
        ]
    return made
