"""One record of a trace as one line for reading.

The rule: what a module sent is escaped; colours only stress.
"""

from __future__ import annotations

import os
import sys

import click

from wexicon.core.protocol.observations import Role
from wexicon.core.text import visible
from wexicon.records.trace import Record, What

# How wide the name of a party is at least.
PARTY_WIDTH = 8
MARKS = {
    What.SAID: ">",
    What.HEARD: "<",
    What.TUNED: "~",
    What.SIGNALLED: "~",
    What.ASKED: "!",
    What.STEP: "=",
    What.LOGGED: "#",
    What.REPEATED: "#",
    What.AWAITED: "#",
    What.STARTED: "*",
    What.JUDGED: "=",
    What.TRANSFERRED: "#",
    What.FINISHED: "#",
}
COLOURS = {
    What.SAID: "cyan",
    What.ASKED: "magenta",
    What.STEP: "bold",
    What.LOGGED: "bright_black",
    What.REPEATED: "bright_black",
    What.AWAITED: "bright_black",
    What.TRANSFERRED: "bright_black",
    What.FINISHED: "bold",
}
_PLAIN = (Role.ANSWER, Role.WORD, Role.OK)


def record_line(record: Record, coloured: bool | None = None) -> str:
    """One record as one line."""
    what = record.what
    text = visible(record.content)
    if what is What.SAID or what is What.HEARD:
        role = "" if record.role is None or record.role in _PLAIN else f"  ({record.role})"
        event = f"  ({record.role} {visible(record.name)})" if record.name else role
        body = f"{'>>' if record.exact else MARKS[what]} {text}{event}"
    else:
        body = _other(record, text)
    if coloured is None:
        coloured = sys.stdout.isatty() and "NO_COLOR" not in os.environ
    colour = COLOURS.get(what) if coloured else None
    if colour == "bold":
        body = click.style(body, bold=True)
    elif colour:
        body = click.style(body, fg=colour)
    party = f"{visible(record.party):{PARTY_WIDTH}} " if record.party else ""
    return f"{record.at:10.3f}  {party}{body}"


def _other(record: Record, text: str) -> str:
    if record.what is What.OPENED:
        when = f"{record.wall:%Y-%m-%d %H:%M:%S} UTC, " if record.wall else ""
        link, frame, version = visible(record.link), visible(record.frame), visible(record.wexicon)
        where = f"{link} at {record.rate} {frame}" if link else "several parties"
        if record.party and link.startswith(("socket://", "listen://")):
            where = link  # it has no rate
        text = f"{where}, {when}Wexicon {version}" if version else where
    elif record.what is What.TUNED:
        text = f"our side to {record.rate} {visible(record.frame)}"
        text += "" if record.station is None else f" station {record.station}"
    elif record.what is What.SIGNALLED:
        lines = (("DTR", record.dtr), ("RTS", record.rts))
        text = ", ".join(f"{name} {'on' if state else 'off'}" for name, state in lines if state is not None)
    elif record.what is What.STARTED:
        text = f"restart observed: {visible(record.how)}"
    elif record.what is What.JUDGED:
        note = f" ({visible(record.note)})" if record.note else ""
        text = f"{visible(record.name)}: {visible(record.outcome)}{note}"
    elif record.what is What.REPEATED:
        text = "busy; the line is said again"
    elif record.what is What.TRANSFERRED:
        done, total = (record.values.get(name, "?") for name in ("done", "total"))
        text = f"{done} of {total} bytes acknowledged"
    elif record.what is What.AWAITED:
        text = f"awaited: {text}"
    elif record.what is What.FINISHED:
        text = f"{text}: {visible(record.outcome)}"
    mark = MARKS.get(record.what)
    return f"{mark} {text}" if mark else f"{record.what} {text}".rstrip()
