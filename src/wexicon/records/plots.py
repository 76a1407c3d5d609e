"""Plots as files: counts of a traffic test and a sweep, what `wexicon calc` worked out, a dialogue with its measurements.

The rule: each axis says what it is and in which unit; each mark is a record or a result. What did not come is drawn too; an
answer that could not be worked out is no point.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from wexicon.core.engineering.topic import shown
from wexicon.core.text import spoken, visible
from wexicon.records.trace import Record, What

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.axis import Axis


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


MOST_PANELS = 3
YEAR = 31_557_600.0
TIMES = (
    0.001,
    0.01,
    0.1,
    1,
    10,
    60,
    600,
    3600,
    21_600,
    86_400,
    864_000,
    30 * 86_400,
    YEAR / 4,
    YEAR,
    3 * YEAR,
    10 * YEAR,
    30 * YEAR,
)


class AnswerPoint(NamedTuple):
    """A value of the argument along the axis, the text of the others, and the results as numbers."""

    at: float
    line: str
    results: dict[str, float]


def plot_answers(
    title: str, axis: tuple[str, str], results: Sequence[tuple[str, str]], points: Sequence[AnswerPoint], kind: str
) -> bytes:
    """The figure: `axis` and `results` are names with units; a panel for each result, a line for each text."""
    from matplotlib.figure import Figure

    panels = results[:MOST_PANELS]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(title, fontsize=16, parse_math=False)
    all_axes = figure.subplots(len(panels), 1, sharex=True, squeeze=False)[:, 0]
    lines = list(dict.fromkeys(one.line for one in points))
    across = [one.at for one in points]
    wide = min(across) > 0 and max(across) / min(across) >= 100
    for axes, (name, unit) in zip(all_axes, panels, strict=True):
        values = [one.results[name] for one in points if name in one.results]
        for number, line in enumerate(lines):
            own = sorted((one.at, one.results[name]) for one in points if one.line == line and name in one.results)
            if own:
                marks = "o-" if len(own) <= 60 else "-"
                axes.plot(*zip(*own, strict=True), marks, color=f"C{number % 10}", linewidth=2, label=line)
        axes.set_ylabel(name, fontsize=14, parse_math=False)
        log = bool(values) and min(values) > 0 and max(values) / min(values) >= 20
        if log:
            axes.set_yscale("log")
        if wide:
            axes.set_xscale("log")
        _ticks(axes.yaxis, values, unit, log=log)
        axes.grid(alpha=0.3, which="both")
        axes.tick_params(labelsize=12)
    _ticks(all_axes[-1].xaxis, across, axis[1], log=wide)
    all_axes[-1].set_xlabel(axis[0], fontsize=14, parse_math=False)
    if any(lines):
        for text in all_axes[0].legend(fontsize=12).get_texts():
            text.set_parse_math(False)
    whole = io.BytesIO()
    figure.savefig(whole, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()


def _ticks(axis: Axis, values: Sequence[float], unit: str, *, log: bool) -> None:
    """Ticks with units; times are at whole minutes, hours, days and years where decades would be odd."""
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullFormatter

    if log and unit == "s" and values and max(values) > 60:
        axis.set_major_locator(FixedLocator([one for one in TIMES if min(values) / 2 <= one <= max(values) * 2]))
        axis.set_minor_formatter(NullFormatter())
    axis.set_major_formatter(FuncFormatter(lambda value, _: _short(float(value), unit)))


def _short(value: float, unit: str) -> str:
    """A value at an axis: a time in its largest unit."""
    if unit == "s" and value >= 60:
        for factor, name in ((YEAR, "years"), (86_400, "d"), (3600, "h"), (60, "min")):
            if value >= factor * 0.999:
                told = f"{value / factor:.3g} {name}"
                return "1 year" if told == "1 years" else told
    return shown(value, unit)


# How many events of a lane have their text, how long it is, and how far apart two texts are on one height (share of the width).
LABELS, LABEL, APART = 14, 22, 0.12
# Values of one unit that are further apart than this are drawn on a logarithmic axis.
WIDE = 30
BLUE, ORANGE, RED, GREY = "#1f5a92", "#d98a2b", "#b3261e", "#8a8f98"


class Bar(NamedTuple):
    """A measurement: its limits are None where there are none; `limits` is how they are read."""

    name: str
    value: float
    unit: str
    low: float | None
    high: float | None
    limits: str
    passed: bool


def plot_dialogue(title: str, records: Sequence[Record], bars: Sequence[Bar], kind: str) -> bytes:
    """The figure, as a file of this kind."""
    from matplotlib.figure import Figure

    units = list(dict.fromkeys(bar.unit for bar in bars))
    lanes = list(dict.fromkeys(one.party for one in records if one.what in (What.SAID, What.HEARD)))
    heights = [max(2.0, 1.6 * len(lanes)), *(0.8 + 0.45 * sum(bar.unit == unit for bar in bars) for unit in units)]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    axes = figure.subplots(len(heights), 1, height_ratios=heights, squeeze=False)[:, 0]
    figure.suptitle(title, fontsize=17, parse_math=False)
    _timeline(axes[0], records, lanes)
    for below, unit in zip(axes[1:], units, strict=True):
        _bars(below, [bar for bar in bars if bar.unit == unit], unit)
    whole = io.BytesIO()
    figure.savefig(whole, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()


def _timeline(axes: Axes, records: Sequence[Record], lanes: Sequence[str]) -> None:
    last = max([one.at for one in records] or [1.0]) or 1.0
    unit, factor = ("s", 1.0) if last < 300 else ("min", 1 / 60) if last < 18_000 else ("h", 1 / 3600)
    for number, lane in enumerate(lanes):
        own = [one for one in records if one.party == lane]
        said = [one.at * factor for one in own if one.what is What.SAID]
        heard = [one.at * factor for one in own if one.what is What.HEARD]
        events = [one for one in own if one.what is What.AWAITED or (one.what is What.HEARD and one.name)]
        axes.vlines(said, number - 0.28, number, color=BLUE, linewidth=1.4, label="" if number else "said")
        axes.vlines(heard, number, number + 0.28, color=GREY, linewidth=1.4, label="" if number else "heard")
        axes.plot(
            [one.at * factor for one in events],
            [float(number)] * len(events),
            "o",
            color=ORANGE,
            markersize=7,
            label=None if number else "event",
        )
        _label(axes, events, number, last, factor)
    axes.set_yticks(range(len(lanes)), [lane or "module" for lane in lanes], fontsize=13, parse_math=False)
    axes.set(ylim=(len(lanes) - 0.4, -0.9), xlim=(-0.01 * last * factor, 1.01 * last * factor))
    axes.set_xlabel(f"time ({unit})", fontsize=14)
    axes.grid(axis="x", alpha=0.3)
    axes.tick_params(labelsize=12)
    if lanes:
        axes.legend(fontsize=12, loc="upper right", ncols=3)


def _label(axes: Axes, events: Sequence[Record], number: int, last: float, factor: float) -> None:
    """Writes what events are, one above the other where they are close."""
    ends: list[float] = []
    for one in list(events)[:LABELS]:
        text = visible(one.text)
        text = text if len(text) <= LABEL else text[: LABEL - 1] + "…"
        level = next((height for height, end in enumerate(ends) if one.at > end), len(ends))
        ends[level : level + 1] = [one.at + APART * last]
        side = "right" if one.at > 0.85 * last else "left"
        place = (one.at * factor, number + 0.34 + 0.14 * (level % 4))
        axes.annotate(text, place, fontsize=11, ha=side, va="center", color="#7a4a10", parse_math=False)


def _bars(axes: Axes, bars: Sequence[Bar], unit: str) -> None:
    for number, bar in enumerate(bars):
        colour = BLUE if bar.passed else RED
        axes.barh(number, bar.value, height=0.55, color=colour, alpha=0.85)
        for limit in (bar.low, bar.high):
            if limit is not None:
                axes.vlines(limit, number - 0.42, number + 0.42, color=RED, linewidth=2, linestyle=":")
        told = f"  {bar.value:g} {unit}".rstrip() + (f"  ({bar.limits})" if bar.limits else "")
        axes.annotate(told, (max(bar.value, 0.0), number), fontsize=12, va="center", parse_math=False)
    axes.set_yticks(range(len(bars)), [bar.name for bar in bars], fontsize=12, parse_math=False)
    axes.invert_yaxis()
    edges = [one for bar in bars for one in (bar.value, bar.low, bar.high) if one is not None]
    least, most = min(edges), max(edges)
    if least > 0 and most > WIDE * least:
        axes.set_xscale("log")
        axes.set_xlim(least / 3, most * 5)
        axes.xaxis.set_major_formatter(lambda value, _: f"{value:g}")
    else:
        # Room for what is written behind the bars.
        axes.set_xlim(min(0.0, 1.1 * least), max(0.0, most) + 0.4 * (max(most, 0.0) - min(least, 0.0) or 1.0))
    axes.set_xlabel(unit or "count", fontsize=13, parse_math=False)
    axes.grid(axis="x", alpha=0.3)
    axes.tick_params(labelsize=12)
