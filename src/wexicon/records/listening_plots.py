"""The figure of a listening session: the sky and the scatter of positions, states and timers over time, numbers over time.

The rule: a panel is drawn for what came, and none for what did not; each axis says what it is and in which unit.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from math import radians
from typing import TYPE_CHECKING, Any

import msgspec

from wexicon.core.durations import spoken
from wexicon.records.trace_plot import BLUE, GREEN, GREY, ORANGE, RED

if TYPE_CHECKING:
    from matplotlib.axes import Axes

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
