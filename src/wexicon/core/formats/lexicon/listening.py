"""What a module sends by itself: what its events mean, which of them are states and timers, and how much there is of it.

    [decoded.sleep]                     # the captures of the event `sleep`
    state = { kind = "choice", codes = { awake = 0, asleep = 1 } }

    [listening]
    states  = { sleep = { sleep = "state" } }   # the state; the event that reports it, and by which capture
    message = { event = "stored", read = "read-message" }

    [listening.timers.active]           # the setting `active`, from when the link is idle
    from = { link = "idle" }
    to   = { sleep = "asleep" }

    [stream]                            # must fit the rate
    list  = "sentences"
    every = "interval"
    bytes = { GGA = 82, RMC = 75 }

The rule: an event is decoded by the same kinds of values as a setting.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping

import msgspec

from wexicon.core.formats.lexicon.tables import ListeningTable, MessageTable, Stream
from wexicon.core.formats.toml import Source, read_kind
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import meant
from wexicon.core.values import Kind, ValueFault

# Which state, and its value in words.
StateOf = tuple[str, str]


class Timer(msgspec.Struct, frozen=True):
    """A setting that is seen between two states."""

    setting: str
    begins: StateOf
    ends: StateOf


class Listening(msgspec.Struct, frozen=True):
    """`[listening]` and `[decoded]`, checked: `kinds` are the kinds of captures, by event and capture; `states` has for each
    event that reports a state which one, and by which capture."""

    kinds: dict[str, dict[str, Kind]] = {}
    states: dict[str, tuple[str, str]] = {}
    message: MessageTable | None = None
    timers: tuple[Timer, ...] = ()

    def shown(self, event: str, capture: str, value: object) -> str:
        """A capture as a person reads it; as it was heard where it is no value of its kind."""
        kind = self.kinds.get(event, {}).get(capture)
        if kind is None:
            return str(value)
        try:
            return kind.show(kind.decode(str(value)))
        except ValueFault:
            return str(value)


def read_listening(
    source: Source,
    table: ListeningTable,
    decoded: Mapping[str, object],
    events: Mapping[str, Pattern],
    settings: Collection[str],
    actions: Collection[str],
) -> Listening:
    """Both tables, checked; what is wrong is complained of at the source."""
    kinds: dict[str, dict[str, Kind]] = {}
    for name, captures in decoded.items():
        for capture, value in captures.items() if isinstance(captures, dict) else ():
            place = ("decoded", name, capture)
            if name not in events:
                source.complain(("decoded", name), f"there is no event {name}", meant(name, events))
            elif capture not in events[name].names:
                source.complain(place, f"the event does not capture {capture}", meant(capture, events[name].names))
            elif isinstance(value, dict) and (kind := read_kind(source, value, place)):
                kinds.setdefault(name, {})[capture] = kind
    states: dict[str, tuple[str, str]] = {}
    for state, reports in table.states.items():
        for name, capture in reports.items():
            if name not in events:
                source.complain(("listening", "states", state), f"there is no event {name}", meant(name, events))
            elif capture not in kinds.get(name, {}):
                hint = f"write [decoded.{name}] {capture} = {{ kind = ... }}"
                source.complain(("listening", "states", state), f"{name}: {capture} is not decoded", hint)
            else:
                states[name] = (state, capture)
    if message := table.message:
        if message.event not in events:
            source.complain(
                ("listening", "message"), f"there is no event {message.event}", meant(message.event, events)
            )
        if message.read not in actions:
            source.complain(
                ("listening", "message"), f"there is no action {message.read}", meant(message.read, actions)
            )
    timers = []
    for name, timer in table.timers.items():
        place = ("listening", "timers", name)
        if name not in settings:
            source.complain(place, f"there is no setting {name}", meant(name, settings))
        ends = [_state(source, place, one, table, kinds) for one in (timer.from_, timer.to)]
        if ends[0] and ends[1]:
            timers.append(Timer(name, ends[0], ends[1]))
    return Listening(kinds, states, table.message, tuple(timers))


def _state(
    source: Source,
    place: tuple[str, ...],
    state: Mapping[str, str],
    table: ListeningTable,
    kinds: Mapping[str, Mapping[str, Kind]],
) -> StateOf | None:
    """One end of a timer."""
    if len(state) != 1:
        source.complain(place, "from and to are one state each", 'write from = { link = "idle" }')
        return None
    ((name, word),) = state.items()
    kind = next((kinds.get(event, {}).get(capture) for event, capture in table.states.get(name, {}).items()), None)
    if kind is None:
        source.complain(place, f"{name} is no state", meant(name, table.states))
        return None
    try:
        return name, kind.show(kind.check(word))
    except ValueFault as fault:
        source.complain(place, f"{fault.value!r} {fault.why}", f"allowed: {fault.allowed}")
        return None


def check_stream(source: Source, stream: Stream, settings: Collection[str]) -> None:
    """What is wrong with `[stream]` is complained of at the source."""
    for key, name in (("list", stream.list), ("every", stream.every), ("by", stream.by)):
        if name and name not in settings:
            source.complain(("stream", key), f"there is no setting {name}", meant(name, settings))
    for name, size in stream.bytes.items():
        if not 1 <= size <= 65_536:
            source.complain(("stream", "bytes", name), f"{size} is not a number of bytes")
