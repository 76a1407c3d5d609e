"""The built command on pseudo-terminals, interrupted at a random time: by kill -9, SIGTERM, SIGINT, or a cut of the power.

    python -m benchmarks.interrupted [RUNS] [SEED]

The rule: after the interruption the command is run again until it conforms; then the stand-in's power is cycled, and its flash
is judged. The times are drawn from the seed; what comes of them depends on the machine.
"""

from __future__ import annotations

import copy
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from importlib.resources import files
from pathlib import Path
from typing import Any

from benchmarks.flash import wrong_in_flash
from benchmarks.wanted import WANTED
from wexicon.core.agenda import Agenda
from wexicon.rigs.rig import read_rig
from wexicon.rigs.serving import Desk, Server, served
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins.fennick_z4 import image_of
from wexicon.work.contact.catalog import find_lexicon

# With a person, who is never there in a rig, nothing is waited for.
RIG = ["--operator", "rig", "--patience", "8s"]
FAMILIES = ("lindle-l9", "brisca-w1", "polmar-p1", "tamsel-k5", "orvane-b3", "cordal-g2", "fennick-z4")
HOW = ("kill -9", "SIGTERM", "SIGINT", "power cut")
SIGNALS = {"kill -9": signal.SIGKILL, "SIGTERM": signal.SIGTERM, "SIGINT": signal.SIGINT}
AT_ONCE = 4
# How often a module may be tried again before it counts as lost.
MOST_RUNS = 4


def wanted(name: str) -> dict[str, Any]:
    """What the campaign wants of a family, but for parity, which a pseudo-terminal does not have."""
    return {
        key: {**value, "parity": "none"} if isinstance(value, dict) and "parity" in value else value
        for key, value in WANTED[name].items()
    }


def sheet(name: str) -> str:
    """A sheet with all that is wanted of a family."""

    def toml(value: object) -> str:
        if isinstance(value, dict):
            return "{ " + ", ".join(f"{key} = {toml(part)}" for key, part in value.items()) + " }"
        if isinstance(value, bool):
            return str(value).lower()
        return str(value) if isinstance(value, (int, float)) else "'" + str(value) + "'"

    secret = [key for key in WANTED[name] if find_lexicon(name).settings[key].secret]
    lines = [f"{key} = {toml(value)}" for key, value in wanted(name).items() if key not in secret]
    lines += [f'{key} = {{ file = "{name}.{key}" }}' for key in secret]
    return f'format = 1\n[seat.unit]\nlexicon = "{name}"\n[seat.unit.settings]\n' + "\n".join(lines) + "\n"


class Work:
    """Something that is interrupted, and what recovers from it: `commands` are tried in turn. `wrong` judges by the flash."""

    families: tuple[str, ...] = FAMILIES
    # The statuses of a run that is recovered.
    well: tuple[int, ...] = (0,)

    def beside(self, worker: int) -> tuple[int, ...]:
        """Other units that take part."""
        return ()

    def first(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        """Commands that run to their end before."""
        return []

    def commands(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        """The command, and others that may be needed to recover."""
        return [["provision", str(folder / f"{name}.toml"), f"{name}-{worker}", *RIG]]

    def wrong(self, name: str, standins: list[StandIn], before: list[dict[str, Any]]) -> list[str]:
        """What the flash denies."""
        return wrong_in_flash(standins[0], wanted(name))


class Set(Work):
    """`wexicon set` with several values."""

    families = ("lindle-l9", "brisca-w1", "cordal-g2")

    def commands(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        settings = find_lexicon(name).settings

        def typed(key: str, value: object) -> str:
            """As a person types it: a bare number of a hexadecimal setting is hexadecimal."""
            if isinstance(value, bool):
                return str(value).lower()
            return f"0x{value:X}" if getattr(settings[key].kind, "base", 10) == 16 else str(value)

        values = [f"{key}={typed(key, value)}" for key, value in wanted(name).items()]
        return [["set", f"{name}-{worker}", "-l", name, *values, *RIG]]


class AsBefore(Work):
    """Work that leaves everything as it was."""

    families = ("lindle-l9",)

    def wrong(self, name: str, standins: list[StandIn], before: list[dict[str, Any]]) -> list[str]:
        return [
            f"{key} is {one.flash[key]!r}, and was {was[key]!r}"
            for one, was in zip(standins, before, strict=True)
            for key in was
            if one.flash[key] != was[key]
        ]


class Restore(AsBefore):
    """`wexicon restore` after a provisioning."""

    def first(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        return super().commands(folder, name, worker)

    def commands(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        return [["restore", "unit", f"{name}-{worker}", *RIG]]


class Check(AsBefore):
    """`wexicon lexicon check --write`."""

    families = ("lindle-l9", "brisca-w1")

    def commands(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        return [["lexicon", "check", str(folder / f"{name}-lexicon.toml"), f"{name}-{worker}", "--write", *RIG]]


class Sweep(AsBefore):
    """A sweep of two settings between two modules."""

    def beside(self, worker: int) -> tuple[int, ...]:
        return (worker + AT_ONCE,)

    def commands(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        ends = [f"{name}-{worker}", f"{name}-{worker + AT_ONCE}"]
        return [["traffic", *ends, "-l", name, "--count", "1", "--sweep", "spreading=7..8,power=2,14", *RIG]]


class Load(Work):
    """A firmware image is transferred."""

    families = ("fennick-z4",)
    # A second load of the same image is unproved: the identity does not change.
    well = (0, 4)

    def commands(self, folder: Path, name: str, worker: int) -> list[list[str]]:
        port, image = f"{name}-{worker}", f"image={folder / 'quay.img'}"
        return [["do", port, action, image, "-l", name, *RIG] for action in ("load", "recover")]

    def wrong(self, name: str, standins: list[StandIn], before: list[dict[str, Any]]) -> list[str]:
        return [] if standins[0].flash["image"] == 2 else ["the image is not there"]


WORK: dict[str, Work] = {
    "provision": Work(),
    "set": Set(),
    "restore": Restore(),
    "lexicon check --write": Check(),
    "sweep": Sweep(),
    "load": Load(),
}


class Bench:
    """Stand-ins on pseudo-terminals, two of each family for each worker."""

    def __init__(self, folder: Path, stack: ExitStack) -> None:
        units = "".join(f'[unit.{name}-{n}]\nstandin = "{name}"\n' for name in FAMILIES for n in range(2 * AT_ONCE))
        bench = read_rig(f"format = 1\n{units}".encode(), "rig.toml", Agenda(time.monotonic() - 5.0))
        os.environ["WEXICON_RUN"] = str(folder / "run")
        after = stack.enter_context(ExitStack())
        self.server: Server = stack.enter_context(served(bench))
        after.callback(Desk(self.server, "bench").close)
        self.folder = folder

    def once(self, number: int, worker: int, seed: int) -> tuple[str, str, list[str]]:
        """One interruption, and the runs after it; what was done, and what is wrong."""
        chance = random.Random(f"{seed} {number}")
        what, how = chance.choice(list(WORK)), HOW[number % len(HOW)]
        work = WORK[what]
        name = work.families[number // len(HOW) % len(work.families)]
        standins = [self.server.rig.units[f"{name}-{one}"].standin for one in (worker, *work.beside(worker))]

        def fresh() -> None:
            for one in standins:
                one.power(False)
                one.forget()
                one.flash.update({key: one.factory[key] for key in ("image", "version") if key in one.flash})
                one.power(True)

        self.server.call(fresh)
        self._files(name)
        state = self.folder / f"state-{number}"
        own = dict(os.environ, WEXICON_STATE=str(state), WEXICON_CONFIG=str(self.folder / "config"))

        def call(words: list[str]) -> subprocess.Popen[str]:
            own_words = [sys.executable, "-m", "wexicon", *words]
            return subprocess.Popen(own_words, env=own, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)

        before = [copy.deepcopy(one.flash) for one in standins]
        for words in work.first(self.folder, name, worker):
            call(words).communicate(timeout=120)
        commands = work.commands(self.folder, name, worker)
        first = call(commands[0])
        time.sleep(chance.uniform(0.25, 2.6))
        if how == "power cut":
            self.server.call(lambda: standins[0].cycle(0.3))
        else:
            first.send_signal(SIGNALS[how])
        _, said = first.communicate(timeout=120)
        wrong, told = list[str](), ""
        if "Traceback" in said or first.returncode not in (0, 1, 3, 4, 130, -SIGNALS.get(how, 0)):
            wrong.append(f"ended with {first.returncode}: {said[-300:]}")
        for words in commands * MOST_RUNS:
            again = call(words)
            told += f"{again.args[3]}: " + "".join(again.communicate(timeout=120))
            if again.returncode in work.well:
                break
        else:
            wrong.append(f"no later run recovers it: {told[-3000:]}")
        self.server.call(lambda: [(one.power(False), one.power(True)) for one in standins])  # type: ignore[func-returns-value]
        wrong += work.wrong(name, standins, before) if again.returncode in work.well else []
        left = [*(state / "unfinished").glob("*"), *(state / "pins").glob("*")]
        wrong += [f"left behind: {one.name}" for one in left if again.returncode in work.well]
        return f"{what} {name}", how, wrong

    def _files(self, name: str) -> None:
        (self.folder / f"{name}.toml").write_text(sheet(name))
        for key, value in WANTED[name].items():
            (self.folder / f"{name}.{key}").write_text(str(value))
        shipped = Path(str(files("wexicon") / "lexicons" / f"{name}.toml"))
        (self.folder / f"{name}-lexicon.toml").write_bytes(shipped.read_bytes())
        (self.folder / "quay.img").write_bytes(image_of(2, 0x0C10, bytes(range(256)) * 5))


def interrupt(runs: int, seed: int) -> tuple[Counter[str], list[str]]:
    """Interrupts `runs` runs: how often in each way, and what was wrong afterwards."""
    false: list[str] = []
    done: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
        bench = Bench(Path(folder), stack)

        def share(worker: int) -> None:
            for number in range(worker, runs, AT_ONCE):
                name, how, wrong = bench.once(number, worker, seed)
                done[how] += 1
                done[name.rpartition(" ")[0]] += 1
                false.extend(f"{name}, {how}, number {number}: {one}" for one in wrong)

        with ThreadPoolExecutor(AT_ONCE) as pool:
            list(pool.map(share, range(AT_ONCE)))
    return done, false


def main() -> int:
    words = sys.argv[1:]
    runs, seed = int(words[0]) if words else 500, int(words[1]) if words[1:] else 1
    began = time.perf_counter()
    done, false = interrupt(runs, seed)
    told = ", ".join(f"{count} {how}" for how, count in done.items())
    print(f"{runs} interruptions ({told}): {len(false)} wrong; {time.perf_counter() - began:.0f} s")
    for one in false:
        print("  wrong:", one)
    return 1 if false else 0


if __name__ == "__main__":
    sys.exit(main())
