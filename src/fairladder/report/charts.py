"""Charts as positioned shapes, which the page writes as SVG; colours and fonts come from the style
sheet.
"""

import unicodedata
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from math import ceil, floor, log10

from fairladder.label_spacing import spread

#: Widths of the two layouts of each chart, in pixels.
WIDE, NARROW = 760, 340
#: Width of a chart next to the actions, in pixels.
HALF = 560
#: Approximate width of a character, in pixels, in texts of normal and small size.
_SIGN, _SMALL_SIGN = 7.4, 6.6
_ROW, _GAP = 22, 10


@dataclass(frozen=True)
class Shape:
    """A rectangle, line, circle or path with its attributes and tooltip."""

    tag: str
    attributes: tuple[tuple[str, object], ...]
    tip: str = ""


@dataclass(frozen=True)
class Label:
    """A text at a position; ``css`` sets its size and colour, ``anchor`` its alignment."""

    x: float
    y: float
    text: str
    css: str = ""
    anchor: str = "start"


@dataclass(frozen=True)
class Chart:
    """One layout of a chart."""

    width: int
    height: int
    shapes: tuple[Shape, ...]
    labels: tuple[Label, ...]


@dataclass(frozen=True)
class Figure:
    """A chart in both layouts, its finding and description in words, and its numbers as a table."""

    name: str
    finding: str
    shows: str
    layouts: tuple[Chart, Chart]
    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    legend: tuple[tuple[str, str], ...] = ()
    """Class and label of each colour with a meaning."""


@dataclass(frozen=True)
class Bar:
    """A bar from ``start`` to ``start`` + ``value`` with its text; ``ends`` are those of a range
    around it.
    """

    value: float
    text: str
    css: str
    tip: str = ""
    start: float = 0.0
    ends: tuple[float, float] | None = None


@dataclass(frozen=True)
class BarRow:
    """A label, the small text below it, and its bars."""

    label: str
    bars: tuple[Bar, ...]
    below: str = ""
    below_css: str = "faint"


@dataclass(frozen=True)
class Series:
    """Values along the axis with their class; ``marks`` are the spans (first, last place) drawn as
    flat.
    """

    name: str
    css: str
    values: tuple[float, ...]
    marks: tuple[tuple[int, int], ...] = field(default=())


def shape(tag: str, tip: str = "", **attributes: object) -> Shape:
    """Make a shape; ``css`` is its class, and underscores in names become hyphens. Numbers get one
    decimal.
    """
    named = (
        (n.replace("_", "-") if n != "css" else "class", _short(v)) for n, v in attributes.items()
    )
    return Shape(tag, tuple(named), tip)


def _short(value: object) -> object:
    return f"{value:.1f}".removesuffix(".0") if isinstance(value, float) else value


def both(draw: Callable[[int], Chart], wide: int = WIDE) -> tuple[Chart, Chart]:
    """Return a chart in both layouts."""
    return draw(wide), draw(NARROW)


def bars(rows: Sequence[BarRow], width: int) -> Chart:
    """Draw rows of bars on a common scale from zero; in narrow layouts labels are above their
    bars.
    """
    longest = max((max(wide(r.label), wide(r.below, _SMALL_SIGN)) for r in rows), default=0.0)
    above = width <= NARROW or longest + 14 > width * 0.38
    left = 0.0 if above else longest + 14
    texts = max((wide(b.text, _SMALL_SIGN) for r in rows for b in r.bars), default=0.0) + 12
    low = min(
        0.0, *(min(b.start, b.start + b.value, *(b.ends or ())) for r in rows for b in r.bars)
    )
    high = max(
        0.0, *(max(b.start, b.start + b.value, *(b.ends or ())) for r in rows for b in r.bars)
    )
    room = max(width - left - texts, width * 0.25)
    scale = room / ((high - low) or 1.0)
    zero = left - low * scale
    shapes, labels, y = list[Shape](), list[Label](), 4.0
    for row in rows:
        top = y + (_ROW if above else 0)
        thick = _ROW - 4 if len(row.bars) == 1 else 14
        room_below = len(row.bars) * (thick + 3)
        indent = wide(row.below, _SMALL_SIGN) + 14 if row.below else 0.0
        name = fitted(row.label, width - indent - 6) if above else row.label
        labels.append(
            Label(6 if above else left - 10, y + 15, name, "", "start" if above else "end")
        )
        if row.below:
            place = (width, y + 15, "end") if above else (left - 10, y + 31, "end")
            labels.append(Label(place[0], place[1], row.below, f"small {row.below_css}", place[2]))
        for i, bar in enumerate(row.bars):
            at = top + i * (thick + 3)
            first, last = sorted((zero + bar.start * scale, zero + (bar.start + bar.value) * scale))
            shapes.append(
                shape(
                    "rect",
                    bar.tip,
                    x=first,
                    y=at,
                    width=max(last - first, 1.0),
                    height=float(thick),
                    css=bar.css,
                )
            )
            end = last
            if bar.ends is not None:
                a, b = (zero + e * scale for e in bar.ends)
                middle, end = at + thick / 2, max(last, b)
                whisker = f"M{a:.1f} {middle - 5:.1f}v10M{a:.1f} {middle:.1f}H{b:.1f}M{b:.1f} {middle - 5:.1f}v10"
                shapes.append(shape("path", css="whisker", d=whisker))
            labels.append(
                Label(end + 7, at + thick / 2 + 4, bar.text, "small" if i == 0 else "small faint")
            )
        y = max(top + room_below, y + (_ROW if above else (34 if row.below else 0))) + _GAP
    shapes.append(shape("path", css="axis", d=f"M{zero:.1f} 0V{y:.0f}"))
    return Chart(width, ceil(y) + 2, tuple(shapes), tuple(labels))


def columns(
    places: Sequence[str],
    series: Sequence[Series],
    width: int,
    written: Callable[[float], str],
    *,
    unsure: int = 0,
) -> Chart:
    """Draw stacked columns of ``series`` (negative ones below the axis), the last ``unsure`` of
    them incomplete.
    """
    height, left, bottom = (300 if width >= WIDE else 240), 58.0, 26.0
    ups = [sum(max(s.values[i], 0.0) for s in series) for i in range(len(places))]
    downs = [sum(min(s.values[i], 0.0) for s in series) for i in range(len(places))]
    ticks, low = nice(0.0, max([0.0, *ups]), 4), min([0.0, *downs])
    if -low > 0.4 * (ticks[1] - ticks[0]):
        ticks = nice(low, ticks[-1], 4)
    lowest = min(low, ticks[0])  # a value slightly below zero needs no tick of its own
    span = ticks[-1] - lowest

    def y_of(value: float) -> float:
        return 8 + (height - bottom - 8) * (1 - (value - lowest) / span)

    step = (width - left - 4) / max(len(places), 1)
    thick = max(step * 0.74, 1.0)
    shapes, labels = _frame(ticks, y_of, left, width, written)
    for i, place in enumerate(places):
        up = down = 0.0
        for one in series:
            value = one.values[i]
            if not value:
                continue
            start = up if value > 0 else down
            top, low = sorted((y_of(start), y_of(start + value)))
            css = one.css + (" unsure" if i >= len(places) - unsure else "")
            tip = f"{place}: {one.name} {written(value)}"
            x, high = left + i * step + (step - thick) / 2, max(low - top, 0.5)
            shapes.append(shape("rect", tip, x=x, y=top, width=thick, height=high, css=css))
            up, down = (up + value, down) if value > 0 else (up, down + value)
    labels += _along(places, left + step / 2, step, height - 8, width)
    return Chart(width, height, tuple(shapes), tuple(labels))


def lines(
    places: Sequence[str], series: Sequence[Series], width: int, written: Callable[[float], str]
) -> Chart:
    """Draw lines over the places, each with its name at its end, with spans without growth drawn
    thick.
    """
    height, left, bottom = (300 if width >= WIDE else 250), 58.0, 26.0
    right = max((wide(s.name, _SMALL_SIGN) for s in series), default=0.0) + 12
    right = min(right, width * 0.3)
    ticks = nice(0.0, max((max(s.values) for s in series), default=1.0), 4)
    span = (ticks[-1] - ticks[0]) or 1.0
    step = (width - left - right) / max(len(places) - 1, 1)

    def y_of(value: float) -> float:
        return 8 + (height - bottom - 8) * (1 - (value - ticks[0]) / span)

    shapes, labels = _frame(ticks, y_of, left, width - right, written)
    ends = spread([y_of(s.values[-1]) for s in series], 14, 10, height - bottom)
    for one, end in zip(series, ends, strict=True):
        path = "M" + "L".join(
            f"{left + i * step:.1f} {y_of(v):.1f}" for i, v in enumerate(one.values)
        )
        shapes.append(
            shape(
                "path",
                f"{one.name}: {written(one.values[-1])} at the end",
                css=f"line {one.css}",
                d=path,
            )
        )
        for first, last in one.marks:
            y = y_of(one.values[last])
            tip = f"{one.name}: no new customer from {places[first]} to {places[last]}"
            span_there = f"M{left + first * step:.1f} {y:.1f}H{left + last * step:.1f}"
            shapes.append(shape("path", tip, css=f"flat {one.css}", d=span_there))
        name = fitted(one.name, right - 8, _SMALL_SIGN)
        labels.append(
            Label(left + (len(places) - 1) * step + 7, end + 4, name, f"small {one.css}-text")
        )
    labels += _along(places, left, step, height - 8, width - right)
    return Chart(width, height, tuple(shapes), tuple(labels))


def curve(
    points: Sequence[tuple[float, float]], marks: Sequence[tuple[float, float, str]], width: int
) -> Chart:
    """Draw a curve of shares against shares (both 0..1), with marked points and the diagonal of
    equal shares.
    """
    height, left, bottom = (320 if width >= WIDE else 260), 46.0, 28.0

    def at(x: float, y: float) -> tuple[float, float]:
        return left + (width - left - 8) * x, 8 + (height - bottom - 8) * (1 - y)

    shapes, labels = list[Shape](), list[Label]()
    for share in (0.0, 0.25, 0.5, 0.75, 1.0):
        (x, low), (_, y) = at(share, 0), at(0, share)
        shapes.append(shape("path", css="grid", d=f"M{left:.1f} {y:.1f}H{width - 8}"))
        labels.append(Label(left - 6, y + 4, f"{100 * share:.0f} %", "small faint", "end"))
        labels.append(
            Label(
                x, low + 18, f"{100 * share:.0f} %", "small faint", "middle" if share < 1 else "end"
            )
        )
    (x0, y0), (x1, y1) = at(0, 0), at(1, 1)
    shapes.append(shape("path", css="grid dashed", d=f"M{x0:.1f} {y0:.1f}L{x1:.1f} {y1:.1f}"))
    path = "M" + "L".join("{:.1f} {:.1f}".format(*at(x, y)) for x, y in points)
    shapes.append(shape("path", css="line keep", d=path))
    for i, (x, y, text) in enumerate(reversed(marks)):
        px, py = at(x, y)
        shapes.append(shape("circle", text, cx=px, cy=py, r=4.5, css="dot"))
        labels.append(Label(width - 12, height - bottom - 12 - 17 * i, text, "small", "end"))
    return Chart(width, height, tuple(shapes), tuple(labels))


def whole(parts: Sequence[tuple[str, float, str, str]], width: int) -> Chart:
    """Draw one bar of parts (name, value, class, tip) that add up to a total; no part is too thin
    to see.
    """
    total = sum(value for _, value, _, _ in parts) or 1.0
    there = [p for p in parts if p[1] > 0]
    room = width - 3.0 * len(there)
    x, shapes = 0.0, list[Shape]()
    for _, value, css, tip in there:
        wide = 3.0 + room * value / total
        shapes.append(shape("rect", tip, x=x, y=2.0, width=wide, height=30.0, css=css))
        x += wide
    return Chart(width, 36, tuple(shapes), ())


def spark(values: Sequence[float], width: int = 150, height: int = 34) -> Chart:
    """Draw a small line of values; NaN at the beginning is omitted."""
    first = next((i for i, v in enumerate(values) if v == v), len(values))
    known = values[first:]
    low, high = min(known, default=0.0), max(known, default=1.0)
    step = (width - 8) / max(len(values) - 1, 1)
    points = [
        (4 + (first + i) * step, 4 + (height - 8) * (1 - (v - low) / ((high - low) or 1.0)))
        for i, v in enumerate(known)
    ]
    if not points:
        return Chart(width, height, (), ())
    path = "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points)
    return Chart(width, height, (shape("path", css="line keep", d=path),), ())


def nice(low: float, high: float, about: int) -> list[float]:
    """Return round numbers from at most ``low`` to at least ``high``, ``about`` steps of 1, 2, 2.5
    or 5 times a power of ten.
    """
    if high <= low:
        high = low + 1.0
    rough = (high - low) / about
    power = 10.0 ** floor(log10(rough))
    step = next(m * power for m in (1.0, 2.0, 2.5, 5.0, 10.0) if m * power >= rough * 0.999)
    first, last = floor(low / step + 1e-9), ceil(high / step - 1e-9)
    return [step * i for i in range(first, last + 1)]


def wide(text: str, sign: float = _SIGN) -> float:
    """Return the approximate width of a text; East Asian characters are twice as wide as others."""
    return sign * sum(2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in text)


def fitted(text: str, room: float, sign: float = _SIGN) -> str:
    """Shorten a text to the available width, with an ellipsis."""
    if wide(text, sign) <= room:
        return text
    while text and wide(text, sign) + sign > room:
        text = text[:-1]
    return f"{text}…"


def _frame(
    ticks: Sequence[float],
    y_of: Callable[[float], float],
    left: float,
    width: float,
    written: Callable[[float], str],
) -> tuple[list[Shape], list[Label]]:
    shapes, labels = [], []
    for tick in ticks:
        y = y_of(tick)
        shapes.append(
            shape("path", css="axis" if tick == 0 else "grid", d=f"M{left:.1f} {y:.1f}H{width:.1f}")
        )
        labels.append(Label(left - 8, y + 4, written(tick), "small faint", "end"))
    return shapes, labels


def _along(places: Sequence[str], first: float, step: float, y: float, width: float) -> list[Label]:
    """Return as many names of places below the axis as fit, including the first."""
    if not places:
        return []
    needed = max(wide(p, _SMALL_SIGN) for p in places) + 14
    every = max(ceil(needed / step), 1) if step > 0 else 1
    half = needed / 2
    return [
        Label(
            min(max(first + i * step, half), width - half + 14),
            y,
            places[i],
            "small faint",
            "middle",
        )
        for i in range(0, len(places), every)
        if first + i * step + half < width + 20
    ]
