"""A starter lexicon from the facts of a datasheet: the questions, and the commented file that the answers make.

The rule: what is written reads without an error as it stands.
"""

from __future__ import annotations

import msgspec

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
        "Answers end with: lines, silence 60ms, sentences, bytes 20ms",
        "lines",
        r"lines|sentences|(silence|bytes) \d+ms",
    ),
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


def starter_text(a: dict[str, str]) -> str:
    """The lexicon that these answers make, by the keys of QUESTIONS."""
    q = {key: msgspec.json.encode(value).decode() for key, value in a.items()}
    attention = ATTENTION[a["how"]]
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
    if a["save"]:
        text += f'\n[action.save]\ndialogue = """\n> {a["save"]}\n"""\n'
    return text
