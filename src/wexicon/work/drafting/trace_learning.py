"""What a recorded session tells of a module's words: result codes, settings with their lines, actions, who it is, events.

The rule: only what was said and heard counts, never what a lexicon made of it. A setting is believed where the answer to a
question changed to what a line had said in between; what cannot be told is a question for the datasheet.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

import msgspec

from wexicon.core.protocol.keyed import flat
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.text import HIDDEN, garbled
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.work.drafting.trace_flows import TOKEN, Flow, Spot, TraceTurn, flows_of, is_hex

# Words that begin, or stand in, a result code for an error.
_ERROR = re.compile(
    r"^\W*(?:[\w ]{0,12}\b|\w*)(?:err|error|fault|fail\w*|refus\w*|denied|invalid|bad|no|not|nak)\b|^\?", re.IGNORECASE
)
# The checksum of a sentence (NMEA 0183) is no part of what it says.
_CHECKSUM = re.compile(r"(?<=[^*])\*[0-9A-Fa-f]{2}$")


class LearnedFromTrace(msgspec.Struct):
    """One setting: the name made for it; the line that reads it and its answer, the line that writes it, with {value}; the
    values that were seen, as heard and as said."""

    name: str
    reads: str
    hears: str
    writes: str
    heard: list[str]
    said: list[str]
    # What confirmed it, if that is more than the success code.
    confirms: str = ""
    # How our side moved after it, and when: at-once, or after the action of this name.
    rates: dict[int, str] = {}
    moves: str = ""


class LearnedGroup(msgspec.Struct):
    """Settings that are said together in one line and answered together: the question, what is before the fields in its answer
    and in the line that writes, what parts them, and each field with its values as heard and said; a field without a name is
    always the same."""

    name: str
    reads: str
    hears: str
    writes: str
    fields: list[tuple[str, list[str]]]
    separator: str = ","


class RecordedSession(msgspec.Struct):
    """All that was learned. `groups` are settings that are said and answered together; `actions` the lines that were only
    acknowledged, by a name; `unasked` what came without a question; `questions` what could not be told."""

    end: str
    form: str
    tuning: Tuning
    ok: str = ""
    closing: str = "alone"
    errors: list[str] = []
    identify: tuple[str, str, dict[str, str]] | None = None
    settings: list[LearnedFromTrace] = []
    groups: list[LearnedGroup] = []
    actions: dict[str, str] = {}
    restart: str = ""
    unasked: list[str] = []
    questions: list[str] = []
    echo: bool = False


def learn(recorded: Recorded) -> RecordedSession:
    """What a recorded session tells."""
    made = RecordedSession(recorded.end, recorded.form, recorded.tuning)
    pairs = [(one, _lines(one.said or "", [text for _, text, _ in one.heard])) for one in _whole(recorded)]
    if made.form == "json":
        pairs = [(one, [leaf for line in lines for leaf in _leaves(line)]) for one, lines in pairs]
    spoken = [(one, lines) for one, lines in pairs if one.said and one.said.strip() and not one.exact]
    answered = [(one.said or "", lines) for one, lines in spoken if lines]
    made.echo = any(text == one.said for one in recorded.exchanges for _, text, _ in one.heard if one.said)
    made.ok, made.closing, made.errors = _results(answered)
    turns = [
        TraceTurn(number, one.said or "", *_split(made, lines), one.tuning)
        for number, (one, lines) in enumerate(spoken)
    ]
    made.unasked = _unasked(made, recorded, turns)
    for turn in turns:
        turn.body = [line for line in turn.body if line not in made.unasked]
    made.tuning = next((turn.tuning for turn in turns if turn.body or turn.result), recorded.tuning)
    made.identify = _identity(turns)
    # The whole of an object's line is no value.
    flows = [one for one in flows_of(turns) if one[3].before or made.form != "json"]
    made.groups, single = _groups(flows)
    made.settings = _settings(single)
    written = {turn.said for turn, _, _, _ in flows}
    _actions(made, turns, written)
    _moves(made, turns, flows)
    known = (
        {one.reads for one in made.settings} | {one.reads for one in made.groups} | written | set(made.actions.values())
    )
    known |= {made.identify[0]} if made.identify else set()
    others = dict.fromkeys(turn.said for turn in turns if turn.said not in known and (turn.body or turn.result))
    made.questions = [f"“{said}” was answered {_answer_of(turns, said)}: what is it?" for said in list(others)[:40]]
    return made


def _whole(recorded: Recorded) -> list[RecordedExchange]:
    """The exchanges, each with what came after a single key that only turned a page."""
    made: list[RecordedExchange] = []
    for one in recorded.exchanges:
        if made and one.exact and one.said is not None and len(one.said) == 1 and one.said.isprintable():
            made[-1] = msgspec.structs.replace(made[-1], heard=[*made[-1].heard, *one.heard])
        else:
            made.append(one)
    return made


def _answer_of(turns: Sequence[TraceTurn], said: str) -> str:
    turn = next(turn for turn in turns if turn.said == said)
    return "“" + "”, “".join([*turn.body[:3], *([turn.result] if turn.result else [])]) + "”"


def _lines(said: str, heard: Sequence[str]) -> list[str]:
    """The lines of an answer, our own words and garbage left out."""
    lines = [_CHECKSUM.sub("", text) for text in heard if text.strip() and not garbled(text) and "\x1b" not in text]
    return lines[1:] if lines and lines[0] == said else lines


def _leaves(line: str) -> list[str]:
    """A line that is an object, as a line for each of its keys and values; whether it is a success stands last."""
    found = flat(line)
    if found is None:
        return [line]
    leaves = [f"{key} {value}" for key, value in found.items() if not value.startswith("{")]
    # Keys come in any order.
    return sorted(leaves, key=lambda leaf: (leaf in ("ok true", "ok false"), leaf))


def _results(answered: Sequence[tuple[str, list[str]]]) -> tuple[str, str, list[str]]:
    """The success code, whether it follows every answer, and the patterns of errors."""
    last: dict[str, set[str]] = {}
    for said, lines in answered:
        last.setdefault(lines[-1], set()).add(said)
    several = {line: len(commands) for line, commands in last.items() if len(commands) > 1 and not _ERROR.match(line)}
    ok = max(several, key=lambda line: (several[line], -len(line)), default="")
    errors: dict[str, None] = {}
    for _, lines in answered:
        if lines[-1] != ok and len(lines) == 1 and _ERROR.match(lines[-1]):
            errors[_escaped(re.sub(r"[0-9]+", "\0", lines[-1], count=1)).replace("\0", "{code:int}")] = None
    behind = sum(len(lines) > 1 and lines[-1] == ok for _, lines in answered)
    bare = sum(lines[-1] != ok and not _ERROR.match(lines[-1]) for _, lines in answered)
    return ok, "always" if ok and behind > bare else "alone", list(errors)


def _escaped(text: str) -> str:
    return text.replace("{", "{{").replace("}", "}}").replace("...", "{...}")


def _split(made: RecordedSession, lines: list[str]) -> tuple[list[str], str]:
    """The body of an answer, and the result behind it."""
    if not lines:
        return [], ""
    is_error = len(lines) == 1 and bool(_ERROR.match(lines[-1]))
    if lines[-1] == made.ok or (is_error and lines[-1] != made.ok):
        return lines[:-1], lines[-1]
    if made.ok in lines:
        # What stands behind the success code came by itself.
        at = lines.index(made.ok)
        return lines[:at], made.ok
    return lines, ""


def _unasked(made: RecordedSession, recorded: Recorded, turns: Sequence[TraceTurn]) -> list[str]:
    """Lines that came before anything was said, or behind a success code."""
    found: dict[str, None] = {}
    for one in recorded.exchanges:
        lines = _lines(one.said or "", [text for _, text, _ in one.heard])
        if one.said is None:
            found |= dict.fromkeys(lines)
        elif made.ok in lines:
            found |= dict.fromkeys(line for line in lines[lines.index(made.ok) + 1 :] if line != made.ok)
    answers = Counter(line for turn in turns for line in turn.body)
    return [line for line in found if answers[line] < 2]


# -- who it is ------------------------------------------------------------------------------------------------------------


def _identity(turns: Sequence[TraceTurn]) -> tuple[str, str, dict[str, str]] | None:
    """The question that was asked most often and was always answered alike with a number of its own."""
    bodies: dict[str, set[tuple[str, ...]]] = {}
    counts = Counter(turn.said for turn in turns if turn.body)
    for turn in turns:
        if turn.body:
            bodies.setdefault(turn.said, set()).add(tuple(turn.body))
    fit = {
        said: next(iter(found))
        for said, found in bodies.items()
        if len(found) == 1
        and len(next(iter(found))) == 1
        and counts[said] > 1
        and re.search("[0-9]", next(iter(found))[0])
    }
    fit = {said: body for said, body in fit.items() if len(TOKEN.findall(body[0])) > 1}
    said = max(fit, key=lambda one: counts[one], default="")
    if not said:
        return None
    line, names = fit[said][0], {}
    hear, at = "", 0
    for index, found in enumerate(TOKEN.finditer(line)):
        token = found[0]
        hear += _escaped(line[at : found.start()])
        at = found.end()
        bare = token.strip('"')
        name = (
            "firmware"
            if re.fullmatch(r"[A-Za-z]?[0-9]+(\.[0-9]+)+\w*", bare) and "firmware" not in names
            else "model"
            if "model" not in names and re.search("[A-Za-z]", bare) and (index or re.search("[0-9]", bare))
            else "serial"
            if len(re.findall("[0-9A-Fa-f]", bare)) > 3 and re.search("[0-9]", bare) and "serial" not in names
            else ""
        )
        if not name or (index == 0 and re.match(r"[^A-Za-z0-9]", token)):
            hear += _escaped(token)
            continue
        names[name] = bare
        hear += (
            f'"{{{name}}}"'
            if token.startswith('"')
            else f"{{{name}:word}}"
            if re.fullmatch(r"[^\s,;\"()=]+", token)
            else f"{{{name}}}"
        )
    return said, hear + _escaped(line[at:]), names


def _groups(flows: Sequence[Flow]) -> tuple[list[LearnedGroup], list[Flow]]:
    """Lines whose fields are as many as those of the answer and of which several changed, or some are empty; the other
    flows."""
    made: dict[tuple[str, str], LearnedGroup] = {}
    single: list[Flow] = []
    for flow in flows:
        write, read, _, heard = flow
        asked, told = _fields(write.said), _fields(read.body[0])
        together = sum(one[0].said == write.said and one[1].body == read.body for one in flows)
        if asked is None or told is None or len(asked[1]) != len(told[1]) or (together < 2 and "" not in asked[1]):
            single.append(flow)
            continue
        key = (asked[0], read.said)
        if key not in made:
            name = _name(Spot(asked[0], "x", ""), heard, {one.name for one in made.values()})
            bare = name.replace("-", "_")
            fields = [
                (f"{bare}_{index}" if one or other else "", [one, other])
                for index, (one, other) in enumerate(zip(told[1], asked[1], strict=True), 1)
            ]
            made[key] = LearnedGroup(name, read.said, told[0], asked[0], fields)
    return list(made.values()), single


def _fields(line: str) -> tuple[str, list[str]] | None:
    """A line with several fields between commas: what is before them, and the fields."""
    found = re.fullmatch(r"([^,]*[=: ])([^=: ]*,.*)", line)
    return (found[1], [one.strip() for one in found[2].split(",")]) if found else None


def _settings(flows: Sequence[Flow]) -> list[LearnedFromTrace]:
    """One setting for each line that writes and the question that reads it."""
    made: dict[tuple[str, str], LearnedFromTrace] = {}
    for write, read, said, heard in flows:
        key = (said.before, said.behind)
        form = _form(heard.text) if is_hex(heard.before + heard.text) and not said.behind else ""
        hears = f"{_escaped(heard.before)}{{value{form and f':{form}'}}}{_escaped(heard.behind)}"
        writes = f"{_escaped(said.before)}{{value{form and f'|{form}'}}}{_escaped(said.behind)}"
        confirms = _escaped(write.body[0]).replace(_escaped(said.text), "{value}") if len(write.body) == 1 else ""
        if key in made:
            made[key].heard.append(heard.text)
            made[key].said.append(said.text)
            continue
        name = _name(said, heard, {one.name for one in made.values()})
        made[key] = LearnedFromTrace(name, read.said, hears, writes, [heard.text], [said.text], confirms)
    return list(made.values())


def _form(digits: str) -> str:
    """The form of a field of bytes."""
    size = len(digits) // 2
    text = bytes.fromhex(digits).rstrip(b"\0")
    if size > 4 or (size > 2 and text.isalnum()):
        return f"chars({size})" if text.isascii() and text.decode().isprintable() else ""
    return f"u{8 * size}"


def _name(said: Spot, heard: Spot, taken: set[str]) -> str:
    """A name for a setting: the last word before its value."""
    words = [*re.findall(r"[A-Za-z][A-Za-z0-9-]*", heard.before), *re.findall(r"[A-Za-z][A-Za-z0-9-]*", said.before)]
    word = (words[-1] if words else "setting").lower().removeprefix("at")
    word = re.sub(r"[^a-z0-9-]", "", word) or "setting"
    return next(one for one in (word, *(f"{word}-{n}" for n in range(2, 1000))) if one not in taken)


# -- actions, rates -------------------------------------------------------------------------------------------------------


def _actions(made: RecordedSession, turns: Sequence[TraceTurn], written: set[str]) -> None:
    """Lines that were only acknowledged, after the first write: what saves, and what starts it again."""
    first = min((turn.number for turn in turns if turn.said in written), default=0)
    questions = {turn.said for turn in turns if turn.body} | {turn.said for turn in turns[:first]}
    for turn in turns[first:]:
        bare = (
            turn.said not in written
            and turn.said not in questions
            and (turn.result == made.ok != "" or not turn.result)
        )
        if (
            not bare
            or turn.said in made.actions.values()
            or HIDDEN in turn.said
            or not re.search("[A-Za-z0-9]", turn.said)
        ):
            continue
        following = turns[turn.number + 1] if turn.number + 1 < len(turns) else None
        if following is not None and following.tuning != turn.tuning and _says_rate(turn.said, following.tuning.rate):
            continue
        again = following is not None and made.identify is not None and following.said == made.identify[0]
        # It does not answer, or what it is asked next does not.
        silent = not (turn.body or turn.result) or (
            following is not None and following.said in questions and not (following.body or following.result)
        )
        restarts = bool(made.actions or not again) and (silent or following is None or following.tuning != turn.tuning)
        if restarts and not made.restart:
            made.restart = "restart"
            made.actions["restart"] = turn.said
        elif "save" not in made.actions:
            made.actions["save"] = turn.said
        elif not made.restart:
            made.restart = "restart"
            made.actions["restart"] = turn.said


def _moves(made: RecordedSession, turns: Sequence[TraceTurn], flows: Sequence[Flow]) -> None:
    """Which setting moved our side: its value is the new rate, or stands for it."""
    answered = [turn for turn in turns if turn.body or turn.result]
    for before, after in pairwise(answered):
        old, new = before.tuning.rate, after.tuning.rate
        if old == new:
            continue
        writes = [(turn, said) for turn, _, said, _ in flows if turn.number < after.number]
        latest = max((turn.number for turn in turns if turn.said in {one.said for one, _ in writes}), default=-1)
        # Its value is the rate, or it was said last.
        fits = [one for one in writes if one[1].text == str(new)] or [one for one in writes if one[0].number == latest]
        questions = {turn.said for turn in turns if turn.body and turn.said not in {one.said for one, _ in writes}}
        others = questions | set(made.actions.values())
        fits = [
            one for one in fits if not any(turn.said not in others for turn in turns[one[0].number + 1 : before.number])
        ]
        # Another line that names the rate has moved it.
        names = [turn.said for turn in turns[: after.number] if _says_rate(turn.said, new)]
        if names and names[-1] not in {turn.said for turn, _ in fits}:
            continue
        for turn, said in fits[:1]:
            setting = next(
                (
                    one
                    for one in made.settings
                    if said.text in one.said and one.writes.startswith(_escaped(said.before))
                ),
                None,
            )
            if setting is None:
                continue
            setting.rates = {new: said.text}
            setting.moves = "at-once" if before.number <= turn.number + 1 else "restart" if made.restart else "save"
            if setting.heard[-1] not in (str(new), said.text):
                setting.rates = {}


def _says_rate(said: str, rate: int) -> bool:
    return re.search(rf"(?<!\d){rate}(?!\d)", said) is not None


def looks_like_rate(values: Sequence[str]) -> bool:
    """Whether all of these are usual rates."""
    return bool(values) and all(value.isdigit() and int(value) in USUAL_RATES for value in values)
