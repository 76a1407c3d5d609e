"""Writes docs/commands.md: every command with its help, from the program.

    python docs/write_commands.py

The rule: each sentence is that of the program; tests/docs holds the page to that.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from wexicon.cli.help import WIDEST, pages
from wexicon.cli.main import SECTIONS, wexicon

PAGE = Path(__file__).parent / "commands.md"
SETTINGS: dict[str, Any] = {**wexicon.context_settings, "terminal_width": WIDEST, "max_content_width": WIDEST}


def page() -> str:
    """The whole page."""
    root = click.Context(wexicon, info_name="wexicon", **SETTINGS)
    found = dict(pages(wexicon, root))
    parts = ["# Every command\n", "Made by `docs/write_commands.py`: what `--help` prints.\n"]
    for title, names in SECTIONS.items():
        parts.append(f"## {title}\n")
        for name in names:
            for words, command in found.items():
                if words == name or words.startswith(f"{name} "):
                    parts += [f"### wexicon {words}\n", f"```text\n{_help(words, command)}\n```\n"]
    return "\n".join(parts)


def _help(words: str, command: click.Command) -> str:
    """The help page of a command."""
    names = ["wexicon", *words.split()]
    ctx: click.Context | None = None
    for name in names:
        ctx = click.Context(command, parent=ctx, info_name=name, **SETTINGS)
    assert ctx
    return command.get_help(ctx).rstrip()


if __name__ == "__main__":
    PAGE.write_text(page())
