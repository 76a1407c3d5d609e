"""Where secrets come from: the environment, a file, or a prompt; never the call itself, where any process could read it."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

from wexicon.core.faults import Fault
from wexicon.files import read_file
from wexicon.work.contact.beside import file_beside

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
