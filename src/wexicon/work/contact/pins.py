"""The pins that a fixture holds for a moment, on disk: if the run is killed meanwhile, the next one puts them back.

The rule: the record is written before a pin is driven, and removed after it was put back.
"""

from __future__ import annotations

import contextlib
from hashlib import sha256
from pathlib import Path

import msgspec

from wexicon.files import write_whole


class PinRecord:
    """The pins that have to be put back, a file for each port in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _path(self, port: str) -> Path:
        return self.folder / f"{sha256(port.encode()).hexdigest()[:32]}.json"

    def begin(self, port: str, states: dict[str, bool]) -> None:
        """These pins of a port have to be put to these states."""
        write_whole(self._path(port), msgspec.json.encode({**self.left(port), **states}))

    def end(self, port: str, states: dict[str, bool]) -> None:
        """These pins were put back."""
        left = {name: on for name, on in self.left(port).items() if name not in states}
        if left:
            write_whole(self._path(port), msgspec.json.encode(left))
        else:
            with contextlib.suppress(FileNotFoundError):
                self._path(port).unlink()

    def left(self, port: str) -> dict[str, bool]:
        """The pins of a port that were not put back, and their states."""
        try:
            return msgspec.json.decode(self._path(port).read_bytes(), type=dict[str, bool])
        except (OSError, msgspec.DecodeError):
            return {}
