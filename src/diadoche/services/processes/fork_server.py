"""The process that others are forked from: it has loaded what they need, and starting one takes milliseconds.

It runs one thread, and opens no codec, ledger or bus before it forks: a fork takes along whatever is open, and locks
that another thread holds stay locked for ever. Over the socket on standard input it is asked for a module by name,
with two pipes; it answers with the number of the process that runs this module's `main`, and a descriptor of it.
Whoever was forked has a socket of its own to ask for more. It ends when all who may ask have gone.
"""

from __future__ import annotations

import ctypes
import gc
import importlib
import json
import os
import selectors
import socket
import sys
import traceback
from contextlib import suppress
from typing import Any

from diadoche.services.processes.forked_process import adopt

_LOADED = (
    "diadoche.services.queue.worker",
    "diadoche.services.side_processes.parser",
    "diadoche.services.side_processes.clip_trial",
)
_SET_NAME = 15
# The environment is part of it.
_QUESTION_BYTES = 1 << 18


def main() -> None:
    """Loads, and forks until nobody can ask any more."""
    load_all()
    channels = selectors.DefaultSelector()
    channels.register(socket.socket(fileno=os.dup(0)), selectors.EVENT_READ)
    children: dict[int, int] = {}
    while channels.get_map():
        for key, _ in channels.select():
            if isinstance(key.fileobj, socket.socket):
                _serve(key.fileobj, channels, children)
            else:
                channels.unregister(key.fd)
                os.waitpid(children.pop(key.fd), 0)
                os.close(key.fd)


def load_all() -> None:
    """Loads what those that are forked need."""
    for module in _LOADED:
        importlib.import_module(module)
    gc.collect()
    # What is there by now is shared by all: no collection need touch, and so copy, its pages.
    gc.freeze()


def _serve(channel: socket.socket, channels: selectors.BaseSelector, children: dict[int, int]) -> None:
    try:
        question, pipes, _, _ = socket.recv_fds(channel, _QUESTION_BYTES, 2)
    except OSError:
        question, pipes = b"", []
    if not question:
        channels.unregister(channel)
        channel.close()
        return
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    asked = json.loads(question)
    number = os.fork()
    if number == 0:
        status = 1
        try:
            ours.close()
            for key in list(channels.get_map().values()):
                # The others' sockets: they must be seen to close when the others have gone.
                os.close(key.fd)
            _become(asked, pipes, theirs)
            status = 0
        except BaseException:  # noqa: BLE001  # told where an ending interpreter would tell it
            traceback.print_exc()
        finally:
            # Nothing of an interpreter's long farewell is needed, and nothing of the server's may run in here.
            os._exit(status)
    theirs.close()
    for pipe in pipes:
        os.close(pipe)
    # Opened before it can be reaped: it can mean no other process, whatever numbers are used again.
    descriptor = os.pidfd_open(number)
    children[descriptor] = number
    channels.register(descriptor, selectors.EVENT_READ)
    channels.register(ours, selectors.EVENT_READ)
    with suppress(OSError):
        socket.send_fds(channel, [b"%d" % number], [descriptor])


def _become(asked: dict[str, Any], pipes: list[int], channel: socket.socket) -> None:
    module = asked["module"]
    os.nice(asked["niceness"])
    os.environ.clear()
    os.environ.update(asked["environment"])
    with suppress(OSError):
        os.chdir(asked["folder"])
    ctypes.CDLL(None).prctl(_SET_NAME, module.rpartition(".")[2].encode(), 0, 0, 0)
    for target, pipe in enumerate(pipes):
        os.dup2(pipe, target)
        os.close(pipe)
    sys.stdin, sys.stdout = os.fdopen(0, encoding="utf-8"), os.fdopen(1, "w", encoding="utf-8")
    adopt(channel)
    importlib.import_module(module).main()
    sys.stdout.flush()


if __name__ == "__main__":
    main()
