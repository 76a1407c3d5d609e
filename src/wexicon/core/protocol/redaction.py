"""Masks secrets in everything that a session reports to its listeners.

The rule: a line that may hold the first part of a secret waits until the next one shows whether it does. A listener that
fails (a full disk, a closed pipe) is reported nothing more; the session stops between two exchanges.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import deque
from itertools import accumulate

import msgspec

from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Heard, Listener, Observation

# How many observations are kept to explain a failure.
MOST_RECENT = 256


class Redactor(Listener):
    """In front of a listener. `lost` says why it hears no more; `recent` are the last observations, without secrets."""

    def __init__(self, listener: Listener, secrets: Secrets) -> None:
        self.lost = ""
        self.recent: deque[Observation] = deque(maxlen=MOST_RECENT)
        self._listener = listener
        self._secrets = secrets
        self._waiting: list[Heard] = []

    def note(self, seen: Observation) -> None:
        if not self._secrets.any:
            # The usual case, without a step more than it needs.
            self.recent.append(seen)
            if not self.lost:
                try:
                    self._listener.note(seen)
                except OSError as fault:
                    self._lose(fault)
        elif isinstance(seen, Heard):
            self._secrets.overhear(seen.text)
            if self._waiting or self._secrets.unfinished(seen.text):
                self._waiting.append(seen)
                self._release(final=False)
            else:
                text = self._secrets.mask(seen.text)
                self._pass(seen if text == seen.text else Heard(seen.at, text, seen.role, seen.name))
        else:
            self.flush()
            changed = {name: self._secrets.mask(text) for name in ("text", "note") if (text := getattr(seen, name, ""))}
            self._pass(msgspec.structs.replace(seen, **changed) if changed else seen)

    def idle(self) -> None:
        if not self.lost:
            try:
                self._listener.idle()
            except OSError as fault:
                self._lose(fault)

    def flush(self) -> None:
        """Passes on what waits."""
        if self._waiting:
            self._release(final=True)

    def _release(self, *, final: bool) -> None:
        """Passes on all lines that cannot be part of a secret which goes on."""
        waiting = self._waiting
        texts = [seen.text for seen in waiting]
        joined = "".join(texts)
        ends = list(accumulate(map(len, texts)))
        open_from = len(joined) + 1 if final else len(joined) - (self._secrets.unfinished(joined) or -1)
        count = bisect_right(ends, open_from - 1) if open_from <= len(joined) else len(texts)
        across = self._secrets.places(joined) if len(texts) > 1 else []
        for index, seen in enumerate(waiting[:count]):
            start, end = ends[index] - len(texts[index]), ends[index]
            parts = [(max(a, start) - start, min(b, end) - start) for a, b in across if a < end and b > start]
            text = self._secrets.mask_places(seen.text, parts)
            self._pass(seen if text == seen.text else Heard(seen.at, text, seen.role, seen.name))
        del waiting[:count]

    def _pass(self, seen: Observation) -> None:
        self.recent.append(seen)
        if not self.lost:
            try:
                self._listener.note(seen)
            except OSError as fault:
                self._lose(fault)

    def _lose(self, fault: OSError) -> None:
        if isinstance(fault, BrokenPipeError):
            self.lost = "the reader of the output is gone"
        else:
            self.lost = f"the trace cannot be written any more: {fault.strerror or fault}"
