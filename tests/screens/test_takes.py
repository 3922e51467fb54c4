"""Takes of several lenses: which files belong together, and what is chosen for them."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.cards.card import look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.convert.recipes import recipe_named
from diadoche.core.identify.probe import identify
from diadoche.core.identify.route import load_profile, route
from diadoche.core.sphere.rig import rig_named, rig_text
from diadoche.core.watch import Watch
from diadoche.screens.marks import Mark
from diadoche.screens.output_plan import OutputPlan
from diadoche.screens.stitch_group import StitchGroup
from diadoche.screens.stitching import OWN, Stitching
from diadoche.services.jobs.calibrate import CalibrateRequest
from diadoche.services.jobs.stitch import AlignedRig, StitchRequest
from diadoche.services.ledger.hand_off import handed_clips
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.services.ledger.rigs import keep_rig
from diadoche.services.ledger.takes import Take, takes_of
from tests.screens.scene import Scene

LAYOUTS = load_layouts()
RIG_CARDS = [*(f"Gallery lens {lens}" for lens in range(1, 7)), "Gallery stitched"]


@pytest.fixture(scope="module")
def clips(demo_cards: dict[str, Path]) -> list[KeptClip]:
    """The clips of the rig's seven cards, of the camera with two tracks, and of that with two files."""
    found: list[KeptClip] = []
    for name in (*RIG_CARDS, "Lamp room", "Lamp room, second"):
        card = look(demo_cards[name], LAYOUTS, Watch())
        for clip in card.clips:
            seen = identify([card.root / span for span in clip.spans], "looked")
            facts = seen.routed(route(seen, load_profile(), len(clip.spans)))
            found.append(KeptClip(len(found) + 1, name, clip, card.root, (), facts, ()))
    return found


def of(takes: list[Take], name: str) -> Take:
    return next(take for take in takes if take.name.startswith(name))


def test_lenses_of_one_press_of_the_button_are_one_take(clips: list[KeptClip]) -> None:
    takes = takes_of(clips, LAYOUTS)
    assert [(take.name, take.lens_count, len(take.lenses)) for take in takes] == [
        ("GALLERY_0001, 6 cards", 6, 6),
        ("GALLERY_0002, 6 cards", 6, 6),
        ("Lamp room LAMP0001", 2, 1),
        ("Lamp room LAMP0002", 2, 1),
        *((f"Lamp room, second {clip.clip.name}", 2, 2) for clip in clips if clip.card == "Lamp room, second"),
    ]
    first = of(takes, "GALLERY_0001")
    assert [spans[0].name for spans in first.lenses] == [f"GALLERY_0001_L{lens}.MP4" for lens in range(1, 7)]
    # What the rig stitched itself is paired, and is no take that is to be stitched.
    assert first.stitched is not None
    assert first.stitched.card == "Gallery stitched"
    assert all(take.clip.card != "Gallery stitched" for take in takes)
    second = of(takes, "Lamp room, second")
    assert all(spans[0].exists() for spans in second.lenses)
    assert second.lenses[0] != second.lenses[1]


def test_a_take_is_handed_over_as_one_clip(clips: list[KeptClip]) -> None:
    handed = handed_clips(clips, LAYOUTS)
    names = [each.name for each in handed]
    assert names[:2] == ["GALLERY_0001, 6 cards", "GALLERY_0002, 6 cards"]
    assert len(names) == 2 + 2 + 2
    assert handed[0].proxy is not None
    assert handed[0].proxy.name == "GALLERY_0001_LOW.MP4"
    # Without the cards' layouts, nobody knows that they belong together.
    assert len(handed_clips(clips, ())) > len(names)


def test_a_card_that_is_missing_is_named_and_the_stitched_one_is_no_lens(clips: list[KeptClip]) -> None:
    takes = takes_of([clip for clip in clips if clip.card != "Gallery lens 4"], LAYOUTS)
    assert of(takes, "GALLERY_0001").missing == (4,)
    assert of(takes, "GALLERY_0001").lens_words == "5 lenses, lens 4 missing"
    alone = takes_of([clip for clip in clips if clip.card == "Gallery stitched"], LAYOUTS)
    assert alone == []


def test_the_same_name_on_another_day_is_another_take(clips: list[KeptClip]) -> None:
    later = [
        replace(
            clip,
            id=clip.id + 100,
            clip=replace(clip.clip, start=clip.clip.start + timedelta(days=1) if clip.clip.start else None),
        )
        for clip in clips
        if clip.card in RIG_CARDS[:3]
    ]
    takes = [take for take in takes_of([*clips, *later], LAYOUTS) if take.recording == "GALLERY_0001"]
    assert [take.missing for take in takes] == [(), (4, 5, 6)]
    assert {clip.id for clip in takes[0].clips}.isdisjoint(clip.id for clip in takes[1].clips)


@pytest.fixture
def stitching(scene: Scene) -> Stitching:
    return Stitching(scene.station, scene.ledger, scene.runner)  # type: ignore[arg-type]  # by hand


def test_one_choice_serves_many_takes_and_is_kept(clips: list[KeptClip], stitching: Stitching, scene: Scene) -> None:
    takes = takes_of(clips, LAYOUTS)
    stitching.change(takes, quality="standing", turn_deg=(0.0, 0.0, 180.0))
    stitching.change(takes[:1], size=(3840, 1920))
    scene.written()
    again = Stitching(scene.station, scene.ledger, scene.runner)  # type: ignore[arg-type]  # by hand
    assert all(again.settings(take).quality == "standing" for take in takes)
    assert again.size(takes[0]) == (3840, 1920)
    # As the lenses justify: the pixels of a degree at the lens's middle, all around.
    assert again.size(of(takes, "Lamp room LAMP0001")) == (1296, 648)
    assert "larger than the lenses hold" in again.sizes(takes[0])[1][1]
    request = again.request(takes[0], recipe_named("prores-422"), Path("/out"))
    assert request.settings.turn_deg == (0.0, 0.0, 180.0)
    assert request.stem.endswith("GALLERY_0001")
    assert (request.align, request.take.rig) == ("may", "ring-of-six-160")


def test_a_body_is_aligned_once_for_all_its_takes(clips: list[KeptClip], stitching: Stitching, scene: Scene) -> None:
    takes = takes_of(clips, LAYOUTS)
    first, second, other = (of(takes, name) for name in ("Lamp room LAMP0001", "Lamp room LAMP0002", "Lamp room, sec"))
    assert stitching.row(first).rig == "not aligned yet"
    number = stitching.align(first, Fraction(1, 2))
    job = scene.runner.last("calibrate")
    assert isinstance(job.request, CalibrateRequest)
    assert (job.request.body, job.request.moment_s) == (first.body, Fraction(1, 2))
    assert stitching.row(second).mark is Mark.UNDER_WAY
    rig = AlignedRig(rig_text(rig_named("two-files-200").for_size(720, 720)), 0.21, 0.6, 900, ("front: bend",))
    keep_rig(scene.ledger, first.body, rig)
    stitching.calibrated(number, rig, "")
    assert "fit to 0.21 px" in stitching.said
    assert stitching.row(second).rig == "aligned, 0.21 px"
    assert stitching.row(other).rig == "not aligned yet"
    request = stitching.request(second, recipe_named("prores-422"), Path("/out"))
    assert (request.align, request.take.rig) == ("no", rig.text)
    # The supplied values can be chosen all the same, and what is chosen is kept.
    stitching.choose_rig([first], "two-files-200")
    assert stitching.aligned(second) is None
    assert stitching.row(second).rig == "as chosen, not aligned"
    as_chosen = stitching.request(second, recipe_named("prores-422"), Path("/out"))
    assert (as_chosen.align, as_chosen.take.rig) == ("no", "two-files-200")
    assert next(each.name for each in stitching.rig_choices(first)) == OWN


def test_what_was_stopped_or_failed_aligns_nothing(clips: list[KeptClip], stitching: Stitching) -> None:
    take = takes_of(clips, LAYOUTS)[0]
    stitching.calibrated(stitching.align(take, None), None, "")
    assert stitching.said == ""
    stitching.calibrated(stitching.align(take, None), None, "They cannot be aligned.")
    assert stitching.said == "They cannot be aligned."
    assert stitching.aligning(take) is None
    assert stitching.row(take).rig == "not aligned yet"


def test_what_cannot_be_stitched_says_why(clips: list[KeptClip], stitching: Stitching) -> None:
    whole = takes_of(clips, LAYOUTS)
    part = takes_of([clip for clip in clips if clip.card != "Gallery lens 4"], LAYOUTS)
    assert "Lens 4 is missing" in stitching.mistake(of(part, "GALLERY_0001"))
    stitching.change([of(part, "GALLERY_0001")], with_hole=True)
    assert stitching.mistake(of(part, "GALLERY_0001")) == ""
    assert stitching.lens_take(of(part, "GALLERY_0001")).load_rig().pictures == 5
    five = replace(of(whole, "GALLERY_0001"), lenses=of(whole, "GALLERY_0001").lenses[:5])
    assert "No rig for 5 lenses is known" in stitching.mistake(five)
    take = of(whole, "Lamp room LAMP0001")
    stitching.change([take], layout="top-bottom")
    assert "one eye" in stitching.mistake(take)
    assert stitching.row(take).mark is Mark.PROBLEM
    stitching.change([take], layout="mono", size=(1000, 1000))
    assert "squeezed" in stitching.mistake(take)


def test_an_output_is_made_again_by_its_own_rig(clips: list[KeptClip], stitching: Stitching) -> None:
    take = of(takes_of(clips, LAYOUTS), "Lamp room LAMP0001")
    request = stitching.request(take, recipe_named("prores-422"), Path("/out"))
    from diadoche.services.jobs.stitch import _record

    record = _record(request, "a rig's text")
    again = stitching.again(take, record, Path("/out"))
    assert isinstance(again, StitchRequest)
    assert (again.take.rig, again.settings, again.align) == ("a rig's text", request.settings, "no")
    assert stitching.again(take, replace(record, stitch={"rig": "a rig"}), Path("/out")) is None


def test_an_alignment_begins_by_the_rig_that_was_chosen(
    clips: list[KeptClip], stitching: Stitching, scene: Scene
) -> None:
    take = of(takes_of(clips, LAYOUTS), "Lamp room LAMP0001")
    # Two tracks may be a pair of eyes as well: then they must not be aligned as lenses back to back.
    stitching.choose_rig([take], "stereo-files-190")
    number = stitching.align(take, None)
    assert scene.runner.last("calibrate").request.take.rig == "stereo-files-190"
    rig = AlignedRig(rig_text(rig_named("stereo-files-190").for_size(720, 720)), 0.3, 0.7, 500)
    keep_rig(scene.ledger, take.body, rig)
    stitching.calibrated(number, rig, "")
    assert stitching.rig_name(take) == OWN
    stitching.align(take, None)
    assert scene.runner.last("calibrate").request.take.rig == "stereo-files-190"


def test_takes_that_their_recipe_does_not_hold_are_not_counted(
    clips: list[KeptClip], stitching: Stitching, scene: Scene
) -> None:
    plan = OutputPlan(scene.station, set())
    group = StitchGroup(plan, stitching)
    group.take(lambda: clips, LAYOUTS)
    whole = [take for take in group.open_takes() if stitching.size(take) == (1296, 648)]
    assert 0 < len(whole) < len(group.open_takes())
    assert group.group().to_make == len(group.open_takes())
    base = recipe_named("prores-422")
    only = tuple(each.model_copy(update={"sizes": ("1296x648",)}) for each in base.picture.variants)
    plan.stitch_recipe = base.model_copy(update={"picture": base.picture.model_copy(update={"variants": only})})
    assert [take.clip.id for take in group.can_be_made()] == [take.clip.id for take in whole]
    assert group.group().to_make == len(whole)
    assert "cannot hold" in group.group().warning
