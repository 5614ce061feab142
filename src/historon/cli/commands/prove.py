"""`historon prove`."""

from collections.abc import Sequence

import click

from historon.api import Version
from historon.base.errors import ExitCode, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import count, print_json, printable
from historon.store import Proof

__all__ = ["command"]


@click.command(
    "prove", epilog=example("historon prove", "historon prove web-1@2026-06-14", "historon prove --where role=web")
)
@click.argument("versions", nargs=-1, metavar="[SOURCE[@WHEN]]...")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App, versions: tuple[str, ...], where: tuple[str, ...], *, estate_file: str | None, as_json: bool
) -> int:
    """Test versions with the programs that their procedures name (such as `nginx -t`).

    Each version is written to a scratch folder, and the commands of `proof` run there. They have limited time and
    memory, and no network where the system allows that. The verdict is stored with the version. Without arguments: the
    last good version of each source whose procedure has a proof. The exit code is 1 unless all are proven.
    """
    with app.opened(estate_file) as opened:
        if versions and not where:
            chosen = [opened.version(one) for one in versions]
        else:
            sources = [one for one in opened.select(*versions, where=where) if opened.described.procedure_of(one).proof]
            chosen = [opened.version(one.name) for one in sources if opened.store.state(one.name).good is not None]
        if not chosen:
            raise UsageError(
                "nothing to test: no procedure of these sources has a proof", hint="add `proof` to a procedure"
            )
        found, without = _proofs(chosen)
    proven = sum(proof.well for _, proof in found)
    headline = f"{proven} of {count(len(found), 'version')} proven"
    if as_json:
        print_json("prove", headline, [_row(version, proof) for version, proof in found])
    else:
        _print(found)
        click.echo(headline)
    for why in without:
        click.echo(f"historon: {printable(why)}", err=True)
    if without:
        return ExitCode.USAGE
    return ExitCode.WELL if proven == len(found) else ExitCode.FOUND


def _proofs(chosen: Sequence[Version]) -> tuple[list[tuple[Version, Proof]], list[str]]:
    """The verdicts, and why there is none of some. UsageError where there is none at all."""
    found: list[tuple[Version, Proof]] = []
    without = []
    for one in chosen:
        try:
            found.append((one, one.prove()))
        except UsageError as exc:
            if len(chosen) == 1:
                raise
            without.append(f"{one}: {exc.message}")
    return found, without


def _print(found: Sequence[tuple[Version, Proof]]) -> None:
    for version, proof in found:
        style = {"proven": "green", "failed": "red"}.get(proof.verdict, "yellow")
        click.echo(f"{version}  {click.style(printable(str(proof)), fg=style)}")
        for line in proof.said:
            click.echo(f"  {printable(line)}")


def _row(version: Version, proof: Proof) -> dict[str, object]:
    return {
        "source": version.source,
        "version": version.number,
        "verdict": proof.verdict,
        "took_s": proof.took_s,
        "why": proof.why,
        "said": list(proof.said),
    }
