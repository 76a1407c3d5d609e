"""At which rate a side of a tap sends now, told from what its words become at the rate at which they are heard.

The rule: it is told from words that this side has said before, or nearly everybody says, and only if one rate fits alone.
"""

from __future__ import annotations

from collections import deque

from wexicon.core.standards.waveform import true_rate
from wexicon.core.text import garbled, to_text
from wexicon.core.tuning import Tuning

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
