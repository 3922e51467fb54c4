"""A real system bus, udevd and UDisks2, started for a test where that is possible, with loop devices as media."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import pytest

from diadoche.core.disks import mount_of

_UDISKS = Path("/usr/libexec/udisks2/udisksd")
_UDEV = Path("/lib/systemd/systemd-udevd")
_BUS_CONFIG = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>unix:path={socket}</listen>
<policy context="default"><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/><allow own="*"/></policy>
</busconfig>"""


def wait_until(true: Callable[[], object], seconds: float, what: str) -> None:
    """Waits for something to be true."""
    until = time.monotonic() + seconds
    while not true():
        if time.monotonic() > until:
            raise AssertionError(f"never came: {what}")
        time.sleep(0.02)


@contextmanager
def _running(words: list[str], **environment: str) -> Iterator[subprocess.Popen[bytes]]:
    process = subprocess.Popen(
        words, env={**os.environ, **environment}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        yield process
    finally:
        process.terminate()
        process.wait()


def _udev_answers() -> bool:
    words = ["udevadm", "control", "--ping", "--timeout=1"]
    return subprocess.run(words, capture_output=True, check=False).returncode == 0


def _listens(path: Path) -> bool:
    """Whether somebody listens at a socket: it is in its folder a moment before."""
    with socket.socket(socket.AF_UNIX) as asked:
        return asked.connect_ex(str(path)) == 0


@contextmanager
def plain_bus(folder: Path) -> Iterator[str]:
    """The address of a bus of its own with nothing on it; skipped with the reason where that cannot be."""
    if shutil.which("dbus-daemon") is None:
        pytest.skip("no bus here: dbus-daemon is missing")
    path, config = folder / "bus", folder / "bus.conf"
    config.write_text(_BUS_CONFIG.format(socket=path))
    with _running(["dbus-daemon", "--nofork", f"--config-file={config}"]):
        wait_until(lambda: _listens(path), 10, "the bus")
        yield f"unix:path={path}"


@contextmanager
def system_bus(folder: Path) -> Iterator[str]:
    """The address of a bus of its own with UDisks2 on it; skipped with the reason where that cannot be."""
    missing = [name for name in ("dbus-daemon", "losetup", "mkfs.ext4") if shutil.which(name) is None]
    missing += [str(path) for path in (_UDISKS, _UDEV) if not path.exists()]
    if missing:
        pytest.skip(f"no real disk service here: {', '.join(missing)} missing")
    if os.geteuid() != 0:
        pytest.skip("no real disk service here: loop devices and udevd need the superuser")
    if mount_of(folder) is None:
        pytest.skip("no real disk service here: this root is not in the kernel's table of mounts, as in a chroot")
    with ExitStack() as stack:
        address = stack.enter_context(plain_bus(folder))
        if not _udev_answers():
            stack.enter_context(_running([str(_UDEV)]))
            wait_until(_udev_answers, 10, "udevd")
        stack.enter_context(_running([str(_UDISKS), "--no-debug"], DBUS_SYSTEM_BUS_ADDRESS=address))
        ask = ["dbus-send", f"--bus={address}", "--print-reply", "--dest=org.freedesktop.UDisks2",
               "/org/freedesktop/UDisks2/Manager", "org.freedesktop.DBus.Peer.Ping"]  # fmt: skip
        try:
            wait_until(
                lambda: subprocess.run(ask, capture_output=True, check=False).returncode == 0, 20, "UDisks2 on the bus"
            )
        except AssertionError as error:
            pytest.skip(f"no real disk service here: {error}")
        yield address


def card_image(folder: Path, label: str, fill: Path) -> Path:
    """An ext4 image with a folder's content."""
    image = folder / f"{label}.img"
    words = ["mkfs.ext4", "-q", "-L", label, "-d", str(fill), str(image), "64M"]
    subprocess.run(words, check=True, capture_output=True)
    return image


@contextmanager
def loop_device(image: Path) -> Iterator[str]:
    """An image as a medium: gives the device."""
    done = subprocess.run(["losetup", "-f", "--show", str(image)], check=True, capture_output=True, text=True)
    device = done.stdout.strip()
    try:
        yield device
    finally:
        subprocess.run(["umount", "-l", device], capture_output=True, check=False)
        subprocess.run(["losetup", "-d", device], capture_output=True, check=False)


@contextmanager
def loop_card(folder: Path, label: str, fill: Path) -> Iterator[str]:
    """An ext4 image with a folder's content, on a loop device: gives the device."""
    with loop_device(card_image(folder, label, fill)) as device:
        yield device
