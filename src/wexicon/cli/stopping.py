"""How a command that works with modules is stopped.

The rule: the first request stops after the current exchange, which leaves the module reachable; the second stops at once.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from wexicon.cli.show import print_warning
from wexicon.cli.signals import signals_to


class Stop:
    """Whether a stop was requested. That it was is printed when this is asked next, not by the signal's handler: the handler
    may have interrupted the printing of something else, which cannot be entered twice."""

    def __init__(self) -> None:
        self.asked = self._told = False

    def __call__(self) -> bool:
        if self.asked and not self._told:
            self._told = True
            print_warning("\nstopping after this exchange (Ctrl-C again: stop now)")
        return self.asked

    def _request(self) -> None:
        if self.asked:
            raise KeyboardInterrupt
        self.asked = True

    @contextlib.contextmanager
    def listening(self) -> Iterator[Stop]:
        """Takes Ctrl-C, and the system's requests to end, while the block lasts."""
        with signals_to(self._request):
            yield self
