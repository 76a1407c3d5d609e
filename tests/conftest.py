"""What tests share: the built program, a bench of stand-ins served in this process, and sessions in virtual time."""

from __future__ import annotations

import io
import os
import pickle
import re
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, redirect_stderr, redirect_stdout, suppress
from pathlib import Path
from typing import Any, NamedTuple
from unittest import mock

import pytest
from benchmarks.virtual_bench import VirtualBench
from hypothesis import settings

from wexicon.cli import show
from wexicon.cli.main import run
from wexicon.core.agenda import Agenda
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.observations import Listener, Observation, Said
from wexicon.core.protocol.session import Session
from wexicon.core.results.result import Prove
from wexicon.core.results.unit import UnitResult
from wexicon.links.virtual import VirtualLink
from wexicon.rigs.rig import Rig, read_rig
from wexicon.rigs.serving import Desk, Server, served
from wexicon.rigs.uart import WireFaults
from wexicon.rigs.virtual_ports import on_virtual_ports
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision, read_out, verify
from wexicon.work.provisioning.unfinished import Store

# A build in the background of a shell ignores these; what the tests start must not inherit that.
for _number in (signal.SIGINT, signal.SIGQUIT, signal.SIGHUP):
    if signal.getsignal(_number) is signal.SIG_IGN:
        signal.signal(_number, signal.default_int_handler if _number is signal.SIGINT else signal.SIG_DFL)

# The same examples for everybody, on every machine: a test that passed passes again. Searching by chance is the work of
# `python -m benchmarks.fuzz`. Shared machines stall now and then: no property fails by the clock.
settings.register_profile("same", deadline=None, derandomize=True, database=None, max_examples=50)
settings.load_profile("same")

SAMPLE = Path(__file__).parents[1] / "src" / "wexicon" / "sample"


@pytest.fixture(autouse=True)
def _own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("run", "state", "lexicons", "config"):
        monkeypatch.setenv(f"WEXICON_{name.upper()}", str(tmp_path / name))
    monkeypatch.setenv("NO_COLOR", "1")
    monkeypatch.chdir(tmp_path)


@pytest.fixture(autouse=True)
def _json_has_a_schema(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever a command prints with --json in these tests is of a type that `wexicon schema` describes."""
    usual = show._as_json

    def checked(data: Any, indent: int) -> str:
        from wexicon.records.schemas import TITLES

        known = tuple(kind for kind, _ in TITLES.values())
        for one in data if isinstance(data, list) else [data]:
            schema = isinstance(one, dict) and "$defs" in one
            assert schema or type(one) in known, f"no schema describes {one!r}"
        return usual(data, indent)

    monkeypatch.setattr(show, "_as_json", checked)


class Ran(NamedTuple):
    """What a command printed."""

    stdout: str
    stderr: str


def wexicon(*words: str, status: int = 0, input: str = "", env: Mapping[str, str] | None = None) -> Ran:
    """Runs a command in this process, with no terminal, and checks its exit status."""
    out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", errors="strict") for _ in range(2))
    before = dict(os.environ)
    if env is not None:
        os.environ.clear()
        os.environ.update(env)
    usual = sys.stdin
    show.be_quiet(False)
    sys.stdin = io.TextIOWrapper(io.BytesIO(input.encode()), encoding="utf-8")
    try:
        with redirect_stdout(out), redirect_stderr(err):
            found = run(list(words))
    finally:
        sys.stdin = usual
        os.environ.clear()
        os.environ.update(before)
    out.flush(), err.flush()
    done = Ran(*(one.buffer.getvalue().decode("utf-8") for one in (out, err)))  # type: ignore[attr-defined]
    assert found == status, f"status {found}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr and "internal error" not in done.stderr
    return done


def built(*words: str, status: int = 0, **options: Any) -> subprocess.CompletedProcess[str]:
    """Runs the built program in a process of its own, and checks its exit status."""
    options.setdefault("env", clean({}))
    done = subprocess.run(
        [sys.executable, "-m", "wexicon", *words], capture_output=True, text=True, timeout=60, **options
    )
    assert done.returncode == status, f"status {done.returncode}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr
    return done


class VirtualRig:
    """A rig in virtual time, with what tests ask of one that is served: `rig` has its units, `ports` their ports."""

    def __init__(self, rig: Rig, ports: dict[str, str]) -> None:
        self.rig, self.units, self.unit, self.ports = rig, rig.units, rig.unit, ports

    def call(self, work: Callable[[], Any]) -> Any:
        """Does something with the stand-ins: nothing else is at work."""
        return work()


@contextmanager
def virtual(text: str, powered: float = 5.0) -> Iterator[VirtualRig]:
    """The rig in `text` (without its first line) in virtual time: each unit answers at the port `virtual://NAME`, and
    its operator is there with `--operator rig`. Its stand-ins have had power for `powered` seconds."""
    made = read_rig(b"format = 1\n" + text.encode(), "rig.toml", Agenda())
    made.power_up()
    made.agenda.run_until(powered)
    with on_virtual_ports(made) as ports:
        yield VirtualRig(made, ports)


@contextmanager
def bench(text: str) -> Iterator[Server]:
    """Serves the rig in `text` (without its first line) and leaves its card for the program under test. Its stand-ins have had
    power for a while: no test waits for them to start."""
    made = read_rig(b"format = 1\n" + text.encode(), "rig.toml", Agenda(time.monotonic() - 5.0))
    made.power_up()
    with ExitStack() as after, served(made) as server:
        # The desk belongs to the server's thread: it is closed when that has ended.
        after.callback(Desk(server, "bench").close)
        yield server


def killed(rig: VirtualRig, when: Callable[[], bool], *words: str) -> None:
    """Calls a command in a process that is killed as soon as `when` says so, in the middle of a write. The rig's stand-ins, in
    virtual time, hold afterwards what they held then."""
    ours, theirs = os.pipe()
    if not (child := os.fork()):
        said = VirtualLink.write

        def write(link: VirtualLink, data: bytes) -> None:
            said(link, data)
            if when():
                held = {name: (unit.standin.flash, unit.standin.memory) for name, unit in rig.units.items()}
                os.write(theirs, pickle.dumps(held))
                os.kill(os.getpid(), signal.SIGKILL)

        with mock.patch.object(VirtualLink, "write", write), suppress(BaseException):
            run([*words])
        os._exit(1)
    os.close(theirs)
    with os.fdopen(ours, "rb") as end:
        held = end.read()
    assert os.WTERMSIG(os.waitpid(child, 0)[1]) == signal.SIGKILL, "the command ended by itself"
    for name, (flash, memory) in pickle.loads(held).items():
        rig.units[name].standin.flash.update(flash)
        rig.units[name].standin.memory.update(memory)


def k5(**keys: str) -> str:
    """One Tamsel K5 for a rig."""
    return '[unit.plug]\nstandin = "tamsel-k5"\n' + "".join(f"{key} = {value}\n" for key, value in keys.items())


class Records(Listener):
    """Everything that a session does, in memory."""

    def __init__(self) -> None:
        self.all: list[Observation] = []

    def note(self, seen: Observation) -> None:
        self.all.append(seen)

    def texts(self, what: type[Observation]) -> list[str]:
        return [seen.text for seen in self.all if type(seen) is what]  # type: ignore[attr-defined]

    def said(self) -> list[str]:
        return self.texts(Said)


class Bench(VirtualBench):
    """One stand-in and its lexicon in virtual time; `trace` has all that every session on it did, `store` what is
    unfinished. `person` is a person's hands: they cut no power by themselves."""

    lexicon: Lexicon

    def __init__(
        self,
        name: str,
        lexicon: str | None = None,
        faults: WireFaults | None = None,
        person: bool = False,
        **flash: Any,
    ) -> None:
        made = VirtualBench.of(name, find_lexicon(lexicon or name), faults=faults, flash=flash)
        super().__init__(made.standin, made.agenda, made.lexicon)
        self.operator.switches_power = not person
        self.trace = Records()
        self.store = Store()

    def open(self, stopping: Callable[[], bool] = lambda: False) -> Session:
        return self.session(self.trace, stopping)

    def order(self, prove: str = "auto", trust: tuple[str, ...] = (), **wanted: Any) -> Order:
        plain = {name: self.lexicon.settings[name].check(value) for name, value in wanted.items()}
        return Order(plain, Prove(prove), trust)

    def provision(
        self, stopping: Callable[[], bool] = lambda: False, patience: float = 60, **wanted: Any
    ) -> UnitResult:
        order = self.order(**wanted)
        session = self.open(stopping)
        return provision(Module(session, self.lexicon, self.operator, patience=patience), order, store=self.store)

    def verify(self, prove: str = "reading", **wanted: Any) -> UnitResult:
        return verify(Module(self.open(), self.lexicon, self.operator), self.order(prove, **wanted))

    def read_out(self) -> UnitResult:
        return read_out(Module(self.open(), self.lexicon, self.operator))

    def module(self) -> Module:
        return Module(self.open(), self.lexicon, self.operator)


def without_times(text: str | bytes) -> str:
    """A text without numbers that have a point: a time may have the digits of a secret by chance."""
    return re.sub(r"[0-9]+\.[0-9]+", "", text if isinstance(text, str) else text.decode("latin-1"))


# What a machine may have set that makes Python behave otherwise than it does for a user.
ODD = ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED")


def clean(environment: dict[str, str]) -> dict[str, str]:
    """This environment with more in it; modules are compiled once, and output is buffered, as when installed."""
    return {**{name: value for name, value in os.environ.items() if name not in ODD}, **environment}
