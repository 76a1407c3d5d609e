"""How much of a lexicon comes out right when it is drafted from the trace of one provisioning.

    python -m benchmarks.drafting [FAMILY ...]

The rule: counted are the settings that the session changed and read, secrets aside. One is right if the draft reads it by the
same question, and says another value of it as the lexicon of the family would. Families that the drafter was not written with
stand apart.
"""

from __future__ import annotations

import re
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

from benchmarks.virtual_bench import VirtualBench
from benchmarks.wanted import TRUST, WANTED
from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Lexicon, Setting, read_lexicon
from wexicon.core.protocol.insertion import Template
from wexicon.core.protocol.session import Session
from wexicon.core.results.result import Outcome, Prove
from wexicon.core.values import Value
from wexicon.records.trace import recorded
from wexicon.records.trace_writer import TraceWriter
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.drafting.starter import lexicon_from
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

# Families whose lexicons were written without a look at what the drafter does of them.
APART = ("marram-c2", "plover-j1", "saltern-m4", "samphire-f2", "teasel-d3")


def drafted(name: str, folder: Path) -> tuple[list[str], list[str]]:
    """The settings of a family that came out right, and those that did not."""
    lexicon = find_lexicon(name)
    bench = VirtualBench.of(name, lexicon)
    bench.agenda.run_until(3.0)
    link = bench.link(lexicon.attention.tuning or lexicon.factory)
    trace, speech = folder / f"{name}.jsonl", lexicon.speech
    writer = TraceWriter(trace, link.clock, link=name, tuning=link.tuning, speech=speech)
    session = Session(link, lexicon.dialect, writer)
    module = Module(session, lexicon, bench.operator)
    wanted = {key: lexicon.settings[key].check(value) for key, value in WANTED[name].items()}
    result = provision(module, Order(wanted, Prove.AUTO, TRUST.get(name, ())))
    session.listener.flush()
    writer.close()
    text, _ = lexicon_from(recorded(trace), "drafted")
    made = read_lexicon(text.encode(), f"{name}.toml")
    changed = {line.name for line in result.settings if line.outcome is Outcome.CHANGED}
    right: list[str] = []
    wrong: list[str] = []
    for key in wanted:
        setting = lexicon.settings[key]
        if key in changed and not setting.secret:
            (right if _is_right(made, lexicon, module, setting, wanted[key]) else wrong).append(key)
    return right, wrong


def _is_right(made: Lexicon, lexicon: Lexicon, module: Module, setting: Setting, value: Value) -> bool:
    other = setting.kind.another(value)
    value = value if other is None else other
    asked = [
        phrase.say.plain for phrase in (setting.read, setting.in_group.read if setting.in_group else None) if phrase
    ]
    try:
        members = [
            one.name for one in lexicon.settings.values() if setting.in_group and one.in_group is setting.in_group
        ]
        others = module.settings.read(members) if setting.in_group and not setting.write else {}
        known = {name: one.value for name, one in others.items() if one.value is not None}
        line = module.settings.line_for({setting.name: value}, known)[0].text
    except Fault:
        return False
    code = setting.kind.encode(value)
    single = [(one.write.say, one.read, False) for one in made.settings.values() if one.write and one.read]
    groups = [(one.write.say, one.read, True) for one in made.groups.values() if one.write and one.read]
    in_bytes = lexicon.speech.in_digits
    return any(
        _bare(read.say.plain) in map(_bare, asked) and _says(say, line, code, group=group, in_bytes=in_bytes)
        for say, read, group in (*single, *groups)
    )


def _says(say: Template, line: str, code: str, *, group: bool, in_bytes: bool) -> bool:
    """Whether a drafted line is that of the lexicon, with the value in its place."""
    line = _bare(line) if in_bytes else line
    if not (
        say.lead and line.startswith(say.lead) and line.endswith(say.tail) and len(line) > len(say.lead + say.tail)
    ):
        return False
    inside = line[len(say.lead) : len(line) - len(say.tail)]
    if in_bytes:
        # A number of up to four bytes, or text: longer ones are several settings in one.
        return len(inside) <= 8 or bytes.fromhex(inside).rstrip(b"\0").isalnum()
    return group or _alike(inside) == _alike(code) or code.startswith(inside)


def _bare(text: str) -> str:
    return text.replace(" ", "")


def _alike(text: str) -> str:
    return re.sub(r"[^0-9A-Za-z]", "", text).upper()


def share(names: Sequence[str]) -> tuple[int, int]:
    """How many settings of these families came out right, of how many."""
    right = wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        for name in names:
            good, bad = drafted(name, Path(folder))
            right, wrong = right + len(good), wrong + len(bad)
            print(f"{name:14} {len(good)} of {len(good) + len(bad)}" + (f"; not {', '.join(bad)}" if bad else ""))
    return right, right + wrong


def main() -> int:
    if named := sys.argv[1:]:
        share(named)
        return 0
    for title, names in (("drafted from their traces", [n for n in WANTED if n not in APART]), ("apart", list(APART))):
        right, all_ = share(names)
        print(f"{title}: {right} of {all_}, {right / all_:.0%}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
