"""Files and folders, read and made with care; where Wexicon keeps its own; and libraries that are installed on request only.

The rule: only regular files of a stated size are read, so that no device or pipe hangs or fills the program; what is made is
for its owner alone, and nothing that exists is written over unless that was asked for. WEXICON_CONFIG, WEXICON_LEXICONS,
WEXICON_STATE and WEXICON_RUN each replace a folder; otherwise they are where the system keeps such files (on Linux by the XDG
Base Directory Specification 0.8). That a library is missing is found out before anything is sent to a module.
"""

from __future__ import annotations

import contextlib
import os
import stat
import sys
import threading
from collections.abc import Iterable, Iterator
from hashlib import sha256
from importlib.util import find_spec
from pathlib import Path
from typing import BinaryIO, TypeVar

from wexicon.core.faults import CallFault
from wexicon.system import lock

_PACKAGE = Path(__file__).parent
_Kept = TypeVar("_Kept")


def config_folder() -> Path:
    """The user's own choices."""
    return _folder("WEXICON_CONFIG", "XDG_CONFIG_HOME", ".config", "user_config_path")


def user_folder() -> Path:
    """The user's own lexicons."""
    own = os.environ.get("WEXICON_LEXICONS")
    return Path(own) if own else config_folder() / "lexicons"


def state_folder() -> Path:
    """Traces, the register, and what is unfinished."""
    return _folder("WEXICON_STATE", "XDG_STATE_HOME", ".local/state", "user_state_path")


def run_folder() -> Path:
    """The cards of running rigs, and the locks of ports."""
    own = os.environ.get("WEXICON_RUN")
    if own:
        return Path(own)
    return _folder("", "XDG_STATE_HOME", ".local/state", "user_state_path") / "rigs"


def shipped_folder() -> Path:
    """The lexicons that come with Wexicon."""
    return _PACKAGE / "lexicons"


def _folder(own: str, variable: str, usual: str, ask: str) -> Path:
    """A folder by our own variable, or the system's way; on Linux that takes no library, which would take time to import."""
    if own and os.environ.get(own):
        return Path(os.environ[own])
    if sys.platform == "linux":
        base = os.environ.get(variable, "")
        # The specification: a path that is not absolute is ignored.
        return (Path(base) if os.path.isabs(base) else Path.home() / usual) / "wexicon"  # noqa: PTH117 - no import
    import platformdirs

    found: Path = getattr(platformdirs, ask)("wexicon")
    return found


# What a sheet, lexicon, dialogue, rig, fixture or secret may be at most (bytes).
LARGEST_FILE = 4_194_304
OVERWRITE = "Use another file, or --force to overwrite."


def open_regular(path: Path) -> BinaryIO:
    """A regular file, opened for reading. Raises CallFault; a pipe or a device is not waited for."""
    try:
        number = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    except (OSError, ValueError) as fault:
        why = getattr(fault, "strerror", None) or fault
        raise CallFault(f"cannot be read: {why}", where=str(path)) from None
    mode = os.fstat(number).st_mode
    if not stat.S_ISREG(mode):
        os.close(number)
        what = "a folder" if stat.S_ISDIR(mode) else "a pipe, a device or a socket"
        raise CallFault(f"cannot be read: it is {what}, not a file", where=str(path))
    return os.fdopen(number, "rb")


def read_file(path: Path, most: int = LARGEST_FILE) -> bytes:
    """The bytes of a regular file that has `most` bytes at most. Raises CallFault."""
    try:
        with open_regular(path) as file:
            data = file.read(most + 1)
    except OSError as fault:
        raise CallFault(f"cannot be read: {fault.strerror}", where=str(path)) from None
    if len(data) > most:
        raise CallFault(f"is larger than {most} bytes, and so is not what it should be", where=str(path))
    return data


def read_record(path: Path, kind: type[_Kept]) -> _Kept | None:
    """The content of a JSON file that Wexicon wrote; None if there is no such file. Raises CallFault if it is damaged, too
    large, or not a regular file."""
    import msgspec

    try:
        return msgspec.json.decode(read_file(path), type=kind)
    except CallFault:
        # Another process may have taken it away meanwhile.
        if os.path.lexists(path):
            raise
        return None
    except (msgspec.MsgspecError, UnicodeDecodeError) as fault:
        raise CallFault(f"is damaged: {fault}", where=str(path)) from None


def private_folder(path: Path, *, own: bool = True) -> Path:
    """The folder, made with all that leads to it for its owner alone; `own` where it holds nothing but ours, and an older,
    more open one is closed too."""
    for folder in (*reversed(path.parents), path):
        if not folder.exists():
            folder.mkdir(mode=0o700, exist_ok=True)
    if own and stat.S_IMODE(path.stat().st_mode) & 0o077:
        path.chmod(0o700)
    return path


def write_whole(path: Path, data: bytes, *, sync: bool = True, own: bool = True) -> None:
    """Writes a file of ours so that it is whole or as it was before; with `sync` it is on the disk when this returns; `own`
    where its folder is ours too. Raises CallFault."""
    beside = _beside(path)
    try:
        folder = private_folder(path.parent, own=own)
        with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
            file.write(data)
            file.flush()
            if sync:
                os.fsync(file.fileno())
        beside.replace(path)
    except OSError as fault:
        with contextlib.suppress(OSError):
            beside.unlink(missing_ok=True)
        raise CallFault(f"cannot be written: {fault.strerror}", where=str(path)) from None
    if not sync:
        return
    with contextlib.suppress(OSError):
        number = os.open(folder, os.O_RDONLY)
        os.fsync(number)
        os.close(number)


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    """Keeps others of this user's processes and threads from changing a file while the block lasts; waits for them first."""
    name = sha256(os.fsencode(path.resolve())).hexdigest()[:32]
    number = os.open(private_folder(run_folder() / "files") / name, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        lock(number, wait=True)
        yield
    finally:
        os.close(number)


def create(path: Path, *, force: bool = False) -> BinaryIO:
    """A new file for its owner alone, opened for writing; `force` puts it in the place of one that is there, of a link too.
    Raises CallFault."""
    try:
        private_folder(path.parent, own=False)
        if force and (path.exists() or path.is_symlink()):
            if not path.is_file() and not path.is_symlink():
                raise CallFault("cannot be written: it is not a file", where=str(path))
            path.unlink()
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)
        return os.fdopen(os.open(path, flags, 0o600), "wb", buffering=0)
    except FileExistsError:
        raise CallFault("already exists; nothing was written", where=str(path), hint=OVERWRITE) from None
    except OSError as fault:
        raise CallFault(f"cannot be written: {fault.strerror}", where=str(path)) from None


def write_new(path: Path, text: str | bytes | Iterable[bytes], *, force: bool = False) -> None:
    """Writes a new file, whole or not at all: beside its place first; a large one part by part. Raises CallFault; then nothing
    is left behind."""
    parts = [text.encode("utf-8")] if isinstance(text, str) else [text] if isinstance(text, bytes) else text
    if path.is_dir() or (path.exists() and not path.is_file()):
        raise CallFault("cannot be written: it is not a file", where=str(path))
    if not force and (path.exists() or path.is_symlink()):
        raise CallFault("already exists; nothing was written", where=str(path), hint=OVERWRITE)
    beside = _beside(path)
    try:
        with create(beside, force=True) as file:
            for part in parts:
                while part:
                    part = part[file.write(part) :]
        if force:
            beside.replace(path)
        else:
            _put(beside, path)
    except FileExistsError:
        raise CallFault("already exists; nothing was written", where=str(path), hint=OVERWRITE) from None
    except CallFault as fault:
        raise CallFault(fault.what, where=str(path), hint=fault.hint) from None
    except OSError as fault:
        raise CallFault(f"cannot be written whole: {fault.strerror}", where=str(path)) from None
    finally:
        beside.unlink(missing_ok=True)


def _beside(path: Path) -> Path:
    """Where a file is written before it gets its name: no other process or thread writes there."""
    return path.with_name(f".{path.name[:200]}.{os.getpid()}-{threading.get_ident()}")


def _put(beside: Path, path: Path) -> None:
    """Gives a file its name, if nothing has it. Raises FileExistsError."""
    try:
        os.link(beside, path)
    except FileExistsError:
        raise
    except OSError:
        # A file system without links: between these two another program may be faster.
        if path.exists():
            raise FileExistsError from None
        beside.replace(path)


EXTRAS = {"matplotlib": "plots", "jinja2": "report", "segno": "report", "psycopg": "postgresql"}


def installed(library: str) -> bool:
    """Whether a library is there."""
    return find_spec(library) is not None


def needs(*libraries: str) -> None:
    """Raises CallFault if one of these libraries is not installed."""
    for name in libraries:
        if not installed(name):
            raise missing(name)


def missing(library: str) -> CallFault:
    """That a library is not installed."""
    hint = f"Install it: pip install 'wexicon[{EXTRAS[library]}]'"
    return CallFault(f"this needs {library}, which is not installed", hint=hint)
