"""Which revision is next to undo or to redo."""

from __future__ import annotations

from collections.abc import Iterable


class UndoOrder:
    """Which revision an undo or a redo would touch, kept up as revisions are made.

    What follows from an edit by itself is a revision of its own: it is taken back before that edit, and made again
    after it.
    """

    def __init__(self, steps: Iterable[tuple[int, str, int | None]] = ()) -> None:
        self._done: list[int] = []
        self._undone: list[int] = []
        self._follows: set[int] = set()
        for number, sort, target in steps:
            self.note(number, sort, target)

    def note(self, number: int, sort: str, target: int | None) -> None:
        """A revision was made: an edit, what follows from the edit `target`, or the undo or redo of `target`."""
        if sort == "undo":
            self._done.remove(self._known(target, self._done))
            self._undone.append(self._known(target, None))
        elif sort == "redo":
            self._undone.remove(self._known(target, self._undone))
            self._done.append(self._known(target, None))
        else:
            self._done.append(number)
            self._undone.clear()
            if sort == "follow":
                self._follows.add(number)

    @staticmethod
    def _known(target: int | None, among: list[int] | None) -> int:
        if target is None or (among is not None and target not in among):
            raise ValueError(f"the logbook names a revision {target} that cannot be taken back or made again")
        return target

    @property
    def half_way(self) -> bool:
        """Whether an edit and what follows from it were taken back, or made again, only in part."""
        return bool(self._undone) and self._undone[-1] in self._follows

    @property
    def next_undo(self) -> int | None:
        return self._done[-1] if self._done else None

    @property
    def next_redo(self) -> int | None:
        return self._undone[-1] if self._undone else None
