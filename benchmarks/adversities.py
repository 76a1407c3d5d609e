"""What can go wrong on a bench, for the campaign of `benchmarks.truth`: with a module, its wire, the operator or a fixture;
stops, kills, exchanges of modules and power cuts.

The rule: each adversity changes one thing about a scene and keeps away from all else, so that several can come together. What
the module really did is kept by the scene: its starts, and whether each loaded its flash.
"""

from __future__ import annotations

import copy
import random
from collections.abc import Callable
from functools import cache
from typing import Any

from msgspec.structs import replace

from benchmarks.virtual_bench import BenchOperator, VirtualBench
from benchmarks.wanted import TRUST, WANTED
from wexicon.core.agenda import Agenda
from wexicon.core.formats.fixture import Fixture, Pin
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.results.result import Prove
from wexicon.links.virtual import VirtualLink
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins import family
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision, read_out
from wexicon.work.provisioning.unfinished import Store

OTHER = {
    "brisca-w1": {"address": "02B1C0447AFF"},
    "cordal-g2": {"imei": "001017000000999"},
    "cordal-n7": {"imei": "001017000000998"},
    "fennick-z4": {"serial": 0x5E04AAAA},
    "lindle-l9": {"serial": "L9-00999"},
    "lindle-r2": {"serial": "0999"},
    "orvane-b3": {"address": "02C44E10FFFF"},
    "osier-w2": {"address": "02A15CFFFE00FFFF"},
    "polmar-p1": {"serial": "P1009999"},
    "saltern-m4": {"serial": 40999},
    "marram-c2": {"serial": "MC2-0999"},
    "plover-j1": {"serial": "PJ1-00999"},
    "teasel-d3": {"serial": "TD3-0999"},
    "samphire-f2": {"serial": 0x00A31999},
    "skerry-g5": {"serial": "SG5-00999"},
    "tamsel-k5": {"address": "02A15C00FFFF"},
    "tamsel-k6": {"address": "02A15C00EEEE"},
    "wherry-c1": {"serial": "W-00998"},
    "wherry-c3": {"serial": "W-00999"},
}


# What the stand-ins call their rates: a wrong one is no rate at all.
RATES = ("rate", "uart", "UB", "R", "speed", "b", "RATE")
# What another value of would leave no module to speak to, or no way to compare.
ROOTS = (*RATES, "frame", "port", "block", "NT", "station", "number")
# How many places there are at which a run can be broken off: each is tried.
EVERY = {"stopped": 45, "killed": 45, "power cut": 420, "brown-out": 420, "swapped": 45, "set after a kill": 45}
# Families whose power, and key, a fixture can work.
FIXTURE = {"power": Pin("rts", inverted=True)}
KEYED = {"tamsel-k5": "service"}


class Killed(BaseException):
    """The tool is gone: nothing more is done, nothing is closed."""


class TryingOperator(BenchOperator):
    """A person at the bench: `slow`, who does `nothing`, or does it `twice`."""

    def __init__(self, standin: StandIn, manner: str) -> None:
        super().__init__(standin)
        self.switches_power = manner == "rig"
        self.manner = manner

    def ask(self, act: str, text: str) -> None:
        self.asked.append(text)
        if self.manner == "nothing":
            return
        standin, agenda = self.standin, self.standin.agenda
        if self.manner == "slow":
            agenda.after(3.0, lambda: standin.operate(act))
            return
        standin.operate(act)
        if self.manner == "twice":
            agenda.after(2.5, lambda: standin.operate(act))


class Scene:
    """One stand-in as it stands on a bench, and what goes wrong with it. `chance` draws everything but the place at which a run
    is broken off, which is the `number`. `starts` are the times at which the module started, and how: `power`, `restart`, or
    `warm`, which keeps the working memory."""

    def __init__(self, name: str, chance: random.Random, number: int, standin: StandIn | None = None) -> None:
        self.name, self.chance, self.number = name, chance, number
        self.agenda = standin.agenda if standin else Agenda()
        self.standin: StandIn = standin or family(name)(self.agenda, name)
        self.members: list[StandIn] = []
        self.starts: list[tuple[float, StandIn, str]] = []
        # What a start does to the flash, before it is loaded.
        self.at_start: Callable[[dict[str, Any]], None] = lambda flash: None
        # The same for a copy, which changes nothing else.
        self.peek: Callable[[dict[str, Any]], None] = lambda flash: None
        self.warm = False
        # The cells that the device changes by itself.
        self.own_cells: frozenset[str] = frozenset()
        self.join(self.standin)
        if standin is None:
            self.standin.power(True)
        self.store = Store()
        self.manner = "person" if chance.random() < 0.4 else "rig"
        self.fixture: Fixture | None = None
        self.prove = chance.choice((Prove.AUTO, Prove.AUTO, Prove.AUTO, Prove.POWER, Prove.RESTART))
        self.link: VirtualLink | None = None

    def join(self, standin: StandIn) -> None:
        """Keeps account of a module's starts."""
        self.members.append(standin)
        start, power = standin.start, standin.power
        by_power = False

        def counted() -> None:
            warm = self.warm and not by_power
            self.starts.append((self.agenda.now, standin, "warm" if warm else "power" if by_power else "restart"))
            self.at_start(standin.flash)
            memory = copy.deepcopy(standin.memory)
            start()
            if warm:
                standin.memory.update(
                    {key: value for key, value in memory.items() if key not in (*RATES, "port", "block")}
                )

        def switched(on: bool) -> None:
            nonlocal by_power
            by_power = True
            power(on)
            by_power = False

        standin.start, standin.power = counted, switched  # type: ignore[method-assign]

    def mend(self) -> None:
        """Ends what is wrong with operator, fixture and starts."""
        self.warm, self.fixture = False, None
        self.manner = "person" if self.manner in ("slow", "nothing", "twice") else self.manner
        self.at_start = self.peek = lambda flash: None

    def operator(self) -> Operator:
        return NoOperator() if self.fixture else TryingOperator(self.standin, self.manner)

    def faults(self, **changed: Any) -> None:
        """Changes what is wrong with the wire."""
        uart = self.standin.uart
        uart.faults = replace(uart.faults, **changed)
        uart._chance = random.Random(self.chance.randrange(1 << 30))


Adversity = Callable[[Scene, random.Random], "dict[str, Any] | None"]


@cache
def lexicon_of(name: str) -> Lexicon:
    """The lexicon of a family, read once."""
    return find_lexicon(name)


def order_for(name: str, prove: Prove = Prove.AUTO) -> Order:
    """All the settings that the campaign wants of a family."""
    lexicon = lexicon_of(name)
    plain = {key: lexicon.settings[key].kind.check(value) for key, value in WANTED[name].items()}
    return Order(plain, prove, TRUST.get(name, ()))


# -- who stops, kills, cuts and swaps -------------------------------------------------------------------------------------


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
    scene.faults(cut_after=1 + scene.number % EVERY["power cut"])


def noise(scene: Scene, chance: random.Random) -> None:
    """One byte in a thousand, or in a hundred, is another one."""
    scene.faults(noise=chance.choice((0.001, 0.001, 0.01)))


def loss(scene: Scene, chance: random.Random) -> None:
    """One byte in a thousand, or in a hundred, is lost."""
    scene.faults(lost=chance.choice((0.001, 0.001, 0.01)))


def late(scene: Scene, chance: random.Random) -> None:
    """Every answer comes late."""
    scene.faults(late=chance.choice((0.02, 0.06, 0.1, 0.2, 0.35, 0.6, 1.1, 2.3)))


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
    ok = (lexicon_of(scene.name).speech.ok or ("OK",))[0].replace("{what:word}", "X").encode() + b"\r\n"
    sent = scene.standin._sent

    def more(data: bytes) -> None:
        sent(data)
        if chance.random() < 0.1:
            scene.agenda.after(chance.choice((0.0, 0.01, 0.05, 0.3)), lambda: sent(ok))

    scene.standin._sent = more  # type: ignore[method-assign]


def keeps_nothing(scene: Scene, chance: random.Random) -> None:
    """Acknowledges, and keeps nothing, all but one value, or keeps it seconds late."""
    standin, keep = scene.standin, scene.standin.keep
    how = chance.choice(("nothing", "all but one", "two seconds late", "three seconds late"))
    if how == "nothing":
        standin.keep = lambda: None  # type: ignore[method-assign]
    elif how.endswith("late"):
        delay = 2.0 if how.startswith("two") else 3.0
        standin.keep = lambda: scene.agenda.after(delay, keep)  # type: ignore[method-assign]
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
    scene.own_cells |= {key}
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
    scene.join(other)
    other.power(True)
    left = 1 + scene.number % EVERY["swapped"]

    def swap() -> bool:
        nonlocal left
        left -= 1
        if left == 0 and scene.link:
            other.uart.to_host, scene.standin.uart.to_host = scene.link.take, lambda data: None
            other.uart.host = scene.link.tuning
            scene.link._wire = other.uart
            other.wiring = scene.standin.wiring
            for pin, state in scene.standin.pins.items():
                other.set_pin(pin, state)
            scene.standin = other
            if getattr(other, "mode", None) == "data" and hasattr(other, "listen"):
                other.operate("attention")
        return False

    return {"stopping": swap, "swapping": True}


def in_memory_only(scene: Scene, chance: random.Random) -> None:
    """The values were already written by someone else, but never saved."""
    lexicon = lexicon_of(scene.name)
    donor = VirtualBench.of(scene.name, lexicon)
    provision(Module(donor.session(), lexicon, donor.operator, patience=8), order_for(scene.name))
    kept = sorted(scene.standin.factory)
    for key in kept if chance.random() < 0.5 else chance.sample(kept, len(kept) // 2):
        if key not in (*RATES, "port", "block"):
            scene.standin.memory[key] = donor.standin.flash[key]


# -- modules, operators and fixtures beyond those of a rig --------------------------------------------------------------------


def brown_out(scene: Scene, chance: random.Random) -> None:
    """The supply dips after a byte from the host: the module starts again at once."""
    scene.faults(cut_after=1 + scene.number % EVERY["brown-out"])
    standin = scene.standin

    def dip() -> None:
        standin.power(False)
        scene.agenda.after(0.02, lambda: standin.power(True))

    standin.lost_power = dip  # type: ignore[method-assign]


def pauses_in_a_line(scene: Scene, chance: random.Random) -> None:
    """An answer stops in the middle of a line now and then, and goes on much later, or never."""
    standin, sent = scene.standin, scene.standin._sent

    def pausing(data: bytes) -> None:
        if len(data) < 4 or chance.random() > 0.06:
            sent(data)
            return
        at = chance.randrange(1, len(data) - 1)
        sent(data[:at])
        if chance.random() < 0.8:
            standin.after(chance.choice((0.3, 0.6, 1.2, 2.0)), lambda: sent(data[at:]))

    standin._sent = pausing  # type: ignore[method-assign]


def warm_restarts(scene: Scene, chance: random.Random) -> None:
    """A restart keeps the working memory."""
    scene.warm = True


def two_banks(scene: Scene, chance: random.Random) -> None:
    """It saves to one of two banks, and starts with the other one each time."""
    banks = [copy.deepcopy(scene.standin.flash), copy.deepcopy(scene.standin.flash)]
    standin, keep = scene.standin, scene.standin.keep
    turn = 0

    def kept() -> None:
        keep()
        banks[turn] = copy.deepcopy(standin.flash)

    def starts(flash: dict[str, Any]) -> None:
        nonlocal turn
        turn = 1 - turn
        flash.clear()
        flash.update(copy.deepcopy(banks[turn]))

    def peek(flash: dict[str, Any]) -> None:
        other = banks[1 - turn] if flash == banks[turn] else banks[turn]
        flash.clear()
        flash.update(copy.deepcopy(other))

    standin.keep, scene.at_start, scene.peek = kept, starts, peek  # type: ignore[method-assign]


def clamps_at_a_start(scene: Scene, chance: random.Random) -> None:
    """The first start, or the second, changes a value that was saved."""
    key, which, count = chance.choice(sorted(scene.standin.factory)), chance.choice((1, 2)), 0
    scene.own_cells |= {key}
    factory = scene.standin.factory[key]

    def starts(flash: dict[str, Any]) -> None:
        nonlocal count
        if key not in (*RATES, "port", "block") and flash.get(key) != factory:
            count += 1
            if count == which:
                flash[key] = copy.deepcopy(factory)

    def peek(flash: dict[str, Any]) -> None:
        if count < which and key not in (*RATES, "port", "block"):
            flash[key] = copy.deepcopy(factory)

    scene.at_start, scene.peek = starts, peek


def follows_any_rate(scene: Scene, chance: random.Random) -> None:
    """It takes over any rate at which it is spoken to."""
    uart = scene.standin.uart
    came = uart.from_host

    def from_host(data: bytes) -> None:
        uart.tuning = uart.host
        came(data)

    uart.from_host = from_host  # type: ignore[method-assign]


def slow_operator(scene: Scene, chance: random.Random) -> None:
    """A person who takes three seconds."""
    scene.manner = "slow"


def lazy_operator(scene: Scene, chance: random.Random) -> None:
    """A person who does nothing."""
    scene.manner = "nothing"


def operator_does_it_twice(scene: Scene, chance: random.Random) -> None:
    """A person who does what was asked, and then again."""
    scene.manner = "twice"


def _with_fixture(scene: Scene, wiring: dict[str, str]) -> None:
    if scene.name == "lindle-r2":
        return  # its mode pins need both lines
    key = KEYED.get(scene.name)
    if key:
        wiring = {**wiring, "dtr": key}
    scene.fixture = Fixture({**FIXTURE, "key": Pin("dtr")} if key else FIXTURE)
    scene.standin.wiring = wiring


def fixture(scene: Scene, chance: random.Random) -> None:
    """A fixture that works."""
    _with_fixture(scene, {"rts": "!power"})


def dead_fixture(scene: Scene, chance: random.Random) -> None:
    """A fixture whose power pin does nothing."""
    _with_fixture(scene, {})


def sticking_fixture(scene: Scene, chance: random.Random) -> None:
    """A fixture whose relay sticks after a while, on or off."""
    _with_fixture(scene, {"rts": "!power"})
    left = chance.randrange(1, 6)
    standin, changed = scene.standin, scene.standin.lines_changed

    def sticking() -> None:
        nonlocal left
        left -= 1
        if left < 0:
            standin.wiring.pop("rts", None)
        changed()

    standin.lines_changed = sticking  # type: ignore[method-assign]


def fed_through_its_lines(scene: Scene, chance: random.Random) -> None:
    """It goes on without power, fed through its data lines."""
    scene.faults(fed=True)
    _with_fixture(scene, {"rts": "!power"})


def saves_before_a_start(scene: Scene, chance: random.Random) -> None:
    """A restart by command saves the working memory first: what was changed for a moment stays."""
    standin, restart = scene.standin, scene.standin.restart

    def saving() -> None:
        standin.keep()
        restart()

    standin.restart = saving  # type: ignore[method-assign]


def another_goes_with_it(scene: Scene, chance: random.Random) -> None:
    """When a value is written, another one goes back to its factory default."""
    standin = scene.standin
    found = _read_cells(scene.name)
    if not found:
        return
    moved, other = chance.choice(list(found.items()))
    standin.memory[moved] = standin.flash[moved] = other
    heard = standin.heard
    before = copy.deepcopy(standin.memory)

    def hear(data: bytes, began: float) -> None:
        heard(data, began)
        scene.agenda.after(0.002, reset)

    def reset() -> None:
        nonlocal before
        changed = {key for key, value in standin.memory.items() if value != before.get(key)} - {moved}
        if changed and standin.powered:
            standin.memory[moved] = copy.deepcopy(standin.factory[moved])
        before = copy.deepcopy(standin.memory)

    standin.heard = hear  # type: ignore[method-assign]


@cache
def _read_cells(name: str) -> dict[str, object]:
    """The cells of flash that a readout of the family shows, each with another value."""
    found: dict[str, object] = {}
    lexicon = lexicon_of(name)
    for key, value in sorted(family(name)(Agenda(), name).factory.items()):
        for other in _others(value) if key not in ROOTS else ():
            shown = []
            for here in (value, other):
                bench = VirtualBench.of(name, lexicon)
                bench.standin.memory[key] = bench.standin.flash[key] = here
                result = read_out(Module(bench.session(), lexicon, bench.operator, patience=8))
                shown.append([line.before.shown for line in result.settings if line.before])
            if shown[0] and shown[0] != shown[1]:
                found[key] = other
    return found


def _others(value: object) -> list[object]:
    """Another value of the same type that most settings allow."""
    if isinstance(value, str) and value.isalpha() and len(value) > 3:
        return [value[:-1] + ("a" if value[-1] != "a" else "b")]
    if type(value) is int and 1 < value < 1000:
        return [value - 1]
    return []


def set_after_a_kill(scene: Scene, chance: random.Random) -> dict[str, Any]:
    """Killed at an exchange; then another command sets one setting only."""
    return {**killed(scene, chance), "single": chance.choice(sorted(WANTED[scene.name]))}


ADVERSITIES: dict[str, Adversity] = {
    one.__name__.replace("_", " ").replace("brown out", "brown-out"): one
    for one in (
        clean,
        stopped,
        killed,
        set_after_a_kill,
        saves_before_a_start,
        another_goes_with_it,
        power_cut,
        brown_out,
        noise,
        loss,
        late,
        late_now_and_then,
        pauses_in_a_line,
        doubled,
        behind,
        stray,
        keeps_nothing,
        changes_values,
        clamps_at_a_start,
        two_banks,
        stale,
        moves_late,
        never_restarts,
        warm_restarts,
        follows_any_rate,
        swapped,
        in_memory_only,
        slow_operator,
        lazy_operator,
        operator_does_it_twice,
        fixture,
        dead_fixture,
        sticking_fixture,
        fed_through_its_lines,
    )
}
