"""A recording answers as the module did: a provisioning's own trace conforms again, and becomes a dialogue."""

from __future__ import annotations

from pathlib import Path

import pytest
from benchmarks.wanted import TRUST, WANTED

from tests.conftest import Bench, bench, k5, wexicon
from wexicon.api import rehearse_seat
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.formats.sheet import Seat
from wexicon.core.formats.wanted import Fixed
from wexicon.records.trace import read_trace, recorded
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.standins import Choice
from wexicon.work.function.dialogues import run_dialogue


@pytest.mark.parametrize("name", sorted(WANTED))
def test_a_provisioning_conforms_again_with_its_own_trace(name: str) -> None:
    lexicon = find_lexicon(name)
    wanted = {key: lexicon.settings[key].check(value) for key, value in WANTED[name].items()}
    seat, trace = (
        Seat("s", lexicon, {key: Fixed(value) for key, value in wanted.items()}, TRUST.get(name, ())),
        Path("t.jsonl"),
    )
    first = rehearse_seat(seat, Choice(standin=name), trace=trace)
    again = rehearse_seat(seat, Choice(recording=trace))
    assert (first.verdict, again.verdict) == ("conforms", "conforms"), again.failure
    # What was before a secret that was left out is not known; everything else is as it was.
    before = [
        [line.before for line in result.settings if not lexicon.settings[line.name].secret] for result in (first, again)
    ]
    assert before[0] == before[1]


def test_a_recording_from_a_real_port_is_rehearsed_by_the_command() -> None:
    Path("pin").write_text("48213")
    settings = 'name = "Withy Point"\npin = { file = "pin" }\nrate = 115200\n'
    Path("s.toml").write_text(f'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\n[seat.plug.settings]\n{settings}')
    with bench(k5()) as rig:
        wexicon("provision", "s.toml", rig.ports["plug"], "--operator", "rig", "--trace", "t.jsonl")
    # Not in any text: a time may have the same digits.
    assert not [one for one in read_trace(Path("t.jsonl")) if "48213" in one.content]
    assert "conforms: 2 changed, 1 unchanged" in wexicon("rehearse", "s.toml", "--recording", "t.jsonl").stdout


def test_a_draft_keeps_what_was_awaited_and_leaves_out_searches_and_repeats() -> None:
    one = Bench("brisca-w1")
    text = "> AT+SEEK\n<\npause 100ms\n> AT+POWER?\n< +POWER {p}\nawait 9s\n    SURPRISE {x:int}\n"
    trace = Path("t.jsonl")
    from wexicon.core.protocol.speech import Speech
    from wexicon.core.tuning import Tuning
    from wexicon.links.virtual import VirtualClock
    from wexicon.records.trace_writer import TraceWriter

    one.agenda.after(4, lambda: one.standin.say("SURPRISE 7\r\n"))
    writer = TraceWriter(trace, VirtualClock(one.agenda), link="x", tuning=Tuning(115200), speech=Speech())
    result = run_dialogue(one.session(writer), read_dialogue(text, "d.wex"), {}, one.lexicon, one.operator)
    writer.close()
    assert not result.failure
    drafted = draft_dialogue(recorded(trace).exchanges)
    assert drafted.count("> AT+POWER?") == 1 and "SURPRISE 7" in drafted and "await" in drafted
    assert "> AT\n" not in drafted and not [line for line in drafted.splitlines() if line == "> ATE0"]
    moved = draft_dialogue(recorded(trace).exchanges, start=Tuning(9600))
    assert moved.lstrip().startswith("tune 115200 8N1")
