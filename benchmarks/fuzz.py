"""Does anything at all, as a file or as bytes, end otherwise than in a clear fault or a clean result?

    python -m benchmarks.fuzz [SECONDS] [SEED] [TARGET ...]

The rule: a case may raise what its reader says that it raises, and nothing else; it may take two seconds of the processor,
and the program may grow to the bound in MEMORY. All cases are drawn from the seed. A target whose cases take under a
millisecond is tried 100,000 times at least; the others for SECONDS (600 where nothing is said).
"""

from __future__ import annotations

import contextlib
import json
import random
import resource
import signal
import socket
import sys
import time
import tomllib
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from pathlib import Path
from traceback import format_exception
from typing import Any

import msgspec

from benchmarks import fuzz_records
from benchmarks.virtual_bench import VirtualBench
from benchmarks.wanted import TRUST, WANTED
from wexicon.core.agenda import Agenda
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.dialogue.expressions import Expression, ExpressionFault
from wexicon.core.faults import Fault, FileFault
from wexicon.core.formats.fixture import read_fixture
from wexicon.core.formats.jobs import dependency_cycle, jobs_of
from wexicon.core.formats.lexicon import Lexicon, read_lexicon
from wexicon.core.formats.sheet_reading import Around, read_sheet
from wexicon.core.formats.units import UnitsTable, read_units
from wexicon.core.protocol.dialect import Dialect, Expectation, Want
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.exchange import Exchange
from wexicon.core.protocol.insertion import InsertionFault, Template
from wexicon.core.protocol.patterns import Pattern, PatternFault, block_header
from wexicon.core.protocol.speech import Speech
from wexicon.core.results.result import Verdict
from wexicon.core.results.unit import Unfinished
from wexicon.core.standards import gnss as nmea
from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import CharsetFault
from wexicon.core.text import seconds, to_bytes, to_text, unescape, visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import ValueFault
from wexicon.files import read_file, shipped_folder
from wexicon.links.virtual import VirtualLink
from wexicon.records.trace import read_trace, recorded
from wexicon.rigs.control import Card, RequestAnswer
from wexicon.rigs.rig import read_rig
from wexicon.rigs.serving import Desk, Server, real_agenda
from wexicon.rigs.standins import FAMILIES, family
from wexicon.rigs.tcp_ports import Rfc2217Port
from wexicon.work.contact.catalog import find_lexicon, path_of
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

MEMORY = 1024 * 1024 * 1024
LONGEST = 2.0
QUICK = 0.001
AT_LEAST = 100_000
SAMPLE = shipped_folder().parent / "sample"
WORDS = """{ } [ ] ( ) < > | = , ; : . " ' \\ # $ * @ ! ? % & + - {x} {x:int} {x:bytes(0)} {x:bytes(n)} {n:int} {=x} {x|quoted}
... {{ }} nan inf -0 1e999 999999999999999999999 0x1F 1_0 true [[x]] [x.y] OK ERROR AT+ AT S repeat when otherwise await on
again allow check keep note fail do set read > >> < <* | ² ９ é € 😀"""
TOKENS = [
    *(word.encode() for word in WORDS.split()),
    *(bytes((code,)) for code in b"\r\n\t\0\x1a\x1b\x7f\x9b "),
    *(char.encode("utf-8", "surrogatepass") for char in "\u202e\ufeff\ud800"),
    b"\xff\xfe",
    b"\xc2",
    b"\xff\xfa\x2c\x01\x00\x00\x00\x00\xff\xf0",
    b"A" * 300,
    b"\n    " * 40,
]


class Hang(BaseException):
    """A case took too long."""


# -- drawing ---------------------------------------------------------------------------------------------------------


def mutated(chance: random.Random, data: bytes, most: int = 6) -> bytes:
    """The data with a few things done to it."""
    made = bytearray(data)
    for _ in range(chance.randint(1, most)):
        at = chance.randint(0, len(made))
        end = min(len(made), at + chance.choice((1, 1, 2, 5, 20, 100)))
        match chance.randrange(7):
            case 0 if made:
                made[min(at, len(made) - 1)] ^= 1 << chance.randrange(8)
            case 1:
                del made[at:end]
            case 2:
                made[at:at] = made[at:end] * chance.choice((1, 2, 30))
            case 3:
                made[at:at] = chance.choice(TOKENS)
            case 4:
                made[at:end] = chance.choice(TOKENS)
            case 5:
                made[at:at] = chance.randbytes(chance.randint(1, 6))
            case _:
                lines = bytes(made).split(b"\n")
                chance.shuffle(lines) if len(lines) < 12 else lines.insert(0, lines.pop(chance.randrange(len(lines))))
                made = bytearray(b"\n".join(lines))
    return bytes(made)


def drawn(chance: random.Random, depth: int = 0) -> Any:
    """Any value that TOML can hold."""
    simple = [
        "",
        "x",
        "OK",
        "{value}",
        "{x:bytes(0)}",
        "AT;",
        "9600",
        "8N1",
        "1s",
        0,
        1,
        -1,
        9600,
        1 << 62,
        0.5,
        -1e300,
    ]
    simple += [float("nan"), float("inf"), True, False, "\x1b[2J", "a" * 2000, "²", "10ms", "none", "text", "$.x"]
    if depth > 2 or chance.random() < 0.7:
        return chance.choice(simple)
    if chance.random() < 0.5:
        return [drawn(chance, depth + 1) for _ in range(chance.randint(0, 3))]
    return {
        chance.choice(("kind", "say", "hear", "min", "codes", "x", "/")): drawn(chance, depth + 1) for _ in range(2)
    }


def rebuilt(chance: random.Random, data: Any) -> Any:
    """The data with one part replaced, removed, renamed or doubled."""
    if isinstance(data, dict) and data and chance.random() < 0.9:
        name = chance.choice(list(data))
        match chance.randrange(8):
            case 0:
                return {key: value for key, value in data.items() if key != name}
            case 1:
                return {**data, chance.choice(("x", "kind", "", "a b", "fields", name + "s")): data[name]}
            case 2:
                return {**data, name: drawn(chance)}
            case _:
                return {**data, name: rebuilt(chance, data[name])}
    if isinstance(data, list) and data and chance.random() < 0.7:
        at = chance.randrange(len(data))
        return [*data[:at], rebuilt(chance, data[at]), *data[at + 1 :], *data[: chance.randint(0, 1)]]
    if isinstance(data, str) and chance.random() < 0.7:
        return to_text(mutated(chance, to_bytes(data), 2)).encode("utf-8", "replace").decode()
    return drawn(chance)


def as_toml(data: Any) -> str:
    """A value as TOML writes it on one line."""
    if isinstance(data, dict):
        return "{" + ", ".join(f"{json.dumps(key)} = {as_toml(value)}" for key, value in data.items()) + "}"
    if isinstance(data, list):
        return "[" + ", ".join(map(as_toml, data)) + "]"
    if isinstance(data, (bool, str)):
        return json.dumps(data).replace("\x7f", "\\u007f")
    return repr(data)


@cache
def seeds(pattern: str) -> list[bytes]:
    """The files that come with Wexicon, to begin from."""
    return [path.read_bytes() for folder in (shipped_folder(), SAMPLE) for path in sorted(folder.glob(pattern))]


@cache
def lexicon(name: str) -> Lexicon:
    return find_lexicon(name)


def structured(chance: random.Random, pattern: str) -> bytes:
    """One of the files, taken to pieces and put together otherwise."""
    data = tomllib.loads(chance.choice(seeds(pattern)).decode())
    for _ in range(chance.randint(1, 4)):
        data = rebuilt(chance, data)
    lines = data.items() if isinstance(data, dict) else [("x", data)]
    return "\n".join(f"{json.dumps(key)} = {as_toml(value)}" for key, value in lines).encode()


# -- targets: each tries one case ------------------------------------------------------------------------------------


def lexicon_text(chance: random.Random) -> None:
    _lexicon(mutated(chance, chance.choice(seeds("*.toml")[:13])))


def lexicon_structure(chance: random.Random) -> None:
    name = chance.choice(sorted(WANTED))
    _lexicon(structured(chance, f"{name}.toml"))


def _lexicon(data: bytes) -> None:
    with contextlib.suppress(Fault):
        made = read_lexicon(data, "f.toml", lambda name: read_file(path_of(name, None)))
        for setting in made.settings.values():
            for value in ("", "1", 5, "x", True):
                with contextlib.suppress(ValueFault):
                    plain = setting.kind.check(value)
                    setting.show(plain)
                    with contextlib.suppress(ValueFault):
                        setting.kind.decode(setting.kind.encode(plain))


def sheet(chance: random.Random) -> None:
    data = (
        mutated(chance, seeds("service-plug.toml")[0])
        if chance.random() < 0.5
        else structured(chance, "service-plug.toml")
    )
    with contextlib.suppress(FileFault):
        read_sheet(data, "s.toml", Around(lambda name: lexicon("tamsel-k5"), lambda kind, name: "4711"))


def units(chance: random.Random) -> None:
    """A table and a sheet of many units: any bytes, and what is filled in from them."""
    table = mutated(chance, seeds("masts.csv")[0], 6)
    source = mutated(chance, seeds("masts.toml")[0], 6) if chance.random() < 0.7 else structured(chance, "masts.toml")

    def read(name: str, key: str) -> UnitsTable:
        return read_units(table, name, key)

    with contextlib.suppress(FileFault):
        jobs = jobs_of(
            read_sheet(source, "s.toml", Around(lambda name: lexicon("lindle-l9"), lambda kind, name: "4711", read))
        )
        list(dependency_cycle(jobs))
        for job in jobs:
            with contextlib.suppress(KeyError, ValueFault):
                job.resolved({("own", "serial"): "L9-1", ("relay", "serial"): "L9-2"})


def dialogue(chance: random.Random) -> None:
    with contextlib.suppress(FileFault):
        made = read_dialogue(to_text(mutated(chance, chance.choice(seeds("*.wex")), 12)), "d.wex")
        assert read_dialogue(made.wording(), "w.wex") == made


def dialogue_run(chance: random.Random) -> None:
    text = to_text(mutated(chance, chance.choice(seeds("*.wex")), 4))
    try:
        program = read_dialogue(text, "d.wex")
    except FileFault:
        return
    bench = VirtualBench.of(chance.choice(("brisca-w1", "tamsel-k5", "lindle-l9")), lexicon("brisca-w1"))
    turns = iter(range(3000))
    session = bench.session(stopping=lambda: next(turns, None) is None)
    values = {need.name: chance.choice(("quay", 5, "4711", "a;b", "\x1a")) for need in program.needs()}
    result = run_dialogue(session, program, values, bench.lexicon, bench.operator, attention=False)
    assert not result.failure or "Wexicon itself" not in result.failure.what, result.failure


class Spoiled(VirtualLink):
    """A link on which now and then something else comes than was sent."""

    chance: random.Random

    def read(self, until: float) -> bytes:
        data = super().read(until)
        return mutated(self.chance, data, 2) if data and self.chance.random() < 0.05 else data


def provisioning(chance: random.Random) -> None:
    name = chance.choice(sorted(WANTED))
    bench = VirtualBench.of(name, lexicon(name))
    turns = iter(range(4000))
    session = bench.session(stopping=lambda: next(turns, None) is None)
    session.link.__class__ = Spoiled
    session.link.chance = chance  # type: ignore[attr-defined]
    wanted = {key: lexicon(name).settings[key].kind.check(value) for key, value in WANTED[name].items()}
    result = provision(
        Module(session, lexicon(name), bench.operator, patience=5), Order(wanted, trust=TRUST.get(name, ()))
    )
    assert not result.failure or "Wexicon itself" not in result.failure.what, result.failure
    assert result.verdict in tuple(Verdict)


def replies(chance: random.Random) -> None:
    speech = Speech(
        answer=chance.choice(("lines", "silence 20ms", "sentences", "bytes 20ms")),
        end=chance.choice(("cr", "crlf", "none")),
    )
    events = {"in": Pattern("+IN {n:int} {data:bytes(n)}"), "e": Pattern("+E {a}x{b:word}")}
    engine = Engine(Dialect(speech, events))
    seed = b'+IN 3 abcOK\r\n+E 1x2\r\nERROR\r\n> $GPGLL,1*40\r\n+NAME "x",5\r\n' * chance.randint(1, 3)
    data = mutated(chance, seed, 8)
    wants = (Want(Pattern(chance.choice(("+NAME {n:quoted},{i:int}", "{any}", "+N{a:word},{=a}")))),)
    engine.begin(Exchange(engine.dialect, "AT", Expectation(wants), 0.0, 2.0), "AT")
    now, sent = 0.0, len(data)
    while data:
        size = chance.choice((1, 3, 20, 1000))
        engine.feed(data[:size], now)
        data = data[size:]
        now += chance.choice((0.0, 0.001, 0.05))
        engine.elapse(now)
    engine.elapse(now + 5)
    assert len(engine.events) <= sent


def expressions(chance: random.Random) -> None:
    seed = chance.choice(
        (b"a + 1 == length(b) and not c[0] in split(b)", b"upper(b) + text([a, c])", b"pdu_text(b) != round(a / 3, 2)")
    )
    with contextlib.suppress(ExpressionFault):
        known = {
            "a": 3,
            "b": to_text(mutated(chance, b"07911326040000F0040B911346610089F60000208062917314080CC8")),
            "c": [1, "x"],
        }
        Expression(to_text(mutated(chance, seed, 4))).value(known)


def patterns(chance: random.Random) -> None:
    seed = chance.choice(
        (b"+X {a:int},{b}:{c:quoted}...{=a}", b"{a}x{=a}y{b:list}", b"+IN {n:int} {d:bytes(n)}", b"ERR {code:int}")
    )
    with contextlib.suppress(PatternFault):
        made = Pattern(to_text(mutated(chance, seed, 3)))
        with contextlib.suppress(PatternFault):
            block_header(made)
        line = to_text(mutated(chance, b'+X 12,ab:"c d"zz12 x12y +IN 3 abc'))
        made.match(line, {"a": 12, "n": "3"})
        made.reach(line)


def templates(chance: random.Random) -> None:
    with contextlib.suppress(PatternFault, InsertionFault):
        made = Template(to_text(mutated(chance, b'AT+X="{a}",{b|quoted},{c|hex},{d|address(XX:XX)}', 3)))
        value = to_text(mutated(chance, b"tide 7"))
        values = dict.fromkeys((*made.names, "a"), value)
        text = made.fill(values, quoting=chance.choice(("backslash", "double", "hex", "none"))).text
        assert not any(char < " " for char in text) or any(char < " " for char in made.source)
        made.fill_exactly(values, counted=("a",), prompted=chance.random() < 0.5)


def subjects(chance: random.Random) -> None:
    """Durations, escapes, sentences, PDUs, frames."""
    text = to_text(
        mutated(chance, chance.choice((b"1.5s", b"\\x41\\r", b"07911326040000F0040B911346610089F60000", b"8N1")))
    )
    for read in (
        seconds,
        unescape,
        lambda text: pdu.read(text),
        lambda text: Tuning.of(9600, text),
        lambda t: nmea.degrees(t, "N"),
    ):
        with contextlib.suppress(ValueError, CharsetFault):
            read(text)
    visible(text).encode()


def fixture(chance: random.Random) -> None:
    with contextlib.suppress(FileFault):
        read_fixture(
            mutated(chance, b'format = 1\n[pin.power]\nline = "dtr"\non = "low"\n[pin.key]\nline = "rts"\n'), "f.toml"
        )


def rig(chance: random.Random) -> None:
    data = mutated(chance, seeds("rig.toml")[0]) if chance.random() < 0.5 else structured(chance, "rig.toml")
    with contextlib.suppress(Fault):
        read_rig(data, "b.toml", Agenda())


TRACE = b"".join(
    msgspec.json.encode(record) + b"\n"
    for record in (
        {
            "at": 0,
            "what": "opened",
            "wall": "2026-04-01T08:00:00Z",
            "link": "x",
            "rate": 9600,
            "frame": "8N1",
            "end": "crlf",
        },
        {"at": 0.1, "what": "said", "text": "AT+NAME?"},
        {"at": 0.2, "what": "heard", "text": "+NAME quay", "role": "answer"},
        {"at": 0.3, "what": "heard", "hex": "ff00", "role": "unmatched"},
        {"at": 0.4, "what": "tuned", "rate": 19200, "frame": "8E1"},
        {"at": 0.5, "what": "said", "text": "x", "exact": True},
        {"at": 0.6, "what": "heard", "text": "> ", "role": "prompt"},
        {"at": 0.7, "what": "closed"},
    )
)


def trace(chance: random.Random) -> None:
    from wexicon.cli.trace_lines import record_line

    path = Path("fuzzed.jsonl")
    path.write_bytes(mutated(chance, TRACE))
    with contextlib.suppress(Fault):
        for record in read_trace(path):
            record_line(record, False).encode("utf-8")
        read_dialogue(draft_dialogue(recorded(path).exchanges), "d.wex")


STARTED = {"unit": "u", "began": "2026-04-01T08:00:00Z", "settings": ["a"], "fault": ""}


def json_files(chance: random.Random) -> None:
    kind = chance.choice((Card, Unfinished, RequestAnswer))
    seed = msgspec.json.encode(
        {"name": "b", "title": "", "socket": "/x", "process": 1, "ports": {}, "standins": {}, **STARTED}
    )
    with contextlib.suppress(msgspec.DecodeError, UnicodeDecodeError):
        msgspec.json.decode(mutated(chance, seed), type=kind)


COMMANDS = {
    "brisca-w1": b'AT+SEEK\r\nAT+LINK 0 "h" 7\r\nAT+POST 0 4\r\nab\r\nAT+RATE=19200\r\n'
    b'AT+ACCESS="a","b"\r\nAT+NAME="x"\r\n',
    "cordal-g2": b'AT+CMGF=1;+CMGS="+15550104477"\rhello\x1aAT+CPIN?\rAT+IPR=9600\rAT+COPS=?\rAT+CMGL="ALL"\rATE0\r',
    "cordal-n7": b'AT+CPSMS=1,,,"00100001","00000101"\rAT+CEREG=4\rAT+CSOCR=0,1,"192.0.2.1",7\r'
    b'AT+CSOSD=0,2,"AB"\rAT+CGDCONT=1,"IP","x"\r',
    "fennick-z4": b"+++ZT\rNT=7A31\rKH?\rUB=5\rSV\rQT\r",
    "lindle-l9": b"@name=x\n@radio=868100000,9,125,14\n@uart=5\n@tx 3,abc\n@boot\n@addr=65535\n",
    "lindle-r2": b"\x5a\x30\x5a\x20\x00\x01\x02\x03\x04\x05\x06\x07\x5a\x10",
    "orvane-b3": b"...v\rn,quay\rb,5\rd\rk\rm,1\rp,4711\r",
    "polmar-p1": b"$PPLM,WHO*55\r\n$PPLM,EVERY,200*00\r\n$PPLM,PORT,9600,8,N,1*11\r\n$PPLM,OUT,GGA,RMC*00\r\n",
    "tamsel-k5": b"AT+WHO?\r\nAT+LABEL=x\r\nAT+SPEED=3\r\nAT+MATE=2a1,5c,13f7\r\nAT+KEEP\r\nAT+BOOT\r\n",
    "wherry-c3": b'who\nput label "x"\nput tick 5\nput net 1 "shore"\nput speed 38400\ncode 1\nget reach\ntidy\n',
    "tamsel-k6": b"AT:W?AT:L=xAT:P=4711AT:R=5",
}


def standins(chance: random.Random) -> None:
    name = chance.choice([one for one in sorted(FAMILIES) if one in COMMANDS])
    agenda = Agenda()
    made = family(name)(agenda)
    made.power(True)
    made.operate("attention")
    agenda.run_until(3)
    for _ in range(3):
        made.uart.host = made.uart.tuning
        made.uart.from_host(mutated(chance, COMMANDS[name], 4))
        agenda.run_until(agenda.now + chance.choice((0.2, 5)))
    made.power(False)


@cache
def server() -> tuple[Server, Desk]:
    bench = read_rig(b'format = 1\n[unit.m]\nstandin = "lindle-l9"\nserve = "rfc2217"\n', "b.toml", real_agenda())
    made = Server(bench)
    return made, Desk(made, "fuzzed")


def control_socket(chance: random.Random) -> None:
    _, desk = server()
    token = f',"token":"{desk.card.token}"}}'.encode()
    seed = chance.choice((b'{"do":"power","unit":"m","what":"on"', b'{"do":"hold","unit":"m"', b"[" * 2000))
    desk._do(mutated(chance, seed) + (token if chance.random() < 0.8 else b"}"))


def rfc2217_negotiation(chance: random.Random) -> None:
    made, _ = server()
    port = next(one for one in made._open.values() if isinstance(one, Rfc2217Port))
    ours, theirs = socket.socketpair()
    theirs.setblocking(False)
    port._client = theirs
    from serial.rfc2217 import PortManager

    from wexicon.rigs.tcp_ports import _Lines

    port._telnet = PortManager(_Lines(port.uart), port)
    made.register(theirs, port._readable)
    seed = b"\xff\xfb\x2c\xff\xfd\x00\xff\xfa\x2c\x01\x00\x00\x25\x80\xff\xf0"
    seed += b"\xff\xfa\x2c\x05\x08\xff\xf0@who?\n\xff\xfa\x2c\x02\x08\xff\xf0"
    with contextlib.suppress(OSError):
        ours.sendall(mutated(chance, seed, 4))
    port._readable()
    assert 0 < port.uart.host.rate <= 12_000_000
    ours.close()
    while port._client:
        port._readable()
    made.rig.agenda.run_until(made.rig.agenda.now + 1)


TARGETS: dict[str, Callable[[random.Random], None]] = {
    one.__name__.replace("_", " "): one
    for one in (
        lexicon_text, lexicon_structure, sheet, units, dialogue, dialogue_run, provisioning, replies, expressions, patterns,
        templates, subjects, fixture, rig, trace, json_files, standins, control_socket, rfc2217_negotiation,
        *fuzz_records.TARGETS,
    )
}  # fmt: skip


# -- trying ----------------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def bounded() -> Iterator[None]:
    """Ends a case that takes too long, and a program that grows too large."""

    def late(number: int, frame: Any) -> None:
        raise Hang(f"more than {LONGEST} s")

    before = signal.signal(signal.SIGPROF, late)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)


def attempt(
    name: str, seed: int, wanted: float, cases: int = AT_LEAST, most: float = float("inf")
) -> tuple[str, int, float, int, list[str]]:
    """Tries a target for `wanted` seconds, or `cases` times where it is quick, and at most `most` times: its name, cases,
    seconds, megabytes of memory at the most, what went wrong."""
    target, count = TARGETS[name], 0
    wrong: list[str] = []
    began = time.perf_counter()
    took = 0.0
    with bounded():
        while took < wanted and count < most and not (count >= cases and took / count < QUICK) and len(wrong) < 5:
            chance = random.Random(f"{name} {seed} {count}")
            signal.setitimer(signal.ITIMER_PROF, LONGEST)
            try:
                target(chance)
            except (Exception, Hang) as fault:
                signal.setitimer(signal.ITIMER_PROF, 0)
                wrong.append(f"{name} {seed} {count}: " + "".join(format_exception(fault, limit=-3)))
            count += 1
            took = time.perf_counter() - began
    megabytes = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    if megabytes * 1_048_576 > MEMORY:
        wrong.append(f"{name} {seed}: the program grew to {megabytes} MB")
    return name, count, took, megabytes, wrong


def main(wanted: float = 600, seed: int = 1, names: tuple[str, ...] = ()) -> int:
    """Tries all targets, two at a time, and prints what came of each; how many cases ended otherwise than they may."""
    return tried(wanted, seed, names)[1]


def tried(wanted: float, seed: int, names: tuple[str, ...] = ()) -> tuple[int, int]:
    """The same: how many cases there were, and how many of them were wrong."""
    chosen = [name for name in TARGETS if not names or name in names]
    bad = cases = 0
    print(f"{'target':22} {'cases':>9} {'seconds':>8} {'MB':>5} {'wrong':>5}")
    with ProcessPoolExecutor(2, max_tasks_per_child=1) as pool:
        jobs = [pool.submit(attempt, name, seed, wanted) for name in chosen]
        for job in jobs:
            name, count, took, megabytes, wrong = job.result()
            bad += len(wrong)
            cases += count
            print(f"{name:22} {count:9,} {took:8.0f} {megabytes:5} {len(wrong):5}", flush=True)
            print("\n".join(wrong), end="\n" if wrong else "", file=sys.stderr, flush=True)
    return cases, bad


if __name__ == "__main__":
    words = sys.argv[1:]
    figures = [float(word) for word in words[:2] if word.replace(".", "").isdigit()]
    import os
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        os.environ["WEXICON_RUN"] = folder
        sys.exit(1 if main(*figures[:1], *map(int, figures[1:2]), names=tuple(words[len(figures) :])) else 0)
