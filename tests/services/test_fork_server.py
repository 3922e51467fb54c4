"""Processes forked from one that is ready: one thread, what is of now, and every kind of death."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from diadoche.services.processes.forked_process import ForkServer
from tests.system_bus import wait_until

ECHO = "tests.services.forked_echo"
# A program that has a process forked, tells its number and that of the server, and then waits to be killed.
PARENT = """
import sys, time
from diadoche.services.processes.forked_process import FORK_SERVER
forked = FORK_SERVER.fork("tests.services.forked_echo")
print(forked.number, FORK_SERVER._process.pid, flush=True)
time.sleep(600)
"""


@pytest.fixture
def server() -> Iterator[ForkServer]:
    made = ForkServer()
    yield made
    made.close()


def said(server: ForkServer, word: str) -> dict[str, str]:
    """What a process that echoes says to one word."""
    forked = server.fork(ECHO)
    try:
        forked.write(json.dumps(word).encode() + b"\n")
        return json.loads(forked.stdout.readline())
    finally:
        forked.close()
        assert forked.wait(10)


def pid_of(server: ForkServer) -> int:
    assert server._process is not None
    return server._process.pid


def test_what_is_forked_has_the_folder_and_the_environment_of_now(
    server: ForkServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert said(server, "one")["word"] == "one"
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("DIADOCHE_TEST", "later")
    answer = said(server, "two")
    assert answer == {"word": "two", "folder": str(tmp_path), "environment": "later", "name": "forked_echo"}


def test_the_server_runs_one_thread_and_holds_nothing_of_those_that_have_ended(server: ForkServer) -> None:
    said(server, "one")
    one = psutil.Process(pid_of(server))
    wait_until(lambda: not one.children(), 10, "it has reaped the first")
    wait_until(lambda: len(os.listdir(f"/proc/{one.pid}/fd")) <= 5, 10, "its descriptors are closed")
    for number in range(20):
        said(server, str(number))
    wait_until(lambda: len(os.listdir(f"/proc/{one.pid}/fd")) <= 5, 10, "its descriptors are closed")
    assert one.num_threads() == 1


def test_a_server_that_died_is_started_anew_and_what_it_had_forked_goes_on(server: ForkServer) -> None:
    forked = server.fork(ECHO)
    first = pid_of(server)
    os.kill(first, signal.SIGKILL)
    assert said(server, "again")["word"] == "again"
    assert pid_of(server) != first
    assert not forked.ended
    forked.write(b'"still here"\n')
    assert json.loads(forked.stdout.readline())["word"] == "still here"
    forked.kill()
    assert forked.wait(10)
    with pytest.raises(BrokenPipeError):
        forked.write(b'"no more"\n')
    forked.close()


def test_nothing_outlives_a_parent_that_was_killed() -> None:
    parent = subprocess.Popen([sys.executable, "-c", PARENT], stdout=subprocess.PIPE, text=True)
    assert parent.stdout is not None
    with parent.stdout:
        numbers = [int(number) for number in parent.stdout.readline().split()]
        parent.kill()
        parent.wait()
    wait_until(lambda: not any(map(psutil.pid_exists, numbers)), 20, "its server and what that forked have ended")
