"""Which revision is next to undo or to redo."""

from __future__ import annotations

from collections.abc import Iterable


class UndoOrder:
    """Which revision an undo or a redo would touch, kept up as revisions are made."""

    def __init__(self, steps: Iterable[tuple[int, str, int | None]] = ()) -> None:
        self._done: list[int] = []
        self._undone: list[int] = []
        for number, sort, target in steps:
            self.note(number, sort, target)

    def note(self, number: int, sort: str, target: int | None) -> None:
        """A revision was made: an edit, or the undo or redo of the edit `target`."""
        if sort == "undo":
            self._done.remove(self._known(target, self._done))
            self._undone.append(self._known(target, None))
        elif sort == "redo":
            self._undone.remove(self._known(target, self._undone))
            self._done.append(self._known(target, None))
        else:
            self._done.append(number)
            self._undone.clear()

    @staticmethod
    def _known(target: int | None, among: list[int] | None) -> int:
        if target is None or (among is not None and target not in among):
            raise ValueError(f"the logbook names a revision {target} that cannot be taken back or made again")
        return target

    @property
    def next_undo(self) -> int | None:
        return self._done[-1] if self._done else None

    @property
    def next_redo(self) -> int | None:
        return self._undone[-1] if self._undone else None
