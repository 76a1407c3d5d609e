"""What tests share: the built program, a bench of stand-ins served in this process, and sessions in virtual time."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from wexicon.core.agenda import Agenda
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.session import Session
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rig.bench import read_rig
from wexicon.rig.control import Desk
from wexicon.rig.serving import Server, real_agenda, served
from wexicon.rig.standin import StandIn
from wexicon.rig.standins import family
from wexicon.rig.uart import Faults
from wexicon.work.finding import find_lexicon
from wexicon.work.provision import Provision, UnitResult

# Shared machines stall now and then: no property fails by the clock. Where a change is judged, the same examples are tried
# each time; HYPOTHESIS_EXAMPLES asks for more of them.
settings.register_profile("here", deadline=None, max_examples=int(os.environ.get("HYPOTHESIS_EXAMPLES", "100")))
settings.register_profile("judged", deadline=None, derandomize=True)
settings.load_profile("judged" if os.environ.get("CI") else "here")

SAMPLE = Path(__file__).parents[1] / "src" / "wexicon" / "sample"


@pytest.fixture(autouse=True)
def _own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("run", "state", "lexicons"):
        monkeypatch.setenv(f"WEXICON_{name.upper()}", str(tmp_path / name))
    monkeypatch.setenv("NO_COLOR", "1")
    monkeypatch.chdir(tmp_path)


def wexicon(*words: str, status: int = 0, **options: Any) -> subprocess.CompletedProcess[str]:
    """Runs the built program and checks its exit status."""
    done = subprocess.run(
        [sys.executable, "-m", "wexicon", *words], capture_output=True, text=True, timeout=60, **options
    )
    assert done.returncode == status, f"status {done.returncode}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr
    return done


@contextmanager
def bench(text: str) -> Iterator[Server]:
    """Serves the rig in `text` (without its first line) and leaves its card for the program under test."""
    with served(read_rig(b"format = 1\n" + text.encode(), "bench.toml", real_agenda())) as server:
        desk = Desk(server, "bench")
        try:
            yield server
        finally:
            desk.close()


def k5(**keys: str) -> str:
    """One Tamsel K5 for a rig."""
    return '[unit.plug]\nstandin = "tamsel-k5"\n' + "".join(f"{key} = {value}\n" for key, value in keys.items())


class Records:
    """A trace in memory."""

    def __init__(self) -> None:
        self.all: list[tuple[float, str, dict[str, Any]]] = []

    def record(self, at: float, what: str, **fields: Any) -> None:
        self.all.append((at, what, fields))

    def texts(self, what: str) -> list[str]:
        return [fields["text"] for _, kind, fields in self.all if kind == what]


class Hands:
    """Works a stand-in as a person would."""

    def __init__(self, standin: StandIn) -> None:
        self.standin = standin
        self.asked: list[str] = []

    def ask(self, act: str, text: str) -> None:
        self.asked.append(text)
        self.standin.operate(act)

    def noticed(self) -> None:
        pass


class VirtualBench:
    """One stand-in, one link and a session on it, in virtual time."""

    def __init__(self, name: str, lexicon: str | None = None, faults: Faults | None = None, **flash: Any) -> None:
        self.agenda = Agenda()
        self.standin = family(name)(self.agenda, settings=flash, faults=faults)
        self.lexicon: Lexicon = find_lexicon(lexicon or name)
        self.hands = Hands(self.standin)
        self.trace = Records()
        self.standin.power(True)

    def session(self, stopping: Callable[[], bool] = lambda: False) -> Session:
        link = VirtualLink(self.standin.name, VirtualClock(self.agenda), self.standin.uart)
        self.standin.uart.to_host = link.take
        return Session(link, self.lexicon.speech, self.lexicon.events, self.trace, stopping)

    def provision(self, stopping: Callable[[], bool] = lambda: False, write: bool = True, **wanted: Any) -> UnitResult:
        plain = {name: self.lexicon.settings[name].kind.check(value) for name, value in wanted.items()}
        return Provision(self.session(stopping), self.lexicon, self.hands, plain, write=write).run()


def clean(environment: dict[str, str]) -> dict[str, str]:
    """This environment with more in it."""
    return {**os.environ, **environment}
