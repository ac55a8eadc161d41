"""Several processes work one site out together. Each case runs in a process of its own, as the command line does."""

import os
import signal
import subprocess
import sys
import textwrap
import time

import pytest

BEGINNING = """
import os, sys, time
from dataclasses import dataclass
from humble_loop.engine.query import Engine, Unsolved, part, query
from humble_loop.engine.together import ask_together

@dataclass(frozen=True)
class Site:
    number: int
    def fields(self):
        return {"number": self.number}

@part("number")
def number(site):
    return site.number

first = os.getpid()
worked_out = []

@query
def square(q, k):
    worked_out.append(k)
    if k == 13:
        raise Unsolved("thirteen", "it is unlucky")
    return (number(q) * k * k, os.getpid())

@query
def neighbours(q, k):
    worked_out.append(k)
    return square(q, k - 1)[0] + square(q, k + 1)[0]

def squares(q):
    return [[(square, k) for k in range(20)], [(square, k) for k in range(20, 40)]]

def sums(q):
    return [[(neighbours, k) for k in range(1, 11)], [(neighbours, k) for k in range(20, 30)]]

q = Engine(Site(3))
"""


def said(script, **how):
    done = subprocess.run(
        [sys.executable, "-c", BEGINNING + textwrap.dedent(script)], capture_output=True, text=True, timeout=60, **how
    )
    assert done.returncode == 0, done.stderr
    assert done.stderr == ""
    return done.stdout.split("\n")[:-1]


def test_each_process_works_its_share_out_and_knows_what_the_others_found():
    out = said("""
        ask_together(q, 2, [squares, sums])
        print(sorted(worked_out) == sorted([*range(20), *range(1, 11)]))
        del worked_out[:]
        print([square(q, k)[0] for k in (5, 25)], len({square(q, k)[1] for k in (5, 25)}), neighbours(q, 20), worked_out)
    """)
    assert out == ["True", "[75, 1875] 2 2406 []"]  # 3 × 25, 3 × 625; 3 × (19² + 21²)


def test_who_is_done_takes_shares_that_others_have_not_begun():
    """Also those of one that has died: only what it had begun is left."""
    assert said("""
        @query
        def slow(q, k):
            if os.getpid() != first:
                time.sleep(0.2)
                if k == 9:
                    os._exit(1)
            return (k, os.getpid())
        ask_together(q, 2, [lambda q: [[(slow, k)] for k in range(16)]])
        print([slow(q, k)[0] for k in range(16)] == list(range(16)))
        ours = [k for k in range(16) if slow(q, k)[1] == first]
        print(ours[:8] == list(range(8)), len(ours) >= 14)
    """) == ["True", "True True"]


def test_what_fails_fails_for_whoever_asks():
    assert said("""
        ask_together(q, 2, [lambda q: [[(square, 1)], [(square, 13), (square, 2)]]])
        print(str(q.attempt(square, 13)), square(q, 2)[0], worked_out)
    """) == ["thirteen: it is unlucky 12 [1, 13]"]


def test_on_another_site_all_is_begun_afresh():
    assert said("""
        ask_together(q, 2, [squares])
        q.use(Site(5))
        print(square(q, 25)[0])
    """) == ["3125"]


@pytest.mark.parametrize("how", ["os.kill(os.getpid(), 9)", "raise KeyboardInterrupt"])
def test_where_a_helper_dies_its_share_is_left_to_whoever_asks(how):
    assert said(
        """
        @query
        def deadly(q, k):
            if os.getpid() != first:
                HOW
            return k
        ask_together(q, 3, [lambda q: [[(square, 1)], [(deadly, 2)], [(square, 3)]], lambda q: [[], [(square, 4)], []]])
        print(deadly(q, 2), square(q, 3)[0], square(q, 4)[0])
    """.replace("HOW", how)
    ) == ["2 27 48"]


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no copies of processes here")
def test_helpers_end_when_there_is_nobody_to_help():
    script = BEGINNING + textwrap.dedent("""
        @query
        def slow(q, k):
            time.sleep(0.01)
            return k
        print(os.getpid(), flush=True)
        ask_together(q, 2, [lambda q: [[(slow, -k) for k in range(3000)], [(slow, k) for k in range(3000)]]])
    """)
    with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        process.stdout.readline()
        until = time.monotonic() + 10
        while not (helpers := children(process.pid)) and time.monotonic() < until:
            time.sleep(0.02)
        assert helpers
        process.send_signal(signal.SIGKILL)
        process.wait()
    until = time.monotonic() + 10
    while any(alive(pid) for pid in helpers) and time.monotonic() < until:
        time.sleep(0.02)
    assert not any(alive(pid) for pid in helpers)


def children(pid):
    with open(f"/proc/{pid}/task/{pid}/children", encoding="ascii") as file:
        return [int(v) for v in file.read().split()]


def alive(pid):
    try:
        with open(f"/proc/{pid}/stat", encoding="ascii") as file:
            return file.read().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_work_done_aside_is_done_by_another_process_and_here_where_that_one_dies():
    """Where there is one process only, it is done here as well."""
    assert said("""
        from humble_loop.engine.together import aside
        def dies():
            if os.getpid() != first:
                os._exit(9)
            return b"done here"
        for work, processes in ((lambda: str(os.getpid() == first).encode(), 2), (lambda: b"alone", 1), (dies, 2)):
            print(aside(work, processes)().decode())
    """) == ["False", "alone", "done here"]
