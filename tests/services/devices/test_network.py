"""Cards by address, against a real Samba server."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.disks import disk_of
from diadoche.core.errors import RequestError, SourceError
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import offload
from diadoche.core.offload.plan import plan_offload
from diadoche.core.watch import Watch
from diadoche.services.devices.network import Address, NetworkCards, read_address
from tests.snapshots import contents
from tests.system_bus import wait_until


@contextmanager
def samba(folder: Path, shared: Path) -> Iterator[int]:
    """A Samba server with one share, "cards", that guests may read; gives its port."""
    if shutil.which("smbd") is None or os.geteuid() != 0:
        pytest.skip("no Samba server here, or no right to start one")
    if not Path("/dev/fuse").exists():
        pytest.skip("no FUSE here: a share cannot be shown as a folder")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    state = folder / "samba"
    state.mkdir()
    config = state / "smb.conf"
    config.write_text(
        f"""[global]
server role = standalone server
map to guest = bad user
guest account = nobody
interfaces = lo
bind interfaces only = yes
disable netbios = yes
smb ports = {port}
private dir = {state}
lock directory = {state}
state directory = {state}
cache directory = {state}
pid directory = {state}
ncalrpc dir = {state}/rpc
log file = {state}/log
load printers = no
printing = bsd
printcap name = /dev/null
[cards]
path = {shared}
guest ok = yes
read only = yes
"""
    )
    process = subprocess.Popen(
        ["smbd", "--foreground", "--no-process-group", f"--configfile={config}"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip

    def answers() -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", port)) == 0

    try:
        wait_until(answers, 20, "the Samba server")
        yield port
    finally:
        # Its helpers too, and at once: it has nothing of value.
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()


@pytest.mark.parametrize(
    ("text", "address"),
    [
        ("cam7/cards", Address("cam7", "cards")),
        ("//cam7/cards/A", Address("cam7", "cards", ("A",))),
        ("smb://10.0.0.7:4445/cards", Address("10.0.0.7", "cards", (), 4445)),
        ("\\\\cam7\\cards\\B\\C", Address("cam7", "cards", ("B", "C"))),
    ],
)
def test_addresses_as_people_type_them(text: str, address: Address) -> None:
    assert read_address(text) == address


@pytest.mark.parametrize("text", ["", "cam7", "//cam7/", "cam7/cards/../.."])
def test_what_is_no_address_is_refused(text: str) -> None:
    with pytest.raises(RequestError):
        read_address(text)


def test_a_share_is_offloaded_as_a_card(tmp_path: Path, drone: Path) -> None:
    shared = tmp_path / "shared"
    shutil.copytree(drone, shared / "card A")
    os.chmod(tmp_path, 0o755)  # noqa: PTH101  # the guest must be let in
    for above in tmp_path.parents[:-2]:
        above.chmod(0o755)
    cards = NetworkCards(tmp_path / "network")
    with samba(tmp_path, shared) as port:
        try:
            medium = cards.connect(f"smb://127.0.0.1:{port}/cards/card A")
            assert medium.label == "card A"
            # A server on this very machine may keep its files on any of its disks.
            assert disk_of(medium.path).kind == "unknown"
            assert contents(medium.path) == contents(drone)
            with pytest.raises(OSError, match="Read-only"):
                (medium.path / "x").write_text("x")
            plan = plan_offload(list_tree(medium.path), NamingValues("S", date(2026, 6, 14), "C"), (tmp_path / "a",))
            result = offload(plan, Watch(), version="test", now=lambda: datetime.now(UTC))
            assert result.copies[0].status == "proven", result.problems
            assert contents(Path(result.copies[0].root)) == contents(drone)
        finally:
            cards.close()
        assert not medium.path.exists()


def test_a_server_that_is_not_there_is_named(tmp_path: Path) -> None:
    cards = NetworkCards(tmp_path / "network")
    with pytest.raises(SourceError, match=r"//127\.0\.0\.1/cards cannot be read"):
        cards.connect("smb://127.0.0.1:9/cards", patience_s=2)
