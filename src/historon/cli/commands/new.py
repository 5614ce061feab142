"""`historon new`."""

from contextlib import closing
from pathlib import Path

import click

from historon.cli.app import App, example, pass_app
from historon.errors import UsageError
from historon.estate import lay_out
from historon.store import FolderStore, create_store

__all__ = ["command"]


@click.command("new", epilog=example("historon new estate", "cd estate && historon status"))
@click.argument("folder", metavar="DIR", type=click.Path(file_okay=False, path_type=Path))
@click.option("--store-only", is_flag=True, help="Only make a new, empty store for the estate that is in DIR.")
@click.option(
    "--from-copy",
    "copy",
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    help="With --store-only: make it with all that this copy, or store in a folder, holds.",
)
@pass_app
def command(app: App, folder: Path, *, store_only: bool, copy: Path | None) -> None:
    """Lay out a new estate in a folder.

    Writes a commented historon.toml, a folder for keys and an empty store, readable by you alone. What is there
    already is never touched.
    """
    if store_only:
        estate = app.estate(str(folder))
        with closing(create_store(estate, copy)) as made:
            held = sum(len(made.versions(name)) for name in made.states())
            click.echo(f"a new store{f' with {held:,} versions' if copy else ', empty'}: {made.place}")
        return
    if copy is not None:
        raise UsageError("--from-copy makes a store", hint=f"historon new {folder} --store-only --from-copy {copy}")
    file, keys, store = lay_out(folder)
    FolderStore.create(store).close()
    click.echo(f"{file}   describe your estate here")
    click.echo(f"{keys}/            private keys and passwords, one a file, mode 600")
    click.echo(f"{store}/           the versions: leave it to Historon")
    click.echo(f"\nnext: edit {file}, then: cd {folder} && historon collect")
