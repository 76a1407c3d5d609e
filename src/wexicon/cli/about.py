"""`wexicon --version`, and what a bug report needs.

The rule: nothing of the user's work is in it: no path, no port, no name.
"""

from __future__ import annotations

from wexicon.cli.show import print_line
from wexicon.version import __version__

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
