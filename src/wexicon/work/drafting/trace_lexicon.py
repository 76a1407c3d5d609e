"""A lexicon drafted from what a recorded session told.

The rule: the draft reads without a fault; what was guessed is marked with a question mark, what could not be told stands as a
comment.
"""

from __future__ import annotations

import re

import msgspec

from wexicon.core.protocol.recorded import Recorded
from wexicon.core.text import visible
from wexicon.work.drafting.trace_learning import Learned, LearnedGroup, Session, learn, looks_like_rate


def _quoted(text: str) -> str:
    return msgspec.json.encode(text).decode().replace("\x7f", "\\u007F")


def lexicon_from(recorded: Recorded, family: str) -> tuple[str, Session]:
    """The text of a lexicon, and what was learned."""
    found = learn(recorded)
    lines = [
        "# Drafted from a recorded session. What ends in “?” is a guess: look it up in the datasheet.",
        "format = 1",
        "",
        "[about]",
        f"family = {_quoted(family)}",
        "",
        "[link]",
        f"rate  = {found.tuning.rate}   # as delivered?",
        f'frame = "{found.tuning.frame}"',
        "",
        *_start(found),
        *_speech(found, recorded),
        *_identify(found),
    ]
    if found.actions:
        then = [name for name in ("save", "restart") if name in found.actions]
        kept = [name for name in then if name != "restart"] or then
        lines += ["[writing]", f"then = [{', '.join(map(_quoted, kept))}]   # what makes a setting persist?", ""]
    for setting in found.settings:
        lines += _setting(setting)
    for group in found.groups:
        lines += _group(group)
    for name, said in found.actions.items():
        lines += [f"[action.{name}]", *(["restarts = true"] if name == found.restart else [])]
        lines += [
            f"dialogue = {_quoted(f'> {_braced(said)}')}   # {'starts it again' if name == found.restart else 'saves'}?",
            "",
        ]
    lines += [f"# ? {visible(one)}" for one in found.questions]
    return "\n".join(lines).rstrip() + "\n", found


def _start(found: Session) -> list[str]:
    literal = [one for one in found.unasked if one][:4]
    if not literal:
        return []
    return ["[start]", f"says = [{', '.join(map(_quoted, literal))}]   # what came unasked: at a start, or events?", ""]


def _speech(found: Session, recorded: Recorded) -> list[str]:
    lines = ["[speech]", f"end     = {_quoted(found.end)}", f"answer  = {_quoted(found.form)}"]
    lines.append(f"echo    = {_quoted('on' if found.echo else 'either')}")
    lines.append(f"ok      = [{_quoted(found.ok) if found.ok else ''}]")
    lines.append(f"error   = [{', '.join(map(_quoted, found.errors))}]" + ("" if found.errors else "   # none came?"))
    lines.append(f"closing = {_quoted(found.closing)}")
    if recorded.layers:
        tables = [
            ", ".join(f"{key} = {msgspec.json.encode(value).decode()}" for key, value in one.items())
            for one in msgspec.to_builtins(recorded.layers)
        ]
        lines += ["layers  = [", *(f"    {{ {one} }}," for one in tables), "]"]
    return [*lines, ""]


def _identify(found: Session) -> list[str]:
    if found.identify is None:
        return ["# ? No question was found whose answer says who the module is.", ""]
    said, hear, names = found.identify
    ask = f"{{ say = {_quoted(said)}, hear = {_quoted(hear)} }}"
    lines = ["[attention]", f"probe = {ask}", "", "[identify]", f"ask    = [{ask}]"]
    if "model" in names:
        lines.append(f"expect = {{ model = {_quoted(names['model'])} }}")
    if "serial" in names:
        lines.append('unit   = "serial"   # the capture that no two modules share?')
    return [*lines, ""]


def _setting(one: Learned) -> list[str]:
    hear = f", hear = {_quoted(one.confirms)}" if one.confirms else ""
    seen = ", ".join(dict.fromkeys(visible(text) for text in [*one.heard, *one.said]))
    lines = [
        f"[setting.{one.name}]",
        'meaning = "?"',
        f"value   = {_kind(one)}   # seen: {seen[:80]}",
        f"read    = {{ say = {_quoted(one.reads)}, hear = {_quoted(one.hears)} }}",
        f"write   = {{ say = {_quoted(one.writes)}{hear} }}",
    ]
    if one.moves:
        lines.append(f'moves_link = "{one.moves}"   # our side moved then?')
        lines += ['then    = ["save", "restart"]'] if one.moves == "restart" else []
    return [*lines, ""]


def _group(group: LearnedGroup) -> list[str]:
    def filled(form: str) -> str:
        inserted = (
            f'"{{{name}}}"' if values[0].startswith('"') else form.format(name) for name, values in group.fields if name
        )
        parts = iter(inserted)
        return group.separator.join(next(parts) if name else "" for name, _ in group.fields)

    lines = [
        f"[group.{group.name}]",
        f"read  = {{ say = {_quoted(group.reads)}, hear = {_quoted(_braced(group.hears) + filled('{{{}:word}}'))} }}",
        f"write = {{ say = {_quoted(_braced(group.writes) + filled('{{{}}}'))} }}",
        "",
    ]
    for name, values in group.fields:
        if name:
            bare = [value.strip('"') for value in values]
            lines += [
                f"[setting.{name}]",
                'meaning = "?"',
                f"value   = {_kind_of(bare)}   # seen: {', '.join(dict.fromkeys(map(visible, bare)))[:80]}",
                f"group   = {_quoted(group.name)}",
                "",
            ]
    return lines


def _braced(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}")


def _kind(one: Learned) -> str:
    values = [*one.heard, *one.said]
    if form := re.search(r"\{value:(u\d+|chars\((\d+)\))\}", one.hears):
        return f'{{ kind = "text", max_bytes = {form[2]} }}' if form[2] else '{ kind = "int" }'
    if one.moves and one.rates:
        ((rate, code),) = one.rates.items()
        return (
            f'{{ kind = "rate", codes = {{ {rate} = {_quoted(code)} }} }}'
            if code != str(rate)
            else f'{{ kind = "rate", rates = [{rate}] }}'
        )
    if looks_like_rate(values) and one.moves:
        return f'{{ kind = "rate", rates = [{", ".join(dict.fromkeys(values))}] }}'
    if all(re.fullmatch(r"[0-9A-Fa-f]{2,4}([:.,-][0-9A-Fa-f]{2,4}){2,}|[0-9A-Fa-f]{12,16}", value) for value in values):
        written, heard = (
            "".join("X" if char.isalnum() else char for char in text) for text in (one.said[0], one.heard[0])
        )
        return f'{{ kind = "address", written = {_quoted(written)}, heard = {_quoted(heard)} }}'
    return _kind_of(values)


def _kind_of(values: list[str]) -> str:
    """A kind that has all of these values."""
    values = [value for value in values if value]
    if values and all(re.fullmatch(r"-?(0|[1-9][0-9]{0,9})", value) for value in values):
        return '{ kind = "int" }'
    if values and all(re.fullmatch(r"-?[0-9]+\.[0-9]+", value) for value in values):
        places = max(len(value.partition(".")[2]) for value in values)
        return f'{{ kind = "decimal", places = {places} }}'
    if values and all(re.fullmatch("[0-9]+", value) for value in values):
        return f'{{ kind = "digits", min = {min(map(len, values))}, max = {max(map(len, values))} }}'
    return f'{{ kind = "text", max_bytes = {max([len(value.encode()) for value in values] or [1])} }}'
