"""What is on record: one story for each family of modules, and one for each part of the sample.

The rule: a story uses the commands as a person does, on stand-ins in virtual time; where threads wait for each other in real
time (a tap, a rig in its process, the demo) on served ones. What needs a terminal is left to the other tests.
"""

from __future__ import annotations

import os
import random
import re
import shlex
import shutil
import time
import tty
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from benchmarks.wanted import TRUST, WANTED

from tests.conftest import SAMPLE
from tests.record.recording import Step, Story, step
from wexicon.cli.main import COMMANDS
from wexicon.core.engineering.topics import TOPICS
from wexicon.core.formats.lexicon import Lexicon
from wexicon.records.schemas import TITLES
from wexicon.rigs.standins import FAMILIES
from wexicon.work.contact.catalog import find_lexicon

UNIT = "virtual://unit"
LEXICONS = sorted((SAMPLE.parent / "lexicons").glob("*.toml"))
# What a family's module needs to show what it does.
AIR = {
    "polmar-p1": "[air.sky]\n",
    "cordal-g2": '[air.network]\noperator = "00101"\n',
    "cordal-n7": '[air.network]\nactive_time = "00100001"\n',
}


def families() -> Iterator[Story]:
    """One story for each family that is provisioned."""
    for name in WANTED:
        lexicon = find_lexicon(name)
        unit = f'[unit.unit]\nstandin = "{name}"\n{AIR.get(name, "")}'
        yield Story(f"family-{name}", list(_work(name, lexicon)), unit, lambda folder, name=name: _sheet(folder, name))


def _work(name: str, lexicon: Lexicon) -> Iterator[Step]:
    known = ("-l", name)
    shown = {
        key: lexicon.settings[key].kind.show(lexicon.settings[key].kind.check(value))
        for key, value in WANTED[name].items()
    }
    open_values = [
        f"{key}={value.removesuffix(' baud')}" for key, value in shown.items() if not lexicon.settings[key].secret
    ][:3]
    yield step(f"hail {UNIT}")
    yield step(f"readout {UNIT}", *known)
    yield step(f"readout {UNIT} --json", *known)
    yield step(f"readout {UNIT} -o made.h", *known)
    yield step(f"set {UNIT} --plan", *known, *open_values)
    yield step(f"set {UNIT}", *known, open_values[0])
    yield step(f"provision s.toml {UNIT} --plan")
    yield step(f"provision s.toml {UNIT} --json")
    yield step(f"provision s.toml {UNIT}")
    yield step(f"verify s.toml {UNIT} --json")
    for action in lexicon.actions.values():
        if not action.program.needs():
            yield step(f"do {UNIT} {action.name}", *known)
    yield step(f"listen {UNIT} --for 20s", *known)
    yield step(f"talk {UNIT}", *known, input=_typed(lexicon, open_values[0]))
    yield step(f"restore unit {UNIT}")
    yield step("units show unit --json")
    yield step("trace list")
    yield step("trace show last")
    yield step("trace dialogue last -o again.wex")
    yield step("lexicon draft --from last -o drafted.toml")
    yield step("lexicon check drafted.toml")
    yield step(f"lexicon show {name}")
    yield step("rehearse s.toml")


def _typed(lexicon: Lexicon, pair: str) -> str:
    """What is typed into a console: three questions, a word that means nothing, and commands of each kind."""
    asked = [one.read.say.source for one in lexicon.settings.values() if one.read and not one.read.say.names][:3]
    name, _, value = pair.partition("=")
    commands = [f":read {name}", f":set {name} = {value}", ":hex on", f":read {name}", ":hex off", ":do nothing"]
    end = lexicon.dialect.speech.end
    commands += [":allow 500ms", ":end cr", f":end {end}", ":keep typed.wex", ":sheet typed.toml", ":data on", "tide"]
    return "".join(f"{line}\n" for line in (*asked, "wrong", *commands, ":data off", ":quit"))


def _sheet(folder: Path, name: str) -> None:
    def told(value: Any) -> str:
        if isinstance(value, dict):
            return "{ " + ", ".join(f"{key} = {told(one)}" for key, one in value.items()) + " }"
        return repr(value).lower() if isinstance(value, bool) else _quoted(value)

    lexicon = find_lexicon(name)
    lines = []
    for number, (key, value) in enumerate(WANTED[name].items()):
        if lexicon.settings[key].secret:
            (folder / f"secret-{number}").write_text(str(value))
            lines.append(f'{key} = {{ file = "secret-{number}" }}')
        else:
            lines.append(f"{key} = {told(value)}")
    trust = f"trust = [{', '.join(map(_quoted, TRUST[name]))}]\n" if name in TRUST else ""
    text = f'format = 1\ntitle = "Marrow Estuary"\n[seat.unit]\nlexicon = "{name}"\n{trust}[seat.unit.settings]\n'
    (folder / "s.toml").write_text(text + "\n".join(lines) + "\n")


def _quoted(value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(map(_quoted, value))}]"
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"' if isinstance(value, str) else str(value)


def _sample(folder: Path) -> None:
    for path in SAMPLE.iterdir():
        shutil.copy(path, folder / path.name)


def _lines(text: str) -> list[Step]:
    return [Step(tuple(shlex.split(line))) for line in text.strip().splitlines()]


def samples() -> Iterator[Story]:
    """The sample scenario: what the guide and the demo do with it."""
    dialogues = sorted(path.name for path in SAMPLE.glob("*.wex"))
    sheets = ("masts.toml", "service-plug.toml", "radio-pair.toml", "plugs.toml")
    yield Story(
        "sample-sheets",
        [
            *(step(f"rehearse {name}") for name in sheets),
            *(step(f"rehearse {name} --json") for name in sheets),
            *_lines("""
rehearse masts.toml --ports 4 --swap 20s
rehearse masts.toml --rig masts-rig.toml
readout masts.toml -o settings.h
readout masts.toml --as json -o settings.json
readout masts.toml --row M2 -o m2.env
"""),
        ],
        files=_sample,
    )
    yield Story(
        "sample-dialogues",
        [
            step(f"rehearse {name} --rig {rig}", *(("-l", "brisca-w1") if rig == "rig.toml" else ()))
            for name in dialogues
            for rig in ("estuary.toml", "rig.toml")
            if (rig == "rig.toml") == (name in ("first-words.wex", "networks.wex", "join-office.wex", "move-rate.wex"))
        ],
        files=_sample,
    )
    yield Story(
        "sample-masts",
        _lines("""
provision masts.toml virtual://gannet-quay --seat relay --tests none
provision masts.toml virtual://cobble-stair --row M1 --tests none
verify masts.toml virtual://cobble-stair --row M1 --tests none
provision masts.toml virtual://withy-point --row M1 --tests none
units list
units list --json
units show "mast M1"
units label -o labels.svg
report -o r.html
trace compare last last
"""),
        "".join(
            f'[unit.{name}]\nstandin = "lindle-l9"\n'
            for name in ("gannet-quay", "cobble-stair", "withy-point", "old-ferry")
        ),
        files=_sample,
    )
    yield Story(
        "sample-traffic",
        _lines("""
traffic mast relay --rig estuary.toml --count 10
traffic mast relay --rig estuary.toml --count 3 --json
traffic mast relay --rig estuary.toml --within 9s --count 2 --sweep spreading=7,9,power=2,14 --distance 0.1,5
traffic mast relay --rig estuary.toml --within 9s --count 2 --sweep spreading=7,12 --distance 8 --json
"""),
        files=_sample,
        wire=False,
    )
    yield Story(
        "sample-listening",
        _lines("""
listen saver --rig estuary.toml --for 1h --ask --check
listen saver --rig estuary.toml --for 2h --ask --json
listen clock --rig estuary.toml --do cold-start --until fix --for 60s --only gga
"""),
        files=_sample,
    )
    yield Story(
        "sample-imports",
        _lines("""
trace import boot.vcd
trace import boot.csv --host TXD --module RXD -l lindle-l9 -o named.jsonl
trace import terminal.log
trace import answers.bin --raw module --rate 9600 --json
trace show boot.jsonl
trace show named.jsonl --json
trace show terminal.jsonl
trace dialogue boot.jsonl -o boot.wex
rehearse boot.wex --recording boot.jsonl
trace compare boot.jsonl named.jsonl
trace export boot.jsonl -o boot.txt
lexicon draft --from boot.jsonl
"""),
        files=_sample,
    )


def served() -> Iterator[Story]:
    """What is in real time: a rig's ports, keys and power, a tap, traffic over pseudo-terminals, the demo."""
    rig = "".join(f'[unit.{name}]\nstandin = "lindle-l9"\n' for name in ("gannet-quay", "withy-point"))
    plug = '[unit.plug]\nstandin = "tamsel-k5"\n'
    firmware = _Firmware()
    words = ("tap", "./host", "gannet-quay", "-l", "lindle-l9", "--for", "3s", "--trace", "tap.jsonl")
    yield Story(
        "served",
        [
            step("rig ports"),
            step("rig key plug hold"),
            step("rig key gannet-quay hold"),
            step("rig power nobody cycle"),
            step("rig power gannet-quay cycle"),
            Step((*words, "--fault", 'answer "@err 9" to "@join"'), beside=firmware.speak),
            step("trace show tap.jsonl"),
            step("provision masts.toml gannet-quay --seat relay --tests none"),
            step("provision masts.toml withy-point --row M1 --tests none --prove power --operator rig"),
            step("traffic withy-point gannet-quay --count 3"),
            step("talk gannet-quay=gannet-quay withy=withy-point -l lindle-l9", input="@name?\nwithy: @name?\n:quit\n"),
            step("units watch --once"),
        ],
        rig + plug,
        firmware.connect,
        wire=False,
        served=True,
    )
    yield Story("demo", [step("demo"), step("demo --sample estuary")], wire=False, served=True)


class _Firmware:
    """A host that asks and sets its module: it says each line when the one before was answered."""

    def connect(self, folder: Path) -> None:
        """Puts the sample into a folder, and the host's port, called `host`."""
        _sample(folder)
        self._end, port = os.openpty()
        tty.setraw(port)
        (folder / "host").symlink_to(os.ttyname(port))

    def speak(self) -> None:
        time.sleep(0.5)
        for line in ("@who?", "@name=quay 3", "@join", "@net=99", "@save", "@name?"):
            os.write(self._end, f"{line}\n".encode())
            heard = b""
            while not heard.endswith(b"\n"):
                heard += os.read(self._end, 1)


def without_modules() -> Iterator[Story]:
    """What needs no module: help, sums, schemas, lexicons, settings, and calls that are wrong."""
    yield Story("help", [Step(())] + [Step((name, "--help")) for name in ("", *COMMANDS) if name])
    yield Story("calc", [Step(("calc", *shlex.split(line))) for line in _calc_lines()])
    yield Story(
        "lexicons",
        [step("lexicon list"), step("lexicon list --json")]
        + [step(f"lexicon check {path.name}") for path in LEXICONS]
        + [step(f"lexicon show {name} --json") for name in ("lindle-l9", "v250")],
        files=_lexicons,
    )
    yield Story("schemas", [step(f"schema {kind}") for kind in (*TITLES, "lexicon", "sheet", "trace")])
    yield Story("settings", _lines("config\nconfig --new\nconfig --json\ncompletion bash"), files=_sample)
    yield Story(
        "wrong",
        _lines("""
provison masts.toml
provision nothing.toml virtual://unit
provision masts.toml
provision broken.toml virtual://unit
readout virtual://unit -l no-such
readout virtual://none -l lindle-l9
set virtual://unit -l lindle-l9 network=999 nam=x
set virtual://unit -l lindle-l9
do virtual://unit -l lindle-l9 fly
rehearse broken.wex -l lindle-l9
calc airtime spreading=20
trace show none.jsonl
units show nobody
restore nobody virtual://unit
listen virtual://unit -l lindle-l9 --until nothing
traffic virtual://unit
lexicon check broken-lexicon.toml
"""),
        '[unit.unit]\nstandin = "lindle-l9"\n',
        _broken,
    )
    yield from (_faults(kind, paths, call) for kind, paths, call in FAULTY)


SHEETS = [path for path in sorted(SAMPLE.glob("*.toml")) if "[seat." in path.read_text()]
FAULTY = (
    ("lexicons", LEXICONS, "lexicon check faulty/{}.toml"),
    ("sheets", SHEETS, "provision faulty-{}.toml virtual://unit --plan"),
)


def _faults(kind: str, paths: list[Path], call: str) -> Story:
    """A hundred and twenty shipped files with one fault each: a key that is spelled wrong, or a value of another kind."""
    chance = random.Random(kind)
    texts = [_with_a_fault(path.read_text(), chance) for path in (paths * 120)[:120]]
    steps = [step(call.format(number)) for number in range(len(texts))]

    def files(folder: Path) -> None:
        _sample(folder)
        (folder / "faulty").mkdir()
        for one, text in zip(steps, texts, strict=True):
            (folder / next(word for word in one.words if word.endswith(".toml"))).write_text(text)

    return Story(f"faulty-{kind}", steps, files=files)


def _with_a_fault(text: str, chance: random.Random) -> str:
    lines = text.splitlines()
    assigned = [at for at, line in enumerate(lines) if re.match(r'[a-z_"].* = .*[^\[,]$', line) and '"""' not in line]
    at = chance.choice(assigned)
    pairs = list(re.finditer(r"([a-z_]+) = (\"[^\"]*\"|[0-9.]+|true|false)", lines[at]))
    if not pairs:
        lines[at] = re.sub(" = .*", " = 7", lines[at])
        return "\n".join(lines) + "\n"
    found = chance.choice(pairs)
    key, value = found[1], found[2]
    wrong = chance.choice(
        ("key", "7", "true", '"{"', '"{x"', '"5 parsecs"', '["AT", "x"]', "-1", '""', '"at-onec"', "{ x = 1 }")
    )
    put = f"{key[:1]}{key[2:]}{key[1:2]} = {value}" if wrong == "key" else f"{key} = {wrong}"
    lines[at] = lines[at][: found.start()] + put + lines[at][found.end() :]
    return "\n".join(lines) + "\n"


def _broken(folder: Path) -> None:
    _sample(folder)
    (folder / "broken.toml").write_text(
        'format = 2\ntitel = "x"\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { network = 999, nmae = "x", rate = "fast" }\n'
    )
    (folder / "broken.wex").write_text("> @name?\n< @name {name\nrepaet 3\n    > x\ncheck nane == 1\n")
    text = (SAMPLE.parent / "lexicons" / "lindle-l9.toml").read_text()
    (folder / "broken-lexicon.toml").write_text(
        text.replace('"lf"', '"xx"')
        .replace("moves_link", "move_link")
        .replace('hear = "@net {value}"', 'hear = "@net {valve}"')
    )


def _lexicons(folder: Path) -> None:
    for path in LEXICONS:
        shutil.copy(path, folder / path.name)


def _calc_lines() -> list[str]:
    return [f"{topic.name} {example}" for topic in TOPICS.values() for example in topic.examples]


STORIES = {one.name: one for one in (*families(), *samples(), *served(), *without_modules())}
assert set(WANTED) <= set(FAMILIES)
