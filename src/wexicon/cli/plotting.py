"""Figures that a command writes beside its result.

The rule: whether the file can be written is found out before anything is sent.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.core.faults import CallFault
from wexicon.extras import needs
from wexicon.files import OVERWRITE, write_new

if TYPE_CHECKING:
    from wexicon.work.results.dialogue import DialogueResult

plot_option = click.option(
    "--plot",
    "plot_path",
    type=click.Path(path_type=Path),
    help="Draw lines sent and received, and measurements (.png, .svg, .pdf).",
)


def kind_of(path: Path) -> str:
    """The kind of a figure's file."""
    return path.suffix.removeprefix(".").lower()


def check_plot(path: Path | None, force: bool) -> None:
    """Raises CallFault if a figure cannot be written there."""
    from wexicon.records.plots import KINDS

    if path:
        needs("matplotlib")
    if path and kind_of(path) not in KINDS:
        raise CallFault(f"is none of .{', .'.join(KINDS)}", where=str(path))
    if path and path.exists() and not force:
        raise CallFault("already exists; nothing was sent", where=str(path), hint=OVERWRITE)


def write_plot(result: DialogueResult, trace: Path, path: Path, force: bool) -> None:
    """The figure of a dialogue, from its trace and its result."""
    from wexicon.records.dialogue_plot import Bar, plot_dialogue
    from wexicon.records.trace_reader import read_trace
    from wexicon.work.results.verdicts import Verdict

    bars = [
        Bar(one.name, one.value, one.unit, one.low, one.high, one.limits, one.verdict is Verdict.PASSED)
        for one in result.measurements
    ]
    title = f"{Path(result.dialogue).name}: {result.verdict}"
    write_new(path, plot_dialogue(title, list(read_trace(trace)), bars, kind_of(path)), force=force)
