"""Runs every benchmark and prints one line each: what was measured, its baseline in the same run, and the ratio.

The rule: figures are ratios of medians of several rounds taken in turn, since machines are shared and noisy.
"""

from __future__ import annotations

import os
import select
import statistics
import subprocess
import sys
import tempfile
import time
import tty
from collections.abc import Callable
from pathlib import Path

ROUNDS = 7
WEXICON = Path(__file__).parents[1]
sys.path.insert(0, str(WEXICON))


def in_turn(one: Callable[[], float], two: Callable[[], float]) -> tuple[float, float]:
    """The medians of both, measured in turn."""
    pairs = [(one(), two()) for _ in range(ROUNDS)]
    return statistics.median(p[0] for p in pairs), statistics.median(p[1] for p in pairs)


def line(what: str, figure: str, goal: str) -> None:
    print(f"{what:<78} {figure:>22}   goal: {goal}", flush=True)


def exchange_on_a_terminal() -> None:
    """One exchange on a pseudo-terminal whose other end answers at once, over a bare write-select-read loop."""
    from wexicon.core.protocol.exchange import OK
    from wexicon.core.protocol.session import Session
    from wexicon.core.protocol.speech import Speech
    from wexicon.core.tuning import Tuning
    from wexicon.links.port import open_port
    from wexicon.records.trace import TraceWriter

    master, slave = os.openpty()
    tty.setraw(slave)
    answering = os.fork()
    if answering == 0:
        while data := os.read(master, 4096):
            os.write(master, b"OK\r\n" * data.count(b"\n"))
    count = 3000
    with tempfile.TemporaryDirectory() as folder:
        link = open_port(os.ttyname(slave), Tuning(921600))
        trace = TraceWriter(Path(folder) / "t", link.clock, link="x", tuning=link.tuning)
        session = Session(link, Speech(closing="always"), None, trace)

        def ours() -> float:
            began = time.perf_counter()
            for _ in range(count):
                assert session.exchange("AT", OK).ok
            return time.perf_counter() - began

        def bare() -> float:
            began = time.perf_counter()
            for _ in range(count):
                os.write(slave, b"AT\r\n")
                got = b""
                while not got.endswith(b"OK\r\n"):
                    select.select([slave], [], [], 1)
                    got += os.read(slave, 4096)
            return time.perf_counter() - began

        mine, base = in_turn(ours, bare)
        link.close()
    os.kill(answering, 9)
    os.waitpid(answering, 0)
    figure = f"{mine / base:.2f} x ({mine / count * 1e6:.0f} us)"
    line("one exchange on a pseudo-terminal, trace written / bare write-select-read", figure, "1.5 x")


def provisioning_in_virtual_time() -> None:
    """Processor time of one whole provisioning under the virtual clock."""
    from tests.conftest import VirtualBench
    from tests.core.test_provision import WANTED

    def once() -> float:
        bench = VirtualBench("tamsel-k5")
        began = time.process_time()
        assert bench.provision(**WANTED).outcome == "conforms"
        return time.process_time() - began

    once()
    took = statistics.median(once() for _ in range(ROUNDS))
    line("provisioning one unit under the virtual clock, processor time", f"{took * 1000:.1f} ms", "50 ms")


def exchanges_in_virtual_time() -> None:
    """A dialogue of 10,000 exchanges under the virtual clock."""
    from tests.conftest import VirtualBench

    from wexicon.core.dialogue import read_dialogue
    from wexicon.core.dialogue.runner import Holder

    def once() -> float:
        bench = VirtualBench("brisca-w1")
        session = bench.session()
        session.tune(bench.lexicon.delivered)
        session.quiet(1.1)
        bench.trace.record = lambda at, what, **fields: None  # type: ignore[method-assign]
        program = read_dialogue("repeat 10000 times\n    > AT\n", "x")
        began = time.process_time()
        Holder(session, program).hold()
        return time.process_time() - began

    took = statistics.median(once() for _ in range(3))
    line("a dialogue of 10,000 exchanges under the virtual clock, processor time", f"{took:.2f} s", "2 s")


def engine_throughput() -> None:
    """Bytes through the protocol engine, over only splitting them at line ends."""
    from wexicon.core.protocol.exchange import Conversation
    from wexicon.core.protocol.patterns import Pattern
    from wexicon.core.protocol.speech import Speech

    some = (
        b"+PEER up\r\n+LABEL quay three, gannet quay\r\n+IN 0 400 "
        + b"x" * 400
        + b"\r\nOK\r\n"
        + b"+LEVEL 1.204\r\n" * 4
    )
    data = some * 4000
    events = {"peer": Pattern("+PEER {state:word}"), "in": Pattern("+IN {chan:int} {size:int} {data:bytes(size)}")}

    def ours() -> float:
        conversation = Conversation(Speech(), events)
        began = time.perf_counter()
        for at in range(0, len(data), 4096):
            conversation.feed(data[at : at + 4096], 0.0)
            conversation.take_heard()
            conversation.events.clear()
        return time.perf_counter() - began

    def bare() -> float:
        began = time.perf_counter()
        for at in range(0, len(data), 4096):
            data[at : at + 4096].split(b"\r\n")
        return time.perf_counter() - began

    mine, base = in_turn(ours, bare)
    figure = f"{len(data) / mine / 1e6:.1f} MB/s ({mine / base:.0f} x)"
    line("bytes through the protocol engine / splitting at line ends", figure, "20 MB/s")


def help_starts() -> None:
    """`wexicon --help` over a program that only imports Click."""

    def run(*words: str) -> float:
        began = time.perf_counter()
        subprocess.run([sys.executable, *words], stdout=subprocess.DEVNULL, check=True)
        return time.perf_counter() - began

    click_only = "import click; click.Command('x').main(['--help'], standalone_mode=False)"
    mine, base = in_turn(lambda: run("-m", "wexicon", "--help"), lambda: run("-c", click_only))
    line("wexicon --help / a program that only imports Click", f"{mine / base:.2f} x", "1.3 x")


if __name__ == "__main__":
    exchange_on_a_terminal()
    provisioning_in_virtual_time()
    exchanges_in_virtual_time()
    engine_throughput()
    help_starts()
