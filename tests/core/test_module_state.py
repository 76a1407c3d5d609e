"""The state of a module, as a table: what is observed, and what is known afterwards."""

from __future__ import annotations

import pytest

from tests.core.test_said import FAMILIES, STANDINS
from wexicon.core.formats.lexicon import Lexicon, Moves
from wexicon.core.module_state.forms import Does
from wexicon.core.module_state.state import Mode, ModuleState
from wexicon.core.protocol.dialect import ReplyStatus
from wexicon.core.protocol.observations import Heard, Role, Said, Tuned
from wexicon.core.tuning import Tuning

ROLES = {ReplyStatus.OK: Role.OK, ReplyStatus.ERROR: Role.ERROR}


def role_of(lexicon: Lexicon, state: ModuleState, text: str) -> tuple[Role, str]:
    """What a line is, as the engine has it."""
    prompts = ("> ", ">", lexicon.speech.prompt or None)
    if text in prompts or any(text.startswith(one.rstrip()) for one in lexicon.attention.locked):
        return Role.PROMPT, ""
    if event := lexicon.dialect.event(text):
        return Role.EVENT, event[0]
    if (final := lexicon.dialect.final(text)) and final.status in ROLES:
        return ROLES[final.status], ""
    wants = [want for part in state.reader.last if part.form for want in part.form.expect.wants]
    return (Role.ANSWER if any(one.pattern.match(text) is not None for one in wants) else Role.UNMATCHED), ""


def observe(family: str, *lines: str, tuning: Tuning | None = None) -> ModuleState:
    """What is known after these lines: `> ` we said with a line end, `>> ` as it is, `< ` the module sent, `~ ` our rate."""
    lexicon = FAMILIES[family]
    state = ModuleState(lexicon, tuning or lexicon.attention.tuning or lexicon.factory)
    for at, line in enumerate(lines, 1):
        mark, _, text = line.partition(" ")
        if mark in (">", ">>"):
            state.said(text, exact=mark == ">>")
            state.note(Said(float(at), text, mark == ">>"))
        elif mark == "~":
            state.note(Tuned(float(at), Tuning(int(text))))
        else:
            role, name = role_of(lexicon, state, text)
            state.note(Heard(float(at), text, role, name))
    return state


def told(state: ModuleState) -> dict[str, str]:
    """The parts that are known, each with its value."""
    found: dict[str, str] = {}
    for one in state.told(0.0):
        found[one.part] = f"{found[one.part]}; {one.value}" if one.part in found else one.value
    return found


NOTHING: dict[str, str] = {}
TABLE: list[tuple[str, list[str], dict[str, str]]] = [
    # nothing was observed: nothing is known
    ("tamsel-k5", [], NOTHING),
    ("tamsel-k5", ["> AT"], {"owed": "the answer to “AT”"}),
    ("tamsel-k5", ["> AT", "< OK"], {"mode": "command", "module's link": "57600 8N1"}),
    ("tamsel-k5", ["> AT", "< ERR 2"], {"mode": "command"}),
    # in data mode with its key not held, each line is answered by the same words: no start, no weak supply
    ("tamsel-k5", ["~ 9600", "> AT", "< K5 NO MATE", "> AT", "< K5 NO MATE"], {"mode": "data", "last start": ""}),
    ("tamsel-k5", ["~ 9600", "< K5 NO MATE"], {"mode": "data", "last start": "1 start seen"}),
    ("tamsel-k5", ["> AT", "< ERR 0", "> AT", "< ERR 0", "> AT", "< ERR 0"], {"last start": ""}),
    # unsaved, saved, restarted
    ("tamsel-k5", ["> AT+LABEL=quay 3", "< OK"], {"unsaved": "name: quay 3"}),
    ("tamsel-k5", ["> AT+LABEL=quay 3", "< ERR 3"], {"unsaved": ""}),
    ("tamsel-k5", ["> AT+LABEL=quay 3"], {"unsaved": "", "owed": "the answer to “AT+LABEL=quay 3”"}),
    ("tamsel-k5", ["> AT+PASS=7319", "< OK"], {"unsaved": "pin: (secret)"}),
    ("tamsel-k5", ["> at+label = quay 3", "< OK"], {"unsaved": "name: quay 3"}),
    ("tamsel-k5", ["> AT+LABEL=quay 3", "< OK", "> AT+KEEP", "< OK"], {"unsaved": ""}),
    ("tamsel-k5", ["> AT+LABEL=quay 3", "< OK", "> AT+KEEP", "< ERR 5"], {"unsaved": "name: quay 3"}),
    # what a connected peer does to it
    ("brisca-w1", ["> AT", "< OK", "< READY"], {"last start": "1 start seen", "power": "on", "mode": "command"}),
    ("brisca-w1", ["< READY", "< READY"], {"last start": "2 starts seen"}),
    ("brisca-w1", ['> AT+NAME="quay"', "< OK"], {"unsaved": "name: quay"}),
    ("brisca-w1", ['> AT+NAME="quay"', "< OK", "< READY"], {"unsaved": "", "last start": "1 start seen"}),
    ("brisca-w1", ['> AT+NAME="quay"', "< OK", "> AT+STORE", "< OK"], {"unsaved": ""}),
    ("brisca-w1", ['> AT+NAME="quay"', "< OK", "> AT+START", "< OK"], {"unsaved": "", "mode": ""}),
    ("brisca-w1", ["> AT+SEEK", "< +SCAN STARTED"], {"last start": ""}),
    # a prompt, a word of its own, or a success code that may follow: each family's way to say that it was taken
    ("marram-c2", ["> set name quay", "< c2> "], {"unsaved": "name: quay"}),
    ("marram-c2", ["> set name quay", "< ? value", "< c2> "], {"unsaved": ""}),
    ("orvane-b3", ["> n,mast", "< ok"], {"unsaved": ""}),
    ("orvane-b3", ["> b,g", "< ok"], {"pending": "rate counts from a restart on", "unsaved": ""}),
    ("orvane-b3", ["> b,g", "< ok", "> r", "< ok"], {"pending": "", "data mode's link": "", "mode": ""}),
    ("lindle-l9", ["> @name=quay 3", "< @ok"], {"unsaved": "name: quay 3"}),
    ("lindle-l9", ["> @uart=115200", "< @ok"], {"module's link": "115200 8N1", "unsaved": "rate: 115200 baud"}),
    ("lindle-l9", ["> @uart=115200", "< @err 3"], {"unsaved": "", "pending": ""}),
    ("tamsel-k6", ["> AT:L=quay", "< OK:L"], {"mode": "command", "unsaved": ""}),
    ("tamsel-k6", ["> AT:L=quay", "< NO:L"], {"mode": "command", "unsaved": ""}),
    # payload
    ("brisca-w1", ["> AT+POST 1 5"], {"payload": ""}),
    ("brisca-w1", ["> AT+POST 1 5", "< > "], {"payload": "awaited: 5 bytes missing"}),
    ("brisca-w1", ["> AT+POST 1 5", "< > ", ">> he"], {"payload": "awaited: 3 bytes missing", "line": ""}),
    ("brisca-w1", ["> AT+POST 1 5", "< > ", ">> hello"], {"payload": ""}),
    ("brisca-w1", ["> AT+POST 1 5", "< FAULT 6"], {"payload": ""}),
    ("brisca-w1", ["> AT+POST 1 5", "< > ", "< READY"], {"payload": ""}),
    ("brisca-w1", ["> AT+POST 1 5", "< > ", ">> he", "< FAULT 12"], {"payload": ""}),
    ("cordal-g2", ['> AT+CMGS="+4471"', "< > "], {"payload": "awaited: up to its end"}),
    ("cordal-g2", ['> AT+CMGS="+4471"', "< > ", ">> AT+CMGF=1"], {"payload": "awaited: up to its end", "unsaved": ""}),
    ("cordal-g2", ['> AT+CMGS="+4471"', "< > ", ">> hello\x1a"], {"payload": ""}),
    ("cordal-g2", ['> AT+CMGS="+4471"', "< > ", ">> \x1b"], {"payload": ""}),
    # half a line
    ("brisca-w1", [">> AT+NA"], {"line": "“AT+NA” may stand in it"}),
    ("brisca-w1", [">> AT+NA", "> AT"], {"line": ""}),
    ("lindle-l9", ["> @who?", "< @who LINDLE-L9 3.1 L9-1", "~ 115200", "> @who?"], {"line": "“@who?” may stand in it"}),
    ("lindle-l9", ["> @who?", "< @who LINDLE-L9 3.1 L9-1", "~ 115200", "> @who?", "~ 9600", "> @who?"], {"line": ""}),
    # a module that left command mode, and came back to it; a restart that was accepted and not seen
    (
        "brisca-w1",
        ['> AT+NAME="quay"', "< OK", "> AT+START", "< OK"],
        {"lost": "name, which was not saved before the module started again"},
    ),
    (
        "brisca-w1",
        ['> AT+NAME="quay"', "< OK", "< READY", '> AT+NAME="quay"', "< OK"],
        {"lost": "", "unsaved": "name: quay"},
    ),
    ("tamsel-k5", ["~ 9600", "> AT", "< K5 NO MATE", "~ 57600", "> AT", "< OK"], {"mode": "command"}),
    ("tamsel-k5", ["> AT", "< OK", "~ 9600", "< K5 NO MATE", "~ 57600", "> AT", "< ERR 0"], {"mode": "command"}),
    # the peer that has come: what is said then goes through
    ("fennick-z4", [">> ~~~", "< z4 ready"], {"mode": ""}),
]


@pytest.mark.parametrize("at", range(len(TABLE)))
def test_what_is_known_after_each_sequence(at: int) -> None:
    family, lines, wanted = TABLE[at]
    found = told(observe(family, *lines))
    if wanted is NOTHING:
        assert not found
    assert {name: found.get(name, "") for name in wanted} == wanted


WITH_RATE = [
    (family, name)
    for family in sorted({*FAMILIES} & {*STANDINS})
    for name, one in FAMILIES[family].settings.items()
    if one.kind.rates()
    and one.moves_link
    and one.write
    and FAMILIES[family].speech.ok
    and FAMILIES[family].speech.form != "json"
]


@pytest.mark.parametrize(("family", "name"), WITH_RATE)
def test_a_rate_that_was_written_is_where_it_counts_and_not_before(family: str, name: str) -> None:
    lexicon = FAMILIES[family]
    setting = lexicon.settings[name]
    other = next(one for one in setting.kind.rates() if one != lexicon.factory.rate)
    value = setting.kind.check(other if not hasattr(setting.kind, "fields") else {"rate": other})
    assert setting.write
    write = setting.write.say.fill({"value": setting.kind.encode(value)}, quoting=lexicon.speech.quoting).text
    state = observe(family, f"> {write}", f"< {lexicon.speech.ok[0]}")
    own = lexicon.attention.tuning is not None
    if setting.moves_link is Moves.AT_ONCE:
        assert state.data_link and state.data_link.value.rate == other and (own or state.link == state.data_link)
    else:
        assert state.pending[name].value is setting.moves_link and state.data_link is None
    if not lexicon.speech.errors:
        return  # it refuses by silence
    refused = observe(
        family, f"> {write}", f"< {lexicon.speech.errors[0].replace('{code:int}', '3').replace('{code}', '3')}"
    )
    assert not refused.pending and refused.data_link is None


@pytest.mark.parametrize("family", sorted({one for one, _ in WITH_RATE}))
def test_a_start_forgets_what_was_not_saved(family: str) -> None:
    """Of each family that says when it starts: a value that was written and not saved is gone, and told as lost."""
    lexicon = FAMILIES[family]
    ready = lexicon.start.ready
    kept = {
        key: one for key, one in lexicon.settings.items() if one.write and one.factory is not None and not one.secret
    }
    name = next((key for key, one in kept.items() if lexicon.saves(one) and not one.kind.rates()), "")
    if ready is None or not name:
        return
    setting = kept[name]
    assert setting.write and setting.factory is not None
    line = setting.write.line_for(setting.factory)
    values = {"value": setting.kind.encode(setting.factory)} if line.names else {}
    said = [f"> {line.fill(values, quoting=lexicon.speech.quoting).text}", f"< {lexicon.speech.ok[0]}"]
    assert [*observe(family, *said).unsaved] == [name]
    started = observe(family, *said, f"< {ready.start}")
    assert not started.unsaved and [*started.lost] == [name] and started.starts


def test_what_a_line_does_is_told_by_its_whole_text() -> None:
    state = observe("brisca-w1", "> AT+ADDRESS?")
    assert [(one.does, bool(one.form and one.form.own)) for one in state.reader.last] == [(Does.ACTS, False)]
    assert observe("brisca-w1", "> AT+ADDRESS?", "< +ADDRESS 10.0.0.2", "< OK").mode is not None


def test_another_module_is_unknown() -> None:
    state = observe("brisca-w1", '> AT+NAME="quay"', "< OK")
    state.another_module()
    assert not told(state) and state.mode is None
    assert Mode.COMMAND == "command"


def test_a_look_at_what_is_typed_changes_nothing_that_is_awaited() -> None:
    """The console reads a line while it is typed and before it is said: a payload is counted once, a login asked once."""
    state = observe("brisca-w1", "> AT+POST 1 20", "< > ")
    for _ in range(3):
        assert [one.does for one in state.reader.read("hello")] == [Does.PAYLOAD]
    state.said("hello")
    assert state.reader.payload and state.reader.payload.left == 20 - len("hello\r\n")
    login = observe("marram-c2", "< word: ")
    for _ in range(3):
        assert login.reader.secret_from("7319") == 0
    assert login.said("7319").secrets == ("7319",)


def test_a_start_is_told_by_its_text_without_what_came_before_it() -> None:
    state = observe("brisca-w1", "< \x1c\x00\xe0READY")
    assert [one.text for one in state.starts] == ["READY"]
