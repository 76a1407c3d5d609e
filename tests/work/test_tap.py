"""A tap passes every byte, decodes what passes, follows rates, and puts faults in where it is told to."""

from __future__ import annotations

import os
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path

import pytest
from benchmarks.wanted import WANTED
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Bench, bench, wexicon
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.protocol.line_faults import FaultyLine, LineFault, Side, line_fault
from wexicon.core.protocol.observations import Heard, Listener, Logged, Observation, Role, Said, Tuned
from wexicon.core.tuning import Tuning
from wexicon.files import shipped_folder
from wexicon.links.port import open_port
from wexicon.records.trace import read_trace, recorded
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.tap import Tap
from wexicon.work.function.tap_decoder import TapDecoder


class Seen(Listener):
    def __init__(self) -> None:
        self.all: list[Observation] = []

    def note(self, seen: Observation) -> None:
        self.all.append(seen)


class Wire:
    """A pseudo-terminal: what a host, or a module, has at its end."""

    def __init__(self) -> None:
        self.fd, self._slave = os.openpty()
        tty.setraw(self._slave)
        self.name = os.ttyname(self._slave)

    def read(self, size: int, within: float = 60.0) -> bytes:
        """That many bytes."""
        data, until = b"", time.monotonic() + within
        os.set_blocking(self.fd, False)
        while len(data) < size and time.monotonic() < until:
            try:
                data += os.read(self.fd, 65_536)
            except BlockingIOError:
                time.sleep(0.001)
        return data

    def close(self) -> None:
        os.close(self.fd)
        os.close(self._slave)


@contextmanager
def tapped(host: str, module: str, lexicon: str | None = None, *faults: str) -> Iterator[tuple[Tap, Seen]]:
    """A tap that runs while the block lasts."""
    seen = Seen()
    found = find_lexicon(lexicon) if lexicon else None
    tuning = found.factory if found else Tuning(115200)
    with open_port(host, tuning) as one, open_port(module, tuning) as other:
        tap = Tap(one, other, found, tuple(map(line_fault, faults)), seen)
        done = threading.Event()
        thread = threading.Thread(target=lambda: setattr(tap, "result", tap.run(done.is_set)), daemon=True)
        thread.start()
        yield tap, seen
        done.set()
        thread.join(timeout=60)


def test_all_bytes_pass_in_both_ways_at_once() -> None:
    host, module = Wire(), Wire()
    there, back = os.urandom(1_000_000), os.urandom(1_000_000)
    got: dict[str, bytes] = {}
    with tapped(host.name, module.name):
        writers = [
            threading.Thread(target=lambda end=end, data=data: _write(end.fd, data))  # type: ignore[misc]
            for end, data in ((host, there), (module, back))
        ]
        readers = [
            threading.Thread(target=lambda name=name, end=end: got.update({name: end.read(1_000_000, 30)}))  # type: ignore[misc]
            for name, end in (("module", module), ("host", host))
        ]
        for thread in (*writers, *readers):
            thread.start()
        for thread in (*writers, *readers):
            thread.join(timeout=60)
    assert got["module"] == there and got["host"] == back
    host.close()
    module.close()


def _write(fd: int, data: bytes) -> None:
    at = 0
    while at < len(data):
        try:
            at += os.write(fd, data[at : at + 4096])
        except BlockingIOError:
            time.sleep(0.001)


def test_what_had_come_when_it_ends_is_passed_on() -> None:
    host, module = Wire(), Wire()
    with open_port(host.name, Tuning(9600)) as one, open_port(module.name, Tuning(9600)) as other:
        os.write(host.fd, b"last words\r\n")
        tap = Tap(one, other, None, (), Seen())
        tap.ended.set()
        result = tap.run()
    assert module.read(12) == b"last words\r\n"
    assert result.from_host == 12 and result.verdict == "done"
    host.close()
    module.close()


def test_a_host_and_its_module_are_decoded_and_the_trace_serves_as_a_recording(tmp_path: Path) -> None:
    host, trace = Wire(), tmp_path / "tap.jsonl"
    with bench('[unit.mast]\nstandin = "lindle-l9"\n') as server:
        port = server.ports["mast"]
        told: list[str] = []
        words = ["tap", host.name, port, "-l", "lindle-l9", "--for", "2500ms", "--trace", str(trace)]
        words += ["--fault", 'answer "@err 9" to "@join"']
        thread = threading.Thread(target=lambda: told.append(wexicon(*words).stdout))
        thread.start()
        while not trace.exists():
            time.sleep(0.01)
        for line, size in (
            ("@who?", 29),
            ("@name=quay 3", 5),
            ("@join", 8),
            ("@net=99", 8),
            ("@save", 5),
            ("@name?", 14),
        ):
            os.write(host.fd, f"{line}\n".encode())
            assert len(host.read(size, 2)) >= size, line
        thread.join(timeout=60)
        assert server.rig.unit("mast").standin.flash["name"] == "quay 3"
    assert "writes name: quay 3" in told[0] and "value not allowed" in told[0] and "done once" in told[0]
    # What the fault did stands behind the line that it did it to.
    texts = [one.text for one in read_trace(trace)]
    assert texts.index("fault: not passed on, and answered “@err 9”") > texts.index("@join")
    assert texts.index("fault: not passed on, and answered “@err 9”") < texts.index("@net=99")
    lines = [one.said for one in recorded(trace).exchanges]
    assert lines == ["@who?", "@name=quay 3", "@join", "@net=99", "@save", "@name?"]
    Path("s.toml").write_text('format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { name = "quay 3" }\n')
    assert "@name" in wexicon("trace", "dialogue", str(trace)).stdout
    host.close()


# One family's rate moves with its mode pins: no word says so.
@pytest.mark.parametrize("name", [name for name in WANTED if find_lexicon(name).attention.how != "control-line"])
def test_rate_changes_are_followed(name: str) -> None:
    """The host is Wexicon itself: what it says and hears is given to the decoder of a tap."""
    one = Bench(name)
    one.agenda.run_until(3)
    moved: list[Tuning] = []
    seen = Seen()
    session = one.open()
    decoder = TapDecoder(one.lexicon, one.lexicon.factory, seen, moved.append)
    from wexicon.work.module.module import Module
    from wexicon.work.provisioning.run import provision

    module = Module(session, one.lexicon, one.operator)
    module.attention.gain([one.lexicon.factory])
    session.watch = lambda mark, data: decoder.feed(
        Side.HOST if mark == ">" else Side.MODULE, data, session.clock.now()
    )
    result = provision(
        module,
        one.order("restart", **{key: value for key, value in WANTED[name].items() if key in ("rate", "station")}),
    )
    assert result.verdict in ("conforms", "unproved"), result.failure
    rates = [tuning.rate for tuning in moved]
    wanted = one.lexicon.settings["rate"].check(WANTED[name]["rate"])
    assert rates[-1:] == [wanted if isinstance(wanted, int) else wanted["rate"]], [str(one) for one in seen.all][-8:]  # type: ignore[index,call-overload]
    if "station" in WANTED[name]:
        assert moved[-1].station == WANTED[name]["station"]
    assert any(isinstance(one, Said) for one in seen.all) and any(isinstance(one, Tuned) for one in seen.all)


def test_a_secret_that_the_host_says_is_shown_nowhere() -> None:
    seen = Seen()
    decoder = TapDecoder(find_lexicon("tamsel-k5"), Tuning(57600), seen, lambda tuning: None)
    decoder.feed(Side.HOST, b"AT+PASS=48213\r\nAT+PASS?\r\n", 1.0)
    decoder.feed(Side.MODULE, b"OK\r\n+PASS 48213\r\nOK\r\n", 1.1)
    decoder.flush()
    assert "48213" not in repr(seen.all) and sum(isinstance(one, Said) for one in seen.all) == 2


# -- faults ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "text",
    [
        "delay 200ms after AT+SAVE",
        "loss 0.5% from module",
        "noise 1%",
        'answer "ERR 3" to "AT+JOIN"',
        "loss 100% from host",
    ],
)
def test_a_fault_is_read_as_it_is_written(text: str) -> None:
    assert line_fault(line_fault(text).text_of()) == line_fault(text)


@pytest.mark.parametrize("text", ["", "delay", "loss 101%", "noise 1", 'answer ERR to "x"', "delay soon after AT"])
def test_what_is_no_fault_is_told(text: str) -> None:
    with pytest.raises(ValueError):
        line_fault(text)
    assert wexicon("tap", "a", "b", "--fault", text, status=2).stderr


def passed(line: FaultyLine, side: Side, *parts: bytes) -> dict[Side, bytes]:
    made = dict.fromkeys(Side, b"")
    for part in parts:
        for one in line.feed(side, part):
            made[one.to] += one.data
    return made


@given(st.lists(st.binary(max_size=12), max_size=8))
def test_without_a_fault_nothing_is_held_or_changed(parts: list[bytes]) -> None:
    whole = b"".join(parts)
    assert passed(FaultyLine(), Side.HOST, *parts)[Side.MODULE] == whole
    answers = FaultyLine((line_fault('answer "ERR" to "AT+JOIN"'),))
    sent = passed(answers, Side.HOST, *parts, b"\r\nok\r\n")
    assert sent[Side.MODULE] == whole + b"\r\nok\r\n" and not sent[Side.HOST]
    assert passed(answers, Side.MODULE, *parts)[Side.HOST] == whole


@given(st.lists(st.integers(0, 30), max_size=5))
def test_a_line_is_answered_instead_of_the_module_at_any_split(cuts: list[int]) -> None:
    data = b"AT\r\nAT+JOIN=1\r\nAT+J\r\n"
    places = sorted({min(cut, len(data)) for cut in cuts} | {0, len(data)})
    parts = [data[a:b] for a, b in pairwise(places)]
    line = FaultyLine((line_fault('answer "ERR 3" to "AT+JOIN"'),))
    sent = passed(line, Side.HOST, *parts)
    assert sent[Side.HOST] == b"ERR 3\r\n"
    assert sent[Side.MODULE].replace(b"\r\n", b"\n").split(b"\n") == [b"AT", b"", b"AT+J", b""] or sent[
        Side.MODULE
    ].split() == [b"AT", b"AT+J"]


def test_shares_are_those_that_were_asked_for_and_the_same_each_time() -> None:
    data = bytes(range(256)) * 80
    for kind in ("loss", "noise"):
        one, two = (FaultyLine((line_fault(f"{kind} 10% from module"),), seed=4) for _ in range(2))
        first = passed(one, Side.MODULE, data)[Side.HOST]
        assert first == passed(two, Side.MODULE, data)[Side.HOST] != data
        done = sum(one.done.values())
        assert 0.08 < done / len(data) < 0.12
        assert len(first) == len(data) - done if kind == "loss" else len(first) == len(data)
        assert passed(one, Side.HOST, data)[Side.MODULE] == data


def test_an_answer_is_late_only_behind_its_line() -> None:
    line = FaultyLine((LineFault("delay", wait=0.2, line="AT+SAVE", side=Side.MODULE),))
    later = []
    for said in (b"AT\r\n", b"AT+SAVE\r\n", b"AT\r\n"):
        list(line.feed(Side.HOST, said))
        later += [one.later for one in line.feed(Side.MODULE, b"OK\r\n")]
    assert later == [0.0, 0.2, 0.0]


def test_a_module_that_answers_something_else_is_decoded_as_it_is() -> None:
    seen = Seen()
    decoder = TapDecoder(None, Tuning(9600), seen, lambda tuning: None)
    decoder.feed(Side.HOST, b"hello\r\n", 0.0)
    decoder.feed(Side.MODULE, b"\xff\x00\r\nworld\r\n", 0.1)
    decoder.elapse(5.0)
    decoder.flush()
    assert [type(one) for one in seen.all if not isinstance(one, Logged)][:1] == [Said]
    assert any(isinstance(one, Heard) and one.role is not Role.OK for one in seen.all)


def test_lines_that_the_host_drives_are_passed_on_over_rfc_2217() -> None:
    """Two stand-ins behind RFC 2217 ports: what the one drives, as a host would, the other one sees."""
    unit = 'standin = "lindle-l9"\nserve = "rfc2217"\n'
    with bench(f"[unit.host]\n{unit}[unit.module]\n{unit}") as server:
        host, module = (server.rig.units[name].standin.uart for name in ("host", "module"))
        with tapped(server.ports["host"], server.ports["module"]):
            for level in (False, True, False):
                for line, seen in (("cts", "rts"), ("dsr", "dtr")):
                    time.sleep(0.1)
                    server.call(lambda line=line, level=level: host.drive(line, level))  # type: ignore[misc]
                    limit = time.monotonic() + 60
                    while getattr(module, seen) != level and time.monotonic() < limit:
                        time.sleep(0.005)
                    assert getattr(module, seen) == level, f"{line} {level}"


@pytest.mark.parametrize(
    ("fault", "told"),
    [
        ("loss 100% from host", "fault: 4 bytes of the host lost"),
        ("noise 100% from host", "fault: 4 bytes of the host changed"),
        ("delay 50ms after AT", "fault: what the module sends comes 0.05 s later"),
    ],
)
def test_what_a_fault_did_is_told(fault: str, told: str) -> None:
    host, module = Wire(), Wire()
    with tapped(host.name, module.name, None, fault) as (_, seen):
        os.write(host.fd, b"AT\r\n")
        limit = time.monotonic() + 60
        while not any(isinstance(one, Logged) for one in seen.all) and time.monotonic() < limit:
            time.sleep(0.005)
    assert [one.text for one in seen.all if isinstance(one, Logged)] == [told]
    host.close()
    module.close()


def test_a_host_that_speaks_at_once_at_the_new_rate_is_followed() -> None:
    """The answer that moves the rate is decoded where it was passed on, before anything else is read."""
    host, module = Wire(), Wire()
    seen, tuning = Seen(), Tuning(9600)
    with open_port(host.name, tuning) as one, open_port(module.name, tuning) as other:
        tap = Tap(one, other, find_lexicon("lindle-l9"), (), seen)
        tap.pass_on(Side.HOST, b"@uart=115200\n", 1.0)
        tap.pass_on(Side.MODULE, b"@ok\n", 1.1)
        assert (one.tuning.rate, other.tuning.rate) == (115200, 115200)
    host.close()
    module.close()


def test_what_fails_in_who_looks_on_ends_the_tap_and_loses_no_byte() -> None:
    class Breaks(Listener):
        def note(self, seen: Observation) -> None:
            if isinstance(seen, Heard):
                raise RuntimeError

    host, module = Wire(), Wire()
    with open_port(host.name, Tuning(9600)) as one, open_port(module.name, Tuning(9600)) as other:
        tap = Tap(one, other, find_lexicon("lindle-l9"), (), Breaks())
        os.write(host.fd, b"@who?\n")
        os.write(module.fd, b"@ok\r\n@ok\r\n")
        with pytest.raises(RuntimeError):
            tap.run(lasts=5.0)
    assert host.read(10) == b"@ok\r\n@ok\r\n" and module.read(6) == b"@who?\n"
    host.close()
    module.close()


def test_a_late_answer_reaches_the_host_at_the_old_rate_and_before_what_came_behind_it() -> None:
    host, module = Wire(), Wire()
    seen, tuning = Seen(), Tuning(9600)
    with open_port(host.name, tuning) as one, open_port(module.name, tuning) as other:
        tap = Tap(one, other, find_lexicon("lindle-l9"), (line_fault("delay 200ms after @uart"),), seen)
        tap.pass_on(Side.HOST, b"@uart=115200\n", 1.0)
        tap.pass_on(Side.MODULE, b"@ok\n", 1.1)
        tap.pass_on(Side.HOST, b"@name?\n", 1.2)
        tap.pass_on(Side.MODULE, b"@name mast\n", 1.25)
        tap.send_late(1.29)
        assert (one.tuning.rate, other.tuning.rate) == (9600, 115200)
        tap.send_late(1.31)
        tap.run(lambda: True)
        assert one.tuning.rate == 115200
    assert host.read(15) == b"@ok\n@name mast\n"
    host.close()
    module.close()


def test_what_is_held_back_reaches_the_host_when_the_tap_is_ended() -> None:
    host, module = Wire(), Wire()
    with open_port(host.name, Tuning(9600)) as one, open_port(module.name, Tuning(9600)) as other:
        tap = Tap(one, other, None, (line_fault("delay 60s after AT"),), Seen())
        for side, said in ((Side.HOST, b"AT\r\n"), (Side.MODULE, b"OK\r\n")):
            tap.pass_on(side, said, one.clock.now())
        tap.run(lambda: True)
    assert host.read(4) == b"OK\r\n"
    host.close()
    module.close()


def test_a_rate_is_followed_when_the_host_goes_on_before_a_success_code_may_follow() -> None:
    """The answer is complete; whether a success code comes behind it, silence would tell."""
    moved: list[Tuning] = []
    text = (shipped_folder() / "lindle-l9.toml").read_text().replace('"alone"', '"either"')
    decoder = TapDecoder(read_lexicon(text.encode(), "l9.toml"), Tuning(9600), Seen(), moved.append)
    decoder.feed(Side.HOST, b"@uart=115200\n", 1.0)
    decoder.feed(Side.MODULE, b"@uart 115200\n", 1.01)
    assert not moved
    decoder.feed(Side.HOST, b"@name?\n", 1.02)
    assert [one.rate for one in moved] == [115200]


def test_what_is_more_than_can_wait_passes_and_is_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("wexicon.work.function.tap.MOST_WAITING", 4)
    host, module = Wire(), Wire()
    with open_port(host.name, Tuning(9600)) as one, open_port(module.name, Tuning(9600)) as other:
        tap = Tap(one, other, None, (), Seen())
        with tap._decoding:  # the decoder is busy
            for _ in range(3):
                tap.pass_on(Side.HOST, b"AT\r\n", 1.0)
        assert tap.run(lambda: True).undecoded == 8
    assert module.read(12) == b"AT\r\n" * 3
    host.close()
    module.close()


def test_what_is_said_to_an_answer_is_decoded_behind_it() -> None:
    """The host speaks again in the moment in which the answer reaches it."""
    host, module = Wire(), Wire()
    seen = Seen()
    with open_port(host.name, Tuning(115200)) as one, open_port(module.name, Tuning(115200)) as other:
        tap = Tap(one, other, None, (), seen)
        passed = one.write

        def write(data: bytes) -> None:
            passed(data)
            tap.pass_on(Side.HOST, b"AT+SAVE\r\n", 1.0)

        one.write = write  # type: ignore[method-assign]
        tap.pass_on(Side.HOST, b"AT\r\n", 0.5)
        tap.pass_on(Side.MODULE, b"OK\r\n", 1.0)
        tap.run(lambda: True)
    assert [one.text for one in seen.all if isinstance(one, Said | Heard)] == ["AT", "OK", "AT+SAVE"]
    host.close()
    module.close()
