"""The command line: every verb of the contract, each a thin layer over a use case.

A verb's module is loaded when the verb is called: help, and short verbs, do not wait for media libraries and databases.

Exit codes: 0 done; 1 finished, with problems named; 2 arguments that make no sense.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from typing import Annotated, Any

import typer
from typer.core import TyperGroup
from typer.main import get_command

from diadoche.cli.windows import Windows


@dataclass(frozen=True, slots=True)
class Verb:
    """Where a verb is, and its line in the help."""

    name: str
    function: str
    line: str

    def loaded(self) -> Any:
        """The verb itself, as the command-line library has it."""
        module, _, name = self.function.partition(":")
        alone = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None)
        alone.command(self.name)(getattr(import_module(f"diadoche.cli.{module}"), name))
        return get_command(alone)


# In the order in which people work.
VERBS = (
    Verb("look", "cards:look", "Show what is on a card or in a folder."),
    Verb("estimate", "copies:estimate_offload", "Measure how long an offload will take, and what it waits for."),
    Verb("offload", "cards:offload", "Copy a card to one or more places and prove every copy."),
    Verb("verify", "cards:verify", "Re-read a copy against manifests of ours or of others."),
    Verb("restore", "copies:restore", "Fetch a clip or a file from a proven copy, and prove it."),
    Verb("copy-on", "copies:copy_on", "Copy a proven copy on to other places, and prove it there."),
    Verb("complete", "copies:complete", "Complete an unfinished copy from a proven one, without the card."),
    Verb("level", "copies:bring_level", "Bring two places to the same state."),
    Verb("take-in", "copies:take_in", "Take footage into a shoot where it lies."),
    Verb("rebuild", "copies:rebuild_ledger", "Fill the ledger from the manifests on disks."),
    Verb("identify", "footage:identify", "Tell what each file is, and what it needs before it can be cut."),
    Verb("rewrap", "outputs:rewrap", "Put picture and sound into another container, and prove that nothing changed."),
    Verb("recipes", "recipe_list:list_recipes", "List the recipes."),
    Verb("convert", "outputs:convert", "Make an edit-ready file by a recipe, and check it."),
    Verb("stitch", "spheres:stitch", "Make one picture of the sphere from the files of its lenses."),
    Verb("handoff", "footage:handoff", "Write the OpenTimelineIO file for the editing program."),
    Verb("open", "open_window:open_window", "Open the window, with a folder taken as a card."),
    Verb("demo", "demos:demo", "Open the window on the demo shoot; it is made where it is missing."),
    Verb("make-demo", "demos:make_demo_cards", "Write the cards of the demo shoot."),
    Verb("completion", "shells:completion", "Print what makes a shell complete verbs and options."),
    Verb("manual", "shells:manual", "Print the manual page."),
)


class Verbs(TyperGroup):
    """The verbs, by the table above."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Their names, in the order of work."""
        return [verb.name for verb in VERBS]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """A verb, loaded."""
        verb = next((each for each in VERBS if each.name == cmd_name), None)
        return verb.loaded() if verb is not None else None

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """The list of verbs, without loading any."""
        with formatter.section("Commands"):
            formatter.write_dl([(verb.name, verb.line) for verb in VERBS])


app = typer.Typer(
    cls=Verbs,
    no_args_is_help=False,
    add_completion=False,
    pretty_exceptions_enable=False,
    invoke_without_command=True,
    rich_markup_mode=None,
    help="Take footage from a card to proven copies and edit-ready files. Without a verb, the window opens.",
)


def _say_version(wanted: bool) -> None:
    if wanted:
        # Whoever asks for nothing of it need not wait for the package's own data.
        from diadoche.services.version import VERSION

        typer.echo(f"Diadoche {VERSION}")
        raise typer.Exit


@app.callback()
def window(
    context: typer.Context,
    version: Annotated[
        bool, typer.Option("--version", callback=_say_version, is_eager=True, help="Tell the version, and end.")
    ] = False,
) -> None:
    """Opens the window when no verb is given."""
    del version
    if context.invoked_subcommand is None:
        raise typer.Exit(Windows.open_shoot(None))
