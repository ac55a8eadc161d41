"""Several processes working one site out together, where all of it is wanted at once and nothing will change.

Python works in one thread at a time, so the work is shared by processes. Each begins as a copy of the first one, works
out its own share of every round of questions, and then is told what the others found: it rests on that in the next
round. What all of them need is worked out by each. Where a helper fails, its share is left to whoever asks later.
"""

from __future__ import annotations

import multiprocessing
import os
import pickle
from collections.abc import Callable, Sequence
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.context import ForkProcess
from typing import Any

from humble_loop.engine.query import Engine, Key, Unsolved

_MOST = 4
Share = list[Key]  # questions, each a query and its arguments
Answers = list[tuple[Any] | None]  # one for each question; None for one that cannot be answered
Round = Callable[[Engine], list[Share]]  # one share for each process; the same in all of them


def processes_at_hand() -> int:
    """How many processes this one may keep busy: as many as there are cores, of which more than a few gain little."""
    return min(_MOST, len(os.sched_getaffinity(0)))


def ask_together(q: Engine, processes: int, rounds: Sequence[Round]) -> None:
    """Have ``processes`` processes work out rounds of questions, so that ``q`` knows the answers.

    Only for a process of one thread, as the command line is, and for an engine that stays on its site.
    """
    context = multiprocessing.get_context("fork")
    helpers: list[tuple[ForkProcess, Connection]] = []
    for k in range(1, processes):
        here, there = context.Pipe()
        ours = [here, *(pipe for _, pipe in helpers)]
        process = context.Process(target=_help, args=(q, k, rounds, there, ours), daemon=True)
        process.start()
        there.close()
        helpers.append((process, here))
    try:
        for shares in (ask(q) for ask in rounds):
            found: list[Answers] = [_answers(q, shares[0])]
            found += [_received(pipe) for _, pipe in helpers]
            for share, answers in zip(shares, found):
                _adopt(q, share, answers)
            for k, (_, pipe) in enumerate(helpers, 1):
                with suppress(OSError):  # a helper that is gone needs no answers
                    _send(pipe, [[] if j == k else answers for j, answers in enumerate(found)])
    finally:
        for process, pipe in helpers:
            pipe.close()
            process.join(1.0)
            process.kill()


def aside(work: Callable[[], bytes], processes: int) -> Callable[[], bytes]:
    """Have another process do ``work`` meanwhile, where there is more than one; the result is asked for with ().

    What cannot be had from there is done here, when it is asked for. Only for a process of one thread.
    """
    if processes < 2:
        return work
    context = multiprocessing.get_context("fork")
    here, there = context.Pipe(duplex=False)

    def do() -> None:
        here.close()
        with suppress(BaseException):
            there.send_bytes(work())

    process = context.Process(target=do, daemon=True)
    process.start()
    there.close()

    def result() -> bytes:
        try:
            return here.recv_bytes()
        except (EOFError, OSError):
            return work()
        finally:
            here.close()
            process.join(1.0)
            process.kill()

    return result


def _help(q: Engine, k: int, rounds: Sequence[Round], pipe: Connection, ours: list[Connection]) -> None:
    """What the k-th helper does, as long as there is somebody to help. ``ours`` are the ends of pipes that are not its."""
    for end in ours:
        end.close()
    first = os.getppid()
    q.cancelled = lambda: os.getppid() != first
    with suppress(BaseException):  # what stops it, an interrupt say, is told by the first process if at all
        for ask in rounds:
            shares = ask(q)
            _send(pipe, _answers(q, shares[k]))
            for share, answers in zip(shares, _received(pipe)):
                _adopt(q, share, answers)


def _answers(q: Engine, share: Share) -> Answers:
    made = [q.attempt(what, *args) for what, *args in share]
    return [None if isinstance(answer, Unsolved) else (answer,) for answer in made]


def _adopt(q: Engine, share: Share, answers: Answers) -> None:
    """Take answers as known; failures are left to be met by whoever asks."""
    for key, answer in zip(share, answers):
        if answer is not None:
            q.adopt(key, answer[0])


def _send(pipe: Connection, answers: object) -> None:
    pipe.send_bytes(pickle.dumps(answers, protocol=pickle.HIGHEST_PROTOCOL))


def _received(pipe: Connection) -> Any:
    try:
        return pickle.loads(pipe.recv_bytes())
    except (EOFError, OSError):
        return []
