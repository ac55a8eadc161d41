"""Several processes working one site out together, where all of it is wanted at once and nothing will change.

Python works in one thread at a time, so the work is shared by processes. Each begins as a copy of the first one and in
every round works out shares of the questions: those of its own stretch, since neighbours rest on much the same, and when
these are done what others have not begun, since one may be slower. Then it is told what the others found: it rests on
that in the next round. What all of them need is worked out by each. Where a helper fails in a share, that is left to
whoever asks later.
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
SLICES = 8  # shares for each process in a round: many enough to even out who is slower, few enough to keep neighbours
Share = list[Key]  # questions, each a query and its arguments
Answers = list[tuple[Any] | None]  # one for each question; None for one that cannot be answered
Round = Callable[[Engine], list[Share]]  # the same in all processes; at most ``SLICES`` shares for each of them
Found = dict[int, Answers]  # by the share's place in its round


def processes_at_hand() -> int:
    """How many processes this one may keep busy: as many as there are cores, of which more than a few gain little."""
    return min(_MOST, len(os.sched_getaffinity(0)))


def ask_together(
    q: Engine, processes: int, rounds: Sequence[Round], meanwhile: Callable[[], object] = lambda: None
) -> None:
    """Have ``processes`` processes work out rounds of questions, so that ``q`` knows the answers.

    ``meanwhile`` is something else for this one to do: the others have begun, and take what it does not come to. Only
    for a process of one thread, as the command line is, and for an engine that stays on its site.
    """
    context = multiprocessing.get_context("fork")
    queues = [_Queue() for _ in range(processes)]
    for queue in queues:
        queue.fill()
    helpers: list[tuple[ForkProcess, Connection]] = []
    for k in range(1, processes):
        here, there = context.Pipe()
        ours = [here, *(pipe for _, pipe in helpers)]
        process = context.Process(target=_help, args=(q, k, rounds, queues, there, ours, os.getpid()), daemon=True)
        process.start()
        there.close()
        helpers.append((process, here))
    try:
        meanwhile()
        for ask in rounds:
            shares = ask(q)
            told = [_told(_work(q, shares, 0, queues)), *(_received(pipe) for _, pipe in helpers)]
            for queue in queues:
                queue.fill()  # before anybody begins the next round
            for k, (_, pipe) in enumerate(helpers, 1):
                with suppress(OSError):  # a helper that is gone needs no answers
                    for answers in (*told[:k], *told[k + 1 :]):
                        pipe.send_bytes(answers)
            _adopt(q, shares, told[1:])
    finally:
        for process, pipe in helpers:
            pipe.close()
            process.join(1.0)
            process.kill()
        for queue in queues:
            queue.close()


class _Queue:
    """The numbers of the shares of one process's stretch that nobody has begun; the first is always its own.

    A pipe that all processes read from: a number is got by one of them only, also where another has died.
    """

    def __init__(self) -> None:
        self._out, self._in = os.pipe()
        os.set_blocking(self._out, False)

    def fill(self) -> None:
        """Put the numbers of a round in. The round before has ended: nobody takes any."""
        while self.take() is not None:
            pass
        os.write(self._in, bytes(range(1, SLICES)))

    def take(self) -> int | None:
        """One of the numbers; None when there are none left."""
        try:
            return os.read(self._out, 1)[0]
        except BlockingIOError:
            return None

    def close(self) -> None:
        """Be done with it."""
        os.close(self._out)
        os.close(self._in)


def _work(q: Engine, shares: Sequence[Share], k: int, queues: Sequence[_Queue]) -> Found:
    """Work out shares as the k-th process: those of its own stretch, then those of others."""
    each = -(-len(shares) // len(queues))
    assert each <= SLICES
    found: Found = {}

    def answer(stretch: int, number: int | None) -> None:
        place = stretch * each + (number or 0)
        if number is not None and number < each and place < len(shares):
            made = [q.attempt(what, *args) for what, *args in shares[place]]
            found[place] = [None if isinstance(answer, Unsolved) else (answer,) for answer in made]

    answer(k, 0)
    for stretch in [*range(k, len(queues)), *range(k)]:
        while (number := queues[stretch].take()) is not None:
            answer(stretch, number)
    return found


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


def _help(
    q: Engine,
    k: int,
    rounds: Sequence[Round],
    queues: Sequence[_Queue],
    pipe: Connection,
    ours: list[Connection],
    first: int,
) -> None:
    """What the k-th helper does, as long as there is somebody to help: the process ``first``, which may be gone by now.

    ``ours`` are the ends of pipes that are not its.
    """
    for end in ours:
        end.close()
    q.cancelled = lambda: os.getppid() != first
    with suppress(BaseException):  # what stops it, an interrupt say, is told by the first process if at all
        for ask in rounds:
            shares = ask(q)
            pipe.send_bytes(_told(_work(q, shares, k, queues)))
            _adopt(q, shares, [_received(pipe) for _ in queues[1:]])


def _adopt(q: Engine, shares: Sequence[Share], told: Sequence[bytes]) -> None:
    """Take answers of others as known; failures are left to be met by whoever asks."""
    for one in told:
        found: Found = pickle.loads(one) if one else {}
        for place, answers in found.items():
            for key, answer in zip(shares[place], answers):
                if answer is not None:
                    q.adopt(key, answer[0])


def _told(found: Found) -> bytes:
    return pickle.dumps(found, protocol=pickle.HIGHEST_PROTOCOL)


def _received(pipe: Connection) -> bytes:
    """What somebody found, as it was told; nothing where he is gone."""
    try:
        return pipe.recv_bytes()
    except (EOFError, OSError):
        return b""
