"""Many units at once on pseudo-terminals that other processes serve: one thread a unit, as the commands will have it."""

from __future__ import annotations

import multiprocessing
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection

from wexicon.core.operator import NoOperator
from wexicon.core.protocol.session import Session
from wexicon.core.results.result import Prove
from wexicon.links.port import open_port
from wexicon.rigs.rig import read_rig
from wexicon.rigs.serving import Server, real_agenda
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

FAMILY = "lindle-l9"
WANTED = {"name": "mast 2", "address": 2, "network": 6, "frequency": 868.3, "spreading": 10, "sync": 0x34}


def _serve(first: int, count: int, line: Connection) -> None:
    units = range(first, first + count)
    text = "format = 1\n" + "".join(
        f'[unit.u{n}]\nstandin = "{FAMILY}"\nidentity = {{ serial = "L9-{n:05}" }}\n' for n in units
    )
    server = Server(read_rig(text.encode(), "fleet", real_agenda()))
    line.send(list(server.ports.values()))
    threading.Thread(target=lambda: (line.recv(), server.stop()), daemon=True).start()
    server.run()


@contextmanager
def serve_in_processes(count: int, processes: int = 2) -> Iterator[list[str]]:
    """Starts `count` stand-ins in other processes, each with its own identity; yields their ports."""
    context = multiprocessing.get_context("spawn")
    ports: list[str] = []
    lines = []
    share = [count // processes + (n < count % processes) for n in range(processes)]
    for size in filter(None, share):
        ours, theirs = context.Pipe()
        context.Process(target=_serve, args=(len(ports), size, theirs), daemon=True).start()
        ports += ours.recv()
        lines.append(ours)
    time.sleep(0.5)
    try:
        yield ports
    finally:
        for line in lines:
            line.send("stop")


def fleet(count: int) -> tuple[float, int]:
    """Provisions `count` units at once; gives the seconds it took and how many conform."""
    lexicon = find_lexicon(FAMILY)
    plain = {name: lexicon.settings[name].kind.check(value) for name, value in WANTED.items()}
    verdicts: list[str] = []

    def one(port: str) -> None:
        link = open_port(port, lexicon.factory)
        try:
            order = Order(plain, Prove.RESTART)
            verdicts.append(provision(Module(Session(link, lexicon.dialect), lexicon, NoOperator()), order).verdict)
        finally:
            link.close()

    with serve_in_processes(count) as ports:
        threads = [threading.Thread(target=one, args=(port,)) for port in ports]
        began = time.perf_counter()
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        took = time.perf_counter() - began
    return took, sum(verdict == "conforms" for verdict in verdicts)
