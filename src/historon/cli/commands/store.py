"""`historon store`."""

import click

from historon.api import Estate
from historon.base.errors import ExitCode, UsageError
from historon.base.quantities import size_text
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, print_json

__all__ = ["command"]


@click.command("store", epilog=example("historon store", "historon store --moved"))
@click.option("--moved", is_flag=True, help="This estate replaces the one that the store belongs to.")
@click.option("--beside", is_flag=True, help="This estate also uses the store, such as a standby service.")
@click.option("--copied", is_flag=True, help="The store was copied with its estate: make it a separate store.")
@estate_option
@json_option
@pass_app
def command(app: App, *, moved: bool, beside: bool, copied: bool, estate_file: str | None, as_json: bool) -> int:
    """Show or change which estate the store belongs to.

    A store belongs to the estate file and machine that first wrote to it. Another estate can read it, but cannot change
    it until one of the options is given. --copied makes a copied store a separate one; the copies of the first store
    then refuse it, so give its copies other places. The exit code is 5 while the store belongs to another estate.
    """
    if moved + beside + copied > 1:
        raise UsageError("--moved, --beside and --copied exclude each other", hint="historon store --help")
    with app.opened(estate_file) as opened:
        if moved or beside:
            before = opened.ownership.take_over(beside=beside)
            known = [str(one) for one in opened.ownership.writers()]
            click.echo(f"the store belongs to {' and '.join(known)}")
            for one in before:
                if not beside and str(one) not in known:
                    click.echo(f"{one} can no longer change it")
            return ExitCode.WELL
        if copied:
            return _become_another(opened)
        return _show(opened, as_json=as_json)


def _become_another(opened: Estate) -> int:
    opened.ownership.separate()
    click.echo(f"the store is a separate one now; it belongs to {opened.ownership.writers()[-1]}")
    estate = opened.described
    if estate.copies:
        click.echo(f"give its copies other places: {', '.join(estate.copies)}")
    taking = [one.name for one in estate.sources.values() if estate.procedure_of(one).moves_to is not None]
    if taking:
        more = f" and {len(taking) - 3} more" if len(taking) > 3 else ""
        click.echo(
            "these remove files or mails that they collect, so two estates would get half each: "
            f"{', '.join(taking[:3])}{more}"
        )
    return ExitCode.WELL


def _show(opened: Estate, *, as_json: bool) -> int:
    store, writers = opened.store, opened.ownership.writers()
    states = store.states()
    versions = sum(len(store.versions(name)) for name in states)
    stranger = opened.ownership.stranger()
    if as_json:
        print_json(
            "store",
            stranger or "this estate writes it",
            [{"estate": one.estate, "machine": one.machine, "host": one.host} for one in writers],
            place=store.place,
            sources=len(states),
            versions=versions,
            size_bytes=store.size(),
        )
    else:
        click.echo(f"store       {store.place}")
        click.echo(
            f"holds       {count(versions, 'version')} of {count(len(states), 'source')}, {size_text(store.size())}"
        )
        click.echo(f"belongs to  {' and '.join(map(str, writers)) or 'nobody yet'}")
        if stranger:
            click.echo(f"\n{stranger.rpartition('; ')[2]}: it can read the store, but not change it")
            click.echo("historon store --moved    if it replaces the other")
            click.echo("historon store --beside   if both use the store")
            click.echo("historon store --copied   if store and estate are a copy")
    return ExitCode.STORE if stranger else ExitCode.WELL
