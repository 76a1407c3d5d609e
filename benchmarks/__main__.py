"""Runs every benchmark and prints one line each: what was measured, its baseline in the same run, the ratio, the goal.

The rule: figures are ratios of medians of several rounds, measured in turn, since machines are shared and noisy.
`python -m benchmarks WORD ...` runs those whose names hold a word.
"""

from __future__ import annotations

import os
import select
import statistics
import subprocess
import sys
import tempfile
import time
import tracemalloc
import tty
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from benchmarks.command import by_command, rehearsed
from benchmarks.contact import console, hailing, hailing_among
from benchmarks.fleet import fleet
from benchmarks.floor import busy, together
from benchmarks.listening import growth as listened_growth
from benchmarks.listening import rate as listening_rate
from benchmarks.record import comparing, reporting
from benchmarks.registers import registers
from benchmarks.virtual_bench import VirtualBench
from benchmarks.wanted import TRUST, WANTED
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import Fault
from wexicon.core.operator import NoOperator
from wexicon.core.protocol.dialect import OK, Dialect
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.observations import Heard, Role, Said
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.recorded import RecordedExchange
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.protocol.transfers import FileSender
from wexicon.core.standards.gnss import with_checksum
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock
from wexicon.links.port import open_port
from wexicon.records.trace import read_many
from wexicon.records.trace_writer import TraceWriter
from wexicon.rigs.rig import read_rig
from wexicon.rigs.serving import real_agenda, served
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

ROUNDS = 7
SIZES = (1, 2, 4, 8)


def in_turn(one: Callable[[], float], two: Callable[[], float], rounds: int = ROUNDS) -> tuple[float, float]:
    """The medians of both, measured in turn."""
    pairs = [(one(), two()) for _ in range(rounds)]
    return statistics.median(p[0] for p in pairs), statistics.median(p[1] for p in pairs)


def line(what: str, figure: str, goal: str) -> None:
    print(f"{what:<82} {figure:>26}   goal: {goal}", flush=True)


def timed(work: Callable[[], object], clock: Callable[[], float] = time.perf_counter) -> float:
    began = clock()
    work()
    return clock() - began


def order_of(name: str) -> Order:
    lexicon = find_lexicon(name)
    plain = {key: lexicon.settings[key].kind.check(value) for key, value in WANTED[name].items()}
    return Order(plain, trust=TRUST.get(name, ()))


def exchange_on_a_terminal() -> None:
    """One exchange on a pseudo-terminal whose other end answers at once, over a bare write-select-read loop."""
    master, slave = os.openpty()
    tty.setraw(slave)
    answering = os.fork()
    if answering == 0:
        while data := os.read(master, 4096):
            os.write(master, b"OK\r\n" * data.count(b"\n"))
    count = 150
    with tempfile.TemporaryDirectory() as folder:
        link = open_port(os.ttyname(slave), Tuning(921600))
        trace = TraceWriter(Path(folder) / "t", link.clock, link="x", tuning=link.tuning)
        session = Session(link, Dialect(Speech(closing="always")), trace)

        def ours() -> None:
            for _ in range(count):
                assert session.exchange("AT", OK).ok

        def bare() -> None:
            for _ in range(count):
                os.write(slave, b"AT\r\n")
                got = b""
                while not got.endswith(b"OK\r\n"):
                    select.select([slave], [], [], 1)
                    got += os.read(slave, 4096)

        mine, base = in_turn(lambda: timed(ours), lambda: timed(bare), 150)
        link.close()
    os.kill(answering, 9)
    os.waitpid(answering, 0)
    figure = f"{mine / base:.2f} x ({mine / count * 1e6:.0f} us)"
    line("one exchange on a pseudo-terminal, trace written / bare write-select-read", figure, "2.0 x")


def provisioning_over_its_floor() -> None:
    """One unit from factory to wanted in virtual time, divided by wire, module, operator and the lexicon's waits."""
    for name in WANTED:
        lexicon = find_lexicon(name)
        bench = VirtualBench.of(name, lexicon)
        bench.agenda.run_until(2.0)
        with busy(lexicon) as intervals:
            result = provision(Module(bench.session(), lexicon, bench.operator), order_of(name))
        assert result.verdict == "conforms", result.failure
        floor = together(intervals, 2.0, bench.agenda.now)
        figure = f"{(bench.agenda.now - 2.0) / floor:.2f} x ({floor:.2f} s)"
        goal = "1.45 x" if name == "lindle-r2" else "1.05 x"
        line(f"provisioning {name}, virtual / wire, module, operator, stated waits", figure, goal)


def provisioning_on_a_port() -> None:
    """The same walk on a pseudo-terminal and in virtual time."""
    name = "lindle-l9"
    lexicon, order = find_lexicon(name), order_of(name)

    def real() -> float:
        with served(read_rig(f'format = 1\n[unit.x]\nstandin = "{name}"\n'.encode(), "x", real_agenda())) as server:
            time.sleep(0.4)
            link = open_port(server.ports["x"], lexicon.factory)
            session = Session(link, lexicon.dialect)
            took = timed(lambda: provision(Module(session, lexicon, NoOperator()), order))
            link.close()
            return took

    def virtual() -> float:
        bench = VirtualBench.of(name, lexicon)
        bench.agenda.run_until(0.4)
        result = provision(Module(bench.session(), lexicon, NoOperator()), order)
        return result.seconds

    mine, base = in_turn(real, virtual, 3)
    line("provisioning lindle-l9 on a pseudo-terminal / in virtual time", f"{mine / base:.2f} x", "1.08 x")


def transfer_of_a_file() -> None:
    """A file of 64 KB into a boot loader on a paced pseudo-terminal at 115200 baud, over what each protocol allows there: its
    bytes on the wire, both ways, and the two milliseconds that the loader thinks."""
    data = bytes(65_536)
    for protocol, size in (("xmodem", 128), ("xmodem-1k", 1024)):

        def real(protocol: str = protocol) -> float:
            rig = read_rig(
                b'format = 1\n[unit.x]\nstandin = "fennick-z4"\npins = { boot = true }\n', "x", real_agenda()
            )
            with served(rig) as server:
                time.sleep(0.3)
                link = open_port(server.ports["x"], Tuning(115_200))
                session = Session(link, find_lexicon("fennick-z4").dialect)
                assert session.exchange("L", OK).status
                sender = FileSender(data, protocol, "x.img", link.tuning.wire_time(1), session.clock.now())
                # The loader has asked for it while the exchange above ended.
                sender.feed(b"C", session.clock.now())
                took = timed(lambda: session.drive(sender))
                assert not sender.failure and sender.received == len(data), sender.failure
                link.close()
                return took

        blocks = len(data) // size
        floor = blocks * ((size + 5 + 1) * 10 / 115_200 + 0.002)
        share = floor / statistics.median(real() for _ in range(3))
        line(f"64 KB by {protocol} at 115200 baud, of what the protocol allows", f"{100 * share:.0f} %", "90 %")


def first_contact_hail() -> None:
    """Finding a link with nothing known, over every combination with a fixed second each; virtual time."""
    for name, ours, theirs in hailing():
        line(
            f"hail of {name}, nothing known / every combination with a fixed second",
            f"{ours / theirs:.3f} x ({ours:.1f} s)",
            "0.05 x",
        )
    for name in ("lindle-l9", "saltern-m4", "fennick-z4", "cordal-n7"):
        few, many = hailing_among(name, 25), hailing_among(name, 100)
        line(f"hail of {name} with 100 lexicons / with 25", f"{many / few:.2f} x ({many:.1f} s)", "1.1 x")


def first_contact_console() -> None:
    """How soon the console shows what is typed, and what comes."""
    key, heard = console()
    line("talk: a key to its character on the terminal", f"{key * 1000:.1f} ms", "20 ms")
    line("talk: the last byte of a line to that line on the terminal", f"{heard * 1000:.1f} ms", "20 ms")


def many_units() -> None:
    """64 units at once over one alone; 400 at once without a crash."""
    one = statistics.median(fleet(1)[0] for _ in range(3))
    many = statistics.median(fleet(64)[0] for _ in range(3))
    line("64 units on 64 pseudo-terminals, 64 threads / one unit", f"{many / one:.2f} x ({one:.1f} s)", "1.2 x")
    alone, _, own = sorted(by_command(1) for _ in range(3))[1]
    all_, well, used = sorted(by_command(64) for _ in range(3))[1]
    assert well == 64
    line(
        "wexicon provision of 64 rows on 64 ports / of one row on one",
        f"{all_ / alone:.2f} x ({alone:.1f} s)",
        "1.35 x",
    )
    line("the processor's time of that for each further unit", f"{(used - own) / 63 * 1000:.0f} ms", "-")
    took, conform = fleet(400)
    line("400 units at once: how many conform", f"{conform} of 400 ({took:.1f} s)", "400")
    with ProcessPoolExecutor(2) as pool:  # the same while two other processes take all the time that they get
        load = [pool.submit(_spin, 120.0) for _ in range(2)]
        took, conform = fleet(400)
        line("400 units at once under load: how many conform", f"{conform} of 400 ({took:.1f} s)", "400")
        for one_ in load:
            one_.cancel()
        for process in list(pool._processes.values()):
            process.kill()


def _spin(seconds: float) -> None:
    until = time.perf_counter() + seconds
    while time.perf_counter() < until:
        pass


def claims_and_registers() -> None:
    """Claims as the register grows; many runs that begin at once."""
    registers(line)


def _batch(given: tuple[str, int]) -> float:
    name, count = given
    lexicon, order = find_lexicon(name), order_of(name)
    began = time.perf_counter()
    for _ in range(count):
        bench = VirtualBench.of(name, lexicon)
        assert provision(Module(bench.session(), lexicon, bench.operator), order).verdict == "conforms"
    return time.perf_counter() - began


def ten_thousand_units() -> None:
    """10,000 units in virtual time in two processes; a tenth of them is done, and the time multiplied."""
    for name in ("tamsel-k5", "cordal-n7"):
        with ProcessPoolExecutor(2) as pool:
            took = timed(lambda pool=pool, name=name: list(pool.map(_batch, [(name, 500)] * 2)))  # type: ignore[misc]
        line(f"10,000 units of {name} in virtual time, two processes", f"{took * 10:.0f} s", "60 s")
        tracemalloc.start()
        _batch((name, 20))
        first = tracemalloc.get_traced_memory()[0]
        _batch((name, 60))
        grown = (tracemalloc.get_traced_memory()[0] - first) / 60
        tracemalloc.stop()
        line(f"memory kept for each further unit of {name}", f"{grown / 1000:.1f} KB", "3 KB")


def rehearsing_a_sheet() -> None:
    """A sheet of 10,000 units, by the command."""
    (small, flat), (took, most) = rehearsed(1_000), rehearsed(10_000)
    line("wexicon rehearse of a sheet with 10,000 rows", f"{took:.0f} s ({small:.0f} s for 1,000)", "60 s")
    line("memory of its process, 10,000 rows / 1,000 rows", f"{most / flat:.2f} x ({flat:.0f} MB)", "2 x")


def engine_throughput() -> None:
    """Bytes through the protocol engine, over only splitting them at line ends."""
    events = {
        "peer": Pattern("+PEER {state:word}"),
        "in": Pattern("+IN {chan:int} {size:int} {data:bytes(size)}"),
        "link": Pattern("+LINK {chan:int} {state:word}"),
        "access": Pattern("+ACCESS {state:int}"),
    }
    fix = with_checksum("$GPGGA,080012.00,5128.9260,N,00259.2440,W,1,09,0.9,6.2,M,48.6,M,,") + "\r\n"
    kinds = {
        "unknown lines of 14 bytes": (b"+LEVEL 1.204\r\n" * 40_000, "lines", "10 MB/s"),
        "known events of 11 to 12 bytes": (b"+PEER up\r\n+LINK 0 UP\r\n+ACCESS 2\r\n" * 15_000, "lines", "3 MB/s"),
        "sentences of 72 bytes": (fix.encode() * 10_000, "sentences", "5 MB/s"),
        "80 % raw blocks of 400 bytes, the rest lines of 14": (
            (b"+IN 0 400 " + b"x" * 400 + b"\r\nOK\r\n" + b"+LEVEL 1.204\r\n" * 6) * 2000,
            "lines",
            "20 MB/s",
        ),
    }
    for what, (data, answer, goal) in kinds.items():
        dialect = Dialect(Speech(answer=answer), events if answer == "lines" else {})

        def ours(data: bytes = data, dialect: Dialect = dialect) -> None:
            engine = Engine(dialect)
            for at in range(0, len(data), 4096):
                engine.feed(data[at : at + 4096], 0.0)
                engine.events.clear()

        def bare(data: bytes = data) -> None:
            for at in range(0, len(data), 4096):
                data[at : at + 4096].split(b"\r\n")

        mine, base = in_turn(lambda ours=ours: timed(ours), lambda bare=bare: timed(bare))  # type: ignore[misc]
        line(
            f"engine, {what} / splitting at line ends", f"{len(data) / mine / 1e6:.1f} MB/s ({mine / base:.0f} x)", goal
        )


def programs_start() -> None:
    """How long commands take to start, over a program that only imports Click; the first run of each leaves its modules
    compiled, as an installation does."""
    environment = {name: text for name, text in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}

    def run(*words: str) -> float:
        command = [sys.executable, *words]
        nowhere = subprocess.DEVNULL
        return timed(lambda: subprocess.run(command, stdout=nowhere, stderr=nowhere, env=environment))

    click_only = "import click; click.Command('x').main(['--help'], standalone_mode=False)"
    for words, goal in ((["--help"], "1.3 x"), (["ports"], "2.0 x"), (["provision", "--help"], "2.2 x")):
        called = ["-m", "wexicon", *words]
        run(*called)
        mine, base = in_turn(lambda called=called: run(*called), lambda: run("-c", click_only), 15)  # type: ignore[misc]
        line(f"wexicon {' '.join(words)} / a program that only imports Click", f"{mine / base:.2f} x", goal)
    missing = [
        "-m",
        "wexicon",
        "provision",
        str(Path(__file__).parents[1] / "src/wexicon/sample/service-plug.toml"),
        "/dev/none",
    ]
    run(*missing)
    mine, base = in_turn(lambda: run(*missing), lambda: run("-c", click_only), 15)
    line("wexicon provision up to the opening of its port / the same", f"{mine / base:.2f} x", "2.2 x")


def traces() -> None:
    """Reading and showing a trace of 200,000 records."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "t.jsonl"
        clock = RealClock()
        writer = TraceWriter(path, clock, link="x", tuning=Tuning())
        count = 200_000
        now = clock.now()
        for n in range(count // 2):
            writer.note(Said(now + n / 1000, "AT+LABEL?"))
            writer.note(Heard(now + n / 1000, "+LABEL Withy Point", Role.ANSWER))
        writer.close()
        took = timed(lambda: [None for _ in read_many(path)])
        line("a trace: records read", f"{count / took / 1000:.0f} k/s", "200 k/s")
        for words in ([], ["--json"], ["--only", "said"]):
            called = [sys.executable, "-m", "wexicon", "trace", "show", str(path), *words]
            start = timed(
                lambda: subprocess.run(
                    [sys.executable, "-m", "wexicon", "trace", "show", "--help"], stdout=subprocess.DEVNULL
                )
            )
            took = timed(lambda called=called: subprocess.run(called, stdout=subprocess.DEVNULL, check=True)) - start  # type: ignore[misc]
            line(f"a trace: trace show {' '.join(words)}".rstrip(), f"{count / took / 1000:.0f} k/s", "200 k/s")


def record() -> None:
    """Two traces compared; a report of 1, 20 and 2,000 units."""
    took = [statistics.median(comparing(10_000 * size) for _ in range(3)) for size in SIZES]
    figures = " ".join(f"{one / took[0]:.1f}" for one in took)
    line(f"growth of trace compare (10,000 exchanges; {took[0] * 1000:.0f} ms) at 1, 2, 4, 8", figures, "1 2 4 8")
    for count, goal in ((1, "2 s"), (20, "3 s"), (2000, "20 s")):
        ours, base = reporting(count)
        line(
            f"wexicon report of {count} units / wexicon units export of them",
            f"{ours / base:.1f} x ({ours:.1f} s)",
            goal,
        )


def listening() -> None:
    """Sentences that `listen` decodes, traces and prints."""
    found, times = listening_rate()
    line(
        "listen: sentences decoded, traced and printed / splitting at line ends",
        f"{found / 1000:.1f} k/s ({times:.0f} x)",
        "10 k/s",
    )
    line("listen: memory that 200,000 more sentences keep", f"{listened_growth() / 1024:.0f} KB", "300 KB")


def growth() -> None:
    """Time against size, at sizes 1, 2, 4, 8: linear work takes about 8 times as long at 8."""

    class Script:
        name, tuning = "script", Tuning(921600)

        def __init__(self, data: bytes) -> None:
            self.data, self.time = data, 0.0
            self.clock = self

        def now(self) -> float:
            return self.time

        def wall(self, at: float) -> None:
            return None

        def write(self, data: bytes) -> None:
            pass

        def read(self, until: float) -> bytes:
            part, self.data = self.data[:2000], self.data[2000:]
            self.time = max(self.time, self.time + 0.001 if part else until)
            return part

    def awaits(size: int) -> None:
        session = Session(Script(b"+LEVEL 1.204\r\n" * 4000 * size + b"+END 1\r\n"), Dialect(Speech()))  # type: ignore[arg-type]
        Runner(Party("", session), read_dialogue("await 300s\n    +END {n:int}\n", "x")).run()

    def blocks(size: int) -> None:
        engine = Engine(Dialect(Speech(), {"in": Pattern("+IN {size:int} {data:bytes(size)}")}))
        data = b"+IN %d " % (125_000 * size) + b"x" * 125_000 * size
        for at in range(0, len(data), 32):
            engine.feed(data[at : at + 32], 0.0)

    def drafts(size: int) -> None:
        heard = [
            [(0.1, f"+ID 02:A1:5C:00:{n // 256:02X}:{n % 256:02X} v1.{n}.2", "answer")] for n in range(1000 * size)
        ]
        draft_dialogue([RecordedExchange("AT+ID?", heard=one) for one in heard])

    def lines(size: int) -> None:
        Pattern("...{a:word},{=a}...") and Pattern("{name},{level:int};{rest}").match("a,1:" * 20_000 * size)

    def sheets(size: int) -> None:
        from wexicon.core.formats.lexicon import read_lexicon

        text = 'format = 1\n[about]\nfamily = "x"\n' + "".join(
            f"[setting.s{n}]\nvalve = 1\n" for n in range(200 * size)
        )
        try:
            read_lexicon(text.encode(), "x")
        except Fault:
            return

    for name, work, what in (
        ("await", awaits, "4,000 other events"),
        ("cutter", blocks, "a block of 125 KB in pieces of 32 bytes"),
        ("draft", drafts, "1,000 exchanges with an address each"),
        ("pattern", lines, "a line of 80,000 characters"),
        ("lexicon with faults", sheets, "200 wrong settings"),
    ):
        took = [statistics.median(timed(lambda work=work, size=size: work(size)) for _ in range(3)) for size in SIZES]  # type: ignore[misc]
        figures = " ".join(f"{one / took[0]:.1f}" for one in took)
        line(f"growth of {name} ({what}; {took[0] * 1000:.0f} ms) at 1, 2, 4, 8", figures, "1 2 4 8")


ALL = (
    exchange_on_a_terminal,
    provisioning_over_its_floor,
    provisioning_on_a_port,
    transfer_of_a_file,
    first_contact_hail,
    first_contact_console,
    many_units,
    claims_and_registers,
    ten_thousand_units,
    rehearsing_a_sheet,
    engine_throughput,
    record,
    listening,
    programs_start,
    traces,
    growth,
)

if __name__ == "__main__":
    for bench in ALL:
        if not sys.argv[1:] or any(word in bench.__name__ for word in sys.argv[1:]):
            bench()
