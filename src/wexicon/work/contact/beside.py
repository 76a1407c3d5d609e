"""The files that a sheet names: secrets, tables, dialogues; and those that a dialogue transfers.

The rule: a sheet or a dialogue may come from another person, and the files that it names may be sent to a module: so it reads
from its own folder only, and what the call allows or names itself.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from wexicon.core.dialogue import Program
from wexicon.core.faults import CallFault
from wexicon.core.secret import plain
from wexicon.files import read_file

# What a firmware image may be at most (bytes).
LARGEST_IMAGE = 67_108_864


def file_beside(folder: Path, name: str, allowed: Sequence[Path] = ()) -> Path:
    """The file of a name in a sheet, in or below the sheet's folder or one that is allowed. Raises CallFault."""
    path = folder / name
    try:
        real = path.resolve()
        if any(real.is_relative_to(one.resolve()) for one in (folder, *allowed)):
            return path
    except (OSError, RuntimeError, ValueError) as fault:
        raise CallFault(f"{name} is not a file: {getattr(fault, 'strerror', None) or fault}") from None
    hint = f"If the sheet may read it, say --allow-folder {real.parent}."
    raise CallFault(f"{name} is outside the sheet's folder", hint=hint)


class TransferFiles:
    """The files that a dialogue transfers: those that the call named for it, and those of its own folder."""

    def __init__(self, program: Program, values: Mapping[str, object]) -> None:
        self._folder = Path(program.path).parent
        needs = [need.name for need in program.needs() if need.kind == "file"]
        self._named = {str(plain(values[name])) for name in needs if name in values}

    def locate(self, path: str) -> str:
        """The path of a file in the dialogue's folder, from wherever the program runs. Raises CallFault for any other file."""
        return str(file_beside(self._folder, path).absolute())

    def read(self, path: str) -> bytes:
        """The bytes of a file. Raises CallFault."""
        return read_file(Path(path) if path in self._named else Path(self.locate(path)), LARGEST_IMAGE)
