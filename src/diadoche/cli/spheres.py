"""The verb about spheres: stitch."""

from __future__ import annotations

import math
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any, get_args

import typer

from diadoche.cli.frame import Json, Paths, ended, places, reported, stoppable
from diadoche.cli.output import Bar, print_json, say, say_problems
from diadoche.core.convert.recipes import USUAL_RECIPE, recipe_named
from diadoche.core.errors import RequestError
from diadoche.core.sizes import size_text
from diadoche.core.spatial import Bounds, SphereTags
from diadoche.core.sphere.shape import Layout, Level, Quality
from diadoche.services.jobs.lens_take import LensTake, StitchSettings
from diadoche.services.jobs.stitch import StitchOutput, StitchRequest, perform_stitch


def stitch(
    paths: Paths,
    to: Annotated[Path, typer.Option(help="The new file; its folder is made where it is not there.")],
    rig: Annotated[str, typer.Option(help="A rig's name, or its file.")] = "dual-fisheye-200",
    recipe: Annotated[str, typer.Option(help="A recipe's name; see `diadoche recipes`.")] = USUAL_RECIPE,
    size: Annotated[str, typer.Option(help="Width and height, as 3840x1920; as the lenses justify if left out.")] = "",
    layout: Annotated[str, typer.Option(help="mono, top-bottom or side-by-side.")] = "mono",
    width_deg: Annotated[str, typer.Option(help="How much of the sphere: 360, 270, 180 …")] = "360",
    centre: Annotated[
        str, typer.Option(help="What comes into the middle: degrees to the right and up, and roll, as 90,0,180.")
    ] = "0,0,0",
    quality: Annotated[
        str, typer.Option(help="best, standing (a camera that does not move), or quick (near things stand twice).")
    ] = "best",
    fill_poles: Annotated[
        bool, typer.Option("--fill-poles", help="Fill from around what no lens sees above and below.")
    ] = False,
    cover_deg: Annotated[
        float, typer.Option(min=0, max=60, help="Fill so many degrees around the nadir from around them: a tripod.")
    ] = 0.0,
    without_lens: Annotated[
        list[int] | None, typer.Option(help="A lens of the rig that has no file, from 1: a hole. May be repeated.")
    ] = None,
    level: Annotated[
        str, typer.Option(help="Level the horizon by the motion track: once for all, or each-picture.")
    ] = "no",
    as_filmed: Annotated[bool, typer.Option("--as-filmed", help="Leave lenses as bright as they are.")] = False,
    calibrate: Annotated[
        bool, typer.Option("--calibrate", help="Align the lenses by what they see in common first.")
    ] = False,
    save_rig: Annotated[Path | None, typer.Option(help="Keep the aligned rig in this new file (.json).")] = None,
    mark: Annotated[tuple[str, str] | None, typer.Option(help="In and out: picture numbers or timecodes.")] = None,
    json: Json = False,
) -> None:
    """Make one picture of the sphere from the files of its lenses."""
    with reported(json), Bar(json) as watch, stoppable(watch):
        chosen = recipe_named(recipe, places().own_recipes)
        if to.suffix.lower() != f".{chosen.container.ending}":
            raise RequestError(
                f"{to.name} does not end in .{chosen.container.ending}, which the recipe {recipe} makes.",
                do="Give another name, or another recipe.",
            )
        if to.exists():
            raise RequestError(f"{to} is there already.", path=to, safe="It was not touched.", do="Give another name.")
        missing = tuple(sorted(set(without_lens or ())))
        request = StitchRequest(
            LensTake(tuple((path.absolute(),) for path in paths), rig, (), places().own_rigs, missing),
            chosen,
            to.absolute().parent,
            StitchSettings(
                _one_of(Quality, "quality", quality),
                _one_of(Layout, "layout", layout),
                _size(size),
                _degrees(width_deg),
                even_out=not as_filmed,
                turn_deg=_turn(centre),
                fill_poles=fill_poles,
                cover_deg=cover_deg,
                level=_one_of(Level, "way to level", level.replace("-", " ")),
            ),
            to.stem,
            mark,
            align="must" if calibrate or save_rig is not None else "no",
            save_rig=_new_rig(save_rig),
        )
        made = perform_stitch(request, watch)
    _tell(made, json)
    ended(bool(made.output.problems))


def _tell(made: StitchOutput, as_json: bool) -> None:
    if as_json:
        print_json(made.as_dict())
    output = made.output
    if output.output:
        wide, high = made.size
        say(
            f"{output.output}: {output.frames_out} of {output.frames_in} pictures, {wide}×{high} {made.layout}, "
            f"{size_text(output.bytes)}, checked"
        )
    if made.seam is not None and made.seam.worst is not None:
        number, worst_px = made.seam.worst
        usual = f"Edges across the seams break by {made.seam.median_px:.1f} px"
        say(f"{usual}, at worst {worst_px:.1f} px in picture {number}.")
    if made.quality == "best" and made.proposed_quality == "standing":
        say("Near things stand still in this take: --quality standing is enough for it, and quicker.")
    if made.aligned is not None:
        say(f"Lenses aligned; places not used for it fit to {made.aligned.residual_px:.2f} px.")
    say_problems(output.problems)


def sphere_tags(text: str, width_deg: str) -> SphereTags | None:
    """What a file is to say of a sphere; None where nothing was asked.

    Raises:
        RequestError: nobody knows that.
    """
    if not text:
        return None
    if text == "flat":
        return SphereTags("")
    side = (1 - _degrees(width_deg) / 360) / 2
    return SphereTags(_one_of(Layout, "layout", text), Bounds(left=side, right=side))


def _turn(text: str) -> tuple[float, float, float]:
    try:
        right, up, roll = (float(part) for part in text.split(","))
    except ValueError:
        right = up = roll = math.nan
    if not all(math.isfinite(part) and abs(part) <= 360 for part in (right, up, roll)):
        raise RequestError(f"{text} is no direction.", do="Give three angles in degrees, as 90,0,180.")
    return right, up, roll


def _new_rig(path: Path | None) -> Path | None:
    if path is None:
        return None
    if path.suffix.lower() != ".json" or path.exists():
        raise RequestError(f"{path} is no new .json file.", path=path, safe="Nothing was written.", do="Name another.")
    return path.absolute()


def _size(text: str) -> tuple[int, int] | None:
    if not text:
        return None
    wide, _, high = text.lower().replace("×", "x").partition("x")
    if not (wide.isascii() and wide.isdigit() and high.isascii() and high.isdigit() and len(text) < 12):
        raise RequestError(f"{text} is no size.", do="Give width and height, as 3840x1920.")
    return int(wide), int(high)


def _one_of(choices: Any, what: str, text: str) -> Any:
    if text not in get_args(choices):
        raise RequestError(f"There is no {what} called {text}.", do=f"Choose from {', '.join(get_args(choices))}.")
    return text


def _degrees(text: str) -> Fraction:
    try:
        found = Fraction(text)
    except (ValueError, ZeroDivisionError):
        found = Fraction(0)
    if not 0 < found <= 360:
        raise RequestError(f"{text} is no part of a sphere.", do="Give degrees of arc, as 360, 270 or 180.")
    return found
