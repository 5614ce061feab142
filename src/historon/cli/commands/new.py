"""`historon new`."""

import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, nullcontext
from pathlib import Path

import click

from historon.base.disk import sync_folder, write_through
from historon.base.errors import ExitCode, OutsideError, UsageError
from historon.cli.app import App, example, pass_app
from historon.cli.output import count, printable
from historon.copies import AtHand, copy_at_hand, store_from
from historon.estate import ESTATE_FILE, Estate, lay_out, missing_secrets, read_estate
from historon.store import Damage, FolderStore, create_store

__all__ = ["command"]

_SHOWN = 20  # damages


@click.command(
    "new",
    epilog=example(
        "historon new estate", "cd estate && historon status", "historon new estate --from-copy /mnt/saltgate/historon"
    ),
)
@click.argument("folder", metavar="DIR", type=click.Path(file_okay=False, path_type=Path))
@click.option("--store-only", is_flag=True, help="Only make an empty store for the estate in DIR.")
@click.option(
    "--from-copy",
    "copy",
    metavar="PLACE",
    help=(
        "Rebuild the estate from this copy: estate file, versions and records; with --store-only only the "
        "store. PLACE is a folder, or a file that describes one copy as an estate file does."
    ),
)
@pass_app
def command(app: App, folder: Path, *, store_only: bool, copy: str | None) -> int:
    """Make a new estate in a folder.

    Writes a commented historon.toml, a folder for keys and an empty store, all readable by you only. Existing files are
    never changed. --from-copy rebuilds an estate from a copy, after its machine was lost. Copies contain no keys and
    passwords; the command lists the missing ones. It runs no program that the copy's estate file names. Damaged
    versions are left out and listed; the exit code is 3 then.
    """
    if copy is not None and not store_only:
        with copy_at_hand(copy) as at_hand:
            return _from_copy(app, folder, copy, at_hand)
    if store_only:
        estate = app.estate(str(folder))
        with copy_at_hand(copy, estate) if copy else nullcontext() as at_hand:
            return _new_store(estate, at_hand)
    file, keys, store = lay_out(folder)
    FolderStore.create(store).close()
    click.echo(f"{file}   describe your estate here")
    click.echo(f"{keys}/            private keys and passwords, one a file, mode 600")
    click.echo(f"{store}/           the store; do not edit it")
    click.echo(f"\nnext: edit {file}, then: cd {folder} && historon collect")
    return ExitCode.WELL


def _new_store(estate: Estate, copy: AtHand | None) -> int:
    made, lost = store_from(estate, copy) if copy else (create_store(estate), [])
    with closing(made):
        held = sum(len(made.versions(name)) for name in made.states())
        click.echo(f"new {f'store with {held:,} versions' if copy else 'empty store'}: {made.place}")
    return _tell_lost(lost)


def _from_copy(app: App, folder: Path, place: str, copy: AtHand) -> int:
    """Make an estate of all that is whole in a copy; nothing is left of it when that cannot be."""
    settings = copy.folder / "estate"
    if not (settings / ESTATE_FILE).is_file():
        hint = f"write {folder / ESTATE_FILE}, then: historon new {folder} --store-only --from-copy {place}"
        raise UsageError(f"{place} has no estate file", hint=hint)
    if (folder / ESTATE_FILE).exists():
        raise OutsideError(f"{folder / ESTATE_FILE} already exists; nothing was changed", hint="choose another folder")
    with _made_or_nothing(folder):
        try:
            shutil.copytree(settings, folder, dirs_exist_ok=True, ignore=_without_estate_file(settings))
            (folder / "keys").mkdir(mode=0o700, exist_ok=True)
            folder.chmod(0o700)
        except (OSError, shutil.Error) as exc:
            raise OutsideError(f"{folder}: {exc}", hint="check the folder and its permissions") from exc
        text = (settings / ESTATE_FILE).read_bytes()
        estate = read_estate(folder / ESTATE_FILE, text.decode("utf-8", "replace"))
        password = estate.settings.store_password
        if estate.store_folder is None and password is not None and password.kind == "command":
            hint = f"write an estate file, then: historon new {folder} --store-only --from-copy {place}"
            raise UsageError(f"the estate file of the copy would run {password.place} for its store", hint=hint)
        made, lost = store_from(estate, copy)
        _put_last(folder / ESTATE_FILE, text)  # so that one that was killed before can be run again
    with closing(made):
        names = made.states()
        held = sum(len(made.versions(name)) for name in names)
        click.echo(f"{estate.file}   as it was when the copy was made")
        click.echo(f"{made.place}   {held:,} versions of {len(names):,} sources")
    for one in missing_secrets(estate):
        run = " (a program; it was not run: look at it first)" if one.kind == "command" else ""
        click.echo(f"missing: {one}{run}")
    click.echo(f"\nnext: add the missing secrets, then: cd {folder} && historon doctor && historon collect")
    return _tell_lost(lost)


def _put_last(file: Path, content: bytes) -> None:
    """By one name each time, unlike where files are replaced: the next run writes over what a killed one left."""
    coming = file.with_name(f".{file.name}.coming")
    write_through(coming, [content])
    coming.replace(file)
    sync_folder(file.parent)


def _without_estate_file(settings: Path) -> Callable[[str, list[str]], set[str]]:
    """Leaves out the estate file itself, and no file of its name in a folder below."""
    return lambda folder, _names: {ESTATE_FILE} if Path(folder) == settings else set()


@contextmanager
def _made_or_nothing(folder: Path) -> Iterator[None]:
    """On an error remove what was made in a folder, and the folder itself where it was not there."""
    before = set(folder.iterdir()) if folder.is_dir() else None
    try:
        yield
    except BaseException:
        if before is None:
            shutil.rmtree(folder, ignore_errors=True)
        else:
            for one in set(folder.iterdir()) - before:
                shutil.rmtree(one, ignore_errors=True) if one.is_dir() else one.unlink()
        raise


def _tell_lost(lost: Sequence[Damage]) -> int:
    """Name what is not whole in the copy; the exit code says that it is a part of it."""
    if not lost:
        return ExitCode.WELL
    click.echo(
        f"DAMAGED in the copy, and left out: {count(len(lost), 'version or file', 'versions and files')}", err=True
    )
    for one in lost[:_SHOWN]:
        click.echo(f"  {printable(str(one))}", err=True)
    if len(lost) > _SHOWN:
        click.echo(f"  and {len(lost) - _SHOWN} more: historon status --json", err=True)
    click.echo("  try: another copy may have them. To accept the loss: historon verify --accept-losses", err=True)
    return ExitCode.SOURCES
