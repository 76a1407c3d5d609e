"""Libraries that are installed on request only, and what to install where one is missing.

The rule: it is found out before anything is sent to a module.
"""

from __future__ import annotations

from importlib.util import find_spec

from wexicon.core.faults import CallFault

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
