"""`wexicon completion`: teaches a shell what may stand next in a call.

The rule: a shell's own file is added to once, in one marked line, and told of.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.shell_completion import BashComplete, add_completion_class, get_completion_class, split_arg_string

from wexicon.cli.help import Command
from wexicon.cli.show import print_line, print_note
from wexicon.core.faults import CallFault
from wexicon.files import config_folder, read_file, write_whole

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

SHELLS = ("bash", "zsh", "fish")
MARK = "# completion for wexicon"
VARIABLE = "_WEXICON_COMPLETE"
# Bash ends words at `=` and `:`, and puts in only what follows them.
_BASH = """\
_wexicon_completion() {
    local line IFS=$'\\n'
    COMPREPLY=()
    for line in $(env COMP_LINE="${COMP_LINE:0:$COMP_POINT}" _WEXICON_COMPLETE=bash_complete "$1" 2>/dev/null); do
        if [[ $line == file,* ]]; then compopt -o default
        elif [[ $line == dir,* ]]; then compopt -o dirnames
        else
            COMPREPLY+=("$(printf %q "${line#plain,}")")
            [[ $line == *= ]] && compopt -o nospace
        fi
    done
}
complete -F _wexicon_completion wexicon
"""
_ZSH_HEAD = "(( $+functions[compdef] )) || { autoload -Uz compinit && compinit }\n"


class _Bash(BashComplete):
    """Takes the line as it is typed."""

    @staticmethod
    def _check_version() -> None:
        """Any bash will do."""

    def source(self) -> str:
        return _BASH

    def get_completion_args(self) -> tuple[list[str], str]:
        line = os.environ.get("COMP_LINE", "")
        words = split_arg_string(line)[1:]
        typed = words.pop() if words and not line[-1:].isspace() else ""
        self._cut = max(typed.rfind("="), typed.rfind(":")) + 1
        return words, typed

    def format_completion(self, item: CompletionItem[Any]) -> str:
        return f"{item.type},{item.value[self._cut :] if item.type == 'plain' else item.value}"


def offer() -> None:
    """Answers to our bash script as well as to Click's other ones."""
    add_completion_class(_Bash, "bash")


@click.command(cls=Command)
@click.argument("shell", type=click.Choice(SHELLS), metavar="[SHELL]", required=False)
@click.option("--print", "printed", is_flag=True, help="Print the script, install nothing.")
@click.option("--remove", is_flag=True, help="Take it out again.")
def completion(shell: str | None, printed: bool, remove: bool) -> None:
    """Install completion of commands, options, ports, units, lexicons, settings and traces for SHELL.

    Examples:
      wexicon completion
      wexicon completion zsh

    SHELL is bash, zsh or fish; without it, the one that you use. One line is added to .bashrc or .zshrc; for fish a file of
    its own is written.
    """
    name = shell or Path(os.environ.get("SHELL", "")).name
    if name not in SHELLS:
        raise CallFault(f"there is no completion for {name or 'this shell'}", hint=f"Name one of {', '.join(SHELLS)}.")
    script = _script(name)
    if printed:
        print_line(script.rstrip())
        return
    own, line = _files(name)
    if remove:
        own.unlink(missing_ok=True)
        if line:
            _write_line(line[0], "")
        print_line(f"completion for {name} was removed")
        return
    write_whole(own, script.encode())
    print_line(f"wrote {own}")
    if line:
        _write_line(*line)
        print_line(f"{line[0]} reads it from now on")
    print_note(f"It works in each {name} that is started from now on.")


def _script(shell: str) -> str:
    offer()
    found = get_completion_class(shell)
    assert found
    text = found(click.get_current_context().find_root().command, {}, "wexicon", VARIABLE).source()
    return _ZSH_HEAD + text if shell == "zsh" else text


def _files(shell: str) -> tuple[Path, tuple[Path, str] | None]:
    """The file of the script, and the shell's own file with the line that reads it."""
    if shell == "fish":
        base = os.environ.get("XDG_CONFIG_HOME", "")
        folder = Path(base) if Path(base).is_absolute() else Path.home() / ".config"
        return folder / "fish" / "completions" / "wexicon.fish", None
    script = config_folder() / f"completion.{shell}"
    home = Path(os.environ.get("ZDOTDIR") or Path.home()) if shell == "zsh" else Path.home()
    return script, (home / f".{shell}rc", f'[ -r "{script}" ] && . "{script}"  {MARK}\n')


def _write_line(path: Path, line: str) -> None:
    """Puts our line into a file, or takes it out."""
    text = read_file(path).decode(errors="surrogateescape") if path.exists() else ""
    kept = "".join(one for one in text.splitlines(keepends=True) if MARK not in one)
    if kept and line and not kept.endswith("\n"):
        kept += "\n"
    if text != kept + line:
        # A link stays one: the file that it leads to is written.
        there = path.resolve()
        mode = there.stat().st_mode & 0o777 if there.exists() else 0o644
        write_whole(there, (kept + line).encode(errors="surrogateescape"), own=False)
        there.chmod(mode)
