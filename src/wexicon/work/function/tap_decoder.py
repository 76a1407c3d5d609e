"""What passes between a host and its module, as lines and answers: decoded, reported to the listeners, rates followed; live,
or from a capture, which becomes a trace as if Wexicon had been the tap.

The rule: it only looks on; a secret is shown nowhere. Our side moves when the module's answer says that its rate does, or when
words that this side has said before come at another rate, and at one rate only. What was wrong on the line is reported at its
place; times count from the first byte.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.reader import Part, said_secrets
from wexicon.core.module_state.state import ModuleState
from wexicon.core.protocol.dialect import OK, Dialect, ReplyStatus
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.exchange import ENDED, Exchange
from wexicon.core.protocol.framing import Framer
from wexicon.core.protocol.keyed import as_keys
from wexicon.core.protocol.layers import cutter, stacked
from wexicon.core.protocol.line_faults import Side
from wexicon.core.protocol.masking import Redactor, Secrets
from wexicon.core.protocol.observations import Heard, Listener, Logged, Observation, Said, Tuned
from wexicon.core.protocol.speech import Speech
from wexicon.core.results.functions import Imported
from wexicon.core.standards.waveform import WaveformReading, true_rate
from wexicon.core.text import garbled, to_text
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.records.captures import Capture
from wexicon.records.trace_writer import TraceWriter
from wexicon.work.module.opening import expected

# The silence that ends what is compared as one (seconds), and how much of it is (bytes).
PAUSE = 0.03
MOST = 256
# How many of a side's last words are known, and how alike garbage must be to one of them.
KNOWN = 12
ALIKE = 0.7
# ITU-T V.250, 5.2 and 6.3.
USUAL = (b"AT\r", b"AT\r\n", b"\r\nOK\r\n", b"OK\r\n", b"\r\nERROR\r\n")


class RateWatch:
    """One side's words, and what became of them."""

    def __init__(self) -> None:
        self._known: deque[bytes] = deque(maxlen=KNOWN)
        self._burst = bytearray()
        self._last = 0.0

    def feed(self, data: bytes, now: float) -> None:
        """Takes in bytes that came at the time `now`, after `elapse`."""
        if len(self._burst) < MOST:
            self._burst += data
        self._last = now

    def elapse(self, now: float, ours: Tuning) -> int | None:
        """The rate of what came before a silence, if it was garbage at ours and one rate explains it."""
        if not self._burst or now - self._last < PAUSE:
            return None
        burst = bytes(self._burst)
        self._burst.clear()
        if not garbled(to_text(burst)):
            if burst not in self._known:
                self._known.append(burst)
            return None
        return true_rate(burst, ours, (*self._known, *USUAL), least=ALIKE)


# The silence that ends a line of a host that uses no line ending (seconds).
HOST_GAP = 0.02


class TapDecoder:
    """Decodes both ways of one tap. `moved` is called with the tuning to which the module goes."""

    def __init__(
        self, lexicon: Lexicon | None, tuning: Tuning, listener: Listener, moved: Callable[[Tuning], None]
    ) -> None:
        self.lexicon = lexicon
        self.dialect = lexicon.dialect if lexicon else Dialect(Speech())
        self.secrets = Secrets()
        for pattern, names in lexicon.secret_lines() if lexicon else ():
            self.secrets.add_pattern(pattern, names)
        self.listener = Redactor(listener, self.secrets)
        self.lines = self.answers = 0
        self._tuning, self._moved = tuning, moved
        # Without a lexicon rates are followed by the waveform.
        self._watches = {} if lexicon else {side: RateWatch() for side in Side}
        self._module = Engine(self.dialect)
        self._module.station = tuning.station
        # The host's lines are cut as the module's, but for prompts.
        speech = self.dialect.speech
        self._layers = stacked(speech)
        silent = speech.line_end == "" and not speech.in_digits
        self._host = (
            cutter(speech, self._layers, ())
            if speech.in_digits
            else Framer("silence" if silent else "lines", HOST_GAP if silent else 0.0)
        )
        self._exchange: Exchange | None = None
        # What is known of the module, by what both sides say.
        self.state = ModuleState(lexicon, tuning)
        self.reader = self.state.reader
        self._link = self.state.link
        self._last = dict.fromkeys(Side, 0.0)

    def flush(self) -> None:
        """Reports what waits."""
        self.listener.flush()

    def feed(self, side: Side, data: bytes, now: float) -> None:
        """Takes in bytes that a side sent at the time `now`."""
        self.elapse(now)
        self._last[side] = now
        if side in self._watches:
            self._watches[side].feed(data, now)
        if side is Side.MODULE:
            self._tell(self._module.feed(data, now))
            self._after()
            return
        while count := self.reader.takes(data):
            if whole := self.reader.piece(data[:count]):
                self._begin((whole,), whole.text, now, exact=True)
            data = data[count:]
        self._host.prompts = ()
        pieces = self._host.feed(data, now) if data else []
        for layer in self._layers:
            layer.station = self._tuning.station
            pieces = layer.feed(pieces)
        for piece in pieces:
            self._line(piece if isinstance(piece, str) else self.dialect.speech.shown(piece.text), now)

    def elapse(self, now: float) -> None:
        """Time has passed: silence may have ended something."""
        for side, watch in self._watches.items():
            if rate := watch.elapse(now, self._tuning):
                self._tuning = Tuning.of(rate, self._tuning.frame)
                told = f"the {side} sends at {rate} by the waveform; what came before was passed on at the old rate"
                self.listener.note(Logged(now, told))
                self._tuned(now)
        # Whose last byte came first has ended first.
        for side in sorted(self._last, key=self._last.__getitem__):
            if side is Side.MODULE:
                self._tell(self._module.elapse(now))
                continue
            pieces = self._host.elapse(now)
            for layer in self._layers:
                pieces = layer.feed(pieces)
            for piece in pieces:
                if isinstance(piece, str):
                    self._line(piece, now)
        self._after()

    def _line(self, text: str, now: float) -> None:
        """The host said a line."""
        self.lines += 1
        if self.dialect.form == "json":
            text = as_keys(text)
        elif self.dialect.form == "sentences":
            text = text.partition("*")[0]
        elif self.dialect.speech.more:
            # The key that turned a page has no line of its own.
            text = text.removeprefix(self.dialect.speech.more.say)
        self._after()
        self.state.heard_part(self._module.partial)
        self._begin(self.reader.line(text), text, now)

    def _begin(self, parts: tuple[Part, ...], text: str, now: float, *, exact: bool = False) -> None:
        """The host has said this: what answers it comes next."""
        self._module.abandon()
        for secret in said_secrets(text, parts):
            self.secrets.learn(secret)
        expect, within = (OK, None) if exact else expected(parts, self.dialect)
        limit = self.dialect.within if within is None else within
        self._exchange = Exchange(self.dialect, text, expect, now, now + limit)
        self._module.begin(self._exchange, text)
        self.state.parts_of_next(parts)
        self._note(Said(now, self.reader.masked(text, parts), exact))

    def _tell(self, heard: Sequence[Heard]) -> None:
        self._module.due = b""
        for seen in heard:
            self._note(seen)

    def _note(self, seen: Observation) -> None:
        """Reports what was said or heard; where the module's link moves by it, our sides go there."""
        self.listener.note(seen)
        self.state.note(seen)
        self._follow()

    def _follow(self) -> None:
        link = self.state.link
        if link is None or link is self._link:
            return
        self._link = link
        if link.value != self._tuning:
            self._tuning = link.value
            self._module.station = self._tuning.station
            self.listener.note(Logged(link.since, f"the module moves to {self._tuning}: {link.by}"))
            self._tuned(link.since)

    def _tuned(self, now: float) -> None:
        """Both sides of the tap go where the module is."""
        tuned = Tuned(now, self._tuning)
        self.listener.note(tuned)
        self.state.note(tuned)
        self._moved(self._tuning)

    def _after(self) -> None:
        """An answer may be complete."""
        if self._exchange is not None and self._exchange.state is ENDED:
            answered = self._exchange.outcome.status is ReplyStatus.OK
            self.answers += answered
            self._exchange = None
            self.state.ended(answered=answered)
            self._follow()


# When it is looked after the last byte whether an answer has ended by its silence (seconds).
LINGERS = (0.05, 0.2, 1.0, 5.0, 60.0)
# How far a usual rate may be from the measured one to be taken for it.
OFF_BY = 0.015


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
        speech=speech or Speech(),
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
    return Tuning.of(nearest, tuning.frame) if abs(nearest - tuning.rate) <= OFF_BY * nearest else tuning


def _told(one: WaveformReading) -> str:
    usual = _usual(one.tuning)
    measured = f", measured {one.tuning.rate}" if usual.rate != one.tuning.rate else ""
    return f"{usual}{measured}{', inverted' if one.inverted else ''}"
