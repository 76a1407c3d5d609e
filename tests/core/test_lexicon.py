"""The keys of a lexicon, one by one: what each makes of the model, and what is wrong with it where it is wrong."""

from __future__ import annotations

from typing import Any

import pytest

from wexicon.core.faults import FileFault
from wexicon.core.formats.fixture import read_fixture
from wexicon.core.formats.lexicon import Lexicon, read_lexicon
from wexicon.core.tuning import Tuning
from wexicon.files import shipped_folder
from wexicon.work.contact.catalog import find_lexicon

HEAD = 'format = 1\n[about]\nfamily = "own"\n'
RATE = '[setting.rate]\nvalue = { kind = "rate", rates = [9600, 19200] }\n'
NAME = '[setting.name]\nvalue = { kind = "text" }\nread = { say = "N?", hear = "N {value}" }\nwrite = { say = "N={value}" }\n'


def read(text: str, head: str = HEAD) -> Lexicon:
    return read_lexicon((head + text).encode(), "own.toml")


def faults(text: str, head: str = HEAD) -> list[str]:
    with pytest.raises(FileFault) as fault:
        read(text, head)
    return [f"{c.place}: {c.what}; {c.hint}" for c in fault.value.complaints]


def test_a_lexicon_of_three_lines_has_sensible_defaults() -> None:
    made = read("")
    assert (made.factory, made.speech.end, made.attention.how) == (Tuning(9600), "crlf", "always")
    assert made.attention.probe.say.source == "AT" and made.restart() == "" and made.settings == {}
    assert len(made.digest) == 64 and made.digest != read(NAME).digest


def test_what_cannot_be_asked_may_be_read_from_the_link() -> None:
    made = read(RATE + 'read = "link"\nwrite = { say = "R={value}" }\nmoves_link = "at-once"\n')
    rate = made.settings["rate"]
    assert rate.from_link and rate.readable and rate.read is None
    assert rate.kind.from_link(Tuning(19200)) == 19200
    (told,) = faults('[setting.name]\nvalue = { kind = "text" }\nread = "link"\nwrite = { say = "N={value}" }\n')
    assert "the link tells nothing of it" in told


def test_what_is_kept_until_power_is_lost_and_what_proves_a_power_cycle() -> None:
    made = read(NAME + 'volatile = true\n[attention]\nhow = "held-key"\npower_up = true\noperator = "Hold it."\n')
    assert made.settings["name"].volatile and made.attention.power_up
    window = read('[attention]\nhow = "escape"\nwindow = "8s"\noperator = "Power."\n')
    assert window.attention.power_up  # it is heard soon after power-up only
    assert not read(NAME).settings["name"].volatile


def test_actions_that_restart_reset_and_end_attention() -> None:
    made = read(
        '[attention]\nhow = "held-key"\noperator = "Hold it."\n'
        '[action.boot]\nrestarts = true\ndialogue = "> B"\n'
        '[action.fresh]\nrestarts = true\nresets = true\ndialogue = "> F"\n'
        '[action.leave]\nends_attention = true\ndialogue = "> Q"\n[action.save]\ndialogue = "> S"\n'
    )
    assert made.restart() == "boot"  # never the one that resets
    assert [made.actions[name].ends_attention for name in ("boot", "fresh", "leave", "save")] == [
        True,
        True,
        True,
        False,
    ]
    assert [made.actions[name].resets for name in ("boot", "fresh")] == [False, True]


def test_what_a_module_sends_when_it_starts_is_an_event() -> None:
    made = read(
        '[start]\nsays = ["Own {1} starts...", "two"]\nready = "READY {n:int}"\nwithin = "1s"\n'
        '[events]\nring = "RING"\n'
    )
    assert list(made.events) == ["ring", "start", "start 2", "ready"]
    found = made.dialect.event("Own {1} starts...")
    assert found and found[0] == "start" and made.dialect.event("READY 3") == ("ready", {"n": 3})
    named = read('[start]\nready = "READY"\n[events]\nup = "READY"\n')
    assert list(named.events) == ["up"]  # it has a name already


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (NAME.replace("hear = \"N {value}\"", "hear = \"N {valu}\""), "setting.name.read: hears no {value}"),
        (NAME.replace("N={value}", "N"), "setting.name.write: says no {value}"),
        ('[setting.name]\nvalue = { kind = "text" }\n', "can neither be read nor written"),
        (NAME + "needs = { colour = 1 }\n", "there is no setting colour"),
        (NAME + 'then = ["safe"]\n[action.save]\ndialogue = "> S"\n', "there is no action safe; did you mean save?"),
        (NAME + 'moves_link = "soon"\n', "'soon' is not one of at-once, save, restart, leave"),
        (NAME + 'group = "g"\n', "there is no group g"),
        ('[setting.name]\nread = { say = "N?", hear = "{value}" }\n', "the key value is missing"),
        ('[setting.name]\nvalue = { max = 3 }\nread = { say = "N?", hear = "{value}" }\n', "the key kind is missing"),
        (NAME.replace('"text"', '"shape"'), "no such kind of value: 'shape'"),
        (NAME.replace('kind = "text"', 'kind = "text", max_bites = 3'), "did you mean max_bytes?"),
        ('[attention]\nhow = "held-key"\n', "attention.operator: is missing"),
        ('[attention]\nhow = "control-line"\noperator = "x"\n', "attention.pins: is missing"),
        ('[attention]\nends_on = "joined"\n', "there is no event joined"),
        ('[link]\nframe = "9X1"\n', "'9X1' is not a valid frame"),
        ('[link]\nrate = 0\n', "0 is not a rate"),
        ('[speech]\nanswer = "silences"\n', "is not one of lines, silence 60ms"),
        ('[speech]\nwithin = "1 hour"\n', "is not a duration"),
        ('[speech]\nerror = ["ERR {code:int"]\n', "never closed"),
        ('[start]\nwithin = "soon"\n', "is not a duration"),
        ('[events]\nbad = "{a}{b}"\n', "two free texts side by side"),
        ('[events]\nbad = "{x:bytes(9)}"\n', "raw bytes with nothing before them"),
        ('[action.go]\ndialogue = "chek 1"\n', "there is no statement chek"),
        ('[group.g]\n', "can neither be read nor written"),
        ('[group.g]\nread = { say = "G?", hear = "{block:hex}" }\nsize = 9999\n', "9999 is not a number of bytes"),
        (
            '[group.g]\nread = { say = "G?", hear = "{block:hex}" }\nsize = 4\nfixed = { 9 = 1 }\n',
            "is outside 4 bytes",
        ),
    ],
)  # fmt: skip
def test_each_fault_has_its_place_and_its_words(text: str, told: str) -> None:
    assert any(told in one for one in faults(text)), faults(text)


def test_faults_of_several_kinds_are_told_in_one_go() -> None:
    found = faults(
        '[speach]\n[link]\nrate = "fast"\n' + NAME + 'sinse = "2.0"\n', 'format = 3\n[about]\nfamly = "own"\n'
    )
    text = "\n".join(found)
    for part in ("speach: no such table", "format 3 is not known", "famly", "did you mean since?", "link.rate"):
        assert part in text, part


@pytest.mark.parametrize("path", sorted(shipped_folder().glob("*.toml")), ids=lambda path: path.stem)
def test_each_shipped_lexicon_can_be_relied_upon(path: Any) -> None:
    made = find_lexicon(path.stem)
    for name, setting in made.settings.items():
        assert setting.meaning, name
        for action in setting.then:
            assert action in made.actions
        # What moves the link must be found again at any of its rates.
        if setting.moves_link and setting.kind.rates():
            assert set(setting.kind.rates()) <= set(made.rates())
    if made.attention.how in ("held-key", "control-line") or made.attention.window:
        assert made.attention.operator
    assert all(pattern.match("") is None for pattern in made.events.values())


def test_a_lexicon_that_extends_itself_is_a_fault_and_ends() -> None:
    text = b'format = 1\nextends = "a"\n[about]\nfamily = "a"\n'
    with pytest.raises(FileFault, match="cannot be extended"):
        read_lexicon(text, "a", lambda name: text)


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('format = 1\n[pin.key]\nline = "cts"\n', "'cts' is not one of dtr, rts"),
        ('format = 1\n[pin.key]\nlane = "dtr"\n', "did you mean line?"),
        ('format = 1\n[pins.key]\nline = "dtr"\n', "did you mean pin?"),
        ("format = 2\n", "this Wexicon reads format 1"),
        ("format = 1\n[pin.key\n", "not TOML"),
    ],
)
def test_faults_of_a_fixture(text: str, told: str) -> None:
    with pytest.raises(FileFault) as fault:
        read_fixture(text.encode(), "jig.toml")
    assert told in str(fault.value)


def test_a_setting_that_moves_the_link_always_has_a_value() -> None:
    (told,) = faults(RATE + 'read = { say = "R?", hear = "R={value}", unset = "R NONE" }\nmoves_link = "at-once"\n')
    assert "moves the link, and may be unset" in told
