"""`wexicon` alone: the ports and modules that are here, unfinished work, the next likely command; `--version`; and with `-v`
which settings were in force and where each came from.

The rule: nothing is opened and nothing is said to a module. In what `--version` prints for a bug report there is no path, no
port and no name.
"""

from __future__ import annotations

from pathlib import Path

import click

from wexicon import settings_file
from wexicon.cli.show import print_line, print_note, print_table
from wexicon.core.faults import CallFault
from wexicon.core.results.listed import PortInfo
from wexicon.core.results.unit import Unfinished
from wexicon.core.text import counted, visible
from wexicon.files import read_file, state_folder
from wexicon.version import __version__
from wexicon.work.contact.ports import KnownLink, found_ports, remembered
from wexicon.work.provisioning.unfinished import FileStore

# Files of this folder that are looked at, and how many are named.
MOST_FILES = 200
SHOWN = 5


def print_here() -> None:
    """Prints all of it."""
    ports = found_ports()
    known = {one.port: remembered(one.port) for one in ports}
    unfinished = FileStore(state_folder() / "unfinished").all()
    sheets = _sheets()
    print_line(f"Wexicon {__version__}: provisions radio and positioning modules over a UART")
    print_line("")
    if ports:
        columns = ("port", "name", "what", "module, when it last answered")
        rows = [(one.port, one.name or one.unit, one.what, _module(known[one.port])) for one in ports]
        used = [at for at in range(len(columns)) if any(row[at] for row in rows)]
        print_table([columns[at] for at in used], [[row[at] for at in used] for row in rows])
    else:
        print_line("no serial port found")
    for work in unfinished[:SHOWN]:
        print_line(f"unfinished: {visible(work.unit)}, since {work.began:%Y-%m-%d %H:%M} UTC", "magenta")
    if len(unfinished) > SHOWN:
        print_line(f"and {counted(len(unfinished) - SHOWN, 'more unit')} unfinished", "magenta")
    print_line("")
    print_table(("next", "what it does"), _next(ports, known, unfinished, sheets))


def _module(known: KnownLink | None) -> str:
    if known is None:
        return "not known yet"
    name = Path(known.lexicon).stem if known.lexicon else "no lexicon"
    return f"{name} at {known.tuning.rate} {known.tuning.frame}"


def _sheets() -> list[str]:
    """The sheets in this folder."""
    found = []
    for path in sorted(Path().glob("*.toml"))[:MOST_FILES]:
        try:
            text = read_file(path).decode(errors="replace")
        except CallFault:
            continue
        if "\n[seat." in f"\n{text}":
            found.append(path.name)
    return found


def _next(
    ports: list[PortInfo], known: dict[str, KnownLink | None], unfinished: list[Unfinished], sheets: list[str]
) -> list[tuple[str, str]]:
    """The next likely commands, and what each does."""
    # A port of which the system tells nothing is likely the machine's own, with nothing behind it.
    free = sorted((one for one in ports if not one.used_by), key=lambda one: not one.what)
    new = next((one.name or one.unit or one.port for one in free if known[one.port] is None), None)
    old = next((one.name or one.unit or one.port for one in free if known[one.port] is not None), None)
    made = []
    if unfinished:
        made.append(("wexicon units list", "lists what is unfinished; to finish it, provision that unit again"))
    if new:
        made.append((f"wexicon hail {new}", "finds out what is there"))
    if old:
        made.append((f"wexicon readout {old}", "prints identity and all settings"))
    made += [(f"wexicon rehearse {name}", "runs this sheet in virtual time, without hardware") for name in sheets[:2]]
    if old and sheets:
        made.append((f"wexicon provision {sheets[0]} {old}", "writes its settings, reads them back"))
    if not ports:
        made += [("wexicon ports --watch", "reports the port that appears when you plug the adapter in")]
    made += [("wexicon demo", "shows all of it at work, without hardware"), ("wexicon --help", "lists all commands")]
    return made


# What comes with Wexicon and may differ between two machines.
PARTS = (
    *("alembic", "click", "cryptography", "geographiclib", "jinja2", "matplotlib", "msgspec", "numpy", "platformdirs"),
    *("prompt_toolkit", "psycopg", "pyserial", "rich", "segno", "sqlalchemy", "wcwidth"),
)


def print_version(*, details: bool) -> None:
    """The version; with details also those of Python, the system and the libraries."""
    print_line(f"wexicon {__version__}")
    if not details:
        return
    import platform
    import sys
    from importlib.metadata import PackageNotFoundError, version

    print_line(f"Python {platform.python_version()} ({platform.python_implementation()})")
    print_line(f"{platform.system()} {platform.release()} {platform.machine()}")
    print_line(f"terminal {'yes' if sys.stdout.isatty() else 'no'}, output {sys.stdout.encoding}")
    for name in PARTS:
        try:
            print_line(f"{name} {version(name)}")
        except PackageNotFoundError:
            print_line(f"{name} not installed")


def unset(name: str) -> str:
    """What is meant where nothing is set."""
    from wexicon.files import state_folder, user_folder
    from wexicon.records.entry import bench_name

    return {
        "register": str(state_folder() / "register.db"),
        "lexicons": str(user_folder()),
        "fixture": "none",
        "bench": bench_name(),
        "report.title": "the sheet's title",
    }.get(name, "")


def tell_settings() -> None:
    """Says which settings were in force in the call that ends, and from where."""
    ctx = click.get_current_context()
    for param in ctx.command.params:
        name = getattr(param.default, "setting", "")
        if name and param.name:
            given = ctx.get_parameter_source(param.name) is click.core.ParameterSource.COMMANDLINE
            own = settings_file.setting(name)
            value, source = (ctx.params.get(param.name), "the call") if given else (own.value, own.source)
            print_note(f"{name}: {value or unset(name)} (from {source})")
    for name in ("lexicons", "bench"):
        one = settings_file.setting(name)
        if one.source != "default":
            print_note(f"{name}: {one.value} (from {one.source})")
