"""The person's own layouts, recipes, profiles and rigs, read where nobody waits: home may be on a disk that hangs."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Generic, TypeVar

from diadoche.core.cards.layout import Layout, load_layouts
from diadoche.core.convert.recipes import Recipe, mistaken_recipes, recipes
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.identify.route import Profile, load_profile, profile_names
from diadoche.core.sphere.rig import Rig, rig_named
from diadoche.services.background import BackgroundThreads
from diadoche.services.machine.state_places import StatePlaces

Value = TypeVar("Value")
# For how long the first reading is waited for, and one that a person asks for: both are over at once on a disk that
# answers.
_FIRST_S, _NOW_S = 1.0, 0.1

# Names, times and sizes of what is in a folder.
_Listing = tuple[tuple[str, int, int], ...]


@dataclass(frozen=True, slots=True)
class OwnRecipes:
    """All recipes by name, and what is wrong with some of the person's own."""

    known: Mapping[str, Recipe]
    mistakes: tuple[RequestError, ...]


class OwnFolder(Generic[Value]):
    """What is in one folder beside what comes with the program, as it was read last. Any thread may ask."""

    def __init__(
        self,
        folder: Path,
        read: Callable[[Path | None], Value],
        background: BackgroundThreads,
        changed: Callable[[], None],
    ) -> None:
        """
        Args:
            folder: it may not stand yet.
            read: what is in a folder; with None, what comes with the program alone.
            background: where it is read.
            changed: called on any thread when something else was found than before.
        """
        self.folder = folder
        self._read = read
        self._background = background
        self._changed = changed
        self._lock = threading.Lock()
        self._under_way: threading.Event | None = None
        self._found: tuple[_Listing, Value] | None = None
        self._supplied: Value | None = None

    @property
    def value(self) -> Value:
        """As it was read last; what comes with the program alone, where the disk does not answer."""
        if self._found is None and self._supplied is None:
            self.look_again().wait(_FIRST_S)
        if self._found is not None:
            return self._found[1]
        # Waited for once: from now on it is told when it comes.
        if self._supplied is None:
            self._supplied = self._read(None)
        return self._supplied

    def now(self) -> Value:
        """As it is now, for somebody who has just changed it; as it was before, where the disk does not answer."""
        under_way = self._under_way
        if under_way is None or under_way.wait(_NOW_S):
            self.look_again().wait(_NOW_S)
        return self.value

    def look_again(self) -> threading.Event:
        """Reads it anew if it has changed; gives what is set when that is over. One that hangs is not asked again."""
        with self._lock:
            if self._under_way is None or self._under_way.is_set():
                self._under_way = self._background.do(self._look)
            return self._under_way

    def _look(self) -> None:
        listing = _listing(self.folder)
        before = self._found
        if before is not None and before[0] == listing:
            return
        try:
            found = self._read(self.folder)
        except OSError:
            found = self._read(None)
        self._found = (listing, found)
        if before is not None or self._supplied is not None:
            self._changed()


def _listing(folder: Path) -> _Listing:
    found = []
    with suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            # A link that leads nowhere hides none of the others.
            with suppress(OSError):
                about = entry.stat()
                found.append((entry.name, about.st_mtime_ns, about.st_size))
    return tuple(sorted(found))


class OwnFiles:
    """All folders that a person may put files into."""

    def __init__(self, places: StatePlaces, changed: Callable[[], None] = lambda: None) -> None:
        """`changed` is called on any thread when something else was found than before."""
        self._background = BackgroundThreads()
        self.layouts = OwnFolder(places.own_layouts, _layouts, self._background, changed)
        self.recipes = OwnFolder(places.own_recipes, _recipes, self._background, changed)
        self.profiles = OwnFolder(places.own_profiles, _profiles, self._background, changed)
        self.rigs = OwnFolder(places.own_rigs, _rigs, self._background, changed)

    def look_again(self) -> None:
        """Reads what has changed, without waiting."""
        for each in (self.layouts, self.recipes, self.profiles, self.rigs):
            each.look_again()

    def close(self) -> None:
        """Ends the threads that wait for more to read."""
        self._background.close()


def _layouts(folder: Path | None) -> tuple[Layout, ...]:
    """Without the person's own where one of those has a mistake, which is told with the card."""
    try:
        return load_layouts(folder)
    except DiadocheError:
        return load_layouts()


def _recipes(folder: Path | None) -> OwnRecipes:
    return OwnRecipes(recipes(folder), mistaken_recipes(folder))


def _profiles(folder: Path | None) -> dict[str, Profile | RequestError]:
    found: dict[str, Profile | RequestError] = {}
    for name in profile_names(folder):
        try:
            found[name] = load_profile(name, folder)
        except RequestError as error:
            found[name] = error
    return found


def _rigs(folder: Path | None) -> dict[str, Rig | None]:
    """Of the person's own alone, by name; None instead of one that has a mistake."""
    found: dict[str, Rig | None] = {}
    for path in sorted(folder.glob("*.json")) if folder is not None else ():
        try:
            found[path.stem] = rig_named(path.stem, (path.parent,))
        except RequestError:
            found[path.stem] = None
    return found
