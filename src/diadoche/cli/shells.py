"""The verbs for shells: completion, and the manual page, both from the same help as `--help`."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from diadoche.cli.output import say
from diadoche.services.version import VERSION

_SHELLS = ("bash", "zsh", "fish")
_PROGRAM = "diadoche"


def completion(shell: Annotated[str, typer.Argument(help="bash, zsh or fish.")]) -> None:
    """Print what makes a shell complete verbs and options: put it where that shell reads its completions."""
    if shell not in _SHELLS:
        say(f"! There is no completion for {shell}. Choose from {', '.join(_SHELLS)}.")
        raise typer.Exit(2)
    words = {name: _options(command) for name, command in _commands().items()}
    typer.echo({"bash": _bash, "zsh": _zsh, "fish": _fish}[shell](words))


def manual() -> None:
    """Print the manual page: `diadoche manual | man -l -` shows it."""
    from diadoche.cli.app import app

    commands = _commands()
    lines = [
        f'.TH DIADOCHE 1 "" "Diadoche {VERSION}" "User commands"',
        ".SH NAME",
        "diadoche \\- take footage from a card to proven copies and edit\\-ready files",
        ".SH SYNOPSIS",
        ".B diadoche",
        '.RI [ verb " [" options "] [" arguments ]]',
        ".SH DESCRIPTION",
        _roff(app.info.help or ""),
        ".SH VERBS",
    ]
    for name, command in commands.items():
        lines += [".SS " + _roff(f"{name} {_arguments(command)}".strip()), _roff(command.help or "")]
        for option in _own_parameters(command):
            if option.param_type_name == "option":
                value = "" if option.is_flag else f" {option.metavar or option.name.upper()}"
                lines += [".TP", ".B " + _roff(", ".join(option.opts) + value), _roff(option.help or "")]
    lines += [
        ".SH EXIT STATUS",
        "0 where all is done; 1 where it finished and problems are named; 2 where the arguments make no sense.",
        ".SH FILES",
        "Manifests stand beside the copies, in the open format ASC MHL. What the ledger knows can be filled again "
        "from them: see rebuild.",
    ]
    typer.echo("\n".join(lines))


def _commands() -> dict[str, Any]:
    from diadoche.cli.app import VERBS

    return {verb.name: verb.loaded() for verb in VERBS}


def _own_parameters(command: Any) -> list[Any]:
    return [each for each in command.params if not getattr(each, "hidden", False)]


def _options(command: Any) -> list[str]:
    found = [name for each in _own_parameters(command) if each.param_type_name == "option" for name in each.opts]
    return [*(name for name in found if name.startswith("--")), "--help"]


def _arguments(command: Any) -> str:
    names = (each for each in _own_parameters(command) if each.param_type_name == "argument")
    return " ".join(f"{each.name}{'...' if each.nargs == -1 else ''}" for each in names)


def _roff(text: str) -> str:
    """Text as a manual page takes it: no hyphens that would become dashes, no line that would be a request."""
    plain = " ".join(text.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain


def _bash(words: dict[str, list[str]]) -> str:
    cases = "\n".join(f'        {name}) own="{" ".join(options)}" ;;' for name, options in words.items())
    return f"""_{_PROGRAM}() {{
    local word="${{COMP_WORDS[COMP_CWORD]}}" own=""
    COMPREPLY=()
    if [ "$COMP_CWORD" -eq 1 ]; then
        COMPREPLY=($(compgen -W "{" ".join(words)} --help --version" -- "$word"))
        return
    fi
    case "${{COMP_WORDS[1]}}" in
{cases}
    esac
    case "$word" in
        -*) COMPREPLY=($(compgen -W "$own" -- "$word")) ;;
    esac
}}
complete -o default -F _{_PROGRAM} {_PROGRAM}"""


def _zsh(words: dict[str, list[str]]) -> str:
    cases = "\n".join(f"        {name}) compadd -- {' '.join(options)} ;;" for name, options in words.items())
    return f"""#compdef {_PROGRAM}
_{_PROGRAM}() {{
    if (( CURRENT == 2 )); then
        compadd -- {" ".join(words)} --help --version
        return
    fi
    if [[ $words[CURRENT] == -* ]]; then
        case $words[2] in
{cases}
        esac
        return
    fi
    _files
}}
compdef _{_PROGRAM} {_PROGRAM}"""


def _fish(words: dict[str, list[str]]) -> str:
    lines = [f"complete -c {_PROGRAM} -n __fish_use_subcommand -a '{' '.join(words)}'"]
    for name, options in words.items():
        lines += [
            f"complete -c {_PROGRAM} -n '__fish_seen_subcommand_from {name}' -l {option.removeprefix('--')}"
            for option in options
        ]
    return "\n".join(lines)
