"""The figures of the report, as SVG.

The rule: each mark of a figure is in the records. A figure has the page's own text colour, so that it is readable in light and
dark.
"""

from __future__ import annotations

import io
import re
import warnings
from collections import Counter
from collections.abc import Sequence
from statistics import median
from typing import TYPE_CHECKING, NamedTuple

from wexicon.core.results.result import Measurement
from wexicon.core.results.unit import UnitResult
from wexicon.core.text import counted, visible
from wexicon.records.entry import step_name, times_by_step
from wexicon.records.exports import first_failure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.axis import Axis
    from matplotlib.figure import Figure


# Matplotlib knows no "colour of the text around": this one stands for it until the figure is written.
INK = "#123457"
GREEN, RED, AMBER, GREY, BLUE = "#3c9a5f", "#d0453a", "#c98a1b", "#8a939d", "#4a86c5"
SHADES = (BLUE, "#7fb0dd", "#d98a2b", "#8f6bb3", "#4fa3a0", "#b9735a", "#a3a94a", GREY)
# Beyond this many units their times are a histogram; of other things no more are drawn.
MOST_UNITS, MOST_MEASURED, MOST_REASONS, LONGEST = 30, 8, 10, 46


class Drawn(NamedTuple):
    """A figure: what it shows, and its SVG."""

    caption: str
    svg: str


def figures(units: Sequence[tuple[str, UnitResult]]) -> list[Drawn]:
    """The figures of these units, each with its name; those that would be empty are left out."""
    results = [result for _, result in units]
    made = [_outcomes(results), _reasons(results), _step_times(results), _unit_times(units), *_measurements(results)]
    return [one for one in made if one]


def _new(height: float, caption: str) -> tuple[Figure, Axes]:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(6.2, height), layout="constrained")
    axes = figure.subplots()
    axes.set_title(caption, fontsize=12, loc="left", parse_math=False)
    return figure, axes


def _written(figure: Figure, caption: str, number: int) -> Drawn:
    """The figure as text: without the frame of a file, its parts named after it."""
    import matplotlib as mpl

    for axes in figure.axes:
        axes.set_facecolor("none")
        axes.spines[["top", "right"]].set_visible(False)
        axes.tick_params(labelsize=10, colors=INK)
        for part in (axes.title, axes._left_title, axes.xaxis.label, axes.yaxis.label):  # type: ignore[attr-defined]
            part.set_color(INK)
        for spine in axes.spines.values():
            spine.set_color(INK)
    figure.patch.set_alpha(0.0)
    whole = io.StringIO()
    nothing = dict.fromkeys(("Date", "Creator", "Format", "Type"))
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": caption}), warnings.catch_warnings():
        # The browser has glyphs that Matplotlib's own font lacks.
        warnings.simplefilter("ignore", UserWarning)
        figure.savefig(whole, format="svg", metadata=nothing)
    text = whole.getvalue()
    text = text[text.index("<svg") :].replace(INK, "currentColor")
    text = re.sub(r' xmlns(:xlink)?="[^"]*"| version="1\.1"', "", text, count=3)
    # A style for all elements would be one for the whole page.
    text = re.sub(r"<style[^>]*>.*?</style>", "", text, count=1, flags=re.DOTALL)
    text = re.sub(r'( id="|url\(#|href="#)', rf"\g<1>f{number}-", text)
    return Drawn(caption, re.sub(r'width="[^"]*pt" height="[^"]*pt"|height="[^"]*pt"', "", text, count=2))


def step_outcomes(results: Sequence[UnitResult]) -> tuple[Counter[str], Counter[str]]:
    """How many units did each step, and how many ended there."""
    passed: Counter[str] = Counter()
    failed: Counter[str] = Counter()
    for result in results:
        done = times_by_step(result.steps)
        passed.update(list(done))
        if result.failure and (at := step_name(result.failure.step)):
            failed[at] += 1
            passed[at] -= at in done
    return passed, failed


def _outcomes(results: Sequence[UnitResult]) -> Drawn | None:
    """How many units did each step, and how many ended there, as bars."""
    passed, failed = step_outcomes(results)
    names = [*passed, *(name for name in failed if name not in passed)]
    if not names:
        return None
    figure, axes = _new(1.1 + 0.32 * len(names), "Outcome by step")
    axes.barh(range(len(names)), [passed[name] for name in names], color=GREEN, label="done")
    ends = [passed[name] for name in names]
    axes.barh(range(len(names)), [failed[name] for name in names], left=ends, color=RED, label="ended here")
    for row, name in enumerate(names):
        if failed[name]:
            axes.annotate(
                f" {failed[name]}",
                (passed[name] + failed[name], row),
                va="center",
                fontsize=10,
                color=RED,
                weight="bold",
            )
    _named(axes, names)
    axes.set_xlabel("units", fontsize=11)
    _whole_numbers(axes.xaxis)
    _legend(axes)
    return _written(figure, "Outcome by step", 1)


def _step_times(results: Sequence[UnitResult]) -> Drawn | None:
    """How long each step took: the median, and from the shortest to the longest."""
    taken: dict[str, list[float]] = {}
    for result in results:
        for name, seconds in times_by_step(result.steps).items():
            taken.setdefault(name, []).append(seconds)
    if not taken:
        return None
    names = list(taken)
    caption = "Time by step" + (", median and range" if len(results) > 1 else "")
    figure, axes = _new(1.1 + 0.32 * len(names), caption)
    axes.barh(range(len(names)), [median(taken[name]) for name in names], color=BLUE)
    if len(results) > 1:
        axes.hlines(range(len(names)), [min(taken[n]) for n in names], [max(taken[n]) for n in names], color=INK)
    _named(axes, names)
    axes.set_xlabel("time (s)", fontsize=11)
    return _written(figure, caption, 2)


def _unit_times(units: Sequence[tuple[str, UnitResult]]) -> Drawn | None:
    """How long each unit took, by its steps; of many units how many took how long."""
    timed = [(name, result) for name, result in units if result.steps]
    if len(timed) < 2:
        return None
    if len(timed) > MOST_UNITS:
        caption = f"Time by unit: {len(timed)} units"
        figure, axes = _new(2.8, caption)
        axes.hist([result.seconds for _, result in timed], bins=40, color=BLUE)
        axes.set_xlabel("time of a unit (s)", fontsize=11)
        axes.set_ylabel("units", fontsize=11)
        _whole_numbers(axes.yaxis)
        return _written(figure, caption, 3)
    figure, axes = _new(1.6 + 0.3 * len(timed), "Time by unit")
    taken = [times_by_step(result.steps) for _, result in timed]
    steps = list(dict.fromkeys(step for own in taken for step in own))
    left = [0.0] * len(timed)
    for at, step in enumerate(steps):
        wide = [own.get(step, 0.0) for own in taken]
        axes.barh(range(len(timed)), wide, left=left, color=SHADES[at % len(SHADES)], label=step)
        left = [have + more for have, more in zip(left, wide, strict=True)]
    _named(axes, [_short(name, 28) for name, _ in timed])
    axes.set_xlabel("time (s)", fontsize=11)
    _legend(axes)
    return _written(figure, "Time by unit", 3)


def _measurements(results: Sequence[UnitResult]) -> list[Drawn]:
    """Each measurement of all units, over its limits."""
    found: dict[tuple[str, str], list[Measurement]] = {}
    for result in results:
        for one in [*result.measurements, *(one for test in result.tests for one in test.measurements)]:
            found.setdefault((one.name, one.unit), []).append(one)
    made = []
    for number, ((name, unit), ones) in enumerate(list(found.items())[:MOST_MEASURED], 10):
        caption = _short(f"{name} ({unit})" if unit else name) + f": {counted(len(ones), 'measurement')}"
        figure, axes = _new(1.5, caption)
        for limit in sorted({limit for one in ones for limit in (one.low, one.high) if limit is not None}):
            axes.axvline(limit, color=AMBER, linewidth=2, linestyle="--")
            axes.annotate(
                f" limit {limit:g}", (limit, 0.98), xycoords=("data", "axes fraction"), va="top", fontsize=9, color=INK
            )
        for colour, right in ((GREEN, True), (RED, False)):
            values = [one.value for one in ones if is_within(one) is right]
            # Spread out, so that equal values are seen to be several.
            heights = [0.25 + 0.5 * ((at * 7) % 11) / 11 for at in range(len(values))]
            axes.plot(values, heights, "o" if right else "X", color=colour, markersize=6, alpha=0.8)
        axes.set(ylim=(0, 1.15), yticks=[])
        axes.margins(x=0.12)
        made.append(_written(figure, caption, number))
    return made


def is_within(one: Measurement) -> bool:
    """Whether a measurement is within its limits, whatever its record says of that."""
    return (one.low is None or one.value >= one.low) and (one.high is None or one.value <= one.high)


def _reasons(results: Sequence[UnitResult]) -> Drawn | None:
    """What failed, the most frequent first."""
    reasons = Counter(
        _short(f"{failure.step}: {failure.what}".removeprefix(": "))
        for result in results
        if (failure := first_failure(result))
    )
    if not reasons:
        return None
    some = reasons.most_common(MOST_REASONS)
    figure, axes = _new(1.0 + 0.34 * len(some), "Failures by reason")
    axes.barh(range(len(some)), [count for _, count in some], color=RED)
    for at, (_, count) in enumerate(some):
        axes.annotate(f" {count}", (count, at), va="center", fontsize=10, color=INK)
    _named(axes, [reason for reason, _ in some])
    axes.set_xlabel("units", fontsize=11)
    _whole_numbers(axes.xaxis)
    return _written(figure, "Failures by reason", 4)


def _named(axes: Axes, names: Sequence[str]) -> None:
    """A line for each name, the first at the top."""
    axes.set_yticks(range(len(names)), names, parse_math=False)
    axes.invert_yaxis()


def _whole_numbers(axis: Axis) -> None:
    from matplotlib.ticker import MaxNLocator

    axis.set_major_locator(MaxNLocator(6, integer=True))


def _legend(axes: Axes) -> None:
    made = axes.legend(fontsize=9, loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False, labelcolor=INK)
    for text in made.get_texts():
        text.set_parse_math(False)


def _short(text: str, most: int = LONGEST) -> str:
    """The first line of a text, as far as there is room."""
    line = visible(text.splitlines()[0] if text else "")
    return line if len(line) <= most else f"{line[: most - 3]}..."
