"""How fast `listen` decodes: sentences of a receiver, events and states, each over a loop that only splits lines.

The rule: what is counted must be all that was fed; a figure of a run that lost a line is no figure.
"""

from __future__ import annotations

import contextlib
import io
import statistics
import tempfile
import time
import tracemalloc
from pathlib import Path

from wexicon.cli.listen import _Shown
from wexicon.core.agenda import Agenda
from wexicon.core.protocol.observations import Listeners
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock
from wexicon.records.trace_writer import TraceWriter
from wexicon.rigs.standins.polmar_p1 import PolmarP1
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.ears import Ears, ListenOrder
from wexicon.work.function.listening import listen

PIECE = 1024


class Fed:
    """A link that has all its bytes already, as often as is said, and then nothing more."""

    def __init__(self, data: bytes, times: int = 1) -> None:
        self.clock, self.name, self.tuning = RealClock(), "fed", Tuning(115200)
        self._data, self._at, self._left = data, 0, times

    def read(self, until: float) -> bytes:
        piece = self._data[self._at : self._at + PIECE]
        self._at += PIECE
        if not piece:
            self._at, self._left = 0, self._left - 1
            if not self._left:
                raise KeyboardInterrupt
            return self.read(until)
        return piece

    def close(self) -> None:
        """Nothing to close."""


def sentences(seconds: float) -> bytes:
    """What a receiver of four systems says in this time (seconds)."""
    agenda, said = Agenda(), []
    settings = {"out": ("GGA", "RMC", "GSA", "GSV"), "talker": "GN", "port": (115200, 8, "N", 1)}
    one = PolmarP1(agenda, "one", settings)
    one.say = lambda text, delay=None: said.append(str(text))  # type: ignore[method-assign]
    one.power(True)
    agenda.run_until(seconds)
    return "".join(said).encode()


def heard(data: bytes) -> float:
    """Seconds that `listen` takes for all of it, traced and printed. Raises AssertionError if a line is lost."""
    lexicon = find_lexicon("polmar-p1")
    link, shown = Fed(data), _Shown(as_json=False)
    ears = Ears(lexicon, ListenOrder(), shown)
    with tempfile.TemporaryDirectory() as folder, contextlib.redirect_stdout(io.StringIO()):
        trace = TraceWriter(Path(folder) / "t", link.clock, link="x", tuning=link.tuning)
        session = Session(link, lexicon.dialect, Listeners(trace, ears))  # type: ignore[arg-type]
        began = time.perf_counter()
        made = listen(session, ears)
        shown.print()
        took = time.perf_counter() - began
        trace.close()
    assert sum(made.result.events.values()) == data.count(b"$")
    return took


def rate() -> tuple[float, float]:
    """Sentences a second, and how many times the splitting alone is faster."""
    data = sentences(600)
    count = data.count(b"$")
    ours, bare = [], []
    for _ in range(5):
        ours.append(heard(data))
        began = time.perf_counter()
        kept = [line for at in range(0, len(data), PIECE) for line in data[at : at + PIECE].split(b"\r\n")]
        bare.append(time.perf_counter() - began)
        assert kept
    mine, base = statistics.median(ours), statistics.median(bare)
    return count / mine, mine / base


def growth() -> float:
    """Bytes of memory that twice as many sentences leave behind, once its sketches have their size."""
    lexicon, data, kept = find_lexicon("polmar-p1"), sentences(60), []
    for times in (120, 240):
        ears = Ears(lexicon, ListenOrder(), lambda event: None)
        tracemalloc.start()
        session = Session(Fed(data, times), lexicon.dialect, ears)  # type: ignore[arg-type]
        assert sum(listen(session, ears).result.events.values()) == times * data.count(b"$")
        # What has just come, and waits to be forgotten, is not kept.
        session.events.clear()
        kept.append(tracemalloc.get_traced_memory()[0])
        tracemalloc.stop()
    return kept[1] - kept[0]
