"""A value that is wanted of a setting, in each form that a sheet, a command or a program may give it: fixed, filled in for each
unit, fetched from outside (a secret), drawn for each unit (a secret).

The rule: all who want values check them here, before a byte is sent, and hear of every fault at once. A secret is never in a
sheet or on a command line: it says only where the secret comes from.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec

from wexicon.core.faults import CallFault, Complaint, Fault
from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.formats.units import NUMBER, ROW, Filling, filling
from wexicon.core.text import meant, to_text
from wexicon.core.values import Content, List, Value, ValueFault

FETCHED = ("env", "file", "prompt")
GENERATED = "generate"
ELSEWHERE = (
    'say where it comes from: {name} = {{ env = "NAME" }}, {{ file = "NAME" }}, {{ prompt = "..." }} '
    'or {{ generate = "6 digits" }}'
)
_TOLD = {
    "env": "from the environment variable {}",
    "file": "from the file {}",
    "prompt": "asked for: {}",
    GENERATED: "{}, drawn for each unit",
}
# The characters are for people who copy them: none that looks like another.
ALPHABETS = {
    "digits": "0123456789",
    "hex": "0123456789ABCDEF",
    "characters": "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789",
}
# How many characters a generated secret has, at least and at most.
LEAST, MOST = 4, 128


class Origin(msgspec.Struct, frozen=True):
    """Where a secret comes from: the `kind` of source (env, file, prompt, generate), and what that kind needs to know."""

    kind: str
    text: str

    def __str__(self) -> str:
        return _TOLD[self.kind].format(self.text)


# What the source of a setting (its name) holds; raises ValueError.
Fetch = Callable[[str, Origin], str]


class Generated(msgspec.Struct, frozen=True):
    """A secret that is drawn for each unit: `count` characters of a `kind` of ALPHABETS."""

    count: int
    kind: str

    @property
    def origin(self) -> Origin:
        """The same as a source."""
        return Origin(GENERATED, f"{self.count} {self.kind}")

    def draw(self, choose: Callable[[str], str]) -> str:
        """A new secret; `choose` draws one character of several, each with the same chance."""
        return "".join(choose(ALPHABETS[self.kind]) for _ in range(self.count))


class Fixed(msgspec.Struct, frozen=True):
    """A value that is known; `origin` if it is a secret that was fetched."""

    value: Value
    origin: Origin | None = None


class FilledIn(msgspec.Struct, frozen=True):
    """A value that is filled in for each unit."""

    filling: Filling
    origin: None = None


class Fetched(msgspec.Struct, frozen=True):
    """A secret that is fetched for each unit, from the source that `filling` names."""

    origin: Origin
    filling: Filling


Wanted = Fixed | FilledIn | Fetched | Generated


class Manner(msgspec.Struct, frozen=True):
    """How a caller gives values: whether texts are `typed` by a person, whether braces in them are `filled` in, and what it is
    told of a secret in the clear (None: it may give one) and of a file."""

    typed: bool = False
    filled: bool = False
    secret: tuple[str, str] | None = None
    content: str = ""


IN_A_SHEET = Manner(
    filled=True,
    secret=("is a secret and does not belong into a sheet", ELSEWHERE),
    content='write {name} = {{ content = "FILE" }}',
)
TYPED = Manner(
    typed=True,
    secret=(
        "is a secret: on the command line every process could read it",
        "give it by --env NAME=VARIABLE, by --file NAME=PATH, or by name alone to be asked for it",
    ),
    content="give it by --file {name}=PATH, or delete it: {name}=unset",
)
IN_A_PROGRAM = Manner(content="give its bytes as text")


def source_of(given: object) -> Origin | None:
    """The source, if a value is one; such a value is always a secret."""
    if isinstance(given, dict) and len(given) == 1:
        ((kind, text),) = given.items()
        if kind in (*FETCHED, GENERATED):
            return Origin(kind, str(text))
    return None


def generated(text: object) -> Generated:
    """What `generate` says, such as `6 digits`. Raises ValueError."""
    count, _, kind = str(text).partition(" ")
    if not count.isdecimal() or not LEAST <= int(count[:9]) <= MOST:
        raise ValueError(f"{text!r} does not begin with a number from {LEAST} to {MOST}, as in 6 digits")
    if kind not in ALPHABETS:
        raise ValueError(f"{kind!r} cannot be generated; {meant(kind, ALPHABETS)}")
    return Generated(int(count), kind)


def check_wanted(
    lexicon: Lexicon,
    wishes: Mapping[str, object],
    manner: Manner = IN_A_PROGRAM,
    fetch: Fetch | None = None,
    content: Callable[[str], bytes] | None = None,
) -> tuple[Lexicon, dict[str, Wanted], list[Complaint]]:
    """The wanted values in their checked forms, the lexicon in which each that was fetched or is drawn is a secret, and every
    complaint, its place the setting's name. `fetch` has what comes from outside, `content` the bytes of a file that is a
    setting's value."""
    made: dict[str, Wanted] = {}
    complaints: list[Complaint] = []
    for name, wish in wishes.items():
        try:
            if name not in lexicon.settings:
                what = f"{lexicon.about.family} has no such setting"
                raise _WantedFault(what, meant(name, lexicon.settings))
            if source_of(wish):
                lexicon = lexicon.with_secret(name)
            made[name] = _checked(lexicon.settings[name], wish, manner, fetch, content)
        except _WantedFault as fault:
            complaints.append(Complaint(fault.what, name, hint=fault.hint))
        except (Fault, ValueError) as fault:
            complaints.append(Complaint(str(fault), name))
    for name, other, needed, found in lexicon.unmet(known_values(made)):
        show = lexicon.settings[other].show
        what = f"needs {other} = {show(needed)}, and {other} = {show(found)} is wanted"
        complaints.append(Complaint(what, name, hint=f"take {name} away, or make {other} {show(needed)}"))
    return lexicon, made, complaints


def known_values(wanted: Mapping[str, Wanted]) -> dict[str, Value]:
    """Those that are the same for each unit."""
    return {name: one.value for name, one in wanted.items() if isinstance(one, Fixed)}


def require(complaints: Sequence[Complaint]) -> None:
    """Raises CallFault with all complaints of a call's values."""
    if complaints:
        told = [f"{one.place}: {one.what}" + (f"; {one.hint}" if one.hint else "") for one in complaints]
        raise CallFault("\n  ".join(told), hint="Nothing was said to the module.")


class _WantedFault(Exception):
    """A value cannot be wanted; `hint` is what could."""

    def __init__(self, what: str, hint: str) -> None:
        super().__init__(what)
        self.what, self.hint = what, hint


def _checked(
    setting: Setting, wish: object, manner: Manner, fetch: Fetch | None, content: Callable[[str], bytes] | None
) -> Wanted:
    """One value; raises _WantedFault, or a fault of what is read."""
    origin = source_of(wish)
    if isinstance(setting.kind, Content) and not origin and wish != "unset":
        if content and isinstance(wish, dict) and list(wish) == ["content"]:
            wish = to_text(content(str(wish["content"])))
        elif manner is not IN_A_PROGRAM and isinstance(wish, str):
            raise _WantedFault("is a file, and no text", manner.content.format(name=setting.name))
    if origin:
        return _from_outside(setting, origin, manner, fetch)
    unset = wish == "unset" and setting.may_be_unset()
    if manner.filled and not setting.secret:
        text = ", ".join(map(str, wish)) if isinstance(setting.kind, List) and isinstance(wish, list) else wish
        if isinstance(text, str) and (by_unit := filling(text)):
            return FilledIn(by_unit)
    if setting.secret and manner.secret and not unset:
        what, hint = manner.secret
        raise _WantedFault(what, hint.format(name=setting.name))
    return Fixed(_allowed(setting, wish, manner.typed))


def _from_outside(setting: Setting, origin: Origin, manner: Manner, fetch: Fetch | None) -> Wanted:
    """A secret that is fetched or drawn."""
    if origin.kind == GENERATED:
        drawn = generated(origin.text)
        # Every secret that can be drawn must be allowed: the first and the last possible are checked.
        for at in (0, -1):
            try:
                setting.typed(drawn.draw(lambda alphabet, at=at: alphabet[at]))  # type: ignore[misc]
            except ValueFault as fault:
                what = f"{drawn.count} {drawn.kind} are not always allowed"
                raise _WantedFault(what, f"allowed: {fault.allowed}") from None
        return drawn
    if by_unit := filling(origin.text) if manner.filled else None:
        if origin.kind == "prompt" or {one.whose for one in by_unit.sources} - {ROW, NUMBER}:
            raise _WantedFault("a secret's source is filled in from the row or the number: env or file", "")
        return Fetched(origin, by_unit)
    if fetch is None:
        raise _WantedFault(f"cannot be fetched here ({origin})", "")
    return Fixed(_allowed(setting, fetch(setting.name, origin), True, f" ({origin})"), origin)


def _allowed(setting: Setting, wish: object, typed: bool, origin: str = "") -> Value:
    """The plain form of a value; raises _WantedFault, in which no secret stands."""
    try:
        return setting.typed(wish) if typed and isinstance(wish, str) else setting.check(wish)
    except ValueFault as fault:
        what = f"{fault.value!r} {fault.why}"
        if setting.secret:
            why = fault.why if "'" not in fault.why else "holds a character that is not allowed"
            what = f"the value{origin} {why}"
        raise _WantedFault(what, f"allowed: {fault.allowed}") from None
