"""Secrets: what is made of one is one, and no writing of it leaves a session."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.test_session import session
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueFault
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.protocol.dialect import Expectation, Want
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.masking import MOST, Secrets
from wexicon.core.protocol.observations import Heard, Judged
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.results.result import masked
from wexicon.core.standards import pdu
from wexicon.core.text import HIDDEN, QUOTING, Secret, to_text, visible

KEY = "Gannet-Quay\\7"
HEX = KEY.encode().hex()


def knows(*values: str) -> Secrets:
    made = Secrets()
    for value in values:
        made.learn(Secret(value))
    return made


@pytest.mark.parametrize(
    ("line", "seen"),
    [
        (f"+KEY {KEY}", "+KEY (secret)"),
        (f'+KEY "x,{KEY.upper()}y",1', '+KEY "x,(secret)",1'),
        (f"AT+K=0A{HEX}FF,3", "AT+K=(secret),3"),
        (" ".join(HEX[at : at + 2] for at in range(0, len(HEX), 2)), HIDDEN),
        ("".join(f"\\x{HEX[at : at + 2]}" for at in range(0, len(HEX), 2)), HIDDEN),
        (KEY.encode("utf-16-be").hex().upper(), HIDDEN),
        (KEY.encode("utf-16-le").hex(), HIDDEN),
        (visible(KEY), HIDDEN),
        *((quote(KEY), HIDDEN) for quote in QUOTING.values()),
        (f"+S {pdu.submit('+15550104477', 'the key is ' + KEY)[0]}", "+S (secret)"),
        ("Gannet-Qu", HIDDEN),  # a good part of it
        ("the quay at Gannet", "the quay at Gannet"),
    ],
)
def test_a_field_that_holds_a_secret_in_any_writing_is_masked_whole(line: str, seen: str) -> None:
    assert knows(KEY).mask(line) == seen


def test_an_address_is_masked_however_it_is_grouped_or_turned() -> None:
    secrets = knows("02:A1:5C:00:13:F7")
    for line in ("02a15c0013f7", "02A1-5C00-13F7", "0x02 0xa1 0x5c 0x00 0x13 0xf7", "F713005CA102"):
        assert secrets.mask(f"peer={line};") == "peer=(secret);", line


def test_short_ones_are_whole_fields_and_the_modules_result_codes_are_never_masked() -> None:
    secrets = knows("OK", "12", "471", "4711", "ERR")
    secrets.words = frozenset({"OK", "ERR "})
    assert secrets.mask("+RATE 115200,12,471,14710,4711") == "+RATE 115200,12,(secret),14710,(secret)"
    assert secrets.mask("0ABBCC471101") == HIDDEN
    assert secrets.mask("ERR 4711") == "ERR (secret)" and secrets.mask("OK") == "OK"
    secrets = Secrets()
    secrets.learn("0000", read=True)  # a factory default is in many an address
    assert secrets.mask("02A100000001 0000") == "02A100000001 (secret)"


@given(
    st.text(st.characters(min_codepoint=0x21, max_codepoint=0x7E), min_size=6, max_size=24),
    st.integers(0, 30),
    st.data(),
)
def test_split_over_lines_it_leaves_no_trace(secret: str, before: int, data: st.DataObject) -> None:
    at = data.draw(st.integers(1, len(secret) - 1))
    made, _, trace = session((0.1, f"{'x' * before} {secret[:at]}\r\n{secret[at:]}{'.' * before}\r\nOK\r\n".encode()))
    made.secrets.learn(secret)
    made.exchange("AT")
    made.listener.flush()  # type: ignore[attr-defined]
    texts = trace.texts(Heard)
    assert secret not in "".join(texts).replace(HIDDEN, "\0") and texts[-1] == "OK"


@given(st.lists(st.text(max_size=40), max_size=4), st.text(max_size=300))
def test_masking_takes_any_text_and_never_shows_what_it_looks_for(values: list[str], line: str) -> None:
    secrets = knows(*values)
    seen = secrets.mask(line, closely=True)
    for value in values:
        if len(value) >= 6 and value not in HIDDEN:
            assert value not in seen.replace(HIDDEN, "\0")


def test_a_line_that_tells_a_secret_setting_is_masked_whenever_it_comes() -> None:
    made, _, trace = session((0.1, b"OK\r\n+PASS 881144\r\n"), (0.3, b"and 881144 again\r\nOK\r\n"))
    made.secrets.add_pattern(Pattern("+PASS {value}"), ["value"])
    made.exchange("AT")
    made.exchange("AT")
    assert "881144" not in repr(trace.all)


def run(text: str, *chunks: tuple[float, bytes], **values: object) -> tuple[Runner, list[object], list[str]]:
    made, link, trace = session(*chunks)
    told: list[str] = []
    runner = Runner(Party("", made), read_dialogue(text, "t.wex"), values, note=told.append)
    runner.run()
    made.listener.flush()  # type: ignore[attr-defined]
    return runner, [*trace.all, runner.result], [to_text(data) for _, data in link.said]


def test_what_is_made_of_a_secret_is_one() -> None:
    text = """\
needs p secret
keep c = p
keep d = upper(c) + "!"
keep parts = split(d, "-")
keep n = length(p)
> AT+P={p|hex},{d}
< +P {back}
keep back
keep again = lower(back)
note "it is {p}, {c}, {again}, {n}"
when p == "tide-4711"
    note "right"
"""
    chunk = b"+P 746964652D34373131\r\nOK\r\n"
    runner, seen, _ = run(text, (0.1, chunk), p="tide-4711")
    assert runner.result.notes == ["it is (secret), (secret), (secret), (secret)", "right"]
    assert {name: repr(value) for name, value in runner.result.kept.items()} == dict.fromkeys(
        ("c", "d", "parts", "n", "back", "again"), HIDDEN
    )
    for form in ("tide", "4711", "TIDE", "7469"):
        assert form not in repr(seen), form


@pytest.mark.parametrize(
    "line",
    [
        "check p == 1",
        "check hex_number(p) == 1",
        'fail "no {p}"',
        'check starts(p, "x")',
        "tune p",
        "> AT={p|gsm7}",
        ">> {p}\\r",
    ],
)
def test_no_fault_of_a_dialogue_tells_a_secret(line: str) -> None:
    with pytest.raises(DialogueFault) as fault:
        run(f"needs p secret\n{line}\n", p="水tide-\x014711")
    assert "tide" not in str(fault.value) and "4711" not in repr(fault.value.part)


def test_a_value_is_put_in_by_where_it_stands() -> None:
    evil = 'a";+CMEE=0;+X="b'
    assert Template('AT+CMGS="{n}"').fill({"n": evil}, quoting="hex").text == 'AT+CMGS="a\\22;+CMEE=0;+X=\\22b"'
    assert Template("AT+N={n|quoted}").fill({"n": 'a;"'}).text == 'AT+N="a;\\""'
    assert Template("AT+N={n}").fill({"n": "a;b"}, separators="").text == "AT+N=a;b"
    assert Template("AT+N={n},1").fill({"n": "1,2"}, shaped={"n"}).text == "AT+N=1,2,1"
    for source, value, quoting in (
        ("AT+N={n}", "a;b", "hex"),
        ("AT+N={n|upper}", "a;b", "hex"),
        ("AT+N={n},{m}", "a,b", "hex"),
        ('AT+N="{n}"', 'a"b', "none"),
        ("AT+N={n|quoted}", "a\rb", "hex"),
    ):
        with pytest.raises(ValueError, match="n holds"):
            Template(source).fill({"n": value, "m": 1}, quoting=quoting)


@pytest.mark.parametrize(
    ("dialogue", "said"),
    [
        ('> AT+S {d|length}\n< "> "\n>> {d}\n', "x\x1a\rAT+CMEE=0\r"),  # counted: anything
        ('> AT+S\n< "> "\n>> {d}\\x1A\n', None),  # up to a terminator: never that
        ('> AT+S {d|length}\n< "> "\nkeep d = d + "x"\n>> {d}\n', None),  # it was another value's length
        (">> {d}\n", None),  # uncounted: no control character
        ("> AT+S {d|length}\n< OK\n> AT\n< OK\n>> {d}\n", None),  # the length was another line's
    ],
)
def test_exact_bytes_take_what_the_module_will_not_obey(dialogue: str, said: str | None) -> None:
    chunks = [(0.1, b"> " if '"> "' in dialogue else b"OK\r\n"), (0.4, b"OK\r\n")]
    if said is None:
        with pytest.raises(DialogueFault, match="d holds a control character"):
            run("needs d\n" + dialogue, *chunks, d="x\x1a\rAT+CMEE=0\r")
    else:
        assert run("needs d\n" + dialogue, *chunks, d=said)[2][1] == said


def test_a_number_is_masked_without_its_leading_zeros_and_plus() -> None:
    assert knows("00482").mask("pin 482") == "pin (secret)"
    assert knows("+0471").mask("to 471") == "to (secret)"


def test_half_of_a_secret_is_masked_and_less_is_not() -> None:
    secrets = knows("gannetqu")
    assert secrets.mask("x nnet y") == "x (secret) y" and secrets.mask("x net y") == "x net y"


def test_the_note_of_a_judgement_is_masked() -> None:
    made, _, trace = session()
    made.secrets.learn(KEY)
    made.tell(Judged(0.0, "pass", "differs", f"reads back as {KEY}"))
    assert [seen.note for seen in trace.all if isinstance(seen, Judged)] == ["reads back as (secret)"]


def test_a_late_answer_to_a_secret_is_masked_closely() -> None:
    made, _, trace = session((1.6, b"+K: xgannx\r\n"), (1.7, b"OK\r\n"))
    assert made.exchange(Template("AT+K={k}").fill({"k": Secret("gannetquay")})).status == "silence"
    made.exchange("AT", within=1.0)
    assert "+K: (secret)" in trace.texts(Heard) and "gann" not in "".join(trace.texts(Heard))


def test_a_payload_may_hold_line_ends_only_where_another_character_ends_it() -> None:
    assert Template("{d}\x1a").fill_exactly({"d": "a\r\nb"}, prompted=True).text == "a\r\nb\x1a"
    with pytest.raises(ValueError, match="control character"):
        Template("{d}").fill_exactly({"d": "a\r\nb"}, prompted=True)


def test_a_number_that_is_a_secret_is_null_in_a_result() -> None:
    assert masked({"pin": 48213, "rate": 9600, "list": [48213, "48213"]}, knows("48213")) == {
        "pin": None,
        "rate": 9600,
        "list": [None, HIDDEN],
    }


def test_an_answer_that_tells_a_secret_shows_only_words_of_the_lexicon() -> None:
    made, _, trace = session((0.1, b"+PASS 4471\r\nits key is 4471\r\nOK\r\n"))
    reply = made.exchange("AT+PASS?", Expectation([Want(Pattern("+PASS {value}"))]), tells=["value"])
    assert trace.texts(Heard) == reply.heard == ["+PASS (secret)", HIDDEN, "OK"]


def test_half_a_line_is_masked_too() -> None:
    made, _, _ = session((0.1, b"OK\r\nkey gannetquay"))
    made.exchange(Template("AT+K={k}").fill({"k": Secret("gannetquay")}))
    made.listen(1.0)
    assert made.partial == "key (secret)"


def test_each_line_of_a_secret_is_one() -> None:
    assert knows("471\nwithy-point-quay").mask("pin 471") == "pin (secret)"


def test_a_value_that_was_read_first_and_given_later_is_looked_for_in_longer_words() -> None:
    secrets = Secrets()
    secrets.learn("4711", read=True)
    assert secrets.mask("a47119") == "a47119"
    secrets.learn("4711")
    assert secrets.mask("a47119") == HIDDEN


def test_beyond_the_most_values_everything_is_masked() -> None:
    assert knows(*(f"value-{number}" for number in range(MOST + 1))).mask("+E 7 ok") == HIDDEN


def test_of_two_writings_that_coincide_the_stricter_bound_counts() -> None:
    # Eight digits are a PIN, and four bytes in hexadecimal.
    secrets = Secrets()
    secrets.learn("84719263")
    for piece in ("8471926", "847192", "84719", "8471", "9263"):
        assert piece not in secrets.mask(f"+PASS {piece}"), piece


@pytest.mark.parametrize("between", ["", " ", ":", "-", ".", ",", "\t", ";", "|", "_", "/", "h ", "h", " 0x", "\\x"])
def test_hexadecimal_is_masked_whatever_parts_the_digits(between: str) -> None:
    secrets = Secrets()
    secrets.learn("quay7secret")
    told = between.join(f"{byte:02x}" for byte in b"quay7secret")
    assert "3773" not in secrets.mask(f"key {told} end").replace(between, "") and "71" not in secrets.mask(told)


def test_values_are_learned_one_by_one_and_masked_beyond_a_number() -> None:
    secrets = Secrets()
    made = 0
    for number in range(300):
        secrets.learn(f"{number:08d}q", read=True)
        assert secrets.mask(f"+PASS {number:08d}q") == f"+PASS {HIDDEN}"
        # Only what is new is worked on: one expression each, not all of them again.
        assert len(secrets._inside) - made <= 2
        made = len(secrets._inside)
    for number in range(20):
        secrets.learn("".join(chr(97 + (at * at * (number + 3) + at // 7) % 26) for at in range(4000)))
    assert secrets.mask("anything at all") == HIDDEN
    assert sum(map(len, secrets._starts.values())) < 400_000
