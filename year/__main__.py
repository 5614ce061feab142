"""`python -m year`: a year of faults, judged by one who knows the truth."""

import faulthandler
import json
import signal
import sys
import time
from collections import Counter
from dataclasses import asdict
from pathlib import Path

import click

from year.breaking import OLD_FAULTS
from year.play import KINDS, Entry, Result, Script, play, written
from year.shrinking import shrunk

_COLUMNS = ("loss", "double", "secret", "false all-clear", "missing notice", "double notice", "late", "false alarm")


@click.command()
@click.option("--seed", default="1", show_default=True, help="What happens is decided by it.")
@click.option("--days", default=365, show_default=True)
@click.option("--sources", default=60, show_default=True)
@click.option("--dense", default=1.0, show_default=True, help="By how much more often faults come.")
@click.option("--only", multiple=True, metavar="KIND", help="Only faults of this kind.")
@click.option("--script", type=click.Path(path_type=Path), help="Play the script of this file instead.")
@click.option("--break", "broken", multiple=True, type=click.Choice([*OLD_FAULTS]), help="Bring an old fault back.")
@click.option("--stop", is_flag=True, help="End with the first day on which something was found.")
@click.option("--shrink/--no-shrink", default=True, help="Look for the shortest script of the first finding.")
@click.option("--json", "as_json", is_flag=True, help="The findings, for programs.")
def main(
    *,
    seed: str,
    days: int,
    sources: int,
    dense: float,
    only: tuple[str, ...],
    script: Path | None,
    broken: tuple[str, ...],
    stop: bool,
    shrink: bool,
    as_json: bool,
) -> None:
    """Play a year, print what was found by kind of fault, and of the first finding the shortest script."""
    began = time.monotonic()
    faulthandler.register(signal.SIGUSR1)  # one that hangs may be asked where
    chosen = _read(script) if script else written(seed, days, sources, dense=dense)
    if only:
        kept = tuple(one for one in chosen.entries if one.kind in only)
        chosen = Script(chosen.seed, chosen.days, chosen.sources, kept)
    result = play(chosen, broken, lambda words: click.echo(words, err=True), stop_at_first=stop)
    if as_json:
        print(
            json.dumps(
                {"faults": result.injected, "visits": result.visits, "findings": [*map(asdict, result.findings)]}
            )
        )
    else:
        _print(result, time.monotonic() - began)
        if result.findings and shrink:
            shortest = shrunk(chosen, result.findings[0], broken, lambda words: print(f"  {words}", flush=True))
            print(f"the shortest script of the first finding, for --script:\n{json.dumps(asdict(shortest))}")
    sys.exit(bool(result.findings))


def _read(file: Path) -> Script:
    data = json.loads(file.read_text())
    entries = tuple(Entry(**one) for one in data["entries"])
    return Script(data["seed"], data["days"], tuple(data["sources"]), entries)


def _print(result: Result, took: float) -> None:
    by_kind = Counter((kind, one.mistake) for one in result.findings for kind in (one.kinds or ("none",)))
    print(f"{'fault':<44} {'times':>5} {'well':>5} " + " ".join(f"{name.split()[-1]:>9}" for name in _COLUMNS))
    print(f"{'':<56} " + " ".join(f"{name.rpartition(' ')[0]:>9}" for name in _COLUMNS))
    for kind in [*KINDS, "none"]:
        times = result.injected[kind]
        if not times and not any(by_kind[kind, name] for name in _COLUMNS):
            continue
        bad = len({(one.day, one.subject) for one in result.findings if kind in (one.kinds or ("none",))})
        cells = " ".join(f"{by_kind[kind, name] or '':>9}" for name in _COLUMNS)
        print(f"{kind:<44} {times or '':>5} {max(0, times - bad) or '':>5} {cells}".rstrip())
    many = f"{sum(result.injected.values()):,} faults of {len(+result.injected)} kinds, {result.visits:,} source-nights"
    print(f"{many}: {len(result.findings)} findings; {took:.0f} s")


if __name__ == "__main__":
    main()
