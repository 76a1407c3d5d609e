"""`wexicon demo`: the sample modules provisioned before your eyes, with no hardware; with `--full` also what they do
afterwards.

The rule: each step is the real command, on real ports unless it says that it is in virtual time, and fails if its modules do
not do what it shows.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import tempfile
import time
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.show import print_line, print_table
from wexicon.core.faults import CallFault
from wexicon.core.text import spoken
from wexicon.files import installed


class DemoStep(msgspec.Struct, frozen=True):
    """One step: its title, and its command. `{folder}` stands for the folder of the sample; `virtual`: it runs in virtual time,
    not on real ports."""

    title: str
    command: str
    virtual: bool = False

    def arguments(self, folder: str) -> list[str]:
        """The command's arguments."""
        return [word.replace("{folder}", folder) for word in self.command.split()]


STEPS = {
    "wifi": DemoStep(
        "The screen in the harbour office joins the Wi-Fi network and serves two browsers.",
        "run {folder}/pages-served.wex screen=screen --file passphrase={folder}/harbour-office.key",
    ),
    "messages": DemoStep(
        "A gale warning goes from the harbour watch to the office, which answers.",
        "run {folder}/message-passed.wex watch=watch office=office",
    ),
    "sockets": DemoStep(
        "The relay's uplink sends a reading to a server of this machine, and is answered.",
        "run {folder}/uplink-answered.wex uplink=uplink",
    ),
    "echo": DemoStep(
        "Every byte value comes back over the uplink, by TCP and by UDP.",
        "run {folder}/uplink-echoed.wex uplink=uplink",
    ),
    "fix": DemoStep(
        "The clock of the mast at Old Ferry starts cold and finds where it is.",
        "listen clock -l polmar-p1 --rate 38400 --do cold-start --until fix --for 40s --only gga",
    ),
    "image": DemoStep(
        "The buoy on the quay is loaded with the coordinator's firmware image.",
        "run {folder}/image-loaded.wex quay=quay",
    ),
    "saving": DemoStep(
        "An uplink saves power for an hour, as the network granted.",
        "listen saver --rig {folder}/estuary.toml --for 1h --ask --check --only none",
        virtual=True,
    ),
    "range": DemoStep(
        "How far the mast at Cobble Stair is heard at the relay, by spreading and distance.",
        "traffic mast relay --rig {folder}/estuary.toml --sweep spreading=7,9,12 --distance 3,8,16 --count 4 --within 10s",
        virtual=True,
    ),
}


@click.command(cls=Command)
@click.option(
    "--keep", type=click.Path(path_type=Path, file_okay=False), help="Leave sheet, rig and traces in this folder."
)
@click.option(
    "--sample", type=click.Path(path_type=Path, file_okay=False), help="Only write the sample files to this folder."
)
@click.option("--full", is_flag=True, help="Also show what the finished modules do: in two minutes at most.")
def demo(keep: Path | None, sample: Path | None, full: bool) -> None:
    """Start rigs of sample modules; provision the service plug of a mast, twice, and show its record; then three masts and
    their relay from one sheet and one table, on four ports at once and on one, and traffic between them.

    Examples:
      wexicon demo
      wexicon demo --full

    With --full also: Wi-Fi served, messages passed, sockets echoed, a fix, a firmware image loaded, and in virtual time an hour
    of power saving and a range sweep.
    """
    from wexicon.rigs.rig import read_rig
    from wexicon.rigs.serving import Desk, real_agenda, served

    for folder in filter(None, (keep, sample)):
        if folder.is_dir() and any(folder.iterdir()):
            raise CallFault("is not empty; nothing was written", where=str(folder), hint="Name a new folder.")
    if sample:
        shutil.copytree(str(files("wexicon") / "sample"), sample, dirs_exist_ok=True)
        print_line(f"wrote the sample to {sample}")
        return
    with contextlib.ExitStack() as stack:
        folder = keep or Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="wexicon-demo-")))
        shutil.copytree(str(files("wexicon") / "sample"), folder, dirs_exist_ok=True)
        stack.enter_context(_environment(WEXICON_RUN=str(folder / "run"), WEXICON_STATE=str(folder)))
        print_line("Marrow Estuary, spring fit-out: the service plug of the mast at Withy Point.", "bold")
        print_line(
            "Factory default: 9600 baud, a follower, called TAMSEL-K5; it takes commands only with its key held."
        )
        standins = read_rig((folder / "rig.toml").read_bytes(), "rig.toml", real_agenda())
        server = stack.enter_context(served(standins))
        stack.callback(Desk(server, "rig").close)
        port = server.ports["withy-plug"]
        sheet, trace = str(folder / "service-plug.toml"), str(folder / "traces" / "second.jsonl")
        _run("provision", sheet, port, "--operator", "rig", "--trace", str(folder / "traces" / "first.jsonl"))
        _run("provision", sheet, port, "--operator", "rig", "--trace", trace)
        _run("trace", "show", trace, "--last", "18")
        print_line(
            "\nThree masts and the relay at Gannet Quay, from one sheet and one table, on four ports at once.", "bold"
        )
        radios = stack.enter_context(served(read_rig((folder / "masts-rig.toml").read_bytes(), "m", real_agenda())))
        stack.callback(Desk(radios, "masts").close)
        _run("provision", str(folder / "masts.toml"), *radios.ports.values())
        for mast in ("radio-2", "radio-3", "radio-4"):
            _run("traffic", mast, "radio-1", "--count", "4")
        _provision_on_one_port(folder, stack)
        _run("units", "list")
        if installed("segno") and installed("matplotlib"):
            _run("units", "label", "-o", str(folder / "labels.pdf"), "--size", "62x29")
        if full:
            _show_steps(folder)
        if keep:
            print_line(f"\nSheet, rig and traces are in {folder}.")
        print_line("\nTo do the same by hand: wexicon demo --sample estuary writes these files to a folder.", "bold")


def _provision_on_one_port(folder: Path, stack: contextlib.ExitStack) -> None:
    """The masts and their relay, one after another on one port."""
    from wexicon.rigs.rig import read_rig
    from wexicon.rigs.serving import Desk, real_agenda, served

    print_line("\nThe same sheet on one port: the modules are put in one after another, here by the rig.", "bold")
    alone = b'format = 1\n[unit.one-port]\nstandin = "lindle-l9"\nidentity = { serial = "L9-00631" }\n'
    single = stack.enter_context(served(read_rig(alone, "one-port", real_agenda())))
    stack.callback(Desk(single, "one-port").close)
    own = str(folder / "one-port.db")
    # The test needs a mast and the relay at once.
    words = ("--operator", "rig", "--register", own, "--tests", "none")
    _run("provision", str(folder / "masts.toml"), "one-port", *words)


def _show_steps(folder: Path) -> None:
    """What the finished modules do, and at the end how long each step took and in which time."""
    rows = []
    with estuary(folder):
        for name, step in STEPS.items():
            real = "in virtual time" if step.virtual else "on real ports"
            print_line(f"\n{step.title} ({real})", "bold")
            began = time.monotonic()
            _run(*step.arguments(str(folder)))
            rows.append([name, real, spoken(round(time.monotonic() - began, 1)), "passed"])
    print_line("")
    print_table(("step", "time", "took", "result"), rows, ours=3)


@contextlib.contextmanager
def estuary(folder: Path) -> Iterator[None]:
    """The modules of the estuary on ports, by the sample in a folder."""
    from wexicon.rigs.rig import read_rig
    from wexicon.rigs.serving import Desk, real_agenda, served

    path = folder / "estuary.toml"
    with served(read_rig(path.read_bytes(), path.name, real_agenda())) as server:
        desk = Desk(server, "estuary")
        try:
            yield
        finally:
            desk.close()


def _run(*arguments: str) -> None:
    """Shows a command and does it; its failure is the demo's."""
    from wexicon.cli.main import wexicon

    shown = [word if word.startswith("/dev/") else re.sub(r"(^|=)/[^=]*/", r"\1", word) for word in arguments]
    print_line(f"\n$ wexicon {' '.join(shown)}", "bold cyan")
    try:
        status = wexicon.main(list(arguments), prog_name="wexicon", standalone_mode=False)
    except click.exceptions.Exit as end:
        status = end.exit_code
    if status:
        raise click.exceptions.Exit(status)


@contextlib.contextmanager
def _environment(**variables: str) -> Iterator[None]:
    before = {name: os.environ.get(name) for name in variables}
    os.environ.update(variables)
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value
