"""What is planned is what is said; what is read out makes another module the same; what differs from a record is told."""

from __future__ import annotations

from pathlib import Path

import pytest
from benchmarks.wanted import WANTED

from tests.conftest import Bench, Records
from wexicon.core.formats.host_export import sheet_text
from wexicon.core.formats.sheet_reading import Around, read_sheet
from wexicon.core.protocol.observations import Began, Said
from wexicon.core.results.result import Outcome, Prove, Verdict
from wexicon.core.values import UNSET, ClockKind
from wexicon.records.trace_writer import TraceWriter
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.function.actions import do_action
from wexicon.work.module.module import Module
from wexicon.work.module.opening import values_in_trace
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision, read_out

FAMILIES = sorted(WANTED)


def planned(name: str, prove: str) -> tuple[Bench, Order]:
    one = Bench(name, person=prove == "auto")
    one.agenda.run_until(2.5)
    plain = {key: one.lexicon.settings[key].check(value) for key, value in WANTED[name].items()}
    return one, Order(plain, Prove(prove), plan=True)


@pytest.mark.parametrize("prove", ["auto", "reading"])
@pytest.mark.parametrize("name", FAMILIES)
def test_the_lines_of_a_plan_are_those_that_are_then_said(name: str, prove: str) -> None:
    one, order = planned(name, prove)
    lexicon, flash = one.lexicon, dict(one.standin.flash)
    result = provision(Module(one.open(), lexicon, one.operator), order)
    assert result.verdict is Verdict.PLANNED and not result.failure and result.plan
    assert one.standin.flash == flash and {line.outcome for line in result.settings} <= {
        Outcome.UNCHANGED,
        Outcome.TO_WRITE,
    }
    lines = [line.says for line in result.plan if not line.says.startswith("(")]
    trace = Records()
    done = provision(
        Module(one.session(trace), lexicon, one.operator), Order(order.wanted, order.prove, trust=("pin", "key"))
    )
    assert done.verdict in (Verdict.CONFORMS, Verdict.UNPROVED), done.failure
    begun = next(at for at, seen in enumerate(trace.all) if isinstance(seen, Began) and seen.step.startswith("write"))
    said = [seen.text for seen in trace.all[begun:] if isinstance(seen, Said)]
    place = 0
    for line in lines:
        assert line in said[place:], f"{line} is planned and is not said after {said[:place]}"
        place = said.index(line, place) + 1
    attention = lexicon.attention
    harmless = {phrase.say.source for phrase in (attention.probe, attention.whole, *lexicon.identify) if phrase}
    harmless |= {attention.select.say.source.format(station=1)} if attention.select else set()
    leaves = {text.strip("> ") for text in ("OK",)} | {attention.escape, "\r\n", "\r", "\n"}
    if "leave" in lexicon.actions:
        leaves |= {line[2:] for line in lexicon.actions["leave"].program.wording().splitlines() if line[:2] == "> "}
    if attention.unlock:
        leaves |= {line[2:] for line in lexicon.actions[attention.unlock].program.wording().splitlines()}
    reads = {one.read.say.source for one in (*lexicon.settings.values(), *lexicon.groups.values()) if one.read}
    reads |= {
        one.granted.question.say.source for one in lexicon.settings.values() if one.granted and one.granted.question
    }
    # What turns a page is no line.
    pages = {lexicon.speech.more.say} if lexicon.speech.more else set()
    # An empty line tells whether a login is asked for.
    pages |= {""} if attention.locked else set()
    unplanned = set(said) - set(lines) - harmless - leaves - reads - pages
    assert not unplanned


def test_a_plan_of_an_action_says_nothing_but_questions() -> None:
    one, trace = Bench("lindle-l9"), Records()
    module = Module(one.session(trace), one.lexicon, one.operator)
    result = do_action(module, "restart", {}, plan=True)
    assert result.verdict is Verdict.PLANNED and [line.says for line in result.plan] == ["@boot"]
    assert "@boot" not in trace.said()


def test_an_action_that_restarts_is_done_only_where_a_start_was_seen() -> None:
    one = Bench("lindle-l9")
    assert do_action(one.module(), "restart", {}).status == 0
    one.standin.restart = lambda: None  # type: ignore[method-assign]
    result = do_action(one.module(), "restart", {})
    assert result.verdict is Verdict.UNPROVED and result.status == 4
    assert result.remarks == ["no restart observed"]


@pytest.mark.parametrize("name", FAMILIES)
def test_a_sheet_that_a_readout_writes_makes_another_module_the_same(name: str) -> None:
    lexicon = find_lexicon(name)
    one = Bench(name)
    one.agenda.run_until(2.5)
    assert one.provision(**WANTED[name]).verdict in (Verdict.CONFORMS, Verdict.UNPROVED)
    module = one.module()
    module.attention.gain()
    module.identify()
    found = module.settings.read(lexicon.settings, {})
    settings = [(setting, found[key].value if key in found else None) for key, setting in lexicon.settings.items()]
    text = sheet_text(f'as a "{name}" was', "unit", name, settings)
    # A clock is set from ours, whatever it was.
    clocks = {key for key, setting in lexicon.settings.items() if isinstance(setting.kind, ClockKind)}
    read = {key: one.value for key, one in found.items() if one.value is not None and key not in clocks}
    hidden = [key for key in read if lexicon.settings[key].secret and read[key] is not UNSET]
    secrets = {key: lexicon.settings[key].kind.encode(read[key]) for key in hidden}

    def secret(kind: str, asked: str) -> str:
        key = asked.rpartition(" ")[2]
        return secrets.get(key) or str(WANTED[name].get(key, "quay-lamp"))

    wanted = read_sheet(text.encode(), "s.toml", Around(find_lexicon, secret)).seats["unit"].wanted
    assert {key: wanted[key] for key in wanted if key in read} == {key: read[key] for key in wanted if key in read}
    assert {key for key in read if lexicon.settings[key].writable} <= set(wanted)


def test_what_a_sheet_cannot_hold_is_a_comment_with_the_reason() -> None:
    settings = find_lexicon("lindle-l9").settings
    text = sheet_text("t", "unit", "lindle-l9", [(settings["name"], "quay \udcfc"), (settings["network"], 99)])
    assert "# name: quay \\xFC is not UTF-8, and cannot be written in a sheet" in text
    assert "# network: 99 is out of range; allowed: 0 to 15" in text


def test_what_a_trace_tells_is_what_was_read_last(tmp_path: Path) -> None:
    one = Bench("brisca-w1")
    one.agenda.run_until(2)
    link = one.link(one.lexicon.factory)
    from wexicon.core.protocol.session import Session

    writer = TraceWriter(tmp_path / "t", link.clock, link="x", tuning=link.tuning)
    session = Session(link, one.lexicon.dialect, writer)
    plain = {"power": one.lexicon.settings["power"].check(7), "rate": 57600}
    assert provision(Module(session, one.lexicon, one.operator), Order(plain)).verdict is Verdict.CONFORMS
    session.listener.flush()
    writer.close()
    told = values_in_trace(tmp_path / "t", one.lexicon)
    assert told["power"] == 7 and told["rate"] == 57600
    assert {line.name: line.raw for line in read_out(one.module()).settings}["power"] == "7"
