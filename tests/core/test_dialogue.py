"""Dialogues: read with every fault, printed and read again, held with what was heard and where it parted."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Bench
from wexicon.core.agenda import Agenda
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueFault, DialogueOutput, Measured
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.dialogue.expressions import Expression, ExpressionFault
from wexicon.core.dialogue.given import given as given_value
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import FileFault
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.insertion import InsertionFault, Template
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.standards.gnss import checksum
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rigs.air import AccessPoint, Air, AirTable
from wexicon.rigs.standin import LineEditor, StandIn
from wexicon.rigs.standins.recording import Recording
from wexicon.work.module.module import Module

EVERY_STATEMENT = """\
# every statement once
needs ssid = "Harbour Office"
needs passphrase secret
needs turns int = 1 + 1
on +ACCESS {seen:int}
    note "the network says {seen}"
tune 115200 8N1
signal dtr on rts off
quiet 1100ms
again up to 3 every 100ms
    > AT
>> AT\\r\\n
< OK
> AT+WHO?
< +WHO {model:word} {firmware:word} {own:address}
keep model, firmware as unit
check model == "BRISCA-W1" and not (firmware in ["1.0", "1.1"])
set mode = "station"
read power
when power > 20
    fail "never"
otherwise when power == 20
    keep strong = power * 2 - 1
otherwise
    fail "never"
repeat turns_done times
"""
EVERY_STATEMENT = EVERY_STATEMENT.replace(
    "repeat turns_done times\n",
    """\
keep count = 0
repeat 5 times every 10ms
    keep count = count + 1
    when count == turns
        break
operator work "Look at the lamp: {ssid}"
allow 10s
    > AT+SEEK
    <* +SEEK {name:quoted},{signal:int},...
    < OK
keep name, signal as networks
allow 20s
> AT+ACCESS={ssid|quoted},{passphrase|quoted}
< OK
| NO SUCH POINT     fail "none called {ssid}"
| BAD KEY
    note "wrong key"
    fail "refused"
repeat for 30s every 1s until state == 2
    > AT+ACCESS?
    < +ACCESS {state:int}
> AT+LINK 0,"tides.harbour.example",7
await 5s
    +LINK 0 UP
    | +LINK 0 {why:word}     fail "no link: {why}"
> AT+POST 0 {ssid|length}
< "> "
>> {ssid}
< POSTED
await 5s
    +IN {chan:int} {size:int} {echoed:bytes(size)}
check echoed == ssid
pause 20ms
do save
keep echoed
measure level = power / 2 unit dBm from -5 to 12.5
note "done with {passphrase}"
""",
)
OFFICE = Air(AirTable({"Harbour Office": AccessPoint(passphrase="mud flats 7")}, {"tides.harbour.example": "echo"}))


def office() -> Bench:
    bench = Bench("brisca-w1")
    bench.standin.air = OFFICE
    return bench


def hold(text: str, bench: Bench, **values: Any) -> DialogueOutput:
    session = bench.open()
    session.tune(bench.lexicon.factory)
    session.quiet(1.1)
    module = Module(session, bench.lexicon, bench.operator)
    return Runner(Party("", session, module, bench.operator), read_dialogue(text, "x.wex"), values).run()


def test_every_statement_is_held() -> None:
    bench = office()
    held = hold(EVERY_STATEMENT, bench, passphrase="mud flats 7")
    assert held.kept["unit"] == [{"model": "BRISCA-W1", "firmware": "2.0.3"}]
    assert held.kept["networks"] == [{"name": "Harbour Office", "signal": -60}]
    assert (held.kept["strong"], held.kept["count"], held.kept["echoed"]) == (39, 2, "Harbour Office")
    assert held.measured == [Measured("level", 10.0, "dBm", -5.0, 12.5)]
    assert held.notes == ["the network says 2", "done with (secret)"]
    assert bench.operator.asked == ["Look at the lamp: Harbour Office"]
    assert "mud flats 7" not in repr(bench.trace.all)


def test_print_then_read_gives_the_same_program() -> None:
    program = read_dialogue(EVERY_STATEMENT, "x")
    assert read_dialogue(program.wording(), "y") == program


FAULTS = """\
> AT
< +A {x:it}
nedes foo
\tpause 1s
< OK
check colour == 1
  pause 1s
repeat until x == 1
    > AT
await 5
    +X
note hello
when 1 +
    break
> AT+{y|qoted}
| A{b}     faill "x"
| ...
| B     note "never"
otherwise
keep 5
> A{
fail "gone {nobody}"
needs late secret = 5
tune fast 9X9
operator juggle "x"
"""


def test_every_fault_is_told_in_one_go_with_its_place_and_a_suggestion() -> None:
    with pytest.raises(FileFault) as fault:
        read_dialogue(FAULTS, "f.wex")
    told = {(c.line, c.column): c for c in fault.value.complaints}
    found = {line: c.what for (line, _), c in sorted(told.items(), reverse=True)}
    assert told[2, 7].what == "it is not a kind of capture" and "did you mean int" in told[2, 7].hint
    assert told[3, 1].hint == "did you mean needs?"
    assert told[4, 1].what == "a tab"
    assert "nothing was said" in found[5]
    assert "indented further" in found[7]
    assert "has no end" in found[8]
    assert told[10, 7].what.startswith("'5' is not a duration")
    assert "quotes" in found[12] and "did you mean fail?" in told[16, 12].hint
    assert told[13, 6].what == "the expression cannot be read"
    assert "did you mean quoted?" in told[15, 7].hint
    assert found[20].startswith("cannot be read") and "never closed" in found[21]
    assert found[19] == "there is no `when` before it"
    assert "a secret has no default" in found[23] and "not a valid frame" in found[24] and "not an act" in found[25]
    text = str(fault.value)
    assert "f.wex:13:6: the expression cannot be read\n    when 1 +\n         ^" in text


@pytest.mark.parametrize(
    ("text", "line", "what"),
    [
        ("> AT\ncheck colour == 1\n", 2, "nothing sets colour"),
        ("check x == 1\n> AT\n< {x:int}\n", 1, "x has no value yet"),
        ("> AT\n< OK\n| OK\n", 3, "can never be reached"),
        ("> AT\n| {all}     note \"x\"\n| B     note \"y\"\n", 3, "can never be reached"),
        ("when 1 == 1\n    break\n", 2, "there is no repeat around it"),
        ("> AT\n|\n", 2, "no pattern"),
        ("> AT\n<\n< OK\n", 1, "says that nothing answers"),
        ("when 1 == 1\n    needs x\n", 2, "may only stand at the margin"),
        ("> AT\n< {a} {n:int}{d:bytes(n)}\n", 2, "fixed extent"),
    ],
)  # fmt: skip
def test_what_can_be_told_before_it_is_held(text: str, line: int, what: str) -> None:
    with pytest.raises(FileFault) as fault:
        read_dialogue(text, "x")
    assert any(c.line == line and what in c.what + c.hint for c in fault.value.complaints), str(fault.value)


WORDS = st.sampled_from(
    ["> AT", "< OK", "<* {a:int}", "| X  fail \"y\"", "| Y", "    ", "when 1 == 1", "otherwise", "repeat 2 times", "await 1s",
     "+E {n:int}", "needs a", "keep a", "check a == 1", "allow 1s", ">> \\x1A{a}", "on +R", "again up to 2", "break", "\t",
     "{", "}", "\x00", "é", "<", ">"]
)  # fmt: skip


@given(st.lists(st.lists(WORDS, max_size=3).map("".join) | st.text(max_size=20), max_size=12).map("\n".join))
def test_any_text_gives_faults_or_a_program_that_prints_and_reads_the_same(text: str) -> None:
    try:
        program = read_dialogue(text, "x")
    except FileFault as fault:
        assert fault.complaints
        return
    assert read_dialogue(program.wording(), "x") == program


# -- failure ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("> AT+MODE?\n< +MODE station\n", ["without what was expected", "matched up to “+MODE ”, then “idle”"]),
        ("> AT+ACCESS=\"a\",\"b\"\n", ["an error: 7 (only in mode station)"]),
        ("allow 300ms\n> AT+SEEK\n", ["nothing was heard within"]),
        ("> AT\ncheck 1 == 2\n", ["not so: 1 == 2"]),
        ("> AT+ACCESS?\n< +ACCESS {s:int}\nrepeat 2 times until s == 9\n    > AT\n", ["after 2 turns", "s is 0"]),
        ("await 1s\n    +NEVER {x:int}\n", ["did not come within 1s"]),
        ("again up to 2\n    > AT+NONE\n", ["an error: 2"]),
        ("on +ACCESS 2\n    fail \"early\"\nset mode = \"station\"\nallow 9s\n"
         "> AT+ACCESS=\"Harbour Office\",\"mud flats 7\"\npause 5s\n",
         ["early"]),
        ("set power = 21\n", ["21 is out of range"]),
        ("set colour = 21\n", ["no such thing"]),
        ("do jump\n", ["no such thing"]),
    ],
)  # fmt: skip
def test_a_failure_says_what_was_expected_and_heard(text: str, parts: list[str]) -> None:
    with pytest.raises(DialogueFault) as fault:
        hold(text, office())
    assert fault.value.line
    for part in parts:
        assert part in fault.value.what + fault.value.hint


def test_no_value_becomes_a_second_command() -> None:
    bench = office()
    with pytest.raises(DialogueFault, match="control character"):
        hold("needs n\n> AT+NAME={n|quoted}\n", bench, n="a\r\nAT+START")
    assert not [text for text in bench.trace.said() if "AT+NAME" in text]


# -- expressions, filters, given values -------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("source", "value"),
    [
        ("1 + 2 * 3", 7),
        ("0.1 + 0.2 == 0.3", True),
        ("7 / 2", Decimal("3.5")),
        ("-7 // 2 + 7 % 4", -1),
        ("'b' in ['a', 'b'] and not 1 > 2", True),
        ("1 < x <= 3", True),
        ("length('é') + length([1, 2])", 4),
        ("round(number('2.345'), 2)", Decimal("2.34")),
        ("hex_number('1F') + max(1, 9)", 40),
        ("first(split('a,b')) + last('xy')", "ay"),
        ("x == 3 or nobody == 1", True),
    ],
)
def test_expressions(source: str, value: Any) -> None:
    assert Expression(source).value({"x": 3}) == value


@pytest.mark.parametrize(
    "source",
    ["x.y", "open('f')", "(lambda: 1)()", "[a for a in x]", "2 ** 99", "x if x else x", "f'{x}'", "x[0:1]", "print",
     "1 == '1'", "'a' * 9", "10 / 0", "y", "number('x')", "[1][5]", "number('9'*9)", "1 < 'a'", "max()",
     "__import__('os')", "(" * 999,
     "not " * 90 + "1", "999999999999999999999999999999 * 99"],
)  # fmt: skip
def test_what_is_not_on_the_list_cannot_be_written_or_evaluated(source: str) -> None:
    with pytest.raises(ExpressionFault):
        value = Expression(source).value({"x": 3})
        assert source == "print" and value is None


@given(st.text(alphabet="abx019.+-*/%()[]<>=!'\" ,andornti", max_size=40))
def test_any_text_is_an_expression_or_a_fault(source: str) -> None:
    try:
        Expression(source).value({"x": 3, "a": "text", "b": [1]})
    except ExpressionFault as fault:
        assert fault.column >= 1


@pytest.mark.parametrize(
    ("source", "text"),
    [
        ("{v|quoted}", '"say \\"hi\\""'),
        ("{v|length}", "8"),
        ("{v|upper|hex}", "53415920224849" + "22"),
        ("{a|address(xxxx-xxxx-xxxx)}", "02a1-5c00-13f7"),
        ("{n|checksum}", f"{checksum(b'GPGLL'):02X}"),
        ("{h|gsm7}", "E8329BFD4697D9EC37"),  # the example of 3GPP TS 23.038's packing that is quoted everywhere
        ("{h|ucs2}", "00680065006C006C006F00680065006C006C006F"),
        ("{{{h}}}", "{hellohello}"),
    ],
)
def test_filters(source: str, text: str) -> None:
    values = {"v": 'say "hi"', "a": "02:A1:5C:00:13:F7", "n": "GPGLL", "h": "hellohello"}
    assert Template(source).fill(values).text == text
    assert Template("{v|quoted}").fill(values, quoting="hex").text == '"say \\22hi\\22"'  # V.250, 5.4.2.2


def test_a_filter_that_cannot_is_a_fault() -> None:
    for source, value in (("{v|gsm7}", "水"), ("{v|ucs2}", "😀"), ("{v|address(XX:XX)}", "no"), ("{w}", "")):
        with pytest.raises(InsertionFault):
            Template(source).fill({"v": value})


def test_given_values_are_of_their_kind() -> None:
    assert given_value("n", "int", "-5") == -5
    assert given_value("n", "decimal", "868.1") == Decimal("868.1")
    for kind, text in (
        ("int", "5x"),
        ("hex", "ABC"),
        ("digits", "-1"),
        ("address", "02"),
        ("text", "a\nb"),
        ("word", "a b"),
    ):
        with pytest.raises(ValueError, match="allowed"):
            given_value("n", kind, text)
    with pytest.raises(ValueError, match="the secret is not allowed"):
        given_value("n", "digits", "hunter", secret=True)


# -- recordings -------------------------------------------------------------------------------------------------------

LINES = st.text('AT+abc =?,:.0123456789"{}<>|#', min_size=1, max_size=16).map(lambda text: "+" + text)
ANSWERS = st.tuples(LINES, st.sampled_from(["answer", "answer", "event"]))
RECORDED = st.lists(st.tuples(LINES, st.lists(ANSWERS, max_size=3)), min_size=1, max_size=6)


@given(RECORDED)
def test_a_drafted_dialogue_succeeds_against_a_recording_of_the_same_trace(
    said: list[tuple[str, list[tuple[str, str]]]],
) -> None:
    tuning = Tuning(115200)
    exchanges = []
    for text, answers in said:
        heard = [(0.03 * (index + 1), answer, role) for index, (answer, role) in enumerate(answers)]
        # What has the same words is played in the order of the trace; an echo would be taken for one.
        heard = [one for one in heard if one[1] != text]
        exchanges.append(RecordedExchange(text, False, tuning, 0.2, heard))
    dialogue = draft_dialogue(exchanges, "a test")
    agenda = Agenda()
    standin = Recording(agenda)
    standin.load(Recorded(exchanges))
    standin.power(True)
    link = VirtualLink("r", VirtualClock(agenda), standin.uart, tuning)
    standin.uart.to_host = link.take
    Runner(Party("", Session(link, Dialect(Speech(error=())))), read_dialogue(dialogue, "d")).run()


def test_a_draft_captures_what_is_volatile() -> None:
    heard = [(0.1, "+ID 02:A1:5C:00:13:F7 v1.4.2 0012345", "answer"), (0.1, "OK", "ok")]
    again = [(0.1, "+PEER 02:A1:5C:00:13:F7", "answer"), (2.0, "OK", "ok")]
    text = draft_dialogue([RecordedExchange("AT+ID?", heard=heard), RecordedExchange("AT+PASS=(secret)", heard=again)])
    assert "< +ID {address1:address} v{version1:word} {number1:word}" in text
    assert "needs secret1 secret" in text and "> AT+PASS={secret1}" in text
    assert "< +PEER {=address1}" in text and "allow 4s" in text


# -- events -----------------------------------------------------------------------------------------------------------


class Chatty(StandIn):
    """Says an event between an echo and its answer, and answers what it is told of it."""

    family = "chatty"

    def started(self) -> None:
        self.editor = LineEditor(self, "\r\n", self.line, lambda: None)
        self.told: list[str] = []

    def heard(self, data: bytes, began: float) -> None:
        self.uart.send(data)
        self.editor.feed(data)

    def line(self, line: str) -> None:
        self.told.append(line)
        number = len(self.told)
        self.say(f"+ASK {number}\r\nOK\r\n" if line == "AT" else "OK\r\n")


def test_requests_are_answered_while_the_rest_goes_on() -> None:
    agenda = Agenda()
    standin = Chatty(agenda)
    standin.power(True)
    link = VirtualLink("c", VirtualClock(agenda), standin.uart)
    standin.uart.to_host = link.take
    text = "on +ASK {number:int}\n    > AT+REPLY {number}\nrepeat 3 times\n    > AT\n"
    Runner(Party("", Session(link, Dialect(Speech()))), read_dialogue(text, "c")).run()
    assert standin.told == ["AT", "AT+REPLY 1", "AT", "AT+REPLY 3", "AT", "AT+REPLY 5"]


def test_no_event_is_lost_while_nothing_is_waited_for() -> None:
    engine = Engine(Dialect(Speech()))
    engine.feed(b"+A 1\r\n+B 2\r\nOK\r\n", 1.0)
    assert [event.text for event in engine.events] == ["+A 1", "+B 2"] and engine.events.count == 2


def replied(text: str, answers: dict[str, str], late: float = 0.03) -> DialogueOutput:
    """A dialogue with a device that answers late."""
    from tests.work.devices import Device

    session = Device(answers, late=late).session()
    return Runner(Party("", session), read_dialogue(text, "d")).run()


def test_nothing_answers_only_if_nothing_came_for_as_long_as_an_answer_may_take() -> None:
    with pytest.raises(DialogueFault, match="nothing should answer") as fault:
        replied("> SECRET\n<\n", {"SECRET": "NO"})
    assert fault.value.part.heard == ["NO"] and fault.value.part.expected == "nothing"
    replied("> SECRET\n<\n> AT\n", {"AT": "OK"})
    with pytest.raises(DialogueFault):
        replied("allow 2s\n> SLOW\n<\n", {"SLOW": "OK"}, late=1.5)


def test_rows_are_kept_when_another_answer_ends_them() -> None:
    made = replied('> LIST\n<* +ROW {n:int}\n| END  note "end"\nkeep n\n', {"LIST": "+ROW 1\n+ROW 2\nEND"})
    assert made.kept == {"n": [1, 2]} and made.notes == ["end"]


def test_a_prompt_may_end_rows() -> None:
    from tests.work.devices import Device

    device = Device({"LIST": "+ROW 1\n+ROW 2"}, prompt="> ", late=0.03)
    made = Runner(Party("", device.session()), read_dialogue('> LIST\n<* +ROW {n:int}\n< "> "\nkeep n\n', "d")).run()
    assert made.kept == {"n": [1, 2]}


@pytest.mark.parametrize(
    ("source", "plain", "lead", "tail"),
    [
        ('{{"do":"who"}}', '{"do":"who"}', '{"do":"who"}', '{"do":"who"}'),
        ('{{"set":"pin","v":"{value}"}}', '{"set":"pin","v":"{value}"}', '{"set":"pin","v":"', '"}'),
        ("AT+N={a|quoted},{b}", "AT+N={a|quoted},{b}", "AT+N=", ""),
        ("{a}", "{a}", "", ""),
    ],
)
def test_a_template_is_shown_as_it_is_said(source: str, plain: str, lead: str, tail: str) -> None:
    made = Template(source)
    assert (made.plain, made.lead, made.tail) == (plain, lead, tail)
