"""Evidence is a function of what was observed: each rule of it as a row, and what must not count."""

from __future__ import annotations

import pytest

from wexicon.work.contact.ledger import (
    AllRead,
    Answered,
    CycleAsked,
    LedgerEntry,
    Left,
    Ordered,
    Planted,
    PowerOff,
    PowerOn,
    Ready,
    Silent,
    Spoke,
    Stayed,
    Stray,
    Undone,
    Written,
    evidence_of,
    starts_read,
)

MODE, DATA = "57600 8N1", "9600 8N1"


def play(text: str, took: float = 0.005) -> list[LedgerEntry]:
    """Entries a tenth of a second apart: a word each; `silent*5` is five, `data` an answer in another mode."""
    made: list[LedgerEntry] = []
    for word in text.split():
        name, _, count = word.partition("*")
        for _ in range(int(count or 1)):
            at = len(made) / 10
            made.append(
                {
                    "answered": Answered(at, MODE, took),
                    "late": Answered(at, MODE, 0.4),
                    "data": Answered(at, DATA, took),
                    "silent": Silent(at, MODE, at + 0.1),
                    "quiet": Silent(at, DATA, at + 0.1),
                    "asked": CycleAsked(at),
                    "key": CycleAsked(at, needed=True),
                    "off": PowerOff(at),
                    "on": PowerOn(at),
                    "spoke": Spoke(at),
                    "stray": Stray(at),
                    "ready": Ready(at),
                    "ordered": Ordered(at),
                    "left": Left(at),
                    "written": Written(at),
                    "planted": Planted(at),
                    "undone": Undone(at),
                    "stayed": Stayed(at),
                    "read": AllRead(at),
                }[name]
            )
    return made


@pytest.mark.parametrize(
    ("seen", "evidence"),
    [
        ("answered read", "reading"),
        ("answered", ""),
        ("answered read written", ""),
        # Power by a fixture or a rig: asked while it is off, and silent.
        ("answered off silent on answered read", "power-cycle"),
        ("answered off silent on silent*9 answered read", "power-cycle"),
        ("answered off answered on answered read", "reading"),
        ("answered off silent spoke on answered read", "reading"),
        ("answered off silent spoke silent on answered read", "reading"),
        ("answered off on answered read", "reading"),
        ("off silent on answered read", "reading"),
        ("answered silent off silent on answered read", "reading"),
        ("data off silent on answered read", "reading"),
        ("answered off silent on answered written read", "reading"),
        # A person: silence that lasts.
        ("answered asked silent*5 answered read", "power-cycle"),
        ("answered asked silent answered read", "reading"),
        ("answered asked silent*4 answered read", "reading"),
        ("answered asked answered silent answered silent answered read", "reading"),
        ("answered asked ready answered read", "warm-restart"),
        ("answered asked answered ordered silent*5 answered read", "warm-restart"),
        ("asked answered read", "reading"),
        ("answered left asked silent*9 answered read", "reading"),
        ("answered ordered silent*9 asked silent*9 answered read", "warm-restart"),
        ("answered ordered silent*3 spoke key silent answered read", "power-cycle"),
        # A restart: what only a start does.
        ("answered ordered answered read", "reading"),
        ("answered ordered ready answered read", "warm-restart"),
        ("answered ordered silent*3 answered read", "warm-restart"),
        ("answered ordered silent*3 spoke answered read", "warm-restart"),
        ("answered ordered silent*2 answered read", "reading"),
        ("answered ordered silent*2 spoke silent*2 answered read", "reading"),
        ("late ordered silent*5 answered read", "reading"),
        ("late ordered silent*7 answered read", "warm-restart"),
        ("answered ordered silent*3 answered stray read", "reading"),
        ("answered left silent*9 answered read", "reading"),
        ("answered silent*9 answered read", "reading"),
        ("data ordered silent*9 answered read", "reading"),
        ("answered ordered quiet*9 answered read", "reading"),
        # The witness.
        ("answered planted ordered undone read", "restart"),
        ("answered planted ordered silent*3 answered undone read", "restart"),
        ("answered planted ordered stayed read", "reading"),
        ("answered planted ordered silent*3 answered stayed read", "reading"),
        ("answered planted ordered ready answered stayed read", "warm-restart"),
        # What was observed before the last write proves nothing of it.
        ("answered ordered ready answered written read", "reading"),
        # A ready text that belongs to a start of before: none was ordered since, or the earlier one is still to come.
        ("answered written ready answered read", "reading"),
        ("answered ordered answered read written ready answered read", "reading"),
        ("answered ordered answered read written ordered ready answered read", "reading"),
        ("answered ordered answered read written ordered ready ready answered read", "warm-restart"),
        ("answered ordered silent*3 written answered read", "reading"),
    ],
)
def test_evidence_comes_from_what_was_observed(seen: str, evidence: str) -> None:
    assert evidence_of(play(seen), reloads=False) == evidence


def test_a_restart_of_a_family_that_loads_its_saved_values_is_one() -> None:
    assert evidence_of(play("answered ordered ready answered read"), reloads=True) == "restart"
    assert evidence_of(play("answered ordered answered read"), reloads=True) == "reading"


def test_starts_count_with_a_reading_after_each() -> None:
    once = "answered written ordered ready answered read"
    assert starts_read(play(once)) == 1
    assert starts_read(play(once + " ordered ready answered read")) == 2
    assert starts_read(play(once + " answered read")) == 1
    assert starts_read(play(once + " written ordered ready answered read")) == 1
