"""Runs a story of commands in virtual time and notes all that can be observed, one fact a line:

    == readout virtual://one -l lindle-l9      a command, as it was called
    status 0                                   how it ended
    out    name   mast 2                       a line that it printed; `err`: to the standard error
    say    one @name?\\n                        bytes that it said to a module; `hear`: bytes that came
    json   settings.0.name = "name"            a value of what it printed as JSON
    flash  one name = "mast 2"                 what a stand-in holds now and did not before
    row    wexicon_record verdict=conforms     a row that the register has now and did not have before; `gone`: has no more

The rule: random bytes, dates of today, folders and the name of the machine are the same in each run. Virtual times are kept:
they are behaviour. What is served on pseudo-terminals runs in real time: times and the numbers of ports are left out there, and
the bytes; all else is noted.
"""

from __future__ import annotations

import contextlib
import io
import itertools
import json
import os
import random
import re
import secrets
import sqlite3
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import redirect_stderr, redirect_stdout
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple
from unittest import mock

from benchmarks.virtual_bench import BenchOperator

from tests.conftest import bench, virtual
from wexicon.cli import show
from wexicon.cli.main import run
from wexicon.cli.options import Working
from wexicon.links.virtual import VirtualLink
from wexicon.rigs.standin import StandIn
from wexicon.work.contact import ports

FACTS = Path(__file__).parent / "facts"
# Longer lines are cut; JSON that is shorter than this is one line.
_LONG, _SMALL = 400, 160
_EMPTY: tuple[object, ...] = (None, "", [], {})


class Step(NamedTuple):
    """A command, what is typed into it, and what is done beside it, in a thread that ends before the command does."""

    words: tuple[str, ...]
    input: str = ""
    beside: Callable[[], object] | None = None


class Story(NamedTuple):
    """Commands in one folder, one after the other. `rig` is what answers at `virtual://NAME`; `files` are put into the folder
    first. With `wire` the bytes are noted too. `served`: in real time, the rig on pseudo-terminals."""

    name: str
    steps: Sequence[Step]
    rig: str = ""
    files: Callable[[Path], object] = lambda folder: None
    wire: bool = True
    served: bool = False


def step(line: str, *more: str, input: str = "") -> Step:
    """A step from words with blanks between them, and more words."""
    return Step((*line.split(), *more), input)


class _Watch:
    """Every stand-in of a story, and every byte between it and us."""

    def __init__(self) -> None:
        self.standins: list[StandIn] = []
        self.wire: list[tuple[str, str, bytes]] = []
        self._before: dict[str, str] = {}

    def note(self, way: str, name: str, data: bytes) -> None:
        if not data:
            return
        name = name.removeprefix("virtual://")
        if self.wire and self.wire[-1][:2] == (way, name):
            self.wire[-1] = (way, name, self.wire[-1][2] + data)
        else:
            self.wire.append((way, name, data))

    def exchanged(self) -> Iterator[str]:
        """The bytes since the last call: a line for each line of them."""
        for way, name, data in self.wire:
            for part in data.splitlines(keepends=True) or [data]:
                yield f"{way:<6} {name} {part.decode('latin-1').encode('unicode_escape').decode()}"
        self.wire.clear()

    def changes(self) -> Iterator[str]:
        """What the flash of the stand-ins holds now and did not at the last call."""
        now: dict[str, str] = {}
        for number, one in enumerate(self.standins):
            for key, value in one.flash.items():
                now[f"{one.name or number} {key}"] = repr(value)
        for key in sorted(now):
            if self._before.get(key) != now[key]:
                yield f"flash  {key} = {now[key]}"
        self._before = now

    @contextlib.contextmanager
    def watching(self) -> Iterator[None]:
        began, said, heard = StandIn.__init__, VirtualLink.write, VirtualLink.read

        def init(standin: StandIn, *given: Any, **more: Any) -> None:
            began(standin, *given, **more)
            self.standins.append(standin)

        def write(link: VirtualLink, data: bytes) -> None:
            self.note("say", link.name, data)
            said(link, data)

        def read(link: VirtualLink, until: float) -> bytes:
            data = heard(link, until)
            self.note("hear", link.name, data)
            return data

        with (
            mock.patch.object(StandIn, "__init__", init),
            mock.patch.object(VirtualLink, "write", write),
            mock.patch.object(VirtualLink, "read", read),
        ):
            yield


class _Register:
    """The rows of the register in a folder."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / "state" / "register.db"
        self._before: set[str] = set()

    def changes(self) -> Iterator[str]:
        now: set[str] = set()
        if self._path.exists():
            with contextlib.closing(sqlite3.connect(self._path)) as base:
                tables = base.execute("select name from sqlite_master where type = 'table' and name like 'wexicon%'")
                for (table,) in tables.fetchall():
                    if not table.endswith(("_run", "_progress", "_version")):
                        now |= set(self._rows(base, table))
        yield from (f"row    {one}" for one in sorted(now - self._before))
        yield from (f"gone   {one.split(' | ')[0]}" for one in sorted(self._before - now))
        self._before = now

    def _rows(self, base: sqlite3.Connection, table: str) -> Iterator[str]:
        rows = base.execute(f"select * from {table}")
        names = [one[0] for one in rows.description]
        for row in rows.fetchall():
            told = dict(zip(names, row, strict=True))
            result = json.loads(told.pop("result", "{}") or "{}")
            for name in ("began", "done", "process", "id", "at", "digest", "task"):
                told.pop(name, None)
            short, told = table.removeprefix("wexicon_"), {name: value for name, value in told.items() if value}
            yield f"{short} {' '.join(f'{name}={value}' for name, value in told.items())}"
            yield from (f"{short} {told.get('unit', '')} {told.get('did', '')} | {one}" for one in flat(result))


def flat(data: object, place: str = "") -> Iterator[str]:
    """The values of a JSON document, each with its place; a small object is one line. What is empty is left out."""
    data = _full(data)
    short = json.dumps(data, ensure_ascii=False, sort_keys=True)
    if isinstance(data, dict) and data and (not place or len(short) > _SMALL):
        for key in sorted(data):
            yield from flat(data[key], f"{place}.{key}" if place else key)
    elif isinstance(data, list) and len(short) > _SMALL:
        for number, one in enumerate(data):
            name = (
                next((one[key] for key in ("name", "step") if key in one), number) if isinstance(one, dict) else number
            )
            yield from flat(one, f"{place}.{name}")
    elif data not in _EMPTY:
        yield f"{place} = {short[:_LONG]}"


def _full(data: object) -> object:
    """The same without keys whose values are empty."""
    if isinstance(data, dict):
        return {key: full for key, one in data.items() if (full := _full(one)) not in _EMPTY}
    return [_full(one) for one in data] if isinstance(data, list) else data


class _Chance:
    """Random bytes that are the same in each run. Those of each length have a source of their own: libraries draw some too, how
    often depends on what was done before."""

    def __init__(self, seed: int) -> None:
        self._seed, self._source = seed, random.Random(seed)
        self._by_length: dict[int, random.Random] = {}

    def bytes(self, count: int) -> bytes:
        return self._by_length.setdefault(count, random.Random(1000 * self._seed + count)).randbytes(count)

    def choice(self, among: Sequence[Any]) -> Any:
        return self._source.choice(among)


def _plain(text: str, folder: Path) -> str:
    """A text without what differs from day to day and from machine to machine."""
    text = text.replace(str(folder.resolve()), "<folder>").replace(str(folder), "<folder>")
    today = datetime.now(UTC)
    for day in (today - timedelta(days=1), today, today + timedelta(days=1)):
        date = f"{day:%Y-%m-%d}"
        text = re.sub(rf"{date}-\d{{6}}(-\d+)?", "<time>", text)
        text = re.sub(rf"{date}([T ]\d\d:\d\d(:\d\d)?([.]\d+)?(Z|[+]00:00| UTC)?)?", "<time>", text)
    # A digest of a file says only that the file was changed; how fast it was worked out is a matter of the machine.
    for pattern, told in (
        ("[0-9a-f]{64}", "<digest>"),
        (r"\b[0-9a-f]{32}\b", "<id>"),
        ("─{4,}", "───"),
        (r"rehearsed in .*|\"took\": [0-9.]+", "rehearsed"),
    ):
        text = re.sub(pattern, told, text)
    return text


# How far a sheet is, said while nothing else is: how often depends on the machine.
EVERY_FEW_SECONDS = re.compile(r"err  .*; \d+ of \d+ done$")


def _untimed(lines: list[str]) -> list[str]:
    """Facts of real time, without times, the numbers of ports and the lines that come every few seconds. What threads
    print beside each other is sorted."""
    kept = (_timeless(line) for line in lines if "time" not in line[:12] and not EVERY_FEW_SECONDS.match(line))
    return sorted(kept, key=lambda one: one if one.startswith("err ") else "")


def _timeless(text: str) -> str:
    for pattern, told in (
        (r"(?<=\w) {2,}", "  "),
        (r"/dev/pts/\d+ *", "<port> "),
        (r"\d\d:\d\d:\d\d[.]\d+|\[\d+ min", "<time>"),
        (r"\d[\d.,]*( to \d[\d.]*)? (us|ms|s|min|bytes/s)\b|\+?\b\d+[.]\d{3}\b", "<time>"),
        (r"-?\d+([.]\d+)? (dBm|dB)\b", "<signal>"),
        # How often a module was asked for attention before it listened.
        (r"\d+ exchanges|exchanges = \d+", "<count> exchanges"),
        (r"/tmp/wexicon-demo-\w+", "<folder>"),
        (r"(seconds\"?:? =? ?)[-\d.e]+|(\d of \d +\d +)\d+$", r"\1\2<time>"),
    ):
        text = re.sub(pattern, told, text)
    return text


@contextlib.contextmanager
def _input_first() -> Iterator[None]:
    """What is typed into `talk` has come whole before it is said: how threads take turns changes nothing."""
    start = threading.Thread.start

    def started(thread: threading.Thread) -> None:
        start(thread)
        if thread.name == "stdin":
            thread.join()

    with mock.patch.object(threading.Thread, "start", started):
        yield


def facts(story: Story) -> list[str]:
    """All that is observed of a story."""
    told: list[str] = []
    with contextlib.ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="wexicon-record-")))
        chance = _Chance(len(story.name))
        own = {f"WEXICON_{name.upper()}": str(folder / name) for name in ("run", "state", "lexicons", "config")}
        own |= {
            "WEXICON_BENCH": "quay bench",
            "NO_COLOR": "1",
            "COLUMNS": "120",
            "PATH": os.environ["PATH"],
            "SHELL": "/bin/bash",
            "HOME": str(folder),
        }
        stack.enter_context(mock.patch.dict(os.environ, own, clear=True))
        stack.enter_context(mock.patch.object(os, "urandom", chance.bytes))
        stack.enter_context(mock.patch.object(secrets, "choice", chance.choice))
        stack.enter_context(mock.patch.object(ports, "_comports", list))
        stack.enter_context(contextlib.chdir(folder))
        story.files(folder)
        watch, register = _Watch(), _Register(folder)
        stack.enter_context(watch.watching())
        if not story.served:
            stack.enter_context(_input_first())
        if story.rig and story.served:
            stack.enter_context(bench(story.rig))
        elif story.rig:
            rig = stack.enter_context(virtual(story.rig, powered=0.0))
            operators = {f"virtual://{name}": BenchOperator(unit.standin) for name, unit in rig.units.items()}
            stack.enter_context(mock.patch.object(Working, "operator", lambda how, port, told: operators[port]))
        list(watch.changes())
        for one in story.steps:
            lines = [_plain(line, folder) for line in _step(one, watch, register, story.wire)]
            told += _untimed(lines) if story.served else lines
    return told


def _step(one: Step, watch: _Watch, register: _Register, wire: bool) -> Iterator[str]:
    out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8", errors="backslashreplace") for _ in range(2))
    usual = sys.stdin
    sys.stdin = io.TextIOWrapper(io.BytesIO(one.input.encode()), encoding="utf-8")
    show.be_quiet(False)
    watch.wire.clear()
    beside = threading.Thread(target=one.beside or (lambda: None), name="beside", daemon=True)
    beside.start()
    try:
        with redirect_stdout(out), redirect_stderr(err):
            status = run(list(one.words))
    finally:
        sys.stdin = usual
        beside.join()
    out.flush(), err.flush()
    printed, warned = (stream.buffer.getvalue().decode() for stream in (out, err))
    yield f"== {' '.join(one.words)}"
    yield from (f"type   {line}" for line in one.input.splitlines())
    yield f"status {status}"
    if printed.startswith(("{", "[")):
        for line in _documents(printed):
            yield from (f"json   {fact}" for fact in flat(line))
    else:
        yield from (f"out    {line}"[:_LONG].rstrip() for line in printed.splitlines())
    yield from (f"err    {line}"[:_LONG].rstrip() for line in warned.splitlines())
    exchanged = list(watch.exchanged())
    yield from exchanged if wire else ()
    yield from watch.changes()
    yield from register.changes()


def _documents(text: str) -> list[object]:
    """What a command printed as JSON: one document, or one a line."""
    try:
        return [json.loads(text)]
    except json.JSONDecodeError:
        return [json.loads(line) for line in text.splitlines() if line.startswith("{")]


# How often a story in real time is told before a difference counts.
TOLD_IN_REAL_TIME = 3


def path_of(story: Story) -> Path:
    """Where the facts of a story stand."""
    return FACTS / f"{story.name}.txt"


def differences(story: Story) -> list[str]:
    """The lines that the record has and were not observed (-), and the other way round (+), each with its command. In real
    time a machine that stands still for half a second is told as what it is, a failure: a defect differs every time."""
    import difflib

    path = path_of(story)
    before = path.read_text().splitlines() if path.exists() else []
    for _ in range(TOLD_IN_REAL_TIME if story.served else 1):
        now = facts(story)
        if before == now:
            return []
    changes = difflib.unified_diff(before, now, "recorded", "observed", lineterm="", n=2)
    return list(itertools.islice(changes, 200))
