"""The query engine: everything worked out is a pure function of the site and of other such functions.

While a query runs, the engine records what it read: parts of the site and other queries. On a new site it
marks only what may be touched by the parts that changed; a marked result is looked at when it is next asked
for, and is worked out again only if something it read really differs. A result that comes out equal keeps
its old identity, so whatever rests on it stays as it was (early cut-off).

A gate is a query whose result mostly stays as it is, though what it reads changes often (the box of a face, in
whole metres). What rests on a gate is not marked along with it: when such a result is asked for, the gates below it
that may have changed are looked at first, and only where one really differs are its readers marked. So a change of
one lot is not asked of a thousand others. Every result knows which kinds of gate lie below it, as bits.

One thing that fails fails alone: its exception is kept as its result, and those that read it may go on
without it (``attempt``) or fail with it. A ring, a query that at last rests on itself, is refused with the ring
spelled out. However deep queries rest on each other, Python's stack stays short: a dive that gets too deep is
given up, its bottom worked out first, and then it is begun again. What nothing has asked for in a while is dropped.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import count
from typing import Any, Concatenate, Generic, ParamSpec, Protocol, TypeVar, cast

from humble_loop.engine.same import same, sealed

P = ParamSpec("P")
R = TypeVar("R")
R_co = TypeVar("R_co", covariant=True)
Key = tuple[Any, ...]  # (function, *arguments)

_DEEPEST = 40  # queries within one another before a dive is given up and its bottom worked out first
_kinds_of_gate = count()
_SMALL = 4000  # results that are kept without a thought
_OVERDUE = 2  # times as many results as should be kept at which they are dropped whether there is time or not
_STEP = 1000  # results looked at between two steps of tidying
_REMEMBERED = 50  # revisions for which an answer is kept though nobody asks for it again


class Document(Protocol):
    """What queries are about: frozen, with named fields. A change makes another one that shares untouched fields."""

    def fields(self) -> dict[str, Any]:
        """Every field by name. A tuple of things with ``id`` (and perhaps ``owner``) is compared thing by thing."""
        ...


class Unsolved(Exception):
    """A thing that could not be worked out: which thing, why in one sentence, and what would mend it."""

    def __init__(self, thing: str, message: str, remedy: str = "") -> None:
        super().__init__(f"{thing}: {message}")
        self.thing, self.message, self.remedy = thing, message, remedy

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self.args == other.args and self.remedy == other.remedy

    def __hash__(self) -> int:
        return hash(self.args)


class Ring(Unsolved):
    """A level that at last follows from itself; ``ring`` names the queries in order."""

    def __init__(self, keys: tuple[Key, ...]) -> None:
        # Told from a fixed member, so that the same ring reads the same wherever it was entered.
        names = [_name(k) for k in keys]
        first = names.index(min(names))
        self.keys = frozenset(keys)
        self.ring = (*names[first:], *names[:first], names[first])
        super().__init__(
            names[first],
            "it follows at last from itself: " + " → ".join(self.ring),
            "cut one of these ties: move one street's end off the other's centreline",
        )


class Cancelled(Exception):
    """Work that was given up because something newer is wanted."""


class _Deeper(BaseException):
    """A dive that got too deep: ``path`` are the queries waiting for one another, the last not begun."""

    def __init__(self, path: list[_Memo]) -> None:
        super().__init__()
        self.path = path


@dataclass(slots=True, eq=False)
class _Memo:
    """A result. Results know one another directly: to find one by its key takes the key's hash, which is dear."""

    key: Key
    bit: int = 0  # of a gate; 0 for a query or part that is none
    value: Any = None
    failure: Unsolved | None = None
    reads: tuple[_Memo, ...] = ()
    readers: set[_Memo] = field(default_factory=set)
    changed: int = 0  # the revision at which the value last really changed
    checked: int = 0  # the last revision at which it was worked out or found still true
    asked: int = -(10**9)  # the last revision at which somebody outside asked for it
    suspect: bool = False
    begun: bool = False  # whether it is being worked out or looked at, or waits for that
    below: int = 0  # kinds of gate that lie below, as bits; never fewer than there are


@dataclass
class Stats:
    """What the engine did since the statistics were last reset."""

    computed: dict[str, int] = field(default_factory=dict)
    reused: int = 0
    cut_off: int = 0
    seconds: float = 0.0

    @property
    def total(self) -> int:
        """Queries worked out."""
        return sum(self.computed.values())


class Query(Generic[P, R_co]):
    """A function of the engine and plain arguments whose results the engine keeps."""

    def __init__(self, function: Callable[Concatenate[Engine, P], R_co], *, gate: bool = False) -> None:
        self.function = function
        self.bit = 1 << next(_kinds_of_gate) if gate else 0
        self.name = function.__name__.lstrip("_")
        self.__doc__ = function.__doc__
        self.__name__ = function.__name__
        self.__wrapped__ = function

    def __call__(self, q: Engine, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Ask ``q`` for the result."""
        if kwargs:
            raise TypeError("queries take their arguments by position")
        return q.ask(self, args)  # type: ignore[no-any-return]

    def __repr__(self) -> str:
        return f"<query {self.name}>"


class Part(Generic[P, R_co]):
    """A part of the document, read as the leaf of queries: a function of it and plain arguments.

    ``fields`` are the fields of the document that it may read. Of the first of them a part keyed by 'id' reads
    only the thing whose id is its first argument, one keyed by 'owner' only the things that belong to it.
    """

    def __init__(self, function: Callable[..., R_co], fields: tuple[str, ...], keyed: str) -> None:
        self.function, self.fields, self.keyed = function, fields, keyed
        self.bit = 0  # it is no gate
        self.name = function.__name__.lstrip("_")
        self.__doc__ = function.__doc__

    def __call__(self, q: Engine, *args: P.args, **kwargs: P.kwargs) -> R_co:
        """Ask ``q`` for the part."""
        if kwargs:
            raise TypeError("parts take their arguments by position")
        return q.ask(self, args)  # type: ignore[no-any-return]

    def __repr__(self) -> str:
        return f"<part {self.name}>"


def query(function: Callable[Concatenate[Engine, P], R]) -> Query[P, R]:
    """Make ``function(q, ...)`` a query. Its arguments must be hashable; its result must not be changed."""
    return Query(function)


def gate(function: Callable[Concatenate[Engine, P], R]) -> Query[P, R]:
    """Make ``function(q, ...)`` a query that is a gate: what rests on it is left alone unless its result differs."""
    return Query(function, gate=True)


def part(*fields: str, keyed: str = "") -> Callable[[Callable[Concatenate[Any, P], R]], Part[P, R]]:
    """Make ``function(site, ...)``, which reads ``fields`` of the site, a part that queries read as ``function(q, ...)``."""

    def make(function: Callable[Concatenate[Any, P], R]) -> Part[P, R]:
        return Part(function, fields, keyed)

    return make


class Engine:
    """Works queries out on one document after another, and keeps what stays true."""

    # Tests set this, so that a fault of ours is not taken for a thing that cannot be worked out.
    strict = False

    def __init__(self, site: Document, *, stays: bool = False) -> None:
        """Begin with a document. One that ``stays`` on it keeps no account of what rests on what, which takes a tenth of
        the time; should it turn to another after all, it forgets everything.
        """
        self._site, self._stays = site, stays
        self._memos: dict[Key, _Memo] = {}
        # Parts in use, by the field that they read, or by the field and the id or owner of things in it.
        self._parts: dict[tuple[str, ...], set[_Memo]] = {}
        self._revision = 1
        self._active: list[tuple[_Memo, list[_Memo]]] = []
        self._path: list[_Memo] = []  # being worked out or looked at, outermost first
        self._waiting: list[_Memo] = []  # given up for now: they wait for what lies at the bottom of a dive
        self._sweep_above = _SMALL
        self._stored = 0  # results worked out so far
        self._adopted = False  # whether some were worked out elsewhere
        self._gates: dict[int, set[_Memo]] = {}  # gates that may have changed, by their bit; none is empty
        self._waiting_gates = 0  # the bits of these
        self._below_kind: dict[int, int] = {}  # what lies below any gate of a kind
        self.stats = Stats()
        self.cancelled: Callable[[], bool] = lambda: False

    @property
    def site(self) -> Any:
        """The document that answers are about."""
        return self._site

    def __len__(self) -> int:
        """Results kept."""
        return len(self._memos)

    def use(self, site: Document) -> None:
        """Turn to another document; results whose reads are unchanged stay."""
        if site is self._site:
            return
        if self._adopted or self._stays:
            self.forget()
        touched = self._touched(self._site, site)
        self._site = site
        self._revision += 1
        for memo in touched:
            value, failure = self._run_part(memo.key)
            if failure is None and memo.failure is None and same(value, memo.value):
                continue
            if failure is not None and failure == memo.failure:
                continue
            memo.value, memo.failure, memo.changed = value, failure, self._revision
            self._suspect_readers(memo)
        if len(self._memos) > _OVERDUE * self._sweep_above:
            for _ in self.tidy():
                pass

    def _touched(self, old: Document, new: Document) -> list[_Memo]:
        """Parts that may differ: of changed fields, and of changed things where parts are keyed by a thing."""
        found: dict[_Memo, None] = {}
        before, after = old.fields(), new.fields()
        for name in before.keys() | after.keys():
            was, now = before.get(name), after.get(name)
            if was is now:
                continue
            found.update(dict.fromkeys(self._parts.get((name,), ())))
            a, b = _by_id(was), _by_id(now)
            for i in a.keys() | b.keys():
                if a.get(i) is b.get(i):
                    continue
                found.update(dict.fromkeys(self._parts.get((name, "id", i), ())))
                for thing in (a.get(i), b.get(i)):
                    owner = getattr(thing, "owner", None)
                    if owner is not None:
                        found.update(dict.fromkeys(self._parts.get((name, "owner", owner), ())))
        return list(found)

    def tidy(self) -> Iterator[None]:
        """Drop what nothing has asked for in a while, and what only such results read: in steps of a few milliseconds.

        Given up when something is worked out between two steps; whoever has time begins again.
        """
        if len(self._memos) <= self._sweep_above:
            return
        begun = self._stored
        keep: set[_Memo] = set()
        todo: list[_Memo] = []
        for k, memo in enumerate(list(self._memos.values())):
            if memo.asked >= self._revision - _REMEMBERED:
                todo.append(memo)
            if k % _STEP == 0:
                yield
        while todo:
            memo = todo.pop()
            if memo not in keep:
                keep.add(memo)
                todo.extend(memo.reads)
                if len(keep) % _STEP == 0:
                    yield
                    if self._stored != begun:
                        return
        if self._stored != begun:
            return
        self._drop([m for m in self._memos.values() if m not in keep])
        self._sweep_above = max(_SMALL, 2 * len(self._memos))

    def _drop(self, gone: list[_Memo]) -> None:
        """Forget results that nothing kept reads."""
        for memo in gone:
            del self._memos[memo.key]
            for read in memo.reads:
                read.readers.discard(memo)
            if memo.bit:
                self._gates.get(memo.bit, set()).discard(memo)
                self._drop_if_empty(memo.bit)
            if isinstance(memo.key[0], Part):
                for index in _indices(memo.key):
                    held = self._parts.get(index, set())
                    held.discard(memo)
                    if not held:
                        self._parts.pop(index, None)
        _let_go(gone)

    @contextmanager
    def within(self, seconds: float) -> Iterator[None]:
        """Work here for about ``seconds``: a query that would begin later raises Cancelled instead.

        What is worked out by then stays known, so that whoever tries again gets further.
        """
        before, until = self.cancelled, time.perf_counter() + seconds
        self.cancelled = lambda: before() or time.perf_counter() > until
        try:
            yield
        finally:
            self.cancelled = before

    def breathe(self) -> None:
        """Raise Cancelled when the time that is given is over: asked between the pieces of long work."""
        if self.cancelled():
            raise Cancelled

    def forget(self) -> None:
        """Drop every result, so that the next question is solved afresh."""
        _let_go(self._memos.values())
        self._memos.clear()
        self._parts.clear()
        self._gates.clear()
        self._waiting_gates = 0
        self._adopted = False

    def adopt(self, key: Key, value: Any) -> None:
        """Take a result from elsewhere as known. What it read is not: on another site all is begun afresh."""
        if key not in self._memos:
            self._memos[key] = _Memo(key, key[0].bit, sealed(value), changed=self._revision, checked=self._revision)
            self._adopted = True

    def ask(self, what: Query[Any, Any] | Part[Any, Any], args: tuple[Any, ...]) -> Any:
        """The result of a query; raises what it failed with."""
        key: Key = (what, *args)
        memo = self._memos.get(key)
        if memo is None:
            memo = self._memos[key] = _Memo(key, what.bit, suspect=True)
        if self._active:
            # Recorded before it is looked at: what ends in a ring was read as well.
            self._active[-1][1].append(memo)
        if not self._path:
            self._look_at_gates(memo)
        if memo.suspect or self._waiting_gates & memo.below:
            if self._path:
                self._fresh(memo)
            else:
                self._dive(memo)
        else:
            self.stats.reused += 1
        if not self._active:
            memo.asked = self._revision
        if memo.failure is not None:
            raise memo.failure.with_traceback(None)
        return memo.value

    def attempt(self, what: Query[P, R], *args: P.args, **kwargs: P.kwargs) -> R | Unsolved:
        """The result of a query, or the Unsolved that it failed with, so that the rest can go on without it."""
        try:
            return what(self, *args, **kwargs)
        except Ring as ring:
            # Members of a ring all fail, wherever it was entered; only those outside may go on.
            if self._active and self._active[-1][0].key in ring.keys:
                raise
            return ring
        except Unsolved as unsolved:
            return unsolved

    def _dive(self, memo: _Memo) -> None:
        """Work a query out from outside: as deep as needed, in dives that are never deeper than allowed."""
        wanted: list[tuple[_Memo, int]] = [(memo, 0)]
        try:
            while wanted:
                target, waiting = wanted[-1]
                try:
                    self._fresh(target)
                except _Deeper as deeper:
                    wanted.append((deeper.path[-1], len(deeper.path) - 1))
                    self._waiting.extend(deeper.path[:-1])
                    for one in deeper.path[:-1]:
                        one.begun = True
                    continue
                wanted.pop()
                done = len(self._waiting) - waiting
                for one in self._waiting[done:]:
                    one.begun = False
                del self._waiting[done:]
        finally:
            for one in self._waiting:
                one.begun = False
            self._waiting.clear()

    def _look_at_gates(self, memo: _Memo) -> None:
        """Before a question from outside: find out which gates below it really differ, the lowest first."""
        while wanted := self._waiting_gates & memo.below:
            kinds = [bit for bit in self._gates if bit & wanted]
            bit = next((k for k in kinds if not self._below_kind.get(k, 0) & wanted & ~k), kinds[0])
            one = next(iter(self._gates[bit]))
            if one.suspect:
                self._dive(one)
            self._gates.get(bit, set()).discard(one)
            self._drop_if_empty(bit)

    def _open_gates(self, below: int) -> None:
        """In the middle of working something out: mark all that rests on gates of the kinds ``below`` that wait."""
        while wanted := self._waiting_gates & below:
            bit = next(bit for bit in self._gates if bit & wanted)
            one = self._gates[bit].pop()
            if one.suspect:
                self._suspect_readers(one)
            self._drop_if_empty(bit)

    def _drop_if_empty(self, bit: int) -> None:
        if not self._gates.get(bit):
            self._gates.pop(bit, None)
            self._waiting_gates &= ~bit

    def _fresh(self, memo: _Memo) -> _Memo:
        """Bring a result up to date; returns it."""
        if self._waiting_gates & memo.below:
            self._open_gates(memo.below)
        if not memo.suspect:
            self.stats.reused += 1
            return memo
        if isinstance(memo.key[0], Part):
            self._read_part(memo)
            return memo
        if memo.begun:
            path = [*self._waiting, *self._path]
            raise Ring(tuple(m.key for m in path[path.index(memo) :]))
        if len(self._path) >= _DEEPEST:
            raise _Deeper([*self._path, memo])
        self._path.append(memo)
        memo.begun = True
        try:
            if self._still_true(memo):
                memo.suspect, memo.checked = False, self._revision
                self.stats.reused += 1
            else:
                self._compute(memo)
            return memo
        finally:
            self._path.pop().begun = False

    def _still_true(self, memo: _Memo) -> bool:
        """Whether all that was read is as it was; looked at in order, since an early change may spare later reads."""
        if memo.checked == 0 or isinstance(memo.failure, Ring):
            return False
        try:
            return all(self._fresh(read).changed <= memo.checked for read in memo.reads)
        except Ring:
            return False  # working it out again meets the ring in the open, and keeps it as the result

    def _read_part(self, memo: _Memo) -> None:
        memo.value, memo.failure = self._run_part(memo.key)
        memo.changed, memo.checked, memo.suspect = self._revision, self._revision, False
        self._stored += 1
        for index in _indices(memo.key):
            self._parts.setdefault(index, set()).add(memo)

    def _run_part(self, key: Key) -> tuple[Any, Unsolved | None]:
        try:
            return key[0].function(self._site, *key[1:]), None
        except Unsolved as unsolved:
            return None, unsolved

    def _compute(self, memo: _Memo) -> None:
        self.breathe()
        key, reads = memo.key, list[_Memo]()
        self._active.append((memo, reads))
        started = time.perf_counter()
        value, failure = None, None
        try:
            value = sealed(key[0].function(self, *key[1:]))
        except Unsolved as unsolved:
            failure = unsolved
        except Cancelled:
            raise
        except Exception as error:
            if self.strict and not isinstance(error, (ArithmeticError, ValueError)):
                raise
            failure = Unsolved(_name(key), f"could not be worked out ({error})", "undo the last change to it")
            failure.__cause__ = error
        finally:
            self._active.pop()
            if not self._active:
                self.stats.seconds += time.perf_counter() - started
        self.stats.computed[key[0].name] = self.stats.computed.get(key[0].name, 0) + 1
        self._store(memo, value, failure, tuple(dict.fromkeys(reads)))

    def _store(self, memo: _Memo, value: Any, failure: Unsolved | None, reads: tuple[_Memo, ...]) -> None:
        self._stored += 1
        if self._stays:
            memo.value, memo.failure, memo.suspect = value, failure, False
            memo.changed = memo.checked = self._revision
            return
        before = memo.changed
        if memo.checked == 0:
            memo.value, memo.failure, memo.changed = value, failure, self._revision
        elif (failure is not None and failure == memo.failure) or (
            failure is None and memo.failure is None and same(value, memo.value)
        ):
            self.stats.cut_off += 1
        else:
            memo.value, memo.failure, memo.changed = value, failure, self._revision
        if reads != memo.reads:
            for old in memo.reads:
                old.readers.discard(memo)
            for read in reads:
                read.readers.add(memo)
        below = 0
        for read in reads:
            below |= read.below | read.bit
            if read.suspect:
                self._let_wait(read)  # it was met in a ring, and is not known yet
        memo.reads, memo.suspect, memo.checked = reads, False, self._revision
        if below & ~memo.below:
            self._add_below(memo, below)
        if memo.changed != before and before and memo.bit:
            self._suspect_readers(memo)

    def _add_below(self, memo: _Memo, below: int) -> None:
        """Note which kinds of gate lie below a result, and so below all that rests on it."""
        stack = [(memo, below)]
        while stack:
            memo, below = stack.pop()
            if not below & ~memo.below:
                continue
            memo.below |= below
            if bit := memo.bit:
                self._below_kind[bit] = self._below_kind.get(bit, 0) | memo.below
            stack.extend((reader, memo.below | bit) for reader in memo.readers)

    def _suspect_readers(self, memo: _Memo) -> None:
        stack = list(memo.readers)
        while stack:
            reader = stack.pop()
            if reader.suspect:
                continue
            reader.suspect = True
            if not self._let_wait(reader):
                stack.extend(reader.readers)

    def _let_wait(self, memo: _Memo) -> bool:
        """Note a gate that may have changed; whether it is a gate at all."""
        bit = memo.bit
        if bit:
            self._gates.setdefault(bit, set()).add(memo)
            self._waiting_gates |= bit
        return bool(bit)


def _let_go(memos: Iterable[_Memo]) -> None:
    """Let results that are dropped form no circles: they are freed at once, and need not be searched for."""
    for memo in memos:
        memo.reads = ()


def _indices(key: Key) -> Iterator[tuple[str, ...]]:
    """Under what a part is found when a document changes."""
    what: Part[Any, Any] = key[0]
    for k, name in enumerate(what.fields):
        yield (name, what.keyed, key[1]) if what.keyed and k == 0 else (name,)


def _by_id(things: Any) -> dict[str, Any]:
    if isinstance(things, tuple) and things and hasattr(things[0], "id"):
        return {cast(str, t.id): t for t in things}
    return {}


def _name(key: Key) -> str:
    return str(key[0].name.replace("_", " ")) + "".join(f" {a}" for a in key[1:])
