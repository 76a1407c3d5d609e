"""Finds and reads the files that commands name: lexicons, sheets, and where secrets come from.

The rule: a lexicon beside the sheet goes before one in the user's folder, and that before a shipped one.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from importlib.metadata import entry_points
from importlib.resources import files
from pathlib import Path

import click
import platformdirs

from wexicon.core.faults import CallFault, Fault
from wexicon.core.formats.lexicon import Lexicon, read_lexicon
from wexicon.core.formats.sheet import Sheet, read_sheet
from wexicon.core.text import meant

LARGEST_FILE = 4_194_304


def read_file(path: Path) -> bytes:
    """The bytes of a file that is small enough to be what it should be. Raises CallFault."""
    try:
        if path.is_file() and path.stat().st_size > LARGEST_FILE:
            raise CallFault(f"is larger than {LARGEST_FILE} bytes: this is no such file", where=str(path))
        return path.read_bytes()
    except OSError as fault:
        raise CallFault(f"cannot be read: {fault.strerror}", where=str(path)) from None


def user_folder() -> Path:
    """Where the user's own lexicons live."""
    own = os.environ.get("WEXICON_LEXICONS")
    return Path(own) if own else platformdirs.user_config_path("wexicon") / "lexicons"


def state_folder() -> Path:
    """Where traces are kept."""
    own = os.environ.get("WEXICON_STATE")
    return Path(own) if own else platformdirs.user_state_path("wexicon")


def shipped_folder() -> Path:
    """The lexicons that come with Wexicon."""
    return Path(str(files("wexicon") / "lexicons"))


def package_folders() -> list[Path]:
    """Folders of lexicons that other packages bring: an entry point of the group `wexicon.lexicons` names a package."""
    found = []
    for entry in entry_points(group="wexicon.lexicons"):
        with suppress(ImportError, TypeError):
            found.append(Path(str(files(entry.value))))
    return found


def lexicon_files(beside: Path | None = None) -> Iterator[tuple[str, Path]]:
    """Every lexicon there is, by name; the first of a name is the one that is used."""
    for folder in (beside, user_folder(), *package_folders(), shipped_folder()):
        if folder and folder.is_dir():
            for path in sorted(folder.glob("*.toml")):
                if folder != beside or b"[about]" in path.read_bytes()[:65_536]:
                    yield path.stem, path


def find_lexicon(name: str, beside: Path | None = None) -> Lexicon:
    """The lexicon of a name, or at a path. Raises Fault."""
    if name.endswith(".toml") or os.sep in name:
        path = (beside or Path()) / name
        return read_lexicon(read_file(path), str(path), lambda other: _bytes_of(other, beside))
    known = {}
    for stem, path in lexicon_files(beside):
        if stem == name:
            return read_lexicon(read_file(path), str(path), lambda other: _bytes_of(other, beside))
        known[stem] = path
    raise CallFault(f"there is no lexicon {name}", hint=meant(name, known))


def _bytes_of(name: str, beside: Path | None) -> bytes:
    """The file of a lexicon that another one extends. Raises CallFault."""
    for stem, path in lexicon_files(beside):
        if stem == name:
            return read_file(path)
    raise CallFault(f"there is no lexicon {name}", hint=meant(name, [stem for stem, _ in lexicon_files(beside)]))


def find_sheet(path: Path, seat: str | None) -> Sheet:
    """The sheet at a path, checked against its lexicons, its secrets fetched. Raises Fault."""
    folder = path.parent
    return read_sheet(read_file(path), str(path), lambda name: find_lexicon(name, folder), secrets_for(folder), seat)


def secrets_for(folder: Path) -> Callable[[str, str], str]:
    """Fetches secrets from the environment, from files beside the sheet, or from the person."""

    def fetch(kind: str, name: str) -> str:
        if kind == "env":
            if name not in os.environ:
                raise ValueError(f"the environment variable {name} is not set")
            return os.environ[name]
        if kind == "file":
            try:
                return read_file(folder / name).decode("utf-8").rstrip("\r\n")
            except Fault as fault:
                raise ValueError(f"the secret's file {name} {fault.what}") from None
            except UnicodeDecodeError:
                raise ValueError(f"the secret's file {name} is not UTF-8") from None
        if not sys.stdin.isatty():
            raise ValueError("the secret must be asked for, and there is no terminal to ask on")
        return str(click.prompt(name, hide_input=True, err=True))

    return fetch
