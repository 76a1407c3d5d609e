"""Which programs run: whose files may name one, what the user has confirmed, and how each is started.

The rule: every file and folder on the way from a `wexicon.toml` to a program belongs to the user or to root, and no other user
can change it; links and their targets alike. A folder named by `--allow-programs` or WEXICON_ALLOW_PROGRAMS is not checked.
The programs of a project's fixture are confirmed once for each content of its file. Every program is started here, without a
shell and without environment variables that may hold a secret. On Windows the system's own permissions are relied on.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Sequence
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

from wexicon.core.faults import CallFault
from wexicon.system import own_group, user

if TYPE_CHECKING:
    import subprocess

VARIABLE = "WEXICON_ALLOW_PROGRAMS"
# The environment variables that a program gets: none that may hold a secret.
_PASSED = ("PATH", "HOME", "USER", "LANG", "LC_ALL", "TMPDIR", "SYSTEMROOT")


def is_allowed(path: Path) -> bool:
    """Whether a file is in a folder that was named."""
    named = [Path(one).expanduser().resolve() for one in os.environ.get(VARIABLE, "").split(os.pathsep) if one]
    return any(path.resolve().is_relative_to(folder) for folder in named)


def require_ours(path: Path) -> None:
    """Raises CallFault where another user owns a file, or may change it or put another one in its place."""
    if user() is None or is_allowed(path):
        return
    for place in (Path(os.path.abspath(path)), path.resolve()):  # noqa: PTH100 - a link must not be followed here
        for one in (place, *place.parents):
            if why := _why_not(one):
                what = f"is not used: {one} {why}" if one != path else f"is not used: it {why}"
                hint = (
                    f"Make it your own, or allow its folder: wexicon --allow-programs {path.resolve().parent} COMMAND"
                )
                raise CallFault(what, where=str(path), hint=hint)


def _why_not(path: Path) -> str:
    try:
        found = path.lstat()
    except OSError as fault:
        return f"cannot be looked at: {fault.strerror}"
    if found.st_uid not in (0, user()):
        return "belongs to another user"
    if stat.S_ISLNK(found.st_mode):
        return ""
    # In such a folder only the owner of a file may put another in its place.
    sticky = stat.S_ISDIR(found.st_mode) and bool(found.st_mode & stat.S_ISVTX)
    if found.st_mode & stat.S_IWOTH and not sticky:
        return "may be changed by any user"
    if found.st_mode & stat.S_IWGRP and not sticky and found.st_gid not in (0, own_group()):
        return "may be changed by its group"
    return ""


def _agreement(path: Path) -> Path:
    """What stands for having agreed to a file at a place with this content."""
    from wexicon.files import read_file, state_folder

    place = os.fsencode(path.resolve())
    return state_folder() / "agreed" / sha256(place + b"\0" + sha256(read_file(path)).digest()).hexdigest()


def confirm(fixture: Path, ask: Callable[[str], str] | None) -> None:
    """Makes sure that the user has agreed to the programs of a project's fixture, as it is now; `ask` is None without a
    terminal. Raises CallFault."""
    from wexicon.files import write_whole

    if is_allowed(fixture) or (record := _agreement(fixture)).exists():
        return
    if ask is None:
        what = "is named by wexicon.toml and runs programs that were not confirmed"
        hint = f"Confirm them on a terminal, or allow its folder: wexicon --allow-programs {fixture.resolve().parent} COMMAND"
        raise CallFault(what, where=str(fixture), hint=hint)
    if ask("wexicon.toml names this fixture. Run these programs from now on? [y/N]").strip().lower() not in (
        "y",
        "yes",
    ):
        raise CallFault("its programs were not confirmed; nothing was sent", where=str(fixture))
    write_whole(record, b"")


def run_program(words: Sequence[str], longest: float, given: bytes = b"") -> subprocess.CompletedProcess[bytes]:
    """Runs a program with `given` on its standard input, and waits for its end, at most `longest` seconds. Raises OSError, or
    subprocess.TimeoutExpired."""
    import subprocess

    own = {name: os.environ[name] for name in _PASSED if name in os.environ}
    return subprocess.run(words, input=given, capture_output=True, timeout=longest, check=False, env=own)
