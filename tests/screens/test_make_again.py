"""An output's record: what it was made from, with the digests that were proven, and made again by it."""

from __future__ import annotations

import json
from pathlib import Path

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import Changes, Recipe, recipes
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from diadoche.services.wire import from_text, to_text
from tests.outside.numbered import film, numbers_of


def test_the_record_holds_the_recipe_as_it_was_and_makes_the_same_again(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mov", range(30), "25", "-c:v", "libx264", "-c:a", "aac")
    changed = recipes()["ffv1"].model_copy(update={"title": "As it was"})
    request = MakeRequest((source,), changed, tmp_path / "out", marks=("5", "25"), changes=Changes(scan="frame"))
    first = perform_make(request, Watch())
    # What the ledger keeps is text.
    kept = from_text(Output, to_text(first))
    assert kept == first
    record = kept.record
    assert record is not None
    assert [(each.path, each.size_bytes) for each in record.sources] == [(str(source), source.stat().st_size)]
    assert isinstance(record.recipe, Recipe)
    assert record.recipe.title == "As it was"
    again = perform_make(
        MakeRequest((source,), record.recipe, tmp_path / "out", marks=record.marks, changes=record.changes), Watch()
    )
    assert again.output != first.output
    assert numbers_of(Path(again.output)) == numbers_of(Path(first.output)) == list(range(5, 25))
    told = first.as_dict()["record"]
    assert isinstance(told, dict)
    assert told["recipe"]["name"] == "ffv1"


def test_outputs_of_an_earlier_version_have_no_record(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mov", range(5), "25", "-c:v", "libx264", sound=False)
    text = to_text(perform_make(MakeRequest((source,), "mov", tmp_path / "out"), Watch()))
    older = json.loads(text)
    del older["record"]
    assert from_text(Output, json.dumps(older)).record is None
