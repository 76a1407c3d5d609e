"""`wexicon calc`: every example runs, wrong arguments are answered with the nearest right one, lists are tables and figures."""

from __future__ import annotations

import json
import shlex
from pathlib import Path

import pytest

from tests.conftest import built, wexicon
from wexicon.core.engineering.topics import TOPICS


@pytest.mark.parametrize("name", TOPICS)
def test_each_topic_has_examples_that_run(name: str) -> None:
    topic = TOPICS[name]
    told = " ".join(wexicon("calc", name, "--help").stdout.split())
    for example in topic.examples:
        assert " ".join(f"wexicon calc {name} {example}".split()) in told
        done = wexicon("calc", name, *shlex.split(example))
        assert done.stdout.strip() and "nan" not in done.stdout.split()
        made = json.loads(wexicon("calc", name, *shlex.split(example), "--json").stdout)
        assert all(one["results"] or one["rows"] for one in made), (name, example)


def test_all_topics_are_listed_with_what_they_are() -> None:
    told = wexicon("calc", "--help").stdout
    assert all(f"  {name}  " in told for name in TOPICS)
    assert "did you mean airtime" in wexicon("calc", "airtme", status=2).stderr


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("airtime spreading=13", "spreading: 13 is above 12 The nearest that is allowed is 12."),
        ("airtime spreding=9", "airtime has no argument spreding did you mean spreading"),
        ("airtime spreading=7.5", "spreading: 7.5 is not a whole number"),
        ("airtime bandwidth=125V", "bandwidth: 'V' is not a unit here; write 125kHz"),
        ("airtime 9", "9 is not NAME=VALUE For example: wexicon calc airtime"),
        ("airtime payload=1 payload=2", "payload is given twice"),
        ("power-saving active=29s periodic=5000h", "active, nearest below 00001110 = 28.0 s"),
        ("divider supply=3.3V wanted=5V", "the output is above 0 V and below the input"),
        ("check kind=crc-17 text=a", "is not one of xor"),
        ("check text=a hex=61", "give text or hex"),
        ("signal csq=40", "csq is a number from 0 to 31"),
        ("signal csq=99", "csq is not known"),
        ("edrx bits=0100 mode=narrow", "is no cycle of narrow mode"),
        ("channel first=863.1MHz step=200kHz", "needs number or frequency"),
        ("battery capacity=1Ah interval=1s states=send", "write a name, a current and a time"),
        ("clock rate=115200", "clock needs clock"),
        ("airtime payload=0..255 spreading=5..12 coding=1,2,3,4 crc=yes,no", "at most 10000"),
    ],
)
def test_a_wrong_argument_is_told_with_what_is_right(words: str, told: str) -> None:
    passes = words.startswith(("power-saving", "signal csq=99"))
    done = wexicon("calc", *words.split(), status=0 if passes else 2)
    assert told in " ".join((done.stderr + done.stdout).split())


def test_a_frame_is_recognised_by_its_check() -> None:
    told = wexicon("calc", "find", "hex=01030000000ac5cd").stdout
    assert "fits   crc-16/modbus" in told and "low first" in told
    assert "xor" in wexicon("calc", "find", "text=$GPGLL,5300.97914,N,00259.98174,E,125926,A*28").stdout
    assert "none" in wexicon("calc", "find", "hex=deadbeef55").stdout
    Path("frame.bin").write_bytes(b"123456789")
    assert "CBF43926" in wexicon("calc", "check", "kind=crc-32", "--file", "frame.bin").stdout
    assert "cannot be read" in wexicon("calc", "check", "--file", "none.bin", status=2).stderr


def test_a_range_is_a_table_and_a_figure() -> None:
    told = wexicon("calc", "range", "spreading=7..12", "exponent=2.7,3.5", "--plot", "r.svg").stdout
    assert len(told.splitlines()) == 2 + 12 + 1 and "wrote r.svg" in told
    drawn = Path("r.svg").read_text()
    assert all(f"<!-- {one} -->" in drawn for one in ("range", "time on air", "spreading", "exponent 2.7"))
    assert "already exists" in wexicon("calc", "range", "spreading=7,8", "--plot", "r.svg", status=2).stderr
    assert "needs a list or range" in wexicon("calc", "range", "--plot", "s.svg", status=2).stderr
    battery = ("battery", "capacity=2.6Ah", "interval=1min..24h/9", "states=send 120mA 70ms", "--plot", "b.svg")
    wexicon("calc", *battery)
    assert all(f"<!-- {one} -->" in Path("b.svg").read_text() for one in ("1 min", "1 h", "1 d", "battery life"))


def test_an_answer_that_is_impossible_is_left_out_of_a_table_and_said() -> None:
    done = wexicon("calc", "clock", "clock=1MHz", "rate=9600,115200")
    assert "6" in done.stdout and "rate 115200 baud: the clock is too slow" in done.stderr


def test_what_a_text_holds_is_escaped_and_the_built_program_does_the_same() -> None:
    told = built("calc", "mismatch", "rate=9600", "other=1200", "text=A\\x1b[2J").stdout
    assert "\x1b" not in told and "A\\x1B[2J" in told
