"""The engine of a store in a PostgreSQL database, against a real server."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from historon.estate import SecretRef, StorePlace
from historon.store import Store
from historon.store.postgresql.server import PostgresStore
from tests.postgres import PASSWORD, PostgresServer, running_server
from tests.store_contract import StoreContract


@pytest.fixture(scope="module")
def server() -> Iterator[PostgresServer]:
    with running_server() as one:
        yield one


def _password(folder: Path) -> SecretRef:
    file = folder / "password"
    file.touch(mode=0o600)
    file.write_text(PASSWORD)
    return SecretRef("file:password")


class TestPostgresStore(StoreContract):
    examples = 12

    @pytest.fixture
    def store(self, tmp_path: Path, server: PostgresServer) -> Iterator[Store]:
        self.place = StorePlace(server.database())
        self.folder, self.server = tmp_path, server
        self.opened: list[Store] = [PostgresStore.create(self.place, tmp_path, _password(tmp_path))]
        yield self.opened[0]
        for one in self.opened:
            one.close()

    def new(self) -> Store:
        return PostgresStore.create(StorePlace(self.server.database()), self.folder, SecretRef("file:password"))

    def again(self, store: Store) -> Store:
        store.close()
        self.opened.append(PostgresStore(self.place, self.folder, SecretRef("file:password")))
        return self.opened[-1]
