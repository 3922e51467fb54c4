"""Cards by address: a camera or file server on the network, shown as a folder that is only read."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from diadoche.core.errors import RequestError, SourceError
from diadoche.core.names import safe_name
from diadoche.services.devices.disk_watch import Medium

_PORT = 445
_PATIENCE_S = 15
_ADDRESS = re.compile(r"^(?:(?:smb|cifs):)?[/\\]{0,2}([^/\\:@\s]+)(?::(\d+))?(?:[/\\]+(.*))?$")


@dataclass(frozen=True, slots=True)
class Address:
    """Where a share is. `folders` lead to the card inside it."""

    server: str
    share: str
    folders: tuple[str, ...] = ()
    port: int = _PORT

    @property
    def name(self) -> str:
        """The usual way of writing it."""
        return "/".join(("//" + self.server, self.share, *self.folders))


def read_address(text: str) -> Address:
    """An address as people type it: server/share, //server/share/folder, smb://server:port/share, \\\\server\\share.

    Raises:
        RequestError: it names no server, or no share on it.
    """
    match = _ADDRESS.match(text.strip())
    parts = [part for part in re.split(r"[/\\]+", match[3] or "") if part] if match else []
    if match is None or not parts:
        raise RequestError(
            f"{text.strip() or 'Nothing'} is not the address of a share.",
            do="Write server/share, as the camera or the server shows it.",
        )
    if ".." in parts:
        raise RequestError(f"{text} leaves the share.", do="Write plain folder names.")
    return Address(match[1], parts[0], tuple(PurePosixPath(part).name for part in parts[1:]), int(match[2] or _PORT))


class NetworkCards:
    """The shares that are connected, each by a process of its own."""

    def __init__(self, folder: Path) -> None:
        """`folder` is where shares appear."""
        self._folder = folder
        self._children: dict[str, tuple[subprocess.Popen[str], Path]] = {}

    def connect(self, text: str, user: str = "", password: str = "", patience_s: int = _PATIENCE_S) -> Medium:
        """Connects to a share and shows it as a medium; the password goes to the connection alone.

        Raises:
            RequestError: that is no address.
            SourceError: the server does not answer, refuses, or shares cannot be shown on this machine.
        """
        address = read_address(text)
        key = f"network:{address.name}"
        self.disconnect(key)
        point = self._folder / safe_name(address.name.strip("/").replace("/", " "))
        point.mkdir(parents=True, exist_ok=True)
        child = subprocess.Popen(
            [sys.executable, "-m", "diadoche.services.devices.network_mount"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        assert child.stdin is not None
        assert child.stdout is not None
        asked = {
            "server": address.server, "port": address.port, "share": address.share, "folders": address.folders,
            "name": address.name, "point": str(point), "user": user, "password": password, "patience_s": patience_s,
        }  # fmt: skip
        child.stdin.write(json.dumps(asked) + "\n")
        child.stdin.close()
        told = json.loads(child.stdout.readline() or '{"failed": "its process ended"}')
        child.stdout.close()
        if "failed" in told or not _appears(point, child):
            child.kill()
            child.wait()
            raise SourceError(
                f"{address.name} cannot be read: {told.get('failed', 'shares cannot be shown as folders here')}.",
                path=address.name,
                safe="Nothing was changed.",
                do="Check the address, the name and the password; leave the cards in the camera while it lists them.",
            )
        self._children[key] = (child, point)
        return Medium(key, point, address.folders[-1] if address.folders else address.share, address.server, 0,
                      f"server:{address.server}", True)  # fmt: skip

    def disconnect(self, key: str) -> None:
        """Lets a share go."""
        child, point = self._children.pop(key, (None, None))
        if child is not None and point is not None:
            for program in ("fusermount3", "fusermount", "umount"):
                try:
                    if subprocess.run(_unmount(program, point), capture_output=True, check=False).returncode == 0:
                        break
                except FileNotFoundError:
                    continue
            child.terminate()
            child.wait()
            point.rmdir()

    def close(self) -> None:
        """Lets all shares go."""
        for key in list(self._children):
            self.disconnect(key)


def _unmount(program: str, point: Path) -> list[str]:
    return [program, *([] if program == "umount" else ["-u", "-z"]), str(point)]


def _appears(point: Path, child: subprocess.Popen[str]) -> bool:
    until = time.monotonic() + _PATIENCE_S
    while time.monotonic() < until:
        if point.is_mount():
            return True
        if child.poll() is not None:
            return False
        time.sleep(0.02)
    return False
