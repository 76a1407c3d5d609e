"""The files that a sheet names: secrets, tables, dialogues.

The rule: a sheet may be somebody else's, and what it names may be said to a module: so it reads from its own folder only, and
from those that the call allows.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from wexicon.core.faults import CallFault


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
