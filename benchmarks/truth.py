"""Is a "conforms" ever false? Every stand-in under every adversity, then again on a clean wire; judged by its flash.

    python -m benchmarks.truth [RUNS] [SEED]

The rule: what a module keeps is looked up in its flash after a power cycle, by a table that was made from no lexicon. A
verdict of `conforms` that the flash denies is the one thing that must never happen. Where no start can be made without a
person's report, the verdict says that it rests on a reading alone; what such a module did not keep is counted apart.
Everything is drawn from the seed, so a run that fails can be run again: `python -m benchmarks.truth 1 SEED FAMILY ADVERSITY`.
"""

from __future__ import annotations

import random
import sys
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from typing import Any

from benchmarks.flash import wrong_in_flash
from benchmarks.wanted import TRUST, WANTED
from wexicon.core.agenda import Agenda
from wexicon.core.formats.lexicon import Lexicon
from wexicon.links.virtual import VirtualLink
from wexicon.rig.standin import StandIn
from wexicon.rig.standins import family
from wexicon.rig.uart import WireFaults
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import Order, provision
from wexicon.work.provisioning.unfinished import Store
from wexicon.work.results.unit import UnitResult
from wexicon.work.results.verdicts import Evidence, Prove, Verdict
from wexicon.work.simulation.virtual_bench import BenchOperator, VirtualBench

OTHER = {
    "brisca-w1": {"address": "02B1C0447AFF"},
    "cordal-g2": {"imei": "001017000000999"},
    "cordal-n7": {"imei": "001017000000998"},
    "fennick-z4": {"serial": 0x5E04AAAA},
    "lindle-l9": {"serial": "L9-00999"},
    "lindle-r2": {"serial": "0999"},
    "orvane-b3": {"address": "02C44E10FFFF"},
    "polmar-p1": {"serial": "P1009999"},
    "tamsel-k5": {"address": "02A15C00FFFF"},
    "tamsel-k6": {"address": "02A15C00EEEE"},
    "wherry-c1": {"serial": "W-00998"},
    "wherry-c3": {"serial": "W-00999"},
}


# What the stand-ins call their rates: a wrong one is no rate at all.
RATES = ("rate", "uart", "UB", "R", "speed", "b")
# How many places there are at which a run can be broken off: each is tried.
EVERY = {"stopped": 45, "killed": 45, "power cut": 420}


class Killed(BaseException):
    """The tool is gone: nothing more is done, nothing is closed."""


class Scene:
    """One stand-in as it stands on a bench, and what goes wrong with it. `chance` draws everything but the
    place at which a run is broken off, which is the `number`."""

    def __init__(self, name: str, chance: random.Random, number: int) -> None:
        self.name, self.chance, self.number = name, chance, number
        self.agenda = Agenda()
        self.standin: StandIn = family(name)(self.agenda, name)
        self.standin.power(True)
        self.members = [self.standin]
        self.store = Store()
        self.person = chance.random() < 0.4
        self.link: VirtualLink | None = None

    def operator(self) -> BenchOperator:
        made = BenchOperator(self.standin)
        made.switches_power = not self.person
        return made


Adversity = Callable[[Scene, random.Random], "dict[str, Any] | None"]


def clean(scene: Scene, chance: random.Random) -> None:
    """Nothing goes wrong."""


def stopped(scene: Scene, chance: random.Random) -> dict[str, Any]:
    """Ctrl-C at an exchange."""
    left = 1 + scene.number % EVERY["stopped"]

    def stopping() -> bool:
        nonlocal left
        left -= 1
        return left < 0

    return {"stopping": stopping}


def killed(scene: Scene, chance: random.Random) -> dict[str, Any]:
    """kill -9 at an exchange."""
    left = 1 + scene.number % EVERY["killed"]

    def stopping() -> bool:
        nonlocal left
        left -= 1
        if left < 0:
            raise Killed
        return False

    return {"stopping": stopping}


def power_cut(scene: Scene, chance: random.Random) -> None:
    """The module's power fails after a byte from the host."""
    scene.standin.uart.faults = WireFaults(cut_after=1 + scene.number % EVERY["power cut"])


def noise(scene: Scene, chance: random.Random) -> None:
    """One byte in a thousand, or in a hundred, is another one."""
    scene.standin.uart.faults = WireFaults(noise=chance.choice((0.001, 0.001, 0.01)), seed=chance.randrange(1 << 30))
    scene.standin.uart._chance = random.Random(chance.randrange(1 << 30))


def loss(scene: Scene, chance: random.Random) -> None:
    """One byte in a thousand, or in a hundred, is lost."""
    scene.standin.uart.faults = WireFaults(lost=chance.choice((0.001, 0.001, 0.01)))
    scene.standin.uart._chance = random.Random(chance.randrange(1 << 30))


def late(scene: Scene, chance: random.Random) -> None:
    """Every answer comes late."""
    scene.standin.uart.faults = WireFaults(late=chance.choice((0.02, 0.06, 0.1, 0.2, 0.35, 0.6, 1.1, 2.3)))


def late_now_and_then(scene: Scene, chance: random.Random) -> None:
    """Some answers come late."""
    say = scene.standin.say

    def slow(text: str | bytes, delay: float | None = None) -> None:
        extra = chance.choice((0.1, 0.4, 0.7, 1.3, 2.5)) if chance.random() < 0.08 else 0.0
        say(text, (scene.standin.answers_in if delay is None else delay) + extra)

    scene.standin.say = slow  # type: ignore[method-assign]


def doubled(scene: Scene, chance: random.Random) -> None:
    """Answers come twice, now and then or always."""
    often = chance.choice((0.05, 0.3, 1.0))
    sent = scene.standin._sent
    scene.standin._sent = lambda data: sent(data * 2 if chance.random() < often else data)  # type: ignore[method-assign]


def behind(scene: Scene, chance: random.Random) -> None:
    """From some answer on each is held back until the next is due."""
    first = chance.randrange(1, 40)
    held: list[bytes] = []
    count = 0
    sent = scene.standin._sent

    def one_behind(data: bytes) -> None:
        nonlocal count
        count += 1
        if count < first or count > first + 25:
            sent(data)
            return
        held.append(data)
        if len(held) > 1:
            sent(held.pop(0))

    scene.standin._sent = one_behind  # type: ignore[method-assign]


def stray(scene: Scene, chance: random.Random) -> None:
    """A success code that answers nothing, now and then."""
    ok = (find_lexicon(scene.name).speech.ok or ("OK",))[0].replace("{what:word}", "X").encode() + b"\r\n"
    sent = scene.standin._sent

    def more(data: bytes) -> None:
        sent(data)
        if chance.random() < 0.1:
            scene.agenda.after(chance.choice((0.0, 0.01, 0.05, 0.3)), lambda: sent(ok))

    scene.standin._sent = more  # type: ignore[method-assign]


def keeps_nothing(scene: Scene, chance: random.Random) -> None:
    """Acknowledges, and keeps nothing, all but one value, or keeps it two seconds late."""
    standin, keep = scene.standin, scene.standin.keep
    how = chance.choice(("nothing", "all but one", "late"))
    if how == "nothing":
        standin.keep = lambda: None  # type: ignore[method-assign]
    elif how == "late":
        standin.keep = lambda: scene.agenda.after(2.0, keep)  # type: ignore[method-assign]
    else:
        left_out = chance.choice(sorted(standin.factory))

        def but_one() -> None:
            before = standin.flash[left_out]
            keep()
            standin.flash[left_out] = before

        standin.keep = but_one  # type: ignore[method-assign]


def changes_values(scene: Scene, chance: random.Random) -> None:
    """Clamps or changes what it is reported, and acknowledges it anyway."""
    standin = scene.standin
    key = chance.choice(sorted(standin.factory))
    heard = standin.heard

    def spoil() -> None:
        for kept in (standin.memory, standin.flash):
            value = kept.get(key)
            if key in RATES:
                continue
            if isinstance(value, str) and value != standin.factory[key]:
                kept[key] = value.lower()
            elif isinstance(value, int) and value > 1 and value != standin.factory[key]:
                kept[key] = value // 2 * 2

    def hear(data: bytes, began: float) -> None:
        heard(data, began)
        scene.agenda.after(0.001, spoil)

    standin.heard = hear  # type: ignore[method-assign]


def stale(scene: Scene, chance: random.Random) -> None:
    """Reads from an old copy for a while after each write: what was answered to a question is answered again."""
    standin = scene.standin
    answers: dict[bytes, tuple[float, bytes]] = {}
    asked = b""
    heard, sent = standin.heard, standin._sent

    def hear(data: bytes, began: float) -> None:
        nonlocal asked
        asked = data if b"?" in data or b"ASK" in data else b""
        heard(data, began)

    def answer(data: bytes) -> None:
        at, old = answers.get(asked, (0.0, b""))
        if asked and old and scene.agenda.now - at < 1.5:
            sent(old)
            return
        if asked:
            answers[asked] = (scene.agenda.now, data)
        sent(data)

    standin.heard, standin._sent = hear, answer  # type: ignore[method-assign]


def moves_late(scene: Scene, chance: random.Random) -> None:
    """Restarts, and moves to another rate, some time after it has said so."""
    then, extra = scene.standin.then, chance.choice((0.05, 0.15, 0.3, 0.5))

    def later(action: Callable[[], object], delay: float | None = None) -> None:
        then(lambda: scene.standin.after(extra, action), delay)

    scene.standin.then = later  # type: ignore[method-assign]


def never_restarts(scene: Scene, chance: random.Random) -> None:
    """Acknowledges the restart, and goes on."""
    scene.standin.restart = lambda: None  # type: ignore[method-assign]


def swapped(scene: Scene, chance: random.Random) -> dict[str, Any]:
    """Another module of the family is on the port from some exchange on."""
    other = family(scene.name)(scene.agenda, "other", None, OTHER[scene.name])
    other.power(True)
    scene.members.append(other)
    left = chance.randrange(1, 45)

    def swap() -> bool:
        nonlocal left
        left -= 1
        if left == 0 and scene.link:
            other.uart.to_host, scene.standin.uart.to_host = scene.link.take, lambda data: None
            other.uart.host = scene.link.tuning
            scene.link._wire = other.uart
            for pin, state in scene.standin.pins.items():
                other.set_pin(pin, state)
            scene.standin = other
            if getattr(other, "mode", None) == "data" and hasattr(other, "listen"):
                other.operate("attention")
        return False

    return {"stopping": swap, "swapping": True}


def in_memory_only(scene: Scene, chance: random.Random) -> None:
    """The values were already written by someone else, but never saved."""
    donor = VirtualBench.of(scene.name, find_lexicon(scene.name))
    _run(donor.lexicon, donor, order_for(scene.name, chance))  # type: ignore[arg-type]
    kept = sorted(scene.standin.factory)
    for key in kept if chance.random() < 0.5 else chance.sample(kept, len(kept) // 2):
        if key not in (*RATES, "port", "block"):
            scene.standin.memory[key] = donor.standin.flash[key]


ADVERSITIES: dict[str, Adversity] = {
    one.__name__.replace("_", " "): one
    for one in (
        clean,
        stopped,
        killed,
        power_cut,
        noise,
        loss,
        late,
        late_now_and_then,
        doubled,
        behind,
        stray,
        keeps_nothing,
        changes_values,
        stale,
        moves_late,
        never_restarts,
        swapped,
        in_memory_only,
    )
}


def order_for(name: str, chance: random.Random) -> Order:
    lexicon = find_lexicon_once(name)
    plain = {key: lexicon.settings[key].kind.check(value) for key, value in WANTED[name].items()}
    return Order(plain, Prove.AUTO, TRUST.get(name, ()))


_LEXICONS: dict[str, Lexicon] = {}


def find_lexicon_once(name: str) -> Lexicon:
    if name not in _LEXICONS:
        _LEXICONS[name] = find_lexicon(name)
    return _LEXICONS[name]


def _run(lexicon: Lexicon, bench: VirtualBench, order: Order, **keys: Any) -> UnitResult:
    return provision(Module(bench.session(), lexicon, bench.operator, patience=8), order, **keys)


def once(name: str, adversity: str, seed: int) -> tuple[str, str, str, str]:
    """One scene: a run under adversity, then one on a clean wire. Gives both verdicts, what was false, and
    what was right as it stood, by a reading alone, and is gone after a power cycle."""
    chance = random.Random(f"{name} {adversity} {seed}")
    scene = Scene(name, chance, seed)
    lexicon, order = find_lexicon_once(name), order_for(name, chance)
    extra = ADVERSITIES[adversity](scene, chance) or {}
    verdicts: list[str] = []
    false = alone = ""
    for turn in range(2):
        bench = VirtualBench(scene.standin, scene.agenda, lexicon)
        bench.operator = scene.operator()
        stopping = extra.get("stopping", lambda: False) if turn == 0 else (lambda: False)
        session = bench.session(None, stopping)
        scene.link = session.link  # type: ignore[assignment]
        try:
            result = provision(Module(session, lexicon, bench.operator, patience=8), order, store=scene.store)
            verdicts.append(str(result.verdict))
            if result.verdict is Verdict.CONFORMS:
                denied = _denied(scene, result, lexicon)
                if denied and result.evidence is Evidence.READING:
                    alone = denied
                else:
                    false = false or denied
        except Killed:
            verdicts.append("killed")
        if turn == 0:
            _mend(scene)
    return verdicts[0], verdicts[1], false, alone


def _denied(scene: Scene, result: UnitResult, lexicon: Lexicon) -> str:
    """What the flash of the module that was named denies after a power cycle."""
    unit = lexicon.unit
    named = scene.standin
    for member in scene.members:
        own = {str(value).upper() for value in member.own.values()} | {
            f"{v:08X}" for v in member.own.values() if isinstance(v, int)
        }
        told = result.identity.get(unit, "").replace(".", "").upper()
        if any(value and (value in told or told == value) for value in own if len(value) > 3):
            named = member
            break
    scene.agenda.run_until(scene.agenda.now + 0.001)
    wrong = wrong_in_flash(named, WANTED[scene.name])
    return f"{scene.name}: {result.evidence}: {', '.join(wrong)}" if wrong else ""


def _mend(scene: Scene) -> None:
    """Ends the adversity. Flash is kept; in half of the cases power stays on too."""
    for member in scene.members:
        for name in ("say", "_sent", "keep", "then", "heard", "restart"):
            member.__dict__.pop(name, None)
        member.uart.faults = WireFaults()
    scene.standin.power(True)
    if scene.chance.random() < 0.5:
        scene.standin.power(False)
        scene.standin.power(True)
    scene.agenda.run_until(scene.agenda.now + scene.chance.choice((0.0, 0.3, 3.0)))


def _share(given: tuple[str, str, int, int]) -> tuple[str, str, Counter[str], list[str]]:
    name, adversity, first, count = given
    counts: Counter[str] = Counter()
    false: list[str] = []
    for seed in range(first, first + count):
        one, two, denied, alone = once(name, adversity, seed)
        counts["alone"] += bool(alone)
        counts["runs"] += 2
        counts["conforms"] += one == "conforms"
        counts["again"] += two == "conforms"
        if two not in ("conforms", "stopped") and "--why" in sys.argv:
            print(name, adversity, seed, one, two)
        if denied:
            false.append(f"{denied} ({name}, {adversity}, seed {seed})")
    return name, adversity, counts, false


def campaign(
    runs: int, seed: int, names: list[str], adversities: list[str]
) -> tuple[dict[str, Counter[str]], list[str]]:
    """Runs `runs` cases, spread evenly over the adversities. Returns counts by adversity, and the false verdicts."""
    each = max(1, round(runs / 2 / len(names) / len(adversities)))
    work = [
        (name, adversity, seed, max(each, EVERY.get(adversity, 0) if runs >= 5000 else 0))
        for adversity in adversities
        for name in names
    ]
    totals: dict[str, Counter[str]] = {adversity: Counter() for adversity in adversities}
    false: list[str] = []
    with ProcessPoolExecutor(2) as pool:
        for _, adversity, counts, denied in pool.map(_share, work):
            totals[adversity] += counts
            false += denied
    return totals, false


def main() -> int:
    words = sys.argv[1:]
    runs, seed = int(words[0]) if words else 20_000, int(words[1]) if words[1:] else 1
    began = time.perf_counter()
    totals, false = campaign(
        runs, seed, [words[2]] if words[2:] else list(WANTED), [words[3]] if words[3:] else list(ADVERSITIES)
    )
    print(
        f"| {'adversity':<18} | runs | conforms at once | conforms when run again | by a reading alone, and not kept | false |"
    )
    print("|---|---|---|---|---|---|")
    for adversity, counts in totals.items():
        wrong = sum(f", {adversity}," in one for one in false)
        half = counts["runs"] // 2
        once_, again, alone = (counts[key] for key in ("conforms", "again", "alone"))
        row = (f"{adversity:<18}", counts["runs"], f"{once_} of {half}", f"{again} of {half}", alone, wrong)
        print(f"| {' | '.join(map(str, row))} |")
    print(f"{sum(c['runs'] for c in totals.values())} runs, {len(false)} false; {time.perf_counter() - began:.0f} s")
    for one in false[:40]:
        print("  false:", one)
    return 1 if false else 0


if __name__ == "__main__":
    sys.exit(main())
