"""What is remembered of a port: the link at which a module last answered there, and its lexicon.

The rule: it is only ever tried first; nothing is believed because it was so last time.
"""

from __future__ import annotations

from contextlib import suppress
from hashlib import sha256
from pathlib import Path

import msgspec

from wexicon.bench_settings import lexicon_folders
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.tuning import Tuning
from wexicon.files import read_file, write_whole
from wexicon.folders import shipped_folder, state_folder, user_folder
from wexicon.work.contact.ports import key_of


class KnownLink(msgspec.Struct, frozen=True):
    """The port by what it is known by, how our side was tuned, the line end, the lexicon's name or path ("" for none), and the
    SHA-256 digest of its file, if it is at a path."""

    key: str
    tuning: Tuning
    end: str = ""
    lexicon: str = ""
    digest: str = ""

    @property
    def has_changed(self) -> bool:
        """Whether the lexicon's file has changed since it was stored: another person may have written it."""
        return self.digest != _digest(self.lexicon)


# What is known of ports in virtual time, while they are there.
IN_MEMORY: dict[str, KnownLink | None] = {}


def _digest(lexicon: str) -> str:
    """The digest of a lexicon's file; none for those that are known by name."""
    if not lexicon.endswith(".toml"):
        return ""
    try:
        return sha256(read_file(Path(lexicon))).hexdigest()
    except CallFault:
        return "gone"


def remembered(port: str) -> KnownLink | None:
    """What is known of a port; None where nothing is."""
    if port in IN_MEMORY:
        return IN_MEMORY[port]
    with suppress(OSError, msgspec.DecodeError, ValueError):
        found = msgspec.json.decode(_path(key_of(port)).read_bytes(), type=KnownLink)
        return found if Tuning.of(found.tuning.rate, found.tuning.frame) else None
    return None


def remember(port: str, tuning: Tuning, end: str, lexicon: str) -> None:
    """Keeps where a module answered. What cannot be kept is not missed."""
    key = key_of(port)
    known = KnownLink(key, tuning, end, lexicon, _digest(lexicon))
    if port in IN_MEMORY:
        IN_MEMORY[port] = known
    elif known != remembered(port):
        with suppress(CallFault):
            # One that is lost is found again.
            write_whole(_path(key), msgspec.json.encode(known), sync=False)


def named(lexicon: Lexicon) -> str:
    """How a lexicon can be named again from anywhere: by its name where that is enough, or by its path."""
    path = Path(lexicon.path).absolute()
    return path.stem if path.parent in (shipped_folder(), user_folder(), *lexicon_folders()) else str(path)


def _path(key: str) -> Path:
    return state_folder() / "links" / f"{sha256(key.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}.json"
