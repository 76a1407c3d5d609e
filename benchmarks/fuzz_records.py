"""Targets of the fuzzing: lines typed in `talk`, and what other benches wrote: register rows, waiting records, labels, CSV.

The rule: each has an oracle of its own: what a stand-in took, what Python's own reader makes of a file.
"""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import random
import re
import signal
import sqlite3
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from benchmarks.virtual_bench import VirtualBench
from wexicon.cli.show import harmless
from wexicon.cli.units import _changes, _csv, _lines, _when
from wexicon.core.faults import CallFault
from wexicon.core.module_state.reader import Reader, secret_words
from wexicon.core.protocol.masking import Secrets
from wexicon.core.results.result import Outcome
from wexicon.core.results.unit import Unfinished
from wexicon.core.text import encodable, to_text
from wexicon.records.database import RECORD, UNFINISHED
from wexicon.records.entry import Entry, RecordedResult
from wexicon.records.exports import csv_lines
from wexicon.records.labels import Label, draw_labels
from wexicon.records.register import Register
from wexicon.work.console.completion import secret_from
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module

# How each family is told a secret. What is typed is what stands here, more or less.
SECRET_LINES = {"tamsel-k5": "AT+PASS={}", "tamsel-k6": "AT:P={}", "orvane-b3": "p,{}", "wherry-c3": 'put net 1 "{}"'}
_PIECES = [
    " ",
    "  ",
    "\t",
    '"',
    "'",
    ",",
    "=",
    ":",
    ";",
    "?",
    "AT",
    "at",
    "+",
    "\\r",
    "\\x20",
    ":> ",
    ":>> ",
    "::",
    ":set pin = ",
]
HOSTILE = [
    "\x1b]0;x\x07",
    "\u202e",
    "=cmd|' /C x'!A0",
    "-2+3",
    "@x",
    "$\\frac{1$",
    "\ud800",
    "\0",
    "x" * 3000,
    "水",
    "\r\n",
    "\t=1",
    ";=1",
]


@cache
def _listening(name: str) -> tuple[VirtualBench, Module]:
    """A stand-in of a family, and the module that it plays."""
    bench = VirtualBench.of(name, find_lexicon(name))
    return bench, Module(bench.session(), bench.lexicon, bench.operator, patience=5)


def typed_lines(chance: random.Random) -> None:
    """A line after which the stand-in has the secret must have been taken for one that holds it."""
    name = chance.choice(sorted(SECRET_LINES))
    line = SECRET_LINES[name]
    letters = "bcdfghjklmqrsvxz" if name == "wherry-c3" else "0123456789"
    secret = "".join(chance.choice(letters) for _ in range(chance.choice((4, 4, 4, 5, 6, 8))))
    text = line.format(secret)
    for _ in range(chance.choice((0, 1, 1, 2, 3))):
        at = chance.choice((0, 0, text.index(secret[:1]), len(text), chance.randint(0, len(text))))
        text = text[:at] + chance.choice(_PIECES) + text[at:]
    if chance.random() < 0.5:
        text = "".join(char.swapcase() if chance.random() < 0.3 else char for char in text)
    bench, module = _listening(name)
    lexicon, session = module.lexicon, module.session
    column = secret_from(Reader(lexicon), text)
    module.attention.gain([lexicon.attention.tuning or lexicon.factory])
    before = _kept(bench.standin)
    session.link.write(lexicon.dialect.encode(re.sub(r"^:(?=:)|^:>>?\s?", "", text)))
    session.quiet(1.0)
    if secret in _kept(bench.standin) and secret not in before:
        assert column is not None, f"{name}: {text!r} was not taken for a secret"
    if column is not None and secret in text[column:]:
        secrets = Secrets()
        for part in secret_words(text[column:]):
            secrets.learn(part)
        assert secret not in secrets.mask(text), f"{name}: {text!r} is shown as {secrets.mask(text)!r}"


def _kept(standin: Any) -> str:
    """All settings that a stand-in has."""
    return f"{standin.flash} {standin.memory}"


def _text(chance: random.Random) -> str:
    parts = [chance.choice([*HOSTILE, "mast", "7", "-1", " ", "name", ""]) for _ in range(chance.randint(0, 3))]
    return "".join(parts) + to_text(chance.randbytes(chance.choice((0, 0, 3))))


def _any(chance: random.Random, depth: int = 0) -> Any:
    """Anything that JSON can hold, and what a result holds."""
    if depth > 2 or chance.random() < 0.5:
        return chance.choice([_text(chance), 0, -1.5, None, True, 1 << 70, _text(chance)])
    if chance.random() < 0.4:
        return [_any(chance, depth + 1) for _ in range(chance.randint(0, 3))]
    keys = ["settings", "name", "outcome", "before", "after", "shown", "identity", "digests", "measurements", "trace"]
    return {chance.choice([*keys, _text(chance)]): _any(chance, depth + 1) for _ in range(chance.randint(0, 4))}


def _result(chance: random.Random) -> Any:
    if chance.random() < 0.3:
        return _any(chance)
    lines = [
        {
            "name": _text(chance),
            "outcome": chance.choice([*Outcome, _text(chance)]),
            "before": None,
            "after": chance.choice([None, {"value": _text(chance), "unit": "", "shown": _text(chance)}, {"shown": ""}]),
        }
        for _ in range(chance.randint(0, 3))
    ]
    if lines and chance.random() < 0.3:
        del lines[0][chance.choice(list(lines[0]))]
    return {"settings": lines, "identity": {_text(chance): _text(chance)}, "trace": _text(chance)}


def _entry(chance: random.Random) -> Entry:
    told = {
        name: _text(chance)
        for name in ("unit", "name", "lexicon", "did", "verdict", "evidence", "sheet", "digest", "bench", "at")
    }
    made = _result(chance)
    try:
        result = msgspec.convert(made, RecordedResult)
    except (msgspec.ValidationError, UnicodeError):
        result = RecordedResult(identity={_text(chance): _text(chance)}, trace=_text(chance))
    return Entry(**told, row={_text(chance): _text(chance)}, result=result, task=chance.choice(["", _text(chance)]))


@cache
def _register() -> tuple[Register, sqlite3.Connection]:
    # Another target may be at work in this folder.
    path = Path(f"fuzzed-{os.getpid()}.db").absolute()
    register = Register(str(path), Path(f"waiting-{os.getpid()}").absolute())
    register.check()
    register.keep(Entry(*["x"] * 8, row={}, result=RecordedResult()))  # type: ignore[call-arg]
    register.waiting.mkdir(parents=True, exist_ok=True)
    by_hand = sqlite3.connect(path, isolation_level=None)
    by_hand.execute("PRAGMA synchronous=OFF")
    return register, by_hand


def register_rows(chance: random.Random) -> None:
    """Rows that anybody wrote: each is read, or left out and named; what is printed of it is harmless."""
    register, by_hand = _register()
    for table in (RECORD, UNFINISHED):
        values: dict[str, Any] = {}
        for column in table.columns:
            text = _text(chance).encode("utf-8", "replace").decode()
            if column.name in ("row", "result", "settings"):
                made: Any = {"result": _result, "row": _any}.get(column.name, _any)(chance)
                text = json.dumps(encodable(made)) if chance.random() < 0.8 else text
            values[column.name] = chance.choice([text] * 9 + [chance.randrange(1 << 40), chance.randbytes(5)])
        by_hand.execute(f"DELETE FROM {table.name}")
        names = ", ".join(f'"{name}"' for name in values)
        with contextlib.suppress(sqlite3.IntegrityError):
            by_hand.execute(
                f"INSERT INTO {table.name} ({names}) VALUES ({', '.join('?' * len(values))})", [*values.values()]
            )
    found = list(register.latest())
    for one in found:
        shown = [*_lines(one, ["name", "address"]), _changes(one), _when(one), one.name, one.unit]
        assert not any(char in harmless("".join(shown)) for char in "\x1b\u202e\x07")
    list(_csv(lambda: found))
    list(register.latest(sheet="x")), register.history("x"), register.last_provisioned(unit="x")
    for work in register.all_unfinished():
        assert msgspec.convert(msgspec.to_builtins(work), Unfinished) == work


def waiting_records(chance: random.Random) -> None:
    """Files that wait for the register: each is brought in or set aside, and none is left in the way."""
    register, _ = _register()
    data = msgspec.json.encode(encodable(msgspec.to_builtins(_entry(chance))))
    if chance.random() < 0.5:
        at = chance.randint(0, len(data))
        data = chance.choice(
            [data[:at], data[:at] + chance.randbytes(3) + data[at:], data.replace(b":", b":{", 1), b"", b"[]"]
        )
    good = register.waiting / "good.json"
    (register.waiting / "bad.json").write_bytes(data)
    name = os.urandom(4).hex()
    good.write_bytes(msgspec.json.encode(Entry(*[name] * 8, row={}, result=RecordedResult(), id=name * 4)))  # type: ignore[call-arg]
    register.flush_pending()
    assert not list(register.waiting.glob("*.json")), "a record is left in the way"
    assert register.history(name), "another record was lost"
    for path in register.waiting.iterdir():
        path.unlink()


@cache
def _draw_first() -> None:
    """The first label takes long, because of what it imports: that is not timed."""
    signal.setitimer(signal.ITIMER_PROF, 0)
    draw_labels([Label("x", ("y",), "z")], (62.0, 29.0), (62.0, 29.0), "svg")


def labels(chance: random.Random) -> None:
    """Text that anybody wrote, on a label: drawn, or refused in words."""
    _draw_first()
    made = Label(_text(chance), tuple(_text(chance) for _ in range(chance.randint(0, 4))), _text(chance) or "x")
    size = chance.choice([(62.0, 29.0), (100.0, 50.0), (12.0, 10.0)])
    with contextlib.suppress(CallFault):
        (page,) = draw_labels([made], size, size, "svg")
        assert b"<script" not in page


def csv_files(chance: random.Random) -> None:
    """Whatever its separator, no cell of a file is a formula, and a reader finds every row."""
    rows = [[_text(chance) for _ in range(3)] for _ in range(chance.randint(0, 3))]
    text = "".join(csv_lines(["name", _text(chance), "x"], rows))
    assert len(list(csv.reader(io.StringIO(text)))) == len(rows) + 1
    for separator in ",;\t|":
        for row in csv.reader(io.StringIO(text), delimiter=separator):
            for cell in row:
                plain = cell.strip().strip('"').strip()
                # A number alone, or where a whole row is read as one cell.
                number = re.match(r"-?\d+([.,]\d+)?(,|$)", plain)
                assert not plain.startswith(("=", "+", "@", "-")) or number, repr(cell)


TARGETS = (typed_lines, register_rows, waiting_records, labels, csv_files)
