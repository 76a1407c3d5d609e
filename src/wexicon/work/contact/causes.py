"""What it points to when a module does not answer as it should, and what to do next.

The rule: a cause is only named when something that was heard, or not heard, points to it; that evidence is reported with it.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import pairwise

import msgspec

from wexicon.core.formats.lexicon import AttentionBy, Lexicon
from wexicon.core.module_state.starts import is_start_text
from wexicon.core.protocol.dialect import Dialect, ReplyStatus
from wexicon.core.protocol.layers import Checksum
from wexicon.core.results.listed import Came, Cause
from wexicon.core.text import counted, garbled, one_of, spoken, to_bytes, to_text, visible
from wexicon.core.tuning import Tuning

SHOWN = 60
# What may be wrong, in one word each.
KINDS = {
    "silence": "nothing is heard at any rate: wires, power, ground, reset, sleep",
    "garbage": "the module speaks at another rate",
    "echo": "only our own lines come back",
    "line-end": "the module is there and does not take our lines",
    "errors": "an error to every line",
    "half": "some commands are answered, others not: the key was let go",
    "command-rate": "it listens at another rate than the lexicon says",
    "data-mode": "it has power and is in data mode",
    "peer": "a peer is connected: everything passes through as data",
    "window": "the time after power-up in which it listens was missed",
    "moved": "it answered until its rate was changed",
    "restarting": "it starts again and again",
    "prompt": "it waits for a payload",
    "locked": "it must be unlocked first",
    "answers": "something else answers",
    "payload": "it waits for the rest of a payload",
    "half-line": "it had half a line from before",
    "spelling": "a line that the lexicon writes with other capitals or blanks",
    "late": "its answers take longer than they are waited for",
    "asleep": "it sleeps",
}


class Try(msgspec.Struct, frozen=True):
    """One attempt to be answered: our settings, the command, how it ended, the bytes received, how many seconds
    that took, whether our own line came back."""

    tuning: Tuning
    end: str
    said: str
    status: ReplyStatus
    heard: tuple[str, ...]
    lasted: float = 0.0
    echoed: bool = False


class Overheard(msgspec.Struct, frozen=True):
    """What came on a link while nothing was known of the module: how our side was tuned, the line end and the words of what
    was asked (empty: nothing), the bytes, the seconds that they took, their frame, and what they were: `nothing`,
    `garbage`, `echo` or `words`."""

    tuning: Tuning
    end: str
    said: str
    data: bytes
    lasted: float = 0.0
    frame: str = "8N1"
    came: Came = Came.NOTHING

    @property
    def _whole(self) -> list[str]:
        return [line.strip() for line in re.split("[\r\n]+", to_text(self.data)) if line.strip()]

    @property
    def echoed(self) -> bool:
        """Whether our own words are among it: as a line, or in front of the answer. One character in front of a line may as
        well be the module's: each answer of some begins with the sign that begins a command."""
        whole = self._whole
        ahead = len(self.said) > 1 and any(line.startswith(self.said) for line in whole[:1])
        return bool(self.said) and (self.said in whole or ahead)

    @property
    def lines(self) -> list[str]:
        """The lines of it, without our own words."""
        whole = self._whole
        if self.said in whole:
            whole.remove(self.said)
        elif self.said and whole and whole[0].startswith(self.said):
            whole[0] = whole[0].removeprefix(self.said).strip()
        return [line for line in whole if line]

    def told(self, dialect: Dialect) -> list[str]:
        """What came, as a lexicon with this dialect would have it; of sentences only those whose checksum is right."""
        if dialect.speech.in_digits or dialect.speech.layers:
            return dialect.read(self.data)
        if dialect.form != "sentences":
            return self.lines
        right = [one for one in Checksum().feed(self.lines) if isinstance(one, str) and one[:1] in ("$", "!")]
        return [*right, *(one[:-3] for one in right)]


def intelligible(text: str) -> bool:
    """Whether this may be text: a few characters of garbage often look like letters."""
    return len(text.strip()) > 2 and text.isascii() and not garbled(text) and sum(map(str.isalnum, text)) > 1


def makes_sense(lexicon: Lexicon, heard: Iterable[str]) -> bool:
    """Whether this contains a word of the family, or of any family. Binary data can only be the family's."""
    of_bytes = lexicon.speech.in_digits
    return any(is_own(lexicon, text) or (not of_bytes and intelligible(text)) for text in heard)


def point_to(
    tries: Sequence[Try],
    lexicon: Lexicon,
    data_links: Iterable[Tuning] = (),
    moved: tuple[Tuning, Tuning] | None = None,
) -> Cause:
    """The cause that all attempts together point to. `data_links` are links on which the module may be in data mode, `moved`
    the links between which it was ordered to go just before."""
    plain = [(one, text) for one in tries for text in one.heard if makes_sense(lexicon, [text])]
    own = [(one, text) for one, text in plain if is_own(lexicon, text)]
    texts = [text for one in tries for text in one.heard]
    known = _by_words(texts, [lexicon])
    if known:
        return known
    if own:
        return _own_words(own, tries, lexicon, data_links)
    if plain:
        one, text = plain[-1]
        passed = " Or the module is in data mode, and its peer answers: then its key was not held."
        return Cause(
            "answers",
            f"unknown answer at {one.tuning}, not from {lexicon.about.family}: “{_short(text)}”",
            "This is probably a module of another family, or another device on this port."
            + passed * (one.tuning in tuple(data_links)),
        )
    if moved:
        return _moved(*moved)
    echoes = [(one.tuning, one.end) for one in tries if one.echoed]
    if echoes:
        return echo_only(echoes)
    heard = [(one, text) for one in tries for text in one.heard if text]
    return _garbage(heard, lexicon) if heard else _silence(tries, lexicon)


def nothing_found(heard: Sequence[Overheard], lexicons: Sequence[Lexicon], texts: Sequence[bytes]) -> Cause:
    """The cause where nothing was known of the module and nothing that makes sense was answered. `texts` are what modules
    may have sent, to know a rate by its garbage."""
    known = _by_words([line for one in heard for line in one.lines], lexicons)
    if known:
        return known
    echoes = [(one.tuning, one.end) for one in heard if one.came == Came.ECHO]
    if echoes:
        return echo_only(echoes)
    garbage = [one for one in heard if one.came == Came.GARBAGE]
    if garbage:
        return _unknown_garbage(garbage, texts)
    rates = list(dict.fromkeys(one.tuning.rate for one in heard))
    return Cause(
        "silence",
        _nothing_at(rates),
        "Check, in this order: power and common ground; TX and RX crossed; not in reset or asleep; no key, pin or escape "
        "required.",
    )


def _nothing_at(rates: Sequence[int]) -> str:
    if not rates:
        return ""
    if len(rates) == 1:
        return f"nothing heard at {rates[0]} baud"
    return f"nothing heard at {len(rates)} rates from {min(rates)} to {max(rates)} baud"


def only_errors(heard: Sequence[Overheard], lexicons: Sequence[Lexicon]) -> Cause | None:
    """The cause where a module of no known family answered every line with an error; None where it did not."""
    lines = [line for one in heard if one.said for line in one.lines]
    wrong = [line for line in lines if _means_error(line, lexicons)]
    return every_error(heard[-1].tuning, wrong[-1]) if lines and len(wrong) == len(lines) else None


def again_and_again(heard: Sequence[Overheard], lexicons: Sequence[Lexicon]) -> Cause | None:
    """The cause where a module was heard to start more than once; None where it was not."""
    texts = [line for one in heard for line in one.lines]
    return next((found for lexicon in lexicons if (found := _starts_over(lexicon, texts))), None)


# -- single causes ----------------------------------------------------------------------------------------------------


def _by_words(texts: Sequence[str], lexicons: Sequence[Lexicon]) -> Cause | None:
    """What the very words say that were heard: it starts again and again, waits for a payload, has a peer."""
    for lexicon in lexicons:
        if found := _starts_over(lexicon, texts):
            return found
        joined = lexicon.attention.ends_on
        if joined and any(is_event(lexicon, text, joined) for text in texts):
            return peer(lexicon)
    return waits_for_payload() if any(text.strip() == ">" for text in texts) else None


def _starts_over(lexicon: Lexicon, texts: Sequence[str]) -> Cause | None:
    """A module that keeps restarting by itself: the same ready word came more than once."""
    if lexicon.attention.power_up or lexicon.attention.window:
        return None
    counts = Counter(text for text in texts if is_start_text(lexicon, text))
    return next((restarting(text) for text, count in counts.items() if count > 1), None)


def is_event(lexicon: Lexicon, text: str, name: str) -> bool:
    """Whether this is the event that the lexicon calls so."""
    found = lexicon.dialect.event(text)
    return found is not None and found[0] == name


def _means_error(line: str, lexicons: Sequence[Lexicon]) -> bool:
    finals = [found for lexicon in lexicons if (found := lexicon.dialect.final(line))]
    return bool(finals) and all(found.status is ReplyStatus.ERROR for found in finals)


def restarting(text: str, at: Sequence[float] = ()) -> Cause:
    """The cause if the module was heard to start, at these times (seconds), though no one restarted it."""
    times = f"; {len(at)} times, {spoken(min(b - a for a, b in pairwise(at)))} apart" if len(at) > 1 else ""
    return Cause(
        "restarting",
        f"the module restarts by itself: it said “{_short(text)}”{times}",
        "Its supply is probably too weak: a radio draws its peak current as it starts or sends. Give it a stronger supply and "
        "short wires. Or its reset is not tied, or a watchdog ends it.",
    )


def peer(lexicon: Lexicon) -> Cause:
    """The cause if a peer has connected."""
    return Cause(
        "peer",
        "a peer is connected; the module is in data mode",
        "Switch the peer off, or take the module out of its reach, and try again.",
    )


def may_be_joined(link: Tuning, port: str) -> Cause:
    """The cause if nothing is heard where a module answered last that passes everything on while a peer is connected."""
    return Cause(
        "peer",
        f"nothing heard at {link}, where it answered last; other rates were not tried, because this module passes on "
        "what it hears while a peer is connected",
        "Switch the peer off, or take the module out of its reach. If its rate was changed: "
        f"wexicon hail {port} --lexicon NAME tries all rates.",
    )


def waits_for_payload() -> Cause:
    """The cause if the module takes every command as payload."""
    return Cause(
        "prompt",
        "the module waits for a payload: it sends the prompt “> ” and takes every line as data",
        r"Cancel it with ESC, in wexicon talk by :>> \x1B (3GPP TS 27.005, 3.5.1); Ctrl-Z would send what it has. A payload "
        "that is counted ends with its last byte; or cut the power.",
    )


def begun_payload(sent: str) -> Cause:
    """The cause if bytes were sent after a prompt, and nothing came since."""
    return Cause(
        "payload",
        f"the module waits for the rest of a payload: it sent a prompt, got “{_short(sent)}”, and has not answered since",
        "Send the bytes that are missing, or more than the announced length. A payload that ends with Ctrl-Z is ended "
        r"by it (\x1A), and cancelled by ESC (\x1B).",
    )


def written_otherwise(said: str, wanted: str) -> Cause:
    """The cause if a line is the lexicon's but for its case or its blanks, and was not taken."""
    return Cause(
        "spelling",
        f"“{_short(said)}” is not letter by letter as the lexicon writes it",
        f"Say it as it stands there: “{_short(wanted)}”. Capitals, and blanks at the end too, count for many modules.",
    )


def other_line_end(end: str, wanted: str) -> Cause:
    """The cause if lines were said with another end than the lexicon's, and nothing came."""
    return Cause(
        "line-end",
        f"lines end with {end}, and the lexicon says {wanted}",
        f"Say them with its line end: :end {wanted} in wexicon talk, --end {wanted} elsewhere.",
    )


def stood_in_line(what: str, by: str) -> Cause:
    """The cause if something without an end stood in the module's line, in front of the one that was not taken."""
    return Cause(
        "half-line",
        f"“{_short(what)}”, {by}, stood in the module's line in front of this one",
        "Say the line again: its line end has cleared that.",
    )


def passes_data(by: str) -> Cause:
    """The cause if the module is known to be in data mode; `by` is the observation."""
    return Cause(
        "data-mode",
        f"the module is in data mode ({by}): it takes no commands",
        "Bring it to command mode: :attention in wexicon talk, or any command with its lexicon.",
    )


def elsewhere(link: Tuning, by: str, ours: Tuning) -> Cause:
    """The cause if the module is known to be at another rate or frame; `by` is the observation."""
    return Cause(
        "moved",
        f"the module is at {link} ({by}); our side is at {ours}",
        f"Use --rate {link.rate}; in wexicon talk, :tune {link.rate}.",
    )


def payload_missing(left: int | None, whose: str) -> Cause:
    """The cause if the module still waits for a payload that was begun."""
    missing = f"{counted(left, 'byte')} of it missing" if left is not None else "its end missing"
    return Cause(
        "payload",
        f"the module waits for the payload of {whose}, with {missing}",
        r"Every line now belongs to it. Send the rest; ESC (:>> \x1B in wexicon talk) cancels it where that is allowed.",
    )


def half_a_line(said: str, heard: str) -> Cause:
    """The cause if the first line of all, which no module refuses, was refused."""
    return Cause(
        "half-line",
        f"the module refused “{_short(said)}”: “{_short(heard)}”",
        "Perhaps it had half a line from before: say it again. If it refuses every line, the line end is wrong, or it must be "
        "unlocked first.",
    )


def late(said: str, heard: str, after: str) -> Cause:
    """The cause if the answer came when it was no longer waited for."""
    return Cause(
        "late",
        f"the module answers late: “{_short(heard)}” came {after} after “{_short(said)}”",
        "Wait longer: in a dialogue, allow 10s before the line; in a lexicon, a longer within.",
    )


def rate_changed(said: str, rate: int, when: str, ours: Tuning) -> Cause:
    """The cause if a line was said that moves the module to another rate."""
    return Cause(
        "moved",
        f"“{_short(said)}” has moved the module to {rate} baud {when}; our side is at {ours}",
        f"Use --rate {rate}; in a dialogue, tune {rate}.",
    )


def asleep(before: str, lexicon: Lexicon | None) -> Cause:
    """The cause if a module that can sleep no longer answers."""
    wakes = "" if lexicon and lexicon.attention.wake else " Its lexicon can say how: wake in [attention]."
    return Cause(
        "asleep",
        f"the module is probably asleep: it answered “{_short(before)}”, and nothing since",
        f"Wake it as its datasheet says: by a pin, by bytes sent in advance, or by waiting until it wakes up.{wakes}",
    )


def unanswered(tuning: Tuning, end: str, before: str = "", then: Tuning | None = None) -> Cause:
    """The cause if nothing came. `before` is the last line that was answered, at the link `then`."""
    if before and then and then != tuning:
        return _moved(then, tuning)
    if before:
        return Cause(
            "silence",
            f"nothing was heard since “{_short(before)}” was answered",
            "Nothing that was heard tells why. Bring it to listen again: :attention in wexicon talk; wexicon hail finds it.",
        )
    return Cause(
        "silence",
        f"nothing was heard at {tuning} (lines end with {end})",
        "Check, in this order: power and common ground; TX and RX crossed; the rate (wexicon hail finds it); the line end; no "
        "key, pin or escape required. Or the module speaks in frames of bytes only.",
    )


def let_go(lexicon: Lexicon) -> Cause:
    """The cause where a module answers some commands only."""
    return Cause(
        "half",
        "the module answers some commands only: its key was released too early",
        lexicon.attention.operator,
    )


def _moved(before: Tuning, to: Tuning) -> Cause:
    return Cause(
        "moved",
        f"it answered at {before} until it was switched to {to}; silent at both since",
        "Perhaps this adapter cannot do that rate, or the module needs longer. Power-cycle it: unsaved changes are lost "
        f"and the old rate returns. Then run it again with a rate other than {to.rate}.",
    )


def echo_only(echoes: Sequence[tuple[Tuning, str]]) -> Cause:
    """The cause if only our own lines came back. `echoes` are the links and line ends."""
    ends = ", ".join(dict.fromkeys(end for _, end in echoes))
    return Cause(
        "echo",
        f"our own lines come back at {echoes[-1][0]}, and nothing else (line ends tried: {ends})",
        "Either TX and RX are joined, or the module passes everything through as data, or it wants a line end or a "
        "question that the lexicon does not have.",
    )


def every_error(tuning: Tuning, text: str) -> Cause:
    """The cause if every line is answered with an error."""
    return Cause(
        "errors",
        f"the module answers every line with an error at {tuning}: “{_short(text)}”",
        "Usually the line end is wrong, or it must be unlocked first. Look up both in the datasheet.",
    )


def _unknown_garbage(heard: Sequence[Overheard], texts: Sequence[bytes]) -> Cause:
    from wexicon.core.standards.waveform import true_rate

    one = max(heard, key=lambda each: len(each.data))
    rate = true_rate(one.data, one.tuning, texts, lasted=one.lasted or None)
    sounds = f"; probably {rate} baud" if rate else ""
    return Cause(
        "garbage",
        f"unintelligible data at {counted(len({each.tuning for each in heard}), 'rate')}{sounds}: "
        f"“{_short(to_text(one.data))}” at {one.tuning}",
        "The module has power and sends at a rate that was not tried: give it with --rate. Or RS-232 levels on a "
        "logic-level adapter, or the ground is missing.",
    )


def is_own(lexicon: Lexicon, text: str) -> bool:
    """Whether these are words of the family: a result code, an event, what it says when it starts, its escape's answer."""
    dialect, attention = lexicon.dialect, lexicon.attention
    patterns = [want.pattern for want in (*attention.answered.wants, *attention.probe.expect.wants)]
    return (
        dialect.final(text) is not None
        or dialect.event(text) is not None
        or is_start_text(lexicon, text)
        or any(pattern.start and pattern.match(text) is not None for pattern in patterns)
    )


def _own_words(
    own: Sequence[tuple[Try, str]], tries: Sequence[Try], lexicon: Lexicon, data_links: Iterable[Tuning]
) -> Cause:
    one, text = own[-1]
    command = lexicon.attention.tuning
    if command and one.tuning != command and (one.status is ReplyStatus.OK or lexicon.dialect.final(text) is not None):
        return Cause(
            "command-rate",
            f"the module answers in its own words at {one.tuning}: “{_short(text)}”",
            f"It is in command mode, at this rate and not at {command} as the lexicon says: change attention.rate.",
        )
    if one.tuning in tuple(data_links) and one.tuning != command:
        return data_mode(one.tuning, text, lexicon)
    answered = [attempt for attempt in tries if attempt.tuning == one.tuning]
    spoken_to = [attempt for attempt in answered if attempt.heard]
    if len(spoken_to) > 1 and all(attempt.status is ReplyStatus.ERROR for attempt in spoken_to):
        return every_error(one.tuning, text)
    ends = ", ".join(dict.fromkeys(attempt.end for attempt in answered))
    return Cause(
        "line-end",
        f"a module of this family is at {one.tuning} (it said “{_short(text)}”), and does not answer "
        f"“{visible(lexicon.attention.probe.say.plain)}” (line ends tried: {ends})",
        "Look up in the datasheet how a line ends, and whether this question is one that it answers at any time.",
    )


def data_mode(link: Tuning, text: str, lexicon: Lexicon) -> Cause:
    """The cause where a module said something on the link of its data mode."""
    return Cause(
        "data-mode",
        f"{one_of(lexicon.about.family)} has power and is in data mode: at {link} it said “{_short(text)}”",
        "It did not enter command mode: the key was not held at power-up, or not long enough. "
        + lexicon.attention.operator,
    )


def garbage(tuning: Tuning, text: str, rate: int | None) -> Cause:
    """The cause if what came makes no sense; `rate` is what its waveform points to."""
    sounds = f"; probably {rate} baud" if rate else ""
    does = f"Use --rate {rate}, or let" if rate else "Let"
    return Cause(
        "garbage",
        f"garbage was heard at {tuning}{sounds}: “{_short(text)}”",
        f"The module has power and speaks at another rate. {does} wexicon hail find it.",
    )


def _garbage(heard: Sequence[tuple[Try, str]], lexicon: Lexicon) -> Cause:
    one, text = max(heard, key=lambda pair: len(pair[1]))
    texts = lexicon.start_texts()
    rate = None
    if texts:
        from wexicon.core.standards.waveform import true_rate

        rate = true_rate(to_bytes(text), one.tuning, texts, lasted=one.lasted or None)
    sounds = f"; probably {rate} baud" if rate else ""
    keyed = " Or its key for command mode was not held." if lexicon.attention.how is AttentionBy.HELD_KEY else ""
    return Cause(
        "garbage",
        f"garbage was heard at {one.tuning}{sounds}: “{_short(text)}”",
        f"The module has power and speaks at another rate, which the lexicon does not name.{keyed}",
    )


def _silence(tries: Sequence[Try], lexicon: Lexicon) -> Cause:
    ways = list(dict.fromkeys(f"{one.tuning}" for one in tries))
    told = ", ".join(ways[:8]) + (f" and {len(ways) - 8} more" if len(ways) > 8 else "")
    attention = lexicon.attention
    needs = {
        AttentionBy.ALWAYS: "no key, pin or escape required",
        AttentionBy.HELD_KEY: "its key held as the operator was asked",
        AttentionBy.CONTROL_LINE: f"its pins set for command mode ({_pins(attention.pins)})",
        AttentionBy.ESCAPE: f"“{visible(attention.escape)}” is its escape"
        + (f" and {spoken(attention.guard)} of silence around it are enough" if attention.guard else "")
        + (f", which is heard in the first {spoken(attention.window)} after power-up only" if attention.window else ""),
    }[attention.how]
    peer = " No peer may be connected: then it is in data mode." if attention.passes_on else ""
    if lexicon.wiring and (lamps := lexicon.wiring.lamps_told()) and not attention.operator:
        peer += f" {lamps}"
    return Cause(
        "window" if attention.window else "silence",
        f"nothing heard (tried {told})",
        f"Check, in this order: power and common ground; TX and RX crossed; {needs}.{peer}",
    )


def _pins(pins: dict[str, bool]) -> str:
    return ", ".join(f"{name} {'on' if on else 'off'}" for name, on in pins.items())


def _short(text: str) -> str:
    return visible(text if len(text) <= SHOWN else f"{text[:SHOWN]}...")
