"""The levels of a line as a logic analyser would record them, for the tests of what is read from them."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence

import numpy as np

from wexicon.core.standards.waveform import Edge, levels
from wexicon.core.tuning import Tuning


class Drawn:
    """One line at rest; `say` adds bytes to it, each bit displaced by up to `jitter` bits."""

    def __init__(self, tuning: Tuning, seed: int = 0, jitter: float = 0.0) -> None:
        self.tuning, self.jitter, self.chance = tuning, jitter, random.Random(seed)
        self.bit = 1 / tuning.rate
        self.edges: list[Edge] = [(0.0, 1)]
        self.end = 10 * self.bit

    def say(self, data: bytes, at: float = 0.0, pauses: Sequence[float] = (0.0,)) -> float:
        """Sends bytes from the time `at` on, with some of these pauses (bits) between them; returns when it ended."""
        self.end = max(self.end, at)
        for byte in data:
            sent = levels(bytes([byte]), self.tuning)
            for number, level in enumerate(sent):
                self._level(self.end + (number + self.chance.uniform(-self.jitter, self.jitter)) * self.bit, int(level))
            self.end += (len(sent) + self.chance.choice(pauses)) * self.bit
        return self.end

    def _level(self, at: float, level: int) -> None:
        if self.edges[-1][1] != level:
            self.edges.append((at, level))

    def glitch(self, at: float, bits: float = 0.1) -> None:
        """A short pulse to low while the line rests."""
        self.edges += [(at, 0), (at + bits * self.bit, 1)]
        self.edges.sort()

    def until(self) -> float:
        """When the record of it ends."""
        return self.end + 20 * self.bit

    def sampled(self, a_bit: float) -> list[Edge]:
        """The same as so many samples a bit show it."""
        rate = a_bit / self.bit
        times, values = np.array([at for at, _ in self.edges]), np.array([level for _, level in self.edges])
        seen = values[np.searchsorted(times, np.arange(int(self.until() * rate) + 1) / rate, side="right") - 1]
        changed = np.flatnonzero(np.diff(seen)) + 1
        return [(0.0, int(seen[0])), *((float(at / rate), int(seen[at])) for at in changed)]


def inverted(edges: Sequence[Edge]) -> list[Edge]:
    """The same with high and low exchanged."""
    return [(at, 1 - level) for at, level in edges]


def as_vcd(lines: Mapping[str, Sequence[Edge]], end: float, picoseconds: int = 1000) -> str:
    """A VCD file (IEEE Std 1364, clause 18) of these lines."""
    marks = {name: chr(33 + number) for number, name in enumerate(lines)}
    rows = [f"$date made up $end\n$timescale {picoseconds} ps $end\n$scope module logic $end"]
    rows += [f"$var wire 1 {mark} {name} $end" for name, mark in marks.items()]
    rows.append("$upscope $end\n$enddefinitions $end")
    step = picoseconds * 1e-12
    changes = sorted(
        (round(at / step), f"{level}{marks[name]}") for name, edges in lines.items() for at, level in edges
    )
    rows += [f"#{at}\n{change}" for at, change in changes]
    return "\n".join([*rows, f"#{round(end / step)}", ""])


def as_csv(lines: Mapping[str, Sequence[Edge]], end: float) -> str:
    """A CSV file of these lines: a row for each change."""
    rows = [f"Time [s],{','.join(lines)}"]
    now = dict.fromkeys(lines, 1)
    for at, name, level in sorted((at, name, level) for name, edges in lines.items() for at, level in edges):
        now[name] = level
        rows.append(f"{at:.9f},{','.join(str(one) for one in now.values())}")
    return "\n".join([*rows, f"{end:.9f},{','.join(str(one) for one in now.values())}", ""])
