"""Recipes as data: a person's own folder, mistakes by line, what a chooser says of clips."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.convert import recipes as recipe_module
from diadoche.core.convert.formats import PictureFormat, SoundFormat, colour_thinned, samples_of
from diadoche.core.convert.plan import plan_conversion
from diadoche.core.convert.recipe_heads import supplied_heads
from diadoche.core.convert.recipes import (
    Changes,
    mistaken_recipes,
    own_recipe_file,
    parse_recipe,
    recipe_named,
    recipes,
)
from diadoche.core.convert.sound_coding import coding_of
from diadoche.core.errors import RequestError
from diadoche.core.identify.facts import Color
from diadoche.screens.clip_formats import Alike
from diadoche.screens.marks import Mark
from diadoche.screens.recipe_chooser import RecipeChooser, outlook
from diadoche.services.station.own_files import OwnFolder, OwnRecipes

OWN = """
name = "{name}"
title = "Our own"
[container]
name = "mov"
ending = "mov"
[picture]
codec = "prores"
encoder = "prores_aw"
bits_a_pixel = 3.5
[[picture.variants]]
pixel_formats = ["yuv422p10le"]
options = {{ profile = "3" }}
"""
HD = PictureFormat(1920, 1080, "4:2:0", 8, Color("BT.709", "BT.709", "BT.709", "limited"), Fraction(25), pictures=250)
FIELDS = replace(HD, scan="interlaced", field_order="top")
STEREO = (SoundFormat(48_000, "stereo", 2, 16),)


def test_a_recipe_of_ones_own_stands_beside_the_others_and_an_edit_counts_at_once(tmp_path: Path) -> None:
    path = tmp_path / "ours.toml"
    path.write_text(OWN.format(name="ours"))
    assert recipes(tmp_path)["ours"].title == "Our own"
    assert "prores-422" in recipes(tmp_path)
    assert "ours" not in recipes()
    path.write_text(OWN.format(name="ours").replace("Our own", "Edited"))
    assert recipe_named("ours", tmp_path).title == "Edited"
    # One's own of a supplied name stands instead of it.
    (tmp_path / "x.toml").write_text(OWN.format(name="prores-422"))
    assert recipe_named("prores-422", tmp_path).title == "Our own"


def test_supplied_recipes_are_held_by_the_library_that_ships_beside_them() -> None:
    """What is not asked at each start, since it takes long: their encoders and pixel formats."""
    for path in (Path(recipe_module.__file__).with_name("recipes")).glob("*.toml"):
        assert parse_recipe(path.read_text("utf-8"), path) == recipes()[path.stem]


def test_a_supplied_recipe_becomes_ones_own(tmp_path: Path) -> None:
    path = own_recipe_file(tmp_path / "recipes", "ffv1")
    assert recipe_named("ffv1", path.parent) == recipe_named("ffv1")
    path.write_text(path.read_text().replace("FFV1 in Matroska", "For the shelf"))
    # What was edited is not written over.
    assert own_recipe_file(path.parent, "ffv1") == path
    assert recipe_named("ffv1", path.parent).title == "For the shelf"
    with pytest.raises(RequestError, match="no supplied recipe"):
        own_recipe_file(path.parent, "../ffv1")


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (("prores_aw", "no_such"), "no encoder called no_such"),
        (("prores_aw", "aac"), "aac"),
        (("yuv422p10le", "yuv9"), "no pixel format called yuv9"),
        (("bits_a_pixel = 3.5", "bits_a_pixel = -1"), "greater than 0"),
        (("title =", "tittle ="), "no key called 'tittle'"),
        (('codec = "prores"\n', ""), "'codec' is missing"),
        (('"3" }', '"3" '), "is no TOML"),
        (('name = "ours"', 'name = "../ours"'), "name"),
        (("[picture]", '[sound]\ncodec = "mp9"\n[picture]'), "no sound codec called mp9"),
        (("[picture]", '[changes]\nscan = "sideways"\n[picture]'), "scan"),
    ],
)
def test_a_mistake_is_named_and_the_others_stay(tmp_path: Path, change: tuple[str, str], words: str) -> None:
    (tmp_path / "ours.toml").write_text(OWN.format(name="ours").replace(*change))
    with pytest.raises(RequestError, match=words):
        recipe_named("ours", tmp_path)
    (mistake,) = mistaken_recipes(tmp_path)
    assert words in mistake.problem.what
    assert len(recipes(tmp_path)) == len(recipes())


def test_what_is_no_recipe_at_all_is_named(tmp_path: Path) -> None:
    (tmp_path / "folder.toml").mkdir()
    (tmp_path / "bytes.toml").write_bytes(bytes(range(256)))
    assert len(mistaken_recipes(tmp_path)) == 2


def test_formats_are_told_by_their_description() -> None:
    assert (samples_of("p010le").bits, samples_of("p010le").chroma) == (10, "4:2:0")
    assert (samples_of("yuv411p").chroma, samples_of("gbrap12le").has_alpha) == ("4:1:1", True)
    # Of four colours across one is left of each two; down, all of them.
    assert colour_thinned("4:4:4", "4:2:0") == 4
    assert colour_thinned("4:1:1", "4:2:0") == 2
    assert colour_thinned("4:1:1", "4:2:2") == 1
    assert colour_thinned("4:4:0", "4:2:2") == 2


def test_formats_chain_before_the_first_picture() -> None:
    review = recipe_named("review-h264")
    plan = plan_conversion(review, FIELDS, STEREO)
    assert (plan.out.scan, plan.out.rate, plan.out.pictures) == ("progressive", 25, 250)
    each_field = plan_conversion(review, FIELDS, STEREO, Changes(scan="field"))
    assert (each_field.out.rate, each_field.out.pictures) == (50, 500)
    assert each_field.estimated_bytes > 1.5 * plan.estimated_bytes
    film = replace(FIELDS, rate=Fraction(30000, 1001), pulldown=True, pictures=300)
    assert plan_conversion(review, film, (), Changes(scan="film")).out.rate == Fraction(24000, 1001)
    # Where there is no film, fields stay, and this recipe has no place for them.
    with pytest.raises(RequestError, match="cannot hold"):
        plan_conversion(review, FIELDS, STEREO, Changes(scan="film"))
    # What is progressive is never touched.
    assert plan_conversion(review, HD, STEREO, Changes(scan="field")).out.rate == 25


def test_sound_goes_where_its_channels_fit() -> None:
    assert coding_of("aac", STEREO[0]).encoder == "aac"
    assert coding_of("aac", SoundFormat(192_000, "stereo", 2, 24)).encoder == "flac"
    assert coding_of("aac", SoundFormat(48_000, "6 channels", 6, 16)).encoder == "flac"
    assert coding_of("aac", SoundFormat(48_000, "16 channels", 16, 24)).encoder == "pcm_s24le"
    assert coding_of("pcm", SoundFormat(48_000, "mono", 1, None, floating=True)).encoder == "pcm_f32le"


def test_the_chooser_tells_sizes_losses_and_whom_a_choice_reaches(own_recipes: OwnFolder[OwnRecipes]) -> None:
    deep = replace(HD, bit_depth=10, chroma="4:2:2")
    chooser = RecipeChooser([Alike(HD, STEREO, 9), Alike(replace(FIELDS, width=1440), STEREO, 1), Alike(deep, (), 2)],
                            recipe_named("prores-422"), None, own_recipes)  # fmt: skip
    assert chooser.heading == "Recipe for 12 clips"
    rows = {row.name: row for row in chooser.rows()}
    assert rows["prores-422"].words == "Size, depth and colour stay."
    assert rows["vc3-lb"].mark is Mark.PROBLEM
    assert rows["vc3-lb"].words.startswith("1 of 12: ")
    assert "Holds 8 of 10 bits." in rows["review-h264"].words
    assert [choice.value for choice in chooser.field_choices()] == ["keep", "frame", "field"]
    assert chooser.reach == "reaches 1 of 12 clips"
    before = chooser.rows()[chooser.current].size
    chooser.choose_fields("field")
    assert chooser.rows()[chooser.current].size != before
    assert chooser.chosen[1] == Changes(scan="field")
    # The smallest of them all is a row that a person can take.
    chooser.choose(next(n for n, row in enumerate(chooser.rows()) if row.name == "review-av1"))
    assert chooser.chosen[0].name == "review-av1"


def test_the_chooser_refuses_a_table_with_nonsense(tmp_path: Path, own_recipes: OwnFolder[OwnRecipes]) -> None:
    chooser = RecipeChooser([Alike(HD, STEREO, 1)], recipe_named("prores-422"), None, own_recipes)
    bad = tmp_path / "bad.cube"
    bad.write_text("hello")
    chooser.choose_table(bad)
    assert "no look-up table" in chooser.table_mistake
    assert chooser.chosen[1] is None
    good = tmp_path / "good.cube"
    good.write_text("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n")
    chooser.choose_table(good)
    chooser.choose_table_gives("BT.2020")
    assert chooser.chosen[1] == Changes(table=good, table_gives="BT.2020")
    assert "good.cube" in chooser.rows()[chooser.current].words


def test_what_would_be_made_is_told_without_reading_the_table(tmp_path: Path) -> None:
    # It lay on a disk that has gone, or does not answer.
    gone = Changes(table=tmp_path / "gone.cube")
    found = outlook([Alike(HD, STEREO, 1)], recipe_named("prores-422"), gone)
    assert (found.refused, found.losses) == (0, ("Colours go through gone.cube, and are told as BT.709.",))
    with pytest.raises(RequestError, match=r"gone\.cube cannot be read"):
        plan_conversion(recipe_named("prores-422"), HD, STEREO, gone)


def test_heads_of_supplied_recipes_are_those_of_the_whole_reading() -> None:
    heads = supplied_heads()
    assert heads == {name: recipe.head for name, recipe in recipes().items()}
    assert len(heads) > 15
    assert {head.files for head in heads.values()} == {"film", "stills"}
