"""How far long work is, told to whoever asked to hear of it."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import TypeVar

T = TypeVar("T")
#: Takes the share of the work that is done, 0..1.
Progress = Callable[[float], None]


@dataclass
class Steps:
    """Work of ``whole`` steps that take about equally long."""

    progress: Progress | None
    whole: int
    done: int = 0

    def over(self, items: Iterable[T]) -> Iterator[T]:
        """The items; each is a step, which is over when the next is asked for."""
        for item in items:
            yield item
            self.done += 1
            if self.progress is not None:
                self.progress(min(self.done / self.whole, 1.0))
