"""Lines told apart while nothing is asked, events waited for, and observations as they leave a session."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from tests.core.talking import Talk
from tests.core.test_session import session
from wexicon.core.protocol.dialect import Dialect, Expectation, ReplyStatus, Want
from wexicon.core.protocol.engine import MOST_EVENTS, Engine, Events, Waiter
from wexicon.core.protocol.exchange import Exchange
from wexicon.core.protocol.masking import Redactor
from wexicon.core.protocol.observations import (
    COLLECTED,
    Asked,
    Began,
    Collector,
    Heard,
    Listener,
    Listeners,
    Logged,
    Observation,
    Role,
)
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech

EVENTS = {
    "peer": Pattern("+PEER {state:word}"),
    "peers": Pattern("+PEERS {count:int}"),
    "ring": Pattern("RING"),
    "any": Pattern("{n:int} rings"),
    "in": Pattern("+IN {size:int} {data:bytes(size)}"),
}
SPEECH = Speech(ok=("OK", "DONE {n:int}"), error=("ERR {code:int}", "NO"), busy=("WAIT {wait:int}",))
LINES = st.sampled_from(
    [
        "+PEER up",
        "+PEERS 3",
        "+PEERS x",
        "RING",
        "RINGS",
        "7 rings",
        "OK",
        "DONE 3",
        "ERR 7",
        "NO",
        "NOT",
        "WAIT 5",
        "+",
        "",
    ]
) | st.text("+PERSIN0 7x", max_size=10)


@given(st.lists(LINES, max_size=8))
def test_what_is_looked_up_by_how_it_begins_is_what_every_pattern_would_say(lines: list[str]) -> None:
    for events in (EVENTS, {name: EVENTS[name] for name in ("peer", "peers", "ring")}):
        dialect = Dialect(SPEECH, events)
        talk = Talk(SPEECH, events)
        talk.feed("".join(f"{line}\r\n" for line in lines).encode(), 0.0)
        told = iter(talk.heard)
        for line in filter(None, lines):
            fits = next((name for name, one in events.items() if one.match(line) is not None), None)
            final = dialect.final(line) is not None
            heard = next(told)
            assert heard.text == line
            assert heard.role == (Role.EVENT if fits else Role.UNEXPECTED if final else Role.UNMATCHED), line


def test_a_word_that_is_spelled_out_goes_before_a_pattern_that_it_fits() -> None:
    dialect = Dialect(Speech(ok=("OK",), error=("{text}K",)))
    final = dialect.final("OK")
    assert final and final.status == "ok"
    other = dialect.final("XK")
    assert other and other.status == "error"


def test_a_prompt_is_looked_for_only_while_it_is_waited_for() -> None:
    talk = Talk(Speech(closing="alone"))
    talk.feed(b"> not a prompt\r\n", 0.0)
    talk.begin("AT+SEND", Expectation((Want(Pattern("> "), prompt=True), Want(Pattern("SENT {n:int}")))))
    talk.feed(b"> \r\nSENT 4\r\n", 0.1)
    talk.feed(b"> again\r\n", 0.2)
    assert talk.roles() == ["unmatched", "prompt", "answer", "unmatched"]
    assert talk.outcome and talk.outcome.captures == {"n": 4}
    standing = Talk(Speech(prompt="# ", closing="always"))
    standing.begin("AT")
    standing.feed(b"AT\r\nOK\r\n# ", 0.1)
    assert standing.roles() == ["echo", "ok", "prompt"] and standing.outcome and standing.outcome.ok


# -- events -------------------------------------------------------------------------------------------------------------------


def event(number: int) -> Heard:
    return Heard(float(number), f"+E {number}", Role.EVENT, "e", {"n": number})


def test_no_event_is_looked_at_twice_by_the_same_waiter() -> None:
    events, looked = Events(), 0

    def pick(seen: Heard) -> bool:
        nonlocal looked
        looked += 1
        return seen.text == "+E 900"

    waiter = Waiter(events, pick)
    for number in range(1000):
        events.add(event(number))
        if found := waiter.take():
            assert found.text == "+E 900"
    assert looked == 1000 and len(events) == 999
    assert Waiter(events, lambda seen: True, since=998.0).take() == event(998)


def test_the_queue_is_bounded_and_the_oldest_go_first() -> None:
    events = Events()
    for number in range(MOST_EVENTS + 50):
        events.add(event(number))
    assert len(events) == MOST_EVENTS and events.count == MOST_EVENTS + 50
    assert Waiter(events, lambda seen: True).take() == event(50)
    events.clear()
    assert Waiter(events, lambda seen: True).take() is None and events.count == MOST_EVENTS + 50


def test_waiting_for_an_event_ends_with_it_or_with_the_time() -> None:
    made, link, _ = session((0.5, b"+E 1\r\n"), (0.7, b"noise\r\n"), (0.9, b"+E 2\r\n"))
    found = made.wait_for(lambda seen: seen.name == "e" and seen.values["n"] == 2, 5.0)
    assert found and found.values == {"n": 2} and link.time == 0.9
    assert made.wait_for(lambda seen: seen.text == "never", 2.0) is None and link.time == 2.0
    assert [seen.text for seen in made.events] == ["+E 1", "noise"]


def test_everything_leaves_a_session_as_an_observation_to_every_listener() -> None:
    class Keeps(Listener):
        def __init__(self) -> None:
            self.all: list[Observation] = []
            self.idles = 0

        def note(self, seen: Observation) -> None:
            self.all.append(seen)

        def idle(self) -> None:
            self.idles += 1

    one, two = Keeps(), Keeps()
    made, _, _ = session((1.0, b"OK\r\n"))
    made.listener = Redactor(Listeners(one, two), made.secrets)
    made.begin_step("read")
    made.asked("attention", "Hold the key.")
    made.log("because")
    assert made.exchange("AT").ok
    assert one.all == two.all and [type(seen).__name__ for seen in one.all] == [
        "Began",
        "Asked",
        "Logged",
        "Said",
        "Heard",
    ]
    assert one.all[:3] == [Began(0.0, "read"), Asked(0.0, "attention", "Hold the key."), Logged(0.0, "because")]
    assert one.idles == two.idles >= 3  # the answer took a second


def test_raw_blocks_of_a_dialogue_are_cut_only_while_it_runs() -> None:
    made, _, _ = session((0.1, b"+BIN 3 a\r\n\r\n"), (0.5, b"+BIN 3 a\r\n\r\n"))
    block = Pattern("+BIN {size:int} {data:bytes(size)}")
    with made.watching([block], {}):
        made.listen(0.3)
    made.listen(1.0)
    assert [seen.text for seen in made.events] == ["+BIN 3 a\r\n", "+BIN 3 a"]


def test_a_module_that_never_pauses_fills_no_memory_and_ends_what_collects() -> None:
    asked = []
    collector = Collector(60.0, gap=1.0, is_answer=lambda data: bool(asked.append(len(data)) or data))
    for number in range(10_000):
        collector.feed(bytes(range(100)), number / 1000)
        if collector.done:
            break
    assert number < 200 and len(collector.data) == COLLECTED
    assert asked == [100]  # what was an answer once is not judged anew with each byte


def test_a_late_echo_of_an_earlier_line_is_no_value() -> None:
    engine = Engine(Dialect(Speech(end="lf", answer="lines", echo="on", ok=("OK",))))
    want = Expectation((Want(Pattern("{value}")),))
    first = Exchange(engine.dialect, "id", want, 0.0, 1.0)
    engine.begin(first, "id")
    assert not engine.elapse(1.0) and first.outcome.status is ReplyStatus.SILENCE
    second = Exchange(engine.dialect, "name", want, 1.0, 2.0)
    engine.begin(second, "name")
    roles = [one.role for one in engine.feed(b"id\nname\nid\nOK\n", 1.1)]
    assert roles == [Role.UNEXPECTED, Role.ECHO, Role.ANSWER, Role.OK]
    assert second.outcome.captures == {"value": "id"}
