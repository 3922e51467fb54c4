"""Facts of files that nobody vouches for, read in a process apart: a parser that crashes or hangs costs one file.

What was found is remembered by content, in a small database among what can be made anew: a file that was looked at
once is known again under any name.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Sequence
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path
from types import TracebackType

from diadoche.core.answering import HANGS_S, Errand, NoAnswer
from diadoche.core.content_key import content_key
from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.identify.facts import Facts, unreadable
from diadoche.core.identify.probe import Depth, identify, with_sounds
from diadoche.core.names import shown
from diadoche.core.watch import Watch
from diadoche.services.side_processes.side_process import SideProcess, serve
from diadoche.services.wire import from_text, to_text

_LONGEST_S = {"headers": 20.0, "looked": 60.0, "counted": 300.0}
# Counting reads a file once, and looks at parts of it again.
_READS_OF_ALL = 3
_DEPTHS: tuple[Depth, ...] = ("headers", "looked", "counted")
# Another reading of the same bytes may say more: facts of an older one are made anew.
_READING = 5
# In the queue, what is read of clips gives way to copying them too: five of them may be at work on two processors.
_NICER = 5


class Parser:
    """Reads facts apart, one file after another; used on one thread."""

    def __init__(self, memory: FactsMemory | None = None, longest_s: float | None = None) -> None:
        """
        Args:
            memory: facts of earlier times; None remembers nothing.
            longest_s: how long one file may take, in seconds; usually by depth.
        """
        self._side_process = SideProcess("diadoche.services.side_processes.parser", _NICER if os.nice(0) > 0 else 0)
        self._memory = memory
        self._longest_s = longest_s

    def __enter__(self) -> Parser:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._side_process.close()

    def facts(
        self, paths: Sequence[Path], depth: Depth, watch: Watch | None = None, sounds: Sequence[Path] = ()
    ) -> Facts:
        """Facts of a file, or of the spans of one clip with their sound files. Never raises for what is in them.

        Raises:
            Cancelled: the watch was stopped meanwhile.
        """
        try:
            key, size_bytes = self._first_read((*paths, *sounds), watch or Watch())
        except NoAnswer:
            return unreadable(paths[0], _gave_up(paths[0], HANGS_S))
        known = self._memory.recall(key, depth) if self._memory is not None and key else None
        if known is not None:
            return _at(known, paths[0])
        longest_s = _LONGEST_S[depth] if self._longest_s is None else self._longest_s
        question = [depth, [str(path) for path in paths], [str(path) for path in sounds]]
        # To count is to read it all.
        most_bytes = _READS_OF_ALL * size_bytes if depth == "counted" else 0
        answer = self._side_process.ask(question, longest_s, watch, most_bytes)
        if answer is None:
            return unreadable(paths[0], _gave_up(paths[0], longest_s))
        facts = from_text(Facts, answer)
        # What could not be read may be readable in another reader.
        if self._memory is not None and key and facts.container != "unknown":
            self._memory.remember(key, depth, facts)
        return facts

    def _first_read(self, paths: Sequence[Path], watch: Watch) -> tuple[str, int]:
        """The content's key where it can be remembered, and how many bytes there are.

        It is read here, in a thread that can be left behind, so that a disk that hangs is told of as that, and not as
        one file after another that takes too long.

        Raises:
            NoAnswer: the disk hangs.
            Cancelled: the watch was stopped meanwhile.
        """

        def read() -> tuple[str, int]:
            with watch.calls:
                key = content_key(paths if self._memory is not None else paths[:1])
                size_bytes = 0
                # Whoever reads it tells what is wrong with one that is not there.
                with suppress(OSError):
                    size_bytes = sum(path.stat().st_size for path in paths)
                return key, size_bytes

        key, size_bytes = Errand(read, watch.calls, "first reading").result(watch.check)
        return (key if self._memory is not None else ""), size_bytes


def _at(facts: Facts, path: Path) -> Facts:
    """Facts of the same content under another name: problems speak of the file at hand."""
    before = Path(facts.path).name
    problems = tuple(
        replace(
            each,
            what=each.what.replace(shown(before), shown(path.name)),
            path=str(path) if each.path == facts.path else each.path,
        )
        for each in facts.problems
    )
    return replace(facts, path=str(path), problems=problems)


def _gave_up(path: Path, longest_s: float) -> Problem:
    return Problem(
        f"{shown(path.name)} could not be examined: its reading crashed, or came no further for {longest_s:.0f} s.",
        str(path),
        "The file itself is untouched; it is copied and proven like every other file.",
        "Play it on the camera; if it plays there, copy the card again.",
    )


class FactsMemory:
    """Facts by content. Whatever is wrong with its file, work goes on without it."""

    def __init__(self, path: Path) -> None:
        self._path = path
        with suppress(OSError, sqlite3.Error):
            path.parent.mkdir(parents=True, exist_ok=True)
            with closing(self._open()) as database, database:
                database.execute("PRAGMA journal_mode=WAL")
                database.execute(
                    "CREATE TABLE IF NOT EXISTS facts "
                    "(key TEXT, depth TEXT, reading INTEGER, facts TEXT, PRIMARY KEY (key, depth))"
                )

    def _open(self) -> sqlite3.Connection:
        return sqlite3.connect(self._path, timeout=2.0)

    def recall(self, key: str, depth: Depth) -> Facts | None:
        """What was found at this depth or a deeper one."""
        deep_enough = _DEPTHS[_DEPTHS.index(depth) :]
        try:
            with closing(self._open()) as database:
                asked = "SELECT depth, facts FROM facts WHERE key = ? AND reading = ?"
                known = dict(database.execute(asked, (key, _READING)).fetchall())
            text = next((known[each] for each in reversed(deep_enough) if each in known), "")
            return from_text(Facts, text) if text else None
        except (sqlite3.Error, ValueError):
            return None

    def remember(self, key: str, depth: Depth, facts: Facts) -> None:
        """Writes down what was found."""
        with suppress(sqlite3.Error), closing(self._open()) as database, database:
            row = (key, depth, _READING, to_text(facts))
            database.execute("INSERT OR REPLACE INTO facts VALUES (?, ?, ?, ?)", row)


def _answer(question: tuple[Depth, list[str], list[str]]) -> str:
    depth, paths, sounds = question
    try:
        facts = with_sounds(identify([Path(path) for path in paths], depth), [Path(path) for path in sounds])
    except DiadocheError as error:
        facts = unreadable(Path(paths[0]), error.problem)
    return to_text(facts)


def main() -> None:
    """Answers until nobody asks any more."""
    serve(_answer)
