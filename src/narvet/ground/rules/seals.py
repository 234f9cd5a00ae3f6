"""Rules about sealed volumes. Sizes are bytes."""

from __future__ import annotations

from narvet.ground.findings import Wording, rule
from narvet.ground.units import show_binary


@rule(
    meaning="One of the two headers of a sealed volume does not read, or is older; the other one serves.",
    way_out="`narvet keys` writes both anew with any change of a key.",
)
def seal_damaged(which: str) -> Wording:
    """Word a header that does not read."""
    return f"{which} of the sealed volume does not read, or is older; the other one serves", (
        "any change of a key, with narvet keys, writes both anew"
    )


@rule(
    meaning="A sealed volume uses something that is not known here, so that nothing in it is read or changed.",
    way_out="Let its guest do it.",
)
def seal_not_known(why: str) -> Wording:
    """Word a sealed volume of a kind that is not known."""
    return f"the sealed volume is not opened: {why}", "let its guest do it"


@rule(
    meaning="A guest's crypttab has the name already by which a sealed volume would be unlocked.",
    way_out="Remove that line, or rename the disk.",
)
def unlock_name_in_use(line: int, name: str, source: str) -> Wording:
    """Word a name that another line of crypttab has."""
    return (
        f"line {line} of the guest's crypttab has the name {name} already, for {source}",
        "remove that line, or give the disk or volume another name",
    )


@rule(
    meaning="A key file cannot be put where a sheet has it in the guest's root, or cannot be made.",
    way_out="Give another path, or what is said to be missing.",
)
def key_file_in_the_way(at: str, why: str, remedy: str) -> Wording:
    """Word what keeps a key file from its place."""
    return f"the key file {at} cannot be put there: {why}", remedy


@rule(
    meaning="A key file in a guest's root opens a sealed volume without a passphrase: whoever has the root has what is "
    "in the volume.",
    way_out="Keep the root where only those get at it who may read the volume, or leave `key_file` out.",
)
def key_file_in_root(path: str) -> Wording:
    """Word what a key file gives away."""
    return f"whoever has the guest's root can open it by {path}", ""


@rule(
    meaning="A thin image of a sealed volume stays thin: what was never written is not filled with noise, so that "
    "whoever has the image sees which parts hold something, though not what.",
    way_out='Where that matters, `space = "full"` hides how much was ever written from the size of the image only; '
    "fill the volume once in its guest.",
)
def thin_shows_use() -> Wording:
    """Word what a thin image gives away of a sealed volume."""
    return "it is sealed in a thin image: whoever has that sees which parts of it were written, though not what", ""


@rule(
    meaning="Trying a passphrase takes so much memory in the guest, at each start; a guest with less does not unlock "
    "the volume.",
    way_out='Give less: `sealed = {memory = "64 MiB"}`.',
)
def unlocking_takes_memory(memory: int) -> Wording:
    """Word the memory that a guest needs."""
    return f"to unlock it, its guest needs {show_binary(memory)} of free memory for a moment", ""


@rule(
    meaning="A sealed disk is to be made on a host that was started without a passphrase, and none is sent there.",
    way_out="Start that host with `--passphrase-file` and `--recovery`.",
)
def host_has_no_passphrase(host: str) -> Wording:
    """Word a host that cannot seal."""
    return f"it is to be sealed, and host {host} was started without a passphrase", (
        f"start it again: narvet host {host} … --passphrase-file FILE --recovery FILE"
    )
