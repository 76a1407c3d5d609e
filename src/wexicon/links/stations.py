"""Names of ports behind which are several modules: `/dev/ttyUSB0#2` is the one with number 2.

The rule: all of them share one device, so in one program only one of them is open at a time; the others wait.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Callable
from typing import Any, Self

import msgspec

from wexicon.core.protocol.link import Link
from wexicon.core.tuning import Tuning

_NUMBERED = re.compile(r"(.+)#([0-9]{1,5})")
_guard = threading.Lock()
_devices: dict[str, threading.Lock] = {}


def split_station(name: str) -> tuple[str, int | None]:
    """The device in the name of a port, and the number of the module behind it, None if it has none."""
    found = _NUMBERED.fullmatch(name)
    return (found[1], int(found[2])) if found else (name, None)


def turn_at(device: str) -> threading.Lock:
    """What must be held while one of the modules behind this device is open."""
    with _guard:
        return _devices.setdefault(device, threading.Lock())


class Shared:
    """The link of a device as that of one module behind it: its own name, and its number in each tuning."""

    def __init__(self, link: Link, name: str, station: int, leave: Callable[[], None]) -> None:
        self._link, self.name, self._leave = link, name, leave
        self.tune(msgspec.structs.replace(link.tuning, station=station))
        self._open = True

    def __getattr__(self, name: str) -> Any:
        return getattr(self._link, name)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def tune(self, tuning: Tuning) -> None:
        """Tunes the device. Raises CannotTune."""
        self._link.tune(tuning)
        self.tuning = tuning

    def close(self) -> None:
        """Closes the device; the next one has its turn."""
        self._link.close()
        if self._open:
            self._open = False
            self._leave()
