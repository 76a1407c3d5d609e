"""Is anything that a result claims ever false? Every stand-in under one, two or three adversities, then again on a clean wire.

    python -m benchmarks.truth [RUNS] [SEED]
    python -m benchmarks.truth 1 SEED FAMILY "ADVERSITY + ADVERSITY"

The rule: a verdict is judged by the stand-in's flash after a power cycle, by a table that was made from no lexicon; evidence
and sentences by what the stand-in did. A verdict of `conforms` that the flash denies must not happen, but for the classes in
`CLASSES`, which no reading after one start can show: these are counted apart. Everything is drawn from the seed.
"""

from __future__ import annotations

import copy
import random
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from typing import Any

import msgspec

from benchmarks.adversities import ADVERSITIES, EVERY, Killed, Scene, lexicon_of, order_for
from benchmarks.flash import TRUTH
from benchmarks.virtual_bench import VirtualBench
from benchmarks.wanted import TRUST, WANTED
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.session import Session
from wexicon.core.results.result import Evidence, Verdict
from wexicon.core.results.unit import UnitResult
from wexicon.rigs.standin import StandIn
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.ledger import AllRead, LedgerEntry, Written
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

# What one reading after one start cannot show, by the adversity or the evidence that it comes with.
READING = "by a reading alone"
WARM = "over a restart that kept working memory"
BANKS = "two banks that alternate"
CLAMPED = "changed at the second start"
TOLD = "acknowledged, cannot be read"
CLASSES = (READING, WARM, BANKS, CLAMPED, TOLD)
# Runs after the first, on a clean wire, until one must have recovered the module.
MOST_RUNS = 3
# How long the module has had power when the first run begins (seconds).
SETTLED = 3.0


class Case(msgspec.Struct):
    """What came of one scene: the verdict of each run, what was false, and the class of what was denied beside."""

    verdicts: list[str] = []
    false: list[str] = []
    apart: list[str] = []
    evidence: list[str] = []


def once(name: str, adversity: str, seed: int) -> Case:
    """One scene: a run under its adversities, then runs on a clean wire until the module conforms."""
    chance = random.Random(f"{name} {adversity} {seed}")
    scene, case = Scene(name, chance, seed), Case()
    # What it sends after power-up has come.
    scene.agenda.run_until(SETTLED)
    lexicon = lexicon_of(name)
    extras: list[dict[str, Any]] = [ADVERSITIES[one](scene, chance) or {} for one in adversity.split(" + ")]
    stops: list[Callable[[], bool]] = [extra["stopping"] for extra in extras if "stopping" in extra]
    single = next((extra["single"] for extra in extras if "single" in extra), "")
    order = order_for(name, scene.prove)
    for turn in range(1 + MOST_RUNS + bool(single)):
        asked = order
        if single and turn == 1:
            asked = Order({single: order.wanted[single]}, scene.prove, order.trust)
        stopping = (lambda: sum(stop() for stop in stops) > 0) if turn == 0 else (lambda: False)
        result = _run(scene, lexicon, asked, stopping, adversity, case)
        if turn == 0:
            _mend(scene)
        elif result is not None and len(asked.wanted) == len(order.wanted) and _finished(result):
            break
        scene.agenda.run_until(scene.agenda.now + 5.0 * turn)
    else:
        case.false.append(f"no later run recovers it: {', '.join(case.verdicts)}")
    return case


def _finished(result: UnitResult) -> bool:
    """Whether nothing is wrong any more. One whose proof was asked for and cannot be had has no more to come."""
    return result.verdict in (Verdict.CONFORMS, Verdict.UNPROVED)


def _run(
    scene: Scene, lexicon: Lexicon, order: Order, stopping: Callable[[], bool], adversity: str, case: Case
) -> UnitResult | None:
    bench = VirtualBench(scene.standin, scene.agenda, lexicon)
    session = bench.session(None, stopping)
    scene.link = session.link  # type: ignore[assignment]
    before = _kept(scene)
    flash_before = [copy.deepcopy(member.flash) for member in scene.members]
    memory_before = [copy.deepcopy(member.memory) for member in scene.members]
    starts, records = len(scene.starts), dict(scene.store._kept)
    module = Module(session, lexicon, scene.operator(), patience=8, fixture=scene.fixture)
    try:
        result = provision(module, order, store=scene.store)
    except Killed:
        case.verdicts.append("killed")
        return None
    case.verdicts.append(str(result.verdict))
    case.evidence.append(str(result.evidence))
    named = _named(scene, result, lexicon)
    wanted = {key: WANTED[scene.name][key] for key in order.wanted}
    denied = _denied(scene, named, wanted)
    if result.verdict is Verdict.CONFORMS and denied:
        apart = _class_of(adversity, result, denied, scene)
        (case.apart if apart else case.false).append(apart or f"{result.evidence}: {', '.join(denied)}")
    case.false += _false_evidence(scene, named, result, module.attention.ledger.entries)
    changed = before != _kept(scene) and starts == len(scene.starts)
    case.false += _false_sentences(result, session, changed)
    if result.verdict is Verdict.CONFORMS and named in scene.members:
        flash = flash_before[scene.members.index(named)]
        own = _cells(scene.name) | scene.own_cells | _ordered_cells(named, flash, wanted)
        # What someone else left unsaved is what is read before the first write: a save stores it too.
        memory = memory_before[scene.members.index(named)]
        untold = [
            key
            for key, value in named.flash.items()
            if value not in (flash.get(key), memory.get(key)) and key not in own
        ]
        told = [line.name for line in result.settings if "side effect" in line.outcome]
        if untold and not told:
            case.false.append(f"{result.evidence}: {', '.join(untold)} changed in flash, and nothing tells of it")
    unit = lexicon.unit_of(result.identity, session.link.name)
    record = records.get(unit)
    if record and scene.store.find(unit) is None and not set(record.settings) <= set(order.wanted):
        case.false.append("unfinished work was closed by an order that does not cover it")
    return result


@cache
def _cells(name: str) -> frozenset[str]:
    """The cells of flash that the order of a family changes where nothing goes wrong."""
    bench = VirtualBench.of(name, lexicon_of(name))
    bench.agenda.run_until(SETTLED)
    before = copy.deepcopy(bench.standin.flash)
    provision(Module(bench.session(), bench.lexicon, bench.operator, patience=8), order_for(name))
    return frozenset(key for key, value in bench.standin.flash.items() if value != before.get(key))


def _ordered_cells(standin: StandIn, before: dict[str, Any], wanted: dict[str, Any]) -> set[str]:
    """The cells whose values before would deny a wanted setting."""
    truth = TRUTH[standin.family]

    def denied(key: str) -> bool:
        flash = {**standin.flash, key: before[key]}
        return any(not truth[name](flash, value) for name, value in wanted.items())

    return {key for key, value in before.items() if value != standin.flash.get(key) and denied(key)}


def _kept(scene: Scene) -> list[Any]:
    return [copy.deepcopy((member.memory, member.flash)) for member in scene.members]


def _named(scene: Scene, result: UnitResult, lexicon: Lexicon) -> StandIn:
    """The module whose identity the result has."""
    told = result.identity.get(lexicon.unit, "").replace(".", "").upper()
    for member in scene.members:
        own = {str(value).upper() for value in member.own.values()} | {
            f"{v:08X}" for v in member.own.values() if isinstance(v, int)
        }
        if any(value and (value in told or told == value) for value in own if len(value) > 3):
            return member
    return scene.standin


def _denied(scene: Scene, standin: StandIn, wanted: dict[str, Any]) -> list[str]:
    """The settings that its flash denies after two more power cycles, which are only reckoned."""
    truth = TRUTH[standin.family]
    flash = copy.deepcopy(standin.flash)
    wrong = [name for name, value in wanted.items() if not truth[name](flash, value)]
    for _ in range(2):
        scene.peek(flash)
        wrong += [name for name, value in wanted.items() if not truth[name](flash, value) and name not in wrong]
    return wrong


def _class_of(adversity: str, result: UnitResult, denied: list[str], scene: Scene) -> str:
    """The class of a denial that may happen; empty if it may not."""
    if result.evidence is Evidence.READING:
        return READING
    if "two banks" in adversity:
        return BANKS
    if "clamps at a start" in adversity:
        return CLAMPED
    if set(denied) <= set(TRUST.get(scene.name, ())):
        return TOLD
    return WARM if result.evidence is Evidence.WARM else ""


def _false_evidence(scene: Scene, named: StandIn, result: UnitResult, entries: list[LedgerEntry]) -> list[str]:
    """Evidence that what the module did does not bear out."""
    read = max((entry.at for entry in entries if isinstance(entry, AllRead)), default=0.0)
    written = max((entry.at for entry in entries if isinstance(entry, Written)), default=0.0)
    seen = {how for at, standin, how in scene.starts if standin is named and written <= at <= read}
    needed: dict[Evidence, set[str]] = {
        Evidence.POWER: {"power"},
        Evidence.RESTART: {"power", "restart"},
        Evidence.WARM: {"power", "restart", "warm"},
    }
    if result.evidence in needed and not seen & needed[result.evidence]:
        return [f"evidence {result.evidence}, and there was {', '.join(sorted(seen)) or 'no start'}"]
    return []


def _false_sentences(result: UnitResult, session: Session, changed: bool) -> list[str]:
    told = " ".join([*result.remarks, *((result.failure.what, result.failure.next) if result.failure else ())])
    false = []
    if "othing was changed" in told and (changed or result.written):
        false.append("“Nothing was changed”, and something was")
    if (
        "no restart observed" in told
        and result.evidence not in (Evidence.NONE, Evidence.READING)
        and result.starts == 1
    ):
        false.append(f"“no restart observed” beside {result.evidence}")
    if result.verdict is Verdict.CONFORMS and any(
        "not understood" in line.note and line.wanted for line in result.settings
    ):
        false.append("conforms, “not understood”")
    return false


def _mend(scene: Scene) -> None:
    """Ends the adversities. Flash is kept; in half of the cases power stays on too."""
    for member in scene.members:
        for name in ("say", "_sent", "keep", "then", "heard", "restart", "lost_power", "lines_changed"):
            member.__dict__.pop(name, None)
        member.uart.__dict__.pop("from_host", None)
        member.uart.faults = WireFaults()
        member.wiring = {}
    scene.mend()
    scene.standin.power(True)
    if scene.chance.random() < 0.5:
        scene.standin.power(False)
        scene.standin.power(True)
    scene.agenda.run_until(scene.agenda.now + scene.chance.choice((0.0, 0.3, 3.0)))


# -- many of them ---------------------------------------------------------------------------------------------------------


def _share(given: tuple[str, str, int, int]) -> tuple[str, str, Counter[str], list[str]]:
    name, adversity, first, count = given
    counts: Counter[str] = Counter()
    false: list[str] = []
    for seed in range(first, first + count):
        case = once(name, adversity, seed)
        counts["runs"] += len(case.verdicts)
        counts["cases"] += 1
        counts["conforms"] += case.verdicts[0] == "conforms"
        counts["again"] += case.verdicts[-1] == "conforms"
        counts.update(case.apart)
        false += [f"{one} ({name}, {adversity}, seed {seed})" for one in case.false]
    return name, adversity, counts, false


def together(chance: random.Random, count: int) -> list[str]:
    """Two or three adversities at once, drawn by chance."""
    words = [one for one in ADVERSITIES if one != "clean"]
    return [" + ".join(chance.sample(words, chance.choice((2, 2, 3)))) for _ in range(count)]


def campaign(
    runs: int, seed: int, names: list[str], adversities: list[str]
) -> tuple[dict[str, Counter[str]], list[str]]:
    """Runs about `runs` runs: half of them under one adversity, half under several. Counts by adversity, and what was false."""
    each = max(1, round(runs / 4 / len(names) / len(adversities)))
    work = [
        (name, adversity, seed, max(each, EVERY.get(adversity, 0) if runs >= 20_000 else 0))
        for adversity in adversities
        for name in names
    ]
    if len(adversities) > 1:
        chance = random.Random(seed)
        mixed = together(chance, max(1, runs // 4 // len(names)))
        work += [(name, adversity, chance.randrange(1000), 1) for adversity in mixed for name in names]
    totals: dict[str, Counter[str]] = {adversity: Counter() for adversity in adversities}
    false: list[str] = []
    with ProcessPoolExecutor(2) as pool:
        for _, adversity, counts, denied in pool.map(_share, work, chunksize=8):
            totals.setdefault(adversity if adversity in totals else "several at once", Counter()).update(counts)
            false += denied
    return totals, false


def table(totals: Mapping[str, Counter[str]], false: Sequence[str]) -> Iterator[str]:
    """The counts as a table, a line for each adversity."""
    yield "| adversity | runs | conforms at once | in the end |" + "".join(f" {one} |" for one in CLASSES) + " false |"
    yield "|---|---|---|---|" + "---|" * (len(CLASSES) + 1)
    for adversity, counts in totals.items():
        several = adversity == "several at once"
        wrong = sum((" + " in one) if several else f", {adversity}, seed" in one for one in false)
        cells = [adversity, counts["runs"], *(f"{counts[key]} of {counts['cases']}" for key in ("conforms", "again"))]
        yield f"| {' | '.join(map(str, [*cells, *(counts[one] for one in CLASSES), wrong]))} |"


def main() -> int:
    words = sys.argv[1:]
    runs, seed = int(words[0]) if words else 20_000, int(words[1]) if words[1:] else 1
    began = time.perf_counter()
    totals, false = campaign(
        runs, seed, [words[2]] if words[2:] else list(WANTED), [words[3]] if words[3:] else list(ADVERSITIES)
    )
    print("\n".join(table(totals, false)))
    print(f"{sum(c['runs'] for c in totals.values())} runs, {len(false)} false; {time.perf_counter() - began:.0f} s")
    for one in false[:60]:
        print("  false:", one)
    return 1 if false else 0


if __name__ == "__main__":
    sys.exit(main())
