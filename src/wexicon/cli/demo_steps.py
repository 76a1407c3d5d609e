"""The steps of `wexicon demo --full`: what the finished modules of the estuary do.

The rule: each step is a command, and fails if its modules do not do what it shows. Those in virtual time need no ports, and say
so; all others are on real ports, with real sockets of this machine.
"""

from __future__ import annotations

import msgspec


class Step(msgspec.Struct, frozen=True):
    """One step: its title, and its command. `{folder}` stands for the folder of the sample; `virtual`: it runs in virtual time,
    not on real ports."""

    title: str
    command: str
    virtual: bool = False

    def arguments(self, folder: str) -> list[str]:
        """The command's arguments."""
        return [word.replace("{folder}", folder) for word in self.command.split()]


STEPS = {
    "wifi": Step(
        "The screen in the harbour office joins the Wi-Fi network and serves two browsers.",
        "run {folder}/pages-served.wex screen=screen --file passphrase={folder}/harbour-office.key",
    ),
    "messages": Step(
        "A gale warning goes from the harbour watch to the office, which answers.",
        "run {folder}/message-passed.wex watch=watch office=office",
    ),
    "sockets": Step(
        "The relay's uplink sends a reading to a server of this machine, and is answered.",
        "run {folder}/uplink-answered.wex uplink=uplink",
    ),
    "echo": Step(
        "Every byte value comes back over the uplink, by TCP and by UDP.",
        "run {folder}/uplink-echoed.wex uplink=uplink",
    ),
    "fix": Step(
        "The clock of the mast at Old Ferry starts cold and finds where it is.",
        "listen clock -l polmar-p1 --rate 38400 --do cold-start --until fix --for 40s --only gga",
    ),
    "image": Step(
        "The buoy on the quay is loaded with the coordinator's firmware image.",
        "run {folder}/image-loaded.wex quay=quay",
    ),
    "saving": Step(
        "An uplink saves power for an hour, as the network granted.",
        "listen saver --rig {folder}/estuary.toml --for 1h --ask --check --only none",
        virtual=True,
    ),
    "range": Step(
        "How far the mast at Cobble Stair is heard at the relay, by spreading and distance.",
        "traffic mast relay --rig {folder}/estuary.toml --sweep spreading=7,9,12 --distance 3,8,16 --count 4 --within 10s",
        virtual=True,
    ),
}
