import os
from pathlib import Path

import pytest

from tests.conftest import EstateFolder, historon

_BASE = """[estate]
name = "Test"
[credentials.r]
user = "u"
password = "env:SECRET"
[retention.s]
all = "14d"
[procedures.shell]
over = "ssh-shell"
prompt = '# $'
steps = [{ keep = "list settings", as = "x.cfg" }]
[procedures.files]
over = "local"
steps = [{ pull = "data" }]
"""


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (
            "[estate\n",
            "historon.toml:1: column 8: Expected ']' at the end of a table declaration (this is not valid TOML)",
        ),
        ("", '"estate" is missing'),
        ('[estate]\nnam = "x"\n', 'historon.toml:2 estate.nam: this key is not known (did you mean "name"?)'),
        ("[estate]\nname = 5\n", "historon.toml:2 estate.name: expected text in quotes, found a whole number"),
        (
            '[estate]\nname = "x"\ntime_zone = "Europe/Olso"\n',
            ':3 estate.time_zone: "Europe/Olso" is not a known time zone',
        ),
        ('[estate]\nname = "x"\nat_once = 0\n', ":3 estate.at_once: expected a whole number >= 1"),
        (_BASE + "[retention.t]\nall = 30\n", 'retention.t.all: 30 has no unit (write "30d" for days'),
        (_BASE + '[retention.t]\nday = "-30d"\n', 'retention.t.day: a duration cannot be negative (write "30d")'),
        (_BASE + "[retention.t]\nat_least = 5\n", "retention.t: has only a floor"),
        (
            _BASE + '[credentials.x]\nuser = "u"\npassword = "hunter2"\n',
            "credentials.x.password: a secret must not be",
        ),
        (_BASE + '[sources]\nname = "x"\n', "sources: expected a list, found a table"),
        (_BASE + '[[sources]]\nname = "../x"\nprocedure = "files"\n', "sources[1].name: this name cannot be used"),
        (_BASE + '[[sources]]\nname = "x"\nprocedure = "file"\n', 'there is no "file" (did you mean "files"?)'),
        (
            _BASE + '[[sources]]\nname = "x"\nprocedure = "shell"\n',
            '"address" is missing (procedures over ssh-shell need it)',
        ),
        (
            _BASE + '[[sources]]\nname = "x"\nprocedure = "files"\nport = 70000\n',
            "sources[1].port: expected a whole number <= 65535",
        ),
        (_BASE + '[[sources]]\nname = "x"\nprocedure = "files"\nretention = "S"\n', '"S" (did you mean "s"?)'),
        (_BASE + '[[sources]]\nname = "x"\nprocedure = "files"\nhost_key = "aa:bb"\n', "not a host key fingerprint"),
        (_BASE + '[[sources]]\nname = "x"\nprocedure = "files"\n' * 2, 'a second source is named "x"'),
        (
            _BASE + '[procedures.p]\nover = "ssh-shel"\nsteps = []\n',
            '"ssh-shel" is not possible here (did you mean "ssh-shell"?)',
        ),
        (_BASE + '[procedures.p]\nover = "local"\nsteps = []\n', "procedures.p: has no step with a part"),
        (
            _BASE + '[procedures.p]\nover = "local"\nsteps = [{ pull = "a", keep = ["b"] }]\n',
            "exactly one of send, keep, pull, put, await, pause, each, pick, clock and tidy",
        ),
        (_BASE + '[procedures.p]\nover = "local"\nsteps = [{ keep = ["b"] }]\n', "keep needs a name for the part"),
        (
            _BASE + '[procedures.p]\nover = "local"\nsteps = [{ keep = "ls -l", as = "x" }]\n',
            "a local command is a list",
        ),
        (
            _BASE + '[procedures.p]\nover = "ssh-shell"\nprompt = \'(\'\nsteps = [{ keep = "x", as = "x" }]\n',
            "not a regular expression",
        ),
        (
            _BASE
            + '[procedures.p]\nover = "local"\nsteps = [{ pull = "{adress}" }]\n[[sources]]\nname = "x"\nprocedure = "p"\n',
            'procedures.p.steps[1]: there is no value {adress} (did you mean "address"? For braces write {{ and }})',
        ),
        (
            _BASE
            + '[procedures.p]\nover = "local"\nsteps = [{ pull = "{label.site}" }]\n[[sources]]\nname = "x"\nprocedure = "p"\n',
            'has no label.site, which the procedure p needs (add labels = { site = "…" })',
        ),
        (
            _BASE + '[channels.m]\nkind = "mail"\nto = ["nobody"]\nfrom = "a@b.example"\nserver = "x"\n',
            '"nobody" is not a mail address',
        ),
        (
            _BASE
            + '[channels.m]\nkind = "mail"\nto = ["a@b.example"]\nfrom = "a@b.example"\nserver = "x"\nsecurity = "none"\ncredentials = "r"\n',
            "would send its password in the clear",
        ),
    ],
)
def test_each_mistake_is_told_with_its_place_and_the_way_out(tmp_path: Path, text: str, told: str) -> None:
    (tmp_path / "historon.toml").write_text(text)
    result = historon("status", cwd=tmp_path)
    assert result.code == 4
    assert told in result.err
    assert "hunter2" not in result.said


def test_all_mistakes_are_told_at_once_in_the_order_of_the_file(tmp_path: Path) -> None:
    (tmp_path / "historon.toml").write_text(
        '[estate]\nnam = "x"\n[retention.s]\nall = 30\n[[sources]]\nname = "x"\nprocedure = "nowhere"\n'
    )
    result = historon("status", cwd=tmp_path)
    lines = [int(line.split(":")[1].split()[0]) for line in result.err.splitlines()[1:]]
    assert "4 mistakes" in result.err
    assert lines == sorted(lines)


def test_a_missing_estate_file_says_how_to_begin(tmp_path: Path) -> None:
    result = historon("status", cwd=tmp_path)
    assert result.code == 4
    assert "historon new DIR" in result.err


def test_a_mistake_inside_a_multi_line_text_does_not_shift_lines(tmp_path: Path) -> None:
    text = (
        _BASE
        + '[procedures.p]\nover = "local"\nsteps = [\n  { pull = """a\n[estate]\nname = 1\n""" },\n]\nstep_deadline = "5"\n'
    )
    (tmp_path / "historon.toml").write_text(text)
    line = text.splitlines().index('step_deadline = "5"') + 1
    assert f"historon.toml:{line} procedures.p.step_deadline" in historon("status", cwd=tmp_path).err


def test_csv_sources_are_merged_and_defaults_hold(estate: EstateFolder) -> None:
    estate.write(
        _BASE.replace('name = "Test"', 'name = "Test"\nsources_from = "sources.csv"')
        + '[defaults]\nprocedure = "files"\nmax_age = "2h"\nlabels = { kind = "f" }\n[[sources]]\nname = "toml"\n'
    )
    estate.write("\ufeffname,label.site,max_age\nfirst,north,\nsecond,south,3h\n\n", "sources.csv")
    result = estate.run("status", "--where", "site=south", "--json")
    assert '"max_age_s": 10800.0' in result.out
    assert '"kind": "f"' in result.out
    assert estate.run("status").out.count("never") == 3 + 1


@pytest.mark.parametrize(
    ("csv", "told"),
    [
        ("address\nx\n", 'sources.csv:1: the first row must name the columns, "name" among them'),
        ("name,adress\nx,y\n", 'sources.csv:1: column "adress" is not known (did you mean "address"?)'),
        ("name,procedure\nx,files,3\n", "sources.csv:2: row 2 has 3 cells for 2 columns"),
        ("name,procedure\nx,files\ny,nowhere\n", 'sources.csv:3 procedure: there is no "nowhere"'),
        ("name,procedure,max_age\nx,files,26\n", "sources.csv:2 max_age: 26 has no unit"),
        ("name,procedure\nx,files\nx,files\n", 'sources.csv:3: a second source is named "x"'),
        ('name,procedure\n"x,files\n', "sources.csv: cannot be read: unexpected end of data"),
        (None, "sources.csv: there is no such file"),
    ],
)
def test_a_bad_row_names_its_row(estate: EstateFolder, csv: str | None, told: str) -> None:
    estate.write(_BASE.replace('name = "Test"', 'name = "Test"\nsources_from = "sources.csv"'))
    if csv is not None:
        estate.write(csv, "sources.csv")
    result = estate.run("status")
    assert result.code == 4
    assert told in result.err


def test_start_lays_out_a_private_estate_that_reads_without_mistakes(tmp_path: Path) -> None:
    os.umask(0o022)
    assert historon("new", "new", cwd=tmp_path).code == 0
    new = tmp_path / "new"
    modes = {path.name: path.stat().st_mode & 0o777 for path in (*new.iterdir(), new / "store" / "ledger.sqlite")}
    assert modes == {"historon.toml": 0o600, "keys": 0o700, "store": 0o700, "ledger.sqlite": 0o600}
    assert historon("status", cwd=new).code == 0


def test_start_touches_nothing_that_exists(tmp_path: Path) -> None:
    (tmp_path / "keys").mkdir()
    result = historon("new", ".", cwd=tmp_path)
    assert result.code == 6
    assert "nothing was changed" in result.err
    assert [path.name for path in tmp_path.iterdir()] == ["keys"]


def test_the_examples_in_the_template_are_right(tmp_path: Path) -> None:
    """Every commented example, uncommented, makes an estate file without mistakes."""
    historon("new", "new", cwd=tmp_path)
    file = tmp_path / "new" / "historon.toml"
    lines = []
    for line in file.read_text().splitlines():
        bare = line.removeprefix("# ")
        example = line.startswith("# ") and (bare.startswith(("[", "]", "  {")) or " = " in bare.split("#")[0])
        lines.append(bare if example else line)
    text = "\n".join(lines).replace('"SHA256:…"', f'"SHA256:{"A" * 43}"').replace("\nsources_from", "\n# sources_from")
    file.write_text(text + '\n[credentials.mail]\nuser = "x"\npassword = "env:X"\n')
    result = historon("status", cwd=tmp_path / "new")
    assert "edge-1" in result.out, result.err


@pytest.mark.parametrize(
    ("reference", "told"),
    [
        ("env:NOT_SET", "env:NOT_SET: this variable is not set"),
        ("file:keys/none", "there is no file"),
        ("file:keys/open", "others can read or change"),
        ("command:false", "ended with exit code 1"),
        ("command:no-such-program-here", "No such file or directory"),
    ],
)
def test_a_secret_that_cannot_be_fetched_fails_its_sources_alone(
    estate: EstateFolder, reference: str, told: str
) -> None:
    (estate.path / "keys" / "open").write_text("canary-77")
    (estate.path / "keys" / "open").chmod(0o644)
    (estate.path / "data").mkdir()
    (estate.path / "data" / "x").write_text("x")
    more = '[[sources]]\nname = "r"\nprocedure = "shell"\naddress = "127.0.0.1"\ncredentials = "r"\n[[sources]]\nname = "f"\nprocedure = "files"\n'
    estate.write(_BASE.replace("env:SECRET", reference) + more)
    result = estate.run("collect")
    assert result.code == 3
    assert told in result.err
    assert "f                         new" in result.out
    assert "canary" not in result.said


def test_the_estate_is_found_from_a_folder_below_and_by_variable(files_estate: EstateFolder, tmp_path: Path) -> None:
    assert historon("status", cwd=files_estate.path / "data").code == 1
    assert historon("status", cwd=tmp_path, HISTORON_ESTATE=str(files_estate.path)).code == 1
    assert historon("status", "--estate", files_estate.path / "historon.toml", cwd=tmp_path).code == 1
