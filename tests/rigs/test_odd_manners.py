"""Manners 38 to 57: what the ten modules' own ways of answering asked the format to learn."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from tests.conftest import Bench, bench, k5, wexicon
from tests.rigs.test_air import hold
from wexicon.core.dialogue.blocks import DialogueFault
from wexicon.core.faults import FileFault
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.formats.lexicon.gaps import gaps
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.observations import Heard
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech
from wexicon.core.values import UNSET
from wexicon.work.module.module import Module
from wexicon.work.module.settings import Refused
from wexicon.work.provisioning.run import provision


def outcomes(result: Any) -> dict[str, tuple[str, str, str]]:
    return {
        line.name: (str(line.outcome), *(one.shown if one else "" for one in (line.before, line.after)))
        for line in result.settings
    }


def test_what_is_not_set_is_told_asked_for_and_brought_about() -> None:
    one = Bench("wherry-c3", label="quay")
    result = one.provision(name="unset", partner="5E0417C2")
    assert outcomes(result) == {"name": ("changed", "quay", "unset"), "partner": ("changed", "unset", "5E0417C2")}
    assert "drop label" in one.trace.said() and one.standin.flash["label"] == ""
    again = one.provision(name="unset", partner="5E0417C2")
    assert again.verdict == "conforms" and again.written == 0 and again.settings[0].after.value is None  # type: ignore[union-attr]
    with pytest.raises(ValueError, match="is not one of near, far"):
        one.lexicon.settings["reach"].check("unset")


@pytest.mark.parametrize(
    ("unset", "answer"),
    [
        ("NONE", "NONE\r\nOK"),
        ("", "OK"),
        ("", '+N ""\r\nOK'),
        ("+N 0", "+N 0\r\nOK"),
        ("+N {a:int},{b}", "+N 0,x\r\nOK"),
    ],
)
def test_unset_is_another_line_the_success_code_alone_an_empty_value_or_fewer_fields(unset: str, answer: str) -> None:
    one = Bench("brisca-w1")
    asked = f"read = {{ say = \"AT+N?\", hear = '+N \"{{value}}\"', unset = '{unset}' }}"
    text = (
        f'format = 1\n[about]\nfamily = "x"\n[link]\nrate = 115200\n[setting.n]\nvalue = {{ kind = "text" }}\n{asked}\n'
    )
    one.lexicon = read_lexicon(text.encode(), "x.toml")
    one.standin.line = lambda line: one.standin.say(f"{'OK' if line == 'AT' else answer}\r\n")  # type: ignore[attr-defined]
    one.standin.editor.line = one.standin.line  # type: ignore[attr-defined]
    one.open().quiet(2)
    module = one.module()
    module.attention.gain()
    assert module.read("n") is UNSET


def test_a_locked_module_is_opened_before_anything_is_asked_and_the_last_try_is_left() -> None:
    one = Bench("wherry-c3", code="2580")
    order = one.order(reach="far")
    result = provision(Module(one.open(), one.lexicon, one.operator, given={"code": "2580"}), order, store=one.store)
    assert (
        result.verdict == "conforms" and one.trace.said().count("code (secret)") == 2
    )  # once more after the power cycle
    for left in (2, 1, 1):
        wrong = provision(Module(one.open(), one.lexicon, one.operator, given={"code": "1111"}), order, store=one.store)
        assert wrong.status == 1 and one.standin.flash["tries"] == left
        one.standin.power(False)
        one.standin.power(True)
        one.open().quiet(1)
    assert "not so: left > 1" in str(wrong.failure)


def test_a_code_comes_from_the_sheet_and_stays_unseen() -> None:
    sheet = 'format = 1\n[seat.b]\nlexicon = "wherry-c3"\nsettings = { reach = "far" }\ngiven = { code = { env = "CODE" } }\n'
    Path("s.toml").write_text(sheet)
    Path("rig.toml").write_text('format = 1\n[unit.b]\nstandin = "wherry-c3"\nsettings = { code = "2580" }\n')
    from tests.conftest import clean

    done = wexicon("rehearse", "s.toml", "--rig", "rig.toml", "--trace", "t.jsonl", env=clean({"CODE": "2580"}))
    assert "conforms" in done.stdout and "2580" not in done.stdout + Path("t.jsonl").read_text()
    Path("s.toml").write_text(sheet.replace('{ env = "CODE" }', '"2580"'))
    assert "is a secret and does not belong into a sheet" in wexicon("rehearse", "s.toml", status=2).stderr


def test_what_is_told_and_what_is_heard_may_be_other_codes_and_other_scales() -> None:
    one = Bench("wherry-c3")
    result = one.provision(reach="far", tick=120, lamp="on")
    told = outcomes(result)
    assert told["reach"] == ("changed", "near", "far") and told["tick"] == ("changed", "20 s", "120 s")
    assert one.standin.flash["tick"] == 30 and {"put reach 2", "put tick 30"} <= set(one.trace.said())
    notes = {line.name: line.note for line in result.settings}
    assert notes["tick"] == "granted 60 s"  # by an event, after the answer
    assert notes["lamp"] == "until power is lost" and one.standin.lamp == "lit"  # type: ignore[attr-defined]


def test_a_member_that_cannot_be_read_is_written_with_its_group_or_asked_for() -> None:
    one = Bench("wherry-c3")
    assert outcomes(one.provision(network=9, key="shingle"))["key"][0] == "accepted"
    assert (one.standin.flash["net"], one.standin.flash["key"]) == (9, "shingle")
    result = one.provision(network=4)
    assert result.failure and "key must be given too" in result.failure.what and one.standin.flash["net"] == 9


def test_a_rate_that_is_repeated_moves_later_and_only_the_link_shows_it() -> None:
    one = Bench("wherry-c3")
    assert outcomes(one.provision(rate=38400))["rate"] == ("changed", "9600 baud", "38400 baud")
    one.standin.put_speed = lambda speed: one.standin.tell(f"speed {speed + 1} soon")  # type: ignore[attr-defined]
    result = one.provision(rate=115200)
    assert result.failure and "did not confirm the new value" in result.failure.what
    assert result.failure.heard == ["speed 115201 soon", "done"]


def test_the_reason_before_the_error_is_told_and_a_module_that_listens_later_is_waited_for() -> None:
    one = Bench("wherry-c3")
    module = one.module()
    module.attention.gain()
    kind = one.lexicon.settings["tick"].kind
    one.lexicon.settings["tick"] = replace(one.lexicon.settings["tick"], kind=replace(kind, max=9000))
    with pytest.raises(Refused, match=r"error 3 \(value not allowed\)"):
        module.set("tick", 8000)
    one.lexicon.settings["tick"] = replace(one.lexicon.settings["tick"], kind=kind)
    module.do("tidy")
    assert module.read("reach") == "near" and one.trace.said().count("get reach") == 1


def test_a_module_that_says_nothing_has_refused_if_it_is_still_there() -> None:
    one = Bench("wherry-c1")
    one.standin.put_tick = lambda ticks: None  # type: ignore[attr-defined]
    result = one.provision(tick=40, reach="far")
    assert outcomes(result)["tick"][0] == "refused" and outcomes(result)["reach"][0] == "changed"
    assert "it did not answer, which is how this family refuses" in result.settings[0].note + result.settings[1].note


def test_the_more_exact_result_code_wins_and_overlaps_are_told() -> None:
    dialect = Dialect(Speech(ok=("status 0", "{word:word} ok"), error=("status {code:int}", "{word} ok")))
    finals = {text: dialect.final(text) for text in ("status 0", "status 3", "all ok", "not quite ok")}
    assert {text: final and final.status for text, final in finals.items()} == {
        "status 0": "ok", "status 3": "error", "all ok": "ok", "not quite ok": "error"
    }  # fmt: skip
    text = b'format = 1\n[about]\nfamily = "x"\n[speech]\nok = ["{what:word} ok"]\nerror = ["{why} ok"]\n'
    assert any("also fits" in what for _, what in gaps(read_lexicon(text, "x.toml")))
    one = Bench("orvane-b3")
    module = one.module()
    module.attention.gain()
    module.set("role", "follower")  # as it is already: `no 0`, an error number that means success
    assert "no 0" in one.trace.texts(Heard)


def test_an_answer_of_bytes_is_split_into_fields() -> None:
    one = Bench("lindle-r2")
    assert one.read_out().identity == {"firmware": "14", "serial": "0217"}
    assert Pattern("5A{a:bytes(2)}{b:bytes(4)}").match("5A14FFFF") == {"a": "14", "b": "FFFF"}


def test_numbers_to_base_16_are_shown_and_written_as_the_trade_does() -> None:
    one = Bench("fennick-z4")
    assert outcomes(one.verify(network="0x7A31"))["network"] == ("unchanged", "0x7A31", "0x7A31")


def test_a_dialogue_knows_the_lexicons_kinds() -> None:
    one = Bench("wherry-c3")
    text = "> get tick\n< tick {t:value(tick)}\nkeep t\n> put tick {t|value(tick)}\ncheck t == 20\n"
    text += "> get reach\n< reach {r:value(reach)}\nkeep r\n"
    text += (
        '> get reach\n< reach {raw}\nkeep far = decoded("reach", raw) == "far"\nkeep code = encoded("tick", t + 20)\n'
    )
    assert hold(one, text).kept == {"t": 20, "r": "near", "far": False, "code": "10"}
    with pytest.raises(DialogueFault, match=r"no such setting|cannot be evaluated"):
        hold(Bench("wherry-c3"), 'keep x = decoded("reech", "N")\n')


@pytest.mark.parametrize(("quotes", "inside"), [("backslash", r"a\"b\\"), ("double", 'a""b\\'), ("hex", r"a\22b\5C")])
def test_quotes_are_written_and_read_in_the_modules_own_way(quotes: str, inside: str) -> None:
    dialect = Dialect(Speech(quotes=quotes))
    for pattern in ('+N "{v}"', "+N {v:quoted}", '+N "{v}",{n:int}'):
        tail = ",5" if "{n" in pattern else ""
        captures = Pattern(pattern).match(f'+N "{inside}"{tail}')
        assert captures and dialect.plain(captures)["v"] == 'a"b\\', pattern


def test_a_relay_board_works_key_and_power_by_its_own_commands() -> None:
    with bench(k5()) as rig:
        # Such a command is told nothing of our environment.
        tool = f"env WEXICON_RUN={Path.cwd() / 'run'} {sys.executable} -m wexicon rig"
        text = 'format = 1\n[pin.key]\non = "{0} key plug hold"\noff = "{0} key plug release"\n'
        text += '[pin.power]\non = "{0} power plug on"\noff = "{0} power plug off"\n'
        Path("jig.toml").write_text(text.format(tool))
        words = ("readout", rig.ports["plug"], "-l", "tamsel-k5", "--operator", "nobody", "--fixture", "jig.toml")
        assert "TAMSEL-K5" in wexicon(*words).stdout
        Path("jig.toml").write_text(text.format("false"))
        assert "the fixture's command “false key plug hold” failed with status 1" in wexicon(*words, status=1).stderr


def test_what_is_said_is_the_modules_own_word_however_it_is_confirmed() -> None:
    kind = 'value = { kind = "choice", codes = { on = "enabled", off = "x" } }\n'
    words = 'read = { say = "P?", hear = "P {value}" }\nwrite = { say = "P={value}", hear = "P is {=value}" }\n'
    text = f'format = 1\n[about]\nfamily = "x"\n[link]\nrate = 115200\n[setting.p]\n{kind}{words}'
    for repeats in ("enabled", "on"):
        one = Bench("brisca-w1")
        one.lexicon = read_lexicon(text.encode(), "x.toml")
        one.standin.editor.line = lambda line, one=one, repeats=repeats: one.standin.say(  # type: ignore[attr-defined]
            {"P=enabled": f"P is {repeats}\r\nOK\r\n", "AT": "OK\r\n"}.get(line, "P x\r\nOK\r\n")
        )
        module = one.module()
        module.attention.gain()
        module.set("p", "on")
        assert one.trace.said()[-1] == "P=enabled"


def test_a_member_of_a_block_without_a_place_is_a_fault_and_never_shown_as_unset() -> None:
    text = 'format = 1\n[about]\nfamily = "x"\n[group.b]\nread = { say = "B?", hear = "{block:hex}" }\nsize = 2\n'
    with pytest.raises(FileFault, match=r"setting.a.place: is missing"):
        read_lexicon(f'{text}[setting.a]\nvalue = {{ kind = "int" }}\ngroup = "b"\n'.encode(), "x.toml")
