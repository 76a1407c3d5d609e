"""A session over a link of the test's own making, under a clock that only moves when it is waited for."""

from __future__ import annotations

from collections import deque

import pytest

from tests.conftest import Records
from wexicon.core.faults import ModuleFault, Stopped
from wexicon.core.protocol.dialect import OK, Dialect, Expectation, ReplyStatus, Want
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.observations import Heard, Said, Signalled, Tuned
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import Secret, garbled, to_bytes, to_text, unescape, visible
from wexicon.core.tuning import Tuning
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.causes import Try, point_to


class Script:
    """A link that gives bytes at given times, and a clock."""

    name = "script"

    def __init__(self, *comes: tuple[float, bytes]) -> None:
        self.tuning = Tuning(9600)
        self.comes = deque(sorted(comes))
        self.said: list[tuple[float, bytes]] = []
        self.time = 0.0
        self.lines: list[tuple[bool | None, bool | None]] = []

    @property
    def clock(self) -> Script:
        return self

    def now(self) -> float:
        return self.time

    def wall(self, at: float) -> None:  # type: ignore[override]
        return None

    def write(self, data: bytes) -> None:
        self.said.append((self.time, data))

    def read(self, until: float) -> bytes:
        if self.comes and self.comes[0][0] <= max(until, self.time):
            at, data = self.comes.popleft()
            self.time = max(self.time, at)
            return data
        self.time = max(self.time, until)
        return b""

    def tune(self, tuning: Tuning) -> None:
        self.tuning = tuning

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        self.lines.append((dtr, rts))

    def close(self) -> None:
        pass


def session(
    *comes: tuple[float, bytes], speech: Speech | None = None, stop: list[bool] | None = None
) -> tuple[Session, Script, Records]:
    link, trace = Script(*comes), Records()
    made = Session(
        link,
        Dialect(speech or Speech(closing="always", within="1s"), {"e": Pattern("+E {n:int}")}),
        trace,
        lambda: bool(stop),
    )  # type: ignore[arg-type]
    return made, link, trace


def test_the_time_limit_begins_when_the_line_is_on_the_wire() -> None:
    made, link, _ = session()
    outcome = made.exchange("A" * 94, OK)  # 96 characters at 9600 baud: a tenth of a second
    assert outcome.status == "silence" and link.time == pytest.approx(1.1)
    assert made.on_wire == pytest.approx(0.1)


def test_what_came_before_is_no_answer_and_no_event_is_lost() -> None:
    made, _, trace = session((0.0, b"OK\r\n+E 1\r\n"), (0.2, b"+E 2\r\nOK\r\n+E 3\r\n"))
    made.listen(0.1)
    assert made.exchange("AT").ok
    made.listen(1.0)
    assert [event.values["n"] for event in made.events] == [1, 2, 3]
    roles = [seen.role for seen in trace.all if isinstance(seen, Heard)]
    assert roles == ["unexpected", "event", "event", "ok", "event"]


def test_a_pause_that_the_module_needs_is_kept() -> None:
    made, link, _ = session((0.1, b"OK\r\n"), (0.5, b"OK\r\n"), speech=Speech(rest="150ms"))
    made.exchange("AT")
    made.exchange("AT")
    assert link.said[1][0] == pytest.approx(0.25)


def test_a_stop_is_heeded_between_two_exchanges() -> None:
    stop: list[bool] = []
    made, link, _ = session((0.1, b"OK\r\n"), stop=stop)
    assert made.exchange("AT").ok
    stop.append(True)
    with pytest.raises(Stopped):
        made.exchange("AT")
    assert len(link.said) == 1


def test_a_secret_is_shown_in_neither_direction() -> None:
    made, _, trace = session((0.1, b"AT+P=4711\r\r\n+P 4711\r\nOK\r\n"))
    said = Template("AT+P={pin}").fill({"pin": Secret("4711")})
    outcome = made.exchange(said, Expectation((Want(Pattern("+P {pin}")),)))
    assert outcome.captures == {"pin": "4711"} and outcome.said == "AT+P=(secret)"
    assert "4711" not in repr(trace.all) and outcome.heard == ["+P (secret)", "OK"]
    assert trace.texts(Heard) == ["AT+P=(secret)", "+P (secret)", "OK"]


def test_our_side_is_retuned_only_when_all_that_we_said_is_on_the_wire() -> None:
    made, link, trace = session()
    made.send(b"x" * 96)
    made.tune(Tuning(115200))
    assert link.time == pytest.approx(0.1) and link.tuning == Tuning(115200)
    made.tune(Tuning(115200))
    assert [type(seen) for seen in trace.all] == [Said, Tuned]


def test_half_a_line_heard_at_another_rate_spoils_nothing() -> None:
    made, _, _ = session((0.0, b"\xff\x00O"), (0.3, b"OK\r\n"))
    made.listen(0.1)
    made.tune(Tuning(19200))
    assert made.exchange("AT").ok


def test_a_busy_module_is_told_again_for_a_minute_at_most() -> None:
    made, link, _ = session(*[(n / 1.0, b"BUSY\r\n") for n in range(1, 200)], speech=Speech(busy=("BUSY",)))
    assert made.exchange("AT", within=2.0).status == "busy"
    assert 55 < link.time < 65


def test_settling_waits_for_silence_and_not_for_ever() -> None:
    made, link, _ = session(*[(n / 20, b"x") for n in range(8)])
    made.wait_until_quiet(0.1, 5.0)
    assert link.time == pytest.approx(0.45, abs=0.02)
    made, link, _ = session(*[(n / 20, b"x") for n in range(400)])
    made.wait_until_quiet(0.1, 2.0)
    assert link.time == pytest.approx(2.0, abs=0.06)


def test_a_line_that_cannot_be_said_is_a_fault_and_not_sent() -> None:
    made, link, _ = session(speech=Speech(end="none", answer="bytes 20ms"))
    with pytest.raises(ModuleFault, match="not bytes in hexadecimal"):
        made.exchange("5Ax")
    assert link.said == []


def test_control_lines_are_driven_and_kept_in_the_trace() -> None:
    made, link, trace = session()
    made.signal(dtr=True, rts=False)
    assert link.lines == [(True, False)] and trace.all[-1] == Signalled(link.time, True, False)


# -- causes -----------------------------------------------------------------------------------------------------------

AT9600, AT19200 = Tuning(9600), Tuning(19200)


@pytest.mark.parametrize(
    ("tries", "kind", "words"),
    [
        ([Try(AT9600, "crlf", "AT", ReplyStatus.SILENCE, ())], "silence", "nothing heard (tried 9600 8N1)"),
        (
            [Try(Tuning(57600), "cr", "AT", ReplyStatus.ERROR, ("ERR 1",))],
            "line-end",
            "a module of this family is at 57600 8N1 (it said “ERR 1”)",
        ),
        (
            [Try(AT19200, "cr", "AT", ReplyStatus.SILENCE, ("K5 NO MATE",))],
            "data-mode",
            "in data mode: at 19200 8N1 it said “K5 NO MATE”",
        ),
        ([Try(AT9600, "cr", "AT", ReplyStatus.SILENCE, ("hello",))], "answers", "not from tamsel-k5: “hello”"),
        (
            [Try(AT9600, "cr", "AT", ReplyStatus.SILENCE, ("\x00\udcff\x00",))],
            "garbage",
            "garbage was heard at 9600 8N1",
        ),
    ],
)
def test_what_was_heard_points_to_its_cause(tries: list[Try], kind: str, words: str) -> None:
    cause = point_to(tries, find_lexicon("tamsel-k5"), [AT19200])
    assert cause.kind == kind and words in cause.what and cause.next


def test_text_and_garbage_are_told_apart_and_nothing_shown_can_move_the_cursor() -> None:
    assert not garbled("+LABEL Käse") and not garbled("") and garbled("\x00\x1c\udce0")
    assert visible("a\x1b[2J\r\n\u202e\udcff\\") == "a\\x1B[2J\\r\\n\\u202E\\xFF\\\\"
    assert to_bytes(to_text(b"\xff\x00\xc3\xa4")) == b"\xff\x00\xc3\xa4"
    assert unescape(r"a\r\x1A\\\"") == 'a\r\x1a\\"'
    for wrong in ("\\q", "\\"):
        with pytest.raises(ValueError, match=r"escape|lone"):
            unescape(wrong)


def test_only_an_answer_that_fits_no_other_line_settles_what_is_outstanding() -> None:
    for pattern, left in (("+N {n}", 0), ("{n}", 1)):
        made, _, _ = session((1.2, b"+N 4\r\nOK\r\n"))
        assert made.exchange("AT+A?").status == "silence" and made.outstanding == 1
        assert made.exchange("AT+N?", Expectation((Want(Pattern(pattern)),))).ok
        assert made.outstanding == left


def test_silence_is_an_anomaly_that_makes_a_reading_doubtful() -> None:
    made, _, _ = session((1.5, b"OK\r\n"))
    assert made.exchange("AT").status == "silence" and made.anomalies == 1
    made.await_outstanding()
    assert made.anomalies == 2 and made.outstanding == 0  # the late answer is no line's
