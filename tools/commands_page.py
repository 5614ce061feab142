"""Write docs/commands.md from the program's own help: `python -m tools.commands_page`."""

import inspect
from pathlib import Path

import click

from historon.cli.main import COMMANDS, cli

PAGE = Path(__file__).parent.parent / "docs" / "commands.md"
_HEAD = """# Commands

This page is written from `historon COMMAND --help`.

- `--estate FILE` names the estate file or its folder, before or after the command. Without it Historon uses
  `$HISTORON_ESTATE`, or the `historon.toml` in this folder or the nearest one above.
- `--where LABEL=VALUE` selects sources by a label; it is repeatable. A label or value that no source has is wrong use.
- `--json` prints the data behind a table, see [JSON](json.md). [Exit codes](exit-codes.md) are those of all commands.
- Results go to standard output. Warnings, failures and hints go to standard error.
- Secrets are masked on a terminal and in a pipe; `--reveal` shows them. `historon show edge-1 > FILE` and
  `historon restore` write exactly the collected bytes, secrets included.
- Instants are in the estate's time zone, which every screen and letter names once.
- [Naming a version](looking.md#naming-a-version) explains SOURCE@WHEN.
"""
_EVERYWHERE = frozenset({"estate_file", "help"})


def page() -> str:
    """The whole page."""
    pieces = [_HEAD]
    context = click.Context(cli, info_name="historon")
    for title, section in COMMANDS.items():
        names = ", ".join(f"[{name}](#historon-{name})" for name in section)
        pieces[0] += f"\n**{title}**: {names}\n"
        for name in section:
            command = cli.get_command(context, name)
            assert command is not None
            pieces.extend(_section(command, f"historon {name}", context, "##"))
    return "\n".join(pieces)


def _section(command: click.Command, name: str, above: click.Context, heading: str) -> list[str]:
    context = click.Context(command, info_name=name.removeprefix("historon "), parent=above)
    usage = " ".join(command.collect_usage_pieces(context))
    pieces = [f"{heading} {name}\n", f"`{name} {usage}`\n"]
    pieces.append(inspect.cleandoc(command.help or "") + "\n")
    if command.epilog:
        examples = [line.strip() for line in command.epilog.splitlines() if line.startswith("  ")]
        pieces.append("\n".join(["```sh", *examples, "```"]) + "\n")
    rows = [
        record
        for option in command.get_params(context)
        if isinstance(option, click.Option) and option.name not in _EVERYWHERE
        if (record := option.get_help_record(context))
    ]
    if rows:
        pieces.append(
            "\n".join(["| option | effect |", "|---|---|", *(f"| `{flag}` | {_cell(text)} |" for flag, text in rows)])
            + "\n"
        )
    if isinstance(command, click.Group):
        for sub in command.list_commands(context):
            found = command.get_command(context, sub)
            assert found is not None
            pieces += _section(found, f"{name} {sub}", context, "###")
    return pieces


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("  [", " [")


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
