"""Report the progress of long work to a callback, or as a line in a notebook."""

import sys
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from importlib import import_module
from time import monotonic
from typing import Any, TypeVar

T = TypeVar("T")
#: Called with the share of the work that is done, 0..1.
Progress = Callable[[float], None]


#: Work that takes longer than this, in seconds, shows its progress.
PATIENCE = 2.0


def seen_by(progress: Progress | None, what: str) -> Progress | None:
    """Return ``progress``. Without one, in a notebook, return a callback that prints a line once
    the work takes long, and removes it at the end.
    """
    if progress is not None or not _in_notebook():
        return progress
    begun, shown = monotonic(), list[Any]()

    def tell(share: float) -> None:
        # IPython is installed, since this is a notebook
        display: Any = import_module("IPython.display").display

        content = {"text/plain": "" if share >= 1 else f"{what}: {100 * share:.0f} %"}
        if shown:
            shown[0].update(content, raw=True)
        elif share < 1 and monotonic() - begun > PATIENCE:
            shown.append(display(content, raw=True, display_id=True))

    return tell


def _in_notebook() -> bool:
    loaded = sys.modules.get("IPython")
    shell = loaded.get_ipython() if loaded is not None else None
    return hasattr(shell, "kernel")


@dataclass
class Steps:
    """Progress of work in ``whole`` steps that take about equally long."""

    progress: Progress | None
    whole: int
    done: int = 0

    def finished(self) -> None:
        """Report that all work is done."""
        if self.progress is not None and self.done < self.whole:
            self.progress(1.0)

    def over(self, items: Iterable[T]) -> Iterator[T]:
        """Iterate over the items; each counts as a step, completed when the next is requested."""
        for item in items:
            yield item
            self.done += 1
            if self.progress is not None:
                self.progress(min(self.done / self.whole, 1.0))
