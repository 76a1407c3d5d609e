"""The built command on pseudo-terminals, interrupted at a random time: by kill -9, SIGTERM, SIGINT, or a cut of the power.

    python -m benchmarks.interrupted [RUNS] [SEED]

The rule: after the interruption the command is run again until it conforms; then the stand-in's power is cycled, and its flash
is judged. The times are drawn from the seed; what comes of them depends on the machine.
"""

from __future__ import annotations

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
from pathlib import Path
from typing import Any

from benchmarks.flash import wrong_in_flash
from benchmarks.wanted import WANTED
from wexicon.core.agenda import Agenda
from wexicon.rigs.rig import read_rig
from wexicon.rigs.serving import Desk, Server, served
from wexicon.work.contact.catalog import find_lexicon

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


class Bench:
    """Stand-ins on pseudo-terminals, one of each family for each worker."""

    def __init__(self, folder: Path, stack: ExitStack) -> None:
        units = "".join(f'[unit.{name}-{n}]\nstandin = "{name}"\n' for name in FAMILIES for n in range(AT_ONCE))
        bench = read_rig(f"format = 1\n{units}".encode(), "rig.toml", Agenda(time.monotonic() - 5.0))
        os.environ["WEXICON_RUN"] = str(folder / "run")
        after = stack.enter_context(ExitStack())
        self.server: Server = stack.enter_context(served(bench))
        after.callback(Desk(self.server, "bench").close)
        self.folder = folder

    def once(self, number: int, worker: int, seed: int) -> tuple[str, str, list[str]]:
        """One interruption, and the runs after it; what was done, and what is wrong."""
        chance = random.Random(f"{seed} {number}")
        name, how = FAMILIES[number % len(FAMILIES)], HOW[number // len(FAMILIES) % len(HOW)]
        unit = self.server.rig.units[f"{name}-{worker}"]
        standin = unit.standin

        def fresh() -> None:
            standin.power(False)
            standin.forget()
            standin.power(True)

        self.server.call(fresh)
        path = self.folder / f"{name}.toml"
        path.write_text(sheet(name))
        for key, value in WANTED[name].items():
            (self.folder / f"{name}.{key}").write_text(str(value))
        state = self.folder / f"state-{number}"
        own = dict(os.environ, WEXICON_STATE=str(state), WEXICON_CONFIG=str(self.folder / "config"))
        command = [sys.executable, "-m", "wexicon", "provision", str(path), f"{name}-{worker}", "--operator", "rig"]
        command += ["--patience", "8s"]
        first = subprocess.Popen(command, env=own, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        time.sleep(chance.uniform(0.25, 2.6))
        if how == "power cut":
            self.server.call(lambda: standin.cycle(0.3))
        else:
            first.send_signal(SIGNALS[how])
        _, said = first.communicate(timeout=120)
        wrong: list[str] = []
        if "Traceback" in said or first.returncode not in (0, 1, 3, 4, 130, -SIGNALS.get(how, 0)):
            wrong.append(f"ended with {first.returncode}: {said[-300:]}")
        for _ in range(MOST_RUNS):
            again = subprocess.run(command, env=own, capture_output=True, text=True, timeout=120)
            if again.returncode == 0:
                break
        else:
            wrong.append(f"no later run recovers it: {again.stdout[-300:]}{again.stderr[-300:]}")
        self.server.call(lambda: (standin.power(False), standin.power(True)))  # type: ignore[func-returns-value]
        wrong += wrong_in_flash(standin, wanted(name)) if again.returncode == 0 else []
        left = [*(state / "unfinished").glob("*"), *(state / "pins").glob("*")]
        wrong += [f"left behind: {one.name}" for one in left if again.returncode == 0]
        return name, how, wrong


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
