"""First contact: how long `hail` takes over trying every combination with a fixed second, and how soon the console shows.

The rule: both sides of a ratio are done with the same stand-in in the same state, by the same clock.
"""

from __future__ import annotations

import os
import pty
import select
import statistics
import sys
import tempfile
import time
import tty

import msgspec

from benchmarks.virtual_bench import VirtualBench
from benchmarks.wanted import WANTED
from wexicon.core.formats.lexicon import AttentionBy, Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import LINE_ENDS, Speech
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.work.contact.catalog import all_lexicons, find_lexicon
from wexicon.work.contact.discovery import LinkDiscovery
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

KEYS, LINES = 60, 60


def at_rate(lexicon: Lexicon, rate: int) -> VirtualBench:
    """A module that has this rate in its data mode."""
    bench = VirtualBench.of(lexicon.about.family, lexicon)
    bench.agenda.run_until(2.5)
    setting = next((one for one in lexicon.settings.values() if one.kind.rates()), None)
    if setting and rate != lexicon.factory.rate:
        provision(Module(bench.session(), lexicon, bench.operator), Order({setting.name: setting.check(rate)}))
        bench.standin.cycle()
    bench.agenda.run_until(bench.agenda.now + 20)
    return bench


def every_combination(session: Session, lexicons: list[Lexicon], wanted: Lexicon) -> None:
    """The usual rates, four line ends, every lexicon's probe, a fixed second each, until the right one is answered."""
    probes = list(dict.fromkeys(one.attention.probe.say.source for one in lexicons))
    for rate in USUAL_RATES:
        for end in LINE_ENDS:
            session.tune(Tuning(rate))
            for probe in probes:
                own = probe == wanted.attention.probe.say.source and end == wanted.speech.end
                session.adopt(wanted.dialect if own else Dialect(Speech(end=end, echo="either")))
                if own and wanted.attention.escape_opens:
                    session.quiet(1.0)
                    session.exchange(wanted.attention.escape, wanted.attention.answered, 1.0, exact=True)
                began = session.clock.now()
                answer = session.exchange(probe, wanted.attention.probe.expect, 1.0) if own else None
                if answer is not None and answer.ok:
                    return
                if answer is None:
                    session.send(probe.encode() + LINE_ENDS[end].encode())
                session.listen(began + 1.0)


def hailing() -> list[tuple[str, float, float]]:
    """For each family that can be found without an operator: median seconds of hail, and of trying everything."""
    lexicons = all_lexicons()
    found = []
    for name in sorted(WANTED):
        lexicon = find_lexicon(name)
        operated = lexicon.attention.how in (AttentionBy.HELD_KEY, AttentionBy.CONTROL_LINE) or lexicon.attention.window
        if operated:
            continue
        setting = next(one for one in lexicon.settings.values() if one.kind.rates())
        ours, theirs = [], []
        for rate in (rate for rate in setting.kind.rates() if rate in USUAL_RATES):
            bench = at_rate(lexicon, rate)
            result = LinkDiscovery(
                bench.session(tuning=Tuning(9600)), lexicons, with_escapes=name == "fennick-z4"
            ).run()
            assert result.found and result.rate == rate and result.family == name, (name, rate)
            ours.append(result.seconds)
            bench = at_rate(lexicon, rate)
            session = bench.session(tuning=Tuning(9600))
            began = session.clock.now()
            every_combination(session, lexicons, lexicon)
            theirs.append(session.clock.now() - began)
        found.append((name, statistics.median(ours), statistics.median(theirs)))
    return found


def grown(count: int) -> list[Lexicon]:
    """As many lexicons as that: the shipped ones, and others of other families that ask the same and expect another answer."""
    own = all_lexicons()
    made = list(own)
    for number in range(len(own), count):
        one = own[number % len(own)]
        about = msgspec.structs.replace(one.about, family=f"{one.about.family}-{number}")
        made.append(msgspec.structs.replace(one, about=about, must={"model": f"another {number}"}))
    return made


def hailing_among(name: str, count: int) -> float:
    """Seconds of hail for a module as delivered, with this number of lexicons."""
    lexicon = find_lexicon(name)
    session = at_rate(lexicon, lexicon.factory.rate).session(tuning=Tuning(9600))
    result = LinkDiscovery(session, grown(count), with_escapes=bool(lexicon.attention.escape_opens)).run()
    assert result.family == name, result
    return result.seconds


def console() -> tuple[float, float]:
    """Medians in seconds: from a key to its character on the terminal, and from a line's last byte to the line there."""
    module, port = os.openpty()
    tty.setraw(port)
    folder = tempfile.mkdtemp()
    process, terminal = pty.fork()
    if process == 0:
        own = {f"WEXICON_{name}": f"{folder}/{name.lower()}" for name in ("STATE", "RUN", "CONFIG")}
        words = [sys.executable, "-m", "wexicon", "talk", os.ttyname(port)]
        os.execve(sys.executable, words, {**os.environ, **own, "TERM": "xterm", "PROMPT_TOOLKIT_NO_CPR": "1"})

    def until(wanted: bytes, within: float = 20.0) -> float:
        seen, end = b"", time.monotonic() + within
        while wanted not in seen and time.monotonic() < end:
            if select.select([terminal], [], [], 0.05)[0]:
                seen += os.read(terminal, 65_536)
        return time.monotonic()

    def settled() -> None:
        while select.select([terminal], [], [], 0.15)[0]:
            os.read(terminal, 65_536)

    until(b"ends.")
    settled()
    keys, lines = [], []
    for number in range(KEYS):
        began = time.monotonic()
        key = b"abcdefghij"[number % 10 : number % 10 + 1]
        os.write(terminal, key)
        keys.append(until(key) - began)
        settled()
    for number in range(LINES):
        text = b"+TIDE %d" % number
        began = time.monotonic()
        os.write(module, text + b"\r\n")
        lines.append(until(text) - began)
        settled()
    os.kill(process, 9)
    os.waitpid(process, 0)
    return statistics.median(keys), statistics.median(lines)
