"""What was to be tidied up at a source and could not be: it is said again at the next visit."""

import json

from historon.estate import Said
from historon.store import Store

__all__ = ["Leftovers"]

_TOPIC = "to tidy up"
_MOST = 20  # of which nobody knows more than that it was not said


class Leftovers:
    """By the written saying of a step that tidies, what it said in earlier rounds without being heard."""

    def __init__(self, store: Store, source: str) -> None:
        self._store = store
        self._source = source
        written = store.recall(source, _TOPIC)
        self._said: dict[str, list[Said]] = {}
        for key, some in json.loads(written).items() if written else ():
            self._said[key] = [one if isinstance(one, str) else tuple(one) for one in some]

    def of(self, written: Said) -> list[Said]:
        """What is left of a step, the oldest first."""
        return list(self._said.get(_key(written), ()))

    def add(self, written: Said, said: Said) -> None:
        """Note that it was not heard. StoreError."""
        some = self._said.setdefault(_key(written), [])
        if said not in some:
            some.append(said)
            self._said[_key(written)] = some[-_MOST:]
            self._note()

    def done(self, written: Said, said: Said) -> None:
        """Note that it was heard. StoreError."""
        some = self._said.get(_key(written), [])
        if said in some:
            some.remove(said)
            self._note()

    def _note(self) -> None:
        left = {key: some for key, some in self._said.items() if some}
        self._store.remember(self._source, _TOPIC, json.dumps(left) if left else "")


def _key(written: Said) -> str:
    return written if isinstance(written, str) else json.dumps(written)
