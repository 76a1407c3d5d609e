"""Talking by hand: every line in its turn, what comes shown and decoded at once, kept afterwards; and a port that goes away."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import pytest

from tests.conftest import Bench, bench, virtual
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.reader import Reader, secret_words
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Listeners
from wexicon.core.protocol.session import Session
from wexicon.core.results.functions import TalkLine
from wexicon.core.tuning import Tuning
from wexicon.links.port import open_port
from wexicon.records.trace_writer import TraceWriter
from wexicon.rigs.uart import WireFaults
from wexicon.work.console.completion import hint, secret_from, suggestions
from wexicon.work.console.conversation import Talk
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.sessions import Setup
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on_port


class Hand:
    """A conversation with a stand-in in virtual time; `seen` is all that was shown."""

    def __init__(self, name: str, lexicon: bool = True, ask: str = "") -> None:
        self.bench = Bench(name)
        self.bench.agenda.run_until(3)
        self.seen: list[TalkLine] = []
        self.trace = Path("typed.jsonl")
        known = self.bench.lexicon if lexicon else None
        self.talk = Talk(known, self.seen.append, trace=self.trace, ask=lambda name: ask)
        link = self.bench.link(self.bench.standin.uart.tuning)
        self.writer = TraceWriter(
            self.trace,
            link.clock,
            link="x",
            tuning=link.tuning,
            speech=self.bench.lexicon.speech,
            force=True,
        )
        self.session = Session(link, self.bench.dialect(), Listeners(self.writer, self.talk), secrets=Secrets())
        self.module = Module(self.session, known, self.bench.operator) if known else None

    def type(self, *lines: str) -> list[str]:
        for line in lines:
            self.talk.put(line)
        self.talk.end()
        self.talk.run(self.session, self.module)
        return [f"{one.mark} {one.text}" + (f" | {one.meaning}" if one.meaning else "") for one in self.seen]


def test_what_is_said_and_heard_is_decoded() -> None:
    told = Hand("brisca-w1").type("AT+POWER?", "AT+POWER=99", "AT+WHO?", ":read rate", "AT+STORE")
    assert told[:7] == [
        "> AT+POWER? | reads power",
        "< +POWER 20 | power: 20 dBm",
        "< OK",
        "> AT+POWER=99 | writes power: 99 is out of range; allowed: 0 to 20 dBm",
        "< FAULT 3 | value not allowed",
        "> AT+WHO?",
        "< +WHO BRISCA-W1 2.0.3 02B1C0447A10 | model BRISCA-W1, firmware 2.0.3, address 02B1C0447A10",
    ]
    assert "> AT+STORE | runs save: keeps all settings over a power cycle" in told


@pytest.mark.parametrize(
    "name", ["brisca-w1", "lindle-l9", "cordal-g2", "tamsel-k6", "wherry-c3", "polmar-p1", "lindle-r2"]
)
def test_two_hundred_lines_are_all_said_each_after_the_answer_to_the_one_before(name: str) -> None:
    hand = Hand(name)
    if name == "lindle-r2":
        hand.bench.standin.operate("attention")
        hand.bench.agenda.run_until(hand.bench.agenda.now + 1)
        hand.session.tune(Tuning(9600))
    probe = hand.bench.lexicon.attention.probe.say.source
    told = hand.type(*[probe] * 200)
    assert sum(line.startswith(("> ", ">> ")) for line in told) == 200 and hand.talk.failures == 0
    marks = "".join(line[0] for line in told if not line.startswith(("< $GP", "< $GN")))
    assert ">>" not in marks  # an answer stands between any two


def test_a_line_that_nobody_answers_is_told_and_counts() -> None:
    hand = Hand("wherry-c1")
    told = hand.type("bogus", ":bogus", ":set lamp = 7")
    assert "! no answer within 0.5 s" in told and hand.talk.failures == 3
    assert any("there is no statement bogus" in line for line in told) and any(
        "is not one of on, off" in line for line in told
    )


def test_control_characters_of_a_module_are_shown_escaped() -> None:
    hand = Hand("lindle-l9")
    hand.bench.standin.say(b"\x1b[2J\x07evil\x9b31m\r\n", 0.01)
    hand.bench.agenda.run_until(hand.bench.agenda.now + 0.1)
    shown = " ".join(hand.type("@"))
    assert "\\x1B[2J\\x07evil" in shown and "\x1b" not in shown and "\x9b" not in shown


def test_a_prompt_ends_the_wait_and_a_payload_follows() -> None:
    hand = Hand("cordal-g2")
    hand.bench.agenda.run_until(20)
    hand.talk.put("AT+CMGF=1")
    hand.talk.put('AT+CMGS="+441632960002"')
    hand.talk.put("tide 3.2 m\x1a", exact=True)
    told = hand.type()
    assert "<   > ".strip() in [line.strip() for line in told] or "< > " in told
    assert any(line.startswith("< +CMGS: ") for line in told) and hand.talk.failures == 0


def test_a_file_goes_out_as_it_is() -> None:
    hand = Hand("lindle-l9")
    Path("lines.txt").write_bytes(b"@net=9\n@net?\n")
    told = hand.type(":payload lines.txt", ":quiet 200ms")
    assert "= sent 13 bytes in 0.0 s" in told and "< @net 9 | network: 9" in told


def test_secrets_are_neither_shown_nor_kept() -> None:
    hand = Hand("tamsel-k5", ask="8642")
    hand.bench.standin.operate("attention")
    hand.bench.agenda.run_until(hand.bench.agenda.now + 3)
    hand.session.tune(Tuning(57600))
    told = hand.type(":hex on", "AT+PASS=7319", ":set pin", "AT+PASS?", ":keep kept.wex")
    assert hand.bench.standin.memory["pass"] == "8642"
    hand.session.listener.flush()
    everything = "\n".join(told) + hand.trace.read_text() + Path("kept.wex").read_text()
    for secret in ("7319", "8642"):
        assert secret not in everything and secret.encode().hex(" ").upper() not in everything
    assert "needs secret1 secret" in Path("kept.wex").read_text()


def test_a_secret_that_is_to_be_shown_is_shown_once_and_kept_nowhere() -> None:
    hand = Hand("tamsel-k5")
    hand.bench.standin.operate("attention")
    hand.bench.agenda.run_until(hand.bench.agenda.now + 3)
    hand.session.tune(Tuning(57600))
    hand.bench.standin.memory["pass"] = "731958"
    hand.talk.reveals = frozenset(["pin"])
    told = hand.type("AT+LABEL?", "AT+PASS?", ":keep kept.wex")
    hand.session.listener.flush()
    assert [line for line in told if "731958" in line] == ["= pin is 731958; shown here only"]
    kept = hand.trace.read_text() + Path("kept.wex").read_text()
    assert "731958" not in kept and "pin was shown on the terminal" in kept


def test_a_secret_that_is_not_allowed_is_not_told_either() -> None:
    hand = Hand("tamsel-k5", ask="7q")
    hand.bench.standin.operate("attention")
    hand.bench.agenda.run_until(hand.bench.agenda.now + 3)
    hand.session.tune(Tuning(57600))
    told = hand.type(":set pin", "AT", "AT")
    assert "! pin: the value is not allowed" in told and "7q" not in "".join(told) and told[-1] == "< OK"


def test_a_dialogue_is_run_with_its_defaults_and_asks_for_the_rest() -> None:
    Path("d.wex").write_text("needs net int = 3\nneeds place\n> @net={net}\n> @name={place}\n")
    hand = Hand("lindle-l9", ask="Gannet Quay")
    hand.type(":run d.wex")
    assert (hand.bench.standin.memory["net"], hand.bench.standin.memory["name"]) == (3, "Gannet Quay")


def test_what_was_typed_is_kept_as_a_dialogue_that_runs_and_the_settings_as_a_sheet() -> None:
    from wexicon.work.contact.catalog import find_dialogue
    from wexicon.work.function.dialogues import run_dialogue

    hand = Hand("lindle-l9")
    told = hand.type("@net?", "@net=6", "@net?", ":keep net.wex", ":sheet net.toml", ":keep net.wex")
    assert any("already exists" in one for one in told[-3:])
    kept = Path("net.wex").read_text()
    assert "> @net=6" in kept and "< @net 6" in kept
    other = Bench("lindle-l9")
    other.agenda.run_until(1)
    result = run_dialogue(other.open(), find_dialogue(Path("net.wex")), {}, other.lexicon)
    assert result.verdict == "passed" and other.standin.memory["net"] == 6
    assert "network = 6" in Path("net.toml").read_text()


def test_the_link_is_changed_on_the_fly() -> None:
    hand = Hand("brisca-w1")
    told = hand.type("AT+RATE=57600", ":tune 57600", "AT+RATE?", ":end lf", ":end crlf", "AT", ":loop", ":flow rts-cts")
    assert "~ our side at 57600 8N1" in told and "< +RATE 57600 | rate: 57600 baud" in told
    assert "~ lines end with lf" in told and "57600 8N1 and not at 115200 8N1: the module echoes them" in "".join(told)
    assert any("is not a flow control of this port" in line for line in told)
    hand = Hand("lindle-l9")
    hand.bench.standin.uart.from_host = lambda data: hand.bench.standin.uart.to_host(data)  # type: ignore[method-assign]
    assert "came back at two rates: TX and RX are joined" in "".join(hand.type(":loop"))


def test_a_port_that_goes_and_comes_back_is_gone_on_with() -> None:
    lexicon = find_lexicon("lindle-l9")
    with bench('[unit.x]\nstandin = "lindle-l9"\n') as rig:
        seen: list[TalkLine] = []
        link = open_port(rig.ports["x"], Tuning())
        talk = Talk(
            lexicon, seen.append, trace=Path("t"), reopen=lambda before: open_port(rig.ports["x"], before.tuning)
        )
        session = Session(link, lexicon.dialect, talk)
        thread = threading.Thread(target=talk.run, args=(session,))
        thread.start()
        talk.put(":quiet 500ms")
        talk.put("@who?")
        wait_for(lambda: any("LINDLE-L9" in one.text for one in seen))
        link.read = lambda until: (_ for _ in ()).throw(link.lost(OSError("gone")))  # type: ignore[method-assign]
        wait_for(lambda: any(one.text.startswith("the port is back") for one in seen))
        talk.put("@net?")
        wait_for(lambda: any(one.text == "@net 1" for one in seen))
        talk.end()
        thread.join(5)
        session.link.close()


def wait_for(done, within: float = 60.0) -> None:  # type: ignore[no-untyped-def]
    until = time.monotonic() + within
    while not done() and time.monotonic() < until:
        time.sleep(0.01)
    assert done()


# -- what may be typed next -----------------------------------------------------------------------------------------------


def told(lexicon: Lexicon | None, text: str) -> list[str]:
    return [text[: one.start] + one.text for one in suggestions(lexicon, text)]


def test_completion_knows_questions_writes_values_and_the_consoles_own_words() -> None:
    k5, w1 = find_lexicon("tamsel-k5"), find_lexicon("brisca-w1")
    assert told(k5, "AT+LA") == ["AT+LABEL?", "AT+LABEL="] and told(k5, "at+keep") == ["AT+KEEP"]
    assert told(w1, "AT+MODE=") == ["AT+MODE=idle", "AT+MODE=station", "AT+MODE=beacon"]
    assert told(k5, "AT+PART=") == ["AT+PART=F", "AT+PART=L"]
    assert ":set name = " in told(k5, ":set n") and told(w1, ":do sc") == [":do scan"]
    assert ":keep" in told(None, ":ke") and told(None, "AT") == []
    assert ':set mode = "idle"' in told(w1, ":set mode = ")
    assert hint(w1, "AT+POWER=") == "power: 0 to 20 dBm" and hint(w1, "AT+POWER") == ""
    assert secret_from(Reader(k5), "AT+PASS=12") == 8 and secret_from(Reader(k5), "AT+PASS?") is None
    assert told(k5, "AT+PASS=") == []


def test_whatever_is_suggested_for_a_setting_is_taken_by_it() -> None:
    for name in ("tamsel-k5", "tamsel-k6", "brisca-w1", "lindle-l9", "orvane-b3", "fennick-z4", "polmar-p1"):
        lexicon = find_lexicon(name)
        for setting in lexicon.settings.values():
            before = setting.write.say.source.partition("{")[0] if setting.write else ""
            for line in told(lexicon, before) if before else ():
                if line.startswith(before) and line != before and "=" in line and not line.endswith(("?", "=")):
                    setting.kind.decode(line[len(before) :])


def test_what_is_typed_is_waited_for_as_long_as_allow_says_and_kept_with_its_late_answer() -> None:
    hand = Hand("brisca-w1", lexicon=False)
    hand.bench.standin.uart.faults = WireFaults(late=1.5)
    told = hand.type("AT", "AT", ":allow 20s", "AT", ":allow off", ":keep late.wex")
    silent = [line for line in told if line.startswith("! no answer")]
    assert len(silent) == 2 and any(line.startswith("~ answers are waited for: 20") for line in told)
    assert "late, or not asked for" in "\n".join(told)
    assert Path("late.wex").read_text().count("< OK") == 3 and "\n<\n" not in Path("late.wex").read_text()


def test_a_setting_is_typed_as_on_the_command_line() -> None:
    hand = Hand("brisca-w1")
    told = hand.type(":set mode = station", ":set power = 11", ":set name = quay 3", ":set power = 99")
    flash = hand.bench.standin.memory
    assert (flash["power"], flash["name"]) == (11, "quay 3") and not any("nothing sets" in line for line in told)
    assert any("99 is out of range" in line for line in told) and any("0 to 20" in line for line in told)


def test_a_loop_test_leaves_nothing_in_the_module() -> None:
    hand = Hand("brisca-w1", lexicon=False)
    told = hand.type(":loop", "AT+WHO?")
    assert told[-2].startswith("< +WHO BRISCA-W1") and "at the far end of its link" in "".join(told)


def test_a_kept_dialogue_runs_with_the_line_end_that_was_typed() -> None:
    hand = Hand("lindle-l9", lexicon=False)
    told = hand.type(":end lf", "@who?", ":end crlf", ":end lf", ":keep who.wex")
    assert told[-1].endswith("wexicon run who.wex PORT says it again and checks the answers")
    hand = Hand("brisca-w1", lexicon=False)
    told = hand.type(":end cr", "AT", ":keep at.wex")
    assert "wexicon run at.wex PORT --end cr" in told[-1] and "line end cr" in Path("at.wex").read_text()


@pytest.mark.parametrize(
    ("name", "lexicon", "line", "told"),
    [
        ("brisca-w1", True, "AT+RATE=57600", "the module's rate is 57600 baud now; :tune 57600 follows it"),
        ("cordal-g2", False, "AT+IPR=57600", "the module's rate is 57600 baud now; :tune 57600 follows it"),
        ("lindle-l9", True, "@uart=57600", "57600 baud now; :tune 57600"),
    ],
)
def test_a_typed_change_of_rate_says_how_our_side_follows(name: str, lexicon: bool, line: str, told: str) -> None:
    assert told in "\n".join(one for one in Hand(name, lexicon=lexicon).type(line) if one.startswith("="))


def test_a_line_that_was_not_accepted_counts_as_failed_whatever_the_words() -> None:
    for lines, failures in ((["AT+NONSENSE"], 1), (["AT"], 0), (["AT", "AT+NONSENSE", "AT"], 1)):
        hand = Hand("brisca-w1", lexicon=False)
        hand.type(*lines)
        assert hand.talk.failures == failures


def test_events_are_stamped_when_they_came() -> None:
    hand = Hand("brisca-w1")
    clock = hand.session.clock
    hand.talk.attach(hand.session)
    hand.bench.standin.after(0.5, lambda: hand.bench.standin.uart.send(b"+LINK 1 OPEN\r\n"))
    began = clock.now()
    hand.session.quiet(2)  # as while a line is typed
    hand.type("AT")
    [event] = [one for one in hand.seen if one.kind == "event"]
    assert 0.5 <= event.at.timestamp() - clock.wall(began).timestamp() < 0.6


def test_silence_after_a_typed_change_of_rate_is_named() -> None:
    told = "\n".join(Hand("lindle-l9").type("@uart=57600", "@who?"))
    assert "The module is at 57600 8N1 (“@uart=57600” was accepted); our side is at 9600 8N1" in told
    assert ":tune 57600 listens at that rate" in told


@pytest.mark.parametrize(
    ("name", "line"),
    [
        ("tamsel-k5", "AT+PASS=4821973"),
        ("tamsel-k5", " at+pass = 4821973"),
        ("tamsel-k5", "At + Pass=4821973"),
        ("tamsel-k5", ":> AT+PASS=4821973"),
        ("tamsel-k5", ":>> at+pass=4821973\\r\\n"),
        ("tamsel-k5", ":set pin = 4821973"),
        ("tamsel-k5", ':set pin = "4821973"'),
        ("brisca-w1", 'AT+ACCESS="Harbour Office","4821973"'),
        ("cordal-n7", 'AT+CPIN="4821973"'),
        ("wherry-c3", "code 4821973"),
        ("wherry-c3", "CODE  4821973"),
        ("", 'AT+CPIN="4821973"'),
        ("", "AT+WPAKEY=4821973"),
        ("", ':> AT+CLCK="SC",1,"4821973"'),
        ("", "pass 4821973"),
    ],
)
def test_a_secret_is_known_however_it_is_typed(name: str, line: str) -> None:
    lexicon = find_lexicon(name) if name else None
    column = secret_from(Reader(lexicon), line)
    assert column is not None and "4821973" in line[column:]
    assert any("4821973" in part for part in secret_words(line[column:]))
    hand = Hand(name or "brisca-w1", lexicon=bool(name))
    told = "\n".join(hand.type(line, ":keep kept.wex"))
    hand.writer.close()
    kept = Path("kept.wex").read_text() if Path("kept.wex").exists() else ""
    assert "4821973" not in told + kept + hand.trace.read_text()


@pytest.mark.parametrize("line", ["AT+LABEL=quay 3", "AT", "AT+SPEED?", ":set name = quay", ":help", "AT+PASS?", ""])
def test_what_is_no_secret_is_kept(line: str) -> None:
    assert secret_from(Reader(find_lexicon("tamsel-k5")), line) is None


# What was done, as typed lines, and what is said of it at the end: the observation, or nothing.
SITUATIONS: list[tuple[str, int, tuple[str, ...], str]] = [
    ("brisca-w1", 0, ("at+name?",), "“at+name?” is not letter by letter as the lexicon writes it"),
    ("brisca-w1", 0, ("AT+NAME? ",), "“AT+NAME? ” is not letter by letter as the lexicon writes it"),
    ("brisca-w1", 0, (":end none", "AT+NAME?"), "Lines end with none, and the lexicon says crlf"),
    ("lindle-l9", 0, (":end none", "@who?"), "Lines end with none, and the lexicon says lf"),
    ("tamsel-k5", 9600, ("AT", "AT+LABEL?"), "The module is in data mode (it said “K5 NO MATE”)"),
    ("brisca-w1", 0, ("AT+RATE=57600", "AT+NAME?"), "The module is at 57600 8N1 (“AT+RATE=57600” was accepted)"),
    ("lindle-l9", 0, ("@who?", ":tune 115200", "@who?"), "The module is at 9600 8N1 (it answered “@who?”)"),
    ("lindle-l9", 0, (":tune 115200", "@who?"), "Nothing was heard at 115200 8N1"),
    (
        "lindle-l9",
        0,
        ("@who?", ":tune 115200", "@who?", ":tune 9600", "@who?"),
        "“@who?”, said at 115200 baud, stood in",
    ),
    ("brisca-w1", 0, ("AT+POST 1 20", 'AT+LINK 1,"192.168.4.1",80'), ""),
    ("brisca-w1", 0, ("AT+POWER=99",), ""),
]


@pytest.mark.parametrize("at", range(len(SITUATIONS)))
def test_a_cause_rests_on_what_was_seen(at: int) -> None:
    """No other cause is named than the true one; where none is known, none is."""
    name, rate, lines, cause = SITUATIONS[at]
    hand = Hand(name)
    if rate:
        hand.session.tune(Tuning(rate))
    told = [one for one in hand.type(*lines) if one.startswith("= ") and "unsaved" not in one and "rate is" not in one]
    assert not told if not cause else cause in told[-1], told
    assert not any("supply" in one or "key was released" in one for one in told)


def test_what_is_not_saved_is_told_before_it_is_lost() -> None:
    told = Hand("tamsel-k5").type(":attention", "AT+LABEL=quay 3", ":data", "x")
    lost = next(at for at, one in enumerate(told) if one.startswith("= unsaved: name"))
    assert "which loses what is unsaved" in told[lost] and "to save it: :do save" in told[lost]
    assert next(at for at, one in enumerate(told) if "passed on as data" in one) > lost


def test_data_mode_is_spoken_to_at_the_rate_that_was_typed() -> None:
    hand = Hand("tamsel-k5")
    told = hand.type(":attention", "AT+SPEED=7,1,N", "AT+KEEP", ":data")
    link = hand.bench.standin.uart.tuning
    assert link.rate != 9600 and f"~ what is typed is passed on as data; at {link}" in told


def test_what_is_known_is_shown_with_what_it_rests_on() -> None:
    told = Hand("brisca-w1").type("AT+POWER=9", ":state")
    assert any(one.startswith("= mode: command (it answered “AT+POWER=9”") for one in told)
    assert any(one.startswith("= unsaved: power: 9 dBm (“AT+POWER=9” was accepted") for one in told)


def test_how_a_session_left_the_module_is_known_to_the_next_one_and_forgotten_by_an_answer() -> None:
    # The module takes commands for twelve seconds, and by `leave` no longer.
    lexicon = find_lexicon("fennick-z4")
    with virtual('\n[unit.mast]\nstandin = "fennick-z4"\n'):
        at = "virtual://mast", lexicon, Setup(keeps=False)
        with module_on_port(*at) as module:
            module.attention.gain()
            module.do("leave")
        with module_on_port(*at) as module:
            left = [(one.part, one.value, one.by) for one in module.state.told(0.0)]
            assert left == [("mode", "data", "as the last session on this port ended")]
            module.attention.gain()
            assert module.state.mode and module.state.mode.value == "command"
        with module_on_port(*at) as module:
            assert module.state.mode is None


def test_what_a_set_changes_beside_is_told_at_the_end() -> None:
    hand = Hand("lindle-l9")
    take = hand.bench.standin.take  # type: ignore[attr-defined]

    def also(word: str, text: str) -> None:
        take(word, text)
        if word == "name":
            hand.bench.standin.memory["net"] = 9

    hand.bench.standin.take = also  # type: ignore[attr-defined]
    told = hand.type("@who?", ":set name = quay 3", "@addr=4")
    assert "= side effect: network was 1, and is 9; it was not written" in told and "address was" not in "".join(told)
