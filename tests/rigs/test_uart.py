"""The wire between a stand-in and its host: time, power, faults; and the servers that put it on ports."""

from __future__ import annotations

import os
import socket
import time
from pathlib import Path

import pytest

from tests.conftest import bench, k5
from wexicon.core.agenda import Agenda
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.faults import FileFault, LinkFault
from wexicon.core.protocol.link import Clock
from wexicon.core.protocol.observations import Heard, Role, Said, Tuned
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock
from wexicon.links.port import open_port
from wexicon.records.trace import read_trace, recorded
from wexicon.records.trace_writer import TraceWriter
from wexicon.rigs import tcp_ports
from wexicon.rigs.uart import Uart, WireFaults


class Ears:
    """A module that only listens."""

    def __init__(self) -> None:
        self.heard_at: list[tuple[float, float, bytes]] = []
        self.agenda = Agenda()
        self.cuts = 0

    def heard(self, data: bytes, began: float) -> None:
        self.heard_at.append((began, self.agenda.now, data))

    def lost_power(self) -> None:
        self.cuts += 1

    def lines_changed(self) -> None:
        pass


def wire(faults: WireFaults | None = None, tuning: Tuning | None = None) -> tuple[Uart, Ears]:
    ears = Ears()
    uart = Uart(ears.agenda, ears, tuning or Tuning(9600), faults)
    uart.power(True)
    return uart, ears


def test_bytes_take_their_time_and_queue_behind_each_other() -> None:
    uart, ears = wire()
    uart.from_host(b"x" * 96)
    uart.from_host(b"y" * 48)
    ears.agenda.run_until(10)
    assert [(round(a, 6), round(b, 6), len(d)) for a, b, d in ears.heard_at] == [(0, 0.1, 96), (0.1, 0.15, 48)]
    got: list[float] = []
    uart.to_host = lambda data: got.append(ears.agenda.now)
    assert uart.send(b"z" * 96) == pytest.approx(10.1)
    ears.agenda.run_until(20)
    assert len(got) == 3 and got[-1] == pytest.approx(10.1)  # in bursts of 32


def test_what_is_on_the_wire_when_the_power_goes_is_lost() -> None:
    uart, ears = wire()
    got: list[bytes] = []
    uart.to_host = got.append
    uart.from_host(b"x" * 96)
    uart.send(b"y" * 96)
    ears.agenda.run_until(0.05)
    uart.power(False)
    uart.power(True)
    ears.agenda.run_until(1)
    assert ears.heard_at == [] and b"".join(got) == b"y" * 32
    uart.power(False)
    assert uart.send(b"more") == 1
    uart.from_host(b"deaf")
    ears.agenda.run_until(2)
    assert ears.heard_at == []


def test_faults_of_the_wire_are_what_they_are_called() -> None:
    uart, ears = wire(WireFaults(noise=0.1, lost=0.1, seed=3))
    uart.from_host(bytes(1000))
    ears.agenda.run_until(10)
    ((_, _, data),) = ears.heard_at
    assert 850 < len(data) < 950 and 50 < sum(byte != 0 for byte in data) < 130
    uart, ears = wire(WireFaults(cut_after=10))
    uart.from_host(b"12345678")
    uart.from_host(b"90abc")
    uart.from_host(b"def")
    ears.agenda.run_until(1)
    assert ears.cuts == 1


def test_a_wrong_frame_is_heard_on_rfc2217_and_a_wrong_rate_on_both() -> None:
    for serve, wrong in (("rfc2217", Tuning(57600, 7, "N", 1)), ("rfc2217", Tuning(9600)), ("pty", Tuning(9600))):
        with bench(k5(serve=f'"{serve}"')) as rig:
            rig.call(lambda rig=rig: rig.rig.units["plug"].work("operate", "attention"))  # type: ignore[misc]
            time.sleep(1.6)
            link = open_port(rig.ports["plug"], wrong)
            link.write(b"AT\r\n")
            first = link.read(link.clock.now() + 0.4)
            link.tune(Tuning(57600))
            for _ in range(3):
                link.write(b"AT\r\n")
                heard = b""
                until = link.clock.now() + 0.5
                while b"\r\n" not in heard and link.clock.now() < until:
                    heard += link.read(until)
            link.close()
            assert b"OK" not in first and heard == b"OK\r\n", (serve, wrong)


def test_a_host_that_does_not_read_loses_bytes_and_stops_nothing() -> None:
    with bench(
        '[unit.gps]\nstandin = "polmar-p1"\nsettings = { every = 100 }\n[unit.plug]\nstandin = "tamsel-k5"\n'
    ) as rig:
        quiet = os.open(rig.ports["gps"], os.O_RDWR | os.O_NOCTTY)
        link = open_port(rig.ports["plug"], Tuning(9600))
        link.read(link.clock.now() + 1)
        link.write(b"hello\r\n")
        assert b"NO MATE" in link.read(link.clock.now() + 2)
        link.close()
        os.close(quiet)


def test_one_client_at_a_time_is_served_and_the_next_when_it_has_gone() -> None:
    with bench(k5(serve='"rfc2217"')) as rig:
        first = open_port(rig.ports["plug"], Tuning(9600))
        with pytest.raises(LinkFault, match=r"in use|lost"):
            second = open_port(rig.ports["plug"], Tuning(9600))
            until = second.clock.now() + 5
            while second.clock.now() < until:
                second.write(b"x")
                second.read(second.clock.now() + 0.1)
        first.close()
        time.sleep(0.2)
        open_port(rig.ports["plug"], Tuning(9600)).close()


# -- traces -----------------------------------------------------------------------------------------------------------


def test_a_client_that_says_nothing_makes_room_and_another_users_is_turned_away(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    with bench(k5(serve='"rfc2217"')) as rig:
        address = ("127.0.0.1", int(rig.ports["plug"].rpartition(":")[2]))
        idle = socket.create_connection(address)
        monkeypatch.setattr(tcp_ports, "SPEAKS_WITHIN", 0.0)
        open_port(rig.ports["plug"], Tuning(9600)).close()
        with idle, idle.makefile("rb") as told:
            told.read()  # to its end: it was closed
        monkeypatch.setattr(tcp_ports, "peer_user", lambda client: os.getuid() + 4242)
        with socket.create_connection(address) as stranger:
            assert stranger.recv(9) == b""


@pytest.mark.parametrize("host", ["127.0.0.1", "::ffff:127.0.0.1"])
def test_the_system_tells_whose_program_is_at_the_other_end(host: str) -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        with socket.socket(family) as other:
            other.connect((host, listener.getsockname()[1]))
            client, _ = listener.accept()
            assert tcp_ports.peer_user(client) == os.getuid()
            client.close()


def test_a_trace_comes_back_as_it_was(tmp_path: Path) -> None:
    clock: Clock = RealClock()
    path = tmp_path / "deep" / "t.jsonl"
    writer = TraceWriter(path, clock, link="x", tuning=Tuning(9600))
    begin = clock.now()
    writer.note(Said(begin, "AT+P=(secret)"))
    writer.note(Heard(begin + 0.5, "\udcff\x00é", Role.UNMATCHED))
    assert len(path.read_text().splitlines()) == 3  # what happened is on the disk a quarter of a second later
    writer.note(Heard(begin + 0.6, "+ID 0AB", Role.ANSWER))
    writer.note(Tuned(begin + 0.7, Tuning(19200, 8, "E")))
    writer.note(Said(begin + 0.8, "\x1a", exact=True))
    writer.close()
    writer.note(Said(begin + 9, "after the end"))
    records = list(read_trace(path))
    assert [r.what for r in records] == ["opened", "said", "heard", "heard", "tuned", "said", "closed"]
    assert records[1].content == "AT+P=(secret)" and records[2].content == "\udcff\x00é"
    assert path.stat().st_mode & 0o777 == 0o600 and path.parent.stat().st_mode & 0o777 == 0o700
    assert records[2].at - records[1].at == pytest.approx(0.5, abs=1e-5)
    session = recorded(path)
    assert [(e.said, e.tuning, len(e.heard)) for e in session.exchanges] == [
        ("AT+P=(secret)", Tuning(9600), 1),  # what is garbage was said by nobody
        ("\x1a", Tuning(19200, 8, "E", 1), 0),
    ]
    assert "tune 19200 8E1" in draft_dialogue(session.exchanges)


@pytest.mark.parametrize("line", ["", "{", "[]", '{"at": "x"}', '{"at": 0, "wall": "now", "what": "said"}', "\xff"])
def test_a_line_that_is_no_record_is_told_with_its_number(tmp_path: Path, line: str) -> None:
    (tmp_path / "t").write_text(
        '{"at": 0, "wall": "2026-03-02T08:00:00Z", "what": "said"}\n' + line + "\n", encoding="latin-1"
    )
    with pytest.raises(FileFault) as fault:
        list(read_trace(tmp_path / "t"))
    assert "t:2: not a trace record" in str(fault.value)
