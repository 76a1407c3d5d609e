"""A capture from elsewhere becomes a trace, as if Wexicon had been the tap between host and module.

The rule: what was wrong on the line is told at its place; times count from the first byte, and the date is that of the file.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.line_faults import Side
from wexicon.core.protocol.observations import Logged
from wexicon.core.standards.waveform import Reading
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.records.captures import Capture
from wexicon.records.trace_writer import TraceWriter
from wexicon.work.function.tap_decoder import TapDecoder
from wexicon.work.results.functions import Imported

# When it is looked after the last byte whether an answer has ended by its silence (seconds).
LINGERS = (0.05, 0.2, 1.0, 5.0, 60.0)
# How far a usual rate may be from the measured one to be taken for it.
ALIKE = 0.015


class _Clock:
    """The capture's own time; it began at `began`."""

    def __init__(self, began: datetime) -> None:
        self.began, self.at = began, 0.0

    def now(self) -> float:
        return self.at

    def wall(self, at: float) -> datetime:
        return self.began + timedelta(seconds=at)


def import_capture(
    capture: Capture, source: Path, path: Path, lexicon: Lexicon | None, *, force: bool = False
) -> Imported:
    """Writes the capture of a file as a trace. Raises CallFault if the trace cannot be created."""
    tuning = next((_usual(one.tuning) for one in capture.tunings.values()), lexicon.factory if lexicon else Tuning())
    first = capture.sent[0].at
    last = capture.sent[-1].at - first
    ended = datetime.fromtimestamp(source.stat().st_mtime, UTC)
    clock, speech = _Clock(ended - timedelta(seconds=last)), lexicon.speech if lexicon else None
    writer = TraceWriter(
        path,
        clock,
        link=source.name,
        tuning=tuning,
        end=speech.end if speech else "crlf",
        form=speech.answer if speech else "lines",
        layers=speech.layers if speech else (),
        force=force,
    )
    decoder = TapDecoder(lexicon, tuning, writer, lambda moved: None)
    wrong = 0
    counts = dict.fromkeys(Side, 0)
    try:
        for told in capture.assumed:
            writer.note(Logged(0.0, told))
        for one in capture.sent:
            clock.at = one.at - first
            if one.wrong:
                wrong += 1
                writer.note(Logged(clock.at, f"framing error: a byte of the {one.side} is not sure"))
            counts[one.side] += len(one.data)
            decoder.feed(one.side, one.data, clock.at)
        for after in LINGERS:
            decoder.elapse(last + after)
        decoder.flush()
    finally:
        writer.close()
    tunings = {str(side): _told(one) for side, one in capture.tunings.items()}
    return Imported(str(path), counts[Side.HOST], counts[Side.MODULE], decoder.lines, wrong, tunings)


def _usual(tuning: Tuning) -> Tuning:
    """The same at the usual rate that is nearest, if one is near."""
    nearest = min(USUAL_RATES, key=lambda rate: abs(rate - tuning.rate))
    return Tuning.of(nearest, tuning.frame) if abs(nearest - tuning.rate) <= ALIKE * nearest else tuning


def _told(one: Reading) -> str:
    usual = _usual(one.tuning)
    measured = f", measured {one.tuning.rate}" if usual.rate != one.tuning.rate else ""
    return f"{usual}{measured}{', inverted' if one.inverted else ''}"
