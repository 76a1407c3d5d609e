"""The command `wexicon`: finds the command that is called and turns every fault into a message and an exit status.

The rule: nothing heavy is imported before it is known which command is called; no traceback reaches a user.
"""

from __future__ import annotations

import contextlib
import gc
import os
import sys
from importlib import import_module

import click

from wexicon.cli.help import WIDEST, Group
from wexicon.cli.signals import end_at_once, heed_signals

# By what they are for, in the order of the work.
SECTIONS = {
    "One module": ("ports", "hail", "readout", "talk", "set", "do"),
    "Many modules, from a sheet": ("provision", "verify", "restore", "rehearse"),
    "What the finished module does": ("run", "traffic", "listen", "tap"),
    "The record": ("units", "trace", "report"),
    "Lexicons, stand-ins, calculations": ("lexicon", "rig", "calc", "demo"),
    "Wexicon itself": ("config", "completion", "schema"),
}
COMMANDS = {
    "ports": ("ports:ports", "List serial ports; --watch reports ports that appear or disappear."),
    "hail": ("hail:hail", "Detect a module's rate, line ending and lexicon."),
    "readout": ("readout:readout", "Identify a module and print every setting."),
    "talk": ("talk:talk", "Talk to a module by hand: a console that decodes what comes back."),
    "set": ("set:set_", "Change settings of a module, and read them back."),
    "do": ("do:do", "Run one action on a module: save, restart, scan, join."),
    "provision": ("provision:provision", "Write a sheet's settings to a module and read them back."),
    "restore": ("restore:restore", "Write the settings that a module had before it was provisioned."),
    "verify": ("provision:verify", "Compare a module with a sheet; writes nothing."),
    "listen": ("listen:listen", "Print what a module sends by itself, and what it adds up to."),
    "tap": ("tap:tap", "Pass bytes on between a host and its module; decode and record them."),
    "traffic": ("traffic:traffic", "Send test packets over a link; count losses."),
    "run": ("run:run", "Run a dialogue with a module."),
    "rehearse": ("rehearse:rehearse", "Run a dialogue or a sheet against stand-ins, in virtual time."),
    "rig": ("rig:rig", "Start stand-ins on ports, work their keys and power."),
    "lexicon": ("lexicon:lexicon", "List, show, check and draft lexicons."),
    "units": ("units:units", "The register: identity and last state of each unit."),
    "report": ("report:report", "Write an HTML report of the units in the register."),
    "trace": ("trace:trace", "List, print, compare, draw or export traces."),
    "calc": ("calc:calc", "Work out timers, powers, time on air, channels, checksums, dividers."),
    "schema": ("config:schema", "Print the JSON Schema of a result or a file format."),
    "config": ("config:config", "Show the settings in force, and where each comes from."),
    "completion": ("completion:completion", "Install completion for your shell."),
    "demo": ("demo:demo", "Provision a sample module, with no hardware."),
}


class LazyGroup(Group):
    """A group whose commands are imported when they are called; the list of them needs no import."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        module, _, name = COMMANDS[cmd_name][0].partition(":")
        found: click.Command = getattr(import_module(f"wexicon.cli.{module}"), name)
        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for title, names in SECTIONS.items():
            with formatter.section(title):
                formatter.write_dl([(name, COMMANDS[name][1]) for name in names])


def _print_version(ctx: click.Context, param: click.Parameter, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        from wexicon.cli.here import print_version

        print_version(details=bool(ctx.meta.get("verbose")))
        ctx.exit()


def _more(ctx: click.Context, param: click.Parameter, wanted: bool) -> None:
    ctx.meta["verbose"] = wanted


def _allow_programs(ctx: click.Context, param: click.Parameter, folders: tuple[str, ...]) -> None:
    if folders:
        from wexicon.programs import VARIABLE

        os.environ[VARIABLE] = os.pathsep.join([*folders, *filter(None, [os.environ.get(VARIABLE)])])


def _allow_listening(ctx: click.Context, param: click.Parameter, addresses: tuple[str, ...]) -> None:
    if addresses:
        from wexicon.links.sockets import LISTEN_VARIABLE

        os.environ[LISTEN_VARIABLE] = " ".join([*addresses, os.environ.get(LISTEN_VARIABLE, "")])


@click.command(
    cls=LazyGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": WIDEST},
)
@click.option(
    "--version",
    is_flag=True,
    expose_value=False,
    callback=_print_version,
    help="Print the version; with -v also what a bug report needs.",
)
@click.option(
    "--allow-programs",
    metavar="FOLDER",
    multiple=True,
    expose_value=False,
    callback=_allow_programs,
    help="Run programs that files in this folder name, and do not check who owns them.",
)
@click.option(
    "--allow-listening",
    metavar="ADDRESS",
    multiple=True,
    expose_value=False,
    callback=_allow_listening,
    help="Let dialogues wait for clients at this address of this machine: other machines can connect.",
)
@click.option("-v", "--verbose", is_flag=True, hidden=True, expose_value=False, is_eager=True, callback=_more)
@click.pass_context
def wexicon(ctx: click.Context) -> None:
    """Provision radio and positioning modules over a UART. Without a command: what is here, and what to do next.

    Examples:
      wexicon hail /dev/ttyUSB0
      wexicon demo

    Exit status: 0 success; 1 mismatch or module error; 2 usage or file error; 3 port or module unreachable; 4 unproved;
    130 stopped.
    """
    if ctx.invoked_subcommand is None:
        from wexicon.cli.here import print_here

        print_here()


def main(arguments: list[str] | None = None) -> None:
    """Runs the command and ends the program with its exit status."""
    _open_streams()
    heed_signals()
    # Modules that are imported leave no garbage: looking for some after every 700 new objects is a tenth of a start.
    gc.set_threshold(50_000)
    try:
        status = run(arguments)
    except KeyboardInterrupt:
        # It came before the command could take it, while its first modules were imported, or on the way out.
        end_at_once()
        _say("stopped on request")
        status = 130
    end_at_once()
    _end_streams()
    # Nothing is collected on the way out: the process ends anyway.
    gc.freeze()
    sys.exit(status)


def _end_streams() -> None:
    """What a stream does not take any more, for its terminal hung up, is thrown away: otherwise Python would end with a status
    of its own."""
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError):
            with contextlib.suppress(OSError, ValueError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def _open_streams() -> None:
    """A standard stream that is closed is opened on nothing, so that no port or file takes its number and is printed to."""
    for name, number, mode in (("stdin", 0, "r"), ("stdout", 1, "w"), ("stderr", 2, "w")):
        if getattr(sys, name) is None:
            opened = os.open(os.devnull, os.O_RDWR)
            if opened != number:
                os.dup2(opened, number)
                os.close(opened)
            setattr(sys, name, os.fdopen(number, mode))


def run(arguments: list[str] | None = None) -> int:
    """Runs the command; gives its exit status."""
    from wexicon.core.faults import Fault

    if "_WEXICON_COMPLETE" in os.environ:
        from wexicon.cli.completion import offer

        offer()
    try:
        status = wexicon.main(arguments, prog_name="wexicon", standalone_mode=False)
        sys.stdout.flush()
        return status if isinstance(status, int) else 0
    except click.exceptions.Exit as end:
        return end.exit_code
    except (click.Abort, KeyboardInterrupt):
        _say("stopped on request")
        return 130
    except click.ClickException as fault:
        ctx = getattr(fault, "ctx", None)
        usage = f"\n  {ctx.get_usage()}\n  Help: {ctx.command_path} --help" if ctx else ""
        _fail(fault.format_message() + usage)
        return 2
    except Fault as fault:
        _fail(str(fault))
        return fault.status
    except BrokenPipeError:
        # The reader of our output has closed the pipe: not an error.
        from wexicon.cli.show import discard_output

        discard_output()
        return 0
    except OSError as fault:
        if isinstance(fault.__context__, KeyboardInterrupt | EOFError):
            return 130  # the terminal hung up: even the line end after ^C cannot be printed
        # A disk or device that failed where nothing better was known to say.
        _say(f"error: {fault.strerror or fault}" + (f": {fault.filename}" if fault.filename else ""))
        _discard_if_broken()
        return 2
    except Exception as fault:
        from wexicon.files import EXTRAS, missing

        if isinstance(fault, ModuleNotFoundError) and fault.name in EXTRAS:
            _fail(str(missing(fault.name)))
            return 2
        if os.environ.get("WEXICON_TRACEBACK"):
            raise
        import traceback

        # Its text may hold a secret; the place is enough to find it.
        place = next(reversed(traceback.extract_tb(fault.__traceback__)))
        what = f"{type(fault).__name__} in {place.filename.rpartition(os.sep)[2]}, line {place.lineno}"
        hint = "This is a bug in Wexicon. Please report it with the command; WEXICON_TRACEBACK=1 shows all of it."
        _say(f"error: internal error ({what})\n  {hint}")
        return 1


def _discard_if_broken() -> None:
    """What standard output does not take is thrown away: otherwise Python would complain about it at the end."""
    from wexicon.cli.show import discard_output

    try:
        sys.stdout.flush()
    except OSError:
        discard_output()


def _fail(text: str) -> None:
    from wexicon.cli.show import styled

    _say(styled("error: ", "bold red") + text)


def _say(text: str) -> None:
    from wexicon.cli.show import print_warning

    print_warning(text)
