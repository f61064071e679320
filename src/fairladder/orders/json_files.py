"""Read JSON exports: a list of objects, or one object per line, with every value as the text in the
file.
"""

import codecs
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa

from fairladder.errors import DataError, shortened
from fairladder.orders.numbers_in_text import surely_decimal
from fairladder.orders.text_files import opened

#: Bytes read per chunk, and rows converted per batch.
_BLOCK, _ROWS = 1 << 20, 50_000
#: Maximum length of one object; a longer one means that a bracket is not closed.
LONGEST_OBJECT = 64 << 20
_BETWEEN = re.compile(r"[\s,]*")
_WHOLE = re.compile(r"(-?\d+)\.0+")


def read_json(path: Path, label: str) -> tuple[pa.Table, list[str]]:
    """Return the objects as a table of text columns, one per name, and notes for the user.

    Numbers keep their digits (whole ones without ``.0``), true and false become those words, nested
    objects become columns such as ``customer.id``, lists become JSON text, null and missing names
    become null. One object with a single list of objects is replaced by that list.

    Raises DataError if the file has values that are not objects, or an object has a name twice.
    """
    tables: list[pa.Table] = []
    rows: list[dict[str, Any]] = []
    lines: list[str] = []
    for value in _rows(path, label, lines):
        if not isinstance(value, dict):
            place = len(rows) + 1 + sum(table.num_rows for table in tables)
            raise DataError(
                f"{label}: value {place:,} is `{shortened(str(value), 40)}`, which is not an "
                "object. "
                'Write each row as {"column": value, …}.'
            )
        rows.append(_flat(value, label))
        if len(rows) == _ROWS:
            tables.append(_table(rows))
            rows = []
    tables.append(_table(rows))
    found = pa.concat_tables(tables, promote_options="default")
    if not found.num_columns:
        raise DataError(f"{label} holds no rows with columns. Export the orders again.")
    return found.combine_chunks(), lines


def _flat(record: dict[str, Any], label: str, before: str = "") -> dict[str, Any]:
    """Return the record with nested objects under combined names, ``customer.id``; lists stay
    lists.
    """
    flat: dict[str, Any] = {}
    for name, value in record.items():
        inside = (
            _flat(value, label, f"{before}{name}.")
            if isinstance(value, dict) and value
            else {f"{before}{name}": value}
        )
        if twice := flat.keys() & inside.keys():
            raise DataError(
                f"{label}: an object has `{shortened(min(twice), 40)}` twice. Give each "
                "value its own name."
            )
        flat |= inside
    return flat


def _rows(path: Path, label: str, notes: list[str]) -> Iterator[Any]:
    values = _values(path, label)
    first = next(values, None)
    second = next(values, None)
    if second is None and isinstance(first, dict):
        inside = {
            k: v
            for k, v in first.items()
            if isinstance(v, list) and v and all(isinstance(r, dict) for r in v)
        }
        if len(inside) == 1:
            ((name, rows),) = inside.items()
            notes.append(f"The rows of {Path(label).name} are those of its list `{name}`.")
            yield from rows
            return
    yield from (v for v in (first, second) if v is not None)
    yield from values


def _values(path: Path, label: str) -> Iterator[Any]:
    """Iterate over the values of a list, or over consecutive values without one."""
    decode = json.JSONDecoder(
        object_pairs_hook=lambda pairs: _object(pairs, label),
        parse_float=_number,
        parse_int=str,
        parse_constant=_constant,
    ).raw_decode
    text, at, listed, ended = "", 0, False, False
    with opened(path) as file:
        raw = file.read(_BLOCK)
        encoding = json.detect_encoding(raw[:4]) if raw else "utf-8"

        reader = codecs.getincrementaldecoder(encoding)("strict")
        started = False
        while True:
            try:
                text = text[at:] + reader.decode(raw, final=not raw)
            except UnicodeDecodeError:
                raise DataError(
                    f"{label} is not {encoding} throughout. Save it in UTF-8."
                ) from None
            at, last = 0, not raw
            while True:
                at = _BETWEEN.match(text, at).end()  # type: ignore[union-attr]
                if not started and at < len(text):
                    started, listed = True, text[at] == "["
                    at += listed
                    continue
                if listed and at < len(text) and text[at] == "]":
                    listed, ended, at = False, True, at + 1
                    continue
                if at >= len(text):
                    break
                if ended:
                    raise DataError(
                        f"{label} goes on after its list ends. Export the orders again."
                    )
                try:
                    value, end = decode(text, at)
                except json.JSONDecodeError as error:
                    if last or len(text) - at > LONGEST_OBJECT:
                        raise DataError(
                            f"{label} is not valid JSON at `{shortened(text[at : at + 40])}`: "
                            f"{error.msg}. Export the orders again."
                        ) from None
                    break
                except RecursionError:
                    raise DataError(f"{label} nests too deep to be a table of orders.") from None
                if end == len(text) and not last:
                    break  # a number could continue in the next block
                at = end
                yield value
            if last:
                if listed:
                    raise DataError(f"{label} ends before its list does. Was the export cut off?")
                return
            raw = file.read(_BLOCK)


def _number(text: str) -> str:
    whole = _WHOLE.fullmatch(text)
    return whole[1] if whole else surely_decimal(text)


def _constant(text: str) -> str | None:
    """Return None for NaN, which is blank as in typed columns; infinities stay text, which is not
    an amount.
    """
    return None if text == "NaN" else text


def _object(pairs: list[tuple[str, Any]], label: str) -> dict[str, Any]:
    record = dict(pairs)
    if len(record) < len(pairs):
        twice = next(name for i, (name, _) in enumerate(pairs) if name in dict(pairs[:i]))
        raise DataError(
            f"{label}: an object has `{shortened(twice, 40)}` twice. Give each value its own name."
        )
    return record


def _table(rows: list[dict[str, Any]]) -> pa.Table:
    names = dict.fromkeys(name for row in rows for name in row)
    return pa.table(
        {name: pa.array([_text(row.get(name)) for row in rows], pa.string()) for name in names}
    )


def _text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    return json.dumps(value, ensure_ascii=False)
