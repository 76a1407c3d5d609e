"""Plots of what was measured, as files.

The rule: each axis says what it is and in which unit; what did not come is drawn too.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence

from wexicon.core.durations import spoken

# A point of a sweep: its settings, the share lost (percent), the round trip (seconds) and the signal (dBm), as far as known.
Point = tuple[Mapping[str, str], float, float | None, float | None]
KINDS = ("png", "svg", "pdf")
# How many packets in a row each share of lost packets is taken from.
WINDOW = 10


def plot_traffic(
    title: str, trips: Sequence[tuple[float, float | None, float | None]], kind: str, *, two_ways: bool
) -> bytes:
    """Round trips and losses over time. `trips` are, for each packet, when it was sent (seconds from the beginning), how long
    it took and how long until its answer (seconds; None: it did not come)."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    above, below = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
    figure.suptitle(title, fontsize=17, parse_math=False)
    unit, factor = ("ms", 1000.0) if max([one[2] or 0.0 for one in trips] or [0.0]) < 2 else ("s", 1.0)
    came = [(at, trip * factor) for at, _, trip in trips if trip is not None]
    there = [(at, one * factor) for at, one, _ in trips if one is not None]
    gone = [at for at, _, trip in trips if trip is None]
    if came:
        above.plot(*zip(*came, strict=True), "o-", color="#1f5a92", markersize=6, linewidth=1.2, label="round trip")
        middle = sorted(one for _, one in came)[len(came) // 2]
        above.axhline(middle, color="#1f5a92", linewidth=1, linestyle=":", label=f"median {spoken(middle / factor)}")
    if there and two_ways:
        above.plot(*zip(*there, strict=True), "s", color="#d98a2b", markersize=5, label="one way")
    for number, at in enumerate(gone):
        above.axvline(at, color="#b3261e", linewidth=1.5, alpha=0.6, label=None if number else "no answer")
    above.set_ylabel(f"time ({unit})", fontsize=14)
    # Room above for the legend.
    above.set_ylim(0, 1.25 * max([one for _, one in came + there] or [1.0]))
    shares = [
        100 * sum(one[2] is None for one in trips[max(0, last - WINDOW + 1) : last + 1]) / min(WINDOW, last + 1)
        for last in range(len(trips))
    ]
    below.step([at for at, _, _ in trips], shares, where="post", color="#b3261e", linewidth=2)
    below.fill_between([at for at, _, _ in trips], shares, step="post", color="#b3261e", alpha=0.2)
    last = max([at for at, _, _ in trips] or [1.0])
    below.set(ylim=(0, max(10.0, *shares, 0.0) * 1.1), xlim=(-0.01 * last, 1.01 * last))
    below.set_ylabel(f"no answer (%),\nof the last {WINDOW}", fontsize=14)
    below.set_xlabel("sent at (s)", fontsize=14)
    for axes in (above, below):
        axes.grid(alpha=0.3)
        axes.tick_params(labelsize=12)
    if came or gone:
        above.legend(fontsize=13, loc="upper center", ncols=4)
    whole = io.BytesIO()
    figure.savefig(whole, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()


def plot_sweep(title: str, points: Sequence[Point], kind: str) -> bytes:
    """Loss, signal and round trip over the first setting of a sweep, a line for each value of the others."""
    from matplotlib.figure import Figure
    from matplotlib.ticker import MaxNLocator

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    loss, signal, trip = figure.subplots(3, 1, sharex=True, height_ratios=(2, 2, 2))
    figure.suptitle(title, fontsize=17, parse_math=False)
    name, *others = points[0][0]
    lines: dict[str, list[Point]] = {}
    for point in points:
        lines.setdefault(", ".join(f"{one} {point[0][one]}" for one in others), []).append(point)
    places = {text: number for number, text in enumerate(dict.fromkeys(point[0][name] for point in points))}
    for number, (label, some) in enumerate(lines.items()):
        style = {
            "marker": "osD^vP"[number % 6],
            "markersize": 7,
            "linewidth": 1.6,
            "color": f"C{number % 10}",
            "label": label,
        }
        for axes, at, factor in ((loss, 1, 1.0), (signal, 3, 1.0), (trip, 2, 1000.0)):
            there = [(places[one[0][name]], one[at] * factor) for one in some if one[at] is not None]  # type: ignore[operator]
            if there:
                axes.plot(*zip(*there, strict=True), **style)
    loss.set(ylim=(-4, 104))
    for axes, words in ((loss, "lost (%)"), (signal, "signal (dBm)"), (trip, "round trip (ms)")):
        axes.set_ylabel(words, fontsize=14)
        axes.grid(alpha=0.3)
        axes.tick_params(labelsize=12)
        axes.yaxis.set_major_locator(MaxNLocator(5))
    trip.set_xticks(list(places.values()), list(places), parse_math=False)
    trip.set_xlabel(name, fontsize=14, parse_math=False)
    if others:
        loss.legend(fontsize=13, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    whole = io.BytesIO()
    figure.savefig(whole, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()
