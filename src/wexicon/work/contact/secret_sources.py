"""Where secrets come from: the environment, a file, or a prompt; never the call itself, where any process could read it."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from wexicon.core.faults import Fault
from wexicon.files import read_file

Fetch = Callable[[str, str], str]


def secrets_for(folder: Path, ask: Callable[[str], str] | None) -> Fetch:
    """Fetches secrets by kind and name: `env`, `file` (beside the sheet), `prompt` (asked by `ask`; None where there is
    no one to ask). The source raises ValueError if there is no value."""

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
        if ask is None:
            raise ValueError("the secret must be asked for, and there is no terminal to ask on")
        return ask(name)

    return fetch
