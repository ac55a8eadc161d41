"""What a glance does not need after a change: worked out piece by piece, when there is time."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QObject, Signal

from humble_loop.desk.idle import IdleWork, Steps
from humble_loop.desk.session import Session
from humble_loop.engine.query import Stats, Unsolved
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.standing import kinds
from humble_loop.whole.findings import findings, thing_findings
from humble_loop.whole.places import face_tree
from humble_loop.whole.things import all_things, faces_of, progress_of


class CatchingUp(QObject):
    """Works out the finished surface, then findings, then tidies up; begins anew at every change."""

    surface_known = Signal()
    findings_known = Signal(object)
    findings_shown = Signal()
    done = Signal()

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._work = IdleWork(self, lambda seconds: session.engine.within(seconds))
        session.changed.connect(self.begin)

    @property
    def busy(self) -> bool:
        """Whether something waits to be worked out."""
        return self._work.busy

    def stop(self) -> None:
        """Forget what was left to do."""
        self._work.stop()

    def begin(self) -> None:
        """Begin anew, when nothing is dragged any more: what was begun before is about another site."""
        if self._session.dragging:
            self._work.stop()
            return
        self._session.engine.stats = Stats()
        self._work.begin([self._steps])

    def _steps(self) -> Steps:
        q = self._session.engine
        yield partial(all_things, q)
        for thing in all_things(q):
            yield partial(q.attempt, faces_of, thing)
            made = q.attempt(faces_of, thing)
            for id in () if isinstance(made, Unsolved) else made:
                yield partial(q.attempt, finished_mesh, id)
        yield partial(face_tree, q)
        self.surface_known.emit()
        for thing in all_things(q):
            yield partial(q.attempt, thing_findings, thing)
        yield partial(findings, q)
        self.findings_known.emit(findings(q))
        for kind in kinds():
            yield partial(q.attempt, progress_of, kind.key)
        self.findings_shown.emit()
        yield None
        yield from q.tidy()
        self.done.emit()
