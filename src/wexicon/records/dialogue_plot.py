"""A dialogue as a figure: what each party said and heard over time, and what was measured against its limits.

The rule: each mark is a record of the trace, and each bar a measurement of the result.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from wexicon.core.text import visible
from wexicon.records.trace import Record, What

if TYPE_CHECKING:
    from matplotlib.axes import Axes

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
