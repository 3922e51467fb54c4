"""A machine that does to copies what people and faults do, and holds every claim against the truth after each step.

Steps are drawn by a generator with its own seed and logged as plain values, so that a run can be replayed and
shortened: `python -m tests.survival.claims_machine --seed 7 --steps 200`. Operations run by the command line in
processes of their own, or by the window's own station; faults happen on real mounts and disks between and during.

It has a memory of its own: what each card ever held, which card each folder was begun for, which copies never had all
of it. What the product says of its folders is held against that, and never against what the product wrote there.
"""

from __future__ import annotations

import argparse
import errno
import json
import os
import random
import shutil
import signal
import sqlite3
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from diadoche.demo.faulty_folder import Faults, FaultyMount, can_mount
from tests.loaded import Loaded, Run
from tests.survival.truth import (
    Digests,
    copies_in,
    digest_of,
    files_of,
    is_as_listed,
    is_marked_unfinished,
    manifest_of,
    shas_of,
)

NO_FAULTS = Faults()
PLACES = 3
CARDS = 3


@dataclass(frozen=True)
class Step:
    """What is done, with numbers between 0 and 1 that pick from what there is at that moment."""

    what: str
    picks: tuple[float, ...]


@dataclass
class Tally:
    """How often each kind of claim was made, by what it said; and which were false."""

    said: Counter[tuple[str, bool]] = field(default_factory=Counter)
    false: list[str] = field(default_factory=list)

    def claim(self, kind: str, said: bool, true: bool, words: str) -> None:
        """Something was said that is true or not. Saying too little is no false claim where only a yes is a promise."""
        self.said[kind, said] += 1
        if said and not true:
            self.false.append(f"{kind}: {words}")

    def equal(self, kind: str, said: object, truth: object, words: str) -> None:
        """Something was said that has to be exactly so."""
        self.said[kind, bool(said)] += 1
        if said != truth:
            self.false.append(f"{kind}: {words}: said {said!r}, true is {truth!r}")


class World:
    """Cards, places and a ledger in a folder; what was true of each copy when it was last read."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.folder = folder
        self.dice = random.Random(seed)
        self.tally = Tally()
        self.log: list[Step] = []
        self.last: tuple[list[str], int, Any] = ([], 0, None)
        self._loaded = Loaded()
        self._environment = dict(os.environ) | {
            f"XDG_{name}_HOME": str(folder / "xdg" / name.lower()) for name in ("STATE", "CONFIG", "CACHE", "DATA")
        }
        self.cards = [folder / "cards" / f"CARD{number}" for number in range(CARDS)]
        for number, card in enumerate(self.cards):
            self._fill(card, number)
        self.can_fail = not can_mount()
        (folder / "behind").mkdir()
        self.places = [folder / f"place{number}" for number in range(PLACES - 1)]
        for place in self.places:
            place.mkdir()
        self._disk: FaultyMount | None = None
        self._reader: FaultyMount | None = None
        if self.can_fail:
            self._disk = FaultyMount(folder / "behind", folder / "disk", writable=True)
            self._reader = FaultyMount(folder / "cards", folder / "reader")
            self.places.append(folder / "disk")
        # What the card held when a copy of it was last offloaded or completed, by the copy's folder.
        self.wanted: dict[Path, Digests] = {}
        # Whether a copy was whole and right when the product read it last.
        self.good_when_read: dict[str, bool] = {}
        # What was changed behind the product's back since it read a copy last.
        self.touched: set[tuple[Path, str]] = set()
        # What a reader gave that lied once, where nobody could know it.
        self.lied: set[str] = set()
        # Every content that a card ever had, by the card; and the card that each folder was begun for.
        self.held: dict[Path, set[str]] = {card: set(shas_of(card).values()) for card in self.cards}
        self.begun_for: dict[Path, Path] = {}
        # Copies that never had all of their card, whatever they say of themselves by now.
        self.never_whole: set[Path] = set()
        # Copies whose manifests somebody altered or took away: a ledger that forgot the card cannot vouch for them.
        self.altered: set[Path] = set()
        # A folder of somebody's, to which links lead.
        self.outside = folder / "somebody's"
        self.outside.mkdir()
        (self.outside / "theirs.txt").write_text("not yours")

    def close(self) -> None:
        self._loaded.close()
        for mount in (self._disk, self._reader):
            if mount is not None:
                mount.close()

    def _fill(self, card: Path, number: int) -> None:
        folder = card / "DCIM/100ABCDE"
        folder.mkdir(parents=True)
        dice = random.Random(number)
        if number == CARDS - 1:
            # Names that some disks refuse.
            (folder / "take 1: wide?.JPG").write_bytes(dice.randbytes(2_000))
        for at in range(1, 5 + number):
            size = dice.choice((1, 900, 40_000, 700_000, 1_400_000))
            (folder / f"ABCD{at:04}.JPG").write_bytes(dice.randbytes(size))
        (card / "MISC").mkdir()
        (card / "MISC/NOTES.TXT").write_bytes(dice.randbytes(300))

    # -- what there is -----------------------------------------------------------------------------

    def behind(self, path: Path) -> Path:
        """Where the bytes of a path really are: beneath the mount that fails."""
        disk = self.folder / "disk"
        return self.folder / "behind" / path.relative_to(disk) if path.is_relative_to(disk) else path

    def copies(self) -> list[Path]:
        """Every copy at every place."""
        return [
            place / copy.relative_to(self.behind(place))
            for place in self.places
            for copy in copies_in(self.behind(place))
        ]

    def begun(self, before: set[Path], truth: Digests, card: Path) -> None:
        """Copies that have come since, of a run that could not say what it did, are of a card that held this."""
        for root in set(self.copies()) - before:
            self.wanted[root] = truth
            self.begun_for[root] = card
            self.forget_reading(root)

    def has_all(self, root: Path) -> bool:
        """Whether a copy has every content that its card held when it was taken, under whatever names."""
        there = Counter(shas_of(self.behind(root)).values())
        wanted = Counter(sha for sha in self.wanted.get(root, {}).values() if sha not in self.lied)
        return root not in self.never_whole and not wanted - there

    def forget_reading(self, root: Path) -> None:
        """Nothing is known any more of what was read there."""
        self.good_when_read.pop(str(root), None)
        self.touched = {each for each in self.touched if each[0] != root}

    def run(self, words: list[str], *, kill_ms: int | None = None, by: int = signal.SIGKILL, step: str = "") -> Any:
        """Runs the command line; gives its JSON, or None where it was killed or said none."""
        out = self.folder / "out.json"
        out.unlink(missing_ok=True)
        run = Run([*words, "--json"], killed_after_ms=kill_ms, signal=by, step=step, out=str(out))
        run.environment = self._environment
        code = self._loaded.ended(run)
        try:
            said = json.loads(out.read_text())
        except (OSError, ValueError):
            said = None
        self.last = (words, code, said)
        return said, code

    def set_faults(self, reader: Faults = NO_FAULTS, disk: Faults = NO_FAULTS) -> None:
        for mount, faults in ((self._reader, reader), (self._disk, disk)):
            if mount is not None:
                mount.set(faults)

    @property
    def ledger(self) -> Path:
        return self.folder / "xdg/state/diadoche/ledger.sqlite"

    # -- steps -------------------------------------------------------------------------------------

    def draw(self) -> Step:
        """The next step."""
        names, weights = zip(*((name, weight) for name, (weight, _do) in STEPS.items()), strict=True)
        return Step(self.dice.choices(names, weights)[0], tuple(round(self.dice.random(), 6) for _ in range(6)))

    def take(self, step: Step) -> None:
        """Takes a step and holds everything that is said afterwards against the truth."""
        self.log.append(step)
        cards_before = {card: files_of(card) for card in self.cards}
        STEPS[step.what][1](self, step.picks)
        if step.what not in CARD_CHANGES:
            for card, before in cards_before.items():
                self.tally.claim("card untouched", True, files_of(card) == before, f"{card.name} by {step.what}")
        for card in self.cards:
            self.held[card] |= set(shas_of(card).values())
        _check_folders(self, step)
        _check_ledger(self)


def _check_folders(world: World, step: Step) -> None:
    """No folder has come to hold another card's files, and nothing was written through a link."""
    theirs = sorted(path.name for path in world.outside.iterdir())
    world.tally.claim("outside untouched", True, theirs == ["theirs.txt"], f"{theirs} by {step.what}")
    for root, card in list(world.begun_for.items()):
        if not world.behind(root).is_dir():
            del world.begun_for[root]
            continue
        others = set().union(*(held for other, held in world.held.items() if other != card)) - world.held[card]
        strange = [path for path, sha in shas_of(world.behind(root)).items() if sha in others]
        world.tally.claim("one card a folder", True, not strange, f"{root} of {card.name} has {strange} by {step.what}")


def _pick(things: list[Any], pick: float) -> Any:
    return things[int(pick * len(things))] if things else None


def _card_path(world: World, card: Path, through_reader: bool) -> Path:
    return world.folder / "reader" / card.name if through_reader and world.can_fail else card


def _places(world: World, picks: tuple[float, ...]) -> list[Path]:
    chosen = [place for place, pick in zip(world.places, picks, strict=False) if pick < 0.6]
    return chosen or world.places[:1]


def _offload_words(card: Path, places: list[Path], pick: float) -> list[str]:
    to = [word for place in places for word in ("--to", str(place))]
    options = ["--digest", "md5"] if pick < 0.1 else ["--read-twice"] if pick < 0.25 else []
    options = ["--without-stills"] if 0.25 <= pick < 0.4 else options
    return ["offload", str(card), *to, "--shoot", "S", *options]


def _offload(world: World, picks: tuple[float, ...], reader: Faults = NO_FAULTS, disk: Faults = NO_FAULTS) -> None:
    card = _pick(world.cards, picks[0])
    faulty = reader != Faults()
    places = _places(world, picks[1:4])
    if disk != Faults() and world.can_fail and world.folder / "disk" not in places:
        places.append(world.folder / "disk")
    new_only = picks[5] < 0.2
    words = _offload_words(_card_path(world, card, faulty or picks[5] > 0.7), places, picks[4])
    truth = shas_of(card)
    known = _standing(world, card) if new_only else {}
    before = set(world.copies())
    world.set_faults(reader, disk)
    said, code = world.run([*words, "--new-only"] if new_only else words)
    world.set_faults()
    world.begun(before, truth, card)
    if said is not None and "copies" in said:
        _check_offload(
            world, said, code, truth, lying=reader.flip_read_at >= 0 and "--read-twice" not in words, known=known
        )


def _check_offload(
    world: World, said: dict[str, Any], code: int, truth: Digests, *, lying: bool = False, known: Digests | None = None
) -> None:
    """Every claim of an offload against card and copies.

    `lying`: the reader gave a wrong bit once, which nobody can know without a second reading.
    `known`: files of the card that stood in proven copies, and may be left out.
    """
    stills_left_out = any("still" in each["what"] for each in said["skipped"])
    if stills_left_out:
        truth = {path: sha for path, sha in truth.items() if not path.endswith(".JPG")}
        world.tally.claim("whole", said["whole"], False, "stills were left out")
    renamed = {each["path"]: each["kept_as"] for each in said["renamed"]}
    left_out = any("stood in a proven copy" in each["what"] for each in said["skipped"])
    for copy in said["copies"]:
        root = Path(copy["root"])
        there = shas_of(world.behind(root)) if world.behind(root).is_dir() else {}
        # One that a disk has under another name is known by what it is.
        wrong = [
            path for path, sha in truth.items() if sha not in {there.get(path), there.get(renamed.get(path, path))}
        ]
        if left_out:
            wrong = [path for path in wrong if path in there or path not in (known or {})]
        right = lying or not wrong
        world.wanted[root] = truth if not left_out else {path: sha for path, sha in truth.items() if path in there}
        world.altered.discard(root)
        (world.never_whole.discard if copy["status"] == "proven" and right else world.never_whole.add)(root)
        if lying:
            # What the reader gave is what is kept: nobody can know better without a second reading.
            world.wanted[root] = there
            world.lied |= {there[path] for path in wrong if path in there}
        proven = copy["status"] == "proven"
        world.tally.claim(
            "copy proven", proven, right and not is_marked_unfinished(world.behind(root)), f"{root} {wrong}"
        )
        if proven:
            _check_manifest(world, root)
        world.touched = {each for each in world.touched if each[0] != root}
        world.good_when_read[str(root)] = right and not is_marked_unfinished(world.behind(root))
        world.tally.claim("unfinished says so", is_marked_unfinished(world.behind(root)), not proven, str(root))
    all_proven = bool(said["copies"]) and all(copy["status"] == "proven" for copy in said["copies"])
    world.tally.claim("exit 0", code == 0, all_proven and not said["problems"], f"exit {code}")
    kept_all = all(
        any(shas_of(world.behind(Path(copy["root"]))).get(renamed.get(path, path)) == sha for copy in said["copies"])
        for path, sha in truth.items()
    ) if all_proven and not left_out else not left_out and not said["problems"]  # fmt: skip
    if stills_left_out:
        pass
    elif all_proven:
        world.tally.claim("whole", said["whole"], kept_all or lying, "the card is called whole")
    else:
        world.tally.said["whole", bool(said["whole"])] += 1
    _check_waybill(world, said)


def _check_waybill(world: World, said: dict[str, Any]) -> None:
    if not said["waybill"]:
        return
    page = json.loads(world.behind(Path(said["waybill"])).with_suffix(".json").read_text())
    states = {copy["root"]: copy["status"] for copy in page["copies"]}
    for copy in said["copies"]:
        world.tally.equal("waybill", states.get(copy["root"]) == "proven", copy["status"] == "proven", copy["root"])


def _check_manifest(world: World, root: Path) -> None:
    """Each digest of a proven copy's manifests is that of the file that stands there."""
    real = world.behind(root)
    listed = manifest_of(real)
    there = shas_of(real)
    # What somebody put beside the card's files is not promised by anybody.
    for path in there.keys() & world.wanted.get(root, there).keys():
        right = listed is not None and path in listed and is_as_listed(real, path, listed[path])
        world.tally.claim("manifest entry", True, right, f"{root}/{path}")


def _standing(world: World, card: Path) -> Digests:
    """The files of a card that stand, with its bytes, in a copy that is here and does not call itself unfinished."""
    truth = shas_of(card)
    found: Digests = {}
    for root in world.copies():
        real = world.behind(root)
        if is_marked_unfinished(real):
            continue
        there = shas_of(real)
        for path, sha in truth.items():
            excused = (root, path) in world.touched or there.get(path) in world.lied
            if there.get(path) == sha or (excused and path in there):
                found[path] = sha
    return found


def _killed(world: World, picks: tuple[float, ...], by: int = signal.SIGKILL) -> None:
    card = _pick(world.cards, picks[0])
    words = _offload_words(_card_path(world, card, False), _places(world, picks[1:4]), 1.0)
    truth, before = shas_of(card), set(world.copies())
    said, code = world.run(words, kill_ms=int(20 + 400 * picks[4]), by=by)
    world.begun(before, truth, card)
    if said is not None and "copies" in said:
        _check_offload(world, said, code, truth)


def _killed_at(world: World, picks: tuple[float, ...]) -> None:
    steps = (
        "_name_finally",
        "note",
        "rename_new",
        "write_manifest",
        "close_copy",
        "close",
        "_write_waybills",
        "put_copy",
    )
    card = _pick(world.cards, picks[0])
    words = _offload_words(card, _places(world, picks[1:4]), 1.0)
    truth, before = shas_of(card), set(world.copies())
    world.run(words, step=_pick(list(steps), picks[4]))
    world.begun(before, truth, card)


def _two_at_once(world: World, picks: tuple[float, ...]) -> None:
    one, other = _pick(world.cards, picks[0]), _pick(world.cards, picks[1])
    places = _places(world, picks[2:5])
    truths = {one: shas_of(one), other: shas_of(other)}
    outs = []
    second = Loaded()
    try:
        runs = []
        for number, (loaded, card) in enumerate(((world._loaded, one), (second, other))):
            out = world.folder / f"both{number}.json"
            out.unlink(missing_ok=True)
            run = Run([*_offload_words(card, places, 1.0), "--json"], out=str(out))
            run.environment = world._environment
            loaded.begin(run)
            runs.append((loaded, out, card))
        for loaded, out, card in runs:
            outs.append((loaded.wait(), out, card))
    finally:
        second.close()
    for code, out, card in outs:
        try:
            said = json.loads(out.read_text())
        except (OSError, ValueError):
            continue
        if "copies" in said:
            _check_offload(world, said, code, truths[card])


def _verify(world: World, picks: tuple[float, ...]) -> None:
    root = _pick(world.copies(), picks[0])
    if root is not None:
        _verify_copy(world, root)


def _verify_copy(world: World, root: Path, *, altered: bool = False) -> None:
    said, _code = world.run(["verify", str(root)])
    if said is None or "changed" not in said:
        return
    real = world.behind(root)
    if altered or root in world.altered:
        # What it lists is nobody's word any more: only what it says of the whole counts.
        clean = not (said["changed"] or said["missing"] or said["extra"] or said["problems"])
        world.tally.claim("verify: clean", clean, False, f"{root}: its manifests are altered")
        right = world.has_all(root) and root in world.wanted and not is_marked_unfinished(real)
        world.good_when_read[str(root)] = right
        return
    listed, there = manifest_of(real) or {}, shas_of(real)
    changed = {path for path in listed if path in there and not is_as_listed(real, path, listed[path])}
    missing = set(listed) - set(there)
    extra = set(there) - set(listed)
    world.tally.equal("verify: changed", sorted(said["changed"]), sorted(changed), str(root))
    world.tally.equal("verify: missing", sorted(said["missing"]), sorted(missing), str(root))
    world.tally.equal("verify: extra", sorted(said["extra"]), sorted(extra), str(root))
    world.tally.equal("verify: ok", said["ok"], len(listed) - len(changed) - len(missing), str(root))
    clean = not (said["changed"] or said["missing"] or said["extra"] or said["problems"])
    whole = not is_marked_unfinished(real)
    world.tally.claim("verify: clean", clean, whole and not (changed or missing or extra), str(root))
    world.touched = {each for each in world.touched if each[0] != root}
    world.good_when_read[str(root)] = whole and not changed and not missing and world.has_all(root)


def _copy_on(world: World, picks: tuple[float, ...]) -> None:
    root, place = _pick(world.copies(), picks[0]), _pick(world.places, picks[1])
    if root is None:
        return
    kill = int(20 + 300 * picks[3]) if picks[2] < 0.25 else None
    said, _code = world.run(["copy-on", str(root), "--to", str(place)], kill_ms=kill)
    _check_onward(world, root, said)


def _complete(world: World, picks: tuple[float, ...]) -> None:
    root = _pick([each for each in world.copies() if is_marked_unfinished(world.behind(each))], picks[0])
    if root is not None:
        said, _code = world.run(["complete", str(root)])
        if said is not None and "copies" in said:
            _check_onward(world, Path(said["from"]), said)


def _check_onward(world: World, source: Path, said: dict[str, Any] | None) -> None:
    if said is None or "copies" not in said:
        return
    listed = manifest_of(world.behind(source)) or {}
    for copy in said["copies"]:
        root = Path(copy["root"])
        real = world.behind(root)
        proven = copy["status"] == "proven"
        there = shas_of(real) if real.is_dir() else {}
        listed_there = {sha for path in listed if (sha := shas_of(world.behind(source)).get(path))}
        right = listed_there <= set(there.values()) and not is_marked_unfinished(real)
        right = right and source not in world.never_whole
        world.tally.claim("copied on proven", proven, right, f"{source} to {root}")
        if proven:
            # It is what its source promised: whether that is the whole card, its own history tells.
            if source in world.wanted:
                world.wanted[root] = world.wanted[source]
                world.begun_for.setdefault(root, world.begun_for.get(source, root))
                if world.begun_for[root] == root:
                    del world.begun_for[root]
                world.never_whole.discard(root)
                right = right and world.has_all(root)
                world.tally.claim("copied on whole", True, right, f"{source} to {root}")
            world.altered.discard(root)
            world.touched = {each for each in world.touched if each[0] != root}
            world.good_when_read[str(root)] = right


def _level(world: World, picks: tuple[float, ...]) -> None:
    if picks[2] < 0.8:
        _level_a_pair(world, picks)
        return
    here, there = _pick(world.places, picks[0]), _pick(world.places, picks[1])
    if here == there:
        return
    said, _code = world.run(["level", str(here), str(there)])
    if said is None or "differing" not in said:
        return
    for copy in said["copied"]:
        if copy["status"] == "proven":
            other = there if Path(copy["root"]).is_relative_to(here) else here
            sources = _twins_of(world, Path(copy["root"]), other)
            world.tally.claim("level: from a copy", True, bool(sources), copy["root"])
            if sources:
                _check_onward(world, sources[0], {"copies": [copy]})
    nothing = not (said["copied"] or said["restored"] or said["differing"] or said["problems"])
    world.tally.claim("level: the same", nothing, _same(world, here, there), f"{here} {there}")


def _twins_of(world: World, root: Path, place: Path) -> list[Path]:
    """Copies at another place that hold the same, those first that are whole by this memory.

    What is said does not tell from which one it was copied, and another card's may have the folder's name.
    """
    there = Counter(shas_of(world.behind(root)).values())
    standing = [each for each in world.copies() if each.is_relative_to(place)]
    standing = [each for each in standing if _holds_just(world.behind(each), there)]
    return sorted(standing, key=lambda each: not (world.has_all(each) and not is_marked_unfinished(world.behind(each))))


def _holds_just(copy: Path, contents: Counter[str]) -> bool:
    """Whether a copy has these contents, and lists none beside them; what somebody put beside them is not copied."""
    there = shas_of(copy)
    listed = Counter(there[path] for path in manifest_of(copy) or {} if path in there)
    return not contents - Counter(there.values()) and not listed - contents


def _level_a_pair(world: World, picks: tuple[float, ...]) -> None:
    """Two places that hold the same, or nearly: what is said of them has to be exactly so."""
    here, there = world.folder / "pair/one", world.folder / "pair/two"
    words = _offload_words(_pick(world.cards, picks[0]), [here, there], 1.0)
    world.run(words)
    standing = copies_in(here if picks[4] < 0.5 else there)
    if standing and picks[3] < 0.55:
        _damage_file(world, standing[0], picks)
    if standing:
        same = _same(world, here, there)
        said, _code = world.run(["level", str(here), str(there)])
        nothing = not (said["copied"] or said["restored"] or said["differing"] or said["problems"])
        world.tally.equal("level: the same", nothing, same, f"{here} {there}")
    shutil.rmtree(world.folder / "pair", ignore_errors=True)
    world.touched = {each for each in world.touched if not each[0].is_relative_to(world.folder / "pair")}
    for root in [each for each in world.good_when_read if each.startswith(str(world.folder / "pair"))]:
        del world.good_when_read[root]


def _same(world: World, here: Path, there: Path) -> bool:
    one, other = world.behind(here), world.behind(there)
    ours = {root.relative_to(one): shas_of(root) for root in copies_in(one)}
    theirs = {root.relative_to(other): shas_of(root) for root in copies_in(other)}
    listed = {root: set(manifest_of(one / root) or {}) for root in ours}
    if ours.keys() != theirs.keys() or any(is_marked_unfinished(one / root) for root in ours):
        return False
    return all(
        {path: sha for path, sha in ours[root].items() if path in listed[root]}
        == {path: sha for path, sha in theirs[root].items() if path in listed[root]}
        for root in ours
    )


def _restore(world: World, picks: tuple[float, ...]) -> None:
    root = _pick(world.copies(), picks[0])
    listed = sorted(manifest_of(world.behind(root)) or {}) if root is not None else []
    path = _pick(listed, picks[1])
    if root is None or path is None:
        return
    to = root if picks[2] < 0.5 else world.folder / "desk"
    said, _code = world.run(["restore", path, "--to", str(to)])
    for restored in (said or {}).get("restored", ()):
        source = Path(said["from"])
        promised = (manifest_of(world.behind(source)) or {}).get(path, {})
        real = world.behind(Path(restored))
        name = real.relative_to(world.behind(to)).as_posix()
        world.tally.claim("restored", True, is_as_listed(world.behind(to), name, promised), restored)
    if said is not None and not (said or {}).get("restored"):
        world.tally.said["restored", False] += 1
    shutil.rmtree(world.folder / "desk", ignore_errors=True)


def _take_in_a_copy(world: World, picks: tuple[float, ...]) -> None:
    """A copy that lost its manifests, or its hidden files, on its way is taken in as it lies there."""
    root = _pick(world.copies(), picks[0])
    if root is None or root not in world.wanted or world.behind(root) != root:
        return
    if picks[1] < 0.5:
        shutil.rmtree(root / "ascmhl", ignore_errors=True)
        world.altered.add(root)
    if picks[1] > 0.3:
        for path in root.glob(".*"):
            (shutil.rmtree if path.is_dir() and not path.is_symlink() else os.unlink)(path)
    if is_marked_unfinished(root) is False and not (root / "ascmhl").exists():
        # Nothing on it says any more what it was: only a ledger that knows it can.
        known = world.good_when_read.get(str(root)) is not None and world.ledger.exists()
    else:
        known = True
    if picks[2] < 0.4:
        _damage_file(world, root, picks)
    sound = world.has_all(root)
    said, _code = world.run(["take-in", str(root), "--shoot", "Archive"])
    done = said is not None and any(copy["status"] == "proven" for copy in said.get("copies", ()))
    if known:
        world.tally.claim("a copy taken in", done, sound, str(root))
    if done:
        world.good_when_read[str(root)] = sound
        world.altered.discard(root)
        if not known:
            world.wanted[root] = shas_of(root)
            world.never_whole.discard(root)


def _lose_hidden(world: World, picks: tuple[float, ...]) -> None:
    """A copy was carried on by something that leaves hidden files behind."""
    root = _pick([each for each in world.copies() if is_marked_unfinished(world.behind(each))], picks[0])
    if root is not None:
        (world.behind(root) / ".not-whole-diadoche.jsonl").unlink(missing_ok=True)
        world.never_whole.add(root)


def _links(world: World, picks: tuple[float, ...]) -> None:
    """Somebody put links where folders were, in an unfinished copy; the card is offloaded again."""
    root = _pick([each for each in world.copies() if is_marked_unfinished(world.behind(each))], picks[0])
    card = world.begun_for.get(root) if root is not None else None
    if root is None or card is None:
        return
    real = world.behind(root)
    for name in (".part-diadoche", "DCIM")[int(picks[1] * 3) // 2 :]:
        if (real / name).is_dir() and not (real / name).is_symlink():
            shutil.rmtree(real / name)
        if not (real / name).exists():
            (real / name).symlink_to(world.outside)
    world.never_whole.add(root)
    place = next(place for place in world.places if root.is_relative_to(place))
    before, truth = set(world.copies()), shas_of(card)
    said, code = world.run(["offload", str(card), "--to", str(place), "--shoot", "S"])
    world.begun(before, truth, card)
    if said is not None and "copies" in said:
        _check_offload(world, said, code, truth)
    for path in real.rglob("*"):
        if path.is_symlink():
            path.unlink()


def _change_manifest(world: World, picks: tuple[float, ...]) -> None:
    """A manifest that says something else by now, and is well formed; the copy is read, or copied on."""
    root = _pick(world.copies(), picks[0])
    path = _pick(sorted((world.behind(root) / "ascmhl").glob("*.mhl")), picks[1]) if root is not None else None
    if root is None or path is None:
        return
    listed = sorted(manifest_of(world.behind(root)) or {})
    victim = _pick(listed, picks[3])
    if victim and picks[2] < 0.5 and (world.behind(root) / victim).is_file():
        # The file and what the manifest says of it: nothing that lies there shows it.
        data = b"another content altogether"
        (world.behind(root) / victim).write_bytes(data)
        text = path.read_text()
        for digests in (manifest_of(world.behind(root)) or {}).get(victim, {}).items():
            text = text.replace(digests[1], digest_of(digests[0], data))
        path.write_text(text)
    else:
        path.write_text(path.read_text().replace("<path ", "<path  ", 1))
    world.altered.add(root)
    if picks[4] < 0.6:
        _verify_copy(world, root, altered=True)
    else:
        place = _pick(world.places, picks[5])
        said, _code = world.run(["copy-on", str(root), "--to", str(place)])
        _check_onward(world, root, said)


def _written_under_way(world: World, picks: tuple[float, ...]) -> None:
    """A card that somebody writes to while it is offloaded: what is called whole is what it holds afterwards."""
    if world._reader is None:
        return
    card, place = _pick(world.cards, picks[0]), _pick(world.places, picks[1])
    folder = card / "DCIM/100ABCDE"
    victim = _pick(sorted(folder.iterdir()), picks[2])
    written_ns: list[int] = []

    def write() -> None:
        until_s = time.monotonic() + 10
        while time.monotonic() < until_s and not list(world.behind(place).rglob(".part-diadoche/*")):
            time.sleep(0.005)
        time.sleep(picks[3] / 4)
        if picks[4] < 0.4:
            (folder / f"LATE{int(picks[5] * 9000):04}.JPG").write_bytes(os.urandom(900))
        elif picks[4] < 0.7:
            victim.write_bytes(os.urandom(1 + int(picks[5] * 90_000)))
        else:
            info = victim.stat()
            victim.write_bytes(os.urandom(info.st_size))
            os.utime(victim, ns=(info.st_atime_ns, info.st_mtime_ns))
        written_ns.append(time.time_ns())

    # Whatever the card holds, it takes so long that the writing falls into the reading.
    size = sum(path.stat().st_size for path in card.rglob("*.*"))
    world.set_faults(Faults(slow_bytes_s=max(20_000, size)))
    writer, before = threading.Thread(target=write), set(world.copies())
    writer.start()
    said, _code = world.run(["offload", str(world.folder / "reader" / card.name), "--to", str(place), "--shoot", "S"])
    writer.join()
    world.set_faults()
    world.held[card] |= set(shas_of(card).values())
    world.begun(before, shas_of(card), card)
    for copy in (said or {}).get("copies", ()):
        root = Path(copy["root"])
        manifest = world.behind(Path(copy["manifest"] or copy["root"]))
        if not manifest.exists() or written_ns[0] > manifest.stat().st_mtime_ns - 300_000_000:
            # It may have been written after the last look: nobody can know of that.
            world.forget_reading(root)
            world.wanted.pop(root, None)
            continue
        proven = copy["status"] == "proven"
        world.wanted[root] = shas_of(card)
        (world.never_whole.discard if proven else world.never_whole.add)(root)
        right = proven and world.has_all(root)
        world.tally.claim("written under way: proven", proven, right, f"{root} {card.name}")
        world.good_when_read[str(root)] = right
        world.altered.discard(root)


def _equal_times(world: World, picks: tuple[float, ...]) -> None:
    """A camera whose clock stands still: the same names, sizes and times, other bytes."""
    card, twin = _pick(world.cards, picks[0]), world.folder / "twin"
    shutil.rmtree(twin, ignore_errors=True)
    shutil.copytree(card, twin)
    for path in sorted(twin.rglob("*.JPG")):
        info = path.stat()
        path.write_bytes(random.Random(f"{picks[1]} {path.name}").randbytes(info.st_size))
        os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))
    said, _code = world.run(["look", str(twin)])
    if said is not None and "proven_before" in said:
        stand = len(_standing(world, twin))
        count = said["proven_before"]["files"]
        world.tally.claim("twin proven before", count > stand, False, f"{card.name}: {count} said, {stand} stand")


def _refusing_disk(world: World, picks: tuple[float, ...]) -> None:
    """A disk that refuses characters, or keeps no times, or folders that cannot be listed."""
    if world._disk is None:
        return
    root, disk = _pick(world.copies(), picks[0]), world.folder / "disk"
    if root is None:
        return
    if picks[1] < 0.4:
        world.set_faults(disk=Faults(refused=':?"*', no_times=picks[2] < 0.5))
        said, _code = world.run(["copy-on", str(root), "--to", str(disk)])
        _check_onward(world, root, said)
        for copy in (said or {}).get("copies", ()):
            if copy["status"] == "proven":
                _verify_copy(world, Path(copy["root"]))
    else:
        world.set_faults(disk=Faults(list_error=errno.EIO, file="S"))
        hidden = (world.folder / "behind/S").exists()
        words = ["level", str(world.places[0]), str(disk)] if picks[1] < 0.7 else ["rebuild", str(disk)]
        _said, code = world.run(words)
        world.tally.claim("nothing unlisted", code == 0, not hidden, f"{words[0]} exit {code}")
    world.set_faults()


def _take_in(world: World, picks: tuple[float, ...]) -> None:
    folder = world.places[0] / f"archive{int(picks[0] * 3)}"
    if not folder.exists():
        shutil.copytree(_pick(world.cards, picks[1]), folder)
    elif picks[2] < 0.5:
        _damage_file(world, folder, picks)
    elif picks[2] < 0.75:
        shutil.rmtree(folder)
        world.forget_reading(folder)
        shutil.copytree(_pick(world.cards, picks[1]), folder)
    listed = manifest_of(folder) or {}
    there = shas_of(folder)
    sound = all(path in there and is_as_listed(folder, path, digests) for path, digests in listed.items())
    said, _code = world.run(["take-in", str(folder), "--shoot", "Archive"])
    done = said is not None and any(copy["status"] == "proven" for copy in said.get("copies", ()))
    world.tally.claim("taken in", done, sound, str(folder))
    if done:
        _check_manifest(world, folder)
        world.wanted[folder] = shas_of(folder)
        world.touched = {each for each in world.touched if each[0] != folder}
        world.good_when_read[str(folder)] = True


def _look(world: World, picks: tuple[float, ...]) -> None:
    card = _pick(world.cards, picks[0])
    if picks[1] < 0.5:
        # The same card with a clip more.
        fresh = world.folder / "fresh"
        shutil.rmtree(fresh, ignore_errors=True)
        shutil.copytree(card, fresh)
        (fresh / "DCIM/100ABCDE/ABCD0099.JPG").write_bytes(b"shot since")
        card = fresh
    said, _code = world.run(["look", str(card)])
    if said is not None and "proven_before" in said:
        count, most = said["proven_before"]["files"], len(_standing(world, card))
        every = count == said["files"]
        world.tally.claim("proven before", every, count <= most, f"{card.name}: {count} said, {most} stand")
        if count > most:
            world.tally.false.append(f"proven before: {card.name}: {count} said, {most} stand")


def _rebuild(world: World, picks: tuple[float, ...]) -> None:
    if picks[0] < 0.5:
        for path in world.ledger.parent.glob("ledger.sqlite*"):
            path.unlink()
    world.run(["rebuild", *(str(place) for place in world.places)])


def _window(world: World, picks: tuple[float, ...]) -> None:
    """The same by the window's own station: what the watch line, the board and the ledger's view say."""
    from tests.survival.claims_window import offloaded_by_the_window

    card = _pick(world.cards, picks[0])
    places = _places(world, picks[1:4])
    truth = shas_of(card)
    fails = picks[4] < 0.6
    reader = Faults(read_error_at=0, file=".JPG") if picks[4] < 0.3 else NO_FAULTS
    disk = Faults(write_error=errno.EIO) if 0.3 <= picks[4] < 0.6 else NO_FAULTS
    if disk != NO_FAULTS and world.can_fail and world.folder / "disk" not in places:
        places.append(world.folder / "disk")
    world.set_faults(reader, disk)
    try:
        claims = offloaded_by_the_window(world.ledger, world.folder / "xdg", _card_path(world, card, fails), places)
    finally:
        world.set_faults()
    if claims is None:
        return
    _check_offload(world, claims.said, 0 if claims.clean else 1, truth)
    right = {
        copy["root"]: all(shas_of(world.behind(Path(copy["root"]))).get(path) == sha for path, sha in truth.items())
        for copy in claims.said["copies"]
        if world.behind(Path(copy["root"])).is_dir()
    }
    good = bool(right) and all(right.values()) and len(right) == len(claims.said["copies"])
    world.tally.claim("watch line: proven", claims.watch_proven, good, claims.watch_words)
    world.tally.claim("board: proven", claims.board_proven, good, claims.board_words)
    world.tally.claim("board: may format", claims.may_format, any(right.values()), claims.board_words)


# -- faults between operations ---------------------------------------------------------------------------


def _damage_file(world: World, root: Path, picks: tuple[float, ...]) -> None:
    real = world.behind(root)
    path = _pick(sorted(files_of(real)), picks[1])
    if path is None:
        return
    file, how = real / path, 0 if picks[5] < 0.5 else 1 if picks[5] < 0.6 else 2
    info = file.stat()
    if how == 0:
        file.unlink()
    elif how == 1:
        file.write_bytes(file.read_bytes()[:10])
    else:
        data = bytearray(file.read_bytes())
        if data:
            data[int(picks[3] * len(data))] ^= 0x20
        file.write_bytes(data)
        os.utime(file, ns=(info.st_atime_ns, info.st_mtime_ns))
    world.touched.add((root, path))


def _rot(world: World, picks: tuple[float, ...]) -> None:
    root = _pick(world.copies(), picks[0])
    if root is not None:
        _damage_file(world, root, picks)
        if picks[4] < 0.7:
            _verify_copy(world, root)


def _add_extra(world: World, picks: tuple[float, ...]) -> None:
    root = _pick(world.copies(), picks[0])
    if root is not None:
        (world.behind(root) / f"extra{int(picks[1] * 5)}.txt").write_text("somebody's")
        if picks[4] < 0.9:
            _verify_copy(world, root)


def _delete_copy(world: World, picks: tuple[float, ...]) -> None:
    root = _pick(world.copies(), picks[0])
    if root is not None:
        shutil.rmtree(world.behind(root))
        world.forget_reading(root)
        world.wanted.pop(root, None)


def _damage_manifest(world: World, picks: tuple[float, ...]) -> None:
    root = _pick(world.copies(), picks[0])
    found = sorted((world.behind(root) / "ascmhl").glob("*")) if root is not None else []
    path = _pick(found, picks[1])
    if path is None or picks[4] < 0.5:
        # Mostly the chain: without a manifest nothing can be said of a copy any more.
        path = next((each for each in found if "chain" in each.name), path)
    if path is not None:
        data = path.read_bytes()
        path.write_bytes(b"" if picks[2] < 0.5 else data[: len(data) // 2])


def _nonsense_in_journal(world: World, picks: tuple[float, ...]) -> None:
    root = _pick([each for each in world.copies() if is_marked_unfinished(world.behind(each))], picks[0])
    if root is None:
        return
    (world.folder / "outside.txt").write_text("not yours")
    digests = {"xxh128": "0" * 32}
    lines = [
        {"path": "MISC/NOTES.TXT", "kept_as": "../" * 9 + str(world.folder / "outside.txt"), "size_bytes": 9, "digests": digests},
        {"path": 5, "kept_as": None},
        ["what"],
        {"path": "DCIM/100ABCDE/ABCD0001.JPG", "kept_as": "MISC/NOTES.TXT", "size_bytes": -1, "digests": {}},
    ]  # fmt: skip
    with (world.behind(root) / ".not-whole-diadoche.jsonl").open("a") as file:
        file.write("".join(json.dumps(line) + "\n" for line in lines) + '{"torn')


def _change_card(world: World, picks: tuple[float, ...]) -> None:
    card = _pick(world.cards, picks[0])
    files = sorted(path for path in (card / "DCIM/100ABCDE").iterdir())
    how = int(picks[1] * 3)
    if how == 0 or len(files) < 3:
        number = 1 + max((int(path.stem[-4:]) for path in files), default=0)
        (card / f"DCIM/100ABCDE/ABCD{number:04}.JPG").write_bytes(os.urandom(1 + int(picks[2] * 300_000)))
    elif how == 1:
        _pick(files, picks[2]).write_bytes(os.urandom(1 + int(picks[3] * 200_000)))
    else:
        _pick(files, picks[2]).unlink()


def _locked_ledger(world: World, picks: tuple[float, ...]) -> None:
    """Another program holds the ledger for a moment while an operation runs."""
    if not world.ledger.exists():
        return
    with closing(sqlite3.connect(world.ledger)) as held:
        held.execute("BEGIN IMMEDIATE")
        world.run(["look", str(_pick(world.cards, picks[0]))])


def _faulty(world: World, picks: tuple[float, ...]) -> None:
    """An offload during which the reader or a disk fails."""
    reader, disk = _pick(_FAULTS, picks[5] if picks[5] >= 0.2 else picks[5] * 5)
    _offload(world, (*picks[:5], max(0.21, picks[5])), reader, disk)


_FAULTS = [
    (Faults(read_error_at=100, file="ABCD0002.JPG"), Faults()),
    (Faults(read_error_at=100, read_error_once=True, file="ABCD0003.JPG"), Faults()),
    (Faults(flip_read_at=50, file="ABCD0003.JPG"), Faults()),
    (Faults(list_error=errno.EIO, file="MISC"), Faults()),
    (Faults(), Faults(write_error=errno.EIO)),
    (Faults(), Faults(write_error=errno.ENOSPC, file="ABCD0003")),
    (Faults(), Faults(flip_write_at=20, file="ABCD0003")),
    (Faults(read_error_at=100, file="ABCD0002.JPG"), Faults(flip_write_at=20, file="ABCD0003")),
]

Do = Callable[[World, tuple[float, ...]], None]
STEPS: dict[str, tuple[int, Do]] = {
    "offload": (14, _offload),
    "offload under faults": (14, _faulty),
    "offload killed": (8, _killed),
    "offload killed at a step": (5, _killed_at),
    "offload stopped": (6, lambda world, picks: _killed(world, picks, signal.SIGINT)),
    "two at once": (3, _two_at_once),
    "window": (16, _window),
    "verify": (10, _verify),
    "copy on": (11, _copy_on),
    "complete": (6, _complete),
    "level": (14, _level),
    "restore": (5, _restore),
    "take in": (15, _take_in),
    "take in a copy": (7, _take_in_a_copy),
    "written under way": (5, _written_under_way),
    "equal times": (6, _equal_times),
    "lose hidden files": (2, _lose_hidden),
    "links": (4, _links),
    "change a manifest": (5, _change_manifest),
    "refusing disk": (7, _refusing_disk),
    "look": (14, _look),
    "rebuild": (2, _rebuild),
    "rot": (16, _rot),
    "extra": (8, _add_extra),
    "delete a copy": (7, _delete_copy),
    "damage a manifest": (2, _damage_manifest),
    "nonsense in a journal": (2, _nonsense_in_journal),
    "change a card": (4, _change_card),
    "hold the ledger": (1, _locked_ledger),
}
CARD_CHANGES = {"change a card", "written under way"}


def _check_ledger(world: World) -> None:
    """What the ledger says of every copy, against what was true when the product read it last."""
    if not world.ledger.exists():
        return
    with closing(sqlite3.connect(f"file:{world.ledger}?mode=ro", uri=True)) as database:
        try:
            rows = database.execute("select root, status from copies").fetchall()
        except sqlite3.OperationalError:
            return
    states: dict[str, list[str]] = {}
    for root, status in rows:
        states.setdefault(root, []).append(status)
        if root in world.good_when_read:
            world.tally.claim("ledger: proven", status == "proven", world.good_when_read[root], root)
    for root, good in world.good_when_read.items():
        known = set(states.get(root, ())) - {"gone"}
        if good and known and Path(root) not in world.altered:
            # A no is a promise too: people fetch a card twice for it.
            world.tally.claim("ledger: no false no", True, bool(known & {"proven", "listed"}), f"{root}: {known}")


def carried_out(seed: int, count: int, steps: list[Step] | None = None) -> World:
    """A world after so many steps, or after given ones; it stops at the first false claim."""
    with tempfile.TemporaryDirectory(prefix="claims-", dir=os.environ.get("CLAIMS_FOLDER")) as folder:
        world = World(Path(folder), seed)
        try:
            for number in range(count if steps is None else len(steps)):
                world.take(world.draw() if steps is None else steps[number])
                if world.tally.false:
                    break
        finally:
            world.close()
    return world


def shortened(seed: int, steps: list[Step]) -> list[Step]:
    """The same fault with fewer steps: each that can be dropped is."""
    kept = list(steps)
    number = 0
    while number < len(kept):
        fewer = kept[:number] + kept[number + 1 :]
        if carried_out(seed, 0, fewer).tally.false:
            kept = fewer
        else:
            number += 1
    return kept


def main() -> int:
    """Runs the machine and prints a figure."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--steps", type=int, default=200)
    parser.add_argument("--shorten", action="store_true")
    asked = parser.parse_args()
    began = time.monotonic()
    world = carried_out(asked.seed, asked.steps)
    claims = sum(world.tally.said.values())
    out = sys.stdout
    out.write(
        f"{len(world.log)} steps, {claims} claims, {len(world.tally.false)} false, {time.monotonic() - began:.0f} s\n"
    )
    for (kind, said), times in sorted(world.tally.said.items()):
        out.write(f"  {kind}: {'said' if said else 'not said'} {times} times\n")
    for words in world.tally.false:
        out.write(f"FALSE {words}\n")
    if world.tally.false:
        out.write(f"  {json.dumps(world.last)[:6000]}\n")
        steps = shortened(asked.seed, world.log) if asked.shorten else world.log[-12:]
        out.writelines(f"  {step!r}\n" for step in steps)
    return 1 if world.tally.false else 0


if __name__ == "__main__":
    sys.exit(main())
