"""A trace as a figure: steps, lines sent and received, events, waiting, the link and states over time, and where the time went.

The rule: each mark is a record of the trace. Waiting is the time from a line that was said to the first line that was heard.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping, Sequence
from itertools import cycle
from typing import TYPE_CHECKING

from wexicon.core.durations import spoken
from wexicon.core.text import visible
from wexicon.records.trace import Record, What

if TYPE_CHECKING:
    from matplotlib.axes import Axes

BLUE, ORANGE, RED, GREY, GREEN = "#1f5a92", "#d98a2b", "#b3261e", "#8a8f98", "#3c7d3c"
_STEPS = ("#c9d9ea", "#f2ddc0", "#cfe3cf", "#e3d0e8", "#dcdcdc", "#f0c9c6")
LANES = ("steps", "said", "heard", "events", "waiting", "rate")
_STATES = ("#8fb8de", "#e8b46a", "#8cc29a", "#c79ad1", "#b5b5b5", "#e59a92", "#9ad0cf", "#d6c77a")
# Where there are more steps or changes of the link, they have no text.
MOST_TEXTS = 24

Span = tuple[float, float, str]


def plot_trace(
    title: str, records: Sequence[Record], kind: str, states: Mapping[str, Sequence[Span]] | None = None
) -> bytes:
    """The figure, as a file of this kind; `states` are those that the module reported, each with its spans."""
    from matplotlib.figure import Figure

    last = max([one.at for one in records] or [1.0]) or 1.0
    steps = list(_steps(records, last))
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    above, below = figure.subplots(2, 1, height_ratios=(3, 1.4))
    figure.suptitle(title, fontsize=16, parse_math=False)
    _lanes(above, records, steps, last, states or {})
    _shares(below, records, steps)
    whole = io.BytesIO()
    figure.savefig(whole, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()


def _steps(records: Iterable[Record], last: float) -> Iterable[Span]:
    began, name = 0.0, ""
    for one in records:
        if one.what is What.STEP:
            if name:
                yield began, one.at, name
            began, name = one.at, one.text
    if name:
        yield began, last, name


def waits(records: Iterable[Record]) -> list[tuple[float, float]]:
    """When it was waited for an answer: from a line that was said to the first that was heard after it."""
    found: list[tuple[float, float]] = []
    said: dict[str, float] = {}
    for one in records:
        if one.what is What.SAID:
            said[one.party] = one.at
        elif one.what is What.HEARD and one.party in said and one.role != "echo":
            found.append((said.pop(one.party), one.at))
    return found


def _lanes(
    axes: Axes, records: Sequence[Record], steps: Sequence[Span], last: float, states: Mapping[str, Sequence[Span]]
) -> None:
    unit, factor = ("s", 1.0) if last < 300 else ("min", 1 / 60) if last < 18_000 else ("h", 1 / 3600)
    lane = {name: at for at, name in enumerate(LANES)}
    lanes = [*LANES, *states]
    _spans(axes, lane["steps"], steps, last, factor, dict(zip(_names(steps), cycle(_STEPS), strict=False)))
    told = [f"{name} {state}" for name, spans in states.items() for state in _names(spans)]
    colours = dict(zip(told, cycle(_STATES), strict=False))
    for at, (name, spans) in enumerate(states.items(), len(LANES)):
        own = {state: colours[f"{name} {state}"] for state in _names(spans)}
        _spans(axes, at, spans, last, factor, own)
    for text, colour in colours.items():
        axes.barh([0], [0], color=colour, label=visible(text))
    if told:
        axes.legend(fontsize=11, loc="center left", bbox_to_anchor=(1.0, 0.3), frameon=False)
    said = [one.at * factor for one in records if one.what is What.SAID]
    heard = [one.at * factor for one in records if one.what is What.HEARD]
    events = [one.at * factor for one in records if one.what is What.AWAITED or (one.what is What.HEARD and one.name)]
    axes.vlines(said, lane["said"] - 0.3, lane["said"] + 0.3, color=BLUE, linewidth=1.2)
    axes.vlines(heard, lane["heard"] - 0.3, lane["heard"] + 0.3, color=GREY, linewidth=1.2)
    axes.plot(events, [float(lane["events"])] * len(events), "o", color=ORANGE, markersize=6)
    bars = [(begins * factor, (ends - begins) * factor) for begins, ends in waits(records)]
    axes.broken_barh(bars, (lane["waiting"] - 0.3, 0.6), color=ORANGE, alpha=0.7)
    _link(axes, records, lane["rate"], factor)
    for one in records:
        if one.what is What.STARTED:
            axes.axvline(one.at * factor, color=GREEN, linewidth=1.6, linestyle=":")
    axes.set_yticks(range(len(lanes)), lanes, fontsize=12, parse_math=False)
    axes.set(ylim=(len(lanes) - 0.4, -0.6), xlim=(-0.01 * last * factor, 1.01 * last * factor))
    axes.set_xlabel(f"time ({unit}); dotted: a start was observed", fontsize=13)
    axes.grid(axis="x", alpha=0.3)
    axes.tick_params(labelsize=11)


def _names(spans: Sequence[Span]) -> list[str]:
    return list(dict.fromkeys(name for _, _, name in spans))


def _spans(axes: Axes, at: int, spans: Sequence[Span], last: float, factor: float, colours: Mapping[str, str]) -> None:
    """Bars with a colour and, where there is room, a text for each name."""
    for number, (begins, ends, name) in enumerate(spans):
        axes.broken_barh([(begins * factor, (ends - begins) * factor)], (at - 0.36, 0.72), color=colours[name])
        if number < MOST_TEXTS and ends - begins > 0.008 * last * len(name) + 0.01 * last:
            middle = (begins + ends) / 2 * factor
            axes.annotate(name, (middle, at), ha="center", va="center", fontsize=11, parse_math=False)


def _link(axes: Axes, records: Sequence[Record], lane: int, factor: float) -> None:
    """Each change of our side's rate."""
    changes = [one for one in records if one.what in (What.OPENED, What.TUNED) and one.rate]
    for number, one in enumerate(changes):
        axes.plot([one.at * factor], [float(lane)], "|", color=RED, markersize=16, markeredgewidth=2)
        if number < MOST_TEXTS:
            place = (4, 8 if number % 2 else -4)
            axes.annotate(
                f"{one.rate}",
                (one.at * factor, lane),
                xytext=place,
                textcoords="offset points",
                fontsize=10,
                va="center",
            )


def _shares(axes: Axes, records: Sequence[Record], steps: Sequence[Span]) -> None:
    """How long each step took, and how much of it was waiting for answers."""
    taken: dict[str, float] = {}
    waited: dict[str, float] = {}
    waiting = waits(records)
    for begins, ends, name in steps:
        taken[name] = taken.get(name, 0.0) + ends - begins
        own = sum(min(ends, b) - max(begins, a) for a, b in waiting if a < ends and b > begins)
        waited[name] = waited.get(name, 0.0) + own
    names = sorted(taken, key=lambda name: -taken[name])[:8]
    axes.barh(range(len(names)), [taken[name] for name in names], color=BLUE, alpha=0.35, label="in all")
    axes.barh(
        range(len(names)), [waited[name] for name in names], color=ORANGE, height=0.4, label="waiting for answers"
    )
    for at, name in enumerate(names):
        axes.annotate(f"  {spoken(round(taken[name], 3))}", (taken[name], at), va="center", fontsize=11)
    axes.set_yticks(range(len(names)), names, fontsize=11, parse_math=False)
    axes.invert_yaxis()
    axes.set_xlim(0, 1.18 * max([*taken.values(), 0.001]))
    axes.set_xlabel("where the time went (s)", fontsize=13)
    axes.grid(axis="x", alpha=0.3)
    axes.tick_params(labelsize=11)
    if names:
        axes.legend(fontsize=11, loc="lower right")
