"""Finds and reads the files that are named: lexicons, sheets, dialogues, fixtures, secrets, certificates, images.

The rule: a lexicon beside the sheet goes before one in a folder of the settings, that before one in the user's folder, and
that before a shipped one. A sheet or a dialogue of another person reads from its own folder only, and what the call allows. A
secret comes from the environment, a file or a prompt, never from the command line, where any process could read it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from functools import cache
from pathlib import Path

import msgspec

from wexicon.core.dialogue import Program, read_dialogue
from wexicon.core.dialogue.reader import is_plain, read_plain_lines
from wexicon.core.faults import CallFault, Complaint, Fault, FileFault
from wexicon.core.formats.fixture import Fixture, read_fixture
from wexicon.core.formats.lexicon import Lexicon, read_lexicon
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_reading import Around, read_sheet
from wexicon.core.formats.units import UnitsTable, read_units
from wexicon.core.registry import Registry
from wexicon.core.text import counted, meant, plain
from wexicon.core.values import FileContent, Value
from wexicon.files import open_regular, read_file, shipped_folder, state_folder, user_folder
from wexicon.programs import require_ours
from wexicon.settings_file import lexicon_folders
from wexicon.work.contact.power import PinRecord, run_command

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


# How many days before it expires a certificate gets a warning.
SOON = 90
MARK = b"-----BEGIN CERTIFICATE-----"


def expiries(wanted: Mapping[str, Value]) -> Iterator[str]:
    """A note for each setting whose certificate has expired, is not valid yet, or expires soon."""
    for name, value in wanted.items():
        data = value.data if isinstance(value, FileContent) else None
        if not data or MARK not in data:
            continue
        from cryptography.x509 import load_pem_x509_certificates

        try:
            made = load_pem_x509_certificates(data)
        except ValueError:
            yield f"{name}: the certificate cannot be read"
            continue
        now = datetime.now(UTC)
        for one in made:
            begins, ends = one.not_valid_before_utc, one.not_valid_after_utc
            if ends <= now:
                yield f"{name}: the certificate expired on {ends:%Y-%m-%d}"
            elif begins > now:
                yield f"{name}: the certificate is not valid before {begins:%Y-%m-%d}"
            elif (ends - now).days < SOON:
                yield f"{name}: the certificate expires on {ends:%Y-%m-%d}, in {counted((ends - now).days, 'day')}"


def brought_by_others(group: str) -> Mapping[str, object]:
    """What other packages bring under an entry point group. Looked for only when a name is not known: it takes long."""
    from importlib.metadata import entry_points

    found: dict[str, object] = {}
    for entry in entry_points(group=group):
        with suppress(Exception):
            found[entry.name] = entry.load()
    return found


Registry.find_more = staticmethod(brought_by_others)


@cache
def package_folders() -> tuple[Path, ...]:
    """Folders of lexicons that other packages bring: an entry point of the group `wexicon.lexicons` names a package."""
    from importlib.metadata import entry_points
    from importlib.resources import files

    found = []
    for entry in entry_points(group="wexicon.lexicons"):
        with suppress(ImportError, TypeError):
            found.append(Path(str(files(entry.value))))
    return tuple(found)


def _in(folder: Path, beside: Path | None) -> Iterator[tuple[str, Path]]:
    if folder.is_dir():
        for path in sorted(folder.glob("*.toml")):
            if path.is_file() and (folder != beside or _is_lexicon(path)):
                yield path.stem, path


def _is_lexicon(path: Path) -> bool:
    """Whether a file beside the sheet is one."""
    with suppress(Fault), open_regular(path) as file:
        return b"[about]" in file.read(65_536)
    return False


def _is_there(path: Path) -> bool:
    # A name may be longer than the system's names.
    with suppress(OSError):
        return path.is_file()
    return False


def _folders(beside: Path | None) -> list[Path | None]:
    return list(dict.fromkeys((beside, *lexicon_folders(), user_folder(), shipped_folder())))


def lexicon_files(beside: Path | None = None) -> Iterator[tuple[str, Path]]:
    """Every lexicon there is, by name; the first of a name is the one that is used."""
    for folder in (*_folders(beside), *package_folders()):
        if folder:
            yield from _in(folder, beside)


def path_of(name: str, beside: Path | None) -> Path:
    """The file of a lexicon's name. Raises CallFault with what was probably meant."""
    if name and Path(name).name == name:
        for folder in _folders(beside):
            path = folder / f"{name}.toml" if folder else None
            if path and _is_there(path) and (folder != beside or _is_lexicon(path)):
                if folder in lexicon_folders():
                    require_ours(path)
                return path
    known = dict(reversed(list(lexicon_files(beside))))
    if name in known:
        return known[name]
    raise CallFault(f"there is no lexicon {name}", hint=meant(name, known))


def find_lexicon(name: str, beside: Path | None = None) -> Lexicon:
    """The lexicon of a name, or at a path. Raises Fault.

    print(wexicon.find_lexicon("lindle-l9").settings["power"].meaning)
    """
    if name.endswith(".toml"):
        path = (beside or Path()) / name
    elif Path(name).name != name:
        # Of other files not even the first line is shown.
        raise CallFault(f"{name} is not a lexicon's file", hint="The name of such a file ends with .toml.")
    else:
        path = path_of(name, beside)
    return _read(path, beside)


# Lexicons that were read: the bytes of the file, those of each that it extends, and what they say. Compiling one takes longer
# than reading its file.
_READ: dict[Path, tuple[bytes, dict[str, bytes], Lexicon]] = {}


def _read(path: Path, beside: Path | None) -> Lexicon:
    """The lexicon in a file, compiled anew only if the file, or one that it extends, has changed."""
    extended: dict[str, bytes] = {}

    def find(name: str) -> bytes:
        return read_file(path_of(name, beside))

    def noted(name: str) -> bytes:
        return extended.setdefault(name, find(name))

    data, known = read_file(path), _READ.get(path)
    if known and known[0] == data and all(find(name) == text for name, text in known[1].items()):
        return known[2]
    lexicon = read_lexicon(data, str(path), noted)
    _READ[path] = data, extended, lexicon
    return lexicon


def origin_of(lexicon: Lexicon) -> str:
    """Where a lexicon came from: a file, or Wexicon itself."""
    return "shipped" if Path(lexicon.path).parent == shipped_folder() else lexicon.path


def shadowed_by(lexicon: Lexicon) -> str:
    """A note if this lexicon is used instead of the shipped one of the same name; empty otherwise."""
    path = Path(lexicon.path)
    shipped = shipped_folder() / path.name
    if path.parent == shipped_folder() or not shipped.is_file():
        return ""
    return f"lexicon {path.stem}: {lexicon.path} is used, not the shipped one"


def lexicon_for(name: str, beside: Path) -> Lexicon:
    """The lexicon that was named in a call: a path is the caller's own, a name may stand beside the file. Raises Fault."""
    return find_lexicon(str(Path(name).absolute()) if name.endswith(".toml") else name, beside)


def find_sheet(path: Path, seat: str | None, secret: Callable[[str, str], str], allowed: Sequence[Path] = ()) -> Sheet:
    """The sheet at a path, checked against its lexicons (each read once), its secrets fetched. It may name files in its own
    folder and in those that are allowed. Raises Fault."""
    folder = path.parent
    lexicon: Callable[[str], Lexicon] = cache(lambda name: find_lexicon(name, folder))

    def units(name: str, key: str) -> UnitsTable:
        return read_units(read_file(file_beside(folder, name, allowed)), str(folder / name), key)

    def dialogue(name: str) -> Program:
        return find_dialogue(file_beside(folder, name, allowed))

    def image(name: str) -> str:
        found = file_beside(folder, name, allowed)
        read_file(found, LARGEST_IMAGE)
        return str(found.absolute())

    def content(name: str) -> bytes:
        return read_file(file_beside(folder, name, allowed))

    around = Around(lexicon, secret, units, dialogue, image, content)
    sheet = read_sheet(read_file(path), str(path), around, seat)
    notes = dict.fromkeys(note for one in sheet.seats.values() if (note := shadowed_by(one.lexicon)))
    for one in sheet.seats.values():
        notes |= dict.fromkeys(expiries(one.wanted))
    return msgspec.structs.replace(sheet, notes=(*notes, *sheet.notes)) if notes else sheet


def find_dialogue(path: Path) -> Program:
    """The dialogue at a path, or the plain lines of a file that is no .wex. Raises Fault."""
    try:
        text = read_file(path).decode("utf-8")
    except UnicodeDecodeError as fault:
        complaint = Complaint(f"byte {fault.start} is not UTF-8", hint="save the file as UTF-8")
        raise FileFault(str(path), [complaint]) from None
    if path.suffix != ".wex" and is_plain(text):
        return read_plain_lines(text, str(path))
    return read_dialogue(text, str(path))


def fixture_at(path: Path | None) -> Fixture:
    """The fixture that a file describes, or none. Raises Fault."""
    record = PinRecord(state_folder() / "pins")
    return read_fixture(read_file(path), str(path), run_command, record) if path else Fixture(record=record)


def all_lexicons() -> list[Lexicon]:
    """Every lexicon that can be named and read."""
    found: dict[str, Lexicon] = {}
    for name, _ in lexicon_files():
        if name not in found:
            try:
                found[name] = find_lexicon(name)
            except Fault:
                continue
    return list(found.values())


Fetch = Callable[[str, str], str]


def secrets_for(folder: Path, ask: Callable[[str], str] | None, allowed: Sequence[Path] | None = None) -> Fetch:
    """Fetches secrets by kind and name: `env`, `file`, `prompt` (asked by `ask`; None where there is no one to ask). A file is
    in the folder or in one that is allowed; anywhere if `allowed` is None. Raises ValueError if there is no value."""

    def fetch(kind: str, name: str) -> str:
        if kind == "env":
            if name not in os.environ:
                raise ValueError(f"the environment variable {name} is not set")
            return os.environ[name]
        if kind == "file":
            try:
                path = folder / name if allowed is None else file_beside(folder, name, allowed)
                return read_file(path).decode("utf-8").rstrip("\r\n")
            except Fault as fault:
                hint = f". {fault.hint}" if fault.hint else ""
                raise ValueError(f"the secret's file {name}: {fault.what}{hint}") from None
            except UnicodeDecodeError:
                raise ValueError(f"the secret's file {name} is not UTF-8") from None
        if ask is None:
            raise ValueError("the secret must be asked for, and there is no terminal to ask on")
        return ask(name)

    return fetch
