"""A trace or a listening session as a figure: steps, lines, events, waiting, the link and states over time; sky, positions,
numbers.

The rule: each mark is a record of the trace; a panel is drawn for what came, and none for what did not; each axis says what it
is and in which unit. Waiting is the time from a line that was said to the first line that was heard.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping, Sequence
from itertools import cycle
from math import radians
from typing import TYPE_CHECKING, Any

import msgspec

from wexicon.core.text import spoken, visible
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


_SYSTEM_COLOURS = (BLUE, ORANGE, GREEN, "#7a3e8e", "#5f5f5f", "#8c564b")
# Weak and strong signals, for the size of a satellite's mark (dB-Hz).
_WEAK, _STRONG = 20.0, 50.0


class SkyMark(msgspec.Struct, frozen=True):
    """A satellite on the sky: its way as (elevation, azimuth) in degrees, the mean of its signal (dB-Hz)."""

    system: str
    number: int
    places: Sequence[tuple[float, float]]
    signal: float | None
    used: bool


class ScatterDrawing(msgspec.Struct, frozen=True):
    """Positions around their mean: (metres east, metres north, how many); the circles, and how much they can be wrong."""

    places: Sequence[tuple[float, float, int]]
    radius_50: float
    radius_95: float
    error: float
    count: int


class TimerDrawing(msgspec.Struct, frozen=True):
    """A timer: asked and granted in seconds, as far as known, and each observation as (when, how long)."""

    name: str
    asked: float | None
    granted: float | None
    observed: Sequence[tuple[float, float]]


class SeriesDrawing(msgspec.Struct, frozen=True):
    """A number over time: (when, least, mean, most)."""

    name: str
    unit: str
    points: Sequence[tuple[float, float, float, float]]


class Drawing(msgspec.Struct):
    """What a figure shows. `states` are by name: (from, to, state), in seconds; `seconds` how long it was."""

    title: str
    seconds: float
    sky: Sequence[SkyMark] = ()
    scatter: ScatterDrawing | None = None
    states: Mapping[str, Sequence[tuple[float, float, str]]] = {}
    timers: Sequence[TimerDrawing] = ()
    series: Sequence[SeriesDrawing] = ()

    @property
    def empty(self) -> bool:
        """Whether there is nothing to draw."""
        return not (self.sky or self.scatter or self.states or self.series)


def plot_listening(drawing: Drawing, kind: str) -> bytes:
    """The figure, as a file of this kind."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(drawing.title, fontsize=17, parse_math=False)
    timers = [one for one in drawing.timers if one.observed or one.granted or one.asked]
    panels: list[tuple[float, Any]] = []
    if drawing.sky or drawing.scatter:
        panels.append((3.0, lambda part: _sky_and_scatter(part, drawing)))
    if drawing.states:
        lanes = sum(len({state for _, _, state in spans}) for spans in drawing.states.values())
        panels.append((max(1.2, 0.35 * lanes), lambda part: _states(part.subplots(), drawing)))
    if timers:
        panels.append((1.6, lambda part: _timers(part, timers, drawing.seconds)))
    for one in drawing.series[:4]:
        panels.append((1.2, lambda part, one=one: _series(part.subplots(), one, drawing.seconds)))
    parts = figure.subfigures(len(panels), 1, height_ratios=[height for height, _ in panels], squeeze=False)[:, 0]
    for part, (_, draw) in zip(parts, panels, strict=True):
        draw(part)
    whole = io.BytesIO()
    figure.savefig(whole, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return whole.getvalue()


def _in_unit(last: float) -> tuple[str, float]:
    return ("s", 1.0) if last < 300 else ("min", 1 / 60) if last < 18_000 else ("h", 1 / 3600)


def _sky_and_scatter(part: Any, drawing: Drawing) -> None:
    both = bool(drawing.sky) and drawing.scatter is not None
    left = right = part
    if both:
        left, right = part.subfigures(1, 2)
    if drawing.sky:
        _sky(left.subplots(subplot_kw={"projection": "polar"}), drawing.sky)
    if drawing.scatter:
        _scatter(right.subplots(), drawing.scatter)


def _sky(axes: Any, marks: Sequence[SkyMark]) -> None:
    """The sky seen from below: the zenith in the middle, north up, east to the right."""
    axes.set_theta_zero_location("N")
    axes.set_theta_direction(-1)
    axes.set(ylim=(0, 90), yticks=[0, 30, 60, 90], yticklabels=["", "60°", "30°", ""])
    axes.set_xticks(
        [radians(one) for one in range(0, 360, 45)], ["N", "NE", "E", "SE", "S", "SW", "W", "NW"], fontsize=12
    )
    axes.tick_params(axis="y", labelsize=10, labelcolor=GREY)
    systems = list(dict.fromkeys(one.system for one in marks))
    for one in marks:
        colour = _SYSTEM_COLOURS[systems.index(one.system) % len(_SYSTEM_COLOURS)]
        if not one.places:
            continue
        round_, high = [radians(azimuth) for _, azimuth in one.places], [90 - elevation for elevation, _ in one.places]
        axes.plot(round_, high, color=colour, linewidth=1, alpha=0.6)
        strength = 0.0 if one.signal is None else min(1.0, max(0.0, (one.signal - _WEAK) / (_STRONG - _WEAK)))
        face = colour if one.used else "white"
        axes.scatter(
            [round_[-1]], [high[-1]], s=40 + 160 * strength, color=face, edgecolors=colour, linewidths=1.5, zorder=3
        )
        axes.annotate(f"{one.number}", (round_[-1], high[-1]), fontsize=10, xytext=(8, 4), textcoords="offset points")
    handles = [axes.scatter([], [], s=80, color=_SYSTEM_COLOURS[at % 6], label=name) for at, name in enumerate(systems)]
    handles.append(axes.scatter([], [], s=80, color="white", edgecolors=GREY, label="not used"))
    axes.legend(handles=handles, fontsize=11, loc="upper left", bbox_to_anchor=(1.08, 1.06), frameon=False)


def _scatter(axes: Axes, one: ScatterDrawing) -> None:
    from matplotlib.patches import Circle

    most = max(many for _, _, many in one.places)
    axes.scatter(
        [east for east, _, _ in one.places],
        [north for _, north, _ in one.places],
        s=[8 + 30 * many / most for _, _, many in one.places],
        color=BLUE,
        alpha=0.45,
        linewidths=0,
    )
    for radius, share, colour in ((one.radius_50, "50 %", GREEN), (one.radius_95, "95 %", ORANGE)):
        label = f"{share} within {radius:.2f} m"
        axes.add_patch(Circle((0, 0), radius, fill=False, color=colour, linewidth=2, label=label))
    axes.plot([0], [0], "+", color=RED, markersize=14, markeredgewidth=2, label="mean")
    reach = max(1.25 * one.radius_95, 0.5)
    far = sum(many for east, north, many in one.places if max(abs(east), abs(north)) > reach)
    axes.set(xlim=(-reach, reach), ylim=(-reach, reach), aspect="equal")
    outside = f"; {far} outside the picture" if far else ""
    axes.set_title(f"{one.count} positions, circles right to {one.error:.2g} m{outside}", fontsize=12)
    axes.set_xlabel("east of the mean (m)", fontsize=13)
    axes.set_ylabel("north of the mean (m)", fontsize=13)
    axes.grid(alpha=0.3)
    axes.tick_params(labelsize=11)
    axes.legend(fontsize=11, loc="upper left")


def _states(axes: Axes, drawing: Drawing) -> None:
    unit, factor = _in_unit(drawing.seconds)
    names: list[str] = []
    for at, (name, spans) in enumerate(drawing.states.items()):
        colour = _SYSTEM_COLOURS[at % len(_SYSTEM_COLOURS)]
        for state in dict.fromkeys(state for _, _, state in spans):
            bars = [
                (begins * factor, max(ends - begins, drawing.seconds / 900) * factor)
                for begins, ends, one in spans
                if one == state
            ]
            axes.broken_barh(bars, (len(names) - 0.32, 0.64), color=colour)
            names.append(f"{name}: {state}")
    axes.set_yticks(range(len(names)), names, fontsize=12, parse_math=False)
    axes.set(ylim=(len(names) - 0.4, -0.6), xlim=(0, drawing.seconds * factor))
    axes.set_xlabel(f"time ({unit})", fontsize=13)
    axes.grid(axis="x", alpha=0.3)
    axes.tick_params(labelsize=11)


def _timers(part: Any, timers: Sequence[TimerDrawing], last: float) -> None:
    unit, factor = _in_unit(last)
    for axes, one in zip(part.subplots(1, len(timers), squeeze=False)[0], timers, strict=True):
        longest = max([passed for _, passed in one.observed] + [one.asked or 0.0, one.granted or 0.0])
        own_unit, own = _in_unit(longest)
        for value, label, colour, style in (
            (one.asked, "asked", GREY, "--"),
            (one.granted, "granted", ORANGE, "-"),
        ):
            if value is not None:
                told = f"{label} {spoken(value) if value else 'off'}"
                axes.axhline(value * own, color=colour, linewidth=2, linestyle=style, label=told)
        label = f"observed, {len(one.observed)} times"
        axes.plot(
            [at * factor for at, _ in one.observed],
            [passed * own for _, passed in one.observed],
            "o",
            color=BLUE,
            markersize=6,
            label=label,
        )
        axes.set(ylim=(0, 1.6 * longest * own or 1.0), xlim=(0, last * factor))
        axes.set_ylabel(f"{one.name} ({own_unit})", fontsize=13, parse_math=False)
        axes.set_xlabel(f"time ({unit})", fontsize=13)
        axes.grid(alpha=0.3)
        axes.tick_params(labelsize=11)
        axes.legend(fontsize=11, loc="upper center", ncols=2)


def _series(axes: Axes, one: SeriesDrawing, last: float) -> None:
    unit, factor = _in_unit(last)
    at = [when * factor for when, _, _, _ in one.points]
    axes.fill_between(
        at, [least for _, least, _, _ in one.points], [most for _, _, _, most in one.points], color=BLUE, alpha=0.2
    )
    axes.plot(at, [mean for _, _, mean, _ in one.points], "o-", color=BLUE, markersize=4, linewidth=1.2)
    axes.set_ylabel(f"{one.name}\n({one.unit})", fontsize=13, parse_math=False)
    axes.set(xlim=(0, last * factor))
    axes.set_xlabel(f"time ({unit})", fontsize=13)
    axes.grid(alpha=0.3)
    axes.tick_params(labelsize=11)
