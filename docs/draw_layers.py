"""Draws docs/layers.svg from the imports of the code: which room imports which, and how often.

    python docs/draw_layers.py

The rule: the picture is made of what is in the source files and of nothing else; tests/docs holds the same rules
that it shows: imports point downwards only, and no file is part of a circle.
"""

from __future__ import annotations

import ast
from collections import Counter
from functools import cache
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src"
# From the top to the bottom; rooms of one level may not import each other, but for what NEIGHBOURS says.
LEVELS = (
    ("cli", "testing"),
    ("api",),
    ("work.fleet", "work.console"),
    ("work.function", "work.drafting"),
    ("work.provisioning",),
    ("work.module",),
    ("work.contact",),
    ("records", "rigs"),
    ("links",),
    ("core.module_state",),
    ("core.results",),
    ("core.formats",),
    ("core.dialogue",),
    ("core.protocol",),
    ("core.values",),
    ("core.engineering",),
    ("core.standards",),
    ("core",),
)
ABOUT = {
    "cli": "commands: read arguments, call the API, print",
    "testing": "for tests of firmware: a pytest plug-in, the conversation, assertions",
    "api": "what a Python program uses; the commands use it too",
    "work.fleet": "many units: batch, scheduler, claims",
    "work.console": "talk: conversation, commands, completion",
    "work.function": "dialogues, actions, traffic",
    "work.drafting": "drafts of lexicons",
    "work.provisioning": "write a sheet's settings, read them back",
    "work.module": "identity, settings, starts of one module",
    "work.contact": "ports, sessions, discovery, attention, causes",
    "records": "the trace, the register, labels and plots",
    "rigs": "stand-ins, air, servers; knows no lexicon",
    "links": "real ports, and one under a virtual clock",
    "core.module_state": "lines sent to a module, read; its state, from observations",
    "core.formats": "lexicon, sheet, fixture: read and checked",
    "core.dialogue": "statements, reader, runner, drafts",
    "core.protocol": "the engine, without a port: framing to session",
    "core.values": "kinds of values",
    "core.results": "one typed result of each kind: verdict, evidence, failure, measurements",
    "core.engineering": "calculations: one function a formula",
    "core.standards": "character sets, PDU, NMEA, timers, checks, waveform",
    "core": "text, faults, durations, tuning, agenda, registry",
}


@cache
def imports() -> dict[str, set[str]]:
    """Which of our modules each of our modules imports, wherever the import stands, for types alone too."""
    files = {".".join(path.relative_to(SOURCE).with_suffix("").parts): path for path in SOURCE.rglob("*.py")}
    names = {name.removesuffix(".__init__"): path for name, path in files.items()}
    found: dict[str, set[str]] = {}
    for name, path in names.items():
        found[name] = set()
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Import):
                found[name] |= {alias.name for alias in node.names if alias.name in names}
            elif isinstance(node, ast.ImportFrom) and node.module:
                # What is taken from a package may be a module of its own.
                for alias in node.names:
                    inner = f"{node.module}.{alias.name}"
                    found[name] |= {inner if inner in names else node.module} & set(names)
        found[name].discard(name)
    return found


def room(module: str) -> str:
    """The room that a module is in."""
    parts = module.split(".")[1:]
    if ".".join(parts[:2]) in ABOUT:
        return ".".join(parts[:2])
    return parts[0] if parts and parts[0] in ABOUT else ""


def level(name: str) -> int:
    return next(number for number, rooms in enumerate(LEVELS) if name in rooms)


def upward() -> list[str]:
    """Imports that point upwards, or to a neighbour."""
    wrong = []
    for module, others in imports().items():
        for other in others:
            here, there = room(module), room(other)
            if here and there and here != there and level(there) <= level(here):
                wrong.append(f"{module} -> {other}")
    return sorted(wrong)


def circles() -> list[list[str]]:
    """Groups of modules that import each other, in whatever round (Tarjan's strongly connected components)."""
    graph = imports()
    numbers: dict[str, int] = {}
    lowest: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(module: str) -> None:
        numbers[module] = lowest[module] = len(numbers)
        stack.append(module)
        for other in graph[module]:
            if other not in numbers:
                visit(other)
                lowest[module] = min(lowest[module], lowest[other])
            elif other in stack:
                lowest[module] = min(lowest[module], numbers[other])
        if lowest[module] == numbers[module]:
            group = []
            while not group or group[-1] != module:
                group.append(stack.pop())
            if len(group) > 1:
                found.append(sorted(group))

    for module in graph:
        if module not in numbers:
            visit(module)
    return found


def picture() -> str:
    """The rooms from top to bottom, and the imports between them, the more the wider."""
    graph = imports()
    between: Counter[tuple[str, str]] = Counter()
    size: Counter[str] = Counter()
    for module, others in graph.items():
        if room(module):
            size[room(module)] += 1
        between.update((room(module), room(other)) for other in others if room(other) != room(module) and room(other))
    wide, high, step = 440, 46, 70
    place: dict[str, tuple[int, int]] = {}
    for number, rooms in enumerate(LEVELS):
        for at, name in enumerate(rooms):
            place[name] = (490 + (at * 2 - len(rooms) + 1) * 232, 20 + number * step)
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1180 {30 + len(LEVELS) * step}" '
        'font-family="sans-serif" font-size="15"><rect width="100%" height="100%" fill="white"/>'
    ]
    for (one, two), count in sorted(between.items()):
        if not one:
            continue
        (x1, y1), (x2, y2) = place[one], place[two]
        bend = 60 + 26 * abs(level(two) - level(one)) if level(two) - level(one) > 1 else 0
        side = x1 + wide // 2 + bend
        path = (
            f"M {x1 + wide // 2 - 20} {y1 + high // 2} C {side + 60} {y1 + 40}, {side + 60} {y2 - 10}, "
            f"{x2 + wide // 2} {y2 + high // 2}"
            if bend
            else f"M {x1} {y1 + high} L {x2} {y2}"
        )
        stroke = min(5.0, 0.6 + count / 10)
        parts.append(f'<path d="{path}" fill="none" stroke="#7a9cb8" stroke-width="{stroke:.1f}" opacity="0.7"/>')
    for name, (x, y) in place.items():
        left = x - wide // 2
        parts.append(
            f'<rect x="{left}" y="{y}" width="{wide}" height="{high}" rx="6" fill="#f3f6f9" stroke="#33566f"/>'
        )
        parts.append(f'<text x="{left + 12}" y="{y + 19}" font-weight="bold">{name} ({size[name]} files)</text>')
        parts.append(f'<text x="{left + 12}" y="{y + 37}" fill="#444">{ABOUT[name]}</text>')
    return "\n".join([*parts, "</svg>", ""])


if __name__ == "__main__":
    Path(__file__).with_name("layers.svg").write_text(picture())
    for one in upward():
        print("upwards:", one)
    for group in circles():
        print("circle:", ", ".join(group))
