"""Sending changes where there is no transaction: in whole change sets, each looked at again, or taken back.

A batch is never sent again when it is not known what became of it: its records are looked at instead.
"""

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from itertools import islice
from typing import Any

import msgspec

from tidymerge.core.words import counted, plural
from tidymerge.errors import (
    Interrupted,
    ProofFailed,
    ServerAway,
    TargetChanged,
    TargetError,
    TargetLocked,
    TidyMergeError,
    WriteRefused,
    WrittenPartly,
)
from tidymerge.services.odata.batches import UNKNOWN, Outcome, as_json, as_multipart, outcomes
from tidymerge.services.odata.changes import Change, Doing, Standing
from tidymerge.services.odata.columns import decoded
from tidymerge.services.odata.looking import Seen, look, note_others
from tidymerge.services.odata.session import BUSY, JSON, Answer, Session
from tidymerge.settings import wait

_CHANGED = 412  # the ETag is another by now (RFC 9110, 15.5.13)
_TOO_LARGE = 413
_MISSING = 404
_CONFLICT = 409
_NO_BATCHES = (404, 405, 501)  # of $batch itself
_NAMED = 5  # records in an error


class Sender:
    """Sends the changes of one run, and remembers them so that they can be taken back."""

    def __init__(self, session: Session, interrupted: Callable[[], bool] = lambda: False) -> None:
        self._session, self._interrupted = session, interrupted
        self._at_once = session.changes_at_once
        self._batches = "NoBatches" not in session.metadata.said
        self._done: list[Change] = []
        self.sets = 0

    def send(self, changes: Iterable[Change]) -> None:
        """All changes, a set at a time. Raises what went wrong, when what was sent is taken back.

        Raises WrittenPartly where some of it could not be taken back.
        """
        rest = iter(changes)
        try:
            while own := list(islice(rest, self._size)):
                for part in self._sized(own):
                    if self._interrupted():
                        raise Interrupted("Interrupted between two change sets.")  # noqa: TRY301
                    self._send_set(part)
        except BaseException as error:
            self._take_back(error)
            raise

    def _sized(self, own: Sequence[Change]) -> Iterator[Sequence[Change]]:
        """The changes in sets of the size that the service takes, which may have become smaller."""
        at = 0
        while at < len(own):
            size = self._size
            yield own[at : at + size]
            at += size if size <= self._size else 0  # one that was too large comes again, in smaller ones

    @property
    def _size(self) -> int:
        """How many changes go in one set; one by one, where the service takes no sets."""
        return self._at_once if self._batches else 1

    @property
    def singly(self) -> bool:
        """Whether each record was sent by itself."""
        return not self._batches

    def _send_set(self, own: Sequence[Change]) -> None:
        """One change set, proved. Raises TargetChanged, WriteRefused, ProofFailed, ServerAway and TargetLocked."""
        self._check_unguarded(own)
        note_others(own)
        began = time.monotonic()
        while True:
            told = None
            try:
                told = self._sent(own)
                if told is None:
                    return
                self._check(told, own)
            except TidyMergeError as error:
                kept = self._keep_halves(own, told, error)
                if isinstance(error, ServerAway) and kept == len(own):
                    break  # it was done, only the answer got lost
                in_time = time.monotonic() - began < wait()
                if not (isinstance(error, TargetChanged) and not kept and in_time and self._still_decided(own, error)):
                    raise
            else:
                self._prove(own, told)
                break
        self.sets += 1

    def _still_decided(self, own: Sequence[Change], error: TargetChanged) -> bool:
        """Whether all that was compared still stands, as others changed only other fields; the ETags are new then.

        Raises WriteRefused where nothing changed at all, whatever the service said.
        """
        both = list(zip(own, self._looked(own), strict=True))
        if any(seen.standing is not Standing.BEFORE for _, seen in both):
            return False
        if all(seen.etag == one.etag for one, seen in both):
            raise WriteRefused(f"{error} But all of the set is as it was: the service does not find it by its URL.")
        for one, seen in both:
            one.etag = seen.etag
        return True

    def _sent(self, own: Sequence[Change]) -> dict[int, Outcome] | None:
        """What became of each change, as the service says; None where the set has to be smaller."""
        if not self._batches:
            return self._sent_singly(own)
        answer = self._posted(own)
        if answer.status == _TOO_LARGE and len(own) > 1:
            self._at_once = max(1, len(own) // 2)
            return None
        if answer.status in _NO_BATCHES:
            self._batches = False
            return None
        return self._outcomes(answer, own)

    def _sent_singly(self, own: Sequence[Change]) -> dict[int, Outcome]:
        """The same without sets: each change is a request of its own."""
        told = {}
        for at, one in enumerate(own):
            asked = one.request()
            body = b"" if asked.body is None else msgspec.json.encode(asked.body)
            sure = partial(self._nothing_done, [one])
            answer = self._session.patient(asked.method, asked.path, asked.headers, body, sure=sure)
            told[at] = Outcome(answer.status, _json(answer), answer.headers)
        return told

    def _outcomes(self, answer: Answer, own: Sequence[Change]) -> dict[int, Outcome]:
        """What a batch's answer says. Raises WriteRefused where it was refused as a whole."""
        if not answer.is_good:
            said = self._session.hide(answer.said())
            raise WriteRefused(f"{self._session.place} refused a set of {counted(len(own), 'change')} ({said}).")
        return outcomes(answer, len(own))

    def _posted(self, own: Sequence[Change], *, together: bool = True) -> Answer:
        """The batch, sent once; where the service is busy, again once it is sure that it did nothing."""
        requests = [one.request() for one in own]
        if self._session.batches_json:
            body, kind = as_json(requests, together=together)
        else:
            body, kind = as_multipart(requests, together=together)
        headers = {"Content-Type": kind, "Accept": JSON if self._session.batches_json else "multipart/mixed"}
        if not together:
            headers["Prefer"] = "odata.continue-on-error" if not self._session.batches_json else "continue-on-error"
        return self._session.patient("POST", "$batch", headers, body, sure=partial(self._nothing_done, own))

    def _nothing_done(self, own: Sequence[Change]) -> bool:
        return all(seen.standing is Standing.BEFORE for seen in look(own))

    def _check(self, told: dict[int, Outcome], own: Sequence[Change]) -> None:
        """Make sure that all was done. Raises TargetChanged and WriteRefused with the record that is at fault."""
        at = _at_fault(told)
        if at is None:
            return
        at, outcome = (0 if at == UNKNOWN and len(own) == 1 else at), told[at]
        about = "a record of the set" if at == UNKNOWN else f"the record {own[at].name}"
        came = outcome.status == _CONFLICT and at != UNKNOWN and self._came(own[at])
        if came or outcome.status in (_CHANGED, _MISSING):
            raise TargetChanged(f"Somebody changed {about} while it was compared ({self._session.place}).")
        if outcome.status in BUSY:
            raise TargetLocked(f"{self._session.place} was too busy for a change set (status {outcome.status}).")
        said = self._session.hide(outcome.said())
        raise WriteRefused(
            f"{self._session.place} refused {about}: {said}. Correct its row, or leave it out, then run it again."
        )

    def _check_unguarded(self, own: Sequence[Change]) -> None:
        """Look at records again that have no ETag, right before they are written. Raises TargetChanged."""
        bare = [one for one in own if one.doing is not Doing.INSERT and one.etag is None]
        if bare:
            for one, seen in zip(bare, look(bare), strict=True):
                if seen.standing is not Standing.BEFORE:
                    raise TargetChanged(f"Somebody changed the record {one.name} while it was compared.")

    def _came(self, one: Change) -> bool:
        """Whether a record that was to be new is there by now, whatever it holds: somebody else made it."""
        return one.doing is Doing.INSERT and self._looked([one])[0].standing is not Standing.BEFORE

    def _keep_halves(self, own: Sequence[Change], told: dict[int, Outcome] | None, error: TidyMergeError) -> int:
        """Find out which changes of a set that failed are there all the same; how many. They are taken back, too.

        Others may have written the same meanwhile, and that must stay. Ours are: all, where the answer got lost; those
        before the one that the service found fault with, as each was written only if nobody had changed it. Where it is
        not known which one that is, nobody can tell, and they are left as they are. Raises WrittenPartly.
        """
        fault = None if told is None else _at_fault(told)
        there = [(at, one, seen) for at, (one, seen) in enumerate(zip(own, self._looked(own), strict=True))]
        there = [each for each in there if each[2].standing is Standing.AFTER]
        if there and fault in (None, UNKNOWN) and not isinstance(error, ServerAway):
            names = ", ".join(one.name for _, one, _ in there[:_NAMED])
            raise WrittenPartly(
                f"{error} Yet {counted(len(there), 'record')} of that set {plural(len(there), 'holds', 'hold')} what "
                f"was to be written: {names}. The service kept a part, or somebody else wrote the same, so "
                f"{plural(len(there), 'it is', 'they are')} left. Look at the runs; undo takes them back.",
                kept=tuple(one.name for _, one, _ in there),
            )
        ours = [(one, seen) for at, one, seen in there if fault is None or at < fault]
        for one, seen in ours:
            one.etag = seen.etag
            self._done.append(one)
        return len(ours)

    def _looked(self, own: Sequence[Change]) -> list[Seen]:
        """How the records stand, asked again for a while where the service is away. Raises TargetError."""
        began, pause = time.monotonic(), 0.2
        while True:
            try:
                return look(own)
            except ServerAway:
                if time.monotonic() - began + pause > wait():
                    raise
                time.sleep(pause)
                pause = min(pause * 2, 5.0)

    def _prove(self, own: Sequence[Change], told: dict[int, Outcome]) -> None:
        """Read the records of a set again, and compare them with what was decided. Raises ProofFailed."""
        for at, one in enumerate(own):
            one.learn(told.get(at))
        self._done += own
        wrong = []
        for one, seen in zip(own, self._looked(own), strict=True):
            if seen.standing is Standing.AFTER:
                one.etag = seen.etag
            elif one.etag is None or seen.etag in (None, one.etag):
                wrong.append(one)
        if wrong:
            names = ", ".join(one.name for one in wrong[:_NAMED])
            raise ProofFailed(
                f"{self._session.place} said that it took a change set, but {counted(len(wrong), 'record')} of it "
                f"{plural(len(wrong), 'does', 'do')} not read back as written: {names}."
            )

    def _take_back(self, error: BaseException) -> None:
        """Undo what was sent, the last first, where nobody changed it since. Raises WrittenPartly."""
        if not self._done:
            if isinstance(error, Interrupted):
                error.args = (f"{error} Nothing was written.",)
            return
        sent, self._done = self._done, []
        kept: list[Change] = []
        try:
            for start in range(len(sent), 0, -self._at_once):
                part = sent[max(start - self._at_once, 0) : start]
                kept += self._taken_back([one.back() for one in reversed(part)])
        except TargetError as again:
            raise WrittenPartly(
                f"{error} {counted(len(sent), 'change')} had been made, and not all could be taken back: {again} Once "
                "the service is there again, the list of runs tells which are there, and undo takes them back."
            ) from error
        if kept:
            names = ", ".join(one.name for one in kept[:_NAMED])
            raise WrittenPartly(
                f"{error} {counted(len(kept), 'record')} of {len(sent):,} that had been written could not be taken "
                f"back, as somebody changed {plural(len(kept), 'it', 'them')} since, or the service refused: {names}. "
                "The others are as they were.",
                kept=tuple(one.name for one in kept),
            ) from error
        if isinstance(error, TidyMergeError) and error.args:
            was = plural(len(sent), "was", "were")
            error.args = (f"{error} {counted(len(sent), 'change')} that had been made {was} taken back.",)

    def _taken_back(self, own: Sequence[Change]) -> list[Change]:
        """Take back some; which of them are not as they were afterwards."""
        unguarded = [one for one in own if one.doing is not Doing.INSERT and one.etag is None]
        changed = self._guarded(unguarded)
        own = [one for one in own if not any(one is other for other in changed)]
        note_others(own)
        with suppress(ServerAway, WriteRefused):  # what became of it is looked at
            if self._batches:
                self._posted(own, together=False)
            else:
                self._sent_singly(own)
        return [*changed, *self._left(own)]

    def _guarded(self, own: Sequence[Change]) -> list[Change]:
        """Give changes without an ETag the one of now, if their records still hold what the run wrote; else these."""
        changed = []
        for one, seen in zip(own, self._looked(own) if own else [], strict=True):
            one.etag = seen.etag
            if seen.standing is Standing.OTHER:
                changed.append(one)
        return changed

    def _left(self, own: Sequence[Change]) -> list[Change]:
        """Which of some are not taken back yet, when they were tried once more by themselves."""
        both = zip(own, self._looked(own), strict=True)
        left = [(one, seen) for one, seen in both if seen.standing is not Standing.AFTER]
        again = [one for one, seen in left if seen.standing is Standing.BEFORE]
        if again:
            for one in again:  # one by one, as some services refuse all where one is refused
                self._alone(one)
            after = self._looked(again)
            again = [one for one, seen in zip(again, after, strict=True) if seen.standing is not Standing.AFTER]
        return [*again, *(one for one, seen in left if seen.standing is Standing.OTHER)]

    def _alone(self, one: Change) -> None:
        with suppress(ServerAway, WriteRefused):  # what became of it is looked at
            if self._batches:
                self._posted([one])
            else:
                self._sent_singly([one])


def _at_fault(told: dict[int, Outcome]) -> int | None:
    """The place of the change that the service found fault with; None where it did all."""
    return next((at for at, one in told.items() if not one.is_good), None)


def _json(answer: Answer) -> Any:
    """The record in an answer, if there is one."""
    with suppress(msgspec.DecodeError, UnicodeDecodeError):
        return decoded(answer.body) if answer.body else None
    return None
