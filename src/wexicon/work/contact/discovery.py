"""Finding the link of a module of which nothing is known: its rate, frame, line end and echo, and the lexicons that fit it.

The rule: it listens before it asks, asks only what `questions` lists, and waits for each answer as long as the wire and a
module's own delay need. A module counts as found when it answered in words; a lexicon fits when the module named itself as
that lexicon expects.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import msgspec

from wexicon.core.faults import CannotTune
from wexicon.core.formats.lexicon import AttentionBy, Lexicon
from wexicon.core.module_state.starts import is_start_text
from wexicon.core.protocol.observations import Collector
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.results.listed import Attempt, ByHand, Came, Cause, HailResult
from wexicon.core.standards.gnss import with_checksum
from wexicon.core.text import garbled, to_bytes, to_text, visible
from wexicon.core.tuning import Tuning, frame_of
from wexicon.work.contact.causes import (
    Overheard,
    again_and_again,
    data_mode,
    intelligible,
    is_own,
    let_go,
    nothing_found,
    only_errors,
    waits_for_payload,
)
from wexicon.work.contact.identification import (
    GAP,
    GREETING,
    PATIENT,
    Fit,
    Identification,
    Question,
    escapes,
    question_of,
    questions,
    rates_to_try,
    slow_questions,
)
from wexicon.work.contact.ports import KnownLink, named

# How long it listens before it says anything (seconds).
LISTENS = 0.25
# How long it listens on where a module speaks by itself: a receiver's sentences come once a second.
LISTENS_ON = 1.3
# What a receiver sends by itself, to know its rate by its garbage.
_SENTENCES = tuple(
    to_bytes(f"{with_checksum(text)}\r\n")
    for text in (
        "$GPGGA,101500,5130.00,N,00012.00,W,1,08,0.9,4.0,M,47.0,M,,",
        "$GPRMC,101500,A,5130.00,N,00012.00,W,0.0,,,,",
    )
)
# How much longer than its lexicon says a module may take to start (seconds).
STARTS_LATE = 0.5
# How many of the usual rates are tried with every question before the others are.
MOST_COMMON = 6
# More than an answer to the greeting would be (bytes).
LONG = 24
# Words of at least this many characters are hardly garbage.
SURE = 5
# How long it listens in the end where it has heard something that made no sense.
LISTENS_OUT = 3.0
_LOOKS = ("cr", "lf", "crlf")


class LinkDiscovery:
    """One search on one session. `known` is the stored link of the port, `first` the link to start with; `progress` is shown
    each attempt as it ends."""

    def __init__(
        self,
        session: Session,
        lexicons: Sequence[Lexicon],
        *,
        known: KnownLink | None = None,
        with_escapes: bool = False,
        first: Tuning | None = None,
        progress: Callable[[Attempt], None] = lambda attempt: None,
    ) -> None:
        self.session = session
        self.lexicons = lexicons
        self.known = known
        self.with_escapes = with_escapes
        self.first = first
        self.progress = progress
        self.heard: list[Overheard] = []
        self.result = HailResult(session.link.name)
        self._listened: set[Tuning] = set()
        self._asked: set[tuple[Question, Tuning]] = set()
        # Links where words came that no lexicon knows: believed only when nothing better is found.
        self._strange: list[tuple[Tuning, Question | None, Overheard]] = []
        self._said: list[str] = []
        self._identification = Identification(session, lexicons)
        self._fits: list[Fit] = []
        # The link and the line end of the last question.
        self._said_last: tuple[Tuning, str] | None = None
        # What ends the search although nothing answered: a module that said what is the matter with it.
        self._plain: Cause | None = None
        # What may come by itself.
        self._texts = [*(text for lexicon in lexicons for text in lexicon.start_texts()), *_SENTENCES]

    def run(self) -> HailResult:
        """Searches until the module is found, or nothing is left to try. Raises Stopped."""
        session, result = self.session, self.result
        began = session.clock.now()
        session.begin_step("attention", searching=True)
        found = self._search()
        result.seconds = round(session.clock.now() - began, 6)
        if found:
            self._tell_found(found)
        else:
            self._tell_not_found()
        session.log(f"hail: {'found at ' + str(found) if found else 'not found'}")
        return result

    @property
    def starts_within(self) -> float:
        """How long the module that was found may take to tell that it starts, in seconds; 0 if it does not tell, or if nothing
        came at first but what was asked for: then it did not start as the port was opened."""
        starts = [one.lexicon.start for one in self._fits[:1] if one.lexicon.dialect.form != "sentences"]
        early = [one for one in self.heard[:3] if one.came == Came.GARBAGE or (one.data and not one.said)]
        words = any(is_start_text(one, line) for one in self.lexicons for each in self.heard for line in each.lines)
        if not (early or words):
            return 0.0
        return max((one.within + STARTS_LATE for one in starts if one.says or one.ready), default=0.0)

    # -- the search -----------------------------------------------------------------------------------------------

    def _search(self) -> Tuning | None:
        usual = [Tuning(rate) for rate in rates_to_try(self.lexicons)]
        usual = list(dict.fromkeys([self.first, *usual])) if self.first else usual
        asked = questions(self.lexicons)
        if self.known and (found := self._as_known(self.known)):
            return found
        heard = self._attempt(usual[0], None)
        if heard.data and (found := self._judged(usual[0], None, heard)):
            return found
        greeting, own = asked[:1], [one for one in asked[1:] if not one.silence]
        common, rare = usual[:MOST_COMMON], usual[MOST_COMMON:]
        if found := self._ask_all(greeting, common):
            return found
        if self.with_escapes and not self._plain and (found := self._by_escapes()):
            return found
        phases = [(own, common), (greeting, rare), (own, rare), *(([one], usual) for one in asked if one.silence)]
        for phase, links in phases:
            if found := self._ask_all(phase, links):
                return found
            if self._plain:
                return None
        if found := self._believed():
            return found
        for question in slow_questions(self.lexicons):
            for tuning in question.tunings(usual):
                if not self._plain and (found := self._ask(tuning, question)):
                    return found
        return self._believed()

    def _ask_all(self, asked: Sequence[Question], links: Sequence[Tuning]) -> Tuning | None:
        """Asks these questions, all on one link before the next. The link at which the module was found, or None."""
        for tuning in links:
            for question in asked:
                if self._plain:
                    return None
                # What makes sense on one link only is asked with the first.
                here = question.only_at if question.only_at and tuning == links[0] else tuning
                if here in question.tunings(links) and (found := self._ask(here, question)):
                    return found
        return None

    def _as_known(self, known: KnownLink) -> Tuning | None:
        """The link that is remembered, with the question of its lexicon."""
        own = [one for one in self.lexicons if named(one) == known.lexicon]
        asked = question_of(own[0]) if own and own[0].attention.how is AttentionBy.ALWAYS else None
        return self._ask(known.tuning, asked or GREETING)

    def _by_escapes(self) -> Tuning | None:
        by_family = {lexicon.about.family: lexicon for lexicon in self.lexicons}
        for escape in escapes(self.lexicons):
            lexicon = by_family[escape.lexicon]
            whose = tuple(one.about.family for one in self.lexicons if one.attention.escape == escape.text)
            for rate in dict.fromkeys([*lexicon.rates(), *rates_to_try([])]):
                tuning = Tuning.of(rate, lexicon.factory.frame)
                said = Question(to_bytes(escape.text), "none", whose, escape.guard)
                heard = self._attempt(tuning, said, escape.guard, later=escape.guard)
                if heard.data and (found := self._judged(tuning, None, heard, whose)):
                    self._remark(f"it listens after its escape “{visible(escape.text)}”")
                    return found
        return None

    def _ask(self, tuning: Tuning, question: Question) -> Tuning | None:
        """Asks a question once on a link, and follows what came. The link at which the module was found, or None."""
        if (question, tuning) in self._asked:
            return None
        self._asked.add((question, tuning))
        heard = self._attempt(tuning, question, question.silence)
        return self._judged(tuning, question, heard) if heard.data else None

    def _attempt(
        self,
        tuning: Tuning,
        question: Question | None,
        silence: float = 0.0,
        listen: float = LISTENS,
        later: float = 0.0,
    ) -> Overheard:
        """Says one thing on a link, or only listens, and takes in what comes; the answer is due `later` (seconds)."""
        session = self.session
        session.heed_stop()
        if not self._can_be_at(tuning):
            return Overheard(tuning, "", "", b"")
        if silence:
            session.silence(silence)
        session.drain()
        began = session.clock.now()
        session.events.clear()
        session.heard_for()
        said = question.label if question else ""
        if question:
            # A question at another rate, or with another line end, is half a line to the module: this ends it.
            cleared = silence or self._said_last == (tuning, question.end)
            lead = b"" if cleared else LINE_ENDS[question.end].encode()
            within = max(question.within, self._identification.quiet()) + GAP + tuning.wire_time(24)
            data = self._collect(lead + question.data, within, to_bytes(to_text(question.data).strip()), later)
            self._said_last = (tuning, question.end)
        else:
            data = self._collect(b"", listen, b"")
        session.forget_partial()
        session.events.clear()
        frame = frame_of(data)
        if frame != "8N1":
            data = bytes(byte & 0x7F for byte in data)
        heard = Overheard(tuning, question.end if question else "", said, data, session.heard_for(), frame)
        came = self._came(heard, question)
        heard = msgspec.structs.replace(heard, came=came)
        self.heard.append(heard)
        took = round(session.clock.now() - began, 6)
        attempt = Attempt(tuning.rate, tuning.frame, heard.end, said, came, to_text(data), took)
        self.result.tries.append(attempt)
        self.progress(attempt)
        return heard

    def _collect(self, say: bytes, within: float, said: bytes, later: float = 0.0) -> bytes:
        """Sends bytes, and collects what comes until an answer is complete, or `within` seconds after the last byte was sent.
        If the module speaks without being asked, or takes its time to answer, it listens longer; an answer that is due `later`
        is not slow because of that."""
        session = self.session

        def collect(say: bytes, within: float, gap: float | None) -> Collector:
            until = session.clock.now() + session.link.tuning.wire_time(len(say)) + within
            made = Collector(until, say, gap=gap, is_answer=lambda data: _more_than(said, data))
            session.drive(made)
            return made

        sent_by = session.clock.now() + session.link.tuning.wire_time(len(say))
        made = collect(say, within, GAP if said else None)
        data = bytes(made.data)
        if not data or made.first is None:
            return data
        if not said:
            return data + bytes(collect(b"", LISTENS_ON, None).data)
        delay = made.first - session.link.tuning.wire_time(1) - sent_by - later
        if delay > GAP:
            # Whatever else it answers takes as long.
            more = collect(b"", delay + GAP, None)
            data += bytes(more.data)
            if intelligible(to_text(data)):
                self._identification.delay = max(self._identification.delay, delay)
        return data

    # -- what it means --------------------------------------------------------------------------------------------

    def _came(self, heard: Overheard, question: Question | None) -> Came:
        """What came back."""
        if not heard.data:
            return Came.NOTHING
        lines = heard.lines
        if not lines:
            return Came.ECHO if heard.echoed else Came.GARBAGE
        if self._own(heard):
            return Came.WORDS
        # A little garbage may look like words; with a parity taken off it nearly always does.
        least = 1 if heard.frame == "8N1" else LONG
        if any(intelligible(line) and len(line) >= least for line in lines):
            return Came.WORDS
        asked = [one for one in self.lexicons if question and one.about.family in question.lexicons]
        return (
            Came.WORDS if any(is_own(one, line) for one in asked for line in heard.told(one.dialect)) else Came.GARBAGE
        )

    def _own(self, heard: Overheard) -> list[str]:
        """The families that have words of this."""
        return [
            one.about.family
            for one in self.lexicons
            if (one.speech.summed or not one.speech.in_digits)
            and any(is_own(one, line) for line in heard.told(one.dialect))
        ]

    def _judged(
        self, tuning: Tuning, question: Question | None, heard: Overheard, whose: Sequence[str] = ()
    ) -> Tuning | None:
        """What came is followed: words are answered with the lexicons' questions, first with those of the families `whose`
        question or escape it answers; garbage may tell the true rate."""
        if question and any(line == ">" for line in heard.lines):
            # A further question would become payload: ask nothing more.
            self._plain = waits_for_payload()
            return None
        if heard.came == Came.WORDS:
            link = Tuning.of(tuning.rate, heard.frame)
            if not self._can_be_at(link):
                return None
            # Nearly every module answers the greeting.
            own = question.lexicons if question and question.data != GREETING.data else ()
            if self._fitting(link, heard, whose or own):
                return link
            self._plain = self._plain or self._data_mode(link, heard)
            return None if self._plain else self._hear_more(link, question, heard)
        # What answers a question comes again at the right rate; only what comes by itself is worth the reckoning.
        by_itself = heard.came == Came.GARBAGE and (question is None or len(heard.data) >= LONG)
        rate = self._true_rate(heard) if by_itself else None
        return self._ask(Tuning(rate), question or GREETING) if rate else None

    def _hear_more(self, link: Tuning, question: Question | None, heard: Overheard) -> Tuning | None:
        """Words came, and no lexicon fits: perhaps they were a part of more. They are kept for when nothing better is found."""
        if self._own(heard) or sum(len(line) for line in heard.lines if intelligible(line)) >= SURE:
            self._strange.append((link, question, heard))
            self._strange.sort(key=lambda one: len(self._own(one[2])))
        if link in self._listened:
            return None
        self._listened.add(link)
        more = self._attempt(link, None, listen=LISTENS_ON)
        self._plain = self._plain or again_and_again(self.heard, self.lexicons)
        return link if more.came == Came.WORDS and self._fitting(link, more) else None

    def _believed(self) -> Tuning | None:
        """The link where words came that no lexicon knows, if they come again: garbage is never the same twice."""
        if self._plain:
            return None
        for link, question, heard in reversed(self._strange):
            self.session.tune(link)
            self._identification.settle()
            again = self._attempt(link, question, question.silence if question else 0.0, listen=LISTENS_ON)
            if again.frame == heard.frame and (_same(heard, again) or (question is None and _legible(heard, again))):
                self._said = [line for line in again.lines if intelligible(line)][-1:]
                return link
        return None

    def _data_mode(self, link: Tuning, heard: Overheard) -> Cause | None:
        """Whether only one lexicon's module sends this in data mode."""
        for line in heard.lines:
            saying = [one for one in self.lexicons if is_start_text(one, line)]
            if len(saying) == 1 and saying[0].attention.tuning:
                lexicon, result = saying[0], self.result
                result.family, result.rate, result.frame = lexicon.about.family, link.rate, link.frame
                result.command = f"wexicon hail {self.session.link.name} --lexicon {named(lexicon)}"
                result.by_hand = [ByHand(result.family, lexicon.attention.operator, result.command)]
                return data_mode(link, line, lexicon)
        return None

    def _true_rate(self, heard: Overheard) -> int | None:
        from wexicon.core.standards.waveform import true_rate

        return true_rate(heard.data, heard.tuning, self._texts, lasted=heard.lasted or None)

    def _fitting(self, link: Tuning, heard: Overheard, whose: Sequence[str] = ()) -> bool:
        """Asks each lexicon's own questions on a link where words came; whether any fits."""
        greeted = any(
            (one.said, one.end) == (GREETING.label, GREETING.end) and one.tuning == link and one.came == Came.WORDS
            for one in self.heard
        )
        self._fits = self._identification.fits(link, heard, greeted=greeted, whose=whose)
        # What they asked may have left half a line of another kind.
        self._said_last = None
        return bool(self._fits)

    # -- what is reported ---------------------------------------------------------------------------------------------

    def _can_be_at(self, link: Tuning) -> bool:
        """Whether our port can be set to a link, and is now; one that it refuses is reported and skipped."""
        try:
            self.session.tune(link)
        except CannotTune as fault:
            self._remark(fault.what)
            return False
        return True

    def _remark(self, text: str) -> None:
        if text not in self.result.remarks:
            self.result.remarks.append(text)

    def _tell_found(self, link: Tuning) -> None:
        result, session = self.result, self.session
        result.found, result.rate, result.frame = True, link.rate, link.frame
        here = [one for one in self.heard if one.tuning.rate == link.rate and one.said]
        result.echo = any(one.echoed for one in here) if here else None
        words = [line for one in here for line in one.lines]
        result.said = (self._said or words[-1:] or [""])[0]
        if not self._fits and not self._identification.half:
            result.end = self._line_end(link)
            if self._identification.delay > GAP:
                # It is slow, which shows only now: late answers were taken for those of other questions.
                self._fitting(link, self.heard[-1])
        if self._fits:
            first = self._fits[0]
            result.family, result.identity, result.end = first.lexicon.about.family, first.identity, first.end
            result.lexicons = [named(fit.lexicon) for fit in self._fits]
            result.command = f"wexicon readout {session.link.name}"
            result.cause = again_and_again(self.heard, self.lexicons)
            return
        if self._identification.half:
            result.family, result.end = self._identification.half.about.family, self._identification.half.speech.end
            result.cause = let_go(self._identification.half)
            result.command = f"wexicon hail {session.link.name} --lexicon {named(self._identification.half)}"
            return
        result.cause = only_errors([one for one in self.heard if one.tuning == link], self.lexicons)
        result.command = f"wexicon talk {session.link.name}"
        if families := list(dict.fromkeys(name for one in here for name in self._own(one))):
            told = ", ".join(families[:3]) + (f" and {len(families) - 3} more" if len(families) > 3 else "")
            self._remark(f"guess: “{visible(result.said)}” is also a word of {told}; it did not say what it is")
        self._remark("no lexicon fits; where it answers AT, wexicon lexicon draft asks the module itself for one")

    def _line_end(self, link: Tuning) -> str:
        """The shortest line end with which a module of no known family answers the greeting; empty where it does not."""
        for end in _LOOKS:
            heard = self._attempt(link, Question(b"AT" + LINE_ENDS[end].encode(), end, within=PATIENT))
            if set(heard.lines) == {"OK"}:
                return end
        return ""

    def _tell_not_found(self) -> None:
        result, port = self.result, self.session.link.name
        if self._plain:
            result.cause = self._plain
            return
        self._listen_out()
        result.cause = nothing_found(self.heard, self.lexicons, [*self._texts, *_error_texts(self.lexicons)])
        if result.cause.kind in ("silence", "garbage", "echo"):
            for lexicon in self.lexicons:
                attention = lexicon.attention
                if attention.operator:
                    does = f"wexicon hail {port} --lexicon {named(lexicon)}"
                    result.by_hand.append(ByHand(lexicon.about.family, attention.operator, does))
                elif attention.escape_opens and not self.with_escapes:
                    told = f"It listens after its escape “{visible(attention.escape)}”, which was not said."
                    result.by_hand.append(ByHand(lexicon.about.family, told, f"wexicon hail {port} --escapes"))
        result.command = result.by_hand[0].command if len(result.by_hand) == 1 else ""

    def _listen_out(self) -> None:
        """Something came that made no sense: at the rate that it sounds like, more of it may."""
        garbage = [one for one in self.heard if one.came == Came.GARBAGE]
        longest = max(garbage, key=lambda one: len(one.data), default=None)
        rate = self._true_rate(longest) if longest else None
        if rate:
            self._attempt(Tuning(rate), None, listen=LISTENS_OUT)


def _more_than(said: bytes, data: bytes) -> bool:
    """Whether there is more in `data` than our own words, which may not have come back whole yet."""
    return not said.startswith(data.strip()) and bool(data.replace(said, b"", 1).strip())


def _same(heard: Overheard, again: Overheard) -> bool:
    """Whether the same legible line came twice, and nothing illegible."""
    both = set(heard.lines) & set(again.lines)
    return any(map(intelligible, both)) and not any(map(garbled, (*heard.lines, *again.lines)))


def _legible(heard: Overheard, again: Overheard) -> bool:
    """Whether all that came by itself was text, and more than garbage can be by chance."""
    lines = (*heard.lines, *again.lines)
    return all(map(intelligible, lines)) and sum(map(len, lines)) >= LONG


def _error_texts(lexicons: Iterable[Lexicon]) -> list[bytes]:
    """What modules answer to what they do not understand, to know their rate by its garbage."""
    words: dict[str, object] = {}
    for lexicon in lexicons:
        for source in (*lexicon.speech.ok, *lexicon.speech.errors):
            text = source.replace("{code:int}", "2").partition("{")[0]
            words[f"{text}\r\n"] = words[f"\r\n{text}\r\n"] = None
    return [to_bytes(text) for text in words if len(text) > 4]
