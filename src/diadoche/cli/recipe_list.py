"""The verb that lists recipes; it loads nothing of what makes outputs."""

from __future__ import annotations

from diadoche.cli.frame import Json, places, reported
from diadoche.cli.output import print_json, say, say_problems


def list_recipes(json: Json = False) -> None:
    """List the recipes."""
    from diadoche.core.convert.recipes import mistaken_recipes, recipes

    with reported(json):
        found = recipes(places().own_recipes)
        mistaken = [error.problem for error in mistaken_recipes(places().own_recipes)]
    if json:
        print_json([recipe.as_dict() for recipe in found.values()])
    for recipe in found.values():
        held = "no sound" if recipe.sound.codec == "none" else f"sound as {recipe.sound.codec.upper()}"
        say(f"{recipe.name}: {recipe.title}, {recipe.purpose}; in {recipe.container.name.upper()}, {held}")
    say_problems(mistaken)
