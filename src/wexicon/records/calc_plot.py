"""What `wexicon calc` worked out for a list or range of an argument, as a figure.

The rule: each axis says what it is and in which unit; an answer that could not be worked out is no point.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from wexicon.core.engineering.quantities import shown

if TYPE_CHECKING:
    from matplotlib.axis import Axis

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
