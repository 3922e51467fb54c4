"""The verb that lists recipes; it loads nothing of what makes outputs."""

from __future__ import annotations

from diadoche.cli.frame import Json, places, reported
from diadoche.cli.output import print_json, say, say_problems


def list_recipes(json: Json = False) -> None:
    """List the recipes."""
    from diadoche.core.convert.recipe_heads import own_files, supplied_heads

    found, mistaken = supplied_heads(), []
    with reported(json):
        own = places().own_recipes
        if own_files(own):
            from diadoche.core.convert.recipes import mistaken_recipes, recipes

            found = {name: recipe.head for name, recipe in recipes(own).items()}
            mistaken = [error.problem for error in mistaken_recipes(own)]
    if json:
        print_json([head.as_dict() for head in found.values()])
    for head in found.values():
        held = "no sound" if head.audio == "none" else f"sound as {head.audio.upper()}"
        say(f"{head.name}: {head.title}, {head.purpose}; in {head.container.upper()}, {held}")
    say_problems(mistaken)
