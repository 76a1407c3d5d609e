"""The settings that are in force on this bench, and where each comes from.

The rule: an option of the call goes before a variable of the environment (WEXICON_NAME), that before the `wexicon.toml` beside
the work or in a folder above, that before the one in the person's own folder. A file that is wrong is reported, never passed
over.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from wexicon.files import config_folder

if TYPE_CHECKING:
    from wexicon.core.formats.fixture import SettingsFile


FILE = "wexicon.toml"
# Each with the value in force if nothing says otherwise.
DEFAULTS = {
    "register": "",
    "lexicons": "",
    "fixture": "",
    "operator": "person",
    "patience": "60s",
    "prove": "auto",
    "bench": "",
    "report.title": "",
}
_PATHS = ("register", "lexicons", "fixture")


class InForce:
    """One setting: its value, as text, and where that is from: a variable, a file, or `default`."""

    def __init__(self, name: str, value: str, source: str) -> None:
        self.name, self.value, self.source = name, value, source


def value_of(name: str) -> str:
    """The value of a setting; empty if there is none. Raises FileFault."""
    return setting(name).value


def setting(name: str) -> InForce:
    """A setting that is in force. Raises FileFault."""
    variable = "WEXICON_" + name.upper().replace(".", "_")
    given = os.environ.get(variable)
    # WEXICON_LEXICONS is the person's own folder, which is looked in after those of the project.
    if given and name != "lexicons":
        return InForce(name, given, variable)
    for path in files():
        if value := _in_file(name, path):
            return InForce(name, value, str(path))
    return InForce(name, given, variable) if given else InForce(name, DEFAULTS[name], "default")


def lexicon_folders() -> list[Path]:
    """The person's and the project's folders of lexicons, the first of which is looked in first. Raises FileFault."""
    return [Path(one) for one in value_of("lexicons").split(os.pathsep) if one]


def named_ports() -> dict[str, tuple[str, str]]:
    """What each name of a port stands for, and which file says so. Raises FileFault."""
    made: dict[str, tuple[str, str]] = {}
    for path in reversed(list(files())):
        made |= {name: (port, str(path)) for name, port in _read(path).ports.items()}
    return made


def files() -> Iterator[Path]:
    """The files that are read, the strongest first."""
    try:
        here = Path.cwd()
    except FileNotFoundError:
        here = Path("/")
    above = next((folder / FILE for folder in (here, *here.parents) if (folder / FILE).is_file()), None)
    own = config_folder() / FILE
    if above:
        from wexicon.programs import require_ours

        require_ours(above)
        yield above
    if own.is_file() and own != above:
        yield own


def is_projects(path: Path) -> bool:
    """Whether a `wexicon.toml` beside the work or above it names this fixture. Raises FileFault."""
    found = setting("fixture")
    return Path(found.value) == path and found.source.endswith(FILE) and Path(found.source).parent != config_folder()


def _read(path: Path) -> SettingsFile:
    from wexicon.core.formats.fixture import read_settings
    from wexicon.files import read_file

    return read_settings(read_file(path), str(path))


def _in_file(name: str, path: Path) -> str:
    """The value of a setting in a file; empty if it is not there."""
    file = _read(path)
    if name == "report.title":
        return file.report.title
    value = getattr(file, name)
    texts = value if isinstance(value, list) else [value] if value else []
    if name in _PATHS:
        texts = [one if "://" in one else str(path.parent / Path(one).expanduser()) for one in texts]
        _require_ours(texts if name != "register" else [])
    return os.pathsep.join(texts)


def _require_ours(texts: Iterable[str]) -> None:
    """What a file names that may bring a program to run, or words to a module."""
    from wexicon.programs import require_ours

    for text in texts:
        if (path := Path(text)).exists():
            require_ours(path)
