"""`historon new`."""

import shutil
from contextlib import closing, nullcontext
from pathlib import Path

import click

from historon.cli.app import App, example, pass_app
from historon.copies import copy_at_hand
from historon.errors import HistoronError, OutsideError, UsageError
from historon.estate import ESTATE_FILE, Estate, lay_out, missing_secrets
from historon.store import FolderStore, create_store

__all__ = ["command"]


@click.command(
    "new",
    epilog=example(
        "historon new estate", "cd estate && historon status", "historon new estate --from-copy /mnt/saltgate/historon"
    ),
)
@click.argument("folder", metavar="DIR", type=click.Path(file_okay=False, path_type=Path))
@click.option("--store-only", is_flag=True, help="Only make a new, empty store for the estate that is in DIR.")
@click.option(
    "--from-copy",
    "copy",
    metavar="PLACE",
    help="Make it from what this copy holds: estate, versions, record; with --store-only the versions alone. PLACE is "
    "a folder, or a file that describes one copy as an estate file does.",
)
@pass_app
def command(app: App, folder: Path, *, store_only: bool, copy: str | None) -> None:
    """Lay out a new estate in a folder.

    Writes a commented historon.toml, a folder for keys and an empty store, readable by you alone. What is there
    already is never touched. With --from-copy the estate is that of a copy, on the day its machine is lost; keys and
    passwords are in no copy, and the command says which are missing.
    """
    if copy is not None and not store_only:
        with copy_at_hand(copy) as at_hand:
            _from_copy(app, folder, copy, at_hand)
        return
    if store_only:
        estate = app.estate(str(folder))
        with copy_at_hand(copy, estate) if copy else nullcontext() as at_hand:
            _new_store(estate, at_hand)
        return
    file, keys, store = lay_out(folder)
    FolderStore.create(store).close()
    click.echo(f"{file}   describe your estate here")
    click.echo(f"{keys}/            private keys and passwords, one a file, mode 600")
    click.echo(f"{store}/           the versions: leave it to Historon")
    click.echo(f"\nnext: edit {file}, then: cd {folder} && historon collect")


def _new_store(estate: Estate, copy: Path | None) -> None:
    with closing(create_store(estate, copy)) as made:
        held = sum(len(made.versions(name)) for name in made.states())
        click.echo(f"a new store{f' with {held:,} versions' if copy else ', empty'}: {made.place}")


def _from_copy(app: App, folder: Path, place: str, copy: Path) -> None:
    """Make an estate of what a copy holds; nothing is left of it when that cannot be."""
    settings = copy / "estate"
    if not (settings / ESTATE_FILE).is_file():
        hint = f"write {folder / ESTATE_FILE}, then: historon new {folder} --store-only --from-copy {place}"
        raise UsageError(f"{place} holds no estate file", hint=hint)
    if (folder / ESTATE_FILE).exists():
        raise OutsideError(
            f"{folder / ESTATE_FILE} is there already; nothing was changed", hint="choose another folder"
        )
    try:
        shutil.copytree(settings, folder, dirs_exist_ok=True)
        (folder / "keys").mkdir(mode=0o700, exist_ok=True)
        folder.chmod(0o700)
    except (OSError, shutil.Error) as exc:
        raise OutsideError(f"{folder}: {exc}", hint="check the folder and its permissions") from exc
    try:
        estate = app.estate(str(folder))
        made = create_store(estate, copy)
    except HistoronError:
        (folder / ESTATE_FILE).unlink()  # so that this can be tried again
        raise
    with closing(made):
        names = made.states()
        held = sum(len(made.versions(name)) for name in names)
        click.echo(f"{estate.file}   as it was when the copy was made")
        click.echo(f"{made.place}   {held:,} versions of {len(names):,} sources")
    for one in missing_secrets(estate):
        click.echo(f"missing: {one}")
    click.echo(f"\nnext: put what is missing in its place, then: cd {folder} && historon doctor && historon collect")
