"""A process forked from the fork server, from its parent's side: two pipes, and a descriptor that means it alone."""

from __future__ import annotations

import atexit
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
from contextlib import suppress
from io import FileIO
from pathlib import Path
from typing import BinaryIO

_ENDING_S = 5.0
_ANSWERING_S = 60.0
_ANSWER_BYTES = 64
# A second thread, of a library of linear algebra, would be lost in every fork: what is loaded must run one.
_ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}


class ForkedProcess:
    """One such process. `stdin` takes what it is to read, `stdout` gives what it writes; both are unbuffered."""

    def __init__(self, number: int, descriptor: int, stdin: FileIO, stdout: BinaryIO) -> None:
        """Takes over the process's descriptor and this side's ends of the pipes."""
        self.number = number
        self.stdin, self.stdout = stdin, stdout
        self._descriptor = descriptor

    @property
    def ended(self) -> bool:
        """Whether it has ended."""
        return self.wait(0.0)

    def wait(self, longest_s: float) -> bool:
        """Whether it has ended, waited for so long at most. The system itself cannot end what a disk owes an answer."""
        poll = select.poll()
        poll.register(self._descriptor, select.POLLIN)
        return bool(poll.poll(longest_s * 1000))

    def bytes_read(self) -> int:
        """How many bytes it has read so far, wherever they came from, as the kernel counts them; 0 where none does."""
        try:
            counted = Path(f"/proc/{self.number}/io").read_text("ascii")
        except OSError:
            return 0
        words = counted.partition("rchar:")[2].split()
        return int(words[0]) if words else 0

    def kill(self) -> None:
        """Ends it at once."""
        with suppress(ProcessLookupError):
            signal.pidfd_send_signal(self._descriptor, signal.SIGKILL)

    def write(self, data: bytes) -> None:
        """Writes all of it.

        Raises:
            BrokenPipeError: it has ended.
            ValueError: the pipes were closed.
        """
        left = memoryview(data)
        while left:
            left = left[self.stdin.write(left) :]

    def close(self) -> None:
        """Closes the pipes; a process that waits for more to read ends by that."""
        for pipe in (self.stdin, self.stdout):
            # What was still to be written to a process that is gone goes with it.
            with suppress(OSError):
                pipe.close()

    def __del__(self) -> None:
        # As long as anybody has this, the descriptor stands: no other thread can ask about a closed one.
        os.close(self._descriptor)


class ForkServer:
    """The one server of this process; started when first asked, and again after it died. Any thread may ask."""

    def __init__(self) -> None:
        self._channel: socket.socket | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()

    def fork(self, module: str, nicer: int = 0) -> ForkedProcess:
        """A process that runs a module's `main`.

        Args:
            module: by its name.
            nicer: by how much more it gives way than whoever asks for it.

        Raises:
            OSError: no process can be made on this machine now.
        """
        their_stdin, our_stdin = os.pipe()
        our_stdout, their_stdout = os.pipe()
        # The server was started earlier: what a process inherits is that of now.
        asked = {"module": module, "niceness": os.nice(0) + nicer, "folder": _folder(), "environment": dict(os.environ)}
        question = json.dumps(asked).encode("ascii")
        try:
            number, descriptor = self._asked(question, [their_stdin, their_stdout])
        except BaseException:
            os.close(our_stdin)
            os.close(our_stdout)
            raise
        finally:
            os.close(their_stdin)
            os.close(their_stdout)
        stdin = FileIO(our_stdin, "wb")
        return ForkedProcess(number, descriptor, stdin, os.fdopen(our_stdout, "rb", buffering=-1))

    def warm_up(self) -> None:
        """Starts the server, so that it has loaded everything before it is needed."""
        with self._lock:
            if self._channel is None:
                self._start()

    def close(self) -> None:
        """Lets the server end; what was forked goes on."""
        with self._lock:
            self._drop()

    def take_over(self, channel: socket.socket) -> None:
        """In a process that was just forked: asks over its own channel, and not over its parent's."""
        self._channel = channel

    def _asked(self, question: bytes, pipes: list[int]) -> tuple[int, int]:
        with self._lock:
            if self._channel is not None:
                with suppress(OSError):
                    return self._exchange(self._channel, question, pipes)
                # It has died: those it had forked live on.
                self._drop()
            return self._exchange(self._start(), question, pipes)

    @staticmethod
    def _exchange(channel: socket.socket, question: bytes, pipes: list[int]) -> tuple[int, int]:
        try:
            socket.send_fds(channel, [question], pipes)
            answer, descriptors, _, _ = socket.recv_fds(channel, _ANSWER_BYTES, 1)
        except OSError as error:
            raise BrokenPipeError("the fork server has ended") from error
        if not descriptors:
            raise BrokenPipeError("the fork server has ended")
        return int(answer), descriptors[0]

    def _start(self) -> socket.socket:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "diadoche.services.processes.fork_server"],
                stdin=theirs.fileno(),
                # A group of its own keeps the terminal's Ctrl-C away. Not a session: the kernel shares the processors
                # between sessions first, and eight workers would leave the window a ninth.
                process_group=0,
                env=os.environ | _ONE_THREAD,
            )
        ours.settimeout(_ANSWERING_S)
        self._channel = ours
        return ours

    def _drop(self) -> None:
        channel, process = self._channel, self._process
        self._channel = self._process = None
        if channel is not None:
            channel.close()
        if process is not None:
            try:
                process.wait(_ENDING_S)
            except subprocess.TimeoutExpired:
                # Somebody else who may still ask keeps it; it ends with the last of them.
                threading.Thread(target=process.wait, daemon=True).start()


def _folder() -> str:
    with suppress(OSError):
        return str(Path.cwd())
    return "/"


FORK_SERVER = ForkServer()
atexit.register(FORK_SERVER.close)


def adopt(channel: socket.socket) -> None:
    """Called once in a process that was just forked."""
    FORK_SERVER.take_over(channel)
