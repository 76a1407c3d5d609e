"""A lexicon written from facts: those of a datasheet, asked one by one, or those that a recorded session told.

The rule: what is written reads without an error as it stands. What was guessed is marked with a question mark, what could not
be told stands as a comment.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec

from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.standards.checksums import CHECKS
from wexicon.core.text import encodable, visible
from wexicon.work.drafting.trace_learning import LearnedFromTrace, LearnedGroup, RecordedSession, learn, looks_like_rate

# Key, question, default, and the form of the answer.
QUESTIONS = (
    ("family", "Name of the family, as on the datasheet", "", r"[a-z0-9][a-z0-9-]*"),
    ("maker", "Maker", "", r".*"),
    ("radio", "Radio: bluetooth, wi-fi, lora, mesh, cellular, gnss", "", r".*"),
    ("rate", "UART rate, factory default", "9600", r"[1-9][0-9]*"),
    ("frame", "Frame, factory default", "8N1", r"[5-8][NEO][12]"),
    (
        "how",
        "How does it listen: always, held-key, escape, control-line",
        "always",
        r"always|held-key|escape|control-line",
    ),
    ("end", "Line end: none, cr, lf, crlf", "crlf", r"none|cr|lf|crlf"),
    (
        "answer",
        "Answers are: lines, silence 60ms, sentences, bytes 20ms, frames, json",
        "lines",
        r"lines|sentences|frames|json|(silence|bytes) \d+ms",
    ),
    ("mark", "The bytes at the start of each frame, in hexadecimal (empty: none)", "", r"([0-9A-Fa-f]{2} ?)*"),
    ("length", "The form of its length: u8, u16, u16le", "u8", r"u8|u16|u16le|u32|u32le"),
    ("sum", "Its checksum, such as xor, sum, fletcher-8, crc-16/modbus (empty: none)", "", "|".join(("", *CHECKS))),
    ("ok", "Success code", "OK", r".*"),
    ("error", "Error code, {code:int} for a number", "ERROR", r".*"),
    ("probe", "A harmless line that is answered", "AT", r".+"),
    ("who", "The line that asks who it is (empty: none)", "", r".*"),
    ("heard", "What answers that, such as +WHO {model:word} {firmware:word} {serial:word}", "", r".*"),
    ("save", "The line that keeps settings over a power cycle (empty: none)", "", r".*"),
    ("setting", "Name of a first setting (empty: none)", "", r"[a-z][a-z0-9-]*|"),
    ("read", "The line that reads it", "", r".*"),
    ("hear", "What answers that, with {value}", "", r".*"),
    ("write", "The line that writes it, with {value}", "", r".*"),
    (
        "manners",
        "What else it does: pages, colours, pace, station, login, prompt, list, clock (by commas; empty: nothing)",
        "",
        r"((pages|colours|pace|station|login|prompt|list|clock)(, *|$))*",
    ),
)
# What a module does besides, as the keys of [speech] and as tables, to be completed from the datasheet.
SPEECH = {
    "pages": 'more    = { hear = "--more--", say = " " }   # what stands at the end of a page, what brings the next',
    "colours": "colours = true",
    "pace": 'pace    = "2ms"                # the pause that it needs after each character',
    "prompt": 'prompt  = "> "                 # what it sends before each line; closing = "prompt" if it ends every answer',
    "station": """layers  = [                     # the number of the module in each line, for several on one line
    { layer = "station", form = "digits(2)", before = "#", after = " ", usual = 1 },
]""",
}
TABLES = {
    "station": """
[setting.station]
meaning    = "its number on the line"
value      = { kind = "station", min = 1, max = 99 }
read       = { say = "NUMBER?", hear = "NUMBER {value}" }
write      = { say = "NUMBER {value}" }
moves_link = "at-once"          # or save, restart
""",
    "login": '''
[action.login]
dialogue = """
needs user
needs word secret
> {user}
< "word: "
> {word}
"""
''',
    "list": """
[setting.peers]
meaning = ""
value   = { kind = "list", max = 8, of = { kind = "text", max_bytes = 20 } }
read    = { say = "PEERS?", rows = "PEER {value}" }
add     = { say = "PEER ADD {value}" }
remove  = { say = "PEER DEL {value}" }
""",
    "clock": """
[setting.clock]
meaning = "its clock, in UTC"
value   = { kind = "clock", form = "%Y-%m-%d %H:%M:%S" }
read    = { say = "TIME?", hear = "TIME {value}" }
write   = { say = "TIME {value}" }
""",
}
# What makes sense in bytes and in objects too.
_ANYWHERE = ("login",)


def is_asked(key: str, answers: Mapping[str, str]) -> bool:
    """Whether a question makes sense after the answers so far."""
    if key in ("mark", "length", "sum"):
        return answers["answer"] == "frames"
    if key == "heard":
        return bool(answers["who"])
    return bool(answers["setting"]) if key in ("read", "hear", "write") else True


def _layers(a: Mapping[str, str]) -> str:
    """The layers of frames, from the outside in."""
    tables = [f'{{ layer = "mark", mark = "{a["mark"].strip()}" }}'] if a["mark"] else []
    tables += [f'{{ layer = "checksum", check = "{a["sum"]}" }}'] if a["sum"] else []
    tables.append(f'{{ layer = "length", form = "{a["length"]}" }}')
    return (
        "layers  = [                     # from the outside in\n" + "".join(f"    {one},\n" for one in tables) + "]\n"
    )


ATTENTION = {
    "always": "",
    "held-key": """rate     = 9600   # the rate of command mode, if it has its own
operator = "Hold the key, apply power, let go after one second."
""",
    "escape": """escape = "+++"
guard  = "1s"    # silence before and after
answer = "OK"    # what answers it
""",
    "control-line": """pins     = { dtr = true }   # how the pins stand while it listens
operator = "Put the mode pin to high."
""",
}


def starter_text(a: Mapping[str, str]) -> str:
    """The lexicon that these answers make, by the keys of QUESTIONS."""
    manners = [one.strip() for one in a["manners"].split(",") if one.strip()]
    plain = a["answer"] == "lines" or a["answer"].startswith("silence")
    fitting = [one for one in manners if plain or one in _ANYWHERE]
    lines = "".join(SPEECH[one] + "\n" for one in fitting if one in SPEECH)
    more = _layers(a) if a["answer"] == "frames" else lines
    q = {key: msgspec.json.encode(value).decode() for key, value in a.items()}
    attention = ATTENTION[a["how"]]
    if "login" in manners:
        attention += (
            'locked = ["login: "]            # what it sends, with no line end, while it asks\nunlock = "login"\n'
        )
    text = f"""# {a["family"]}: written from its datasheet. docs/lexicon.md explains every key.
format = 1

[about]
family = {q["family"]}
maker  = {q["maker"]}
radio  = {q["radio"]}

[link]
rate  = {a["rate"]}
frame = {q["frame"]}

[attention]
how   = {q["how"]}
probe = {{ say = {q["probe"]} }}
{attention}
[speech]
end     = {q["end"]}
answer  = {q["answer"]}
echo    = "either"              # on, off, or either
ok      = [{q["ok"] if a["ok"] else ""}]
error   = [{q["error"] if a["error"] else ""}]
closing = "either"              # does the success code follow every answer: always, alone, either
within  = "1s"
{more}
# What the error numbers mean.
[errors]

# What it sends without being asked.
[events]
"""
    if a["who"]:
        text += f"\n[identify]\nask = [{{ say = {q['who']}, hear = {q['heard']} }}]\n"
    if a["save"]:
        text += '\n[writing]\nthen = ["save"]                 # what a written setting needs to persist\n'
    if a["setting"]:
        text += f"""
[setting.{a["setting"]}]
meaning = ""
value   = {{ kind = "text", max_bytes = 20 }}   # or int, decimal, choice, flag, rate, frame, digits, address, hex, timer, tuple
read    = {{ say = {q["read"]}, hear = {q["hear"]} }}
write   = {{ say = {q["write"]} }}
"""
    text += "".join(TABLES[one] for one in fitting if one in TABLES)
    if a["save"]:
        text += f'\n[action.save]\ndialogue = """\n> {a["save"]}\n"""\n'
    return text


def _quoted(text: str) -> str:
    return msgspec.json.encode(text).decode().replace("\x7f", "\\u007F")


def lexicon_from(recorded: Recorded, family: str) -> tuple[str, RecordedSession]:
    """The text of a lexicon, and what was learned; a line that was said and is no text is an open question."""
    plain = [one for one in recorded.exchanges if _is_text(one)]
    odd = [one for one in recorded.exchanges if one not in plain]
    found = learn(msgspec.structs.replace(recorded, exchanges=plain) if odd else recorded)
    found.questions += [f"{one.said!r} was said, and not all of it is text" for one in odd if one.said]
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


def _is_text(one: RecordedExchange) -> bool:
    """Whether what was said can be seen, and what was heard is UTF-8."""
    said, heard = (one.said or "").strip(), "".join(text for _, text, _ in one.heard)
    return visible(said).replace("\\\\", "\\") == said and encodable(heard) == heard


def _start(found: RecordedSession) -> list[str]:
    literal = [one for one in found.unasked if one][:4]
    if not literal:
        return []
    return ["[start]", f"says = [{', '.join(map(_quoted, literal))}]   # what came unasked: at a start, or events?", ""]


def _speech(found: RecordedSession, recorded: Recorded) -> list[str]:
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


def _identify(found: RecordedSession) -> list[str]:
    if found.identify is None:
        return ["# ? No question was found whose answer says who the module is.", ""]
    said, hear, names = found.identify
    ask = f"{{ say = {_quoted(said)}, hear = {_quoted(hear)} }}"
    lines = ["[attention]", f"probe = {ask}", "", "[identify]", f"ask    = [{ask}]"]
    if "model" in names:
        lines.append(f"must = {{ model = {_quoted(names['model'])} }}")
    if "serial" in names:
        lines.append('unit   = "serial"   # the capture that no two modules share?')
    return [*lines, ""]


def _setting(one: LearnedFromTrace) -> list[str]:
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


def _kind(one: LearnedFromTrace) -> str:
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
