"""A PostgreSQL server for the tests alone: in a folder of its own, on a port of its own, stopped and started at will."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import Any

import psycopg

MISSING = (
    "PostgreSQL's server programs are not installed: `make test` brings them with apt, or install postgresql yourself"
)


class PostgresServer:
    """The server; `url` is a register on it."""

    def __init__(self) -> None:
        found = [shutil.which("postgres"), *map(str, Path("/usr/lib/postgresql").glob("*/bin/postgres"))]
        programs = [Path(one).parent for one in found if one]
        assert programs, MISSING
        self._programs = programs[-1]
        # It refuses to run as root: then its own user runs it.
        self._user = pwd.getpwnam("postgres") if os.getuid() == 0 else None
        self.folder = Path(tempfile.mkdtemp(prefix="wexicon-pg-"))
        if self._user:
            os.chown(self.folder, self._user.pw_uid, self._user.pw_gid)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self._run("initdb", "-D", str(self.folder / "data"), "-U", "bench", "-A", "trust", "--no-sync")
        self.url = f"postgresql+psycopg://bench@127.0.0.1:{self.port}/postgres"
        self.start()

    def start(self) -> None:
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -k {self.folder} -c fsync=off"
        self._control("start", "-w", "-o", options, "-l", str(self.folder / "log"))

    def connect(self) -> psycopg.Connection[Any]:
        return psycopg.connect(self.url.replace("+psycopg", ""), autocommit=True)

    def stop(self) -> None:
        """Cuts every connection."""
        self._control("stop", "-m", "fast")

    def close(self) -> None:
        with suppress(subprocess.CalledProcessError):  # a test that failed may have left it stopped
            self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def _control(self, *words: str) -> None:
        self._run("pg_ctl", "-D", str(self.folder / "data"), *words)

    def _run(self, program: str, *words: str) -> None:
        own = {"user": self._user.pw_uid, "group": self._user.pw_gid, "extra_groups": []} if self._user else {}
        quiet = subprocess.DEVNULL
        subprocess.run(
            [self._programs / program, *words], check=True, stdout=quiet, stderr=quiet, cwd=self.folder, **own
        )
