"""What a tap adds to the time of a byte, and whether all bytes pass it at full speed, both ways at once.

    python -m benchmarks.tap [MEGABYTES]

The rule: a byte through the tap is timed in turn with a byte through one pseudo-terminal alone, which is the baseline; the goal
is at most 1 ms more in the middle and 3 ms at 99 %.
"""

from __future__ import annotations

import os
import select
import statistics
import sys
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager

from wexicon.core.protocol.observations import Listener, Observation
from wexicon.core.tuning import Tuning
from wexicon.links.port import open_port
from wexicon.work.function.tap import Tap

BYTES = 2_000
PATIENCE = 120.0


class Deaf(Listener):
    """Takes no notice."""

    def note(self, seen: Observation) -> None:
        """Nothing is kept."""


def wire() -> tuple[int, int]:
    """The two ends of a pseudo-terminal."""
    ours, theirs = os.openpty()
    tty.setraw(theirs)
    os.set_blocking(ours, False)
    return ours, theirs


@contextmanager
def tapped() -> Iterator[tuple[int, int]]:
    """What a host and a module have in hand, with a tap between them."""
    host, module = wire(), wire()
    tuning = Tuning(115_200)
    with open_port(os.ttyname(host[1]), tuning) as one, open_port(os.ttyname(module[1]), tuning) as other:
        done = threading.Event()
        thread = threading.Thread(target=Tap(one, other, None, (), Deaf()).run, args=(done.is_set,))
        thread.start()
        yield host[0], module[0]
        done.set()
        thread.join()


def taken(written: int, read: int) -> float:
    """The seconds that one byte takes."""
    began = time.perf_counter()
    os.write(written, b"x")
    select.select([read], [], [], PATIENCE)
    os.read(read, 64)
    return time.perf_counter() - began


def whole(host: int, module: int, size: int) -> float:
    """Sends `size` bytes each way at once; gives the seconds. Raises SystemExit if any is lost or changed."""
    sent = {host: os.urandom(size), module: os.urandom(size)}
    at, got = dict.fromkeys(sent, 0), {host: bytearray(), module: bytearray()}
    began = time.perf_counter()
    while any(len(one) < size for one in got.values()):
        writes = [end for end in sent if at[end] < size]
        readable, writable, _ = select.select(list(sent), writes, [], PATIENCE)
        if not readable and not writable:
            raise SystemExit(f"the tap stopped: {[len(one) for one in got.values()]} of {size} bytes came")
        for end in readable:
            got[end] += os.read(end, 65_536)
        for end in writable:
            at[end] += os.write(end, sent[end][at[end] : at[end] + 4096])
    if bytes(got[module]) != sent[host] or bytes(got[host]) != sent[module]:
        raise SystemExit("what came is not what was sent")
    return time.perf_counter() - began


def main() -> None:
    """Prints both figures."""
    size = int(sys.argv[1] if sys.argv[1:] else 10) * 1_000_000
    alone = wire()
    os.set_blocking(alone[1], False)
    with tapped() as (host, module):
        pairs = [(taken(host, module), taken(alone[0], alone[1])) for _ in range(BYTES)]
        added = sorted(through - direct for through, direct in pairs)
        middle, late = statistics.median(added) * 1e3, added[len(added) * 99 // 100] * 1e3
        print(f"added to a byte: {middle:.2f} ms in the middle (goal 1), {late:.2f} ms at 99 % (goal 3)")
        seconds = whole(host, module, size)
        print(f"{size / 1e6:g} MB each way at once, all equal: {seconds:.1f} s, {2 * size / 1e6 / seconds:.1f} MB/s")


if __name__ == "__main__":
    main()
