"""A rehearsal goes through everything for real, and leaves nothing behind."""

import os
import pwd
from collections.abc import Callable

import pytest

from historon.standins.capstan import Capstan, Fault
from tests.conftest import EstateFolder

RouterEstate = Callable[..., EstateFolder]


def _nothing_stored(estate: EstateFolder) -> bool:
    store = estate.store()
    return store.rounds() == [] and store.states() == {}


def test_it_shows_each_step_and_stores_nothing(router_estate: RouterEstate) -> None:
    estate = router_estate()
    result = estate.run("rehearse", "t")
    assert result.code == 0
    assert "t: capstan over ssh-shell" in result.out
    assert "step 1 of 1 (keep list settings active)" in result.out
    assert "active.cfg (1.6 kB)" in result.out
    assert "| hostname t" in result.out
    assert "lines …" in result.out
    assert "| end" in result.out
    assert "user x password [secret " in result.out
    assert "canary" not in result.said
    assert "a round would record: new" in result.out
    assert _nothing_stored(estate)


def test_it_tells_against_what_is_stored(router_estate: RouterEstate) -> None:
    estate = router_estate()
    estate.run("collect")
    assert "a round would record: unchanged" in estate.run("rehearse", "t").out
    assert len(estate.store().rounds()) == 1


def test_it_says_what_would_be_doubtful(router_estate: RouterEstate, router: Capstan) -> None:
    router.fault = Fault.HALF
    estate = router_estate()
    result = estate.run("rehearse", "t")
    assert result.code == 3
    assert 'doubtful: active.cfg does not end with "end"' in result.out
    assert "a round would record: suspect" in result.out
    assert _nothing_stored(estate)


def test_it_says_where_it_fails_and_what_to_try(router_estate: RouterEstate, router: Capstan) -> None:
    router.fault = Fault.CLOSES
    estate = router_estate()
    result = estate.run("rehearse", "t")
    assert result.code == 3
    assert "  where    step 1 of 1 (keep list settings active)" in result.out
    assert "  try      " in result.out
    assert _nothing_stored(estate)


def test_as_a_service_your_own_variables_are_not_there(router_estate: RouterEstate) -> None:
    estate = router_estate()
    text = (estate.path / "historon.toml").read_text()
    assert estate.run("rehearse", "t", "--as-service").code == 0
    estate.write(text.replace("file:keys/password", "env:ROUTER_PASSWORD"))
    assert estate.run("rehearse", "t", ROUTER_PASSWORD="harbour-light").code == 0
    result = estate.run("rehearse", "t", "--as-service", ROUTER_PASSWORD="harbour-light")
    assert result.code == 3
    assert "env:ROUTER_PASSWORD: this variable is not set" in result.out


def test_as_a_service_it_says_who_it_is_and_what_it_does_not_imitate(router_estate: RouterEstate) -> None:
    estate = router_estate()
    me = pwd.getpwuid(os.geteuid()).pw_name
    result = estate.run("rehearse", "t", "--as-service", "--user", me)
    assert result.code == 0
    assert f"as {me}. Not imitated: a unit can write only to these:" in result.err
    assert str(estate.path) in result.err
    assert "there is no account nobody-of-this-name" in (
        estate.run("rehearse", "t", "--as-service", "--user", "nobody-of-this-name").err
    )
    assert "--user is the account of a service" in estate.run("rehearse", "t", "--user", me).err


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become another account")
def test_as_a_service_of_another_account_its_rights_count(router_estate: RouterEstate) -> None:
    estate = router_estate()
    result = estate.run("rehearse", "t", "--as-service", "--user", "nobody")
    assert "as nobody" in result.err
    assert result.code != 0, "the estate's keys are root's"


def test_a_device_that_echoes_its_password_does_not_give_it_away(router_estate: RouterEstate, router: Capstan) -> None:
    estate = router_estate()
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace("steps = [", 'steps = [{ send = "oops harbour-light" }, '))
    for command in ("rehearse", "collect"):
        result = estate.run(command, "t")
        assert result.code == 3
        assert "harbour-light" not in result.said
        assert "Unknown command: oops [secret " in result.said
