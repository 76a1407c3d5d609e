"""Sheets: what is wrong with one is told in one go, with its line, before anything is opened."""

from __future__ import annotations

import pytest

from wexicon.core.faults import FileFault
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.sheet_reading import Around, read_sheet
from wexicon.work.contact.catalog import find_lexicon

HEAD = 'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\n[seat.plug.settings]\n'


def fetch(kind: str, name: str) -> str:
    if name == "MISSING":
        raise ValueError("the environment variable MISSING is not set")
    return name


def read(text: str, seat: str | None = None) -> Sheet:
    return read_sheet(text.encode(), "s.toml", Around(find_lexicon, fetch), seat)


def test_values_become_plain_and_secrets_are_known_to_be_kept_back() -> None:
    seat = read(
        HEAD + 'pin = { env = "04711" }\nrate = { rate = 115200, stop = 2 }\npeer = "02a15c-00218e"\nrole = "leader"\n'
    ).seats["plug"]
    assert seat.wanted["rate"] == {"rate": 115200, "stop": "2", "parity": "none"}
    assert seat.wanted["peer"] == "02:A1:5C:00:21:8E"
    assert seat.secrets().mask("AT+PASS=04711 and 3034373131") == "AT+PASS=(secret) and (secret)"


@pytest.mark.parametrize(
    ("text", "line", "told"),
    [
        (HEAD + "pin = 4711\n", 5, "is a secret and does not belong into a sheet"),
        (HEAD + 'pin = { env = "MISSING" }\n', 5, "the environment variable MISSING is not set"),
        (HEAD + 'pin = { env = "47" }\n', 5, "the value (from the environment variable 47) has 2 digits"),
        (
            HEAD + 'role = "follower"\npeer = "02a15c00218e"\n',
            6,
            "needs role = leader, and role = follower is wanted",
        ),
        (HEAD + "rate = { rate = 9600, sto = 2 }\n", 5, "has no field sto"),
        (HEAD + "rate = { stop = 2 }\n", 5, "lacks the field rate"),
        (HEAD + 'nam = "x"\n', 5, "did you mean name?"),
        (HEAD.replace("tamsel-k5", "tamsel-k4"), 3, "there is no lexicon tamsel-k4"),
        (HEAD.replace("[seat.plug]", "[seat.plug]\ncolour = 1"), 3, "no such key"),
        (HEAD.replace("format = 1\n", ""), 0, "format = 1 is missing"),
        ("format = 1\n", 0, "there is no seat"),
    ],
)
def test_what_is_wrong_is_told_with_its_line(text: str, line: int, told: str) -> None:
    with pytest.raises(FileFault) as fault:
        read(text)
    complaint = next(c for c in fault.value.complaints if told in c.what + c.hint)
    assert complaint.line == line and "47" not in complaint.what.replace("variable 47", "")


@pytest.mark.parametrize(
    "key", ["a." * 200_000 + "b = 1", "[" + "a . " * 60 + "b]", "x = { " + "a." * 90_000 + "b = 1 }"]
)
def test_a_key_that_would_take_minutes_to_read_is_refused(key: str) -> None:
    with pytest.raises(FileFault, match=r"s\.toml:2:1: not TOML: a key of more than 50 parts"):
        read("format = 1\n" + key + "\n")


def test_only_the_secrets_of_the_seat_that_is_taken_are_asked_for() -> None:
    two = (
        HEAD
        + 'pin = { env = "4711" }\n'
        + HEAD.replace("format = 1\n", "").replace("plug", "other")
        + 'pin = { env = "MISSING" }\n'
    )
    assert "pin" not in read(two, "plug").seats["other"].wanted
    with pytest.raises(FileFault):
        read(two)
