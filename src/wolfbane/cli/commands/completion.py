"""``wolfbane completion``, and the responses to completion requests of a shell."""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence

import click
from click.shell_completion import ShellComplete

from wolfbane.cli.options.base_command import Command

BASH = r"""# Completion of wolfbane for bash. Put this into ~/.bashrc:
#   eval "$(wolfbane completion bash)"
_wolfbane_complete() {
  local IFS=$'\n' word line="${COMP_LINE:0:COMP_POINT}"
  COMPREPLY=()
  for word in $(WOLFBANE_COMPLETE=bash WOLFBANE_LINE="$line" "$1" 2>/dev/null); do
    case "$word" in (*[/=,#:]) compopt -o nospace ;; esac
    # Inside quotes, words are not escaped; bash adds the closing quote.
    [[ ${COMP_WORDS[COMP_CWORD]} == [\"\']* ]] || printf -v word '%q' "$word"
    COMPREPLY+=("$word")
  done
}
complete -F _wolfbane_complete wolfbane
"""
ZSH = r"""#compdef wolfbane
# Completion of wolfbane for zsh. Put this into ~/.zshrc, after compinit:
#   eval "$(wolfbane completion zsh)"
_wolfbane_complete() {
  local -a found open whole before
  local current=$PREFIX
  [[ -z $compstate[quote] ]] && current=${(Q)PREFIX}
  before=("${(@Q)words[1,CURRENT-1]}")
  found=("${(@f)$(WOLFBANE_COMPLETE=zsh "${before[@]}" "$current" 2>/dev/null)}")
  open=(${(M)found:#*[/=,#:]})
  whole=(${found:#*[/=,#:]})
  (( ${#open} )) && compadd -S '' -a open
  (( ${#whole} )) && compadd -a whole
}
compdef _wolfbane_complete wolfbane
"""
FISH = r"""# Completion of wolfbane for fish. Put this into ~/.config/fish/config.fish:
#   wolfbane completion fish | source
function __wolfbane_complete
  set -l given (commandline -opc) (commandline -ct | string unescape)
  WOLFBANE_COMPLETE=fish $given[1] $given[2..-1] 2>/dev/null
end
complete -c wolfbane -f -a "(__wolfbane_complete)"
"""
SCRIPTS = {"bash": BASH, "zsh": ZSH, "fish": FISH}
_BASH_BREAKS = "=:"


@click.command("completion", cls=Command)
@click.argument("shell", type=click.Choice(list(SCRIPTS)))
def command(shell: str) -> None:
    """Print the script that lets a shell complete commands, options and names from the workspace.

    \b
    eval "$(wolfbane completion bash)"      in ~/.bashrc
    eval "$(wolfbane completion zsh)"       in ~/.zshrc, after compinit
    wolfbane completion fish | source       in config.fish
    """
    click.echo(SCRIPTS[shell], nl=False)


def answer(root: click.Command, shell: str, arguments: Sequence[str]) -> int:
    """Print the possible completions of the last word, one per line."""
    skip = 0
    if shell == "bash":
        arguments, open_quote = _words(os.environ.get("WOLFBANE_LINE", ""))
        if not open_quote:
            skip = max(arguments[-1].rfind(sign) for sign in _BASH_BREAKS) + 1
    *before, incomplete = arguments or [""]
    completer = ShellComplete(root, {}, "wolfbane", "WOLFBANE_COMPLETE")
    items = completer.get_completions(before, incomplete)
    click.echo("\n".join(item.value[skip:] for item in items if item.value))
    return 0


def _words(line: str) -> tuple[list[str], bool]:
    """The words of an unfinished line after the program's name, and whether a quote is open."""
    for closing in ("", "'", '"'):
        try:
            tokens = shlex.split(line + closing)
        except ValueError:
            continue
        if not closing and line[-1:].isspace() and not line.endswith("\\ "):
            tokens.append("")
        return tokens[1:] or [""], bool(closing)
    return [""], False
