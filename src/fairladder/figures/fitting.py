"""Make texts fit: shrink those that would leave the page or overlap, and shorten names."""

from collections.abc import Iterable, Iterator
from itertools import pairwise
from typing import Any

from matplotlib.axes import Axes
from matplotlib.axis import Axis
from matplotlib.figure import Figure
from matplotlib.text import Text

#: Maximum length of names of segments, groups and the like.
LONGEST_NAME = 26
#: Minimum size of texts, in points.
_LEAST = 6.5
_SHRINK = 0.94


def short(name: object, most: int = LONGEST_NAME) -> str:
    """Shorten a name in its middle, since similar names often differ at their ends."""
    text, end = str(name), most // 3
    return (
        text if len(text) <= most else f"{text[: most - 1 - end].rstrip()}…{text[-end:].lstrip()}"
    )


def shortened(names: Iterable[object], most: int = LONGEST_NAME) -> list[str]:
    """Shorten names as far as different ones stay different."""
    texts = list(map(str, names))
    made = [short(text, most) for text in texts]
    clash = {m for m in made if len({t for t, k in zip(texts, made, strict=True) if k == m}) > 1}
    if not clash:
        return made
    longer = shortened((t for t, m in zip(texts, made, strict=True) if m in clash), most + 4)
    rest = iter(longer)
    return [next(rest) if m in clash else m for m in made]


def fit_texts(figure: Figure, renderer: Any) -> None:
    """Shrink texts until none extends beyond the figure, and none in one row of an axes overlaps
    another.
    """
    figure.canvas.draw_idle()
    for axes in figure.axes:
        _part(list(axes.texts), renderer)
        _part(list(_ticks(axes.xaxis, axes.get_xlim())), renderer)
    width = figure.bbox.width
    for text in _all(figure):
        box = text.get_window_extent(renderer)
        room = box.width + min(box.x0, 0) + min(width - box.x1, 0)
        if box.width > 0 and room < box.width - 1:
            _scale([text], _SHRINK * room / box.width)


def _part(texts: list[Text], renderer: Any) -> None:
    """Scale texts of one size so that neighbours in a row do not overlap."""
    for size in {t.get_fontsize() for t in texts}:
        same_size = [
            t
            for t in texts
            if t.get_fontsize() == size and t.get_text().strip() and t.get_rotation() == 0
        ]
        boxes = sorted(
            ((t.get_window_extent(renderer)) for t in same_size), key=lambda b: (round(b.y0), b.x0)
        )
        scale = min(
            (_scale_of(a, b) for a, b in pairwise(boxes) if round(a.y0) == round(b.y0)), default=1.0
        )
        if scale < 1:
            _scale(same_size, scale)


def _scale_of(left: Any, right: Any) -> float:
    """Return the factor by which two boxes in a row must shrink about their centres."""
    between = (right.x0 + right.x1 - left.x0 - left.x1) / 2
    needed = (left.width + right.width) / 2
    return 1.0 if needed <= between or between <= 0 else float(_SHRINK * between / needed)


def _scale(texts: Iterable[Text], by: float) -> None:
    for text in texts:
        text.set_fontsize(max(float(text.get_fontsize()) * by, _LEAST))


def _all(figure: Figure) -> Iterator[Text]:
    """Yield every visible text, including tick labels within their axis."""
    yield from figure.texts
    for axes in figure.axes:
        yield from axes.texts
        yield from (axes.title, axes._left_title, axes._right_title)  # type: ignore[attr-defined]
        yield from _ticks(axes.xaxis, axes.get_xlim())
        yield from _ticks(axes.yaxis, axes.get_ylim())


def _ticks(axis: Axis, ends: tuple[float, float]) -> Iterator[Text]:
    low, high = sorted(ends)
    for tick in axis.get_major_ticks():
        if low <= tick.get_loc() <= high:
            yield tick.label1


def many(axes: Axes, rows: int, usual: int) -> None:
    """Grow the page of an axes with more rows than usual, so that each has enough space."""
    figure = axes.get_figure(root=True)
    if rows <= usual or figure is None:
        return
    width, height = figure.get_size_inches()
    more = height * (rows / usual - 1) * 0.7
    place = axes.get_position()
    figure.set_size_inches(width, height + more)
    grown = height + more
    for text in figure.texts:
        x, y = text.get_position()
        text.set_position((x, 1 - (1 - y) * height / grown if y > 0.5 else y * height / grown))
    low = place.y0 * height / grown
    top = 1 - (1 - place.y1) * height / grown
    axes.set_position((place.x0, low, place.width, top - low))
