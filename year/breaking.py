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
    _module("timetable.inherited").Inherited.look = lambda *_: None
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
    session = _module("collect.transports.mailbox")._MailSession
    useless = session._useless

    def first(looks: Any) -> Any:
        found = useless(looks)
        if found:
            raise found[0][1]
        return found

    session._useless = staticmethod(first)


def _another_store() -> None:
    _module("store.sqlite.transactions").FileTransactions._check_place = lambda _self: None


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
    folders = _module("base.folders")
    folders._FOLDER &= ~folders.os.O_NOFOLLOW

    def stat(self: Any, name: str) -> Any:
        try:
            with self.parent(name) as (folder, last):
                return folders.os.stat(last, dir_fd=folder)
        except OSError:
            return None

    folders.Below.stat = stat


def _one_highest_number() -> None:
    notifier = _module("notices.notifier")
    made, store = notifier.Notifier, _module("store")
    ended = made.end_round
    notifier._told_in = lambda _: "told up to"

    def end_round(self: Any, report: Any) -> None:
        ended(self, report)
        rounds = [one for one in self._store.rounds(200) if one.ended is None and self._store.at_work(one) is False]
        told = self._store.recall_all("told up to")
        for one in reversed(rounds):
            for visit in self._store.visits(one.number):
                if visit.outcome is store.Outcome.CHANGED and visit.number > int(told.get(visit.source, 0)):
                    self._tell_late(one.number, visit.source, visit.number)
        self.keep()

    made.end_round, made.tell_untold, made._forget_told = end_round, lambda _: None, lambda *_: None


def _settled_before_sent() -> None:
    delivery = _module("notices.delivery")

    def deliver(self: Any) -> Any:
        for one in self.outgoing():
            yield self.settle(one, delivery.Sent("sent"))
            delivery.send(one, self.estate, self._clock())

    async def deliver_beside(self: Any) -> Any:
        return list(deliver(self))

    delivery.Delivery.deliver = deliver
    delivery.Delivery.deliver_beside = deliver_beside


def _not_looked_at() -> None:
    pushing = _module("api.pushing")

    async def left(_opened: Any, _source: Any, plan: Any) -> Any:
        return plan.present, pushing.Difference(plan.difference.before, plan.difference.after, [], None)

    pushing._left = left


def _noise_not_shown() -> None:
    _module("cli.views.push")._all_that_changes = lambda _, plan: list(plan.difference.parts)


def _any_proof() -> None:
    _module("store.proofs").Proof.as_of = lambda self, _: self


def _no_program_is_well() -> None:
    proof = _module("restore.proof")
    run = proof._run
    proof._run = lambda *given: found if (found := run(*given)).verdict != "unknown" else proof._Found("proven")


def _date_ignored() -> None:
    _module("collect.round")._Round._date_of = lambda *_: []


def _queues_apart() -> None:
    def oldest(waiting: Any, _: Any) -> list[Any]:
        """What each pull has waited for longest, whatever night it is of; nothing while one has nothing."""
        return [{pull: some[at] for pull, some in waiting.items()} for at in range(min(map(len, waiting.values())))]

    _module("collect.transports.drop_folder").deliveries = oldest
    _module("collect.transports.drop_folder")._DropSession._check_together = lambda *_: None


def _anybody_writes() -> None:
    _module("api.context").check_writer = lambda *_: None
    _module("timetable.service").check_writer = lambda *_: None


def _snapshot_unseen() -> None:
    status = _module("copies.status")
    status._is_newer = lambda *_, **__: False
    status._heed_refusal = lambda *_: None


def _cut_list_taken() -> None:
    _module("timetable.accepted").too_many_lost = lambda *_: False


OLD_FAULTS: dict[str, Callable[[], None]] = {
    "half exports are good": _takes_anything,
    "a suspect export becomes the last good one": _suspect_is_good,
    "a lossy reading shows sameness": _lossy_reading,
    "what was taken is not remembered with it": _mark_apart,
    "its collected file is not removed or moved": _left_where_it_was,
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
    "one highest number is remembered": _one_highest_number,
    "a notice is settled before it is sent": _settled_before_sent,
    "a push is not looked at": _not_looked_at,
    "a push shows no noise": _noise_not_shown,
    "any proof counts": _any_proof,
    "a missing program proves": _no_program_is_well,
    "the date of an export is not looked at": _date_ignored,
    "each part has a queue of its own": _queues_apart,
    "any estate writes a store": _anybody_writes,
    "a restored snapshot goes unseen": _snapshot_unseen,
    "a list that was cut is taken": _cut_list_taken,
}
