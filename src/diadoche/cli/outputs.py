"""The verbs that make outputs: rewrap, convert; and what they go by: recipes."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from pydantic import ValidationError

from diadoche.cli import spheres
from diadoche.cli.frame import Json, Paths, To, ended, must_be_there, places, reported, stoppable
from diadoche.cli.output import Bar, print_json, say, say_problems
from diadoche.core.convert.outputs import failed
from diadoche.core.convert.recipes import Changes, Recipe, recipe_named
from diadoche.core.errors import DiadocheError, MediaError, RequestError
from diadoche.core.sizes import size_text
from diadoche.core.spatial import SphereTags
from diadoche.services.jobs.make_output import MakeRequest, clips_from, perform_make


def rewrap(
    paths: Paths,
    to: To,
    container: Annotated[str, typer.Option(help="mov, mp4 or mkv.")] = "mov",
    camera: Annotated[str, typer.Option(help="Put in front of the output's name.")] = "",
    every_picture: Annotated[
        bool, typer.Option("--every-picture", help="Compare every decoded picture, not those at the joins alone.")
    ] = False,
    sphere: Annotated[
        str, typer.Option(help="Say of the picture that it is mono, top-bottom or side-by-side on a sphere, or flat.")
    ] = "",
    width_deg: Annotated[str, typer.Option(help="How much of the sphere from left to right: 360, 180 …")] = "360",
    json: Json = False,
) -> None:
    """Put picture and sound into another container, joining spans, and prove that nothing changed."""
    with reported(json):
        tags = spheres.sphere_tags(sphere, width_deg)
    _make(paths, container, to, camera, None, json, every_picture=every_picture, sphere=tags)


def convert(
    paths: Paths,
    to: To,
    recipe: Annotated[str, typer.Option(help="A recipe's name; see `diadoche recipes`.")],
    mark: Annotated[tuple[str, str] | None, typer.Option(help="In and out: picture numbers or timecodes.")] = None,
    camera: Annotated[str, typer.Option(help="Put in front of the output's name.")] = "",
    scan: Annotated[
        str, typer.Option(help="Fields: keep them, a picture a frame, a picture a field, or film off its video clock.")
    ] = "",
    table: Annotated[Path | None, typer.Option(help="A look-up table (.cube) that colours go through.")] = None,
    table_gives: Annotated[str, typer.Option(help="The colours that the table gives: BT.709 or BT.2020.")] = "BT.709",
    json: Json = False,
) -> None:
    """Make an edit-ready file by a recipe, and check it."""
    with reported(json):
        chosen = recipe_named(recipe, places().own_recipes)
        changes = _changes(chosen, scan, table, table_gives)
    _make(paths, chosen, to, camera, mark, json, changes=changes)


def _make(
    paths: list[Path],
    recipe: Recipe | str,
    to: Path,
    camera: str,
    marks: tuple[str, str] | None,
    json: bool,
    *,
    every_picture: bool = False,
    changes: Changes | None = None,
    sphere: SphereTags | None = None,
) -> None:
    with reported(json), Bar(json) as watch, stoppable(watch):
        must_be_there(*paths)
        clips = clips_from(paths, places().own_layouts, watch)
        if not clips:
            raise MediaError(
                f"There is no clip at {', '.join(str(path) for path in paths)}.",
                path=paths[0],
                safe="Nothing was written.",
                do="Give files, or the folder of a card.",
            )
        outputs = []
        for clip in clips:
            request = MakeRequest(
                clip.paths,
                recipe,
                to,
                camera,
                marks,
                changes,
                sounds=clip.sounds,
                every_picture=every_picture,
                sphere=sphere,
            )
            try:
                outputs.append(perform_make(request, watch))
            except DiadocheError as error:
                if len(clips) == 1:
                    raise
                # What is made of the others stands, and is told.
                wanted = recipe if isinstance(recipe, str) else recipe.name
                outputs.append(failed(tuple(str(path) for path in clip.paths), wanted, error.problem))
    if json:
        print_json([output.as_dict() for output in outputs])
    for output in outputs:
        if output.output:
            pictures = f"{output.frames_out} of {output.frames_in} pictures"
            say(f"{output.output}: {pictures}, {size_text(output.bytes)}, checked")
        say_problems(output.problems)
    ended(any(output.problems for output in outputs))


def _changes(recipe: Recipe, scan: str, table: Path | None, table_gives: str) -> Changes:
    """The recipe's own changes with what was asked for instead."""
    asked: dict[str, object] = {"table_gives": table_gives}
    asked |= {"scan": scan} if scan else {}
    asked |= {"table": table.absolute()} if table is not None else {}
    try:
        return Changes.model_validate(recipe.changes.model_dump() | asked)
    except ValidationError as error:
        names = ", ".join(str(each["loc"][0]).replace("_", "-") for each in error.errors())
        raise RequestError(f"--{names} takes no such value.", do="See `diadoche convert --help`.") from error
