"""Old faults, to be brought back for trial: a judge that does not find them is none.

Each changes the program in the process that is to have it, as it was before it was mended, or would be without what
keeps it from happening.
"""

import importlib
from collections.abc import Callable
from typing import Any

__all__ = ["OLD_FAULTS"]


def _module(name: str) -> Any:
    return importlib.import_module(f"historon.{name}")


def _takes_anything() -> None:
    inspection = _module("inspection.exports").Inspection
    _module("collect.judging").inspect = lambda *_: inspection()


def _suspect_is_good() -> None:
    judging = _module("collect.judging")
    outcome = judging._outcome

    def good(*given: Any) -> Any:
        made = outcome(*given)
        return judging.replace(made, state=_module("store").State.GOOD) if made.doubts else made

    judging._outcome = good


def _lossy_reading() -> None:
    masks = _module("versions.masks").Masks
    essence = masks.essence
    masks.essence = lambda self, line: (essence(self, line) or b"").translate(None, b"0123456789") or None
    masks.has_noise = property(lambda _: True)


def _mark_apart() -> None:
    _module("collect.round")._Round._remembered = staticmethod(lambda *_: [])


def _left_where_it_was() -> None:
    async def settle(*_: Any) -> str:
        return ""

    _module("collect.round").settle = settle


def _last_try_forgotten() -> None:
    _module("timetable.freshness").SourceStatus.ailing = property(lambda _: False)


def _overdue_untold() -> None:
    _module("timetable.monitoring")._about_ages = lambda *_: iter(())


def _never_resumed() -> None:
    _module("timetable.service").Service._resume_paused = lambda *_: None
    _module("collect.round").still_paused = lambda *_: []


def _dead_holder_obeyed() -> None:
    _module("store.sqlite.folder").is_running = lambda _: None


def _damage_travels() -> None:
    _module("store.sqlite.copying").check_successor = lambda *_, **__: None


def _secrets_shown() -> None:
    _module("versions.masks").Masks.hide = lambda _self, content: content


def _told_every_half_minute() -> None:
    _module("timetable.service").Service._taken = property(lambda _: True, lambda _self, _value: None)


def _one_letter_stops_all() -> None:
    mailbox = _module("collect.transports.mailbox")

    def first(self: Any, fitting: Any, seen: Any, *how: Any) -> Any:
        choice = mailbox.choose_next(fitting, seen, self._procedure)
        if choice is None:
            raise mailbox.NotNowError("nothing new")
        return choice, self._attachments(choice.one.message, *how), []

    mailbox._MailSession._next = first


def _another_store() -> None:
    folder = _module("store.sqlite.folder")
    folder.FolderStore.another = lambda self: folder.FolderStore(self._folder, indexed=self.indexed)


def _any_store() -> None:
    for name in ("folder", "git"):
        _module(f"copies.{name}").check_belongs = lambda *_: None
    _module("copies.folder")._check = lambda *_: None
    _module("copies.git")._check_ours = lambda *_: None
    _module("store.sqlite.copying").check_successor = lambda *_, **__: None


def _gone_is_up_to_date() -> None:
    _module("copies.status")._is_there = lambda *_: True


def _one_too_many() -> None:
    planning = _module("retention.planning")
    always = planning._always
    staying = planning._staying
    planning._always = lambda versions, retention: list(always(versions, retention))[:1]
    planning._staying = lambda versions, *how: [one for one in staying(versions, *how) if one[0] != versions[0].number]


def _first_thousand_lines() -> None:
    judging = _module("collect.judging")
    compare = judging.compare_exports

    def cut(parts: Any) -> Any:
        return {name: b"\n".join(content.split(b"\n")[:1000]) for name, content in parts.items()}

    judging.compare_exports = lambda before, after, masks, *more, **how: compare(
        cut(before), cut(after), masks, *more, **how
    )


def _links_followed() -> None:
    folders = _module("folders")
    folders._FOLDER &= ~folders.os.O_NOFOLLOW

    def stat(self: Any, name: str) -> Any:
        try:
            with self.parent(name) as (folder, last):
                return folders.os.stat(last, dir_fd=folder)
        except OSError:
            return None

    folders.Below.stat = stat


OLD_FAULTS: dict[str, Callable[[], None]] = {
    "half exports are good": _takes_anything,
    "a suspect export becomes the last good one": _suspect_is_good,
    "a lossy reading shows sameness": _lossy_reading,
    "what was taken is not remembered with it": _mark_apart,
    "what was taken is not put away": _left_where_it_was,
    "status forgets the last try": _last_try_forgotten,
    "what is overdue is not told": _overdue_untold,
    "a service that was left paused is not resumed": _never_resumed,
    "a dead holder's lease is obeyed": _dead_holder_obeyed,
    "loss travels into the copy": _damage_travels,
    "secrets are shown": _secrets_shown,
    "trouble is told every half minute": _told_every_half_minute,
    "one letter stops a mailbox": _one_letter_stops_all,
    "a round goes to another store": _another_store,
    "a copy takes any store": _any_store,
    "a copy that is gone is up to date": _gone_is_up_to_date,
    "one version too many is pruned": _one_too_many,
    "links are followed": _links_followed,
    "the first thousand lines are compared": _first_thousand_lines,
}
