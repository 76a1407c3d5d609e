"""A starter lexicon from the facts of a datasheet: the questions, and the commented file that the answers make.

The rule: what is written reads without an error as it stands.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from wexicon.core.standards.checksums import CHECKS

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
    ("sum", "Its sum, such as xor, sum, fletcher-8, crc-16/modbus (empty: none)", "", "|".join(("", *CHECKS))),
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
    tables += [f'{{ layer = "sum", check = "{a["sum"]}" }}'] if a["sum"] else []
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
