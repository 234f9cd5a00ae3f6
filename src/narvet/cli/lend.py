"""`narvet lend`."""

from __future__ import annotations

import logging
import sys
import threading
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import narvet
from narvet.cli.common import (
    A_PATH,
    AS_JSON,
    BASES,
    IMAGE_FORMAT,
    SECTOR,
    print_line,
    remark,
    report_well,
    with_partition,
)
from narvet.cli.ended import ended_by_signals
from narvet.cli.job import is_quiet, job
from narvet.cli.unseal import unseals

if TYPE_CHECKING:
    from narvet import Client, Server, What

_LOG = logging.getLogger("narvet")
_TARGET = "iqn.2026-11.internal.narvet:lend"
_EVERY = 0.5  # seconds between two pictures of the clients


@job("lend")
@click.argument("images", metavar="IMAGE[:PLACE]...", nargs=-1, required=True)
@click.option("--by", type=click.Choice(("nbd", "iscsi")), default="nbd", help="The protocol.  [nbd]")
@click.option("--at", help="HOST:PORT, or with NBD the path of a socket.  [127.0.0.1:10809, with iSCSI :3260]")
@click.option("--read-only", is_flag=True, help="Let nobody write.")
@click.option("--child-each", type=A_PATH, metavar="FOLDER", help="Give each client a child of its own, made here.")
@click.option("--child-format", type=click.Choice(narvet.IMAGE_FORMATS), default="qcow2", help="Format of these.")
@click.option("--keep", is_flag=True, help="Keep the children once their clients have gone.")
@click.option("--certificate", type=A_PATH, help="This server's certificate, in PEM: every connection is sealed.")
@click.option("--key", type=A_PATH, help="The key of the certificate, in PEM.")
@click.option("--clients", type=A_PATH, help="Whose certificates clients must have, in PEM.")
@click.option("--target", help="With iSCSI: the target's name.  [iqn.2026-11.internal.narvet:lend]")
@click.option("--logins", type=A_PATH, metavar="FILE", help="With iSCSI: secrets that clients must know, as TOML.")
@click.option("--unguarded", is_flag=True, help="Lend to other machines also where anybody can take the disks.")
@IMAGE_FORMAT
@SECTOR
@BASES
@unseals()
@AS_JSON
def command(images: tuple[str, ...], by: str, at: str | None, as_json: bool, **known: Any) -> None:
    """Lend disks to machines that attach them as block devices, over NBD or iSCSI, until Ctrl-C or a signal ends it.

    Each IMAGE is lent by its file's name without the ending, whatever its format; PLACE is one of its partitions, or a
    volume with its pool. It is held as long as it is lent, so that nothing else changes it. With iSCSI the images are
    units 0, 1 and on of one target.

    Example: narvet lend stores/vault/trials.vhdx --at 127.0.0.1:10809
    """
    is_iscsi = by == "iscsi"
    address = _address(at or f"127.0.0.1:{3260 if is_iscsi else 10809}")
    over = _over_iscsi(address, **known) if is_iscsi else _over_nbd(**known)
    is_guarded = bool(known["clients"] or known["logins"])
    _check_guarded(address, guarded=is_guarded, is_sealed=not is_iscsi, asked=known["unguarded"])
    wishes = narvet.LendWishes(
        known["read_only"], known["image_format"], known["bases"], known["child_each"], known["child_format"],
        known["keep"], known["sector_size"],
    )  # fmt: skip
    if known["keep"] and known["child_each"] is None:
        raise click.UsageError("--keep is about --child-each.")
    shows = not as_json and not is_quiet() and sys.stderr.isatty()
    ended = ended_by_signals()
    told = threading.Lock()

    def heard(what: What, client: Client, why: str) -> None:
        from narvet.report.lending import event_line, lent_facts

        with told:
            if as_json:
                print_line(lent_facts(what, client, why))
            elif shows:
                _LOG.info(event_line(what, client, why))
            else:
                remark(event_line(what, client, why))

    with ExitStack() as stack:
        places = [with_partition(one) for one in images]
        server = stack.enter_context(narvet.lend(places, address, heard, wishes, over))
        if not as_json:
            for name in server.names:
                report_well(f"{name}: {server.about(name)}, at {server.url(name)}")
        _until(ended, server, shows=shows)
    if not as_json:
        report_well("Everything that was acknowledged is stored.")


def _until(ended: threading.Event, server: Server, *, shows: bool) -> None:
    """Wait for the end; on a terminal the clients are shown meanwhile."""
    if not shows:
        ended.wait()
        return
    from rich.live import Live

    from narvet.report.lending import View
    from narvet.report.terminal import message_console

    view = View()
    with Live(console=message_console(), auto_refresh=False, transient=True) as live:
        while not ended.wait(_EVERY):
            live.update(view.shown(list(server.clients.values()), str(server.address)), refresh=True)


def _address(at: str) -> narvet.Address:
    """Return where to listen.

    Raises:
        RequestError: it is no address.
    """
    if "/" in at:
        return narvet.Address(path=str(Path(at)))
    host, _, port = at.rpartition(":")
    if not host or not (port.isascii() and port.isdigit()) or int(port) > 65535:
        raise narvet.RequestError(f"{at}: this is no address; give HOST:PORT, or the path of a socket")
    return narvet.Address(host.strip("[]"), int(port))


def _over_nbd(
    certificate: Path | None, key: Path | None, clients: Path | None, target: str | None, logins: Path | None, **_: Any
) -> narvet.OverNbd:
    if target or logins:
        raise click.UsageError("--target and --logins are about --by iscsi.")
    if certificate is None and key is None and clients is None:
        return narvet.OverNbd()
    if certificate is None or key is None:
        raise click.UsageError("--certificate and --key belong together; --clients needs both.")
    return narvet.OverNbd(narvet.Certificates(certificate, key, clients))


def _over_iscsi(
    address: narvet.Address, target: str | None, logins: Path | None, certificate: Path | None, key: Path | None,
    clients: Path | None, **_: Any,
) -> narvet.OverIscsi:  # fmt: skip
    if certificate or key or clients:
        raise click.UsageError("--certificate, --key and --clients are about --by nbd; iSCSI has --logins.")
    if address.path:
        raise narvet.RequestError(f"{address}: iSCSI has no sockets in folders; give HOST:PORT")
    return narvet.OverIscsi(target or _TARGET, None if logins is None else narvet.read_logins(logins))


def _check_guarded(address: narvet.Address, *, guarded: bool, is_sealed: bool, asked: bool) -> None:
    """Refuse to lend to other machines where anybody could take the disks, unless that is asked for.

    Raises:
        RequestError: it is not.
    """
    if address.is_local or guarded:
        if not (address.is_local or is_sealed):
            remark(
                f"What is read and written at {address} goes over the network as it is: anybody on the way can see it."
            )
        return
    if not asked:
        raise narvet.RequestError(
            f"{address}: other machines reach this, and anybody on them could take the disks; have clients show a "
            "certificate (--certificate, --key, --clients) or know a secret (--by iscsi --logins), or add --unguarded"
        )
    remark(f"Anybody who reaches {address} can read these disks, and write to them unless they are read only.")
