"""The reader of what is said: what a lexicon encodes is read again as the same, however the bytes come."""

from __future__ import annotations

import random

import pytest

from tests.conftest import Bench
from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.formats.lexicon.blocks import put_bits
from wexicon.core.module_state.forms import Does
from wexicon.core.module_state.reader import Reader, said_secrets
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.values import UNSET, ChoiceKind, Flag, Int, List, Text, Value, ValueFault
from wexicon.rigs.standins import FAMILIES as STANDINS
from wexicon.work.contact.catalog import all_lexicons

FAMILIES = {one.about.family: one for one in all_lexicons()}
# What texts consist of that are put into lines.
LETTERS = "abzAQZ059 _-.+äΩ"
HARD = '\\",;='
LISTED = {
    "peers": ["02A15C00218E", "02A15C00218F"],
    "networks": ["withy-point", "gannet-quay"],
    "routes": ["12", "14"],
}
ARGUMENTS = {
    "int": "7",
    "decimal": "1.5",
    "hex": "0AFF",
    "address": "02:A1:5C:00:21:8E",
    "word": "quay",
    "digits": "4711",
}


def values(setting: Setting, chance: random.Random) -> list[Value]:
    """Allowed values of a setting: those that the kind knows, and texts and numbers by chance."""
    kind, found = setting.kind, []
    alone = not setting.in_group or setting.write or setting.unset is not None
    tried: list[object] = [setting.factory, *(UNSET for _ in range(bool(alone and setting.may_be_unset())))]
    if isinstance(kind, Text):
        tried += ["".join(chance.choices(LETTERS + HARD, k=chance.randint(1, 12))) for _ in range(40)]
        tried += ["".join(chance.choices("0123456789", k=size)) for size in range(1, 12)]
    if isinstance(kind, Int):
        tried += [chance.randint(-70000, 70000) for _ in range(100)] + list(range(-40, 260))
    if isinstance(kind, ChoiceKind | Flag):
        tried += [*getattr(kind, "codes", ()), True, False]
    if setting.factory not in (None, UNSET) and not isinstance(kind, List):
        tried += list(kind.others(setting.factory))
    for one in tried:
        try:
            value = setting.check(one)
        except ValueFault:
            continue
        if value not in found:
            found.append(value)
    return chance.sample(found, min(16, len(found)))


def lines(lexicon: Lexicon, chance: random.Random) -> list[tuple[str, dict[str, Value]]]:
    """Every write of a lexicon as its module is told it, with what it writes."""
    bench = Bench(lexicon.about.family)
    module = bench.module()
    made = []
    for name, setting in lexicon.settings.items():
        group = setting.in_group
        members = [one for one in lexicon.settings.values() if one.in_group is group] if group and group.write else []
        if setting.add and setting.remove and isinstance(setting.kind, List):
            for item in setting.kind.items(setting.check(LISTED[name])):
                filled = {"value": setting.kind.of.encode(item), "index": "2"}
                for phrase in (setting.add, setting.remove):
                    made.append((phrase.say.fill(filled).text, {name: item} if "value" in phrase.say.names else {}))
            continue
        if not setting.writable:
            continue
        for value in values(setting, chance):
            if group and group.size and not setting.write and value is not UNSET:
                number = {name: int(setting.kind.encode(value))}
                block = put_bits(group, bytes(group.size), number, {name: setting.place} if setting.place else {})
                made.append((group.write.say.fill({"block": block}).text if group.write else "", {name: value}))
                continue
            others = {
                one.name: next((found for found in values(one, chance) if found is not UNSET), None)
                for one in members
                if one.name != name
            }
            if None in others.values():
                continue
            try:
                said, _, _ = module.settings.line_for({name: value}, others)  # type: ignore[arg-type]
            except Exception:  # a value that cannot be said by this lexicon
                continue
            case = group.line_for({**others, name: value}) if group and not setting.write else None
            wrote = {name: value, **(others if group and not setting.write and not case else {})}
            made.append((said.text, {} if case else wrote))
    return made


@pytest.mark.parametrize("family", sorted({*FAMILIES} & {*STANDINS}))
def test_every_write_of_a_lexicon_is_read_again(family: str) -> None:
    lexicon, chance = FAMILIES[family], random.Random(family)
    reader, count = Reader(lexicon), 0
    for text, wrote in lines(lexicon, chance):
        (part,) = reader.line(text)
        reader.answered()
        assert part.does is Does.WRITES, text
        assert part.as_written
        # The payload has the value of such a line.
        if part.form and part.form.payload is None:
            assert {name: part.values[name] for name in wrote if name in part.values} == wrote, text
        count += 1
    assert count or not any(one.writable for one in lexicon.settings.values())


@pytest.mark.parametrize("family", sorted({*FAMILIES} & {*STANDINS}))
def test_every_line_of_an_action_is_read_with_its_arguments(family: str) -> None:
    lexicon = FAMILIES[family]
    reader = Reader(lexicon)
    for action in lexicon.actions.values():
        kinds = {need.name: need.kind for need in action.program.needs()}
        for form in (one for one in reader.forms if one.name == action.name and one.does in (Does.ACTS, Does.LOGS_IN)):
            given = {name: ARGUMENTS.get(kinds.get(name, ""), "quay 3") for name in form.template.names}
            try:
                text = form.template.fill(
                    given, quoting=lexicon.speech.quoting, encode=lambda of, value: str(value)
                ).text
            except InsertionFault:
                continue
            (part,) = reader.line(text)
            reader.answered()
            if not form.fixed:
                continue  # a login: only its prompt tells it
            other = part.form and (part.form.own or not form.own)
            assert part.name == action.name or part.does in (Does.WRITES, Does.ASKS) or other, text
            if part.name == action.name and not any(
                "value(" in one for _, ones in form.template.insertions() for one in ones
            ):
                lengths = {name for name, filters in form.template.insertions() if filters == ["length"]}
                told = {name: value for name, value in given.items() if name not in lengths}
                assert {name: part.words.get(name, "") for name in told} == told, text


def test_a_command_line_is_cut_as_v250_does() -> None:
    reader = Reader(FAMILIES["cordal-g2"])
    parts = reader.line('at e0 +clip=1; +CMGF = 1;+CPIN="4711"')
    assert [(one.does, one.name) for one in parts] == [
        (Does.ACTS, "echo-off"),
        (Does.WRITES, "caller-id"),
        (Does.WRITES, "messages"),
        (Does.ACTS, "unlock"),
    ]
    assert reader.masked('at e0 +clip=1; +CMGF = 1;+CPIN="4711"', parts) == 'at e0 +clip=1; +CMGF = 1;+CPIN="(secret)"'
    again = reader.line("A/")
    assert [one.name for one in again] == ["echo-off", "caller-id", "messages", "unlock"] and again[0].repeated
    (typed,) = reader.line("AT+CLIPX\b=\x000")
    assert (typed.name, typed.values, typed.as_written) == ("caller-id", {"caller-id": False}, False)
    for text in ("AT+UNHEARD=1", "hello", "AT+CLIP", "AT+CLIP=9"):
        (part,) = reader.line(text)
        assert not part.values


def test_a_payload_is_read_until_it_ends() -> None:
    reader = Reader(FAMILIES["brisca-w1"])
    (part,) = reader.line("AT+POST 1 5")
    assert (part.does, part.name) == (Does.ACTS, "send")
    assert reader.takes(b"hello") == 0  # its prompt has not come
    reader.prompted()
    assert reader.takes(b"hello world") == 5
    assert reader.piece(b"hel") is None
    made = reader.piece(b"lo")
    assert made and (made.does, made.name, made.text, made.secrets) == (Does.PAYLOAD, "send", "hello", ())
    assert reader.payload is None
    reader.line('AT+FILE="key",9')
    secret = reader.line("-----KEY-")  # said before the prompt came
    assert secret[0].does is Does.PAYLOAD and secret[0].secrets == ((0, 9),)
    reader.line("AT+POST 1 5")
    reader.prompted()
    assert reader.takes(b"\x1b") == 1 and reader.piece(b"\x1b") and reader.payload is None


def ways(lead: str, value: str, tail: str) -> list[str]:
    """One line with a secret, in ways that nobody listed: other case, blanks, several commands, corrections while typing."""
    line = f"{lead}{value}{tail}"
    found = [
        line,
        line.lower(),
        f"  {line}",
        f"{line}  ",
        f"{lead.lower()}  {value}{tail}",
        f"{lead}{value}",
        f"{lead}{value[:-1]}",
    ]
    found += ["".join(f"{char}\0" for char in line), f"{lead}x\b{value}{tail}", f"{lead}{value}y\x7f{tail}"]
    found += [
        line.upper(),
        line.swapcase(),
        f"\t{line}",
        f"{line}\t",
        f"{lead}{value}{tail} {value}",
        f"{line} ; {line}",
    ]
    found += [
        f"{lead}0000\b\b\b\b{value}{tail}",
        f"{lead}{value[:4]}00\x7f\x7f{value[4:]}{tail}",
        f"x\b{line}",
        f"\0{line}",
    ]
    found += [
        f'{lead}"{value}"{tail}',
        f'{lead}{value}"{tail}',
        f"{lead}'{value}'{tail}",
        f"{lead}{value},1{tail}",
        f"{lead},{value}",
    ]
    found += [f"{lead}{value}{value}{tail}", f"{lead}-{value}{tail}"]
    if lead[:2] == "AT":
        spaced = f"A T {' '.join(lead[2:])}{value}{tail}"
        found += [spaced, f"ATE0{line[2:]}", f"AT;{line[2:]}", f"ATE0V1{line[2:]}", f"AT+X=1;{line[2:]}", f"{line};+X?"]
        found += [
            f"ATI;{line[2:]};I",
            f"ATE0Q0V1&C1{line[2:]}",
            f"{line};",
            f"AT;;{line[2:]}",
            f'AT+X="a;b";{line[2:]}',
        ]
        found += [f"AT+X;+Y=2;{line[2:]};+Z", f"at+x=1 ; {line[2:]}", f"ATS3=13{line[2:]}", f"AT&K0{line[2:]}"]
    return found


@pytest.mark.parametrize("family", sorted({*FAMILIES} & {*STANDINS}))
def test_a_secret_is_found_however_its_line_is_said(family: str) -> None:
    lexicon = FAMILIES[family]
    reader = Reader(lexicon)
    for form in reader.forms:
        names = [name for name, _ in form.template.insertions()]
        if not form.fixed or not form.secret.intersection(names) or len(names) != 1 or form.payload:
            continue
        value = "73194628"
        said = form.template.fill({names[0]: value}, quoting=lexicon.speech.quoting).text
        lead, _, tail = said.partition(value)
        for text in ways(lead, value, tail):
            parts = reader.read(text)
            shown = reader.masked(text, parts).replace("\0", "")
            assert value[:5] not in shown, (text, shown)
            learned = [*said_secrets(text, parts)]
            assert any(value.startswith(one) or value in one for one in learned), (
                text,
                learned,
            )
